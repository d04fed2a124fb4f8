#include "codec/split.h"

#include <stdlib.h>
#include <string.h>

#include "wire/h264.h"

void splitter_begin(splitter *s, split_kind kind, size_t raw_bytes)
{
    s->kind = kind;
    s->raw_bytes = raw_bytes;
    s->begin = s->size = s->scanned = 0;
    s->had_picture = false;
}

void splitter_free(splitter *s)
{
    free(s->data);
    *s = (splitter){ 0 };
}

static void drop(splitter *s, size_t count)
{
    s->begin += count;
    s->size -= count;
    s->scanned = s->scanned > count ? s->scanned - count : 0;
}

static void skip(splitter *s, size_t count)
{
    s->skipped += count;
    drop(s, count);
}

bool splitter_add(splitter *s, const void *data, size_t size)
{
    if (s->size + size > SPLIT_MOST) {
        s->skipped += s->size + size;
        splitter_begin(s, s->kind, s->raw_bytes);
        return false;
    }
    if (s->begin > 0) memmove(s->data, s->data + s->begin, s->size);
    s->begin = 0;
    if (s->size + size > s->room) {
        size_t room = s->room > 0 ? s->room : 65536;
        while (room < s->size + size) room *= 2;
        uint8_t *grown = realloc(s->data, room);
        if (grown == NULL) return false;
        s->data = grown;
        s->room = room;
    }
    memcpy(s->data + s->size, data, size);
    s->size += size;
    return true;
}

static bool is_image(const uint8_t *d)
{
    return d[0] == 0xFF && d[1] == 0xD8 && d[2] == 0xFF;
}

static bool is_start_code(const uint8_t *d)
{
    return d[0] == 0 && d[1] == 0 && d[2] == 1;
}

/* The first image or NAL unit decides; what stands before it is passed over. */
static bool find_out(splitter *s)
{
    const uint8_t *d = s->data + s->begin;
    for (size_t i = 0; i + 3 <= s->size; i++) {
        bool image = is_image(d + i), unit = is_start_code(d + i);
        if (!image && !unit) continue;
        s->kind = image ? SPLIT_JPEG : SPLIT_H264;
        if (unit && i > 0 && d[i - 1] == 0) i--;
        skip(s, i);
        return true;
    }
    if (s->size > 3) skip(s, s->size - 3);
    return false;
}

/* From `at` on: the next beginning of an image; size: there is none. */
static size_t next_image(const uint8_t *d, size_t at, size_t size)
{
    for (; at + 3 <= size; at++) {
        const uint8_t *found = memchr(d + at, 0xFF, size - at);
        if (found == NULL) return size;
        at = (size_t)(found - d);
        if (at + 3 <= size && is_image(found)) return at;
    }
    return size;
}

/* Is there an end of image in what is new? Looking into the structure each time would cost more than the pictures. */
static bool ends_somewhere(splitter *s, const uint8_t *d)
{
    size_t at = s->scanned > 0 ? s->scanned - 1 : 0;
    s->scanned = s->size;
    for (; at + 1 < s->size; at++) {
        const uint8_t *found = memchr(d + at, 0xFF, s->size - at - 1);
        if (found == NULL) return false;
        at = (size_t)(found - d);
        if (found[1] == 0xD9) return true;
    }
    return false;
}

typedef enum walk_result { WALK_WHOLE, WALK_ON, WALK_BAD } walk_result;

/* Goes from marker to marker (ITU-T T.81 B.1.1). *at: WALK_WHOLE: the end; WALK_BAD: where it is no image any more,
 * such as where another one begins. WALK_ON: there has to come more. */
static walk_result walk(const uint8_t *d, size_t size, size_t *at)
{
    for (*at = 2; *at + 2 <= size;) {
        uint8_t marker = d[*at + 1];
        if (d[*at] != 0xFF || marker == 0xD8 || marker == 0) return WALK_BAD;
        if (marker == 0xD9) {
            *at += 2;
            return WALK_WHOLE;
        }
        if (marker == 0xFF || marker == 1 || (marker >= 0xD0 && marker <= 0xD7)) {
            *at += marker == 0xFF ? 1 : 2;
            continue;
        }
        if (*at + 4 > size) return WALK_ON;
        *at += 2u + ((size_t)d[*at + 2] << 8 | d[*at + 3]);
        for (; marker == 0xDA && *at + 2 <= size; ++*at) { /* entropy-coded data, up to the next marker */
            const uint8_t *found = memchr(d + *at, 0xFF, size - *at - 1);
            if (found == NULL) return WALK_ON;
            *at = (size_t)(found - d);
            if (found[1] != 0 && (found[1] < 0xD0 || found[1] > 0xD7)) break;
        }
    }
    return WALK_ON;
}

static bool next_jpeg(splitter *s, const uint8_t **picture, size_t *size)
{
    for (;;) {
        const uint8_t *d = s->data + s->begin;
        size_t begin = next_image(d, 0, s->size), end;
        if (begin == s->size) { /* the beginning of one may have come in part */
            if (s->size > 2) skip(s, s->size - 2);
            return false;
        }
        if (begin > 0) {
            skip(s, begin);
            d = s->data + s->begin;
        }
        if (!ends_somewhere(s, d)) return false;
        walk_result result = walk(d, s->size, &end);
        if (result == WALK_ON) return false;
        if (result == WALK_WHOLE) {
            *picture = d;
            *size = end;
            drop(s, end);
            s->scanned = 0;
            return true;
        }
        skip(s, end); /* cut off */
        s->scanned = 0;
    }
}

static bool is_picture(uint8_t header)
{
    bmb_nal_type type = bmb_nal_type_of(header);
    return type == BMB_NAL_SLICE || type == BMB_NAL_IDR;
}

/* Does the unit at a start code open a new access unit? A slice does when it is its picture's first (first_mb_in_slice
 * 0 is coded as a single 1 bit), and so do the parameter sets and the like before it (7.4.1.2.3). */
static bool opens_picture(const uint8_t *unit, bool had_picture)
{
    return had_picture && (!is_picture(unit[0]) || (unit[1] & 0x80) != 0);
}

static bool next_h264(splitter *s, bool idle, const uint8_t **picture, size_t *size)
{
    const uint8_t *d = s->data + s->begin;
    size_t at = s->scanned;
    for (; at + 5 <= s->size; at++) {
        if (!is_start_code(d + at)) continue;
        if (opens_picture(d + at + 3, s->had_picture)) {
            size_t end = at > 0 && d[at - 1] == 0 ? at - 1 : at; /* a start code of four bytes */
            *picture = d;
            *size = end;
            drop(s, end);
            s->scanned = 0;
            s->had_picture = false;
            return true;
        }
        s->had_picture = s->had_picture || is_picture(d[at + 3]);
    }
    s->scanned = at;
    if (!idle || !s->had_picture) return false;
    *picture = d;
    *size = s->size;
    drop(s, s->size);
    s->scanned = 0;
    s->had_picture = false;
    return true;
}

bool splitter_next(splitter *s, bool idle, const uint8_t **picture, size_t *size)
{
    if (s->size == 0) return false;
    if (s->kind == SPLIT_UNKNOWN && !find_out(s)) return false;
    if (s->kind == SPLIT_JPEG) return next_jpeg(s, picture, size);
    if (s->kind == SPLIT_H264) return next_h264(s, idle, picture, size);
    if (s->size < s->raw_bytes || s->raw_bytes == 0) return false;
    *picture = s->data + s->begin;
    *size = s->raw_bytes;
    drop(s, s->raw_bytes);
    return true;
}
