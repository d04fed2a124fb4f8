/* Cameras that are streams of bytes: one thread each reads, cuts, and hands over. */
#include "bambino/intake.h"

#include <errno.h>
#include <poll.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/eventfd.h>
#include <time.h>
#include <unistd.h>

#include "codec/encoder.h"
#include "codec/streams.h"
#include "intake/source.h"
#include "codec/split.h"
#include "wire/h264.h"
#include "wire/jpeg.h"

#define STREAMS CODEC_STREAMS_MOST
#define BUFFERS CODEC_BUFFERS
#define CHUNK (256u << 10) /* read at a time */
#define SAYINGS 16u        /* lines of a program's standard error that wait to be logged */
#define SAYING 160u
#define ROWS_MOST 4u

typedef enum buffer_state { BUFFER_FREE, BUFFER_READY, BUFFER_OUT } buffer_state;

/* A picture as it came. Streams that pass it on, and the encoders, hold it by count. */
typedef struct buffer {
    uint8_t *data;
    size_t size, room;
    unsigned refs;
    uint64_t capture_us;
    uint32_t order;
    bool key;
} buffer;

typedef struct stream {
    bool running, native;
    bmb_mode mode;
    uint64_t due_us;
    buffer *ready[BUFFERS]; /* native: the oldest first */
    unsigned ready_count;
} stream;

typedef struct camera {
    const bmb_port *port;
    char name[BMB_NAME_MAX];
    char program[1024], input[256];
    bmb_intake_camera spec;
    pthread_t thread;
    int alarm; /* eventfd: something is wanted of the thread */
    codec_streams *codec;

    pthread_mutex_t lock; /* of all below */
    pthread_cond_t known; /* modes are, or it failed */
    bool quit, wanted, ended, probed;
    char why[400], trouble[400];
    bmb_mode_row modes[2 * ROWS_MOST];
    uint8_t mode_count;
    bmb_mode own; /* of what comes */
    stream streams[STREAMS];
    buffer buffers[BUFFERS + 2];
    uint32_t order;
    char sayings[SAYINGS][SAYING];
    unsigned sayings_count;
    size_t sayings_lost;
} camera;

struct bmb_intake {
    size_t count;
    camera *cameras;
};

const char *bmb_intake_format_name(bmb_intake_format format)
{
    if (format < BMB_INTAKE_I420) {
        static const char *const names[] = { "auto", "jpeg", "h264" };
        return names[format];
    }
    static const codec_format raw[] = { CODEC_I420, CODEC_NV12, CODEC_YUYV, CODEC_UYVY, CODEC_GREY, CODEC_RGB24 };
    return format < BMB_INTAKE_FORMATS ? codec_format_name(raw[format - BMB_INTAKE_I420]) : NULL;
}

static bool raw_format(bmb_intake_format format, codec_format *out)
{
    static const codec_format raw[] = { CODEC_I420, CODEC_NV12, CODEC_YUYV, CODEC_UYVY, CODEC_GREY, CODEC_RGB24 };
    if (format < BMB_INTAKE_I420 || format >= BMB_INTAKE_FORMATS) return false;
    *out = raw[format - BMB_INTAKE_I420];
    return true;
}

static void ring(const camera *cam)
{
    const uint64_t one = 1;
    ssize_t n = write(cam->alarm, &one, sizeof one);
    (void)n; /* fails only when the counter is full, and then it rings */
}

/* Buffers; called with the lock. */

static buffer *free_buffer(camera *cam)
{
    for (size_t i = 0; i < sizeof cam->buffers / sizeof cam->buffers[0]; i++)
        if (cam->buffers[i].refs == 0) return &cam->buffers[i];
    /* Nobody fetched the oldest one: it makes room for a newer one. */
    stream *behind = NULL;
    for (size_t i = 0; i < STREAMS; i++) {
        stream *s = &cam->streams[i];
        if (s->ready_count > 0 && (behind == NULL || (int32_t)(s->ready[0]->order - behind->ready[0]->order) < 0))
            behind = s;
    }
    if (behind == NULL) return NULL;
    buffer *b = behind->ready[0];
    memmove(behind->ready, behind->ready + 1, --behind->ready_count * sizeof behind->ready[0]);
    return --b->refs == 0 ? b : NULL;
}

static void let(void *ctx, uintptr_t cookie)
{
    camera *cam = (camera *)ctx;
    pthread_mutex_lock(&cam->lock);
    if (cam->buffers[cookie].refs > 0) cam->buffers[cookie].refs--;
    pthread_mutex_unlock(&cam->lock);
}

static void drop_ready(stream *s)
{
    for (unsigned i = 0; i < s->ready_count; i++) s->ready[i]->refs--;
    s->ready_count = 0;
}

/* What comes is known by its first picture. */

static void add_modes(camera *cam)
{
    static const uint16_t parts[] = { 1, 2, 4 };
    bool h264 = cam->own.codec == BMB_CODEC_H264;
    codec_format raw;
    bool is_raw = raw_format(cam->spec.format, &raw);
    cam->mode_count = 0;
    for (int turn = 0; turn < BMB_CODEC_COUNT; turn++) {
        bmb_codec codec = turn == 0                          ? cam->own.codec
                          : cam->own.codec == BMB_CODEC_JPEG ? BMB_CODEC_H264
                                                             : BMB_CODEC_JPEG;
        for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++) {
            bool native = turn == 0 && i == 0 && !is_raw;
            if (!native && (h264 || codec_encoder_for(codec) == NULL)) continue;
            uint16_t width = (uint16_t)(cam->own.width / parts[i] & ~1u),
                     height = (uint16_t)(cam->own.height / parts[i] & ~1u);
            if (native) {
                width = cam->own.width;
                height = cam->own.height;
            }
            if (width < 64 || height < 48) continue;
            cam->modes[cam->mode_count++] = (bmb_mode_row){ codec, width, height, cam->own.mfps };
        }
    }
}

static bool measure(const camera *cam, split_kind kind, const uint8_t *data, size_t size, bmb_mode *out)
{
    bmb_jpeg image;
    bmb_h264_facts facts;
    bmb_sps sps;
    *out = (bmb_mode){ BMB_CODEC_JPEG, cam->spec.width, cam->spec.height, cam->spec.mfps };
    if (kind == SPLIT_RAW) return true;
    if (kind == SPLIT_JPEG) {
        if (bmb_jpeg_parse(data, size, &image) != BMB_OK) return false;
        out->width = image.width;
        out->height = image.height;
        return true;
    }
    out->codec = BMB_CODEC_H264;
    if (bmb_h264_parse(data, size, &facts) != BMB_OK) return false;
    for (uint16_t i = 0; i < facts.count; i++) {
        if (bmb_nal_type_of(data[facts.unit[i].at]) != BMB_NAL_SPS) continue;
        if (bmb_sps_parse(data + facts.unit[i].at, facts.unit[i].size, &sps) != BMB_OK) return false;
        out->width = sps.width;
        out->height = sps.height;
        if (sps.mfps > 0) out->mfps = sps.mfps;
        return true;
    }
    return false; /* it is known with the first parameter sets */
}

static bool is_key(split_kind kind, const uint8_t *data, size_t size)
{
    bmb_h264_facts facts;
    return kind != SPLIT_H264 || (bmb_h264_parse(data, size, &facts) == BMB_OK && facts.key);
}

/* The thread. */

static void say(camera *cam, const char *line)
{
    pthread_mutex_lock(&cam->lock);
    if (cam->sayings_count < SAYINGS) {
        snprintf(cam->sayings[cam->sayings_count++], SAYING, "%s", line);
    } else {
        cam->sayings_lost++;
    }
    pthread_mutex_unlock(&cam->lock);
}

/* Lines of a program's standard error; the last one is kept, whole or not. */
static void listen_to(camera *cam, intake_source *src, char *line, size_t room)
{
    char text[512];
    ssize_t n = -1;
    size_t at = strlen(line);
    /* A program that talks without end must not keep its pictures waiting. */
    for (unsigned turns = 0; turns < 16 && (n = read(src->errors, text, sizeof text)) > 0; turns++) {
        for (ssize_t i = 0; i < n; i++) {
            if (text[i] != '\n' && text[i] != '\r') {
                if (at + 1 < room) line[at++] = (text[i] >= ' ' && text[i] < 0x7F) ? text[i] : '?';
                line[at] = '\0';
                continue;
            }
            if (at == 0) continue;
            snprintf(src->words, sizeof src->words, "%s", line);
            say(cam, line);
            at = 0;
            line[0] = '\0';
        }
    }
    if (n == 0) {
        close(src->errors);
        src->errors = -1;
        if (at > 0) snprintf(src->words, sizeof src->words, "%s", line);
    }
}

static uint64_t now_us(const camera *cam)
{
    return cam->port->now_us(cam->port->ctx);
}

/* Called with the lock: the picture goes to all streams that want it. */
static void hand_over(camera *cam, buffer *b, bool *encodes)
{
    *encodes = false;
    for (unsigned i = 0; i < STREAMS; i++) {
        stream *s = &cam->streams[i];
        if (!s->running) continue;
        if (!s->native) *encodes = true;
        /* Pictures are left out to keep a lower rate; not because they came in a burst. */
        bool thinned = cam->own.codec == BMB_CODEC_JPEG && s->mode.mfps < cam->own.mfps;
        if (!s->native || (thinned && !codec_is_due(&s->due_us, s->mode.mfps, b->capture_us))) continue;
        if (s->ready_count == BUFFERS) {
            s->ready[0]->refs--;
            memmove(s->ready, s->ready + 1, --s->ready_count * sizeof s->ready[0]);
        }
        b->refs++;
        s->ready[s->ready_count++] = b;
    }
}

static void to_encoders(camera *cam, const buffer *b, split_kind kind)
{
    codec_picture raw;
    codec_format format = CODEC_I420;
    codec_input in = {
        .ctx = cam, .capture_us = b->capture_us, .cookie = (uintptr_t)(b - cam->buffers), .give_back = let
    };
    if (kind == SPLIT_RAW && raw_format(cam->spec.format, &format)) {
        raw = codec_picture_in(format, cam->spec.width, cam->spec.height, b->data, 0);
        raw.limited = format != CODEC_RGB24 && format != CODEC_GREY; /* as programs that handle video have them */
        in.raw = &raw;
    } else {
        in.jpeg = b->data;
        in.jpeg_size = b->size;
    }
    codec_streams_put(cam->codec, &in);
}

static bool provide(buffer *b, size_t size)
{
    if (b->room >= size) return true;
    uint8_t *grown = realloc(b->data, size + size / 2);
    if (grown == NULL) return false;
    b->data = grown;
    b->room = size + size / 2;
    return true;
}

static void on_picture(camera *cam, split_kind kind, const uint8_t *data, size_t size)
{
    bmb_mode own;
    bool measured = measure(cam, kind, data, size, &own), exposed = codec_streams_expose(cam->codec), encodes = false;
    pthread_mutex_lock(&cam->lock);
    if (measured && (cam->mode_count == 0 || own.width != cam->own.width || own.height != cam->own.height ||
                     own.codec != cam->own.codec)) {
        bool other = cam->mode_count > 0 && cam->wanted; /* its streams were promised something else */
        cam->own = own;
        add_modes(cam);
        cam->probed = true;
        pthread_cond_broadcast(&cam->known);
        if (other) {
            cam->ended = true;
            snprintf(cam->why, sizeof cam->why, "what comes has another size or codec now: %ux%u", own.width,
                     own.height);
        }
    }
    buffer *b = cam->mode_count > 0 ? free_buffer(cam) : NULL;
    if (b != NULL && !provide(b, size)) b = NULL;
    if (b != NULL) {
        memcpy(b->data, data, size);
        b->size = size;
        b->capture_us = now_us(cam);
        b->key = is_key(kind, data, size);
        b->order = cam->order++;
        b->refs = 1;
        hand_over(cam, b, &encodes);
        if (!encodes || !exposed || kind == SPLIT_H264) b->refs--;
    }
    pthread_mutex_unlock(&cam->lock);
    if (b != NULL && encodes && exposed && kind != SPLIT_H264) to_encoders(cam, b, kind);
    cam->port->wake(cam->port->ctx);
}

static bool is_wanted(camera *cam)
{
    pthread_mutex_lock(&cam->lock);
    bool wanted = cam->wanted && !cam->quit && !cam->ended;
    pthread_mutex_unlock(&cam->lock);
    return wanted;
}

/* A file is played at its rate: waits until the next picture is due. */
static void keep_rate(camera *cam, uint64_t *due)
{
    uint64_t now = now_us(cam), interval = 1000000000u / cam->spec.mfps;
    struct pollfd alarm = { .fd = cam->alarm, .events = POLLIN };
    if (*due == 0 || now > *due + interval) *due = now;
    while (*due > now && is_wanted(cam)) {
        uint64_t rung;
        bool rings = poll(&alarm, 1, (int)((*due - now + 999) / 1000)) > 0;
        if (rings && read(cam->alarm, &rung, sizeof rung) < 0) return;
        now = now_us(cam);
    }
    *due += interval;
}

/* Reads until it ends, or is not wanted any more. */
static void read_source(camera *cam, intake_source *src, splitter *split, uint8_t *chunk)
{
    int half_ms = (int)(500000u / cam->spec.mfps);
    char line[SAYING] = "";
    uint64_t due = 0;
    bool idle = false;
    if (half_ms < 10) half_ms = 10;
    while (is_wanted(cam)) {
        const uint8_t *picture;
        size_t size;
        while (is_wanted(cam) && splitter_next(split, idle, &picture, &size)) {
            if (src->is_file) keep_rate(cam, &due);
            on_picture(cam, split->kind, picture, size);
        }
        struct pollfd p[3] = { { .fd = src->fd, .events = POLLIN },
                               { .fd = cam->alarm, .events = POLLIN },
                               { .fd = src->errors, .events = POLLIN } };
        /* The alarm is left ringing until it has been heard: what it is about is looked at above. */
        int n = poll(p, src->errors >= 0 ? 3 : 2, split->kind == SPLIT_H264 && !idle ? half_ms : 500);
        idle = n == 0;
        uint64_t rung;
        if ((p[1].revents & POLLIN) != 0 && read(cam->alarm, &rung, sizeof rung) < 0) continue;
        if (src->errors >= 0 && p[2].revents != 0) listen_to(cam, src, line, sizeof line);
        if (p[0].revents == 0) continue;
        ssize_t got = read(src->fd, chunk, CHUNK);
        int error = got < 0 ? errno : 0;
        if (got > 0) (void)splitter_add(split, chunk, (size_t)got);
        if (got > 0 || (got < 0 && (error == EAGAIN || error == EINTR)) || (got == 0 && src->datagrams)) continue;
        if (got == 0 && src->is_file && lseek(src->fd, 0, SEEK_SET) == 0 && split->size + split->begin > 0) {
            idle = true; /* its last picture is whole */
            continue;
        }
        while (splitter_next(split, true, &picture, &size)) on_picture(cam, split->kind, picture, size);
        if (src->errors >= 0) listen_to(cam, src, line, sizeof line);
        intake_ended(src, &cam->spec, error);
        pthread_mutex_lock(&cam->lock);
        cam->ended = true;
        snprintf(cam->why, sizeof cam->why, "%s", src->why);
        pthread_mutex_unlock(&cam->lock);
    }
}

static void begin_splitter(const camera *cam, splitter *split)
{
    codec_format raw;
    split_kind kind = cam->spec.format == BMB_INTAKE_JPEG   ? SPLIT_JPEG
                      : cam->spec.format == BMB_INTAKE_H264 ? SPLIT_H264
                                                            : SPLIT_UNKNOWN;
    bool is_raw = raw_format(cam->spec.format, &raw);
    splitter_begin(split, is_raw ? SPLIT_RAW : kind,
                   is_raw ? codec_picture_bytes(raw, cam->spec.width, cam->spec.height) : 0);
}

static void *run(void *arg)
{
    camera *cam = (camera *)arg;
    splitter split = { 0 };
    uint8_t *chunk = malloc(CHUNK);
    pthread_mutex_lock(&cam->lock);
    while (!cam->quit) {
        if (!cam->wanted || cam->ended || chunk == NULL) {
            uint64_t rung;
            struct pollfd alarm = { .fd = cam->alarm, .events = POLLIN };
            pthread_mutex_unlock(&cam->lock);
            (void)poll(&alarm, 1, -1);
            ssize_t n = read(cam->alarm, &rung, sizeof rung);
            (void)n;
            pthread_mutex_lock(&cam->lock);
            continue;
        }
        pthread_mutex_unlock(&cam->lock);
        intake_source src;
        begin_splitter(cam, &split);
        bool opened = intake_open(&src, &cam->spec);
        if (opened) read_source(cam, &src, &split, chunk);
        intake_close(&src);
        pthread_mutex_lock(&cam->lock);
        if (!opened) {
            cam->ended = true;
            snprintf(cam->why, sizeof cam->why, "%s", src.why);
        }
        cam->probed = true;
        pthread_cond_broadcast(&cam->known);
        pthread_mutex_unlock(&cam->lock);
        cam->port->wake(cam->port->ctx);
        pthread_mutex_lock(&cam->lock);
    }
    pthread_mutex_unlock(&cam->lock);
    splitter_free(&split);
    free(chunk);
    return NULL;
}

/* The port's side: an index is that of a stream. An H.264 camera has one, what it delivers cannot be made smaller. */

static size_t count(void *ctx)
{
    return ((const bmb_intake *)ctx)->count * STREAMS;
}

static camera *camera_at(void *ctx, size_t index, unsigned *n)
{
    const bmb_intake *self = (const bmb_intake *)ctx;
    *n = (unsigned)(index % STREAMS);
    return index / STREAMS < self->count ? &self->cameras[index / STREAMS] : NULL;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return BMB_NOT_FOUND;
    memset(out, 0, sizeof *out);
    memcpy(out->name, cam->name, sizeof out->name);
    snprintf(out->model, sizeof out->model, "%.*s", (int)sizeof out->model - 1,
             cam->spec.program != NULL ? cam->spec.program : cam->spec.input);
    pthread_mutex_lock(&cam->lock);
    bool h264 = cam->mode_count > 0 && cam->own.codec == BMB_CODEC_H264;
    bool native_only = h264 || codec_encoder_for(BMB_CODEC_JPEG) == NULL;
    out->modes = cam->modes;
    out->mode_count = cam->mode_count;
    out->stream = (uint8_t)n;
    out->buffers = BUFFERS;
    for (int c = 0; !native_only && c < BMB_CONTROL_COUNT; c++) {
        for (int codec = 0; codec < BMB_CODEC_COUNT; codec++) {
            bmb_range r = codec_encoder_range((bmb_codec)codec, (bmb_control)c);
            if (r.step != 0 && codec_encoder_for((bmb_codec)codec) != NULL) out->controls[c] = r;
        }
    }
    pthread_mutex_unlock(&cam->lock);
    return BMB_OK;
}

static bool is_known(const camera *cam, const bmb_mode *m)
{
    for (uint8_t i = 0; i < cam->mode_count; i++)
        if (cam->modes[i].codec == m->codec && cam->modes[i].width == m->width && cam->modes[i].height == m->height)
            return true;
    return false;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    codec_format raw;
    if (cam == NULL) return BMB_NOT_FOUND;
    stream *s = &cam->streams[n];
    pthread_mutex_lock(&cam->lock);
    bmb_err err = s->running ? BMB_IN_USE : BMB_OK;
    bmb_mode mode = *asked;
    if (cam->mode_count > 0 && !is_known(cam, &mode) && mode.codec == cam->own.codec) mode = cam->own; /* what comes */
    if (cam->mode_count > 0 && !is_known(cam, &mode)) err = BMB_UNSUPPORTED;
    if (err == BMB_OK && mode.mfps > cam->own.mfps && cam->own.mfps > 0) mode.mfps = cam->own.mfps;
    s->native = cam->mode_count == 0 || (!raw_format(cam->spec.format, &raw) && mode.codec == cam->own.codec &&
                                         mode.width == cam->own.width && mode.height == cam->own.height);
    pthread_mutex_unlock(&cam->lock);
    if (err == BMB_OK && !s->native) err = codec_stream_start(cam->codec, n, &mode);
    if (err != BMB_OK) return err;
    pthread_mutex_lock(&cam->lock);
    s->running = true;
    s->mode = mode;
    s->due_us = 0;
    cam->wanted = true;
    cam->ended = false;
    cam->trouble[0] = '\0';
    pthread_mutex_unlock(&cam->lock);
    ring(cam);
    *effective = mode;
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || !cam->streams[n].running) return;
    if (!cam->streams[n].native) codec_stream_stop(cam->codec, n);
    pthread_mutex_lock(&cam->lock);
    cam->streams[n].running = false;
    drop_ready(&cam->streams[n]);
    cam->wanted = false;
    for (size_t i = 0; i < STREAMS; i++) cam->wanted = cam->wanted || cam->streams[i].running;
    pthread_mutex_unlock(&cam->lock);
    ring(cam);
}

/* What a program said goes to the log from the device's thread. */
static void log_sayings(camera *cam)
{
    char lines[SAYINGS][SAYING];
    pthread_mutex_lock(&cam->lock);
    unsigned said = cam->sayings_count;
    memcpy(lines, cam->sayings, said * SAYING);
    cam->sayings_count = 0;
    pthread_mutex_unlock(&cam->lock);
    for (unsigned i = 0; i < said && cam->port->log != NULL; i++)
        cam->port->log(cam->port->ctx, &(bmb_event){ .level = BMB_LEVEL_DEBUG,
                                                     .code = BMB_EVENT_CAMERA_SAYS,
                                                     .feed = cam->name,
                                                     .text = lines[i] });
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return BMB_GONE;
    stream *s = &cam->streams[n];
    log_sayings(cam);
    if (!s->native && codec_stream_take(cam->codec, n, out) == BMB_OK) return BMB_OK;
    pthread_mutex_lock(&cam->lock);
    buffer *b = s->native && s->ready_count > 0 ? s->ready[0] : NULL;
    bool ended = b == NULL && cam->ended;
    if (b != NULL) {
        memmove(s->ready, s->ready + 1, --s->ready_count * sizeof s->ready[0]);
        *out = (bmb_camera_frame){ .data = b->data,
                                   .size = b->size,
                                   .capture_us = b->capture_us,
                                   .key = b->key,
                                   .cookie = (uintptr_t)(b - cam->buffers) };
    }
    if (ended) memcpy(cam->trouble, cam->why, sizeof cam->trouble);
    pthread_mutex_unlock(&cam->lock);
    return b != NULL ? BMB_OK : ended ? BMB_GONE : BMB_AGAIN;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL) return;
    if (cam->streams[n].native) {
        let(cam, cookie);
    } else {
        codec_stream_release(cam->codec, n, cookie);
    }
}

static bmb_err key_frame(void *ctx, size_t index)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || cam->streams[n].native) return BMB_UNSUPPORTED; /* whoever writes is not asked */
    codec_stream_key(cam->codec, n);
    return BMB_OK;
}

static uint16_t busy(void *ctx, size_t index)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    return cam == NULL || cam->streams[n].native ? 0 : codec_streams_load(cam->codec);
}

static bool want(void *ctx, size_t index, bool wanted)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    if (cam == NULL || cam->streams[n].native) return false;
    codec_stream_want(cam->codec, n, wanted);
    return true;
}

static bmb_err set(void *ctx, size_t index, bmb_control control, int32_t value, int32_t *effective)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    /* What passes as it came has the quality that it has. */
    if (cam == NULL || (cam->streams[n].running && cam->streams[n].native)) return BMB_UNSUPPORTED;
    return codec_stream_set(cam->codec, n, control, value, effective);
}

static bmb_err get(void *ctx, size_t index, bmb_control control, int32_t *value)
{
    unsigned n;
    camera *cam = camera_at(ctx, index, &n);
    return cam != NULL ? codec_stream_get(cam->codec, n, control, value) : BMB_UNSUPPORTED;
}

static const char *trouble(void *ctx, size_t index)
{
    unsigned n;
    const camera *cam = camera_at(ctx, index, &n);
    return cam != NULL && cam->trouble[0] != '\0' ? cam->trouble : NULL;
}

bmb_cameras bmb_intake_cameras(bmb_intake *self)
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
                          .trouble = trouble };
}

/* Creating. */

static bool may_be(const bmb_intake_camera *spec)
{
    codec_format raw;
    bool sized = spec->width >= 16 && spec->height >= 16 && spec->width % 2 == 0 && spec->height % 2 == 0;
    return (spec->program != NULL) != (spec->input != NULL) && (!raw_format(spec->format, &raw) || sized);
}

static void release_all(camera *cam)
{
    codec_streams_close(cam->codec);
    if (cam->alarm >= 0) close(cam->alarm);
    for (size_t k = 0; k < sizeof cam->buffers / sizeof cam->buffers[0]; k++) free(cam->buffers[k].data);
    pthread_mutex_destroy(&cam->lock);
    pthread_cond_destroy(&cam->known);
}

static bmb_err open_camera(camera *cam, const bmb_port *port, const bmb_intake_camera *spec)
{
    cam->port = port;
    cam->spec = *spec;
    snprintf(cam->name, sizeof cam->name, "%s", spec->name);
    snprintf(cam->program, sizeof cam->program, "%s", spec->program != NULL ? spec->program : "");
    snprintf(cam->input, sizeof cam->input, "%s", spec->input != NULL ? spec->input : "");
    cam->spec.name = cam->name;
    if (spec->program != NULL) cam->spec.program = cam->program;
    if (spec->input != NULL) cam->spec.input = cam->input;
    if (cam->spec.mfps < 1000) cam->spec.mfps = 15000;
    pthread_condattr_t attr;
    pthread_condattr_init(&attr);
    pthread_condattr_setclock(&attr, CLOCK_MONOTONIC);
    pthread_mutex_init(&cam->lock, NULL);
    pthread_cond_init(&cam->known, &attr);
    pthread_condattr_destroy(&attr);
    cam->wanted = true; /* to be known */
    cam->alarm = eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK);
    cam->codec = codec_streams_open(port, STREAMS);
    if (cam->alarm >= 0 && cam->codec != NULL && pthread_create(&cam->thread, NULL, run, cam) == 0) return BMB_OK;
    release_all(cam);
    return BMB_LIMIT;
}

static void wait_until_known(camera *cam, const struct timespec *until)
{
    pthread_mutex_lock(&cam->lock);
    while (!cam->probed && pthread_cond_timedwait(&cam->known, &cam->lock, until) == 0) continue;
    memcpy(cam->trouble, cam->why, sizeof cam->trouble);
    if (cam->mode_count == 0 && cam->trouble[0] == '\0')
        snprintf(cam->trouble, sizeof cam->trouble,
                 "no picture came; say with `format` what it is, and see what writes it");
    pthread_mutex_unlock(&cam->lock);
}

bmb_err bmb_intake_create(const bmb_port *port, const bmb_intake_camera *cameras, size_t camera_count, uint32_t wait_ms,
                          bmb_intake **out)
{
    struct timespec until;
    bmb_intake *self = calloc(1, sizeof *self);
    if (self != NULL) self->cameras = calloc(camera_count + 1, sizeof *self->cameras);
    if (self == NULL || self->cameras == NULL) {
        free(self);
        return BMB_NO_MEMORY;
    }
    for (size_t i = 0; i < camera_count; i++) {
        bmb_err err = may_be(&cameras[i]) ? open_camera(&self->cameras[i], port, &cameras[i]) : BMB_BAD_ARG;
        if (err == BMB_OK) {
            self->count++;
            continue;
        }
        bmb_intake_destroy(self);
        return err;
    }
    clock_gettime(CLOCK_MONOTONIC, &until);
    until.tv_sec += (time_t)(wait_ms / 1000);
    until.tv_nsec += (long)(wait_ms % 1000) * 1000000;
    if (until.tv_nsec >= 1000000000) {
        until.tv_nsec -= 1000000000;
        until.tv_sec++;
    }
    for (size_t i = 0; i < self->count; i++) wait_until_known(&self->cameras[i], &until);
    *out = self;
    return BMB_OK;
}

void bmb_intake_destroy(bmb_intake *self)
{
    if (self == NULL) return;
    for (size_t i = 0; i < self->count; i++) {
        camera *cam = &self->cameras[i];
        pthread_mutex_lock(&cam->lock);
        cam->quit = true;
        pthread_mutex_unlock(&cam->lock);
        ring(cam);
        pthread_join(cam->thread, NULL);
        release_all(cam);
    }
    free(self->cameras);
    free(self);
}
