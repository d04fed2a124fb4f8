/* Cameras of the kernel as cameras of the port contract: a camera is one node, set to one format, from which its
 * streams are made. */
#include <errno.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "codec/encoder.h"
#include "codec/streams.h"
#include "v4l2/camera.h"
#include "v4l2/controls.h"
#include "v4l2/converter.h"
#include "v4l2/mend.h"
#include "v4l2/plan.h"

#define STREAMS CODEC_STREAMS_MOST
#define MODES_MOST 64u
#define PUMP_MOST 8u          /* pictures taken from the driver in one call */
#define NATIVE_COOKIE 0x1000u /* marks a buffer of the driver; else it is one of the encoder's */
#define STILLS 16u            /* first pictures of a capture, one of which may be a still */
#define ENLARGE_US 1000000u   /* between two changes of the format while streams run */
#define LOOK_US 250000u       /* between two looks for a camera that is absent */

/* One stream, in the mode that is in force. */
typedef struct stream {
    bool running, native, wanted;
    int32_t quality; /* that was asked of the encoder; 0: none */
    bool dry;        /* the driver had no more, and this stream has not been told so since */
    bmb_mode mode;
    uint32_t asked_mfps; /* mode has what the camera gives of it just now */
    uint64_t due_us;
    uint32_t taken;                  /* frames that were ready, also those that nobody fetched */
    v4l2_taken ready[V4L2_LENDABLE]; /* native: waiting to be taken, the oldest first */
    unsigned ready_count;
} stream;

typedef struct camera {
    bmb_v4l2 *owner;
    char name[BMB_NAME_MAX];
    char device[128];       /* "": any */
    char input[33];         /* "": the one in use */
    char bus[33], card[33]; /* of the one that was found: its place, which is kept for it */
    bool there;
    bmb_err look_err;            /* why it is not */
    uint64_t look_us, looked_at; /* looked_at: the owner's news when it was last looked for */
    uint64_t enlarged_us;        /* when the picture was last set larger than planned */
    v4l2_node node;
    bmb_mode_row modes[MODES_MOST];
    uint8_t mode_count;
    bmb_range ranges[BMB_CONTROL_COUNT];
    int32_t wanted[BMB_CONTROL_COUNT]; /* what was set: a camera that was away has forgotten it */
    uint32_t set;                      /* a bit for each of them */
    v4l2_capture capture;
    bool capturing;
    bmb_err err;       /* why capturing ended by itself */
    uint64_t clock_us; /* the port's clock minus the system's */
    stream streams[STREAMS];
    bmb_mode planned[STREAMS]; /* what will be asked for, known before the first start */
    size_t planned_count;
    codec_streams *codec;
    uint64_t copied;
    uint32_t starts, pictures; /* pictures: of the present capture */
    char trouble[480];
} camera;

struct bmb_v4l2 {
    uint64_t news; /* counts changes of the nodes: each absent camera looks once for each */
    const bmb_port *port;
    v4l2_system *system;
    bool own_system;
    v4l2_converter *converters[BMB_CODEC_COUNT]; /* the board's own encoders; NULL: it has none */
    size_t count;
    camera *cameras;
};

/* Finding it. */

static bool is_taken(void *ctx, const char *path, const char *bus)
{
    const camera *cam = (const camera *)ctx;
    const bmb_v4l2 *self = cam->owner;
    (void)bus;
    for (size_t i = 0; i < self->count; i++)
        if (&self->cameras[i] != cam && self->cameras[i].there && strcmp(self->cameras[i].node.path, path) == 0)
            return true;
    return false;
}

/* … or kept for another one, which was at this place when it was last seen. */
static bool is_kept(void *ctx, const char *path, const char *bus)
{
    const camera *cam = (const camera *)ctx;
    const bmb_v4l2 *self = cam->owner;
    if (bus == NULL) return is_taken(ctx, path, NULL);
    for (size_t i = 0; i < self->count; i++) {
        const camera *other = &self->cameras[i];
        if (other != cam && other->bus[0] != '\0' && strcmp(other->bus, bus) == 0 && strcmp(cam->bus, bus) != 0)
            return true;
    }
    return false;
}

/* A sentence with what to do, in the words of docs/cameras.md. */
static void explain(camera *cam, bmb_err err)
{
    const v4l2_system *s = cam->owner->system;
    const char *path = cam->node.path[0] != '\0' ? cam->node.path : cam->device;
    char who[96] = "";
    switch (err) {
    case BMB_NO_SIGNAL:
        v4l2_no_signal(&cam->node, cam->trouble, sizeof cam->trouble);
        break;
    case BMB_NOT_FOUND:
    case BMB_GONE:
        if (cam->input[0] != '\0' && cam->node.card[0] != '\0' && s->same(s->ctx, path, path))
            snprintf(cam->trouble, sizeof cam->trouble, "%s has no input \"%s\"; `bambino cameras` lists its inputs",
                     path, cam->input);
        else if (cam->device[0] == '\0')
            snprintf(cam->trouble, sizeof cam->trouble, "no camera is attached; plug one in");
        else
            snprintf(cam->trouble, sizeof cam->trouble,
                     "no camera matches %s; plug it in, or see `bambino cameras` for those that are there",
                     cam->device);
        break;
    case BMB_DENIED:
        v4l2_denied(s, path, cam->trouble, sizeof cam->trouble);
        break;
    case BMB_IN_USE:
        s->holder(s->ctx, path, who, sizeof who);
        snprintf(cam->trouble, sizeof cam->trouble, "%s is used by %s; end that, or choose another camera", path,
                 who[0] != '\0' ? who : "another program");
        break;
    case BMB_UNSUPPORTED:
        snprintf(cam->trouble, sizeof cam->trouble, "%s delivers no format that can be used, or not in this size",
                 path);
        break;
    case BMB_LIMIT:
        snprintf(
            cam->trouble, sizeof cam->trouble,
            "the USB bus or the driver has no bandwidth or memory left for %s; lower size or rate, or plug it into "
            "another port",
            path);
        break;
    default:
        if (cam->node.pipeline[0] != '\0') {
            v4l2_not_set_up(&cam->node, cam->trouble, sizeof cam->trouble);
            break;
        }
        if (cam->capture.step != NULL)
            snprintf(who, sizeof who, " (%s: %s)", cam->capture.step, strerror(-cam->capture.error));
        snprintf(cam->trouble, sizeof cam->trouble,
                 "%s fails%s; unplug it and plug it in again, and see the kernel's log", path, who);
    }
}

static void learn(camera *cam)
{
    const v4l2_system *s = cam->owner->system;
    cam->mode_count = (uint8_t)v4l2_modes(&cam->node, cam->modes, MODES_MOST);
    memcpy(cam->bus, cam->node.bus, sizeof cam->bus);
    memcpy(cam->card, cam->node.card, sizeof cam->card);
    int fd = s->open(s->ctx, cam->node.path);
    if (fd < 0) return;
    v4l2_controls_find(s, fd, 30000, cam->ranges);
    s->close(s->ctx, fd);
}

/* One that was found stays the one: at its place, or, where several are meant, elsewhere at a place that is nobody's.
 */
static bmb_err find(const camera *cam, v4l2_node *out)
{
    const v4l2_system *s = cam->owner->system;
    v4l2_wanted wanted = { .device = cam->device[0] != '\0' ? cam->device : NULL,
                           .input = cam->input[0] != '\0' ? cam->input : NULL,
                           .skip = is_taken,
                           .ctx = (void *)(uintptr_t)cam };
    if (cam->device[0] == '/' || cam->bus[0] == '\0') {
        if (cam->device[0] != '/') wanted.skip = is_kept;
        return v4l2_find(s, &wanted, out);
    }
    v4l2_wanted place = wanted;
    place.device = cam->bus;
    bmb_err err = v4l2_find(s, &place, out);
    bool same = cam->device[0] == '\0' || strcmp(cam->device, out->bus) == 0 || v4l2_contains(out->card, cam->device);
    if ((err == BMB_OK || err == BMB_NO_SIGNAL) && same) return err;
    wanted.skip = is_kept;
    if (wanted.device == NULL) wanted.device = cam->card;
    return v4l2_find(s, &wanted, out);
}

static bool look_for(camera *cam)
{
    v4l2_node *found = malloc(sizeof *found);
    if (found == NULL) return false;
    cam->there = false;
    bmb_err err = find(cam, found);
    if (err == BMB_OK) {
        cam->node = *found;
        cam->there = true;
        learn(cam);
    } else if (found->path[0] != '\0') {
        memcpy(cam->node.path, found->path, sizeof cam->node.path);
        memcpy(cam->node.card, found->card, sizeof cam->node.card);
        memcpy(cam->node.pipeline, found->pipeline, sizeof cam->node.pipeline);
        cam->node.signal = found->signal;
    }
    cam->look_err = err;
    if (err != BMB_OK) explain(cam, err);
    free(found);
    return cam->there;
}

/* Capturing. */

static void let(void *ctx, uintptr_t cookie)
{
    camera *cam = (camera *)ctx;
    v4l2_capture_let(&cam->capture, (unsigned)cookie);
}

static void drop_ready(camera *cam, stream *s)
{
    for (unsigned i = 0; i < s->ready_count; i++) v4l2_capture_let(&cam->capture, s->ready[i].buffer);
    s->ready_count = 0;
}

static void end_capture(camera *cam)
{
    if (!cam->capturing) return;
    for (size_t i = 0; i < STREAMS; i++) drop_ready(cam, &cam->streams[i]);
    codec_streams_drain(cam->codec);
    v4l2_capture_stop(&cam->capture);
    v4l2_capture_close(&cam->capture);
    cam->capturing = false;
}

/* It ended by itself: every stream hears of it, and stops. */
static void fail(camera *cam, bmb_err err)
{
    bool changed = cam->capture.changed;
    cam->err = err;
    end_capture(cam);
    if (err == BMB_GONE && !look_for(cam) && cam->look_err == BMB_NO_SIGNAL) cam->err = BMB_NO_SIGNAL;
    if (!cam->there) return;
    if (err == BMB_GONE && changed)
        snprintf(cam->trouble, sizeof cam->trouble, "%s has another signal now; it is started again with that",
                 cam->node.path);
    else
        explain(cam, BMB_FAILED);
}

static void apply_controls(camera *cam)
{
    const v4l2_system *s = cam->owner->system;
    int32_t effective;
    for (int c = 0; c < BMB_CONTROL_COUNT; c++)
        if ((cam->set >> c & 1) != 0)
            (void)v4l2_control_set(s, cam->capture.fd, cam->capture.setup.mfps, (bmb_control)c, cam->wanted[c],
                                   &effective);
}

/* The modes of the streams that run, and of those that are planned beside them. */
static size_t wanted_modes(const camera *cam, bmb_mode *out)
{
    size_t n = 0;
    for (size_t i = 0; i < STREAMS; i++) {
        if (!cam->streams[i].running) continue;
        out[n] = cam->streams[i].mode;
        out[n++].mfps = cam->streams[i].asked_mfps; /* a slower format for a while must not slow it down for good */
    }
    return n;
}

static void follow_setup(camera *cam, stream *s, unsigned n)
{
    bool native = v4l2_is_native(&cam->capture.setup, &s->mode);
    uint32_t mfps = cam->capture.setup.mfps;
    s->mode.mfps = mfps > 0 && s->asked_mfps > mfps ? mfps : s->asked_mfps;
    if (codec_stream_running(cam->codec, n, NULL)) codec_stream_stop(cam->codec, n);
    if (!native) {
        (void)codec_stream_start(cam->codec, n, &s->mode);
        codec_stream_want(cam->codec, n, s->wanted);
    }
    s->native = native;
    s->due_us = 0;
}

/* Sets the node to what suits all streams best. Those that were running go on, behind a gap. */
static bmb_err capture_as(camera *cam, const v4l2_setup *setup)
{
    const bmb_port *port = cam->owner->port;
    const v4l2_system *s = cam->owner->system;
    v4l2_setup effective = *setup;
    end_capture(cam);
    bmb_err err = v4l2_capture_start(&cam->capture, &cam->node, &effective);
    if (err != BMB_OK) return err;
    cam->capturing = true;
    cam->err = BMB_OK;
    cam->starts++;
    cam->pictures = 0;
    cam->clock_us = port->now_us(port->ctx) - s->monotonic_us(s->ctx);
    v4l2_repeat_sets(s, cam->capture.fd);
    apply_controls(cam);
    for (unsigned i = 0; i < STREAMS; i++)
        if (cam->streams[i].running) follow_setup(cam, &cam->streams[i], i);
    return BMB_OK;
}

static bool same_setup(const v4l2_setup *a, const v4l2_setup *b)
{
    return a->fourcc == b->fourcc && a->width == b->width && a->height == b->height && a->mfps == b->mfps;
}

/* A size that it has not: the nearest that it has. */
static void bring_near(const camera *cam, bmb_mode *mode)
{
    uint64_t best = UINT64_MAX;
    bmb_mode near = *mode;
    for (size_t i = 0; i < cam->mode_count; i++) {
        const bmb_mode_row *r = &cam->modes[i];
        if (r->codec != mode->codec) continue;
        uint64_t apart = (uint64_t)abs(r->width - mode->width) + (uint64_t)abs(r->height - mode->height);
        if (apart >= best) continue;
        best = apart;
        near.width = r->width;
        near.height = r->height;
        near.mfps = r->mfps_most < mode->mfps ? r->mfps_most : mode->mfps;
    }
    *mode = near;
}

/* Starts or changes capturing so that stream n can run in its mode beside the others. */
static bmb_err adapt(camera *cam, unsigned n)
{
    bmb_mode modes[2 * STREAMS];
    v4l2_setup setup, more;
    stream *s = &cam->streams[n];
    size_t count = wanted_modes(cam, modes);
    if (!v4l2_plan(&cam->node, modes, count, &setup, NULL)) {
        s->running = false;
        bring_near(cam, &s->mode);
        s->running = true;
        count = wanted_modes(cam, modes);
        if (!v4l2_plan(&cam->node, modes, count, &setup, NULL)) return BMB_UNSUPPORTED;
    }
    /* Those that will come are thought of now, or each of them would make a gap for those before it. */
    for (size_t i = 0; i < cam->planned_count; i++) modes[count + i] = cam->planned[i];
    if (v4l2_plan(&cam->node, modes, count + cam->planned_count, &more, NULL)) setup = more;
    if (!cam->capturing) return capture_as(cam, &setup);
    if (!same_setup(&setup, &cam->capture.setup)) {
        /* Whoever asks for large stills on and on must not take the stream from those who watch. */
        uint64_t now = cam->owner->port->now_us(cam->owner->port->ctx);
        if (cam->enlarged_us != 0 && now < cam->enlarged_us + ENLARGE_US) return BMB_IN_USE;
        cam->enlarged_us = now;
        return capture_as(cam, &setup);
    }
    follow_setup(cam, s, n);
    return BMB_OK;
}

/* One picture to all streams that want it. */
static void spread(camera *cam, v4l2_taken *t)
{
    const bmb_port *port = cam->owner->port;
    uint64_t now = port->now_us(port->ctx), at = t->capture_us != 0 ? t->capture_us + cam->clock_us : now;
    bool encodes = false;
    codec_picture raw;
    t->capture_us = at < now ? at : now;
    for (unsigned i = 0; i < STREAMS; i++) {
        stream *s = &cam->streams[i];
        if (s->running && !s->native) encodes = true;
        bool thinned = s->mode.codec == BMB_CODEC_JPEG && s->mode.mfps < cam->capture.setup.mfps;
        if (!s->running || !s->native || (thinned && !codec_is_due(&s->due_us, s->mode.mfps, t->capture_us))) continue;
        if (s->ready_count == V4L2_LENDABLE) {
            v4l2_capture_let(&cam->capture, s->ready[0].buffer);
            memmove(s->ready, s->ready + 1, --s->ready_count * sizeof *s->ready);
            s->taken++; /* its number is missing */
        }
        v4l2_capture_hold(&cam->capture, t->buffer);
        s->ready[s->ready_count++] = *t;
    }
    if (!encodes || !codec_streams_expose(cam->codec)) return;
    codec_input input = { .capture_us = t->capture_us, .cookie = t->buffer, .ctx = cam, .give_back = let };
    if (v4l2_capture_picture(&cam->capture, t, &raw)) {
        input.raw = &raw;
    } else {
        const v4l2_format_row *f = v4l2_format_of(cam->capture.setup.fourcc);
        if (f == NULL || !f->encoded || f->codec != BMB_CODEC_JPEG) {
            cam->capture.bad++; /* too short */
            return;
        }
        input.jpeg = t->data;
        input.jpeg_size = t->size;
    }
    v4l2_capture_hold(&cam->capture, t->buffer);
    codec_streams_put(cam->codec, &input);
}

/* Takes from the driver what it has. */
static void pump(camera *cam)
{
    v4l2_taken t;
    for (unsigned i = 0; cam->capturing && i < PUMP_MOST; i++) {
        bmb_err err = v4l2_capture_take(&cam->capture, &t);
        if (err == BMB_AGAIN) {
            for (size_t k = 0; k < STREAMS; k++) cam->streams[k].dry = true;
            return;
        }
        if (err != BMB_OK) {
            fail(cam, err);
            return;
        }
        const v4l2_format_row *f = v4l2_format_of(cam->capture.setup.fourcc);
        bool jpeg = f != NULL && f->encoded && f->codec == BMB_CODEC_JPEG;
        /* Stills are made of the first ones, by programs that look no closer; the device finds an image's end itself.
         */
        bool thorough = cam->pictures++ < STILLS;
        size_t mended = jpeg ? v4l2_mend_jpeg(t.data, t.size, t.room, thorough, &cam->copied) : t.size;
        if (mended > 0) t.size = mended; /* else the device counts it as bad */
        spread(cam, &t);
        v4l2_capture_let(&cam->capture, t.buffer);
    }
}

/* The port's side: an index is that of a stream. */

static size_t count(void *ctx)
{
    return ((const bmb_v4l2 *)ctx)->count * STREAMS;
}

static camera *camera_at(void *ctx, size_t index, unsigned *n)
{
    const bmb_v4l2 *self = (const bmb_v4l2 *)ctx;
    *n = (unsigned)(index % STREAMS);
    return index / STREAMS < self->count ? &self->cameras[index / STREAMS] : NULL;
}

static bmb_range range_of(const camera *cam, bmb_control control)
{
    bmb_range r = cam->ranges[control];
    for (int codec = 0; r.step == 0 && codec < BMB_CODEC_COUNT; codec++)
        if (codec_encoder_for((bmb_codec)codec) != NULL) r = codec_encoder_range((bmb_codec)codec, control);
    return r;
}

/* Neither the camera nor an encoder of the board delivers it. */
static bool is_made(const camera *cam, bmb_codec codec)
{
    if (cam->owner->converters[codec] != NULL) return false;
    for (size_t i = 0; i < cam->node.row_count; i++) {
        const v4l2_format_row *f = v4l2_format_of(cam->node.rows[i].fourcc);
        if (f != NULL && f->encoded && f->codec == codec) return false;
    }
    return true;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return BMB_NOT_FOUND;
    memset(out, 0, sizeof *out);
    memcpy(out->name, cam->name, sizeof out->name);
    snprintf(out->model, sizeof out->model, "%s", cam->card[0] != '\0' ? cam->card : "absent");
    out->modes = cam->modes;
    out->mode_count = cam->mode_count;
    out->stream = (uint8_t)n;
    out->buffers = V4L2_LENDABLE;
    for (int codec = 0; cam->there && codec < BMB_CODEC_COUNT; codec++)
        if (is_made(cam, (bmb_codec)codec)) out->encodes |= (uint8_t)(1u << codec);
    for (size_t i = 0; i < BMB_CONTROL_COUNT; i++) out->controls[i] = range_of(cam, (bmb_control)i);
    return BMB_OK;
}

/* A camera that compresses itself has the quality that it has, whatever was asked for before it was known to do so. */
static void tell_quality(const camera *cam, int32_t asked)
{
    const bmb_port *port = cam->owner->port;
    if (port->log == NULL || cam->ranges[BMB_CONTROL_QUALITY].step != 0) return;
    port->log(port->ctx, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                                       .code = BMB_EVENT_CONTROL_REFUSED,
                                       .err = BMB_UNSUPPORTED,
                                       .feed = cam->name,
                                       .value = BMB_CONTROL_QUALITY,
                                       .extra = asked });
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return BMB_NOT_FOUND;
    stream *s = &cam->streams[n];
    if (s->running) return BMB_IN_USE;
    if (!cam->capturing && !look_for(cam)) return cam->look_err;
    s->running = s->wanted = true;
    s->dry = false;
    s->mode = *asked;
    s->asked_mfps = asked->mfps;
    bmb_err err = adapt(cam, n);
    if (err != BMB_OK) {
        s->running = false;
        if (cam->capturing) return err; /* for the others it goes on */
        explain(cam, err);
        if (err == BMB_NOT_FOUND) cam->there = false;
        return err;
    }
    cam->trouble[0] = '\0';
    if (s->native && s->quality > 0) tell_quality(cam, s->quality);
    *effective = s->mode;
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || !cam->streams[n].running) return;
    cam->streams[n].running = false;
    drop_ready(cam, &cam->streams[n]);
    codec_stream_stop(cam->codec, n);
    bmb_mode modes[2 * STREAMS];
    size_t running = wanted_modes(cam, modes);
    v4l2_setup setup;
    if (running == 0) {
        end_capture(cam);
        return;
    }
    /* A still may have needed a larger picture than the streams that go on. */
    for (size_t i = 0; i < cam->planned_count; i++) modes[running + i] = cam->planned[i];
    bool less = v4l2_plan(&cam->node, modes, running + cam->planned_count, &setup, NULL) &&
                (uint32_t)setup.width * setup.height < (uint32_t)cam->capture.setup.width * cam->capture.setup.height;
    if (!cam->capturing || !less) return;
    bmb_err err = capture_as(cam, &setup);
    if (err != BMB_OK) fail(cam, BMB_GONE);
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || !cam->streams[n].running) return BMB_GONE;
    stream *s = &cam->streams[n];
    if (!s->dry) pump(cam); /* one call into the system in each step, not one for each stream and picture */
    if (!cam->capturing) return cam->err != BMB_OK ? cam->err : BMB_GONE;
    bmb_err err = s->native ? s->ready_count > 0 ? BMB_OK : BMB_AGAIN : codec_stream_take(cam->codec, n, out);
    if (err == BMB_AGAIN) s->dry = false;
    if (err == BMB_OK && s->native) s->taken++;
    if (!s->native && err == BMB_OK) out->number += (uint32_t)cam->capture.lost;
    if (!s->native || err != BMB_OK) return err;
    const v4l2_taken t = s->ready[0];
    memmove(s->ready, s->ready + 1, --s->ready_count * sizeof *s->ready);
    *out = (bmb_camera_frame){ .data = t.data,
                               .size = t.size,
                               .capture_us = t.capture_us,
                               .key = s->mode.codec == BMB_CODEC_JPEG || t.key,
                               .cookie = NATIVE_COOKIE | t.buffer,
                               .number = s->taken + (uint32_t)cam->capture.lost };
    return BMB_OK;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return;
    if ((cookie & NATIVE_COOKIE) != 0) {
        v4l2_capture_let(&cam->capture, (unsigned)(cookie & ~(uintptr_t)NATIVE_COOKIE));
    } else {
        codec_stream_release(cam->codec, n, cookie);
    }
}

static bmb_err key_frame(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || !cam->capturing) return BMB_NOT_FOUND;
    if (cam->streams[n].native) return v4l2_force_key(cam->owner->system, cam->capture.fd);
    codec_stream_key(cam->codec, n);
    return BMB_OK;
}

static uint16_t busy(void *ctx, size_t index)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    return cam == NULL || cam->codec == NULL || cam->streams[n].native ? 0 : codec_streams_load(cam->codec);
}

static bool want(void *ctx, size_t index, bool wanted)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || cam->streams[n].native) return false;
    cam->streams[n].wanted = wanted;
    codec_stream_want(cam->codec, n, wanted);
    return true;
}

/* The node for a moment, where it is not open. */
static int borrow_fd(const camera *cam)
{
    const v4l2_system *s = cam->owner->system;
    if (cam->capturing) return cam->capture.fd;
    return cam->there ? s->open(s->ctx, cam->node.path) : -ENODEV;
}

static void return_fd(const camera *cam, int fd)
{
    const v4l2_system *s = cam->owner->system;
    if (fd >= 0 && !cam->capturing) s->close(s->ctx, fd);
}

/* Whose is it: the driver's, or our encoder's? */
static bool is_encoders(const camera *cam, unsigned n, bmb_control control)
{
    bool of_encoders = control == BMB_CONTROL_QUALITY || control == BMB_CONTROL_KBPS || control == BMB_CONTROL_KEY_MS;
    const stream *s = &cam->streams[n];
    return of_encoders && (cam->ranges[control].step == 0 || (s->running && !s->native));
}

static bmb_err set(void *ctx, size_t index, bmb_control control, int32_t value, int32_t *effective)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || (size_t)control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    stream *s = &cam->streams[n];
    if (is_encoders(cam, n, control)) {
        if (s->running && s->native) return BMB_UNSUPPORTED; /* what passes as it is has the quality that it has */
        if (control == BMB_CONTROL_QUALITY) s->quality = value;
        return codec_stream_set(cam->codec, n, control, value, effective);
    }
    if (cam->there && cam->ranges[control].step == 0) return BMB_UNSUPPORTED;
    cam->set |= 1u << control;
    cam->wanted[control] = *effective = value;
    if (!cam->there) return BMB_OK; /* it is set when it is there */
    int fd = borrow_fd(cam);
    bmb_err err = fd < 0 ? v4l2_errno(fd)
                         : v4l2_control_set(cam->owner->system, fd, cam->capture.setup.mfps, control, value, effective);
    return_fd(cam, fd);
    if (err != BMB_OK) cam->set &= ~(1u << control);
    return err;
}

static bmb_err get(void *ctx, size_t index, bmb_control control, int32_t *value)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || (size_t)control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    if (is_encoders(cam, n, control)) return codec_stream_get(cam->codec, n, control, value);
    if (cam->ranges[control].step == 0) return BMB_UNSUPPORTED;
    int fd = borrow_fd(cam);
    bmb_err err =
        fd < 0 ? v4l2_errno(fd) : v4l2_control_get(cam->owner->system, fd, cam->capture.setup.mfps, control, value);
    return_fd(cam, fd);
    return err;
}

static bool present(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || cam->capturing) return true;
    bmb_v4l2 *self = cam->owner;
    uint64_t now = self->port->now_us(self->port->ctx);
    self->news += self->system->changed(self->system->ctx);
    /* One that failed may be gone since: news of nodes may be of its own. */
    if (cam->looked_at != self->news || (!cam->there && now >= cam->look_us + LOOK_US)) {
        cam->look_us = now;
        cam->looked_at = self->news;
        (void)look_for(cam);
    }
    return cam->there;
}

static bmb_err together(void *ctx, const size_t *indices, const bmb_mode *modes, size_t n, size_t *culprit)
{
    unsigned stream_number;
    camera *cam = camera_at(ctx, indices[0], &stream_number);
    v4l2_setup setup;
    if (cam == NULL || n > STREAMS) return BMB_UNSUPPORTED;
    if (!cam->there) return BMB_OK; /* it is seen when it comes */
    if (n > 1 && !v4l2_plan(&cam->node, modes, n, &setup, culprit)) return BMB_UNSUPPORTED;
    memcpy(cam->planned, modes, n * sizeof *modes);
    cam->planned_count = n;
    return BMB_OK;
}

static const char *trouble(void *ctx, size_t index)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    return cam != NULL && cam->trouble[0] != '\0' ? cam->trouble : NULL;
}

bmb_cameras bmb_v4l2_cameras(bmb_v4l2 *self)
{
    return (bmb_cameras){ .ctx = self,
                          .count = count,
                          .info = info,
                          .start = start,
                          .stop = stop,
                          .take = take,
                          .release = release,
                          .key_frame = key_frame,
                          .set = set,
                          .get = get,
                          .want = want,
                          .busy = busy,
                          .present = present,
                          .together = together,
                          .trouble = trouble };
}

/* Creating. */

bmb_err v4l2_create_on(v4l2_system *system, const bmb_port *port, const bmb_v4l2_camera *cameras, size_t camera_count,
                       bmb_v4l2 **out)
{
    bmb_v4l2 *self = calloc(1, sizeof *self);
    if (self != NULL) self->cameras = calloc(camera_count + 1, sizeof *self->cameras);
    if (self == NULL || self->cameras == NULL) {
        free(self);
        return BMB_NO_MEMORY;
    }
    self->port = port;
    self->system = system;
    for (int codec = 0; codec < BMB_CODEC_COUNT; codec++)
        self->converters[codec] = v4l2_converter_find(system, (bmb_codec)codec);
    for (size_t i = 0; i < camera_count; i++) {
        camera *cam = &self->cameras[self->count++];
        cam->owner = self;
        snprintf(cam->name, sizeof cam->name, "%s", cameras[i].name);
        if (cameras[i].device != NULL) snprintf(cam->device, sizeof cam->device, "%s", cameras[i].device);
        v4l2_capture_init(&cam->capture, system);
        cam->codec = codec_streams_open(port, STREAMS);
        if (cam->codec == NULL) {
            bmb_v4l2_destroy(self);
            return BMB_LIMIT;
        }
        for (int codec = 0; codec < BMB_CODEC_COUNT; codec++)
            if (self->converters[codec] != NULL)
                codec_streams_prefer(cam->codec, v4l2_converter_encoder((bmb_codec)codec), self->converters[codec]);
    }
    /* Those that are named first: what one of them means is not "any". */
    for (size_t i = 0; i < self->count; i++)
        if (self->cameras[i].device[0] != '\0') (void)look_for(&self->cameras[i]);
    for (size_t i = 0; i < self->count; i++)
        if (self->cameras[i].device[0] == '\0') (void)look_for(&self->cameras[i]);
    *out = self;
    return BMB_OK;
}

bmb_err bmb_v4l2_create(bmb_linux *system, const bmb_port *port, const bmb_v4l2_camera *cameras, size_t camera_count,
                        bmb_v4l2 **out)
{
    v4l2_system *kernel = v4l2_kernel(system);
    if (kernel == NULL) return BMB_NO_MEMORY;
    bmb_err err = v4l2_create_on(kernel, port, cameras, camera_count, out);
    if (err != BMB_OK) {
        v4l2_kernel_free(kernel);
        return err;
    }
    (*out)->own_system = true;
    return BMB_OK;
}

void bmb_v4l2_destroy(bmb_v4l2 *self)
{
    if (self == NULL) return;
    for (size_t i = 0; i < self->count; i++) {
        camera *cam = &self->cameras[i];
        end_capture(cam);
        codec_streams_close(cam->codec);
        v4l2_capture_free(&cam->capture);
    }
    for (int codec = 0; codec < BMB_CODEC_COUNT; codec++) v4l2_converter_free(self->converters[codec]);
    if (self->own_system) v4l2_kernel_free(self->system);
    free(self->cameras);
    free(self);
}

/* Figures. */

bmb_err bmb_v4l2_state_get(bmb_v4l2 *self, size_t index, bmb_v4l2_state *out)
{
    if (self == NULL || index >= self->count) return BMB_NOT_FOUND;
    const camera *cam = &self->cameras[index];
    const v4l2_capture *c = &cam->capture;
    *out = (bmb_v4l2_state){ .there = cam->there,
                             .frames = c->frames,
                             .lost = c->lost,
                             .bad = c->bad,
                             .copied = cam->copied,
                             .starts = cam->starts };
    memcpy(out->path, cam->node.path, sizeof out->path);
    memcpy(out->card, cam->node.card, sizeof out->card);
    memcpy(out->bus, cam->node.bus, sizeof out->bus);
    memcpy(out->driver, cam->node.driver, sizeof out->driver);
    if (!cam->capturing) return BMB_OK;
    snprintf(out->format, sizeof out->format, "%s", v4l2_format_of(c->setup.fourcc)->name);
    out->width = c->setup.width;
    out->height = c->setup.height;
    out->mfps = c->setup.mfps;
    return BMB_OK;
}

bmb_err bmb_v4l2_input(bmb_v4l2 *self, size_t camera_number, const char *input)
{
    if (self == NULL || camera_number >= self->count) return BMB_NOT_FOUND;
    camera *cam = &self->cameras[camera_number];
    snprintf(cam->input, sizeof cam->input, "%s", input);
    (void)look_for(cam);
    return BMB_OK;
}

bmb_err bmb_v4l2_input_text(bmb_v4l2 *self, size_t camera_number, char *out, size_t room)
{
    if (self == NULL || camera_number >= self->count) return BMB_NOT_FOUND;
    const camera *cam = &self->cameras[camera_number];
    const v4l2_signal *signal = &cam->node.signal;
    char all[400] = "", what[48] = "";
    int fd = borrow_fd(cam);
    if (fd < 0) return BMB_NOT_FOUND;
    v4l2_input_list(self->system, fd, all, sizeof all);
    return_fd(cam, fd);
    if (signal->width > 0)
        snprintf(what, sizeof what, ": %ux%u at %g/s", signal->width, signal->height, (double)signal->mfps / 1000.0);
    if (what[0] == '\0' && all[0] == '\0') return BMB_NOT_FOUND;
    snprintf(out, room, "%s%s%s%s", signal->name, what, all[0] != '\0' ? "; inputs: " : "", all);
    return BMB_OK;
}

bmb_err bmb_v4l2_control_text(bmb_v4l2 *self, size_t camera_number, size_t index, char *out, size_t room)
{
    if (self == NULL || camera_number >= self->count) return BMB_NOT_FOUND;
    const camera *cam = &self->cameras[camera_number];
    int fd = borrow_fd(cam);
    if (fd < 0) return BMB_NOT_FOUND;
    bmb_err err = v4l2_control_text(self->system, fd, index, out, room);
    return_fd(cam, fd);
    return err;
}
