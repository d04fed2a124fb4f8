/* Simulated cameras: one thread each, a few buffers, and the camera part of a port. */
#include "bambino/sim.h"

#include <errno.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "sim/scene.h"
#include "sim/source.h"

#define BUFFERS 6u /* one being filled, and what the device may hold: newest, pinned, on the way */

typedef enum buffer_state { BUFFER_FREE, BUFFER_FILLING, BUFFER_READY, BUFFER_OUT } buffer_state;

typedef struct buffer {
    buffer_state state;
    uint8_t *data;
    size_t size;
    uint64_t capture_us;
    uint32_t order;
    bool key;
} buffer;

typedef struct camera {
    bmb_sim_camera spec;
    char name[BMB_NAME_MAX];
    const bmb_port *port;
    sim_clip clip;
    bmb_mode_row clip_row;
    pthread_t thread;
    bool running;   /* the thread exists */
    uint32_t frame; /* the thread's own, kept over restarts */
    bmb_mode mode;
    size_t room; /* of each buffer */

    pthread_mutex_t lock; /* what follows is shared with the thread */
    pthread_cond_t changed;
    bool stop, key_wanted;
    bmb_sim_fault fault;
    int32_t controls[BMB_CONTROL_COUNT];
    buffer buffers[BUFFERS];
    uint32_t order;
} camera;

struct bmb_sim {
    size_t count;
    camera *cameras;
};

static const bmb_mode_row drawn_modes[BMB_CODEC_COUNT][7] = {
    { { BMB_CODEC_JPEG, 1920, 1080, 60000 },
      { BMB_CODEC_JPEG, 1280, 720, 60000 },
      { BMB_CODEC_JPEG, 800, 600, 60000 },
      { BMB_CODEC_JPEG, 640, 480, 60000 },
      { BMB_CODEC_JPEG, 640, 360, 60000 },
      { BMB_CODEC_JPEG, 320, 240, 60000 },
      { BMB_CODEC_JPEG, 160, 120, 60000 } },
    { { BMB_CODEC_H264, 1920, 1080, 60000 },
      { BMB_CODEC_H264, 1280, 720, 60000 },
      { BMB_CODEC_H264, 800, 600, 60000 },
      { BMB_CODEC_H264, 640, 480, 60000 },
      { BMB_CODEC_H264, 640, 360, 60000 },
      { BMB_CODEC_H264, 320, 240, 60000 },
      { BMB_CODEC_H264, 160, 120, 60000 } },
};

static const bmb_range drawn_controls[BMB_CODEC_COUNT][BMB_CONTROL_COUNT] = {
    { [BMB_CONTROL_QUALITY] = { 1, 100, 1, 75 } },
    { [BMB_CONTROL_KBPS] = { 50, 20000, 1, 2000 }, [BMB_CONTROL_KEY_MS] = { 100, 60000, 1, 2000 } },
};
static const bmb_range picture_controls[BMB_CONTROL_COUNT] = {
    [BMB_CONTROL_FLIP_H] = { 0, 1, 1, 0 },          [BMB_CONTROL_FLIP_V] = { 0, 1, 1, 0 },
    [BMB_CONTROL_BRIGHTNESS] = { -100, 100, 1, 0 }, [BMB_CONTROL_CONTRAST] = { -100, 100, 1, 0 },
    [BMB_CONTROL_SATURATION] = { -100, 100, 1, 0 }, [BMB_CONTROL_SHARPNESS] = { -100, 100, 1, 0 },
    [BMB_CONTROL_ROTATE] = { 0, 180, 180, 0 },      [BMB_CONTROL_EXPOSURE_US] = { 0, 100000, 1, 0 },
    [BMB_CONTROL_GAIN] = { 100, 1600, 1, 100 },     [BMB_CONTROL_WHITE_K] = { 0, 10000, 1, 0 },
    [BMB_CONTROL_FLICKER] = { 0, 60, 10, 50 },      [BMB_CONTROL_NIGHT] = { 0, 1, 1, 0 },
    [BMB_CONTROL_ILLUMINATION] = { 0, 100, 1, 0 },
};

/* A camera that plays a clip has no controls: its pictures are made. */
static bmb_range range_of(const camera *cam, bmb_control control)
{
    if (cam->spec.kind == BMB_SIM_CLIP) return (bmb_range){ 0 };
    bmb_range own = drawn_controls[cam->spec.codec][control];
    if (own.step != 0) return own; /* the encoder's */
    return cam->spec.sensor != NULL ? cam->spec.sensor->controls[control] : picture_controls[control];
}

/* The thread. */

typedef struct painter {
    canvas back, front;
    const sim_encoder *encoder;
    void *encoding;
} painter;

static bool painter_open(painter *p, const camera *cam)
{
    memset(p, 0, sizeof *p);
    if (cam->spec.kind == BMB_SIM_CLIP) return true;
    if (canvas_create(&p->back, cam->mode.width, cam->mode.height) != 0) return false;
    if (canvas_create(&p->front, cam->mode.width, cam->mode.height) != 0) return false;
    scene_background(&p->back, cam->spec.view);
    p->encoder = sim_encoder_for(cam->spec.codec);
    p->encoding = p->encoder->open(&cam->mode, cam->controls);
    return p->encoding != NULL;
}

static void painter_close(painter *p)
{
    if (p->encoding != NULL) p->encoder->close(p->encoding);
    canvas_destroy(&p->back);
    canvas_destroy(&p->front);
}

static size_t paint(painter *p, const camera *cam, const sim_request *r, buffer *b)
{
    canvas *c = &p->front;
    canvas_copy(c, &p->back);
    scene_foreground(c, cam->spec.view, r->scene_s, (uint32_t)(r->wall_us / 1000000 % 86400));
    sim_tune(c, r->controls, r->scene_s);
    const bmb_strip strip = { .frame = r->frame, .capture_us = r->wall_us };
    bmb_strip_draw(c->y, c->stride, c->width, c->height, &strip);
    for (size_t row = (size_t)(c->height - bmb_strip_rows(c->height)) / 2; row < c->height / 2u; row++) {
        memset(c->u + row * (c->stride / 2u), 128, c->width / 2u);
        memset(c->v + row * (c->stride / 2u), 128, c->width / 2u);
    }
    canvas_pad(c);
    return p->encoder->encode(p->encoding, c, r, b->data, cam->room, &b->key);
}

static size_t replay(const camera *cam, uint32_t frame, buffer *b)
{
    uint32_t i = frame % cam->clip.count, size = cam->clip.at[i + 1] - cam->clip.at[i];
    memcpy(b->data, cam->clip.data + cam->clip.at[i], size);
    b->key = cam->clip.key[i];
    return size;
}

static void spoil(bmb_sim_fault fault, buffer *b)
{
    if (fault == BMB_FAULT_TRUNCATE) b->size = b->size * 2 / 3;
    if (fault == BMB_FAULT_GARBLE && b->size > 64) memset(b->data + b->size / 2, 0xFF, 16);
    if (fault == BMB_FAULT_GARBLE && b->size > 64) b->data[b->size / 2 + 16] = 0x17;
}

/* A free buffer, or the oldest that nobody has fetched; NULL when the device holds all. Called with the lock. */
static buffer *take_buffer(camera *cam)
{
    buffer *found = NULL;
    for (size_t i = 0; i < BUFFERS; i++) {
        buffer *b = &cam->buffers[i];
        if (b->state == BUFFER_FREE) return b;
        if (b->state == BUFFER_READY && (found == NULL || (int32_t)(b->order - found->order) < 0)) found = b;
    }
    return found;
}

/* Waits with the lock held until `when` on the monotonic clock; false: stopped. */
static bool wait_for(camera *cam, uint64_t when_us)
{
    const struct timespec until = { .tv_sec = (time_t)(when_us / 1000000),
                                    .tv_nsec = (long)(when_us % 1000000 * 1000) };
    while (!cam->stop && pthread_cond_timedwait(&cam->changed, &cam->lock, &until) != ETIMEDOUT) continue;
    return !cam->stop;
}

static bool is_absent(bmb_sim_fault fault)
{
    return fault == BMB_FAULT_UNPLUGGED || fault >= BMB_FAULT_WIRING;
}

static void *run(void *arg)
{
    camera *cam = (camera *)arg;
    const bmb_port *port = cam->port;
    uint64_t interval = 1000000000u / cam->mode.mfps, start = port->now_us(port->ctx), due = start;
    painter p;
    bool good = painter_open(&p, cam);
    pthread_mutex_lock(&cam->lock);
    while (good && wait_for(cam, due)) {
        bmb_sim_fault fault = cam->fault;
        buffer *b = take_buffer(cam);
        uint64_t now = port->now_us(port->ctx);
        uint32_t number = cam->frame++;
        due += interval;
        if (now > due) due = now; /* too slow for the rate: skip, do not catch up */
        if (fault == BMB_FAULT_STALL || b == NULL) continue;
        if (is_absent(fault)) break;
        b->state = BUFFER_FILLING;
        sim_request r = { .frame = number, .key = cam->key_wanted, .scene_s = (double)now / 1e6 };
        memcpy(r.controls, cam->controls, sizeof r.controls);
        cam->key_wanted = false;
        pthread_mutex_unlock(&cam->lock);

        int64_t wall = 0;
        if (port->wall_us != NULL) (void)port->wall_us(port->ctx, &wall);
        r.wall_us = (uint64_t)wall;
        b->size = cam->spec.kind == BMB_SIM_CLIP ? replay(cam, number, b) : paint(&p, cam, &r, b);
        b->capture_us = now;
        spoil(fault, b);

        pthread_mutex_lock(&cam->lock);
        b->order = cam->order++;
        b->state = b->size > 0 ? BUFFER_READY : BUFFER_FREE;
        port->wake(port->ctx);
    }
    bool unplugged = !cam->stop;
    pthread_mutex_unlock(&cam->lock);
    painter_close(&p);
    if (unplugged) port->wake(port->ctx);
    return NULL;
}

/* The port's side. */

static size_t count(void *ctx)
{
    return ((const bmb_sim *)ctx)->count;
}

static camera *camera_at(void *ctx, size_t index)
{
    return &((bmb_sim *)ctx)->cameras[index];
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    static const char *const views[BMB_VIEW_COUNT] = { "station platform", "sidings", "driver's cab" };
    const camera *cam = camera_at(ctx, index);
    if (index >= ((bmb_sim *)ctx)->count) return BMB_NOT_FOUND;
    memset(out, 0, sizeof *out);
    memcpy(out->name, cam->name, sizeof out->name);
    out->buffers = BUFFERS;
    bool clip = cam->spec.kind == BMB_SIM_CLIP;
    const char *model = clip ? "clip player" : views[cam->spec.view];
    strncpy(out->model, model, sizeof out->model - 1);
    out->modes = clip ? &cam->clip_row : drawn_modes[cam->spec.codec];
    out->mode_count = clip ? 1 : 7;
    const bmb_sim_sensor *sensor = cam->spec.sensor;
    if (!clip && sensor != NULL) {
        out->modes = sensor->modes + (cam->spec.codec == BMB_CODEC_JPEG ? 0 : sensor->mode_count[BMB_CODEC_JPEG]);
        out->mode_count = sensor->mode_count[cam->spec.codec];
        memcpy(out->model, sensor->model, sizeof out->model);
    }
    for (size_t i = 0; i < BMB_CONTROL_COUNT; i++) out->controls[i] = range_of(cam, (bmb_control)i);
    return BMB_OK;
}

static bool mode_is_possible(const camera *cam, const bmb_mode *m)
{
    const bmb_sim_sensor *sensor = cam->spec.sensor;
    if (cam->spec.kind == BMB_SIM_CLIP)
        return m->codec == cam->clip.codec && m->width == cam->clip.width && m->height == cam->clip.height;
    bool drawable = m->codec == cam->spec.codec && m->width >= 128 && m->height >= 96 && m->width % 2 == 0 &&
                    m->height % 2 == 0 && m->mfps >= 1000 && m->mfps <= 60000;
    if (sensor == NULL) return drawable && m->width <= 1920 && m->height <= 1080;
    for (size_t i = 0; i < sizeof sensor->modes / sizeof sensor->modes[0]; i++) {
        const bmb_mode_row *r = &sensor->modes[i];
        bool same = r->codec == m->codec && r->width == m->width && r->height == m->height;
        if (same && m->mfps <= r->mfps_most) return drawable;
    }
    return false;
}

static void stop(void *ctx, size_t index)
{
    camera *cam = camera_at(ctx, index);
    if (!cam->running) return;
    pthread_mutex_lock(&cam->lock);
    cam->stop = true;
    pthread_cond_signal(&cam->changed);
    pthread_mutex_unlock(&cam->lock);
    pthread_join(cam->thread, NULL);
    cam->running = false;
    for (size_t i = 0; i < BUFFERS; i++)
        if (cam->buffers[i].state == BUFFER_READY) cam->buffers[i].state = BUFFER_FREE;
}

/* Buffers that are still out keep their size, and so their memory, until the camera goes. */
static bmb_err provide_buffers(camera *cam, size_t room)
{
    if (room <= cam->room) return BMB_OK;
    for (size_t i = 0; i < BUFFERS; i++) {
        if (cam->buffers[i].state == BUFFER_OUT) return BMB_IN_USE;
        uint8_t *grown = realloc(cam->buffers[i].data, room);
        if (grown == NULL) return BMB_NO_MEMORY;
        cam->buffers[i].data = grown;
    }
    cam->room = room;
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    camera *cam = camera_at(ctx, index);
    if (index >= ((bmb_sim *)ctx)->count) return BMB_NOT_FOUND;
    if (cam->running) return BMB_IN_USE;
    if (is_absent(cam->fault)) return BMB_NOT_FOUND;
    if (!mode_is_possible(cam, asked)) return BMB_UNSUPPORTED;
    size_t room = cam->spec.kind == BMB_SIM_CLIP ? cam->clip.largest : (size_t)asked->width * asked->height + 65536;
    bmb_err err = provide_buffers(cam, room);
    if (err != BMB_OK) return err;
    cam->mode = *asked;
    if (cam->spec.kind == BMB_SIM_CLIP) cam->mode.mfps = cam->spec.clip_mfps; /* a recording has the rate it has */
    cam->stop = false;
    if (pthread_create(&cam->thread, NULL, run, cam) != 0) return BMB_LIMIT;
    cam->running = true;
    *effective = cam->mode;
    return BMB_OK;
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    camera *cam = camera_at(ctx, index);
    pthread_mutex_lock(&cam->lock);
    buffer *found = NULL;
    for (size_t i = 0; i < BUFFERS; i++) {
        buffer *b = &cam->buffers[i];
        if (b->state == BUFFER_READY && (found == NULL || (int32_t)(b->order - found->order) < 0)) found = b;
    }
    bmb_err err = found != NULL ? BMB_OK : is_absent(cam->fault) ? BMB_GONE : BMB_AGAIN;
    if (found != NULL) {
        found->state = BUFFER_OUT;
        *out = (bmb_camera_frame){ .data = found->data,
                                   .size = found->size,
                                   .capture_us = found->capture_us,
                                   .key = found->key,
                                   .cookie = (uintptr_t)(found - cam->buffers) };
    }
    pthread_mutex_unlock(&cam->lock);
    return err;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    camera *cam = camera_at(ctx, index);
    pthread_mutex_lock(&cam->lock);
    if (cookie < BUFFERS) cam->buffers[cookie].state = BUFFER_FREE;
    pthread_mutex_unlock(&cam->lock);
}

static bmb_err key_frame(void *ctx, size_t index)
{
    camera *cam = camera_at(ctx, index);
    pthread_mutex_lock(&cam->lock);
    cam->key_wanted = true;
    pthread_mutex_unlock(&cam->lock);
    return BMB_OK;
}

static bmb_err set(void *ctx, size_t index, bmb_control control, int32_t value, int32_t *effective)
{
    camera *cam = camera_at(ctx, index);
    if ((size_t)control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    bmb_range r = range_of(cam, control);
    if (r.step == 0) return BMB_UNSUPPORTED;
    if (value < r.least || value > r.most || (value - r.least) % r.step != 0) return BMB_BAD_ARG;
    pthread_mutex_lock(&cam->lock);
    cam->controls[control] = value;
    pthread_mutex_unlock(&cam->lock);
    *effective = value;
    return BMB_OK;
}

static bmb_err get(void *ctx, size_t index, bmb_control control, int32_t *value)
{
    const camera *cam = camera_at(ctx, index);
    if ((size_t)control >= BMB_CONTROL_COUNT || range_of(cam, control).step == 0) return BMB_UNSUPPORTED;
    *value = cam->controls[control];
    return BMB_OK;
}

static bmb_camera_fault fault_of(void *ctx, size_t index)
{
    switch (camera_at(ctx, index)->fault) {
    case BMB_FAULT_UNPLUGGED:
        return BMB_CAMERA_FAULT_SILENT;
    case BMB_FAULT_WIRING:
        return BMB_CAMERA_FAULT_WIRING;
    case BMB_FAULT_OTHER:
        return BMB_CAMERA_FAULT_OTHER;
    case BMB_FAULT_SUPPLY:
        return BMB_CAMERA_FAULT_SUPPLY;
    default:
        return BMB_CAMERA_FAULT_NONE;
    }
}

static bmb_err prepare(camera *cam, const bmb_sim_camera *spec, const bmb_port *port)
{
    cam->spec = *spec;
    cam->port = port;
    strncpy(cam->name, spec->name, sizeof cam->name - 1);
    pthread_condattr_t attr;
    pthread_mutex_init(&cam->lock, NULL);
    pthread_condattr_init(&attr);
    pthread_condattr_setclock(&attr, CLOCK_MONOTONIC);
    pthread_cond_init(&cam->changed, &attr);
    pthread_condattr_destroy(&attr);
    for (size_t i = 0; i < BMB_CONTROL_COUNT; i++) cam->controls[i] = range_of(cam, (bmb_control)i).preset;
    if (spec->kind == BMB_SIM_DRAWN) return sim_encoder_for(spec->codec) != NULL ? BMB_OK : BMB_UNSUPPORTED;
    if (spec->clip_mfps < 100) return BMB_BAD_ARG;
    bmb_err err = sim_clip_load(spec->clip, &cam->clip);
    cam->clip_row = (bmb_mode_row){ cam->clip.codec, cam->clip.width, cam->clip.height, spec->clip_mfps };
    return err;
}

bmb_err bmb_sim_create(const bmb_sim_camera *cameras, size_t camera_count, bmb_port *port, bmb_sim **out,
                       size_t *missing)
{
    bmb_sim *self = calloc(1, sizeof *self);
    if (self != NULL) self->cameras = calloc(camera_count + 1, sizeof *self->cameras);
    if (self == NULL || self->cameras == NULL) {
        free(self);
        return BMB_NO_MEMORY;
    }
    for (size_t i = 0; i < camera_count; i++) {
        bmb_err err = prepare(&self->cameras[i], &cameras[i], port);
        self->count++;
        if (err == BMB_OK) continue;
        if (missing != NULL) *missing = i;
        bmb_sim_destroy(self);
        return err;
    }
    port->cameras = (bmb_cameras){ .ctx = self,
                                   .count = count,
                                   .info = info,
                                   .start = start,
                                   .stop = stop,
                                   .take = take,
                                   .release = release,
                                   .key_frame = key_frame,
                                   .set = set,
                                   .get = get,
                                   .fault = fault_of };
    *out = self;
    return BMB_OK;
}

void bmb_sim_destroy(bmb_sim *self)
{
    if (self == NULL) return;
    for (size_t i = 0; i < self->count; i++) {
        camera *cam = &self->cameras[i];
        stop(self, i);
        for (size_t k = 0; k < BUFFERS; k++) free(cam->buffers[k].data);
        sim_clip_free(&cam->clip);
        pthread_mutex_destroy(&cam->lock);
        pthread_cond_destroy(&cam->changed);
    }
    free(self->cameras);
    free(self);
}

bmb_err bmb_sim_break(bmb_sim *self, size_t index, bmb_sim_fault fault)
{
    if (index >= self->count) return BMB_NOT_FOUND;
    camera *cam = &self->cameras[index];
    pthread_mutex_lock(&cam->lock);
    cam->fault = fault;
    pthread_mutex_unlock(&cam->lock);
    return BMB_OK;
}
