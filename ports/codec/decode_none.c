/* A build without libjpeg-turbo decodes nothing. */
#include "codec/encoder.h"

codec_decoder *codec_decoder_open(void)
{
    return NULL;
}

bool codec_decode(codec_decoder *self, const uint8_t *jpeg, size_t size, uint16_t width, uint16_t height,
                  codec_picture *out)
{
    (void)self;
    (void)jpeg;
    (void)size;
    (void)width;
    (void)height;
    (void)out;
    return false;
}

void codec_decoder_close(codec_decoder *self)
{
    (void)self;
}
