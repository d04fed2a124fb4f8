/* A camera that draws its pictures: the scene as it is when a picture is due, in whatever sizes are wanted of it. */
#include <stdlib.h>
#include <string.h>

#include "sim/scene.h"
#include "sim/source.h"

#define TICKETS 4u /* exposures on their way: one waits, one is being drawn, one is being taken */

/* One exposure: everything that decides what is drawn. */
typedef struct ticket {
    bool used;
    uint32_t frame;
    uint64_t wall_us; /* Unix time */
    double scene_s;   /* scene time */
    int32_t controls[BMB_CONTROL_COUNT];
} ticket;

/* What a stream's pictures are drawn on. */
typedef struct easel {
    canvas back, front;
} easel;

struct sim_drawn {
    bmb_sim_view view;
    const bmb_port *port;
    codec_streams *streams;
    sim_ticker ticker;
    uint32_t frame; /* kept over restarts */
    pthread_mutex_t lock;
    ticket tickets[TICKETS];
    int32_t controls[BMB_CONTROL_COUNT];
    easel easels[SIM_STREAMS]; /* the streams' thread's own */
};

static void give_back(void *ctx, uintptr_t cookie)
{
    sim_drawn *self = (sim_drawn *)ctx;
    pthread_mutex_lock(&self->lock);
    self->tickets[cookie].used = false;
    pthread_mutex_unlock(&self->lock);
}

static bool prepare(easel *e, bmb_sim_view view, uint16_t width, uint16_t height)
{
    if (e->front.y != NULL && e->front.width == width && e->front.height == height) return true;
    canvas_destroy(&e->back);
    canvas_destroy(&e->front);
    if (canvas_create(&e->back, width, height) != 0) return false;
    if (canvas_create(&e->front, width, height) != 0) return false;
    scene_background(&e->back, view);
    return true;
}

static bool draw(void *ctx, uintptr_t cookie, unsigned n, uint16_t width, uint16_t height, codec_picture *out)
{
    sim_drawn *self = (sim_drawn *)ctx;
    const ticket *t = &self->tickets[cookie];
    easel *e = &self->easels[n];
    canvas *c = &e->front;
    if (!prepare(e, self->view, width, height)) return false;
    canvas_copy(c, &e->back);
    scene_foreground(c, self->view, t->scene_s, (uint32_t)(t->wall_us / 1000000 % 86400));
    sim_tune(c, t->controls, t->scene_s);
    const bmb_strip strip = { .frame = t->frame, .capture_us = t->wall_us };
    bmb_strip_draw(c->y, c->stride, c->width, c->height, &strip);
    for (size_t row = (size_t)(c->height - bmb_strip_rows(c->height)) / 2; row < c->height / 2u; row++) {
        memset(c->u + row * (c->stride / 2u), 128, c->width / 2u);
        memset(c->v + row * (c->stride / 2u), 128, c->width / 2u);
    }
    canvas_pad(c);
    *out = (codec_picture){ .format = CODEC_I420,
                            .width = width,
                            .height = height,
                            .plane = { c->y, c->u, c->v },
                            .stride = { c->stride, c->stride / 2u, c->stride / 2u } };
    return true;
}

static void tick(void *ctx, uint64_t now_us, bool late)
{
    sim_drawn *self = (sim_drawn *)ctx;
    size_t at = 0;
    bool wanted = codec_streams_expose(self->streams);
    if (wanted && (late || codec_streams_behind(self->streams))) { /* too slow for the rate: no picture, none drawn */
        codec_streams_miss(self->streams, now_us);
        return;
    }
    uint32_t number = self->frame++;
    if (!wanted) return;
    pthread_mutex_lock(&self->lock);
    while (at < TICKETS && self->tickets[at].used) at++;
    ticket *t = at < TICKETS ? &self->tickets[at] : NULL;
    if (t != NULL) {
        int64_t wall = 0;
        if (self->port->wall_us != NULL) (void)self->port->wall_us(self->port->ctx, &wall);
        *t = (ticket){ .used = true, .frame = number, .wall_us = (uint64_t)wall, .scene_s = (double)now_us / 1e6 };
        memcpy(t->controls, self->controls, sizeof t->controls);
    }
    pthread_mutex_unlock(&self->lock);
    const codec_input input = { .draw = draw, .ctx = self, .capture_us = now_us, .cookie = at, .give_back = give_back };
    if (t != NULL) codec_streams_put(self->streams, &input);
}

sim_drawn *sim_drawn_open(const bmb_sim_camera *spec, const bmb_port *port)
{
    sim_drawn *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    self->view = spec->view;
    self->port = port;
    self->streams = codec_streams_open(port, SIM_STREAMS);
    pthread_mutex_init(&self->lock, NULL);
    sim_ticker_init(&self->ticker, port, tick, self);
    if (self->streams != NULL) return self;
    sim_drawn_close(self);
    return NULL;
}

void sim_drawn_close(sim_drawn *self)
{
    if (self == NULL) return;
    sim_ticker_free(&self->ticker);
    codec_streams_close(self->streams);
    for (size_t i = 0; i < SIM_STREAMS; i++) {
        canvas_destroy(&self->easels[i].back);
        canvas_destroy(&self->easels[i].front);
    }
    pthread_mutex_destroy(&self->lock);
    free(self);
}

/* As fast as the fastest of its streams; 0: none runs. */
static uint32_t rate_of(sim_drawn *self)
{
    uint32_t mfps = 0;
    bmb_mode mode;
    for (unsigned i = 0; i < SIM_STREAMS; i++)
        if (codec_stream_running(self->streams, i, &mode) && mode.mfps > mfps) mfps = mode.mfps;
    return mfps;
}

bmb_err sim_drawn_start(sim_drawn *self, unsigned n, const bmb_mode *mode)
{
    bmb_err err = codec_stream_start(self->streams, n, mode);
    if (err != BMB_OK || sim_ticker_run(&self->ticker, rate_of(self))) return err;
    codec_stream_stop(self->streams, n);
    return BMB_LIMIT;
}

void sim_drawn_stop(sim_drawn *self, unsigned n)
{
    codec_stream_stop(self->streams, n);
    uint32_t mfps = rate_of(self);
    if (mfps > 0) {
        (void)sim_ticker_run(&self->ticker, mfps);
    } else {
        sim_ticker_stop(&self->ticker);
        codec_streams_drain(self->streams);
    }
}

codec_streams *sim_drawn_streams(sim_drawn *self)
{
    return self->streams;
}

void sim_drawn_stall(sim_drawn *self, bool stalled)
{
    sim_ticker_stall(&self->ticker, stalled);
}

void sim_drawn_set(sim_drawn *self, bmb_control control, int32_t value)
{
    pthread_mutex_lock(&self->lock);
    self->controls[control] = value;
    pthread_mutex_unlock(&self->lock);
}

int32_t sim_drawn_get(sim_drawn *self, bmb_control control)
{
    pthread_mutex_lock(&self->lock);
    int32_t value = self->controls[control];
    pthread_mutex_unlock(&self->lock);
    return value;
}
