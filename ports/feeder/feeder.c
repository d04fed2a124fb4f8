/* A camera whose frames are handed in: a few slots, each filled by one thread and taken by another. */
#include "bambino/feeder.h"

#include <stdatomic.h>
#include <stdalign.h>
#include <string.h>

typedef enum slot_state { SLOT_FREE = 0, SLOT_READY, SLOT_OUT } slot_state;

typedef struct slot {
    atomic_int state; /* slot_state: READY is set by who hands in, everything else by who takes */
    uint32_t order;
    uint8_t *data;
    size_t size;
    uint64_t capture_us;
    bool key;
} slot;

struct bmb_feeder {
    const bmb_port *port;
    char name[BMB_NAME_MAX];
    bmb_mode mode;
    bmb_mode_row row;
    size_t frame_max;
    uint32_t order; /* of who hands in */
    atomic_bool running, key_wanted;
    slot slots[BMB_FEEDER_FRAMES];
};

bmb_feeder *bmb_feeder_create(void *memory, size_t size, const bmb_port *port, const char *name, const bmb_mode *mode)
{
    bmb_feeder *self = (bmb_feeder *)memory;
    size_t head = (sizeof *self + alignof(max_align_t) - 1) / alignof(max_align_t) * alignof(max_align_t);
    if (size < head + BMB_FEEDER_FRAMES * 1024u) return NULL;
    memset(self, 0, sizeof *self);
    self->port = port;
    self->mode = *mode;
    self->row = (bmb_mode_row){ mode->codec, mode->width, mode->height, mode->mfps };
    strncpy(self->name, name, sizeof self->name - 1);
    self->frame_max = (size - head) / BMB_FEEDER_FRAMES;
    for (size_t i = 0; i < BMB_FEEDER_FRAMES; i++) self->slots[i].data = (uint8_t *)memory + head + i * self->frame_max;
    return self;
}

bmb_err bmb_feeder_put(bmb_feeder *self, const void *data, size_t size, uint64_t capture_us, bool key)
{
    if (!atomic_load(&self->running)) return BMB_NOT_FOUND;
    if (size > self->frame_max) return BMB_NO_ROOM;
    for (size_t i = 0; i < BMB_FEEDER_FRAMES; i++) {
        slot *s = &self->slots[i];
        if (atomic_load(&s->state) != SLOT_FREE) continue;
        memcpy(s->data, data, size);
        s->size = size;
        s->capture_us = capture_us != 0 ? capture_us : self->port->now_us(self->port->ctx);
        s->key = key;
        s->order = self->order++;
        atomic_store(&s->state, SLOT_READY);
        if (self->port->wake != NULL) self->port->wake(self->port->ctx);
        return BMB_OK;
    }
    return BMB_AGAIN;
}

bool bmb_feeder_key_wanted(bmb_feeder *self)
{
    return atomic_exchange(&self->key_wanted, false);
}

static size_t count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    const bmb_feeder *self = (bmb_feeder *)ctx;
    if (index != 0) return BMB_NOT_FOUND;
    memset(out, 0, sizeof *out);
    memcpy(out->name, self->name, sizeof out->name);
    strcpy(out->model, "frames of the program's own");
    out->modes = &self->row;
    out->mode_count = 1;
    out->buffers = BMB_FEEDER_FRAMES;
    out->frame_max = self->frame_max < UINT32_MAX ? (uint32_t)self->frame_max : UINT32_MAX;
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    bmb_feeder *self = (bmb_feeder *)ctx;
    if (index != 0) return BMB_NOT_FOUND;
    if (asked->codec != self->mode.codec) return BMB_UNSUPPORTED;
    *effective = self->mode;
    atomic_store(&self->key_wanted, true);
    atomic_store(&self->running, true);
    return BMB_OK;
}

/* The oldest of those that are there; NULL: none is. */
static slot *oldest(bmb_feeder *self)
{
    slot *found = NULL;
    for (size_t i = 0; i < BMB_FEEDER_FRAMES; i++) {
        slot *s = &self->slots[i];
        if (atomic_load(&s->state) == SLOT_READY && (found == NULL || (int32_t)(s->order - found->order) < 0))
            found = s;
    }
    return found;
}

static void stop(void *ctx, size_t index)
{
    bmb_feeder *self = (bmb_feeder *)ctx;
    (void)index;
    atomic_store(&self->running, false);
    for (slot *s; (s = oldest(self)) != NULL;) atomic_store(&s->state, SLOT_FREE);
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    bmb_feeder *self = (bmb_feeder *)ctx;
    slot *s = index == 0 ? oldest(self) : NULL;
    if (s == NULL) return BMB_AGAIN;
    *out = (bmb_camera_frame){ .data = s->data,
                               .size = s->size,
                               .capture_us = s->capture_us,
                               .key = s->key,
                               .cookie = (uintptr_t)(s - self->slots) };
    atomic_store(&s->state, SLOT_OUT);
    return BMB_OK;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    bmb_feeder *self = (bmb_feeder *)ctx;
    if (index == 0 && cookie < BMB_FEEDER_FRAMES) atomic_store(&self->slots[cookie].state, SLOT_FREE);
}

static bmb_err key_frame(void *ctx, size_t index)
{
    bmb_feeder *self = (bmb_feeder *)ctx;
    (void)index;
    atomic_store(&self->key_wanted, true);
    return BMB_OK;
}

bmb_cameras bmb_feeder_cameras(bmb_feeder *self)
{
    return (bmb_cameras){ .ctx = self,
                          .count = count,
                          .info = info,
                          .start = start,
                          .stop = stop,
                          .take = take,
                          .release = release,
                          .key_frame = key_frame };
}
