/* The camera of ports/poll, which plays a clip from memory. A driver would have buffers that an interrupt fills
 * (bmb_bare_buffers). */
#include "bambino/poll.h"

#include <string.h>

static bmb_poll_clip *clip_of(void *ctx)
{
    return &((bmb_poll *)ctx)->clip;
}

static uint64_t now_us(void *ctx)
{
    const bmb_poll_system *s = &((const bmb_poll *)ctx)->system;
    return s->now_us(s->ctx);
}

static size_t count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    const bmb_poll_clip *c = clip_of(ctx);
    if (index > 0) return BMB_NOT_FOUND;
    *out = (bmb_camera_info){ .model = "clip", .modes = &c->mode, .mode_count = 1, .buffers = BMB_POLL_BUFFERS };
    memcpy(out->name, c->name, sizeof out->name);
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    bmb_poll_clip *c = clip_of(ctx);
    (void)index;
    if (asked->codec != BMB_CODEC_JPEG) return BMB_UNSUPPORTED;
    if (c->mfps > 0) return BMB_IN_USE;
    c->mfps = asked->mfps > c->mode.mfps_most ? c->mode.mfps_most : asked->mfps > 0 ? asked->mfps : 1000;
    c->next_us = now_us(ctx);
    *effective = (bmb_mode){ BMB_CODEC_JPEG, c->mode.width, c->mode.height, c->mfps };
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    (void)index;
    clip_of(ctx)->mfps = 0;
}

/* A buffer that is free; BMB_POLL_BUFFERS: all are out, and the exposure is lost. */
static unsigned free_buffer(const bmb_poll_clip *c)
{
    unsigned i = 0;
    while (i < BMB_POLL_BUFFERS && (c->out >> i & 1) != 0) i++;
    return i;
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    bmb_poll_clip *c = clip_of(ctx);
    uint64_t now = now_us(ctx);
    unsigned buffer = free_buffer(c);
    (void)index;
    if (c->mfps == 0 || now < c->next_us) return BMB_AGAIN;
    uint32_t picture = c->number++ % c->pictures;
    uint64_t interval = 1000000000u / c->mfps, late = now - c->next_us;
    uint64_t capture_us = now - late % interval; /* exposures that nobody fetched are overwritten by later ones */
    c->next_us = capture_us + interval;
    if (buffer == BMB_POLL_BUFFERS) return BMB_AGAIN;
    c->out |= (uint8_t)(1u << buffer);
    *out = (bmb_camera_frame){ .data = c->data + c->begin[picture],
                               .size = c->begin[picture + 1] - c->begin[picture],
                               .capture_us = capture_us,
                               .key = true,
                               .cookie = buffer };
    return BMB_OK;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)index;
    clip_of(ctx)->out &= (uint8_t) ~(1u << cookie);
}

bmb_err bmb_poll_camera(bmb_poll *self, const char *name, const void *data, size_t size, uint32_t mfps, uint16_t width,
                        uint16_t height, bmb_cameras *out)
{
    bmb_poll_clip *c = &self->clip;
    memset(c, 0, sizeof *c);
    c->data = (const uint8_t *)data;
    c->mode = (bmb_mode_row){ BMB_CODEC_JPEG, width, height, mfps };
    strncpy(c->name, name, sizeof c->name - 1);
    /* An image ends with EOI, and the next one begins with SOI (ITU-T T.81 B.1.1.3). */
    for (size_t i = 0; i + 3 < size && c->pictures + 1 < BMB_POLL_PICTURES; i++)
        if (c->data[i] == 0xFF && c->data[i + 1] == 0xD9 && c->data[i + 2] == 0xFF && c->data[i + 3] == 0xD8)
            c->begin[++c->pictures] = (uint32_t)i + 2;
    if (size < 4) return BMB_BAD_DATA;
    c->begin[++c->pictures] = (uint32_t)size;
    *out = (bmb_cameras){
        .ctx = self, .count = count, .info = info, .start = start, .stop = stop, .take = take, .release = release
    };
    return BMB_OK;
}
