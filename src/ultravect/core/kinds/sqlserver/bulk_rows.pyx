"""Rows of a bulk load, as TDS takes them: see ``bulk``. The protocol: MS-TDS 2.2.6.1."""

from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize
from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t, uint64_t
from libc.stdlib cimport calloc, free
from libc.string cimport memcpy, memset

from ultravect.core.types.cells cimport DAY_MICROSECONDS
from ultravect.core.types.columns cimport Column, has, look_into

cdef extern from "ultravect/core/kinds/sqlserver/values.h" nogil:
    uint8_t *put_utf16(uint8_t *out, const uint8_t *at, int64_t length)
    void put_decimal(uint8_t *out, const uint8_t *value, int size)
    void swap_guid(uint8_t *out, const uint8_t *at)

cpdef enum:
    BOOL = 0
    NUMBER = 1
    DECIMAL = 2
    DATE = 3
    TIME = 4
    MOMENT = 5
    ZONED = 6
    GUID = 7
    SHORT_TEXT = 8
    LONG_TEXT = 9
    SHORT_BYTES = 10
    LONG_BYTES = 11

cdef int64_t FIRST_DAY = -719162
cdef uint64_t UNKNOWN_LENGTH = 0xFFFFFFFFFFFFFFFE

# ``width``: bytes of a number or of a decimal's magnitude; ``scale``: digits of seconds
cdef struct Sent:
    Column column
    int width


def rows_of(list arrays, list codes, list widths, list scales) -> bytes:
    """All rows of the arrays, which are of one length; ``codes`` say what each column is."""
    cdef int count = len(arrays), number
    cdef int64_t rows = len(arrays[0]), row, room = 0, texts = 0
    cdef Sent *sent = <Sent *>calloc(count, sizeof(Sent))
    cdef uint8_t *out
    cdef uint8_t *at
    cdef const Column *column
    if sent == NULL:
        raise MemoryError()
    try:
        for number in range(count):
            look_into(&sent[number].column, arrays[number], codes[number], scales[number])
            sent[number].width = widths[number]
            room += 24
            column = &sent[number].column
            if column.ends != NULL:
                texts += 2 * <int64_t>(column.ends[column.offset + rows] - column.ends[column.offset])
        written = PyBytes_FromStringAndSize(NULL, rows * (room + 1) + texts)
        out = <uint8_t *>PyBytes_AS_STRING(written)
        at = out
        with nogil:
            for row in range(rows):
                at[0] = 0xD1
                at += 1
                for number in range(count):
                    at = _put(at, &sent[number], row)
        return written[: at - out]
    finally:
        free(sent)


cdef uint8_t *_put(uint8_t *at, const Sent *sent, int64_t row) noexcept nogil:
    cdef const Column *column = &sent.column
    cdef int code = column.code
    cdef int64_t place = row + column.offset, length
    cdef uint8_t *start
    cdef uint32_t size
    if not has(column, row):
        if code == SHORT_TEXT or code == SHORT_BYTES:
            memset(at, 0xFF, 2)
            return at + 2
        if code == LONG_TEXT or code == LONG_BYTES:
            memset(at, 0xFF, 8)
            return at + 8
        at[0] = 0
        return at + 1
    if code >= SHORT_TEXT:
        length = column.ends[place + 1] - column.ends[place]
        if code == SHORT_TEXT or code == SHORT_BYTES:
            start = at
            at += 2
        else:
            memcpy(at, &UNKNOWN_LENGTH, 8)
            start = at + 8
            at += 12
        if code == SHORT_TEXT or code == LONG_TEXT:
            at = put_utf16(at, column.values + column.ends[place], length)
        else:
            memcpy(at, column.values + column.ends[place], length)
            at += length
        if code == SHORT_TEXT or code == SHORT_BYTES:
            size = <uint32_t>(at - start - 2)
            memcpy(start, &size, 2)
            return at
        size = <uint32_t>(at - start - 4)
        memcpy(start, &size, 4)
        if size:
            memset(at, 0, 4)
            at += 4
        return at
    if code == BOOL:
        at[0] = 1
        at[1] = column.values[place >> 3] >> (place & 7) & 1
        return at + 2
    if code == NUMBER:
        at[0] = <uint8_t>sent.width
        memcpy(at + 1, column.values + place * sent.width, sent.width)
        return at + 1 + sent.width
    if code == DECIMAL:
        at[0] = <uint8_t>(sent.width + 1)
        put_decimal(at + 1, column.values + place * 16, sent.width)
        return at + 2 + sent.width
    if code == GUID:
        at[0] = 16
        swap_guid(at + 1, column.values + place * 16)
        return at + 17
    return _put_moment(at, code, column.values, place, column.scale)


cdef uint8_t *_put_moment(uint8_t *at, int code, const uint8_t *values, int64_t place, int scale) noexcept nogil:
    cdef int64_t days = 0, ticks
    cdef int room = 0
    cdef uint8_t *start = at
    at += 1
    if code == DATE:
        days = (<const int32_t *>values)[place] - FIRST_DAY
    else:
        ticks = (<const int64_t *>values)[place]
        if code != TIME:
            days = ticks // DAY_MICROSECONDS
            ticks -= days * DAY_MICROSECONDS
            if ticks < 0:
                days -= 1
                ticks += DAY_MICROSECONDS
            days -= FIRST_DAY
        for _ in range(6 - scale):
            ticks //= 10
        room = 3 if scale <= 2 else 4 if scale <= 4 else 5
        memcpy(at, &ticks, room)
        at += room
    if code != TIME:
        memcpy(at, &days, 3)
        at += 3
    if code == ZONED:
        memset(at, 0, 2)
        at += 2
    start[0] = <uint8_t>(at - start - 1)
    return at
