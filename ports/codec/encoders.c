/* Which encoders this build has, and what can be set on them. */
#include "codec/encoder.h"

const codec_encoder *codec_encoder_for(bmb_codec codec)
{
#ifdef BMB_HAVE_JPEG
    if (codec == BMB_CODEC_JPEG) return &codec_jpeg_encoder;
#endif
#ifdef BMB_HAVE_H264
    if (codec == BMB_CODEC_H264) return &codec_h264_encoder;
#endif
    (void)codec;
    return NULL;
}

size_t codec_encoded_most(uint16_t width, uint16_t height)
{
    return (size_t)width * height * 3 / 2 + 65536;
}

bmb_range codec_encoder_range(bmb_codec codec, bmb_control control)
{
    static const bmb_range ranges[BMB_CODEC_COUNT][BMB_CONTROL_COUNT] = {
        { [BMB_CONTROL_QUALITY] = { 1, 100, 1, 75 } },
        { [BMB_CONTROL_KBPS] = { 50, 20000, 1, 2000 }, [BMB_CONTROL_KEY_MS] = { 100, 60000, 1, 2000 } },
    };
    return ranges[codec][control];
}
