#include "codec/picture.h"

#include <stdlib.h>
#include <string.h>

#define BLOCK 32u /* rows and widths are padded to it: encoders read whole blocks */

typedef struct format_row {
    const char *name;
    uint8_t planes;
    uint8_t across, down; /* luma samples for one of chroma */
    uint8_t bytes[3];     /* of each plane for `across` luma samples */
} format_row;

static const format_row formats[CODEC_FORMATS] = {
    [CODEC_I420] = { "i420", 3, 2, 2, { 2, 1, 1 } }, [CODEC_I422] = { "i422", 3, 2, 1, { 2, 1, 1 } },
    [CODEC_I444] = { "i444", 3, 1, 1, { 1, 1, 1 } }, [CODEC_NV12] = { "nv12", 2, 2, 2, { 2, 2, 0 } },
    [CODEC_YUYV] = { "yuyv", 1, 2, 1, { 4, 0, 0 } }, [CODEC_UYVY] = { "uyvy", 1, 2, 1, { 4, 0, 0 } },
    [CODEC_GREY] = { "grey", 1, 2, 2, { 2, 0, 0 } }, [CODEC_RGB24] = { "rgb24", 1, 1, 1, { 3, 0, 0 } },
};

const char *codec_format_name(codec_format format)
{
    return (size_t)format < CODEC_FORMATS ? formats[format].name : NULL;
}

unsigned codec_across(codec_format format)
{
    return formats[format].across;
}

unsigned codec_down(codec_format format)
{
    return formats[format].down;
}

static uint32_t tight(const format_row *f, unsigned plane, uint32_t width)
{
    return (width + f->across - 1u) / f->across * f->bytes[plane];
}

static uint32_t rows_of(const format_row *f, unsigned plane, uint32_t height)
{
    return plane == 0 ? height : (height + f->down - 1u) / f->down;
}

size_t codec_picture_bytes(codec_format format, uint16_t width, uint16_t height)
{
    const format_row *f = &formats[format];
    size_t sum = 0;
    for (unsigned i = 0; i < f->planes; i++) sum += (size_t)tight(f, i, width) * rows_of(f, i, height);
    return sum;
}

codec_picture codec_picture_in(codec_format format, uint16_t width, uint16_t height, const uint8_t *data,
                               uint32_t stride)
{
    const format_row *f = &formats[format];
    codec_picture p = { .format = format, .width = width, .height = height };
    for (unsigned i = 0; i < f->planes; i++) {
        p.plane[i] = data;
        p.stride[i] = stride == 0 ? tight(f, i, width) : stride * f->bytes[i] / f->bytes[0];
        data += (size_t)p.stride[i] * rows_of(f, i, height);
    }
    return p;
}

/* ITU-R BT.601, limited range, in 1/256. */
static uint8_t of_rgb(const uint8_t *rgb, unsigned plane)
{
    /* JFIF 1.02: the full range; chroma's weights so that no sum leaves it. */
    static const int16_t weights[3][3] = { { 77, 150, 29 }, { -43, -84, 127 }, { 127, -106, -21 } };
    const int16_t *w = weights[plane];
    return (uint8_t)(((w[0] * rgb[0] + w[1] * rgb[1] + w[2] * rgb[2] + 128) >> 8) + (plane == 0 ? 0 : 128));
}

/* Every second and every fourth byte: loops that compilers turn into vector instructions. */
static void pick2(uint8_t *restrict out, const uint8_t *restrict from, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) out[i] = from[2 * (size_t)i];
}

static void pick4(uint8_t *restrict out, const uint8_t *restrict from, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) out[i] = from[4 * (size_t)i];
}

static uint32_t chroma_width(const codec_picture *p)
{
    return (p->width + formats[p->format].across - 1u) / formats[p->format].across;
}

const uint8_t *codec_row(const codec_picture *p, unsigned plane, uint32_t row, uint8_t *scratch)
{
    uint32_t count = plane == 0 ? p->width : chroma_width(p);
    const uint8_t *at = p->plane[0] + (size_t)row * p->stride[0];
    switch (p->format) {
    case CODEC_NV12:
        if (plane == 0) return at;
        pick2(scratch, p->plane[1] + (size_t)row * p->stride[1] + (plane - 1), count);
        return scratch;
    case CODEC_YUYV:
        if (plane == 0) {
            pick2(scratch, at, count);
        } else {
            pick4(scratch, at + 2 * plane - 1, count);
        }
        return scratch;
    case CODEC_UYVY:
        if (plane == 0) {
            pick2(scratch, at + 1, count);
        } else {
            pick4(scratch, at + 2 * (plane - 1), count);
        }
        return scratch;
    case CODEC_GREY:
        if (plane == 0) return at;
        memset(scratch, 128, count);
        return scratch;
    case CODEC_RGB24:
        for (uint32_t i = 0; i < count; i++) scratch[i] = of_rgb(at + 3 * (size_t)i, plane);
        return scratch;
    default:
        return p->plane[plane] + (size_t)row * p->stride[plane];
    }
}

/* The part of a plane that is made smaller. */
typedef struct area {
    uint32_t left, top, width, height;
} area;

/* The middle of the picture in the shape that is wanted, on even samples. */
static area middle(const codec_picture *p, uint16_t width, uint16_t height)
{
    area a = { 0, 0, p->width, p->height };
    if ((uint64_t)p->width * height > (uint64_t)width * p->height) {
        a.width = (uint32_t)((uint64_t)p->height * width / height) & ~1u;
    } else {
        a.height = (uint32_t)((uint64_t)p->width * height / width) & ~1u;
    }
    if (a.width < width) a.width = width;
    if (a.height < height) a.height = height;
    a.left = (p->width - a.width) / 2 & ~1u;
    a.top = (p->height - a.height) / 2 & ~1u;
    return a;
}

/* Adds up, for each column of the result, the samples of one row that fall into it. */
static void add_row(uint32_t *sums, const uint32_t *ends, uint32_t columns, const uint8_t *samples)
{
    uint32_t at = 0;
    for (uint32_t i = 0; i < columns; i++) {
        uint32_t sum = 0;
        for (; at < ends[i]; at++) sum += samples[at];
        sums[i] += sum;
    }
}

static uint32_t end_of(uint32_t at, uint32_t of, uint32_t into)
{
    return (uint32_t)((uint64_t)(at + 1) * of / into);
}

typedef struct scratch {
    uint8_t *row[4];
    uint32_t *sums, *ends;
} scratch;

/* The two common cases, which compilers do well: half the height, and half of both. */
static void average2(uint8_t *restrict out, const uint8_t *restrict a, const uint8_t *restrict b, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) out[i] = (uint8_t)((a[i] + b[i] + 1) >> 1);
}

/* Two samples at a time, as one number: their sum does not depend on the order of its bytes. */
typedef uint16_t pair __attribute__((aligned(1), may_alias));

static void average4(uint8_t *restrict out, const uint8_t *restrict a, const uint8_t *restrict b, uint32_t count)
{
    const pair *upper = (const pair *)(const void *)a, *lower = (const pair *)(const void *)b;
    for (uint32_t i = 0; i < count; i++) {
        uint16_t x = upper[i], y = lower[i];
        out[i] = (uint8_t)(((x & 0xFF) + (x >> 8) + (y & 0xFF) + (y >> 8) + 2) >> 2);
    }
}

static void scale_plane(const codec_picture *from, unsigned plane, area a, uint8_t *out, uint32_t stride,
                        uint32_t width, uint32_t height, const scratch *s)
{
    bool same = a.width == width, half = a.width == 2 * width;
    for (uint32_t i = 0; i < width; i++) s->ends[i] = end_of(i, a.width, width);
    for (uint32_t y = 0, row = 0; y < height; y++) {
        uint32_t end = end_of(y, a.height, height), rows = end - row;
        uint8_t *to = out + (size_t)y * stride;
        if (same && rows == 1) {
            bool whole = a.left == 0 && (plane == 0 ? from->width : chroma_width(from)) == width;
            const uint8_t *samples = codec_row(from, plane, a.top + row++, whole ? to : s->row[0]);
            if (samples != to) memcpy(to, samples + a.left, width);
            continue;
        }
        if (half && rows == 4) { /* chroma of half width and full height */
            for (unsigned i = 0; i < 2; i++) {
                const uint8_t *one = codec_row(from, plane, a.top + row++, s->row[0]) + a.left;
                const uint8_t *two = codec_row(from, plane, a.top + row++, s->row[1]) + a.left;
                average4(s->row[2 + i], one, two, width);
            }
            average2(to, s->row[2], s->row[3], width);
            continue;
        }
        if ((same || half) && rows == 2) {
            const uint8_t *one = codec_row(from, plane, a.top + row++, s->row[0]) + a.left;
            const uint8_t *two = codec_row(from, plane, a.top + row++, s->row[1]) + a.left;
            if (same) {
                average2(to, one, two, width);
            } else {
                average4(to, one, two, width);
            }
            continue;
        }
        memset(s->sums, 0, width * sizeof *s->sums);
        for (; row < end; row++)
            add_row(s->sums, s->ends, width, codec_row(from, plane, a.top + row, s->row[0]) + a.left);
        for (uint32_t i = 0; i < width; i++) {
            uint32_t count = rows * (s->ends[i] - (i > 0 ? s->ends[i - 1] : 0));
            to[i] = (uint8_t)((s->sums[i] + count / 2) / count);
        }
    }
}

static bool provide(codec_canvas *c, uint16_t width, uint16_t height, size_t scratch_bytes)
{
    uint32_t stride = (width + BLOCK - 1u) / BLOCK * BLOCK, rows = (height + BLOCK - 1u) / BLOCK * BLOCK;
    size_t luma = (size_t)stride * rows, need = luma + luma / 2 + scratch_bytes;
    if (need > c->room) {
        uint8_t *grown = realloc(c->memory, need);
        if (grown == NULL) return false;
        c->memory = grown;
        c->room = need;
    }
    c->view = (codec_picture){ .format = CODEC_I420,
                               .width = width,
                               .height = height,
                               .plane = { c->memory, c->memory + luma, c->memory + luma + luma / 4 },
                               .stride = { stride, stride / 2, stride / 2 } };
    return true;
}

/* Repeats the right and the lower edge into the padding. */
static void pad(uint8_t *plane, uint32_t stride, uint32_t width, uint32_t height, uint32_t rows)
{
    for (uint32_t y = 0; y < height; y++)
        memset(plane + (size_t)y * stride + width, plane[(size_t)y * stride + width - 1], stride - width);
    for (uint32_t y = height; y < rows; y++)
        memcpy(plane + (size_t)y * stride, plane + (size_t)(height - 1) * stride, stride);
}

void codec_expand(const uint8_t *from, uint8_t *to, size_t count, unsigned plane)
{
    for (size_t i = 0; i < count; i++) {
        /* BT.601 2.5.3: 219 steps of luma above 16, 224 of chroma around 128. */
        int v = plane == 0 ? ((from[i] - 16) * 255 + 109) / 219
                           : 128 + (2 * (from[i] - 128) * 255 + 448 * 255 + 224) / 448 - 255;
        to[i] = (uint8_t)(v < 0 || (plane == 0 && from[i] < 16) ? 0 : v > 255 ? 255 : v);
    }
}

bool codec_scale(codec_canvas *canvas, const codec_picture *from, uint16_t width, uint16_t height)
{
    const format_row *f = &formats[from->format];
    size_t sums = (size_t)from->width * sizeof(uint32_t);
    if (from->width < width || from->height < height || width < 2 || height < 2) return false;
    if (!provide(canvas, width, height, 2 * sums + 4 * (size_t)from->width + sizeof(uint32_t))) return false;
    uint8_t *end = canvas->memory + canvas->room - 2 * sums - 4 * (size_t)from->width;
    end -= (uintptr_t)end % sizeof(uint32_t);
    scratch s = { .sums = (uint32_t *)(void *)end,
                  .ends = (uint32_t *)(void *)(end + sums),
                  .row = { end + 2 * sums, end + 2 * sums + from->width, end + 2 * sums + 2 * (size_t)from->width,
                           end + 2 * sums + 3 * (size_t)from->width } };
    area luma = middle(from, width, height);
    for (unsigned i = 0; i < 3; i++) {
        codec_picture *to = &canvas->view;
        unsigned across = i == 0 ? 1 : f->across, down = i == 0 ? 1 : f->down, half = i == 0 ? 1 : 2;
        area a = { luma.left / across, luma.top / down, luma.width / across, luma.height / down };
        uint32_t w = (width + half - 1u) / half, h = (height + half - 1u) / half;
        uint8_t *out = (uint8_t *)(uintptr_t)to->plane[i];
        if (a.width < w) a.width = w; /* an odd edge */
        if (a.height < h) a.height = h;
        scale_plane(from, i, a, out, to->stride[i], w, h, &s);
        for (uint32_t row = 0; from->limited && row < h; row++)
            codec_expand(out + (size_t)row * to->stride[i], out + (size_t)row * to->stride[i], w, i);
        pad(out, to->stride[i], w, h, (height + BLOCK - 1u) / BLOCK * BLOCK / half);
    }
    return true;
}

void codec_canvas_free(codec_canvas *canvas)
{
    free(canvas->memory);
    *canvas = (codec_canvas){ 0 };
}
