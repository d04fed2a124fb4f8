/* Baseline JPEG 4:2:0 with the standard Huffman tables, as a board's hardware encoder writes it. */
#include "sim/source.h"

#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>

#include <jpeglib.h>

typedef struct jpeg {
    struct jpeg_compress_struct lib;
    struct jpeg_error_mgr errors;
    struct jpeg_destination_mgr out;
    jmp_buf failed;
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

static void *open_jpeg(const bmb_mode *mode, const int32_t *controls)
{
    (void)mode;
    (void)controls;
    jpeg *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    if (!create(self)) {
        free(self);
        return NULL;
    }
    self->out.init_destination = begin_output;
    self->out.empty_output_buffer = out_of_room;
    self->out.term_destination = begin_output;
    self->lib.dest = &self->out;
    return self;
}

static void write_rows(struct jpeg_compress_struct *lib, const canvas *c)
{
    JSAMPROW y[16], u[8], v[8];
    JSAMPARRAY planes[3] = { y, u, v };
    for (size_t row = 0; row < c->height; row += 16) {
        for (size_t i = 0; i < 16; i++) y[i] = c->y + (row + i) * c->stride;
        for (size_t i = 0; i < 8; i++) {
            u[i] = c->u + (row / 2 + i) * (c->stride / 2u);
            v[i] = c->v + (row / 2 + i) * (c->stride / 2u);
        }
        jpeg_write_raw_data(lib, planes, 16);
    }
}

static size_t encode(void *ctx, const canvas *c, const sim_request *request, uint8_t *out, size_t room, bool *key)
{
    jpeg *self = (jpeg *)ctx;
    struct jpeg_compress_struct *lib = &self->lib;
    if (setjmp(self->failed) != 0) {
        jpeg_abort_compress(lib);
        return 0;
    }
    self->out.next_output_byte = out;
    self->out.free_in_buffer = room;
    lib->image_width = c->width;
    lib->image_height = c->height;
    lib->input_components = 3;
    lib->in_color_space = JCS_YCbCr;
    jpeg_set_defaults(lib);
    lib->raw_data_in = TRUE;
    lib->dct_method = JDCT_FASTEST;
    jpeg_set_quality(lib, request->controls[BMB_CONTROL_QUALITY], TRUE);
    jpeg_start_compress(lib, TRUE);
    write_rows(lib, c);
    jpeg_finish_compress(lib);
    *key = true;
    return room - self->out.free_in_buffer;
}

static void close_jpeg(void *ctx)
{
    jpeg *self = (jpeg *)ctx;
    jpeg_destroy_compress(&self->lib);
    free(self);
}

const sim_encoder sim_jpeg_encoder = { .open = open_jpeg, .encode = encode, .close = close_jpeg };
