#include "wire/h264.h"

#include <string.h>

#include "base/bytes.h"

/* Finds 00 00 01 at or behind `from`; size when there is none. */
static size_t next_start(const uint8_t *data, size_t size, size_t from)
{
    while (from + 3 <= size) {
        /* The third byte decides: look for the 1, which is rarer in coded data than a zero. */
        const uint8_t *one = bmb_find(data + from + 2, size - from - 2, 1);
        if (one == NULL) return size;
        size_t at = (size_t)(one - data) - 2;
        if (data[at] == 0 && data[at + 1] == 0) return at;
        from = at + 1;
    }
    return size;
}

static bmb_err add_unit(const uint8_t *data, size_t begin, size_t end, bmb_h264_facts *out)
{
    while (end > begin && data[end - 1] == 0) end--; /* trailing_zero_8bits, or the next start code's fourth byte */
    if (end == begin || (data[begin] & 0x80) != 0) return BMB_BAD_DATA;
    bmb_nal_type type = bmb_nal_type_of(data[begin]);
    if (type == BMB_NAL_DELIMITER || type == BMB_NAL_FILLER) return BMB_OK;
    if (out->count == BMB_H264_UNITS) return BMB_NO_ROOM;
    out->key = out->key || type == BMB_NAL_IDR;
    out->picture = out->picture || (type >= BMB_NAL_SLICE && type <= BMB_NAL_IDR);
    out->unit[out->count++] = (bmb_nal){ .at = (uint32_t)begin, .size = (uint32_t)(end - begin) };
    return BMB_OK;
}

bmb_err bmb_h264_parse(const uint8_t *data, size_t size, bmb_h264_facts *out)
{
    bool sps = false, pps = false;
    out->count = 0;
    out->key = out->picture = out->sets = false;
    if (size < 4 || size > UINT32_MAX) return BMB_BAD_DATA;
    size_t start = next_start(data, size, 0);
    if (start > 1 || (start == 1 && data[0] != 0)) return BMB_BAD_DATA;
    while (start < size) {
        size_t begin = start + 3;
        start = next_start(data, size, begin);
        bmb_err err = add_unit(data, begin, start, out);
        if (err != BMB_OK) return err;
    }
    for (uint16_t i = 0; i < out->count; i++) {
        bmb_nal_type type = bmb_nal_type_of(data[out->unit[i].at]);
        sps = sps || type == BMB_NAL_SPS;
        pps = pps || type == BMB_NAL_PPS;
    }
    out->sets = sps && pps;
    return out->count > 0 ? BMB_OK : BMB_BAD_DATA;
}

/* true: it is another one than there was */
static bool keep_set(const uint8_t *data, uint32_t size, uint8_t *out, uint16_t *out_size)
{
    if (size == *out_size && memcmp(out, data, size) == 0) return false;
    memcpy(out, data, size);
    *out_size = (uint16_t)size;
    return true;
}

bool bmb_h264_keep_sets(const uint8_t *data, const bmb_h264_facts *facts, bmb_h264_sets *sets)
{
    bool changed = false;
    for (uint16_t i = 0; i < facts->count; i++) {
        const bmb_nal *n = &facts->unit[i];
        bmb_nal_type type = bmb_nal_type_of(data[n->at]);
        if (type == BMB_NAL_SPS && n->size >= 4 && n->size <= BMB_H264_SPS_MAX) {
            changed = keep_set(data + n->at, n->size, sets->sps, &sets->sps_size) || changed;
        } else if (type == BMB_NAL_PPS && n->size <= BMB_H264_PPS_MAX) {
            changed = keep_set(data + n->at, n->size, sets->pps, &sets->pps_size) || changed;
        }
    }
    return changed;
}

/* Bits of a raw byte sequence payload, emulation prevention bytes left out (7.4.1.1). Once past the end it fails. */
typedef struct bits {
    const uint8_t *data;
    size_t size, at;
    unsigned left, zeros;
    uint16_t read; /* bits, those that prevent emulation not counted */
    uint8_t byte;
    bool failed;
} bits;

static uint32_t bit(bits *b)
{
    if (b->left == 0) {
        if (b->at < b->size && b->zeros >= 2 && b->data[b->at] == 3) {
            b->at++;
            b->zeros = 0;
        }
        if (b->at >= b->size) {
            b->failed = true;
            return 0;
        }
        b->byte = b->data[b->at++];
        b->zeros = b->byte == 0 ? b->zeros + 1 : 0;
        b->left = 8;
    }
    b->read++;
    return b->byte >> --b->left & 1;
}

static uint32_t bits_of(bits *b, unsigned n)
{
    uint32_t v = 0;
    while (n-- > 0) v = v << 1 | bit(b);
    return v;
}

/* Exp-Golomb, 9.1 */
static uint32_t ue(bits *b)
{
    unsigned zeros = 0;
    while (!b->failed && bit(b) == 0)
        if (++zeros > 31) b->failed = true;
    if (b->failed) return 0;
    return ((uint32_t)1 << zeros) - 1 + bits_of(b, zeros);
}

static int32_t se(bits *b)
{
    uint32_t v = ue(b);
    return (v & 1) != 0 ? (int32_t)(v / 2 + 1) : -(int32_t)(v / 2);
}

static void skip_scaling_list(bits *b, unsigned size)
{
    int32_t last = 8, next = 8;
    for (unsigned i = 0; i < size && !b->failed; i++) {
        if (next != 0) next = (int32_t)((uint32_t)last + (uint32_t)se(b) + 256u) & 255;
        if (next != 0) last = next;
    }
}

/* Returns chroma_format_idc and steps over what only the high profiles have (7.3.2.1.1). */
static uint32_t high_profile_part(bits *b, uint8_t profile)
{
    static const uint8_t high[] = { 100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135 };
    if (memchr(high, profile, sizeof high) == NULL) return 1;
    uint32_t chroma = ue(b);
    if (chroma == 3) (void)bit(b);
    (void)ue(b);
    (void)ue(b);
    (void)bit(b);
    if (bit(b) == 0) return chroma;
    for (unsigned i = 0; i < (chroma == 3 ? 12u : 8u); i++)
        if (bit(b) != 0) skip_scaling_list(b, i < 6 ? 16 : 64);
    return chroma;
}

static void skip_picture_order(bits *b)
{
    uint32_t type = ue(b);
    if (type == 0) {
        (void)ue(b);
    } else if (type == 1) {
        (void)bit(b);
        (void)se(b);
        (void)se(b);
        uint32_t n = ue(b);
        for (uint32_t i = 0; i < n && i < 256 && !b->failed; i++) (void)se(b);
    }
}

/* Annex E.1.1, as far as the timing. */
static uint32_t vui_rate(bits *b, uint16_t *timing_at, bool *timed)
{
    if (bit(b) != 0 && bits_of(b, 8) == 255) (void)bits_of(b, 32); /* aspect ratio */
    if (bit(b) != 0) (void)bit(b);                                 /* overscan */
    if (bit(b) != 0) {                                             /* video signal type */
        (void)bits_of(b, 4);
        if (bit(b) != 0) (void)bits_of(b, 24);
    }
    if (bit(b) != 0) { /* chroma location */
        (void)ue(b);
        (void)ue(b);
    }
    *timing_at = b->read;
    *timed = bit(b) != 0;
    if (!*timed) return 0;
    uint64_t units = bits_of(b, 32), scale = bits_of(b, 32);
    uint64_t mfps = units > 0 ? scale * 1000 / (2 * units) : 0;
    return b->failed || mfps > 1000000 ? 0 : (uint32_t)mfps;
}

bmb_err bmb_sps_parse(const uint8_t *data, size_t size, bmb_sps *out)
{
    memset(out, 0, sizeof *out);
    if (size < 4 || bmb_nal_type_of(data[0]) != BMB_NAL_SPS) return BMB_BAD_DATA;
    out->profile = data[1];
    out->constraints = data[2];
    out->level = data[3];
    bits b = { .data = data, .size = size, .at = 4 };
    (void)ue(&b);
    uint32_t chroma = high_profile_part(&b, out->profile);
    (void)ue(&b);
    skip_picture_order(&b);
    (void)ue(&b);
    (void)bit(&b);
    uint64_t width = ((uint64_t)ue(&b) + 1) * 16, map_height = (uint64_t)ue(&b) + 1;
    uint32_t frames_only = bit(&b);
    uint64_t height = map_height * 16 * (2 - frames_only);
    if (frames_only == 0) (void)bit(&b);
    (void)bit(&b);
    if (bit(&b) != 0) { /* frame cropping, in chroma units */
        uint64_t x = chroma == 0 || chroma == 3 ? 1 : 2, y = (chroma == 1 ? 2u : 1u) * (2 - frames_only);
        uint64_t left = ue(&b), right = ue(&b), top = ue(&b), bottom = ue(&b);
        uint64_t cut_x = (left + right) * x, cut_y = (top + bottom) * y;
        if (cut_x >= width || cut_y >= height) return BMB_BAD_DATA;
        width -= cut_x;
        height -= cut_y;
    }
    if (b.failed || width > UINT16_MAX || height > UINT16_MAX) return BMB_BAD_DATA;
    out->width = (uint16_t)width;
    out->height = (uint16_t)height;
    out->vui_at = b.read;
    if (bit(&b) == 0) return BMB_OK;
    bool timed;
    out->mfps = vui_rate(&b, &out->timing_at, &timed);
    if (b.failed || timed) out->vui_at = out->timing_at = 0; /* cut off, or it has a timing already */
    return BMB_OK;
}
