/* Single values as TDS has them: UTF-16 texts, decimals as sign and magnitude, GUIDs with mixed byte order. */
#ifndef ULTRAVECT_SQLSERVER_VALUES_H
#define ULTRAVECT_SQLSERVER_VALUES_H

#include <stdint.h>
#include <string.h>

typedef __int128 tds_wide;

/* Valid UTF-8 as UTF-16, little endian; at most twice as long. Returns the place after it. */
static inline uint8_t *put_utf16(uint8_t *out, const uint8_t *at, int64_t length) {
    const uint8_t *end = at + length;
    while (at < end) {
        uint32_t point = *at++;
        if (point >= 0xF0) {
            point = (point & 7) << 18 | (at[0] & 63) << 12 | (at[1] & 63) << 6 | (at[2] & 63);
            at += 3;
            point -= 0x10000;
            uint16_t high = 0xD800 | point >> 10;
            *out++ = high & 255;
            *out++ = high >> 8;
            point = 0xDC00 | (point & 0x3FF);
        } else if (point >= 0xE0) {
            point = (point & 15) << 12 | (at[0] & 63) << 6 | (at[1] & 63);
            at += 2;
        } else if (point >= 0xC0) {
            point = (point & 31) << 6 | (at[0] & 63);
            at += 1;
        }
        *out++ = point & 255;
        *out++ = point >> 8;
    }
    return out;
}

/* UTF-16 as UTF-8; at most one and a half times as long. A lone surrogate becomes three bytes that are no UTF-8, so that it is noticed. */
static inline uint8_t *put_utf8(uint8_t *out, const uint8_t *at, int64_t length) {
    const uint8_t *end = at + (length & ~(int64_t)1);
    while (at < end) {
        uint32_t unit = at[0] | at[1] << 8;
        at += 2;
        if (unit < 0x80) {
            *out++ = unit;
        } else if (unit < 0x800) {
            *out++ = 0xC0 | unit >> 6;
            *out++ = 0x80 | (unit & 63);
        } else {
            uint32_t low = (unit & 0xFC00) == 0xD800 && at < end ? (uint32_t)(at[0] | at[1] << 8) : 0;
            if ((low & 0xFC00) == 0xDC00) {
                uint32_t point = 0x10000 + ((unit & 0x3FF) << 10 | (low & 0x3FF));
                at += 2;
                *out++ = 0xF0 | point >> 18;
                *out++ = 0x80 | (point >> 12 & 63);
                *out++ = 0x80 | (point >> 6 & 63);
                *out++ = 0x80 | (point & 63);
            } else {
                *out++ = 0xE0 | unit >> 12;
                *out++ = 0x80 | (unit >> 6 & 63);
                *out++ = 0x80 | (unit & 63);
            }
        }
    }
    return out;
}

/* A decimal in ``size`` bytes after its sign. */
static inline void put_decimal(uint8_t *out, const uint8_t *value, int size) {
    tds_wide number;
    memcpy(&number, value, 16);
    out[0] = number >= 0;
    if (number < 0) number = -number;
    memcpy(out + 1, &number, size);
}

static inline void get_decimal(uint8_t *out, const uint8_t *value, int size) {
    tds_wide number = 0;
    memcpy(&number, value + 1, size - 1 > 16 ? 16 : size - 1);
    if (!value[0]) number = -number;
    memcpy(out, &number, 16);
}

/* The same both ways. */
static inline void swap_guid(uint8_t *out, const uint8_t *at) {
    static const uint8_t places[16] = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    for (int place = 0; place < 16; place++) out[place] = at[places[place]];
}

static inline uint64_t get_number(const uint8_t *at, int size) {
    uint64_t number = 0;
    memcpy(&number, at, size);
    return number;
}

#endif
