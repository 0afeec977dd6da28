"""A number for the content of each row: the same for equal values, whatever side they come from.

SipHash-1-3 of each value with a key that is new for each comparison, so that no one can make rows that have the same number.
Source: J.-P. Aumasson and D. J. Bernstein, SipHash: a fast short-input PRF, 2012.
"""

from libc.stdint cimport int32_t, uint8_t, uint64_t
from libc.string cimport memcpy

cdef uint64_t NULL_VALUE = 0x9E3779B97F4A7C15ULL


cdef inline uint64_t rotated(uint64_t value, int by) noexcept nogil:
    return (value << by) | (value >> (64 - by))


cdef struct State:
    uint64_t a, b, c, d


cdef inline void turn(State *s) noexcept nogil:
    s.a += s.b
    s.b = rotated(s.b, 13) ^ s.a
    s.a = rotated(s.a, 32)
    s.c += s.d
    s.d = rotated(s.d, 16) ^ s.c
    s.a += s.d
    s.d = rotated(s.d, 21) ^ s.a
    s.c += s.b
    s.b = rotated(s.b, 17) ^ s.c
    s.c = rotated(s.c, 32)


cdef inline uint64_t siphash(uint64_t first, uint64_t second, const uint8_t *data, Py_ssize_t length) noexcept nogil:
    cdef State s
    cdef uint64_t word
    cdef Py_ssize_t at = 0
    s.a = first ^ 0x736F6D6570736575ULL
    s.b = second ^ 0x646F72616E646F6DULL
    s.c = first ^ 0x6C7967656E657261ULL
    s.d = second ^ 0x7465646279746573ULL
    while at + 8 <= length:
        memcpy(&word, data + at, 8)
        s.d ^= word
        turn(&s)
        s.a ^= word
        at += 8
    word = (<uint64_t>length) << 56
    memcpy(&word, data + at, length - at)
    word = (word & 0x00FFFFFFFFFFFFFFULL) | ((<uint64_t>length) << 56)
    s.d ^= word
    turn(&s)
    s.a ^= word
    s.c ^= 0xFF
    turn(&s)
    turn(&s)
    turn(&s)
    return s.a ^ s.b ^ s.c ^ s.d


def siphash_of(uint64_t first, uint64_t second, bytes data) -> int:
    """Of bytes alone."""
    return siphash(first, second, <const uint8_t *><const char *>data, len(data))


def add_column(
    uint64_t[::1] hashes,
    uint64_t first,
    uint64_t second,
    const uint8_t[::1] valid,
    const int32_t[::1] offsets,
    const uint8_t[::1] values,
    int width,
) -> None:
    """Takes a column's values into the numbers of the rows, as many as ``hashes``; of columns in another order the numbers are others.

    ``valid``: 0 for each value that is NULL, empty where all are; ``offsets`` of values of different lengths, empty where all have ``width`` bytes.
    """
    cdef Py_ssize_t row, begin, end, count = hashes.shape[0]
    cdef bint has_nulls = valid.shape[0] > 0, varies = offsets.shape[0] > 0
    cdef const uint8_t *data = &values[0] if values.shape[0] else NULL
    cdef uint64_t value
    with nogil:
        for row in range(count):
            if has_nulls and not valid[row]:
                value = NULL_VALUE
            elif varies:
                begin, end = offsets[row], offsets[row + 1]
                value = siphash(first, second, data + begin, end - begin)
            else:
                value = siphash(first, second, data + row * width, width)
            hashes[row] = (rotated(hashes[row], 29) ^ value) * 0xBF58476D1CE4E5B9ULL
