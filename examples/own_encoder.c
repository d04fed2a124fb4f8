/* RTSP with H.264 from an encoder of one's own: what its callback gives out is handed in.
 *
 *     example_own_encoder [PORT [SECONDS]]        port 8554, until stopped
 */
#define _DEFAULT_SOURCE
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#include <wels/codec_api.h>
#include "bambino/bambino.h"
#include "bambino/linux.h"
#define WIDTH 320
#define HEIGHT 240
#define FPS 15
static atomic_bool over;
/* The callback: a whole access unit, as Annex B has it. */
static void encoded(bmb_feeder *feeder, const SFrameBSInfo *unit)
{
    if (unit->eFrameType != videoFrameTypeSkip)
        (void)bmb_feeder_put(feeder, unit->sLayerInfo[0].pBsBuf, (size_t)unit->iFrameSizeInBytes, 0,
                             unit->eFrameType == videoFrameTypeIDR);
}

/* A bright bar wanders over a grey picture. */
static void *encode(void *feeder)
{
    static uint8_t picture[WIDTH * HEIGHT * 3 / 2];
    ISVCEncoder *encoder;
    SEncParamBase p = { .iUsageType = CAMERA_VIDEO_REAL_TIME, .iTargetBitrate = 300000, .fMaxFrameRate = FPS };
    SSourcePicture source = { .iColorFormat = videoFormatI420, .iStride = { WIDTH, WIDTH / 2, WIDTH / 2 } };
    p.iPicWidth = source.iPicWidth = WIDTH;
    p.iPicHeight = source.iPicHeight = HEIGHT;
    for (int i = 0; i < 3; i++) source.pData[i] = picture + WIDTH * HEIGHT * (i == 0 ? 0 : 3 + i) / 4;
    if (WelsCreateSVCEncoder(&encoder) != 0 || (*encoder)->Initialize(encoder, &p) != 0) return NULL;
    for (unsigned n = 0; !over; n++) {
        SFrameBSInfo unit = { 0 };
        memset(picture, 128, sizeof picture);
        for (unsigned y = 0; y < HEIGHT; y++) memset(picture + y * WIDTH + n * 4 % (WIDTH - 16), 230, 16);
        source.uiTimeStamp = n * 1000 / FPS;
        if (bmb_feeder_key_wanted(feeder)) (*encoder)->ForceIntraFrame(encoder, true); /* somebody begins to watch */
        if ((*encoder)->EncodeFrame(encoder, &source, &unit) == cmResultSuccess) encoded(feeder, &unit);
        usleep(1000000 / FPS);
    }
    WelsDestroySVCEncoder(encoder);
    return NULL;
}

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port port;
    if (bmb_linux_create(&linux_port, &port) != BMB_OK) return 1;
    static _Alignas(max_align_t) uint8_t memory[BMB_FEEDER_MEMORY(64 * 1024)];
    const bmb_mode mode = { BMB_CODEC_H264, WIDTH, HEIGHT, FPS * 1000 };
    bmb_feeder *feeder = bmb_feeder_create(memory, sizeof memory, &port, "bar", &mode);
    port.cameras = bmb_feeder_cameras(feeder);
    const bmb_feed_config feed = bmb_feed_of("bar", mode.codec, WIDTH, HEIGHT, mode.mfps);
    const bmb_outlet_config rtsp = bmb_outlet_of(BMB_OUTLET_RTSP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8554));
    const bmb_config config = bmb_config_of(&port, &feed, 1, &rtsp, 1);
    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    pthread_t thread;
    pthread_create(&thread, NULL, encode, feeder);
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);
    over = true;
    pthread_join(thread, NULL);
    bmb_close(device);
    bmb_linux_destroy(linux_port);
    return 0;
}
