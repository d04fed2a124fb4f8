#include "serve/formats.h"

#include "wire/framed.h"
#include "wire/rtp.h"

#define JPEG (1u << BMB_CODEC_JPEG)
#define H264 (BMB_WITH_H264 ? 1u << BMB_CODEC_H264 : 0)

/* What is left out has no row; stills come with MJPEG. */
static const bmb_format rows[] = {
#if BMB_WITH_HTTP
    { .info = { .name = "mjpeg",
                .suffix = ".mjpeg",
                .media_type = "multipart/x-mixed-replace; boundary=" BMB_MULTIPART_BOUNDARY,
                .codecs = JPEG },
      .id = BMB_FORMAT_COUNT,
      .preamble = "--" BMB_MULTIPART_BOUNDARY "\r\n",
      .framer = { [BMB_CODEC_JPEG] = &bmb_framer_multipart } },
    { .info = { .name = "jpg", .suffix = ".jpg", .media_type = "image/jpeg", .picture = true, .codecs = JPEG },
      .id = BMB_FORMAT_COUNT,
      .preamble = "",
      .framer = { [BMB_CODEC_JPEG] = &bmb_framer_still } },
#endif
#if BMB_WITH_TS
    { .info = { .name = "ts", .suffix = ".ts", .media_type = "video/mp2t", .tcp = true, .udp = true, .codecs = H264 },
      .id = BMB_FORMAT_TS,
      .preamble = "",
      .framer = { [BMB_CODEC_H264] = &bmb_framer_ts } },
#endif
#if BMB_WITH_PLAIN || BMB_WITH_PUSH
    { .info = { .name = "raw", .tcp = true, .codecs = JPEG | H264 },
      .id = BMB_FORMAT_RAW,
      .framer = { &bmb_framer_raw, &bmb_framer_raw } },
#endif
#if BMB_WITH_FRAMED
    { .info = { .name = "framed", .tcp = true, .codecs = JPEG | H264 },
      .id = BMB_FORMAT_FRAMED,
      .framer = { &bmb_framer_framed, &bmb_framer_framed } },
#endif
#if BMB_WITH_RTP
    { .info = { .name = "rtp", .udp = true, .codecs = JPEG | H264 },
      .id = BMB_FORMAT_RTP,
      .framer = { [BMB_CODEC_JPEG] = &bmb_framer_rtp_jpeg,
                  [BMB_CODEC_H264] = BMB_WITH_H264 ? &bmb_framer_rtp_h264 : NULL } },
#endif
};

const bmb_format *bmb_format_row(size_t index)
{
    return index < sizeof rows / sizeof rows[0] ? &rows[index] : NULL;
}

const bmb_format_info *bmb_format_at(size_t index)
{
    const bmb_format *row = bmb_format_row(index);
    return row != NULL ? &row->info : NULL;
}

bool bmb_format_over_http(const bmb_format *format, bmb_codec codec)
{
    return format->info.suffix != NULL && (format->info.codecs >> codec & 1) != 0;
}

const bmb_format *bmb_format_still(void)
{
    return &rows[1];
}

static const bmb_format *row_of(bmb_stream_format id)
{
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (rows[i].id == id && id != BMB_FORMAT_COUNT) return &rows[i];
    return NULL;
}

const char *bmb_stream_format_name(bmb_stream_format format)
{
    const bmb_format *row = row_of(format);
    return row != NULL ? row->info.name : NULL;
}

const bmb_framer *bmb_stream_framer(bmb_stream_format format, bmb_codec codec, bool tcp)
{
    const bmb_format *row = row_of(format);
    return row != NULL && (tcp ? row->info.tcp : row->info.udp) ? row->framer[codec] : NULL;
}
