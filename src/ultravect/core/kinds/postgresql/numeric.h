/* PostgreSQL's numeric on the wire: count of digits, weight of the first, sign, decimals shown; then digits to the base 10000. */
#ifndef ULTRAVECT_NUMERIC_H
#define ULTRAVECT_NUMERIC_H

#include "ultravect/core/types/cells.h"

#define NUMERIC_ROOM 32 /* head, and 11 digits for 38 decimal ones with the mark anywhere, rounded up */

enum { NUMERIC_PLAIN, NUMERIC_NAN, NUMERIC_INFINITE, NUMERIC_NEGATIVE_INFINITE, NUMERIC_BROKEN };

static inline int numeric_word(const uint8_t *at) { return at[0] << 8 | at[1]; }

static inline int numeric_signed(const uint8_t *at) { return (int16_t)numeric_word(at); }

static inline uint8_t *put_word(uint8_t *at, int value) {
    at[0] = (uint8_t)(value >> 8);
    at[1] = (uint8_t)value;
    return at + 2;
}

static inline uint8_t *put_numeric(uint8_t *at, wide unscaled, int scale) {
    uint16_t groups[16];
    int count = 0, past = (scale + 3) / 4, first = 16;
    uwide magnitude = unscaled < 0 ? (uwide)-unscaled : (uwide)unscaled;
    /* the lowest group ends where the decimals do: it is filled up with zeros */
    int filled = past * 4 - scale;
    if (!(magnitude >> 64)) {
        uint64_t rest = (uint64_t)magnitude;
        if (filled) {
            groups[--first] = (uint16_t)(rest % POWERS[4 - filled] * POWERS[filled]);
            rest /= POWERS[4 - filled];
        }
        for (; rest; rest /= 10000) groups[--first] = (uint16_t)(rest % 10000);
    } else {
        if (filled) {
            groups[--first] = (uint16_t)((uint64_t)(magnitude % POWERS[4 - filled]) * POWERS[filled]);
            magnitude /= POWERS[4 - filled];
        }
        for (; magnitude; magnitude /= 10000) groups[--first] = (uint16_t)(magnitude % 10000);
    }
    int weight = 16 - first - past - 1, last = 16;
    while (first < 16 && groups[first] == 0) first++, weight--;
    while (last > first && groups[last - 1] == 0) last--;
    count = last - first;
    at = put_word(at, count);
    at = put_word(at, count ? weight : 0);
    at = put_word(at, unscaled < 0 ? 0x4000 : 0);
    at = put_word(at, scale);
    for (; first < last; first++) at = put_word(at, groups[first]);
    return at;
}

static inline int numeric_kind(const uint8_t *at, int64_t length) {
    if (length < 8 || length != 8 + 2 * (int64_t)numeric_word(at)) return NUMERIC_BROKEN;
    switch (numeric_word(at + 4)) {
        case 0: case 0x4000: return NUMERIC_PLAIN;
        case 0xC000: return NUMERIC_NAN;
        case 0xD000: return NUMERIC_INFINITE;
        case 0xF000: return NUMERIC_NEGATIVE_INFINITE;
        default: return NUMERIC_BROKEN;
    }
}

/* 1 where the number is one of ``precision`` digits, ``scale`` of them past the mark. */
static inline int get_numeric(const uint8_t *at, int precision, int scale, wide *unscaled) {
    int count = numeric_word(at), weight = numeric_signed(at + 2), exponent = 0;
    uwide sum = 0, limit = power_of_ten(precision);
    for (int index = 0; index < count; index++) {
        int group = numeric_word(at + 8 + 2 * index), factor = 4;
        exponent = (weight - index) * 4 + scale;
        if (exponent < 0) {
            factor = exponent > -4 ? 4 + exponent : 0;
            if (group % (int)POWERS[4 - factor]) return 0;
            group /= (int)POWERS[4 - factor];
        }
        if (sum >= limit) return 0;
        if (sum >> 100) {
            /* near the end of 128 bits */
            if (sum > power_of_ten(38 - factor)) return 0;
        }
        sum = sum * POWERS[factor] + (unsigned)group;
    }
    if (count && exponent > 0) {
        if (exponent > 38) return 0;
        for (; exponent; exponent--) {
            if (sum >= limit) return 0;
            sum *= 10;
        }
    }
    if (sum >= limit) return 0;
    *unscaled = numeric_word(at + 4) ? -(wide)sum : (wide)sum;
    return 1;
}

static inline int64_t numeric_text_room(const uint8_t *at) {
    int64_t weight = numeric_signed(at + 2);
    return (weight > 0 ? weight + 1 : 1) * 4 + numeric_word(at + 6) + 8;
}

static inline unsigned numeric_group(const uint8_t *at, int index) {
    return index >= 0 && index < numeric_word(at) ? (unsigned)numeric_word(at + 8 + 2 * index) : 0;
}

/* As the server writes it; gives where the text ends. */
static inline uint8_t *numeric_text(const uint8_t *at, uint8_t *text) {
    int weight = numeric_signed(at + 2), decimals = numeric_word(at + 6);
    if (numeric_word(at + 4)) *text++ = '-';
    if (weight < 0) *text++ = '0';
    else text = write_integer(text, numeric_group(at, 0));
    for (int index = 1; index <= weight; index++) text = write_digits(text, numeric_group(at, index), 4);
    if (!decimals) return text;
    *text++ = '.';
    uint8_t *end = text + decimals;
    for (int index = weight + 1; decimals > 0; index++, decimals -= 4)
        text = write_digits(text, numeric_group(at, index), 4);
    return end;
}

#endif
