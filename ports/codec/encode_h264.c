/* H.264 baseline with openh264, set up as a board's hardware encoder behaves: constant bit rate, key frames at an
 * interval and on demand, parameter sets before each, no frame held back. */
#include <stdlib.h>
#include <string.h>

#include <wels/codec_api.h>

#include "codec/encoder.h"
#include "wire/h264.h"

typedef struct h264 {
    ISVCEncoder *lib;
    codec_canvas canvas; /* the library takes one layout only */
    uint32_t mfps;
    uint32_t since_key; /* pictures */
    int32_t kbps;
} h264;

static void close_h264(void *ctx)
{
    h264 *self = (h264 *)ctx;
    if (self->lib != NULL) {
        (*self->lib)->Uninitialize(self->lib);
        WelsDestroySVCEncoder(self->lib);
    }
    codec_canvas_free(&self->canvas);
    free(self);
}

static bool start(h264 *self, const bmb_mode *mode, int32_t kbps)
{
    SEncParamExt p;
    int quiet = WELS_LOG_QUIET, format = videoFormatI420;
    if (WelsCreateSVCEncoder(&self->lib) != 0) return false;
    (*self->lib)->SetOption(self->lib, ENCODER_OPTION_TRACE_LEVEL, &quiet);
    (*self->lib)->GetDefaultParams(self->lib, &p);
    p.iUsageType = CAMERA_VIDEO_REAL_TIME;
    p.iPicWidth = mode->width;
    p.iPicHeight = mode->height;
    p.fMaxFrameRate = (float)mode->mfps / 1000.0f;
    p.iTargetBitrate = p.iMaxBitrate = kbps * 1000;
    p.iRCMode = RC_BITRATE_MODE;
    p.bEnableFrameSkip = false;
    p.uiIntraPeriod = 0; /* key frames are asked for, one by one */
    p.eSpsPpsIdStrategy = CONSTANT_ID;
    p.iMultipleThreadIdc = 1;
    p.iComplexityMode = LOW_COMPLEXITY;
    p.bEnableDenoise = p.bEnableBackgroundDetection = p.bEnableAdaptiveQuant = p.bEnableSceneChangeDetect = false;
    p.iTemporalLayerNum = p.iSpatialLayerNum = 1;
    p.sSpatialLayers[0].iVideoWidth = mode->width;
    p.sSpatialLayers[0].iVideoHeight = mode->height;
    p.sSpatialLayers[0].fFrameRate = p.fMaxFrameRate;
    p.sSpatialLayers[0].iSpatialBitrate = p.sSpatialLayers[0].iMaxSpatialBitrate = kbps * 1000;
    p.sSpatialLayers[0].uiProfileIdc = PRO_BASELINE;
    /* The same samples as in a JPEG image, and said so (H.264 E.2.1): all of the range, JFIF's matrix, and sRGB. */
    p.sSpatialLayers[0].bVideoSignalTypePresent = p.sSpatialLayers[0].bFullRange = true;
    p.sSpatialLayers[0].bColorDescriptionPresent = true;
    p.sSpatialLayers[0].uiVideoFormat = VF_UNDEF;
    p.sSpatialLayers[0].uiColorPrimaries = CP_BT709;
    p.sSpatialLayers[0].uiTransferCharacteristics = TRC_IEC61966_2_1;
    p.sSpatialLayers[0].uiColorMatrix = CM_SMPTE170M;
    p.sSpatialLayers[0].sSliceArgument.uiSliceMode = SM_SINGLE_SLICE;
    if ((*self->lib)->InitializeExt(self->lib, &p) != 0) return false;
    return (*self->lib)->SetOption(self->lib, ENCODER_OPTION_DATAFORMAT, &format) == 0;
}

static void *open_h264(void *ctx, const bmb_mode *mode, const codec_request *first)
{
    (void)ctx;
    h264 *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    self->mfps = mode->mfps;
    self->kbps = first->kbps;
    if (start(self, mode, self->kbps)) return self;
    close_h264(self);
    return NULL;
}

static void follow_bit_rate(h264 *self, int32_t kbps)
{
    if (kbps == self->kbps) return;
    SBitrateInfo info = { .iLayer = SPATIAL_LAYER_ALL, .iBitrate = kbps * 1000 };
    /* The bound first when it rises, last when it falls: the rate may never be above it. */
    const ENCODER_OPTION up[] = { ENCODER_OPTION_MAX_BITRATE, ENCODER_OPTION_BITRATE };
    for (int i = 0; i < 2; i++) (*self->lib)->SetOption(self->lib, up[kbps > self->kbps ? i : 1 - i], &info);
    self->kbps = kbps;
}

/* Copies a unit with its start code; a sequence parameter set is made to tell the frame rate. Returns its size; 0:
 * there is no room. */
static size_t put_unit(const h264 *self, const uint8_t *unit, size_t size, uint8_t *out, size_t room)
{
    size_t code = 4; /* what this library writes */
    if (size > code && bmb_nal_type_of(unit[code]) == BMB_NAL_SPS && room > code) {
        size_t n = codec_sps_with_rate(unit + code, size - code, self->mfps, out + code, room - code);
        if (n > 0) memcpy(out, unit, code);
        if (n > 0) return code + n;
    }
    if (size > room) return 0;
    memcpy(out, unit, size);
    return size;
}

static size_t encode(void *ctx, const codec_picture *p, const codec_request *request, uint8_t *out, size_t room,
                     bool *key)
{
    h264 *self = (h264 *)ctx;
    if (p->format != CODEC_I420 || p->limited) {
        if (!codec_scale(&self->canvas, p, p->width, p->height)) return 0;
        p = &self->canvas.view;
    }
    uint64_t age_ms = (uint64_t)self->since_key * 1000000u / self->mfps;
    follow_bit_rate(self, request->kbps);
    if (request->key || age_ms >= (uint64_t)request->key_ms) (*self->lib)->ForceIntraFrame(self->lib, true);

    SSourcePicture picture = { .iColorFormat = videoFormatI420, .iPicWidth = p->width, .iPicHeight = p->height };
    SFrameBSInfo info;
    size_t size = 0;
    for (unsigned i = 0; i < 3; i++) {
        picture.iStride[i] = (int)p->stride[i];
        picture.pData[i] = (unsigned char *)(uintptr_t)p->plane[i]; /* the library only reads */
    }
    picture.uiTimeStamp = (long long)(request->capture_us / 1000);
    memset(&info, 0, sizeof info);
    if ((*self->lib)->EncodeFrame(self->lib, &picture, &info) != 0) return 0;
    for (int l = 0; l < info.iLayerNum; l++) {
        const SLayerBSInfo *layer = &info.sLayerInfo[l];
        const uint8_t *unit = layer->pBsBuf;
        for (int n = 0; n < layer->iNalCount; n++) {
            size_t put = put_unit(self, unit, (size_t)layer->pNalLengthInByte[n], out + size, room - size);
            if (put == 0) return 0;
            unit += layer->pNalLengthInByte[n];
            size += put;
        }
    }
    *key = info.eFrameType == videoFrameTypeIDR;
    self->since_key = *key ? 1 : self->since_key + 1;
    return size;
}

const codec_encoder codec_h264_encoder = { BMB_CODEC_H264, open_h264, encode, close_h264 };
