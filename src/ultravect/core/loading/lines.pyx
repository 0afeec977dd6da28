"""Lines of text with tabs between the values, from Arrow columns: see ``written`` for what the codes mean."""

from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize
from libc.stdint cimport int16_t, int32_t, int64_t, uint8_t
from libc.stdlib cimport calloc, free
from libc.string cimport memcpy

from ultravect.core.types.cells cimport (
    DECIMAL_ROOM,
    wide,
    write_date,
    write_decimal,
    write_integer,
    write_moment,
    write_time,
)
from ultravect.core.types.columns cimport Column, has, look_into

cpdef enum:
    TEXT = 0
    PLAIN = 1
    BOOL = 2
    TWO = 3
    FOUR = 4
    EIGHT = 5
    DECIMAL = 6
    DATE = 7
    TIME = 8
    MOMENT = 9

# characters that one value takes at most; of texts, a NULL
cdef int *ROOMS = [2, 2, 2, 6, 11, 20, DECIMAL_ROOM, 10, 15, 26]

# what stands after a backslash in place of a byte; 0: the byte stands for itself
cdef uint8_t[256] ESCAPES
for _byte in range(256):
    ESCAPES[_byte] = {0: ord("0"), 9: ord("t"), 10: ord("n"), 13: ord("r"), 92: 92}.get(_byte, 0)


cdef uint8_t *write_escaped(uint8_t *at, const uint8_t *value, int64_t length) noexcept nogil:
    cdef int64_t place
    cdef uint8_t escape
    for place in range(length):
        escape = ESCAPES[value[place]]
        if escape:
            at[0] = b"\\"
            at[1] = escape
            at += 2
        else:
            at[0] = value[place]
            at += 1
    return at


cdef uint8_t *write_value(uint8_t *at, const Column *column, int64_t row) noexcept nogil:
    cdef int64_t place = row + column.offset
    cdef int code = column.code
    cdef wide unscaled
    if not has(column, row):
        at[0] = b"\\"
        at[1] = b"N"
        return at + 2
    if code == TEXT:
        return write_escaped(at, column.values + column.ends[place], column.ends[place + 1] - column.ends[place])
    if code == PLAIN:
        memcpy(at, column.values + column.ends[place], column.ends[place + 1] - column.ends[place])
        return at + column.ends[place + 1] - column.ends[place]
    if code == EIGHT:
        return write_integer(at, (<const int64_t *>column.values)[place])
    if code == FOUR:
        return write_integer(at, (<const int32_t *>column.values)[place])
    if code == TWO:
        return write_integer(at, (<const int16_t *>column.values)[place])
    if code == DECIMAL:
        memcpy(&unscaled, column.values + place * 16, 16)
        return write_decimal(at, unscaled, column.scale)
    if code == DATE:
        return write_date(at, (<const int32_t *>column.values)[place])
    if code == TIME:
        return write_time(at, (<const int64_t *>column.values)[place])
    if code == MOMENT:
        return write_moment(at, (<const int64_t *>column.values)[place])
    # 1 and 0 are true and false to both readers of these lines
    at[0] = <uint8_t>(48 + (column.values[place >> 3] >> (place & 7) & 1))
    return at + 1


def write_lines(int64_t rows, list arrays, list codes, list scales) -> bytes:
    """A line a row, a code and a scale for each of the columns; a NULL is a backslash and N."""
    cdef int count = len(arrays), number
    cdef int64_t room = 0, row, length
    cdef Column *columns
    cdef Column *column
    cdef uint8_t *start
    cdef uint8_t *at
    if not count or not rows:
        return b""
    columns = <Column *>calloc(count, sizeof(Column))
    if columns == NULL:
        raise MemoryError()
    try:
        for number in range(count):
            column = &columns[number]
            look_into(column, arrays[number], codes[number], scales[number])
            room += rows * (1 + ROOMS[column.code])
            if column.code == TEXT or column.code == PLAIN:
                length = column.ends[column.offset + rows] - column.ends[column.offset]
                room += 2 * length if column.code == TEXT else length
        lines = PyBytes_FromStringAndSize(NULL, room)
        start = at = <uint8_t *>PyBytes_AS_STRING(lines)
        with nogil:
            for row in range(rows):
                for number in range(count):
                    at = write_value(at, &columns[number], row)
                    at[0] = b"\t"
                    at += 1
                (at - 1)[0] = b"\n"
        return lines[: at - start]
    finally:
        free(columns)
