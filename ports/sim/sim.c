/* Simulated cameras: what they can do, their faults, and the camera part of a port. */
#include "bambino/sim.h"

#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "codec/encoder.h"
#include "sim/source.h"

#define ROWS_MOST (BMB_CODEC_COUNT * BMB_SIM_MODES)

typedef struct camera {
    bmb_sim_camera spec;
    char name[BMB_NAME_MAX];
    unsigned streams;
    bmb_mode_row rows[ROWS_MOST];
    uint8_t row_count;
    bool codecs[BMB_CODEC_COUNT]; /* those that its streams have */
    sim_drawn *drawn;             /* this … */
    sim_player *player;           /* … or that */
    bool running[SIM_STREAMS];
    atomic_int fault; /* bmb_sim_fault: may be changed from anywhere */
} camera;

struct bmb_sim {
    const bmb_port *port;
    size_t count;
    camera *cameras;
};

static const uint16_t drawn_sizes[][2] = { { 1920, 1080 }, { 1280, 720 }, { 800, 600 }, { 640, 480 },
                                           { 640, 360 },   { 320, 240 },  { 160, 120 } };
#define DRAWN_SIZES (sizeof drawn_sizes / sizeof drawn_sizes[0])
#define DRAWN_MFPS_MIN 1000u
#define DRAWN_MFPS_MOST 60000u
#define DRAWN_WIDTH_MIN 128u
#define DRAWN_HEIGHT_MIN 96u

static const bmb_range picture_controls[BMB_CONTROL_COUNT] = {
    [BMB_CONTROL_FLIP_H] = { 0, 1, 1, 0 },          [BMB_CONTROL_FLIP_V] = { 0, 1, 1, 0 },
    [BMB_CONTROL_BRIGHTNESS] = { -100, 100, 1, 0 }, [BMB_CONTROL_CONTRAST] = { -100, 100, 1, 0 },
    [BMB_CONTROL_SATURATION] = { -100, 100, 1, 0 }, [BMB_CONTROL_SHARPNESS] = { -100, 100, 1, 0 },
    [BMB_CONTROL_ROTATE] = { 0, 180, 180, 0 },      [BMB_CONTROL_EXPOSURE_US] = { 0, 100000, 1, 0 },
    [BMB_CONTROL_GAIN] = { 100, 1600, 1, 100 },     [BMB_CONTROL_WHITE_K] = { 0, 10000, 1, 0 },
    [BMB_CONTROL_FLICKER] = { 0, 60, 10, 50 },      [BMB_CONTROL_NIGHT] = { 0, 1, 1, 0 },
    [BMB_CONTROL_ILLUMINATION] = { 0, 100, 1, 0 },
};

/* Of an encoder that the camera's streams have; step 0: of none. */
static bmb_range encoder_range(const camera *cam, bmb_control control)
{
    bmb_range none = { 0 };
    for (size_t i = 0; i < BMB_CODEC_COUNT; i++) {
        bmb_range r = codec_encoder_range((bmb_codec)i, control);
        if (cam->codecs[i] && r.step != 0) return r;
    }
    return none;
}

/* A camera that plays a clip has no controls: its pictures are made. */
static bmb_range range_of(const camera *cam, bmb_control control)
{
    if (cam->player != NULL) return (bmb_range){ 0 };
    bmb_range own = encoder_range(cam, control);
    if (own.step != 0) return own;
    return cam->spec.sensor != NULL ? cam->spec.sensor->controls[control] : picture_controls[control];
}

static bool is_absent(const camera *cam)
{
    int fault = atomic_load(&cam->fault);
    return fault == BMB_FAULT_UNPLUGGED || fault >= BMB_FAULT_WIRING;
}

bool bmb_sim_there(void)
{
    return true;
}

/* The port's side: an index is that of a stream. */

static size_t count(void *ctx)
{
    const bmb_sim *self = (const bmb_sim *)ctx;
    size_t sum = 0;
    for (size_t i = 0; i < self->count; i++) sum += self->cameras[i].streams;
    return sum;
}

/* NULL: there is no such stream. */
static camera *camera_at(void *ctx, size_t index, unsigned *n)
{
    const bmb_sim *self = (const bmb_sim *)ctx;
    for (size_t i = 0; i < self->count; i++) {
        camera *cam = &self->cameras[i];
        *n = (unsigned)index;
        if (index < cam->streams) return cam;
        index -= cam->streams;
    }
    return NULL;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    static const char *const views[BMB_VIEW_COUNT] = { "station platform", "sidings", "driver's cab" };
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return BMB_NOT_FOUND;
    memset(out, 0, sizeof *out);
    memcpy(out->name, cam->name, sizeof out->name);
    out->stream = (uint8_t)n;
    out->buffers = CODEC_BUFFERS;
    const bmb_sim_sensor *sensor = cam->spec.sensor;
    const char *model = cam->player != NULL ? "clip player" : sensor != NULL ? sensor->model : views[cam->spec.view];
    snprintf(out->model, sizeof out->model, "%s", model);
    if (cam->player == NULL && sensor == NULL) out->encodes = 1u << BMB_CODEC_JPEG | 1u << BMB_CODEC_H264;
    out->modes = cam->rows;
    out->mode_count = cam->row_count;
    for (size_t i = 0; i < BMB_CONTROL_COUNT; i++) out->controls[i] = range_of(cam, (bmb_control)i);
    return BMB_OK;
}

static uint32_t within(uint32_t value, uint32_t min, uint32_t max)
{
    return value < min ? min : value > max ? max : value;
}

bmb_mode bmb_sim_nearest(const bmb_mode *asked)
{
    bmb_mode m = *asked;
    m.width = (uint16_t)(within(m.width, DRAWN_WIDTH_MIN, drawn_sizes[0][0]) & ~1u);
    m.height = (uint16_t)(within(m.height, DRAWN_HEIGHT_MIN, drawn_sizes[0][1]) & ~1u);
    m.mfps = within(m.mfps, DRAWN_MFPS_MIN, DRAWN_MFPS_MOST);
    return m;
}

static bool mode_is_possible(const camera *cam, const bmb_mode *m)
{
    if ((size_t)m->codec >= BMB_CODEC_COUNT) return false;
    if (cam->player != NULL) {
        const sim_clip *clip = sim_player_clip(cam->player);
        return m->codec == clip->codec && m->width == clip->width && m->height == clip->height;
    }
    const bmb_mode near = bmb_sim_nearest(m);
    bool drawable = cam->codecs[m->codec] && near.width == m->width && near.height == m->height && near.mfps == m->mfps;
    if (cam->spec.sensor == NULL) return drawable;
    for (size_t i = 0; i < cam->row_count; i++) {
        const bmb_mode_row *r = &cam->rows[i];
        bool same = r->codec == m->codec && r->width == m->width && r->height == m->height;
        if (same && m->mfps <= r->mfps_most) return drawable;
    }
    return false;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return BMB_NOT_FOUND;
    if (cam->running[n]) return BMB_IN_USE;
    if (is_absent(cam)) return BMB_NOT_FOUND;
    if (!mode_is_possible(cam, asked)) return BMB_UNSUPPORTED;
    bmb_err err = cam->player != NULL ? sim_player_start(cam->player) : sim_drawn_start(cam->drawn, n, asked);
    if (err != BMB_OK) return err;
    cam->running[n] = true;
    *effective = *asked;
    if (cam->player != NULL) effective->mfps = cam->spec.clip_mfps; /* a recording has the rate it has */
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || !cam->running[n]) return;
    cam->running[n] = false;
    if (cam->player != NULL) {
        sim_player_stop(cam->player);
    } else {
        sim_drawn_stop(cam->drawn, n);
    }
}

/* The buffer is the camera's own, and nobody else reads it yet. */
static void spoil(int fault, bmb_camera_frame *f)
{
    uint8_t *data = (uint8_t *)(uintptr_t)f->data;
    if (fault == BMB_FAULT_TRUNCATE) f->size = f->size * 2 / 3;
    if (fault != BMB_FAULT_GARBLE || f->size <= 64) return;
    memset(data + f->size / 2, 0xFF, 16);
    data[f->size / 2 + 16] = 0x17;
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || is_absent(cam)) return BMB_GONE;
    bmb_err err = cam->player != NULL ? sim_player_take(cam->player, out)
                                      : codec_stream_take(sim_drawn_streams(cam->drawn), n, out);
    if (err == BMB_OK) spoil(atomic_load(&cam->fault), out);
    return err;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return;
    if (cam->player != NULL) {
        sim_player_release(cam->player, cookie);
    } else {
        codec_stream_release(sim_drawn_streams(cam->drawn), n, cookie);
    }
}

static bmb_err key_frame(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || cam->drawn == NULL) return BMB_UNSUPPORTED;
    codec_stream_key(sim_drawn_streams(cam->drawn), n);
    return BMB_OK;
}

static uint16_t busy(void *ctx, size_t index)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    return cam == NULL || cam->drawn == NULL ? 0 : codec_streams_load(sim_drawn_streams(cam->drawn));
}

static bool want(void *ctx, size_t index, bool wanted)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || cam->drawn == NULL || cam->streams == 1) return false; /* a sensor's own encoder never rests */
    codec_stream_want(sim_drawn_streams(cam->drawn), n, wanted);
    return true;
}

static bmb_err set(void *ctx, size_t index, bmb_control control, int32_t value, int32_t *effective)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || (size_t)control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    bmb_range r = range_of(cam, control);
    if (r.step == 0) return BMB_UNSUPPORTED;
    if (value < r.least || value > r.most || (value - r.least) % r.step != 0) return BMB_BAD_ARG;
    if (encoder_range(cam, control).step != 0)
        return codec_stream_set(sim_drawn_streams(cam->drawn), n, control, value, effective);
    sim_drawn_set(cam->drawn, control, value);
    *effective = value;
    return BMB_OK;
}

static bmb_err get(void *ctx, size_t index, bmb_control control, int32_t *value)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || (size_t)control >= BMB_CONTROL_COUNT || range_of(cam, control).step == 0) return BMB_UNSUPPORTED;
    if (encoder_range(cam, control).step != 0)
        return codec_stream_get(sim_drawn_streams(cam->drawn), n, control, value);
    *value = sim_drawn_get(cam->drawn, control);
    return BMB_OK;
}

static bmb_camera_fault fault_of(void *ctx, size_t index)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    switch (cam != NULL ? atomic_load(&cam->fault) : BMB_FAULT_NONE) {
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

/* Sizes of a codec, from the sensor's description or all that can be drawn. */
static void add_rows(camera *cam, bmb_codec codec)
{
    const bmb_sim_sensor *sensor = cam->spec.sensor;
    cam->codecs[codec] = sensor == NULL || sensor->mode_count[codec] > 0;
    for (size_t i = 0; sensor == NULL && i < DRAWN_SIZES; i++)
        cam->rows[cam->row_count++] = (bmb_mode_row){ codec, drawn_sizes[i][0], drawn_sizes[i][1], DRAWN_MFPS_MOST };
    const bmb_mode_row *from = sensor != NULL ? sensor->modes : NULL;
    if (sensor != NULL && codec != BMB_CODEC_JPEG) from += sensor->mode_count[BMB_CODEC_JPEG];
    for (size_t i = 0; sensor != NULL && i < sensor->mode_count[codec]; i++) cam->rows[cam->row_count++] = from[i];
}

static bmb_err prepare_drawn(camera *cam, const bmb_port *port)
{
    bmb_codec own = cam->spec.codec, other = own == BMB_CODEC_JPEG ? BMB_CODEC_H264 : BMB_CODEC_JPEG;
    if (codec_encoder_for(own) == NULL) return BMB_UNSUPPORTED;
    cam->streams = cam->spec.streams > 1 ? cam->spec.streams : 1;
    if (cam->streams > SIM_STREAMS) cam->streams = SIM_STREAMS;
    add_rows(cam, own);
    if (cam->streams > 1 && codec_encoder_for(other) != NULL) add_rows(cam, other);
    cam->drawn = sim_drawn_open(&cam->spec, port);
    if (cam->drawn == NULL) return BMB_NO_MEMORY;
    for (size_t i = 0; i < BMB_CONTROL_COUNT; i++)
        sim_drawn_set(cam->drawn, (bmb_control)i, range_of(cam, (bmb_control)i).preset);
    return BMB_OK;
}

static bmb_err prepare(camera *cam, const bmb_sim_camera *spec, const bmb_port *port)
{
    cam->spec = *spec;
    strncpy(cam->name, spec->name, sizeof cam->name - 1);
    if (spec->kind == BMB_SIM_DRAWN) return prepare_drawn(cam, port);
    cam->streams = 1;
    bmb_err err = sim_player_open(spec, port, &cam->player);
    if (err != BMB_OK) return err;
    const sim_clip *clip = sim_player_clip(cam->player);
    cam->rows[cam->row_count++] = (bmb_mode_row){ clip->codec, clip->width, clip->height, spec->clip_mfps };
    return BMB_OK;
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
    self->port = port;
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
                                   .fault = fault_of,
                                   .want = want,
                                   .busy = busy };
    *out = self;
    return BMB_OK;
}

void bmb_sim_destroy(bmb_sim *self)
{
    if (self == NULL) return;
    for (size_t i = 0; i < self->count; i++) {
        sim_drawn_close(self->cameras[i].drawn);
        sim_player_close(self->cameras[i].player);
    }
    free(self->cameras);
    free(self);
}

bmb_err bmb_sim_break(bmb_sim *self, size_t index, bmb_sim_fault fault)
{
    if (index >= self->count) return BMB_NOT_FOUND;
    camera *cam = &self->cameras[index];
    atomic_store(&cam->fault, (int)fault);
    bool stalled = fault == BMB_FAULT_STALL;
    if (cam->drawn != NULL) sim_drawn_stall(cam->drawn, stalled);
    if (cam->player != NULL) sim_player_stall(cam->player, stalled);
    self->port->wake(self->port->ctx);
    return BMB_OK;
}
