#include "serve/formats.h"

#include "wire/framed.h"
#include "wire/rtp.h"

const bmb_format bmb_formats[] = {
    { ".mjpeg", "multipart/x-mixed-replace; boundary=" BMB_MULTIPART_BOUNDARY, "--" BMB_MULTIPART_BOUNDARY "\r\n",
      BMB_CODEC_JPEG, false, &bmb_framer_multipart },
    { ".jpg", "image/jpeg", "", BMB_CODEC_JPEG, true, &bmb_framer_still },
    { ".ts", "video/mp2t", "", BMB_CODEC_H264, false, &bmb_framer_ts },
};
const size_t bmb_format_count = sizeof bmb_formats / sizeof bmb_formats[0];

const bmb_format *bmb_format_still(void)
{
    return &bmb_formats[1];
}

typedef struct stream_row {
    bmb_stream_format format;
    bmb_codec codec;
    bool tcp, udp;
    const bmb_framer *framer;
} stream_row;

static const stream_row streams[] = {
    { BMB_FORMAT_RAW, BMB_CODEC_H264, true, false, &bmb_framer_raw },
    { BMB_FORMAT_RAW, BMB_CODEC_JPEG, true, false, &bmb_framer_raw },
    { BMB_FORMAT_TS, BMB_CODEC_H264, true, true, &bmb_framer_ts },
    { BMB_FORMAT_FRAMED, BMB_CODEC_H264, true, false, &bmb_framer_framed },
    { BMB_FORMAT_FRAMED, BMB_CODEC_JPEG, true, false, &bmb_framer_framed },
    { BMB_FORMAT_RTP, BMB_CODEC_H264, false, true, &bmb_framer_rtp_h264 },
    { BMB_FORMAT_RTP, BMB_CODEC_JPEG, false, true, &bmb_framer_rtp_jpeg },
};

const bmb_framer *bmb_stream_framer(bmb_stream_format format, bmb_codec codec, bool tcp)
{
    for (size_t i = 0; i < sizeof streams / sizeof streams[0]; i++) {
        const stream_row *s = &streams[i];
        if (s->format == format && s->codec == codec && (tcp ? s->tcp : s->udp)) return s->framer;
    }
    return NULL;
}
