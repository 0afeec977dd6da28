"""Whole numbers as protocols send them: the highest byte first."""

from libc.stdint cimport uint8_t, uint16_t, uint32_t, uint64_t
from libc.string cimport memcpy

cdef extern from *:
    uint16_t swap16 "__builtin_bswap16"(uint16_t) nogil
    uint32_t swap32 "__builtin_bswap32"(uint32_t) nogil
    uint64_t swap64 "__builtin_bswap64"(uint64_t) nogil


cdef inline void put16(uint8_t *at, uint16_t value) noexcept nogil:
    value = swap16(value)
    memcpy(at, &value, 2)


cdef inline void put32(uint8_t *at, uint32_t value) noexcept nogil:
    value = swap32(value)
    memcpy(at, &value, 4)


cdef inline void put64(uint8_t *at, uint64_t value) noexcept nogil:
    value = swap64(value)
    memcpy(at, &value, 8)


cdef inline uint16_t get16(const uint8_t *at) noexcept nogil:
    cdef uint16_t value
    memcpy(&value, at, 2)
    return swap16(value)


cdef inline uint32_t get32(const uint8_t *at) noexcept nogil:
    cdef uint32_t value
    memcpy(&value, at, 4)
    return swap32(value)


cdef inline uint64_t get64(const uint8_t *at) noexcept nogil:
    cdef uint64_t value
    memcpy(&value, at, 8)
    return swap64(value)
