/* Baseline JPEG with the standard Huffman tables, straight from YCbCr: chroma as the picture has it, halved across at
 * least. RTP (RFC 2435) knows 4:2:2 and 4:2:0 and no picture without chroma, so a grey one gets two empty planes. */
#include "codec/encoder.h"

#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <jpeglib.h>

#define BLOCK 16u
#define ROWS_MOST 33u /* sixteen of luma, eight each of chroma, and one to read into */

typedef struct jpeg {
    struct jpeg_compress_struct lib;
    struct jpeg_error_mgr errors;
    struct jpeg_destination_mgr out;
    jmp_buf failed;
    uint8_t *rows; /* of one row of blocks, for planes whose rows do not lie as the library wants them */
    uint32_t stride;
} jpeg;

static void on_error(j_common_ptr lib)
{
    jpeg *self = (jpeg *)lib->client_data;
    longjmp(self->failed, 1);
}

static void on_message(j_common_ptr lib)
{
    (void)lib;
}

static void begin_output(j_compress_ptr lib)
{
    (void)lib;
}

/* The buffer is all there is: a picture that does not fit fails. */
static boolean out_of_room(j_compress_ptr lib)
{
    on_error((j_common_ptr)lib);
    return FALSE;
}

static bool create(jpeg *self)
{
    self->lib.err = jpeg_std_error(&self->errors);
    self->lib.client_data = self;
    self->errors.error_exit = on_error;
    self->errors.output_message = on_message;
    if (setjmp(self->failed) != 0) return false;
    jpeg_create_compress(&self->lib);
    return true;
}

static void *open_jpeg(void *ctx, const bmb_mode *mode, const codec_request *first)
{
    (void)ctx;
    (void)first;
    jpeg *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    if (!create(self)) {
        free(self);
        return NULL;
    }
    self->stride = (mode->width + BLOCK - 1u) / BLOCK * BLOCK;
    self->rows = malloc((size_t)self->stride * ROWS_MOST);
    if (self->rows == NULL) {
        jpeg_destroy_compress(&self->lib);
        free(self);
        return NULL;
    }
    self->out.init_destination = begin_output;
    self->out.empty_output_buffer = out_of_room;
    self->out.term_destination = begin_output;
    self->lib.dest = &self->out;
    return self;
}

/* Where a row can be read as far as whole blocks reach, it stays where it is; else it is copied, and its edge repeated.
 */
static uint8_t *row_for(const jpeg *self, const codec_picture *p, unsigned plane, uint32_t row, uint8_t *at)
{
    unsigned across = plane == 0 ? 1 : codec_across(p->format), down = plane == 0 ? 1 : codec_down(p->format);
    uint32_t width = (p->width + across - 1u) / across, rows = (p->height + down - 1u) / down;
    uint32_t whole = self->stride / across;
    const uint8_t *samples = codec_row(p, plane, row < rows ? row : rows - 1, at);
    if (p->limited) {
        codec_expand(samples, at, width, plane);
        samples = at;
    }
    if (samples != at && p->stride[plane] >= whole) return (uint8_t *)(uintptr_t)samples; /* the library only reads */
    if (samples != at) memcpy(at, samples, width);
    memset(at + width, at[width - 1], whole - width);
    return at;
}

static void write_blocks(jpeg *self, const codec_picture *p)
{
    JSAMPROW rows[3][BLOCK];
    JSAMPARRAY planes[3] = { rows[0], rows[1], rows[2] };
    unsigned down = codec_down(p->format), lines = 8 * down;
    for (uint32_t at = 0; at < p->height; at += lines) {
        uint8_t *scratch = self->rows;
        for (unsigned plane = 0; plane < 3; plane++) {
            uint32_t count = plane == 0 ? lines : 8, first = plane == 0 ? at : at / down;
            for (uint32_t i = 0; i < count; i++, scratch += self->stride / (plane == 0 ? 1 : codec_across(p->format)))
                rows[plane][i] = row_for(self, p, plane, first + i, scratch);
        }
        jpeg_write_raw_data(&self->lib, planes, lines);
    }
}

static void write_rgb(jpeg *self, const codec_picture *p)
{
    for (uint32_t row = 0; row < p->height; row++) {
        JSAMPROW at = (JSAMPROW)(uintptr_t)(p->plane[0] + (size_t)row * p->stride[0]);
        jpeg_write_scanlines(&self->lib, &at, 1);
    }
}

static size_t encode(void *ctx, const codec_picture *p, const codec_request *request, uint8_t *out, size_t room,
                     bool *key)
{
    jpeg *self = (jpeg *)ctx;
    struct jpeg_compress_struct *lib = &self->lib;
    bool rgb = p->format == CODEC_RGB24;
    if (setjmp(self->failed) != 0) {
        jpeg_abort_compress(lib);
        return 0;
    }
    self->out.next_output_byte = out;
    self->out.free_in_buffer = room;
    lib->image_width = p->width;
    lib->image_height = p->height;
    lib->input_components = 3;
    lib->in_color_space = rgb ? JCS_RGB : JCS_YCbCr;
    jpeg_set_defaults(lib);
    lib->raw_data_in = !rgb;
    lib->dct_method = JDCT_FASTEST;
    if (!rgb) {
        lib->comp_info[0].h_samp_factor = (int)codec_across(p->format);
        lib->comp_info[0].v_samp_factor = (int)codec_down(p->format);
    }
    jpeg_set_quality(lib, request->quality, TRUE);
    jpeg_start_compress(lib, TRUE);
    if (rgb) {
        write_rgb(self, p);
    } else {
        write_blocks(self, p);
    }
    jpeg_finish_compress(lib);
    *key = true;
    return room - self->out.free_in_buffer;
}

static void close_jpeg(void *ctx)
{
    jpeg *self = (jpeg *)ctx;
    jpeg_destroy_compress(&self->lib);
    free(self->rows);
    free(self);
}

const codec_encoder codec_jpeg_encoder = { BMB_CODEC_JPEG, open_jpeg, encode, close_jpeg };
