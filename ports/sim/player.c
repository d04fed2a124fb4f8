/* A camera that plays a clip: a few buffers, filled at the clip's rate. */
#include <stdlib.h>
#include <string.h>

#include "sim/source.h"

#define BUFFERS CODEC_BUFFERS

typedef enum buffer_state { BUFFER_FREE, BUFFER_READY, BUFFER_OUT } buffer_state;

typedef struct buffer {
    buffer_state state;
    uint8_t *data;
    size_t size;
    uint64_t capture_us;
    uint32_t order, number;
    bool key;
} buffer;

struct sim_player {
    const bmb_port *port;
    uint32_t mfps;
    sim_clip clip;
    sim_ticker ticker;
    uint32_t frame;  /* kept over restarts */
    uint32_t number; /* of the last picture that was due, the thread's own */
    pthread_mutex_t lock;
    buffer buffers[BUFFERS];
    uint32_t order;
};

static buffer *oldest(sim_player *self, bool or_free)
{
    buffer *found = NULL;
    for (size_t i = 0; i < BUFFERS; i++) {
        buffer *b = &self->buffers[i];
        if (or_free && b->state == BUFFER_FREE) return b;
        if (b->state == BUFFER_READY && (found == NULL || (int32_t)(b->order - found->order) < 0)) found = b;
    }
    return found;
}

static void tick(void *ctx, uint64_t now_us, bool late)
{
    sim_player *self = (sim_player *)ctx;
    if (late) { /* the clip goes on where it was */
        self->number++;
        return;
    }
    uint32_t i = self->frame++ % self->clip.count, size = self->clip.at[i + 1] - self->clip.at[i];
    pthread_mutex_lock(&self->lock);
    self->number++;
    buffer *b = oldest(self, true);
    if (b != NULL) {
        memcpy(b->data, self->clip.data + self->clip.at[i], size);
        *b = (buffer){
            .state = BUFFER_READY, .data = b->data, .size = size, .capture_us = now_us, .number = self->number
        };
        b->key = self->clip.key[i];
        b->order = self->order++;
    }
    pthread_mutex_unlock(&self->lock);
    self->port->wake(self->port->ctx);
}

bmb_err sim_player_open(const bmb_sim_camera *spec, const bmb_port *port, sim_player **out)
{
    if (spec->clip_mfps < 100) return BMB_BAD_ARG;
    sim_player *self = calloc(1, sizeof *self);
    if (self == NULL) return BMB_NO_MEMORY;
    self->port = port;
    self->mfps = spec->clip_mfps;
    pthread_mutex_init(&self->lock, NULL);
    sim_ticker_init(&self->ticker, port, tick, self);
    bmb_err err = sim_clip_load(spec->clip, &self->clip);
    for (size_t i = 0; err == BMB_OK && i < BUFFERS; i++) {
        self->buffers[i].data = malloc(self->clip.largest);
        if (self->buffers[i].data == NULL) err = BMB_NO_MEMORY;
    }
    if (err != BMB_OK) {
        sim_player_close(self);
        return err;
    }
    *out = self;
    return BMB_OK;
}

void sim_player_close(sim_player *self)
{
    if (self == NULL) return;
    sim_ticker_free(&self->ticker);
    for (size_t i = 0; i < BUFFERS; i++) free(self->buffers[i].data);
    sim_clip_free(&self->clip);
    pthread_mutex_destroy(&self->lock);
    free(self);
}

const sim_clip *sim_player_clip(const sim_player *self)
{
    return &self->clip;
}

bmb_err sim_player_start(sim_player *self)
{
    return sim_ticker_run(&self->ticker, self->mfps) ? BMB_OK : BMB_LIMIT;
}

void sim_player_stop(sim_player *self)
{
    sim_ticker_stop(&self->ticker);
    for (size_t i = 0; i < BUFFERS; i++)
        if (self->buffers[i].state == BUFFER_READY) self->buffers[i].state = BUFFER_FREE;
}

bmb_err sim_player_take(sim_player *self, bmb_camera_frame *out)
{
    pthread_mutex_lock(&self->lock);
    buffer *b = oldest(self, false);
    if (b != NULL) {
        b->state = BUFFER_OUT;
        *out = (bmb_camera_frame){ .data = b->data,
                                   .size = b->size,
                                   .capture_us = b->capture_us,
                                   .key = b->key,
                                   .cookie = (uintptr_t)(b - self->buffers),
                                   .number = b->number };
    }
    pthread_mutex_unlock(&self->lock);
    return b != NULL ? BMB_OK : BMB_AGAIN;
}

void sim_player_release(sim_player *self, uintptr_t cookie)
{
    pthread_mutex_lock(&self->lock);
    if (cookie < BUFFERS) self->buffers[cookie].state = BUFFER_FREE;
    pthread_mutex_unlock(&self->lock);
}

void sim_player_stall(sim_player *self, bool stalled)
{
    sim_ticker_stall(&self->ticker, stalled);
}
