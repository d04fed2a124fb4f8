/* Raw pictures as sensors deliver them, and what is made of them before they are encoded. Private to ports/.
 *
 * A picture is a view of somebody's memory: planes with strides. Chroma samples are described by how many luma samples
 * one of them stands for, so that planar formats need no code of their own.
 */
#ifndef BMB_CODEC_PICTURE_H
#define BMB_CODEC_PICTURE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef enum codec_format {
    CODEC_I420 = 0, /* three planes, chroma of half width and half height */
    CODEC_I422,     /* … of half width */
    CODEC_I444,     /* … of the same size */
    CODEC_NV12,     /* two planes, the second has U and V in turn, half width and half height */
    CODEC_YUYV,     /* one plane: Y U Y V */
    CODEC_UYVY,     /* one plane: U Y V Y */
    CODEC_GREY,     /* luma alone */
    CODEC_RGB24,    /* one plane: R G B */
    CODEC_FORMATS
} codec_format;

typedef struct codec_picture {
    codec_format format;
    uint16_t width, height;
    const uint8_t *plane[3];
    uint32_t stride[3]; /* bytes from one row of that plane to the next */
    bool limited;       /* samples as in video (ITU-R BT.601: Y 16 to 235), not as in JPEG (JFIF: 0 to 255) */
} codec_picture;

/* Samples of a limited range become those of the full one. plane: as below. */
void codec_expand(const uint8_t *from, uint8_t *to, size_t count, unsigned plane);

/* "i420", …; NULL when out of range. */
const char *codec_format_name(codec_format format);
/* Bytes of a picture without gaps between its rows. */
size_t codec_picture_bytes(codec_format format, uint16_t width, uint16_t height);
/* The view of a picture that lies in one piece; stride 0: without gaps. The planes behind the first follow it with
 * strides that have the same ratio as their widths. */
codec_picture codec_picture_in(codec_format format, uint16_t width, uint16_t height, const uint8_t *data,
                               uint32_t stride);

/* Memory for one I420 picture, whose rows are padded to whole blocks, and grown as needed. */
typedef struct codec_canvas {
    uint8_t *memory;
    size_t room;
    codec_picture view; /* I420 */
} codec_canvas;

/* Makes an I420 picture of the full range and of width x height of any picture at least as large in both: its middle,
 * in the shape that is wanted, each sample the average of the area that it takes the place of. false: there is no
 * memory, or it is smaller.
 */
bool codec_scale(codec_canvas *canvas, const codec_picture *from, uint16_t width, uint16_t height);
void codec_canvas_free(codec_canvas *canvas);

/* One row of a plane (0: Y, 1: U, 2: V) as samples one behind the other; `scratch` has room for `width` of them and is
 * used where they do not lie so. Rows and samples are those of the plane: chroma has fewer. */
const uint8_t *codec_row(const codec_picture *p, unsigned plane, uint32_t row, uint8_t *scratch);
/* Luma samples for one of chroma, across and down. */
unsigned codec_across(codec_format format);
unsigned codec_down(codec_format format);

#endif
