"""Goes through the rows of a delimited block once, and takes the values of the wanted columns as their types."""

from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize, PyBytes_GET_SIZE
from libc.stdint cimport int64_t, uint8_t
from libc.stdlib cimport calloc, free
from libc.string cimport memchr

from ultravect.core.types.columns cimport finished
from ultravect.core.types.text_cells cimport (
    DECIMAL,
    DOUBLE,
    TextColumn,
    begin_text,
    end_text,
    set_words,
    take,
)


cdef class Columns:
    """Columns to be taken from blocks of one file; see ``typed`` for what describes a column."""

    cdef TextColumn *_columns
    cdef TextColumn **_at
    cdef int _count, _width
    cdef list _kept

    def __cinit__(self, int width, list columns):
        """``width``: how many values a row has. Each column as a tuple: position, code, precision, scale, decimal mark,
        date form (seven numbers), plain, keeps, and the words for NULL, true and false."""
        cdef int number
        cdef TextColumn *column
        self._count, self._width, self._kept = len(columns), width, []
        self._columns = <TextColumn *>calloc(self._count + 1, sizeof(TextColumn))
        self._at = <TextColumn **>calloc(width + 1, sizeof(TextColumn *))
        if self._columns == NULL or self._at == NULL:
            raise MemoryError()
        for number in range(self._count):
            column = &self._columns[number]
            position, column.code, column.precision, column.scale, column.mark, form, plain, keeps, *words = columns[number]
            column.form.year, column.form.month, column.form.day = form[0], form[1], form[2]
            column.form.first_mark, column.form.second_mark = form[3], form[4]
            column.form.mark_one, column.form.mark_two = form[5], form[6]
            column.plain, column.keeps = plain, keeps
            self._kept += words
            set_words(&column.nulls, words[0])
            set_words(&column.truths, words[1])
            set_words(&column.untruths, words[2])
            begin_text(column)
            self._at[<int>position] = column

    def __dealloc__(self):
        cdef int number
        if self._columns != NULL:
            for number in range(self._count):
                end_text(&self._columns[number])
        free(self._columns)
        free(self._at)

    def take(self, bytes data, int delimiter, int quote) -> int:
        """How many rows there are, -1 where they are not all plain: whole, without blank lines and lone carriage returns.

        ``quote`` is -1 where values are not quoted.
        """
        cdef const uint8_t *block = <const uint8_t *>PyBytes_AS_STRING(data)
        cdef int64_t size = PyBytes_GET_SIZE(data), rows
        with nogil:
            rows = self._take(block, block + size, delimiter, quote)
        return rows

    cdef int64_t _take(self, const uint8_t *block, const uint8_t *limit, int delimiter, int quote) except -2 nogil:
        cdef const uint8_t *at = block
        cdef const uint8_t *start
        cdef const uint8_t *found
        cdef int64_t row = 0, length, doubled
        cdef int position, last = self._width - 1
        cdef bint quoted
        cdef uint8_t[256] ends
        for position in range(256):
            # a line end, or the byte after the last
            ends[position] = position == delimiter or position == 10 or position == 13 or position == 0
        while at < limit:
            if at[0] == 10 or at[0] == 13:
                return -1
            for position in range(self._width):
                doubled = 0
                quoted = at < limit and at[0] == quote
                if quoted:
                    start = at + 1
                    at = start
                    while True:
                        found = <const uint8_t *>memchr(at, quote, limit - at)
                        if found == NULL:
                            return -1
                        at = found + 1
                        if at == limit or at[0] != quote:
                            break
                        doubled += 1
                        at += 1
                    length = at - 1 - start
                else:
                    start = at
                    while True:
                        while not ends[at[0]]:
                            at += 1
                        if at[0] or at == limit:
                            break
                        at += 1  # a NUL in a value
                    length = at - start
                if position < last:
                    if at == limit or at[0] != delimiter:
                        return -1
                    at += 1
                elif at < limit:
                    if at[0] == 13:
                        at += 1
                    if at == limit or at[0] != 10:
                        return -1
                    at += 1
                if self._at[position] != NULL:
                    take(self._at[position], row, block, start, length, quoted, doubled)
            row += 1
        return row

    def values(self, int number) -> list:
        """The buffers of a column that keeps its values, and begins anew."""
        return finished(&self._columns[number].filling)

    def odd_count(self, int number) -> int:
        """How many values were not plainly of the column's type."""
        return self._columns[number].odd_count

    def odd(self, int number) -> list:
        """Row, place in the block and length of each value that was not plainly of the column's type."""
        cdef TextColumn *column = &self._columns[number]
        return [
            (column.odd[3 * index], column.odd[3 * index + 1], column.odd[3 * index + 2])
            for index in range(column.odd_count)
        ]

    def summary(self, int number) -> tuple:
        """Of a column that keeps nothing: values that fit, NULLs, the lowest and the highest, the longest text's length.

        Decimals come unscaled, dates as days and moments as microseconds since 1970.
        """
        cdef TextColumn *column = &self._columns[number]
        if column.code == DECIMAL:
            low = int.from_bytes((<uint8_t *>&column.low_wide)[:16], "little", signed=True)
            high = int.from_bytes((<uint8_t *>&column.high_wide)[:16], "little", signed=True)
        elif column.code == DOUBLE:
            low, high = column.low_double, column.high_double
        else:
            low, high = column.low, column.high
        return column.fit, column.null_count, low, high, column.longest


cdef int64_t count(const uint8_t *at, const uint8_t *limit, uint8_t wanted) noexcept nogil:
    cdef int64_t found = 0
    while at < limit:
        found += at[0] == wanted
        at += 1
    return found


cdef const uint8_t *line_end(const uint8_t *start, const uint8_t *limit, uint8_t end) noexcept nogil:
    """After the last line end in a stretch of text; NULL where there is none."""
    while limit > start:
        if (limit - 1)[0] == end:
            return limit
        limit -= 1
    return NULL


def row_end(bytes data, int delimiter, int quote, int newline) -> tuple:
    """Where the last whole row ends, and how many line ends there are up to there; None where quotes stand in odd places, or
    no row ends. ``quote`` is -1 where values are not quoted."""
    cdef const uint8_t *start = <const uint8_t *>PyBytes_AS_STRING(data)
    cdef const uint8_t *limit = start + PyBytes_GET_SIZE(data)
    cdef const uint8_t *at = start
    cdef const uint8_t *outside = start  # where the text outside of quotes began
    cdef const uint8_t *found
    cdef const uint8_t *last = NULL
    cdef bint inside = False, odd = False
    cdef int64_t lines = 0
    cdef uint8_t end = newline, near
    with nogil:
        while quote >= 0 and at < limit:
            at = <const uint8_t *>memchr(at, quote, limit - at)
            if at == NULL:
                break
            # taken for closing and opening in turns: a doubled quote closes and opens again
            near = (at + 1)[0] if inside else (at - 1)[0] if at > start else end
            if near != quote and near != delimiter and near != 10 and near != 13 and not (inside and at + 1 == limit):
                odd = True
                break
            if not inside:
                found = line_end(outside, at, end)
                last = found if found != NULL else last
            at += 1
            outside = at
            inside = not inside
        if not odd and not inside:
            found = line_end(outside, limit, end)
            last = found if found != NULL else last
        if not odd and last != NULL:
            lines = count(start, last, end)
    return None if odd or last == NULL else (last - start, lines)


def row_starts(bytes data, int delimiter, int quote) -> bytes:
    """Where each row starts, as numbers of 64 bits; None where rows are not all plain, as for ``Columns.take``."""
    cdef const uint8_t *start = <const uint8_t *>PyBytes_AS_STRING(data)
    cdef const uint8_t *limit = start + PyBytes_GET_SIZE(data)
    cdef const uint8_t *at = start
    cdef int64_t rows = 0
    cdef bint first = True
    places = PyBytes_FromStringAndSize(NULL, 8 * (count(start, limit, 10) + 1))
    cdef int64_t *place = <int64_t *>PyBytes_AS_STRING(places)
    while at < limit:
        if first:
            if at[0] == 10 or at[0] == 13:
                return None
            place[rows] = at - start
            rows += 1
        first = False
        if at[0] == quote and (at == start or (at - 1)[0] == delimiter or (at - 1)[0] == 10):
            at += 1
            while True:
                at = <const uint8_t *>memchr(at, quote, limit - at)
                if at == NULL:
                    return None
                at += 1
                if at == limit or at[0] != quote:
                    break
                at += 1
            if at < limit and at[0] != delimiter and at[0] != 10 and at[0] != 13:
                return None
        while at < limit and at[0] != delimiter and at[0] != 10:
            if at[0] == 13 and (at + 1)[0] != 10:
                return None
            at += 1
        first = at < limit and at[0] == 10
        at += 1
    return places[: 8 * rows]
