/* Which encoders this build has. */
#include "sim/source.h"

const sim_encoder *sim_encoder_for(bmb_codec codec)
{
#ifdef BMB_HAVE_JPEG
    if (codec == BMB_CODEC_JPEG) return &sim_jpeg_encoder;
#endif
#ifdef BMB_HAVE_H264
    if (codec == BMB_CODEC_H264) return &sim_h264_encoder;
#endif
    (void)codec;
    return NULL;
}
