#include "sim/canvas.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

int canvas_create(canvas *c, uint16_t width, uint16_t height)
{
    c->width = width;
    c->height = height;
    c->stride = (uint16_t)((width + 31) / 32 * 32);
    c->rows = (uint16_t)((height + 15) / 16 * 16);
    size_t luma = (size_t)c->stride * c->rows;
    c->y = malloc(luma * 3 / 2);
    if (c->y == NULL) return -1;
    c->u = c->y + luma;
    c->v = c->u + luma / 4;
    memset(c->y, 16, luma);
    memset(c->u, 128, luma / 2);
    return 0;
}

void canvas_destroy(canvas *c)
{
    free(c->y);
    c->y = NULL;
}

size_t canvas_bytes(const canvas *c)
{
    return (size_t)c->stride * c->rows * 3 / 2;
}

void canvas_copy(canvas *to, const canvas *from)
{
    memcpy(to->y, from->y, canvas_bytes(from));
}

colour colour_of(uint32_t rgb)
{
    float r = (float)(rgb >> 16 & 255), g = (float)(rgb >> 8 & 255), b = (float)(rgb & 255);
    return (colour){ .y = (uint8_t)(16.5f + 0.257f * r + 0.504f * g + 0.098f * b),
                     .u = (uint8_t)(128.5f - 0.148f * r - 0.291f * g + 0.439f * b),
                     .v = (uint8_t)(128.5f + 0.439f * r - 0.368f * g - 0.071f * b) };
}

float canvas_height(const canvas *c)
{
    return CANVAS_UNITS * (float)c->height / (float)c->width;
}

static void fill_span(canvas *c, int row, int from, int to, colour col)
{
    if (from < 0) from = 0;
    if (to > c->width) to = c->width;
    if (from >= to) return;
    memset(c->y + (size_t)row * c->stride + from, col.y, (size_t)(to - from));
    if (row % 2 != 0) return;
    size_t at = (size_t)(row / 2) * (c->stride / 2u) + (size_t)(from / 2);
    size_t n = (size_t)((to + 1) / 2 - from / 2);
    memset(c->u + at, col.u, n);
    memset(c->v + at, col.v, n);
}

#define CROSSINGS 16

/* Even-odd rule, sampled at pixel centres. */
void canvas_polygon(canvas *c, const point *p, size_t count, colour col)
{
    float scale = (float)c->width / CANVAS_UNITS, least = 1e9f, most = -1e9f;
    for (size_t i = 0; i < count; i++) {
        float y = p[i].y * scale + (float)c->height;
        least = fminf(least, y);
        most = fmaxf(most, y);
    }
    int first = (int)fmaxf(0, floorf(least)), last = (int)fminf((float)(c->height - 1), ceilf(most));
    for (int row = first; row <= last; row++) {
        float at[CROSSINGS], y = (float)row + 0.5f;
        int n = 0;
        for (size_t i = 0; i < count && n < CROSSINGS; i++) {
            point a = p[i], b = p[(i + 1) % count];
            float ay = a.y * scale + (float)c->height, by = b.y * scale + (float)c->height;
            if ((ay <= y) == (by <= y)) continue;
            at[n++] = (a.x + (b.x - a.x) * (y - ay) / (by - ay)) * scale;
        }
        for (int i = 1; i < n; i++) /* few crossings: insertion sort */
            for (int k = i; k > 0 && at[k] < at[k - 1]; k--) {
                float swap = at[k];
                at[k] = at[k - 1];
                at[k - 1] = swap;
            }
        for (int i = 0; i + 1 < n; i += 2) fill_span(c, row, (int)lroundf(at[i]), (int)lroundf(at[i + 1]), col);
    }
}

void canvas_rect(canvas *c, float x, float y, float w, float h, colour col)
{
    const point p[4] = { { x, y }, { x + w, y }, { x + w, y + h }, { x, y + h } };
    canvas_polygon(c, p, 4, col);
}

#define DISC_CORNERS 20

void canvas_disc(canvas *c, float x, float y, float radius, colour col)
{
    point p[DISC_CORNERS];
    for (int i = 0; i < DISC_CORNERS; i++) {
        float angle = (float)i * 6.2831853f / DISC_CORNERS;
        p[i] = (point){ x + radius * cosf(angle), y + radius * sinf(angle) };
    }
    canvas_polygon(c, p, DISC_CORNERS, col);
}

void canvas_line(canvas *c, float x0, float y0, float x1, float y1, float thick, colour col)
{
    float dx = x1 - x0, dy = y1 - y0, length = sqrtf(dx * dx + dy * dy);
    if (length < 0.001f) return;
    float nx = -dy / length * thick / 2, ny = dx / length * thick / 2;
    const point p[4] = { { x0 + nx, y0 + ny }, { x1 + nx, y1 + ny }, { x1 - nx, y1 - ny }, { x0 - nx, y0 - ny } };
    canvas_polygon(c, p, 4, col);
}

/* Seven bars, as on a split-flap clock's modern cousin: bit 0 top, then clockwise, bit 6 the middle. */
void canvas_digits(canvas *c, float x, float y, float size, const char *text, colour col)
{
    static const uint8_t bars[10] = { 0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7D, 0x07, 0x7F, 0x6F };
    float w = size * 0.5f, t = size * 0.14f, half = size / 2;
    for (; *text != '\0'; text++, x += w + t * 1.6f) {
        if (*text == ':') {
            canvas_rect(c, x, y + size * 0.25f, t, t, col);
            canvas_rect(c, x, y + size * 0.65f, t, t, col);
            x -= w - t;
            continue;
        }
        uint8_t b = *text >= '0' && *text <= '9' ? bars[*text - '0'] : 0x40;
        if (b & 1) canvas_rect(c, x, y, w, t, col);
        if (b & 2) canvas_rect(c, x + w - t, y, t, half, col);
        if (b & 4) canvas_rect(c, x + w - t, y + half, t, half, col);
        if (b & 8) canvas_rect(c, x, y + size - t, w, t, col);
        if (b & 16) canvas_rect(c, x, y + half, t, half, col);
        if (b & 32) canvas_rect(c, x, y, t, half, col);
        if (b & 64) canvas_rect(c, x, y + half - t / 2, w, t, col);
    }
}

static void flip_plane(uint8_t *plane, size_t stride, size_t width, size_t height, int horizontal, int vertical)
{
    for (size_t row = 0; vertical && row < height / 2; row++) {
        uint8_t *a = plane + row * stride, *b = plane + (height - 1 - row) * stride;
        for (size_t i = 0; i < width; i++) {
            uint8_t swap = a[i];
            a[i] = b[i];
            b[i] = swap;
        }
    }
    for (size_t row = 0; horizontal && row < height; row++) {
        uint8_t *a = plane + row * stride;
        for (size_t i = 0, k = width - 1; i < k; i++, k--) {
            uint8_t swap = a[i];
            a[i] = a[k];
            a[k] = swap;
        }
    }
}

void canvas_flip(canvas *c, int horizontal, int vertical)
{
    flip_plane(c->y, c->stride, c->width, c->height, horizontal, vertical);
    flip_plane(c->u, c->stride / 2u, c->width / 2u, c->height / 2u, horizontal, vertical);
    flip_plane(c->v, c->stride / 2u, c->width / 2u, c->height / 2u, horizontal, vertical);
}

void canvas_map(canvas *c, const uint8_t *y, const uint8_t *u, const uint8_t *v)
{
    size_t n = (size_t)c->stride * c->rows;
    for (size_t i = 0; i < n; i++) c->y[i] = y[c->y[i]];
    for (size_t i = 0; i < n / 4; i++) c->u[i] = u[c->u[i]];
    for (size_t i = 0; i < n / 4; i++) c->v[i] = v[c->v[i]];
}

void canvas_sharpen(canvas *c, int per_cent)
{
    for (size_t row = 0; row < c->height; row++) {
        uint8_t *y = c->y + row * c->stride;
        int before = y[0];
        for (size_t i = 1; i + 1 < c->width; i++) {
            int here = y[i], around = (before + y[i + 1]) / 2, v = here + (here - around) * per_cent / 100;
            before = here;
            y[i] = (uint8_t)(v < 0 ? 0 : v > 255 ? 255 : v);
        }
    }
}

static void pad_plane(uint8_t *plane, size_t stride, size_t rows, size_t width, size_t height)
{
    for (size_t row = 0; row < height; row++)
        memset(plane + row * stride + width, plane[row * stride + width - 1], stride - width);
    for (size_t row = height; row < rows; row++) memcpy(plane + row * stride, plane + (height - 1) * stride, stride);
}

void canvas_pad(canvas *c)
{
    pad_plane(c->y, c->stride, c->rows, c->width, c->height);
    pad_plane(c->u, c->stride / 2u, c->rows / 2u, c->width / 2u, c->height / 2u);
    pad_plane(c->v, c->stride / 2u, c->rows / 2u, c->width / 2u, c->height / 2u);
}
