/* JPEG images to pictures, without a detour over RGB. */
#include <stdlib.h>
#include <string.h>

#include <turbojpeg.h>

#include "codec/encoder.h"
#include "wire/jpeg.h"

#define PIXELS_MOST (64 << 20) /* a header may say anything */

struct codec_decoder {
    tjhandle lib;
    uint8_t *memory;
    size_t room;
};

codec_decoder *codec_decoder_open(void)
{
    codec_decoder *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    self->lib = tjInitDecompress();
    if (self->lib != NULL) return self;
    free(self);
    return NULL;
}

/* The least of the library's scales that leaves the picture as large as it is wanted. */
static void choose_scale(int *width, int *height, uint16_t least_width, uint16_t least_height)
{
    int count = 0, w = *width, h = *height;
    const tjscalingfactor *factors = tjGetScalingFactors(&count);
    for (int i = 0; i < count; i++) {
        int sw = TJSCALED(*width, factors[i]), sh = TJSCALED(*height, factors[i]);
        if (sw < least_width || sh < least_height || sw > w || sh > h) continue;
        w = sw;
        h = sh;
    }
    *width = w;
    *height = h;
}

static bool provide(codec_decoder *self, size_t need)
{
    if (need <= self->room) return true;
    uint8_t *grown = realloc(self->memory, need);
    if (grown == NULL) return false;
    self->memory = grown;
    self->room = need;
    return true;
}

bool codec_decode(codec_decoder *self, const uint8_t *jpeg, size_t size, uint16_t width, uint16_t height,
                  codec_picture *out)
{
    static const struct {
        int sampling;
        codec_format format;
    } known[] = {
        { TJSAMP_420, CODEC_I420 }, { TJSAMP_422, CODEC_I422 }, { TJSAMP_444, CODEC_I444 }, { TJSAMP_GRAY, CODEC_GREY }
    };
    int w, h, sampling, colours;
    bmb_jpeg whole;
    /* The library fills what is cut off with grey, and calls that a warning, as it does harmless things. */
    if (bmb_jpeg_parse(jpeg, size, &whole) != BMB_OK) return false;
    if (tjDecompressHeader3(self->lib, jpeg, (unsigned long)size, &w, &h, &sampling, &colours) != 0) return false;
    if (w > UINT16_MAX || h > UINT16_MAX || (int64_t)w * h > PIXELS_MOST) return false;
    choose_scale(&w, &h, width, height);
    for (size_t i = 0; i < sizeof known / sizeof known[0]; i++) {
        uint8_t *planes[3] = { NULL, NULL, NULL };
        int strides[3] = { 0, 0, 0 };
        size_t at[4] = { 0 };
        if (known[i].sampling != sampling) continue;
        unsigned count = sampling == TJSAMP_GRAY ? 1 : 3;
        for (unsigned k = 0; k < count; k++) {
            strides[k] = tjPlaneWidth((int)k, w, sampling);
            at[k + 1] = at[k] + tjPlaneSizeYUV((int)k, w, strides[k], h, sampling);
        }
        if (!provide(self, at[count])) return false;
        *out = (codec_picture){ .format = known[i].format, .width = (uint16_t)w, .height = (uint16_t)h };
        for (unsigned k = 0; k < count; k++) {
            out->plane[k] = planes[k] = self->memory + at[k];
            out->stride[k] = (uint32_t)strides[k];
        }
        int failed = tjDecompressToYUVPlanes(self->lib, jpeg, (unsigned long)size, planes, w, strides, h,
                                             TJFLAG_FASTDCT | TJFLAG_NOREALLOC);
        /* A warning leaves a picture that is whole but for a spot. */
        return failed == 0 || tjGetErrorCode(self->lib) == TJERR_WARNING;
    }
    return false;
}

void codec_decoder_close(codec_decoder *self)
{
    if (self == NULL) return;
    (void)tjDestroy(self->lib);
    free(self->memory);
    free(self);
}
