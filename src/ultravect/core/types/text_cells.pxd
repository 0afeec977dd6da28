"""Columns whose values are recognised from their text, one after the other: taken as their type, or only proven to be of it."""

from libc.stdint cimport int16_t, int32_t, int64_t, uint8_t
from libc.stdlib cimport free, realloc
from libc.string cimport memcmp, memcpy, memset

from ultravect.core.types.cells cimport (
    DAY_MICROSECONDS,
    date_form,
    read_date,
    read_decimal,
    read_double,
    read_integer,
    read_moment,
    read_single,
    read_zoned,
    wide,
)
from ultravect.core.types.columns cimport Filling, add_bytes, add_null, begin, close_value, end, next_value, room_for

cdef enum:
    TEXT = 0
    BOOL = 1
    TWO = 2
    FOUR = 3
    EIGHT = 4
    DECIMAL = 5
    SINGLE = 6
    DOUBLE = 7
    DATE = 8
    MOMENT = 9
    ZONED = 10
    WORDS = 32

cdef inline int width_of(int code) noexcept nogil:
    return 16 if code == DECIMAL else 0 if code == TEXT else 1 if code == BOOL else 2 if code == TWO else (
        4 if code == FOUR or code == SINGLE or code == DATE else 8
    )


cdef struct Words:
    const uint8_t *texts[WORDS]
    int64_t lengths[WORDS]
    int count
    int64_t longest


cdef inline bint among(const Words *words, const uint8_t *at, int64_t length) noexcept nogil:
    cdef int number
    if length > words.longest:
        return False
    for number in range(words.count):
        if words.lengths[number] == length and memcmp(words.texts[number], at, length) == 0:
            return True
    return False


cdef inline int set_words(Words *words, list texts) except -1:
    """Anyone who uses the words keeps ``texts``, which are bytes."""
    words.count, words.longest = 0, -1
    for text in texts[:WORDS]:
        words.texts[words.count] = text
        words.lengths[words.count] = len(text)
        words.longest = max(words.longest, words.lengths[words.count])
        words.count += 1
    return 0


cdef struct TextColumn:
    # ``keeps``: the values are kept as their type; otherwise only what describes them
    Filling filling
    Words nulls, truths, untruths
    date_form form
    int code, precision, scale
    uint8_t mark
    bint keeps, plain
    # what was not plainly of the type: rows, and where in the block it stands
    int64_t *odd
    int64_t odd_count, odd_room
    # what is reported
    int64_t fit, null_count, low, high, longest
    wide low_wide, high_wide
    double low_double, high_double


cdef inline int begin_text(TextColumn *column) except -1:
    column.longest = -1
    return begin(&column.filling, width_of(column.code))


cdef inline void end_text(TextColumn *column) noexcept:
    end(&column.filling)
    free(column.odd)


cdef inline int add_odd(TextColumn *column, int64_t row, const uint8_t *block, const uint8_t *at, int64_t length) except -1 nogil:
    cdef void *grown
    if column.odd_count == column.odd_room:
        column.odd_room = max(<int64_t>64, 2 * column.odd_room)
        grown = realloc(column.odd, column.odd_room * 3 * sizeof(int64_t))
        if grown == NULL:
            with gil:
                raise MemoryError()
        column.odd = <int64_t *>grown
    column.odd[3 * column.odd_count] = row
    column.odd[3 * column.odd_count + 1] = at - block
    column.odd[3 * column.odd_count + 2] = length
    column.odd_count += 1
    return add_null(&column.filling) if column.keeps else 0


cdef inline bint is_space(uint8_t byte) noexcept nogil:
    return byte == 32 or 9 <= byte <= 13


cdef inline void note(TextColumn *column, int64_t value) noexcept nogil:
    if column.fit == 0 or value < column.low:
        column.low = value
    if column.fit == 0 or value > column.high:
        column.high = value
    column.fit += 1


cdef inline bint measured(TextColumn *column, const uint8_t *at, int64_t length, int64_t doubled) noexcept nogil:
    """Says a text's length in characters, and whether it is a NULL word with or without white space around it; false
    where that would take more than ASCII."""
    cdef const uint8_t *limit = at + length
    cdef int64_t characters = 0
    cdef const uint8_t *place = at
    while place < limit and is_space(place[0]):
        place += 1
    while limit > place and is_space((limit - 1)[0]):
        limit -= 1
    if place == limit or among(&column.nulls, place, limit - place):
        column.null_count += 1
        return True
    if length <= column.nulls.longest + 8 and (place[0] >= 0x7F or (limit - 1)[0] >= 0x7F or place[0] < 32):
        return False
    column.fit += 1
    if length > column.longest:
        place = at
        while place < at + length:
            characters += (place[0] & 0xC0) != 0x80
            place += 1
        if characters - doubled > column.longest:
            column.longest = characters - doubled
    return True


cdef inline int take(
    TextColumn *column, int64_t row, const uint8_t *block, const uint8_t *at, int64_t length, bint quoted, int64_t doubled
) except -1 nogil:
    """Takes one value; ``doubled`` quotes in it stand for one each."""
    cdef int64_t number
    cdef int32_t days
    cdef wide unscaled
    cdef double real
    cdef float single
    cdef const uint8_t *first
    cdef int code = column.code
    if code == TEXT:
        if not column.keeps:
            return 0 if measured(column, at, length, doubled) else add_odd(column, row, block, at, length)
        if not quoted and among(&column.nulls, at, length):
            return add_null(&column.filling)
        if doubled:
            return add_undoubled(&column.filling, at, length)
        return add_bytes(&column.filling, at, length)
    if among(&column.nulls, at, length):
        if column.keeps:
            return add_null(&column.filling)
        column.null_count += 1
        return 0
    if doubled or length == 0:
        return add_odd(column, row, block, at, length)
    if not column.plain:
        first = at
        while length and (first[0] == 32 or first[0] == 9):
            first += 1
            length -= 1
        while length and (first[length - 1] == 32 or first[length - 1] == 9):
            length -= 1
        at = first
    if code == DATE:
        if not read_date(at, length, &column.form, &days):
            return add_odd(column, row, block, at, length)
        if column.keeps:
            memcpy(next_value(&column.filling), &days, 4)
        else:
            note(column, days)
        return 0
    if code == MOMENT or code == ZONED:
        if code == ZONED:
            if not read_zoned(at, length, &column.form, &number):
                return add_odd(column, row, block, at, length)
        elif length == 10:
            if not read_date(at, length, &column.form, &days):
                return add_odd(column, row, block, at, length)
            number = days * DAY_MICROSECONDS
        elif not read_moment(at, length, &column.form, &number):
            return add_odd(column, row, block, at, length)
        if column.keeps:
            memcpy(next_value(&column.filling), &number, 8)
        else:
            note(column, number)
        return 0
    if code == BOOL:
        number = among(&column.truths, at, length)
        if not number and not among(&column.untruths, at, length):
            return add_odd(column, row, block, at, length)
        if column.keeps:
            next_value(&column.filling)[0] = <uint8_t>number
        else:
            column.fit += 1
        return 0
    if column.plain:
        # leading zeros are no number's
        first = at + (at[0] == 45)
        if length > first - at + 1 and first[0] == 48 and 48 <= first[1] <= 57:
            return add_odd(column, row, block, at, length)
    if code == DECIMAL:
        if not read_decimal(at, length, column.mark, column.precision, column.scale, &unscaled):
            return add_odd(column, row, block, at, length)
        if column.keeps:
            memcpy(next_value(&column.filling), &unscaled, 16)
            return 0
        if column.fit == 0 or unscaled < column.low_wide:
            column.low_wide = unscaled
        if column.fit == 0 or unscaled > column.high_wide:
            column.high_wide = unscaled
        column.fit += 1
        return 0
    if code == SINGLE:
        if not column.keeps or not read_single(at, length, column.mark, &single):
            return add_odd(column, row, block, at, length)
        memcpy(next_value(&column.filling), &single, 4)
        return 0
    if code == DOUBLE:
        if not read_double(at, length, column.mark, &real):
            return add_odd(column, row, block, at, length)
        if column.keeps:
            memcpy(next_value(&column.filling), &real, 8)
            return 0
        if column.fit == 0 or real < column.low_double:
            column.low_double = real
        if column.fit == 0 or real > column.high_double:
            column.high_double = real
        column.fit += 1
        return 0
    if not read_integer(at, length, &number):
        return add_odd(column, row, block, at, length)
    if code == FOUR:
        days = <int32_t>number
        if days != number:
            return add_odd(column, row, block, at, length)
        if column.keeps:
            memcpy(next_value(&column.filling), &days, 4)
            return 0
    elif code == TWO:
        if number < -32768 or number > 32767:
            return add_odd(column, row, block, at, length)
        if column.keeps:
            (<int16_t *>next_value(&column.filling))[0] = <int16_t>number
            return 0
    elif column.keeps:
        memcpy(next_value(&column.filling), &number, 8)
        return 0
    note(column, number)
    return 0


cdef inline int add_undoubled(Filling *filling, const uint8_t *at, int64_t length) except -1 nogil:
    """A text between quotes, in which the first byte of each pair of quotes is left out: the quote is what stands doubled."""
    cdef uint8_t *start = room_for(filling, length)
    cdef uint8_t *to = start
    cdef uint8_t quote = (at - 1)[0]
    cdef const uint8_t *limit = at + length
    while at < limit:
        if at[0] == quote:
            at += 1
        to[0] = at[0]
        to += 1
        at += 1
    close_value(filling, to - start)
    return 0
