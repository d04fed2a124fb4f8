/* A picture in planar YCbCr 4:2:0 and the few shapes that the scene is made of.
 *
 * Shapes are given in units of 1/1600 of the picture's width, so that one scene fits every size; y grows downwards from
 * the picture's bottom edge (negative is above it), so that the ground stays at the bottom whatever the shape.
 */
#ifndef BMB_SIM_CANVAS_H
#define BMB_SIM_CANVAS_H

#include <stddef.h>
#include <stdint.h>

#define CANVAS_UNITS 1600.0f

typedef struct canvas {
    uint16_t width, height; /* even */
    uint16_t stride;        /* of luma; chroma has half of it. Multiple of 32, padding holds the edge's colour */
    uint16_t rows;          /* allocated rows of luma, multiple of 16 */
    uint8_t *y, *u, *v;     /* one allocation, at y */
} canvas;

typedef struct colour {
    uint8_t y, u, v;
} colour;

typedef struct point {
    float x, y;
} point;

int canvas_create(canvas *c, uint16_t width, uint16_t height); /* 0, or -1 without memory */
void canvas_destroy(canvas *c);
void canvas_copy(canvas *to, const canvas *from); /* same size */
size_t canvas_bytes(const canvas *c);

/* 0xRRGGBB, BT.601 limited range. */
colour colour_of(uint32_t rgb);

void canvas_polygon(canvas *c, const point *points, size_t count, colour col);
void canvas_rect(canvas *c, float x, float y, float w, float h, colour col);
void canvas_disc(canvas *c, float x, float y, float radius, colour col);
void canvas_line(canvas *c, float x0, float y0, float x1, float y1, float thick, colour col);
/* Digits, ':' and '-', `size` units high, from the left. */
void canvas_digits(canvas *c, float x, float y, float size, const char *text, colour col);
/* Height of the picture in units. */
float canvas_height(const canvas *c);

/* Mirrors in place. */
void canvas_flip(canvas *c, int horizontal, int vertical);
/* Maps each plane through a table of 256 entries. */
void canvas_map(canvas *c, const uint8_t *y, const uint8_t *u, const uint8_t *v);
/* Raises (per cent above 0) or softens (below) the difference of luma to its neighbours. */
void canvas_sharpen(canvas *c, int per_cent);
/* Repeats the right and bottom edges into the padding, where encoders read whole blocks. */
void canvas_pad(canvas *c);

#endif
