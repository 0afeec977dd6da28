"""Arrow columns from inside: those that are there, to be read value by value, and those that grow value by value."""

from libc.stdint cimport int32_t, int64_t, uint8_t
from libc.stdlib cimport calloc, free, malloc, realloc
from libc.string cimport memcpy, memset


cdef struct Column:
    # of an array, which the reader keeps
    const uint8_t *valid  # NULL: every value is there
    const uint8_t *values
    const int32_t *ends
    int64_t offset
    int code
    int scale


cdef inline int look_into(Column *column, object array, int code, int scale) except -1:
    """``array`` as a column; ``ends`` are set where its values are of varying length."""
    buffers = array.buffers()
    column.offset, column.code, column.scale = array.offset, code, scale
    column.valid = column.values = NULL
    column.ends = NULL
    if array.null_count and buffers[0] is not None:
        column.valid = <const uint8_t *><size_t>buffers[0].address
    if len(buffers) == 3:
        column.ends = <const int32_t *><size_t>buffers[1].address
        if buffers[2] is not None:
            column.values = <const uint8_t *><size_t>buffers[2].address
    elif buffers[1] is not None:
        column.values = <const uint8_t *><size_t>buffers[1].address
    return 0


cdef inline bint has(const Column *column, int64_t row) noexcept nogil:
    cdef int64_t at = row + column.offset
    return column.valid == NULL or column.valid[at >> 3] >> (at & 7) & 1


cdef struct Filling:
    # values of ``width`` bytes; of varying length where width is 0: then ``values`` holds where each ends
    uint8_t *valid
    uint8_t *values
    uint8_t *data
    int64_t rows, nulls, capacity, size, room
    int width


cdef inline int begin(Filling *column, int width) except -1:
    memset(column, 0, sizeof(Filling))
    column.width = width
    return more_rows(column)


cdef inline int more_rows(Filling *column) except -1 with gil:
    cdef int64_t before = column.capacity, after = max(<int64_t>4096, 2 * column.capacity)
    cdef int64_t wide = column.width if column.width else sizeof(int32_t)
    cdef void *valid = realloc(column.valid, after // 8)
    if valid == NULL:
        raise MemoryError()
    column.valid = <uint8_t *>valid
    memset(column.valid + before // 8, 0, (after - before) // 8)
    cdef void *values = realloc(column.values, (after + 1) * wide)
    if values == NULL:
        raise MemoryError()
    column.values = <uint8_t *>values
    column.capacity = after
    if not column.width:
        (<int32_t *>column.values)[0] = 0
    return 0


cdef inline int more_data(Filling *column, int64_t size) except -1 with gil:
    cdef int64_t room = max(2 * column.room, column.size + size, <int64_t>65536)
    if column.size + size > 0x7FFFFFFF:
        raise OverflowError("a column of a block holds more than 2 GB")
    cdef void *data = realloc(column.data, room)
    if data == NULL:
        raise MemoryError()
    column.data, column.room = <uint8_t *>data, room
    return 0


cdef inline uint8_t *next_value(Filling *column) except NULL nogil:
    """Where the next value of a fixed width goes."""
    if column.rows == column.capacity:
        more_rows(column)
    column.valid[column.rows >> 3] |= 1 << (column.rows & 7)
    column.rows += 1
    return column.values + (column.rows - 1) * column.width


cdef inline int add_null(Filling *column) except -1 nogil:
    if column.rows == column.capacity:
        more_rows(column)
    column.valid[column.rows >> 3] &= ~(1 << (column.rows & 7))
    column.rows += 1
    column.nulls += 1
    if column.width:
        memset(column.values + (column.rows - 1) * column.width, 0, column.width)
    else:
        (<int32_t *>column.values)[column.rows] = <int32_t>column.size
    return 0


cdef inline uint8_t *room_for(Filling *column, int64_t size) except NULL nogil:
    """Where the next value of at most ``size`` bytes goes; ``close_value`` says how long it has become."""
    if column.rows == column.capacity:
        more_rows(column)
    if column.size + size > column.room or column.data == NULL:
        more_data(column, size)
    return column.data + column.size


cdef inline void close_value(Filling *column, int64_t size) noexcept nogil:
    column.size += size
    column.valid[column.rows >> 3] |= 1 << (column.rows & 7)
    column.rows += 1
    (<int32_t *>column.values)[column.rows] = <int32_t>column.size


cdef inline int add_bytes(Filling *column, const uint8_t *value, int64_t size) except -1 nogil:
    memcpy(room_for(column, size), value, size)
    close_value(column, size)
    return 0


cdef inline list finished(Filling *column):
    """The buffers of an Arrow array; the column is empty again."""
    cdef int64_t wide = column.width if column.width else sizeof(int32_t)
    cdef int64_t count = column.rows if column.width else column.rows + 1
    valid = column.valid[: (column.rows + 7) // 8] if column.nulls else None
    buffers = [valid, column.values[: count * wide]]
    if not column.width:
        buffers.append(column.data[: column.size] if column.size else b"")
    memset(column.valid, 0, column.capacity // 8)
    column.rows = column.nulls = column.size = 0
    return buffers


cdef inline void end(Filling *column) noexcept:
    free(column.valid)
    free(column.values)
    free(column.data)
