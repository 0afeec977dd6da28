"""``cells.h``: single values as text and as numbers."""

from libc.stdint cimport int32_t, int64_t, uint8_t, uint64_t

cdef extern from "ultravect/core/types/cells.h" nogil:
    # 128 bits in truth: Cython only passes them on, and the header computes
    ctypedef long long wide
    ctypedef unsigned long long uwide
    int64_t DAY_MICROSECONDS
    int DECIMAL_ROOM
    const uint64_t POWERS[19]
    uwide power_of_ten(int exponent)
    int64_t days_of(int64_t year, int month, int day)
    void civil_of(int64_t days, int64_t *year, int *month, int *day)
    int64_t day_of(int64_t microseconds)
    int read_integer(const uint8_t *at, int64_t length, int64_t *value)
    ctypedef struct date_form:
        uint8_t year, month, day, first_mark, second_mark, mark_one, mark_two
    const date_form ISO_FORM
    int read_decimal(const uint8_t *at, int64_t length, uint8_t mark, int precision, int scale, wide *value)
    int read_date(const uint8_t *at, int64_t length, const date_form *form, int32_t *days)
    int read_time(const uint8_t *at, int64_t length, int64_t *microseconds)
    int read_moment(const uint8_t *at, int64_t length, const date_form *form, int64_t *microseconds)
    int read_zoned(const uint8_t *at, int64_t length, const date_form *form, int64_t *microseconds)
    int read_single(const uint8_t *at, int64_t length, uint8_t mark, float *value)
    int read_double(const uint8_t *at, int64_t length, uint8_t mark, double *value)
    uint8_t *write_integer(uint8_t *at, int64_t value)
    uint8_t *write_decimal(uint8_t *at, wide value, int scale)
    uint8_t *write_date(uint8_t *at, int64_t days)
    uint8_t *write_time(uint8_t *at, int64_t microseconds)
    uint8_t *write_moment(uint8_t *at, int64_t microseconds)
