"""Rows of PostgreSQL's binary COPY format: see ``binary_copy`` for what the codes mean."""

from cpython.buffer cimport PyBUF_SIMPLE, PyBuffer_Release, PyObject_GetBuffer
from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize
from libc.stdint cimport int16_t, int32_t, int64_t, uint8_t, uint16_t, uint32_t, uint64_t
from libc.stdlib cimport calloc, free
from libc.string cimport memcpy

from ultravect.core.types.cells cimport DAY_MICROSECONDS
from ultravect.core.types.columns cimport (
    Column,
    Filling,
    add_bytes,
    add_null,
    begin,
    close_value,
    end,
    finished,
    has,
    look_into,
    next_value,
    room_for,
)
from ultravect.core.types.network_order cimport get16, get32, get64, put16, put32, put64

cdef extern from "ultravect/core/kinds/postgresql/numeric.h" nogil:
    ctypedef long long wide
    int NUMERIC_ROOM
    int NUMERIC_PLAIN, NUMERIC_NAN, NUMERIC_INFINITE, NUMERIC_NEGATIVE_INFINITE, NUMERIC_BROKEN
    uint8_t *put_numeric(uint8_t *at, wide unscaled, int scale)
    int numeric_kind(const uint8_t *at, int64_t length)
    int get_numeric(const uint8_t *at, int precision, int scale, wide *unscaled)
    int64_t numeric_text_room(const uint8_t *at)
    uint8_t *numeric_text(const uint8_t *at, uint8_t *text)

cpdef enum:
    BOOL = 0
    TWO = 1
    FOUR = 2
    EIGHT = 3
    DATE = 4
    MOMENT = 5
    TIME = 6
    UUID = 7
    BYTES = 8
    VERSIONED = 9
    NUMERIC = 10
    NUMERIC_TEXT = 11

cdef int32_t EPOCH_DAYS = 10957
cdef int64_t EPOCH = EPOCH_DAYS * DAY_MICROSECONDS
# years 1 to 9999, as days and microseconds since 1970
cdef int32_t FIRST_DAY = -719162, LAST_DAY = 2932896
cdef int64_t FIRST_MOMENT = FIRST_DAY * DAY_MICROSECONDS, AFTER_LAST = (LAST_DAY + 1) * DAY_MICROSECONDS
cdef int *WIDTHS = [1, 2, 4, 8, 4, 8, 8, 16, 0, 0, 16, 0]
cdef int HEADER_BYTES = 19


cdef uint8_t *put_row(uint8_t *at, const Column *columns, int count, int64_t row) noexcept nogil:
    cdef int number, code, width
    cdef int64_t place, length
    cdef const Column *column
    cdef const uint8_t *value
    cdef uint8_t *past
    cdef wide unscaled
    put16(at, <uint16_t>count)
    at += 2
    for number in range(count):
        column = &columns[number]
        if not has(column, row):
            put32(at, 0xFFFFFFFF)
            at += 4
            continue
        place = row + column.offset
        code = column.code
        if code == BYTES or code == VERSIONED:
            length = column.ends[place + 1] - column.ends[place]
            put32(at, <uint32_t>(length + (code == VERSIONED)))
            at += 4
            if code == VERSIONED:
                at[0] = 1
                at += 1
            memcpy(at, column.values + column.ends[place], length)
            at += length
            continue
        if code == NUMERIC:
            memcpy(&unscaled, column.values + place * 16, 16)
            past = put_numeric(at + 4, unscaled, column.scale)
            put32(at, <uint32_t>(past - at - 4))
            at = past
            continue
        width = WIDTHS[code]
        put32(at, <uint32_t>width)
        at += 4
        value = column.values + place * width
        if code == BOOL:
            at[0] = column.values[place >> 3] >> (place & 7) & 1
        elif code == TWO:
            put16(at, (<const uint16_t *>value)[0])
        elif code == FOUR:
            put32(at, (<const uint32_t *>value)[0])
        elif code == EIGHT or code == TIME:
            put64(at, (<const uint64_t *>value)[0])
        elif code == DATE:
            put32(at, <uint32_t>((<const int32_t *>value)[0] - EPOCH_DAYS))
        elif code == MOMENT:
            put64(at, <uint64_t>((<const int64_t *>value)[0] - EPOCH))
        else:
            memcpy(at, value, 16)
        at += width
    return at


def encode_rows(batch, list codes, list scales) -> bytes:
    """The rows of a record batch, a code and a scale for each of its columns."""
    cdef int count = len(codes), number
    cdef int64_t rows = batch.num_rows, room = 2 * rows, row
    cdef Column *columns = <Column *>calloc(count + 1, sizeof(Column))
    cdef Column *column
    cdef uint8_t *start
    cdef uint8_t *at
    if columns == NULL:
        raise MemoryError()
    if not rows:
        free(columns)
        return b""
    try:
        arrays = batch.columns
        for number in range(count):
            column = &columns[number]
            look_into(column, arrays[number], codes[number], scales[number])
            if column.code == BYTES or column.code == VERSIONED:
                room += 5 * rows + column.ends[column.offset + rows] - column.ends[column.offset]
            else:
                room += rows * (4 + (NUMERIC_ROOM if column.code == NUMERIC else WIDTHS[column.code]))
        encoded = PyBytes_FromStringAndSize(NULL, room)
        start = at = <uint8_t *>PyBytes_AS_STRING(encoded)
        with nogil:
            for row in range(rows):
                at = put_row(at, columns, count, row)
        return encoded[: at - start] if at - start < room else encoded
    finally:
        free(columns)


cdef class RowDecoder:
    """Takes rows as the server sends them; ``odd`` are the values that their column's type does not hold: (column, row,
    the number or the digits that were sent)."""

    cdef Filling *_columns
    cdef int *_codes
    cdef int *_precisions
    cdef int *_scales
    cdef int _count
    cdef bint _begun
    cdef int64_t _size
    cdef readonly list odd

    def __cinit__(self, list columns):
        """``columns``: code, precision and scale of each."""
        cdef int number
        self._count = len(columns)
        self._columns = <Filling *>calloc(self._count + 1, sizeof(Filling))
        self._codes = <int *>calloc(3 * self._count + 1, sizeof(int))
        if self._columns == NULL or self._codes == NULL:
            raise MemoryError()
        self._precisions = self._codes + self._count
        self._scales = self._precisions + self._count
        for number in range(self._count):
            self._codes[number], self._precisions[number], self._scales[number] = columns[number]
            begin(&self._columns[number], WIDTHS[self._codes[number]])
        self.odd = []

    def __dealloc__(self):
        cdef int number
        if self._columns != NULL:
            for number in range(self._count):
                end(&self._columns[number])
        free(self._columns)
        free(self._codes)

    def take(self, receive, int64_t limit) -> int:
        """Takes what ``receive(1)`` gives, a length and a row, until the decoder holds ``limit`` bytes or the length is no
        longer positive; gives the last length."""
        cdef int64_t length = 1
        cdef Py_buffer view
        while self._size < limit:
            length, row = receive(1)
            if length <= 0:
                break
            PyObject_GetBuffer(row, &view, PyBUF_SIMPLE)
            try:
                self._row(<const uint8_t *>view.buf, view.len)
            finally:
                PyBuffer_Release(&view)
            self._size += length
        return length

    def finish(self) -> tuple:
        """Row count, the buffers of each column, and the odd values; the decoder is empty again."""
        cdef int number
        cdef int64_t rows = self._columns[0].rows if self._count else 0
        odd, self.odd = self.odd, []
        self._size = 0
        return rows, [finished(&self._columns[number]) for number in range(self._count)], odd

    cdef int _row(self, const uint8_t *at, int64_t length) except -1:
        cdef const uint8_t *past = at + length
        cdef int number
        cdef int64_t size
        if not self._begun:
            # the header comes in front of the first row, or alone
            self._begun = True
            size = <int32_t>get32(at + 15) if length >= HEADER_BYTES else -1
            if size < 0 or size > length - HEADER_BYTES:
                raise ValueError("a row without the header of a COPY before it")
            at += HEADER_BYTES + size
            if at == past:
                return 0
        if past - at < 2:
            raise ValueError("a row that is cut off")
        if <int16_t>get16(at) == -1:
            return 0
        if get16(at) != self._count:
            raise ValueError("a row of other columns than were asked for")
        at += 2
        for number in range(self._count):
            if past - at < 4:
                raise ValueError("a row that is cut off")
            size = <int32_t>get32(at)
            at += 4
            if size < 0:
                add_null(&self._columns[number])
                continue
            if size > past - at:
                raise ValueError("a row that is cut off")
            self._value(number, at, size)
            at += size
        return 0

    cdef int _value(self, int number, const uint8_t *at, int64_t size) except -1:
        cdef Filling *column = &self._columns[number]
        cdef int code = self._codes[number], found_kind
        cdef int32_t days
        cdef int64_t moment
        cdef wide unscaled
        cdef uint8_t *text
        if code == BYTES:
            return add_bytes(column, at, size)
        if code == VERSIONED:
            if size < 1:
                raise ValueError("a value without its version")
            return add_bytes(column, at + 1, size - 1)
        if code == NUMERIC or code == NUMERIC_TEXT:
            found_kind = numeric_kind(at, size)
            if found_kind == NUMERIC_BROKEN:
                raise ValueError("a number that is cut off")
            if code == NUMERIC and found_kind == NUMERIC_PLAIN:
                if get_numeric(at, self._precisions[number], self._scales[number], &unscaled):
                    memcpy(next_value(column), &unscaled, 16)
                    return 0
            if found_kind == NUMERIC_PLAIN and code == NUMERIC_TEXT:
                text = room_for(column, numeric_text_room(at))
                close_value(column, numeric_text(at, text) - text)
                return 0
            if found_kind == NUMERIC_PLAIN:
                return self._odd(number, _digits(at))
            word = b"NaN" if found_kind == NUMERIC_NAN else b"Infinity" if found_kind == NUMERIC_INFINITE else b"-Infinity"
            if code == NUMERIC_TEXT:
                return add_bytes(column, word, len(word))
            return self._odd(number, word.decode())
        if size != WIDTHS[code]:
            raise ValueError("a value of another width than its type has")
        if code == EIGHT:
            moment = <int64_t>get64(at)
            memcpy(next_value(column), &moment, 8)
        elif code == FOUR:
            days = <int32_t>get32(at)
            memcpy(next_value(column), &days, 4)
        elif code == DATE:
            days = <int32_t>get32(at)
            if days > LAST_DAY - EPOCH_DAYS or days < FIRST_DAY - EPOCH_DAYS:
                return self._odd(number, days)
            days += EPOCH_DAYS
            memcpy(next_value(column), &days, 4)
        elif code == MOMENT:
            moment = <int64_t>get64(at)
            if moment >= AFTER_LAST - EPOCH or moment < FIRST_MOMENT - EPOCH:
                return self._odd(number, moment)
            moment += EPOCH
            memcpy(next_value(column), &moment, 8)
        elif code == TIME:
            moment = <int64_t>get64(at)
            if moment >= DAY_MICROSECONDS:
                return self._odd(number, moment)
            memcpy(next_value(column), &moment, 8)
        elif code == BOOL:
            next_value(column)[0] = at[0]
        elif code == TWO:
            (<uint16_t *>next_value(column))[0] = get16(at)
        else:
            memcpy(next_value(column), at, 16)
        return 0

    cdef int _odd(self, int number, value) except -1:
        self.odd.append((number, self._columns[number].rows, value))
        return add_null(&self._columns[number])


cdef str _digits(const uint8_t *at):
    text = bytearray(numeric_text_room(at))
    cdef uint8_t *start = text
    return text[: numeric_text(at, start) - start].decode()
