/* Single values as text and as numbers: digits, days and moments. Every function looks at one value and allocates nothing. */
#ifndef ULTRAVECT_CELLS_H
#define ULTRAVECT_CELLS_H

#include <math.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

typedef __int128 wide;
typedef unsigned __int128 uwide;

#define DAY_MICROSECONDS 86400000000LL
#define DECIMAL_ROOM 44 /* characters of the longest decimal: 38 digits, sign, mark and a leading zero */

static const uint64_t POWERS[19] = {
    1ULL, 10ULL, 100ULL, 1000ULL, 10000ULL, 100000ULL, 1000000ULL, 10000000ULL, 100000000ULL, 1000000000ULL,
    10000000000ULL, 100000000000ULL, 1000000000000ULL, 10000000000000ULL, 100000000000000ULL, 1000000000000000ULL,
    10000000000000000ULL, 100000000000000000ULL, 1000000000000000000ULL,
};

static inline uwide power_of_ten(int exponent) {
    uwide power = POWERS[exponent < 18 ? exponent : 18];
    for (exponent -= 18; exponent > 0; exponent--) power *= 10;
    return power;
}

/* ---- days: the Gregorian calendar in both directions, without tables ---- */

static inline int64_t days_of(int64_t year, int month, int day) {
    year -= month <= 2;
    int64_t era = (year >= 0 ? year : year - 399) / 400;
    int64_t of_era = year - era * 400;
    int64_t of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

static inline void civil_of(int64_t days, int64_t *year, int *month, int *day) {
    days += 719468;
    int64_t era = (days >= 0 ? days : days - 146096) / 146097;
    int64_t of_era = days - era * 146097;
    int64_t y = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    int64_t of_year = of_era - (365 * y + y / 4 - y / 100);
    int64_t shifted = (5 * of_year + 2) / 153;
    *day = (int)(of_year - (153 * shifted + 2) / 5 + 1);
    *month = (int)(shifted < 10 ? shifted + 3 : shifted - 9);
    *year = y + era * 400 + (*month <= 2);
}

static inline int days_in(int64_t year, int month) {
    static const int lengths[13] = {0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    return lengths[month] + (month == 2 && year % 4 == 0 && (year % 100 != 0 || year % 400 == 0));
}

/* ---- from text: 1 where the text is plainly such a value, 0 otherwise ---- */

static inline int two_digits(const uint8_t *at) {
    unsigned tens = at[0] - '0', ones = at[1] - '0';
    return tens > 9 || ones > 9 ? -1 : (int)(tens * 10 + ones);
}

static inline int read_integer(const uint8_t *at, int64_t length, int64_t *value) {
    const uint8_t *end = at + length;
    int negative = length > 0 && *at == '-';
    at += negative;
    while (end - at > 19 && *at == '0') at++;
    if (at == end || end - at > 19) return 0;
    uint64_t sum = 0;
    for (; at < end; at++) {
        unsigned digit = *at - '0';
        if (digit > 9) return 0;
        sum = sum * 10 + digit;
    }
    if (sum > (uint64_t)INT64_MAX + negative) return 0;
    *value = negative ? (int64_t)(0 - sum) : (int64_t)sum;
    return 1;
}

/* The unscaled value; the text has no more digits limit ``mark`` than ``scale``, and no more than ``precision`` in all. */
static inline int read_decimal(
    const uint8_t *at, int64_t length, uint8_t mark, int precision, int scale, wide *value
) {
    const uint8_t *end = at + length;
    int negative = length > 0 && *at == '-', limit = -1, digits = 0;
    uint64_t low = 0;
    uwide sum = 0;
    for (at += negative; at < end; at++) {
        unsigned digit = *at - '0';
        if (digit > 9) {
            if (*at != mark || limit >= 0) return 0;
            limit = 0;
            continue;
        }
        if (digits || digit) digits++;
        if (digits > 38) return 0;
        if (digits <= 18) low = low * 10 + digit;
        else sum = (digits == 19 ? (uwide)low : sum) * 10 + digit;
        if (limit >= 0 && ++limit > scale) return 0;
    }
    if (length <= negative || (limit >= 0 && length == negative + 1)) return 0;
    if (digits <= 18) sum = low;
    int missing = scale - (limit > 0 ? limit : 0);
    if (digits + (digits ? missing : 0) > precision) return 0;
    sum *= power_of_ten(missing);
    *value = negative ? -(wide)sum : (wide)sum;
    return 1;
}

/* Where year, month and day stand in ten characters, and what stands between them. */
typedef struct {
    uint8_t year, month, day, first_mark, second_mark, mark_one, mark_two;
} date_form;

static const date_form ISO_FORM = {0, 5, 8, 4, 7, '-', '-'};

static inline int read_date(const uint8_t *at, int64_t length, const date_form *form, int32_t *days) {
    if (length != 10 || at[form->first_mark] != form->mark_one || at[form->second_mark] != form->mark_two) return 0;
    int century = two_digits(at + form->year), years = two_digits(at + form->year + 2);
    int month = two_digits(at + form->month), day = two_digits(at + form->day);
    if ((century | years | month | day) < 0 || month < 1 || month > 12 || day < 1) return 0;
    int year = century * 100 + years;
    if (year < 1 || day > days_in(year, month)) return 0;
    *days = (int32_t)days_of(year, month, day);
    return 1;
}

/* hh:mm:ss with up to six digits limit a point */
static inline int read_time(const uint8_t *at, int64_t length, int64_t *microseconds) {
    if (length < 8 || length > 15 || length == 9 || at[2] != ':' || at[5] != ':') return 0;
    int hour = two_digits(at), minute = two_digits(at + 3), second = two_digits(at + 6);
    if ((hour | minute | second) < 0 || hour > 23 || minute > 59 || second > 59) return 0;
    int64_t fraction = 0;
    if (length > 8) {
        if (at[8] != '.') return 0;
        for (int64_t place = 9; place < 15; place++) {
            unsigned digit = place < length ? at[place] - '0' : 0;
            if (digit > 9) return 0;
            fraction = fraction * 10 + digit;
        }
    }
    *microseconds = ((hour * 60 + minute) * 60LL + second) * 1000000 + fraction;
    return 1;
}

static inline int read_moment(const uint8_t *at, int64_t length, const date_form *form, int64_t *microseconds) {
    int32_t days;
    int64_t time;
    if (length < 19 || (at[10] != ' ' && at[10] != 'T')) return 0;
    if (!read_date(at, 10, form, &days) || !read_time(at + 11, length - 11, &time)) return 0;
    *microseconds = days * DAY_MICROSECONDS + time;
    return 1;
}

/* A moment with its distance to UTC: Z, +02, +0200 or +02:00. */
static inline int read_zoned(const uint8_t *at, int64_t length, const date_form *form, int64_t *microseconds) {
    if (length > 19 && at[length - 1] == 'Z') return read_moment(at, length - 1, form, microseconds);
    int64_t sign = length - 1;
    while (sign > 18 && at[sign] != '+' && at[sign] != '-') sign--;
    if (sign < 19) return 0;
    int64_t digits = length - sign - 1;
    int hours = digits >= 2 ? two_digits(at + sign + 1) : -1, minutes = 0;
    if (digits == 4) minutes = two_digits(at + sign + 3);
    else if (digits == 5 && at[sign + 3] == ':') minutes = two_digits(at + sign + 4);
    else if (digits != 2) return 0;
    if (hours < 0 || hours > 23 || minutes < 0 || minutes > 59) return 0;
    if (!read_moment(at, sign, form, microseconds)) return 0;
    int64_t distance = (hours * 60 + minutes) * 60000000LL;
    *microseconds += at[sign] == '-' ? distance : -distance;
    return 1;
}

/* Digits with a mark and an exponent, in parts: 0 where that is not what the text is. */
typedef struct {
    uint64_t sum; /* of the first 18 digits */
    int digits, exponent, negative;
    char copy[64];
} number_parts;

static inline int read_parts(const uint8_t *at, int64_t length, uint8_t mark, number_parts *parts) {
    if (length < 1 || length >= (int64_t)sizeof parts->copy) return 0;
    const uint8_t *place = at, *end = at + length;
    int limit = -1, exponent = 0, any = 0;
    parts->negative = *place == '-';
    parts->digits = 0;
    parts->sum = 0;
    for (place += parts->negative; place < end; place++) {
        unsigned digit = *place - '0';
        if (digit > 9) {
            if (*place != mark || limit >= 0) break;
            limit = 0;
            continue;
        }
        any = 1;
        if (parts->digits || digit) parts->digits++;
        if (parts->digits <= 18) parts->sum = parts->sum * 10 + digit;
        limit += limit >= 0;
    }
    if (!any) return 0;
    if (place < end) {
        if ((*place | 32) != 'e') return 0;
        const uint8_t *start = place + 1;
        int below = start < end && *start == '-';
        start += start < end && (*start == '-' || *start == '+');
        if (start == end || end - start > 3) return 0;
        for (; start < end; start++) {
            unsigned digit = *start - '0';
            if (digit > 9) return 0;
            exponent = exponent * 10 + (int)digit;
        }
        if (below) exponent = -exponent;
    }
    parts->exponent = exponent - (limit > 0 ? limit : 0);
    for (int64_t index = 0; index < length; index++) parts->copy[index] = at[index] == mark ? '.' : (char)at[index];
    parts->copy[length] = 0;
    return 1;
}

/* What 53 bits and a small power of ten give is exact; the rest the library finds. */
static inline int read_double(const uint8_t *at, int64_t length, uint8_t mark, double *value) {
    static const double TENS[23] = {1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,  1e8,  1e9,  1e10, 1e11,
                                    1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};
    number_parts parts;
    if (!read_parts(at, length, mark, &parts)) return 0;
    if (parts.digits <= 15 && parts.exponent >= -22 && parts.exponent <= 22) {
        double found = (double)parts.sum;
        found = parts.exponent < 0 ? found / TENS[-parts.exponent] : found * TENS[parts.exponent];
        *value = parts.negative ? -found : found;
        return 1;
    }
    *value = strtod(parts.copy, NULL);
    return isfinite(*value);
}

static inline int read_single(const uint8_t *at, int64_t length, uint8_t mark, float *value) {
    number_parts parts;
    if (!read_parts(at, length, mark, &parts)) return 0;
    *value = strtof(parts.copy, NULL);
    return isfinite(*value);
}

/* ---- to text: each gives where the next character goes ---- */

static inline uint8_t *write_two(uint8_t *at, unsigned value) {
    at[0] = (uint8_t)('0' + value / 10);
    at[1] = (uint8_t)('0' + value % 10);
    return at + 2;
}

static inline uint8_t *write_digits(uint8_t *at, uint64_t value, int width) {
    for (int place = width - 1; place >= 0; place--) {
        at[place] = (uint8_t)('0' + value % 10);
        value /= 10;
    }
    return at + width;
}

static inline int digits_of(uint64_t value) {
    int count = 1;
    while (count < 19 && value >= POWERS[count]) count++;
    return count == 19 && value >= 10000000000000000000ULL ? 20 : count;
}

static inline uint8_t *write_integer(uint8_t *at, int64_t value) {
    uint64_t magnitude = value < 0 ? 0 - (uint64_t)value : (uint64_t)value;
    if (value < 0) *at++ = '-';
    return write_digits(at, magnitude, digits_of(magnitude));
}

static inline uint8_t *write_magnitude(uint8_t *at, uwide value) {
    if (value >> 64) {
        uint64_t low = (uint64_t)(value % 1000000000000000000ULL);
        at = write_magnitude(at, value / 1000000000000000000ULL);
        return write_digits(at, low, 18);
    }
    return write_digits(at, (uint64_t)value, digits_of((uint64_t)value));
}

/* Without zeros limit the last digit, which are those of the type and not of the value. */
static inline uint8_t *write_decimal(uint8_t *at, wide value, int scale) {
    uwide magnitude = value < 0 ? (uwide)-value : (uwide)value;
    if (value < 0) *at++ = '-';
    if (!(magnitude >> 64)) {
        uint64_t low = (uint64_t)magnitude;
        while (scale > 0 && low % 10 == 0) low /= 10, scale--;
        magnitude = low;
    } else {
        while (scale > 0 && magnitude % 10 == 0) magnitude /= 10, scale--;
    }
    if (scale <= 0) return write_magnitude(at, magnitude);
    uint8_t digits[DECIMAL_ROOM];
    int count = (int)(write_magnitude(digits, magnitude) - digits);
    if (count <= scale) {
        *at++ = '0';
        *at++ = '.';
        memset(at, '0', (size_t)(scale - count));
        at += scale - count;
        memcpy(at, digits, (size_t)count);
        return at + count;
    }
    memcpy(at, digits, (size_t)(count - scale));
    at += count - scale;
    *at++ = '.';
    memcpy(at, digits + count - scale, (size_t)scale);
    return at + scale;
}

/* Years 1 to 9999 only. */
static inline uint8_t *write_date(uint8_t *at, int64_t days) {
    int64_t year;
    int month, day;
    civil_of(days, &year, &month, &day);
    at = write_digits(at, (uint64_t)year, 4);
    *at++ = '-';
    at = write_two(at, (unsigned)month);
    *at++ = '-';
    return write_two(at, (unsigned)day);
}

static inline uint8_t *write_time(uint8_t *at, int64_t microseconds) {
    unsigned fraction = (unsigned)(microseconds % 1000000), seconds = (unsigned)(microseconds / 1000000);
    at = write_two(at, seconds / 3600);
    *at++ = ':';
    at = write_two(at, seconds / 60 % 60);
    *at++ = ':';
    at = write_two(at, seconds % 60);
    if (!fraction) return at;
    *at++ = '.';
    return write_digits(at, fraction, 6);
}

static inline int64_t day_of(int64_t microseconds) {
    int64_t days = microseconds / DAY_MICROSECONDS;
    return days - (microseconds % DAY_MICROSECONDS < 0);
}

static inline uint8_t *write_moment(uint8_t *at, int64_t microseconds) {
    int64_t days = day_of(microseconds);
    at = write_date(at, days);
    *at++ = ' ';
    return write_time(at, microseconds - days * DAY_MICROSECONDS);
}

#endif
