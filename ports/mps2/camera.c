/* A camera with a JPEG sensor: a clip in flash whose pictures an interrupt puts into buffers, as the sensor's DMA
 * would. */
#include <string.h>

#include "mps2/board.h"

#define BUFFERS 4u
#define FRAME_MOST (12u * 1024)
#define PICTURES_MOST 128u
#define RATE_MOST 30u
#define CTRL mps2_at(MPS2_TIMER0 + 0x0u)
#define VALUE mps2_at(MPS2_TIMER0 + 0x4u)
#define RELOAD mps2_at(MPS2_TIMER0 + 0x8u)
#define INTCLEAR mps2_at(MPS2_TIMER0 + 0xCu)

extern const uint8_t clip_begin[], clip_end[]; /* clip.S */

static uint8_t memory[BUFFERS][FRAME_MOST];
static bmb_bare_buffer buffer[BUFFERS];
static bmb_bare_buffers buffers = { .buffer = buffer, .count = BUFFERS };
static uint32_t starts[PICTURES_MOST + 1], pictures, exposed;
static bool running;
static void (*wake)(void *ctx);
static void *wake_ctx;

static const bmb_mode_row modes[] = { { BMB_CODEC_JPEG, 320, 240, RATE_MOST * 1000 } };

/* Where each picture begins: behind the end marker of the one before (ITU-T T.81 B.2.1). */
static void find_pictures(void)
{
    size_t size = (uintptr_t)clip_end - (uintptr_t)clip_begin;
    for (size_t i = 0; i + 3 < size && pictures + 1 < PICTURES_MOST; i++)
        if (clip_begin[i] == 0xFF && clip_begin[i + 1] == 0xD9 && clip_begin[i + 2] == 0xFF &&
            clip_begin[i + 3] == 0xD8)
            starts[++pictures] = (uint32_t)(i + 2);
    starts[++pictures] = (uint32_t)size;
}

void mps2_camera_interrupt(void)
{
    *INTCLEAR = 1;
    uint32_t picture = exposed++ % pictures, size = starts[picture + 1] - starts[picture];
    uint8_t *to = bmb_bare_fill(&buffers);
    if (to == NULL) return;
    if (size > FRAME_MOST) size = FRAME_MOST; /* cut off, as by a sensor: the core drops it and says so */
    memcpy(to, clip_begin + starts[picture], size);
    bmb_bare_filled(&buffers, size, mps2_now_us());
    wake(wake_ctx);
}

static size_t count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    (void)ctx;
    if (index > 0) return BMB_NOT_FOUND;
    *out = (bmb_camera_info){ .name = "loco",
                              .model = "clip in flash",
                              .modes = modes,
                              .mode_count = 1,
                              .buffers = BUFFERS,
                              .frame_max = FRAME_MOST };
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    (void)ctx;
    (void)index;
    if (asked->codec != BMB_CODEC_JPEG) return BMB_UNSUPPORTED;
    if (running) return BMB_IN_USE;
    uint32_t mfps = asked->mfps < 1000 ? 1000 : asked->mfps > RATE_MOST * 1000 ? RATE_MOST * 1000 : asked->mfps;
    *effective = (bmb_mode){ BMB_CODEC_JPEG, modes[0].width, modes[0].height, mfps };
    *RELOAD = *VALUE = (uint32_t)((uint64_t)MPS2_HZ * 1000 / mfps) - 1;
    *INTCLEAR = 1;
    *CTRL = 9; /* on, with its interrupt */
    mps2_enable(MPS2_IRQ_TIMER0);
    running = true;
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    (void)ctx;
    (void)index;
    *CTRL = 0;
    running = false;
    bmb_bare_empty(&buffers);
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    (void)ctx;
    (void)index;
    return bmb_bare_take(&buffers, out);
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)ctx;
    (void)index;
    bmb_bare_release(&buffers, cookie);
}

void mps2_camera(bmb_cameras *cameras, void (*wake_up)(void *ctx), void *ctx)
{
    wake = wake_up;
    wake_ctx = ctx;
    for (size_t i = 0; i < BUFFERS; i++) buffer[i].data = memory[i];
    if (pictures == 0) find_pictures();
    *cameras =
        (bmb_cameras){ .count = count, .info = info, .start = start, .stop = stop, .take = take, .release = release };
}
