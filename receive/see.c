#include "receive/see.h"

#include <stdlib.h>
#include <string.h>

#include "codec/encoder.h"
#include "wire/jpeg.h"
#ifdef BMB_HAVE_H264
#include <wels/codec_api.h>
#endif

#define PROBES 4096u   /* luma samples that are compared */
#define BLACK_MOST 40u /* of luma samples: limited range begins at 16, and sensors are never quite dark */

struct see {
    codec_decoder *jpeg;
#ifdef BMB_HAVE_H264
    ISVCDecoder *h264;
#endif
    uint8_t before[PROBES];
    size_t before_count;
};

see *see_open(void)
{
    see *s = calloc(1, sizeof *s);
    if (s == NULL) return NULL;
    s->jpeg = codec_decoder_open();
#ifdef BMB_HAVE_H264
    int quiet = WELS_LOG_QUIET;
    SDecodingParam param = { .eEcActiveIdc = ERROR_CON_DISABLE,
                             .sVideoProperty = { .eVideoBsType = VIDEO_BITSTREAM_AVC } };
    if (WelsCreateDecoder(&s->h264) == 0 && s->h264 != NULL) {
        (*s->h264)->SetOption(s->h264, DECODER_OPTION_TRACE_LEVEL, &quiet);
        if ((*s->h264)->Initialize(s->h264, &param) != 0) {
            WelsDestroyDecoder(s->h264);
            s->h264 = NULL;
        }
    }
#endif
    return s;
}

bool see_can(const see *s, bmb_codec codec)
{
    if (codec == BMB_CODEC_JPEG) return s->jpeg != NULL;
#ifdef BMB_HAVE_H264
    return s->h264 != NULL;
#else
    return false;
#endif
}

void see_close(see *s)
{
    if (s == NULL) return;
    if (s->jpeg != NULL) codec_decoder_close(s->jpeg);
#ifdef BMB_HAVE_H264
    if (s->h264 != NULL) {
        (*s->h264)->Uninitialize(s->h264);
        WelsDestroyDecoder(s->h264);
    }
#endif
    free(s);
}

static void look(see *s, const uint8_t *luma, size_t stride, uint16_t width, uint16_t height, see_facts *out)
{
    uint8_t now[PROBES];
    size_t count = 0, across = width < 64 ? width : 64, down = height < 64 ? height : 64;
    unsigned most = 0;
    uint64_t sum = 0;
    out->decoded = out->shown = true;
    out->has_strip = bmb_strip_read(luma, stride, width, height, &out->strip) == BMB_OK;
    for (size_t y = 0; y < down; y++)
        for (size_t x = 0; x < across; x++) {
            uint8_t v = luma[y * height / down * stride + x * width / across];
            now[count++] = v;
            sum += v;
            if (v > most) most = v;
        }
    out->brightness = (uint8_t)(sum / (count > 0 ? count : 1));
    out->black = most < BLACK_MOST;
    out->same = count == s->before_count && memcmp(now, s->before, count) == 0;
    memcpy(s->before, now, count);
    s->before_count = count;
}

static void see_jpeg(see *s, const uint8_t *data, size_t size, see_facts *out)
{
    bmb_jpeg j;
    codec_picture p;
    if (bmb_jpeg_parse(data, size, &j) != BMB_OK || !codec_decode(s->jpeg, data, size, j.width, j.height, &p)) return;
    look(s, p.plane[0], p.stride[0], p.width, p.height, out);
}

#ifdef BMB_HAVE_H264
static void see_h264(see *s, const uint8_t *data, size_t size, see_facts *out)
{
    uint8_t *plane[3] = { NULL, NULL, NULL };
    SBufferInfo info;
    memset(&info, 0, sizeof info);
    out->decoded = (*s->h264)->DecodeFrameNoDelay(s->h264, data, (int)size, plane, &info) == dsErrorFree;
    if (!out->decoded || info.iBufferStatus != 1) return;
    const SSysMEMBuffer *b = &info.UsrData.sSystemBuffer;
    if (b->iWidth <= 0 || b->iWidth > UINT16_MAX || b->iHeight <= 0 || b->iHeight > UINT16_MAX) return;
    look(s, plane[0], (size_t)b->iStride[0], (uint16_t)b->iWidth, (uint16_t)b->iHeight, out);
}
#endif

void see_picture(see *s, bmb_codec codec, const uint8_t *data, size_t size, see_facts *out)
{
    memset(out, 0, sizeof *out);
    if (!see_can(s, codec)) return;
    if (codec == BMB_CODEC_JPEG) see_jpeg(s, data, size, out);
#ifdef BMB_HAVE_H264
    if (codec == BMB_CODEC_H264) see_h264(s, data, size, out);
#endif
}
