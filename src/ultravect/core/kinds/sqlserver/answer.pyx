"""Rows of an answer, as TDS sends them, into the buffers of Arrow columns: see ``read``. The protocol: MS-TDS 2.2.5.2, 2.2.7.17, 2.2.7.20."""

from libc.stdint cimport int32_t, int64_t, uint8_t, uint16_t, uint32_t, uint64_t
from libc.stdlib cimport calloc, free
from libc.string cimport memcpy

from ultravect.core.types.cells cimport DAY_MICROSECONDS
from ultravect.core.types.columns cimport Filling, add_null, begin, close_value, end, finished, next_value, room_for

cdef extern from "ultravect/core/kinds/sqlserver/values.h" nogil:
    uint8_t *put_utf8(uint8_t *out, const uint8_t *at, int64_t length)
    void get_decimal(uint8_t *out, const uint8_t *value, int size)
    void swap_guid(uint8_t *out, const uint8_t *at)
    uint64_t get_number(const uint8_t *at, int size)

# how a value stands in a row
cpdef enum:
    FIXED = 0
    COUNTED = 1
    LONG_COUNTED = 2
    CHUNKED = 3

# what it is
cpdef enum:
    NUMBER = 0
    DECIMAL = 1
    DATE = 2
    TIME = 3
    MOMENT = 4
    GUID = 5
    BYTES = 6
    UTF16 = 7

cdef int ROW = 0xD1, ROW_WITH_NULLS = 0xD2
# 0001-01-01, as days since 1970
cdef int64_t FIRST_DAY = -719162
cdef uint64_t NULL_CHUNKS = 0xFFFFFFFFFFFFFFFF

cdef struct Described:
    int form, kind, width, scale


cdef class Rows:
    """Takes rows from the bytes of an answer, whose columns are ``(form, kind, width, scale)`` each."""

    cdef Described *columns
    cdef Filling *filled
    cdef int count
    cdef readonly int64_t rows

    def __cinit__(self, list described):
        cdef int number
        self.count = len(described)
        self.columns = <Described *>calloc(self.count, sizeof(Described))
        self.filled = <Filling *>calloc(self.count, sizeof(Filling))
        if self.columns == NULL or self.filled == NULL:
            raise MemoryError()
        for number in range(self.count):
            form, kind, width, scale = described[number]
            self.columns[number].form, self.columns[number].kind = form, kind
            self.columns[number].width, self.columns[number].scale = width, scale
            begin(&self.filled[number], _width_of(&self.columns[number]))

    def __dealloc__(self):
        cdef int number
        for number in range(self.count):
            end(&self.filled[number])
        free(self.columns)
        free(self.filled)

    def take(self, const uint8_t[:] data, int64_t start, int64_t most) -> tuple:
        """Takes whole rows from ``start`` on, until there are ``most``: the place after them, and whether something else than a row follows.

        Where neither is so, the next row is not whole yet.
        """
        cdef const uint8_t *at = &data[0] + start if data.shape[0] > start else NULL
        cdef const uint8_t *last = &data[0] + data.shape[0] if data.shape[0] else NULL
        cdef const uint8_t *after
        while at != NULL and at < last and self.rows < most:
            if at[0] != ROW and at[0] != ROW_WITH_NULLS:
                return at - &data[0], True
            after = self._past(at, last)
            if after == NULL:
                break
            self._add(at)
            self.rows += 1
            at = after
        return (at - &data[0] if at != NULL else start), False

    def finished(self) -> list:
        """The buffers of each column; the next rows begin anew."""
        self.rows = 0
        return [finished(&self.filled[number]) for number in range(self.count)]

    cdef const uint8_t *_past(self, const uint8_t *at, const uint8_t *last) noexcept nogil:
        """The place after a row, NULL where it is not all there."""
        cdef const uint8_t *nulls = NULL
        cdef int number
        cdef int64_t size
        if at[0] == ROW_WITH_NULLS:
            nulls = at + 1
            at += (self.count + 7) // 8
        at += 1
        if at > last:
            return NULL
        for number in range(self.count):
            if nulls != NULL and nulls[number >> 3] >> (number & 7) & 1:
                continue
            if self.columns[number].form == FIXED:
                at += self.columns[number].width
            elif self.columns[number].form == COUNTED:
                if at + 1 > last:
                    return NULL
                at += 1 + at[0]
            elif self.columns[number].form == LONG_COUNTED:
                if at + 2 > last:
                    return NULL
                size = <int64_t>get_number(at, 2)
                at += 2 + (0 if size == 0xFFFF else size)
            else:
                if at + 8 > last:
                    return NULL
                at += 8
                if get_number(at - 8, 8) == NULL_CHUNKS:
                    continue
                while True:
                    if at + 4 > last:
                        return NULL
                    size = <int64_t>get_number(at, 4)
                    at += 4
                    if size == 0:
                        break
                    at += size
                    if at > last:
                        return NULL
            if at > last:
                return NULL
        return at

    cdef int _add(self, const uint8_t *at) except -1:
        """Adds a row that is all there."""
        cdef const uint8_t *nulls = NULL
        cdef int number
        cdef int64_t size
        cdef Described *column
        if at[0] == ROW_WITH_NULLS:
            nulls = at + 1
            at += (self.count + 7) // 8
        at += 1
        for number in range(self.count):
            column = &self.columns[number]
            if nulls != NULL and nulls[number >> 3] >> (number & 7) & 1:
                add_null(&self.filled[number])
                continue
            if column.form == CHUNKED:
                at = self._add_chunks(number, at)
                continue
            if column.form == FIXED:
                size = column.width
            elif column.form == COUNTED:
                size = at[0]
                at += 1
                if size == 0:
                    add_null(&self.filled[number])
                    continue
            else:
                size = <int64_t>get_number(at, 2)
                at += 2
                if size == 0xFFFF:
                    add_null(&self.filled[number])
                    continue
            self._value(number, at, size)
            at += size
        return 0

    cdef const uint8_t *_add_chunks(self, int number, const uint8_t *at) except NULL:
        cdef Filling *filled = &self.filled[number]
        cdef const uint8_t *start
        cdef int64_t total = 0, size
        cdef bytes joined
        at += 8
        if get_number(at - 8, 8) == NULL_CHUNKS:
            add_null(filled)
            return at
        start = at
        size = <int64_t>get_number(at, 4)
        if size == 0 or get_number(at + 4 + size, 4) == 0:
            # all of it in one chunk
            self._value(number, at + 4, size)
            return at + 4 + (size + 4 if size else 0)
        parts = []
        while True:
            size = <int64_t>get_number(at, 4)
            at += 4
            if size == 0:
                break
            parts.append(at[:size])
            at += size
        joined = b"".join(parts)
        self._value(number, <const uint8_t *><const char *>joined, len(joined))
        return at

    cdef int _value(self, int number, const uint8_t *at, int64_t size) except -1:
        cdef Filling *filled = &self.filled[number]
        cdef Described *column = &self.columns[number]
        cdef uint8_t *out
        cdef int32_t days
        cdef int64_t micros
        cdef int room
        if column.kind == NUMBER:
            memcpy(next_value(filled), at, filled.width)
        elif column.kind == UTF16:
            out = room_for(filled, size + size // 2 + 1)
            close_value(filled, put_utf8(out, at, size) - out)
        elif column.kind == BYTES:
            out = room_for(filled, size)
            memcpy(out, at, size)
            close_value(filled, size)
        elif column.kind == DECIMAL:
            get_decimal(next_value(filled), at, <int>size)
        elif column.kind == GUID:
            swap_guid(next_value(filled), at)
        elif column.kind == DATE:
            days = <int32_t>(<int64_t>get_number(at, 3) + FIRST_DAY)
            memcpy(next_value(filled), &days, 4)
        else:
            room = 3 if column.scale <= 2 else 4 if column.scale <= 4 else 5
            micros = <int64_t>get_number(at, room)
            if column.scale > 6:
                micros //= 10
            else:
                for _ in range(6 - column.scale):
                    micros *= 10
            if column.kind == MOMENT:
                micros += (<int64_t>get_number(at + room, 3) + FIRST_DAY) * DAY_MICROSECONDS
            memcpy(next_value(filled), &micros, 8)
        return 0


cdef int _width_of(const Described *column) noexcept nogil:
    """The bytes of a value in its Arrow column; 0 where they vary."""
    if column.kind == NUMBER:
        return column.width
    if column.kind == DECIMAL or column.kind == GUID:
        return 16
    if column.kind == DATE:
        return 4
    return 8 if column.kind == TIME or column.kind == MOMENT else 0
