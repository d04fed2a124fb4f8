/* One picture of an H.264 stream as a JPEG image. */
#include "bambino/picture.h"
#include "codec/encoder.h"

#if defined(BMB_HAVE_H264) && defined(BMB_HAVE_JPEG)

#include <string.h>

#include <wels/codec_api.h>

static bmb_err encode(const SBufferInfo *info, uint8_t *const *planes, int quality, void *out, size_t room,
                      size_t *written)
{
    const SSysMEMBuffer *b = &info->UsrData.sSystemBuffer;
    const codec_picture p = { .format = CODEC_I420,
                              .width = (uint16_t)b->iWidth,
                              .height = (uint16_t)b->iHeight,
                              .plane = { planes[0], planes[1], planes[2] },
                              .stride = { (uint32_t)b->iStride[0], (uint32_t)b->iStride[1], (uint32_t)b->iStride[1] } };
    const bmb_mode mode = { BMB_CODEC_JPEG, p.width, p.height, 1000 };
    const codec_request request = { .quality = quality };
    bool key;
    void *jpeg = codec_jpeg_encoder.open(NULL, &mode, &request);
    if (jpeg == NULL) return BMB_NO_MEMORY;
    *written = codec_jpeg_encoder.encode(jpeg, &p, &request, out, room, &key);
    codec_jpeg_encoder.close(jpeg);
    return *written > 0 ? BMB_OK : BMB_NO_ROOM;
}

bmb_err bmb_picture_of_h264(const void *unit, size_t size, int quality, void *out, size_t room, size_t *written)
{
    ISVCDecoder *lib = NULL;
    SDecodingParam param;
    SBufferInfo info;
    uint8_t *planes[3] = { NULL, NULL, NULL };
    int quiet = WELS_LOG_QUIET;
    bmb_err err = BMB_BAD_DATA;
    if (quality < 1 || quality > 100 || size > INT32_MAX) return BMB_BAD_ARG;
    if (WelsCreateDecoder(&lib) != 0) return BMB_NO_MEMORY;
    memset(&param, 0, sizeof param);
    memset(&info, 0, sizeof info);
    param.sVideoProperty.eVideoBsType = VIDEO_BITSTREAM_AVC;
    (*lib)->SetOption(lib, DECODER_OPTION_TRACE_LEVEL, &quiet);
    if ((*lib)->Initialize(lib, &param) == 0) {
        if ((*lib)->DecodeFrameNoDelay(lib, unit, (int)size, planes, &info) == 0 && info.iBufferStatus == 1)
            err = encode(&info, planes, quality, out, room, written);
        (*lib)->Uninitialize(lib);
    }
    WelsDestroyDecoder(lib);
    return err;
}

#else

bmb_err bmb_picture_of_h264(const void *unit, size_t size, int quality, void *out, size_t room, size_t *written)
{
    (void)unit;
    (void)size;
    (void)quality;
    (void)out;
    (void)room;
    (void)written;
    return BMB_UNSUPPORTED;
}

#endif
