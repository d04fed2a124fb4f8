#include "codec/streams.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#include "codec/encoder.h"

#define SILENCE_US 12000000u /* a sensor at one picture a second, and ten of them */
#define WINDOW_US 1000000u   /* over which the work is counted */
#define FETCH_US 100000u     /* in which a device that is about to fetch a picture does so */

typedef enum buffer_state { BUFFER_FREE, BUFFER_FILLING, BUFFER_READY, BUFFER_OUT } buffer_state;

typedef struct buffer {
    buffer_state state;
    uint8_t *data;
    size_t room, size;
    uint64_t capture_us;
    uint32_t order, number; /* number: among the pictures that were due for its stream */
    bool key;
} buffer;

typedef struct stream {
    bool running, wanted, key_wanted;
    uint32_t life; /* counts starts: the thread sees that its encoder is of an earlier one */
    bmb_mode mode;
    int32_t quality, kbps, key_ms;
    uint64_t due_us; /* no picture before, to keep its rate */
    buffer buffers[CODEC_BUFFERS];
    uint32_t order, number; /* number: pictures that were due, also those that came to nothing */
    /* The thread's own. */
    uint32_t open_life;
    const codec_encoder *encoder;
    void *encoding;
    bool forsaken;       /* the preferred encoder failed in this life */
    uint32_t serial;     /* counts what was encoded for it */
    int fed_by;          /* the stream whose work it shares; -1: none … */
    uint32_t fed_serial; /* … and that stream's serial when it did so last */
} stream;

struct codec_streams {
    const bmb_port *port;
    unsigned count;
    pthread_t thread;
    pthread_mutex_t lock; /* of all below but for what is the thread's own */
    pthread_cond_t changed, idle;
    bool stop, busy, has_input;
    uint64_t worked_us, window_us; /* of the time since that moment */
    uint16_t load;                 /* thousandths, of the window before */
    uint64_t exposed_us;           /* the last exposure */
    codec_input input;             /* whose raw picture, if it has one, is this: */
    codec_picture raw;
    codec_tally tally;
    stream stream[CODEC_STREAMS_MOST];
    const codec_encoder *preferred[BMB_CODEC_COUNT];
    void *preferred_ctx[BMB_CODEC_COUNT];
    codec_decoder *decoder;                  /* the thread's own */
    codec_canvas planar;                     /* likewise, of the present picture … */
    bool planar_made;                        /* … if this says so */
    codec_canvas canvas[CODEC_STREAMS_MOST]; /* likewise */
};

/* What is to be made of one picture, noted with the lock and done without it. */
typedef struct job {
    bool due;
    uint32_t life;
    bmb_mode mode;
    codec_request request;
    buffer *into;
    size_t size;
    bool key, shared, scaled, preferred;
    int like; /* an earlier one that wants the same; -1: none */
} job;

static bool same_work(const job *a, const job *b)
{
    const codec_request *x = &a->request, *y = &b->request;
    return a->due && b->due && a->mode.codec == b->mode.codec && a->mode.width == b->mode.width &&
           a->mode.height == b->mode.height && a->mode.mfps == b->mode.mfps && x->quality == y->quality &&
           x->kbps == y->kbps && x->key_ms == y->key_ms;
}

static void give_back(const codec_input *in)
{
    if (in->give_back != NULL) in->give_back(in->ctx, in->cookie);
}

/* A free buffer, or the oldest that nobody has fetched; NULL: the device holds all. The only one to be fetched stays
 * for a while: where encoding takes as long as pictures last, it would be overwritten before anybody saw it, for ever.
 */
static buffer *take_buffer(stream *s, uint64_t capture_us)
{
    buffer *found = NULL;
    unsigned ready = 0;
    for (size_t i = 0; i < CODEC_BUFFERS; i++) {
        buffer *b = &s->buffers[i];
        if (b->state == BUFFER_FREE) return b;
        if (b->state != BUFFER_READY) continue;
        ready++;
        if (found == NULL || (int32_t)(b->order - found->order) < 0) found = b;
    }
    return ready > 1 || (ready == 1 && capture_us > found->capture_us + FETCH_US) ? found : NULL;
}

static buffer *oldest_ready(stream *s)
{
    buffer *found = NULL;
    for (size_t i = 0; i < CODEC_BUFFERS; i++) {
        buffer *b = &s->buffers[i];
        if (b->state == BUFFER_READY && (found == NULL || (int32_t)(b->order - found->order) < 0)) found = b;
    }
    return found;
}

/* A quarter of an interval of leeway is for cameras that are not quite even. */
bool codec_is_due(uint64_t *due_us, uint32_t mfps, uint64_t capture_us)
{
    uint64_t interval = mfps > 0 ? 1000000000u / mfps : 0;
    if (capture_us + interval / 4 < *due_us) return false;
    bool behind = *due_us == 0 || capture_us > *due_us + interval;
    *due_us = (behind ? capture_us : *due_us) + interval;
    return true;
}

static void note_jobs(codec_streams *self, job *jobs)
{
    for (unsigned i = 0; i < self->count; i++) {
        stream *s = &self->stream[i];
        jobs[i] =
            (job){ .due = s->running && s->wanted && codec_is_due(&s->due_us, s->mode.mfps, self->input.capture_us) };
        if (!jobs[i].due) continue;
        s->number++;
        jobs[i].into = take_buffer(s, self->input.capture_us);
        if (jobs[i].into == NULL) {
            jobs[i].due = false;
            continue;
        }
        /* A picture that nobody fetched is lost: those that build on it are of no use. */
        if (jobs[i].into->state == BUFFER_READY && s->mode.codec == BMB_CODEC_H264) s->key_wanted = true;
        jobs[i].into->state = BUFFER_FILLING;
        jobs[i].into->number = s->number;
        jobs[i].life = s->life;
        jobs[i].mode = s->mode;
        jobs[i].request = (codec_request){ s->key_wanted, self->input.capture_us, s->quality, s->kbps, s->key_ms };
        s->key_wanted = false;
    }
}

/* H.264 encoders take planes alone: where one works on the picture's own size, it is laid out so once, for all. NULL:
 * none does, or it lies so. */
static const codec_picture *planar_of(codec_streams *self, const codec_picture *raw, const job *jobs)
{
    bool wanted = false;
    if (raw->format == CODEC_I420 && !raw->limited) return NULL;
    if (self->planar_made) return &self->planar.view;
    for (unsigned i = 0; i < self->count; i++)
        wanted = wanted || (jobs[i].due && jobs[i].mode.codec == BMB_CODEC_H264 && jobs[i].mode.width == raw->width &&
                            jobs[i].mode.height == raw->height);
    self->planar_made = wanted && codec_scale(&self->planar, raw, raw->width, raw->height);
    return self->planar_made ? &self->planar.view : NULL;
}

/* The picture in a stream's size: one that was made already for another one, where there is one. NULL: it cannot be. */
static const codec_picture *picture_for(codec_streams *self, const codec_input *in, job *jobs, unsigned n,
                                        const codec_picture **made)
{
    uint16_t width = jobs[n].mode.width, height = jobs[n].mode.height;
    for (unsigned i = 0; i < n; i++)
        if (made[i] != NULL && jobs[i].mode.width == width && jobs[i].mode.height == height) return made[i];
    codec_canvas *canvas = &self->canvas[n];
    if (in->draw != NULL) return in->draw(in->ctx, in->cookie, n, width, height, &canvas->view) ? &canvas->view : NULL;
    if (in->raw == NULL) return NULL;
    bool exact = in->raw->width == width && in->raw->height == height;
    if (exact && jobs[n].mode.codec == BMB_CODEC_JPEG && !self->planar_made) return in->raw;
    const codec_picture *planar = planar_of(self, in->raw, jobs);
    const codec_picture *from = planar != NULL ? planar : in->raw;
    if (exact) return from;
    jobs[n].scaled = true;
    return codec_scale(canvas, from, width, height) ? &canvas->view : NULL;
}

/* The largest size that is due, which a JPEG image must be decoded to. */
static bool decode(codec_streams *self, const codec_input *in, const job *jobs, codec_picture *out)
{
    uint16_t width = 0, height = 0;
    for (unsigned i = 0; i < self->count; i++) {
        if (!jobs[i].due) continue;
        if (jobs[i].mode.width > width) width = jobs[i].mode.width;
        if (jobs[i].mode.height > height) height = jobs[i].mode.height;
    }
    if (width == 0) return false;
    if (self->decoder == NULL) self->decoder = codec_decoder_open();
    return self->decoder != NULL && codec_decode(self->decoder, in->jpeg, in->jpeg_size, width, height, out);
}

static void close_encoder(stream *s)
{
    if (s->encoding != NULL) s->encoder->close(s->encoding);
    s->encoding = NULL;
}

/* The board's own, and the build's where there is none, or it fails. */
static void open_encoder(const codec_streams *self, stream *s, const job *j)
{
    bmb_codec codec = j->mode.codec;
    close_encoder(s);
    if (s->open_life != j->life) s->forsaken = false;
    s->open_life = j->life;
    s->encoder = s->forsaken ? NULL : self->preferred[codec];
    if (s->encoder != NULL) s->encoding = s->encoder->open(self->preferred_ctx[codec], &j->mode, &j->request);
    if (s->encoding != NULL) return;
    s->encoder = codec_encoder_for(codec);
    if (s->encoder != NULL) s->encoding = s->encoder->open(NULL, &j->mode, &j->request);
}

static void encode(const codec_streams *self, stream *s, job *j, const codec_picture *picture)
{
    buffer *b = j->into;
    size_t room = codec_encoded_most(j->mode.width, j->mode.height);
    if (s->open_life != j->life || s->encoding == NULL) open_encoder(self, s, j);
    if (b->room < room) {
        uint8_t *grown = realloc(b->data, room);
        if (grown == NULL) return;
        b->data = grown;
        b->room = room;
    }
    if (s->encoding == NULL) return;
    j->size = s->encoder->encode(s->encoding, picture, &j->request, b->data, b->room, &j->key);
    j->preferred = s->encoder == self->preferred[j->mode.codec];
    if (j->size > 0 || !j->preferred) return;
    s->forsaken = true; /* the other one takes over, with the next picture */
    close_encoder(s);
}

/* The work of another stream that wants the same; each has buffers of its own, since each gives them back by itself. */
static bool share(const job *from, job *j)
{
    buffer *b = j->into;
    if (from->size == 0) return false;
    if (b->room < from->size) {
        uint8_t *grown = realloc(b->data, from->into->room);
        if (grown == NULL) return false;
        b->data = grown;
        b->room = from->into->room;
    }
    memcpy(b->data, from->into->data, from->size);
    j->size = from->size;
    j->key = from->key;
    return true;
}

/* Finds what is wanted twice. Whoever joins, or missed one of the pictures that were made for the other, begins with a
 * key frame, and so does the other. */
static void pair(codec_streams *self, job *jobs)
{
    for (unsigned i = 0; i < self->count; i++) {
        const stream *s = &self->stream[i];
        jobs[i].like = -1;
        for (unsigned k = 0; k < i && jobs[i].like < 0; k++)
            if (same_work(&jobs[k], &jobs[i]) && jobs[k].like < 0) jobs[i].like = (int)k;
        int like = jobs[i].like;
        if (like < 0) continue;
        bool goes_on = s->fed_by == like && s->fed_serial == self->stream[like].serial;
        if (jobs[i].request.key || !goes_on) jobs[like].request.key = true;
    }
}

static void work(codec_streams *self, const codec_input *input, job *jobs)
{
    const codec_picture *made[CODEC_STREAMS_MOST] = { NULL };
    codec_picture decoded;
    self->planar_made = false;
    if (input->jpeg != NULL && !decode(self, input, jobs, &decoded)) return;
    codec_input in = *input;
    if (in.jpeg != NULL) in.raw = &decoded;
    pair(self, jobs);
    for (unsigned i = 0; i < self->count; i++) {
        job *j = &jobs[i];
        stream *s = &self->stream[i];
        if (!j->due) continue;
        if (j->like >= 0 && share(&jobs[j->like], j)) {
            j->shared = true;
            close_encoder(s); /* it would go on from a picture that the receiver has not got */
            s->fed_by = j->like;
            s->fed_serial = self->stream[j->like].serial;
            continue;
        }
        s->fed_by = -1;
        s->serial++;
        made[i] = picture_for(self, &in, jobs, i, made);
        if (made[i] != NULL) encode(self, s, j, made[i]);
    }
}

static void deliver(codec_streams *self, const codec_input *in, const job *jobs)
{
    for (unsigned i = 0; i < self->count; i++) {
        const job *j = &jobs[i];
        stream *s = &self->stream[i];
        if (!j->due) continue;
        bool good = j->size > 0 && s->running && s->life == j->life;
        self->tally.encoded += j->size > 0 && !j->shared;
        self->tally.shared += j->shared;
        self->tally.failed += j->size == 0;
        self->tally.scaled += j->scaled;
        self->tally.preferred += j->preferred && j->size > 0;
        if (j->size == 0 && j->request.key) s->key_wanted = true;
        j->into->size = j->size;
        j->into->key = j->key;
        j->into->capture_us = in->capture_us;
        j->into->order = s->order++;
        j->into->state = good ? BUFFER_READY : BUFFER_FREE;
    }
}

/* In windows of a second, so that what was is forgotten. */
static void count_work(codec_streams *self, uint64_t begin_us)
{
    uint64_t now = self->port->now_us(self->port->ctx);
    self->worked_us += now - begin_us;
    if (now - self->window_us < WINDOW_US) return;
    uint64_t load = self->worked_us * 1000 / (now - self->window_us);
    self->load = (uint16_t)(load < 1000 ? load : 1000);
    self->worked_us = 0;
    self->window_us = now;
}

static void *run(void *arg)
{
    codec_streams *self = (codec_streams *)arg;
    job jobs[CODEC_STREAMS_MOST];
    pthread_mutex_lock(&self->lock);
    while (!self->stop) {
        if (!self->has_input) {
            pthread_cond_wait(&self->changed, &self->lock);
            continue;
        }
        codec_input in = self->input;
        codec_picture raw = self->raw;
        if (in.raw != NULL) in.raw = &raw;
        self->has_input = false;
        self->busy = true;
        uint64_t begin_us = self->port->now_us(self->port->ctx);
        note_jobs(self, jobs);
        pthread_mutex_unlock(&self->lock);
        work(self, &in, jobs);
        give_back(&in);
        pthread_mutex_lock(&self->lock);
        deliver(self, &in, jobs);
        count_work(self, begin_us);
        self->busy = false;
        pthread_cond_broadcast(&self->idle);
        self->port->wake(self->port->ctx);
    }
    pthread_mutex_unlock(&self->lock);
    return NULL;
}

codec_streams *codec_streams_open(const bmb_port *port, unsigned count)
{
    codec_streams *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    self->port = port;
    self->count = count < CODEC_STREAMS_MOST ? count : CODEC_STREAMS_MOST;
    pthread_mutex_init(&self->lock, NULL);
    pthread_cond_init(&self->changed, NULL);
    pthread_cond_init(&self->idle, NULL);
    for (unsigned i = 0; i < self->count; i++) {
        stream *s = &self->stream[i];
        s->fed_by = -1;
        s->quality = codec_encoder_range(BMB_CODEC_JPEG, BMB_CONTROL_QUALITY).preset;
        s->kbps = codec_encoder_range(BMB_CODEC_H264, BMB_CONTROL_KBPS).preset;
        s->key_ms = codec_encoder_range(BMB_CODEC_H264, BMB_CONTROL_KEY_MS).preset;
    }
    if (pthread_create(&self->thread, NULL, run, self) == 0) return self;
    free(self);
    return NULL;
}

void codec_streams_prefer(codec_streams *self, const codec_encoder *encoder, void *ctx)
{
    self->preferred[encoder->codec] = encoder;
    self->preferred_ctx[encoder->codec] = ctx;
}

void codec_streams_drain(codec_streams *self)
{
    pthread_mutex_lock(&self->lock);
    while (self->busy) pthread_cond_wait(&self->idle, &self->lock);
    bool waiting = self->has_input;
    codec_input in = self->input;
    self->has_input = false;
    pthread_mutex_unlock(&self->lock);
    if (waiting) give_back(&in);
}

void codec_streams_close(codec_streams *self)
{
    if (self == NULL) return;
    codec_streams_drain(self);
    pthread_mutex_lock(&self->lock);
    self->stop = true;
    pthread_cond_broadcast(&self->changed);
    pthread_mutex_unlock(&self->lock);
    pthread_join(self->thread, NULL);
    for (unsigned i = 0; i < self->count; i++) {
        close_encoder(&self->stream[i]);
        for (size_t k = 0; k < CODEC_BUFFERS; k++) free(self->stream[i].buffers[k].data);
        codec_canvas_free(&self->canvas[i]);
    }
    codec_canvas_free(&self->planar);
    codec_decoder_close(self->decoder);
    pthread_mutex_destroy(&self->lock);
    pthread_cond_destroy(&self->changed);
    pthread_cond_destroy(&self->idle);
    free(self);
}

/* A picture that will not be: its number is missing in the streams that it was due for. */
static void miss(codec_streams *self, uint64_t capture_us)
{
    for (unsigned i = 0; i < self->count; i++) {
        stream *s = &self->stream[i];
        if (s->running && s->wanted && codec_is_due(&s->due_us, s->mode.mfps, capture_us)) s->number++;
    }
}

void codec_streams_miss(codec_streams *self, uint64_t capture_us)
{
    pthread_mutex_lock(&self->lock);
    miss(self, capture_us);
    pthread_mutex_unlock(&self->lock);
}

void codec_streams_put(codec_streams *self, const codec_input *input)
{
    pthread_mutex_lock(&self->lock);
    bool waiting = self->has_input;
    codec_input older = self->input;
    self->input = *input;
    self->has_input = true;
    self->tally.inputs++;
    self->tally.replaced += waiting;
    if (waiting) miss(self, older.capture_us);
    if (input->raw != NULL) self->raw = *input->raw;
    pthread_cond_signal(&self->changed);
    pthread_mutex_unlock(&self->lock);
    if (waiting) give_back(&older);
}

bool codec_streams_behind(codec_streams *self)
{
    pthread_mutex_lock(&self->lock);
    bool behind = self->has_input;
    pthread_mutex_unlock(&self->lock);
    return behind;
}

bool codec_streams_expose(codec_streams *self)
{
    bool wanted = false;
    pthread_mutex_lock(&self->lock);
    self->exposed_us = self->port->now_us(self->port->ctx);
    for (unsigned i = 0; i < self->count; i++) wanted = wanted || (self->stream[i].running && self->stream[i].wanted);
    pthread_mutex_unlock(&self->lock);
    return wanted;
}

/* Streams of one mode are due with the same pictures, or none could share another's work. */
static uint64_t phase_of(const codec_streams *self, unsigned n)
{
    const bmb_mode *m = &self->stream[n].mode;
    for (unsigned i = 0; i < self->count; i++) {
        const stream *s = &self->stream[i];
        bool same = s->mode.codec == m->codec && s->mode.mfps == m->mfps && s->mode.width == m->width;
        if (i != n && s->running && same) return s->due_us;
    }
    return 0;
}

bmb_err codec_stream_start(codec_streams *self, unsigned n, const bmb_mode *mode)
{
    stream *s = &self->stream[n];
    if (codec_encoder_for(mode->codec) == NULL && self->preferred[mode->codec] == NULL) return BMB_UNSUPPORTED;
    pthread_mutex_lock(&self->lock);
    bmb_err err = s->running ? BMB_IN_USE : BMB_OK;
    if (err == BMB_OK) {
        s->running = s->wanted = s->key_wanted = true;
        s->life++;
        s->mode = *mode;
        s->due_us = phase_of(self, n);
        self->exposed_us = self->port->now_us(self->port->ctx);
    }
    pthread_mutex_unlock(&self->lock);
    return err;
}

void codec_stream_stop(codec_streams *self, unsigned n)
{
    stream *s = &self->stream[n];
    pthread_mutex_lock(&self->lock);
    s->running = false;
    for (size_t i = 0; i < CODEC_BUFFERS; i++)
        if (s->buffers[i].state == BUFFER_READY) s->buffers[i].state = BUFFER_FREE;
    pthread_mutex_unlock(&self->lock);
}

bool codec_stream_running(codec_streams *self, unsigned n, bmb_mode *mode)
{
    pthread_mutex_lock(&self->lock);
    bool running = self->stream[n].running;
    if (mode != NULL) *mode = self->stream[n].mode;
    pthread_mutex_unlock(&self->lock);
    return running;
}

bmb_err codec_stream_take(codec_streams *self, unsigned n, bmb_camera_frame *out)
{
    stream *s = &self->stream[n];
    pthread_mutex_lock(&self->lock);
    buffer *b = oldest_ready(s);
    if (b != NULL) {
        b->state = BUFFER_OUT;
        *out = (bmb_camera_frame){ .data = b->data,
                                   .size = b->size,
                                   .capture_us = b->capture_us,
                                   .key = b->key,
                                   .cookie = (uintptr_t)(b - s->buffers),
                                   .number = b->number };
    }
    bool silent = !s->wanted && self->port->now_us(self->port->ctx) > self->exposed_us + SILENCE_US;
    pthread_mutex_unlock(&self->lock);
    return b != NULL ? BMB_OK : silent ? BMB_TIMED_OUT : BMB_AGAIN;
}

void codec_stream_release(codec_streams *self, unsigned n, uintptr_t cookie)
{
    pthread_mutex_lock(&self->lock);
    if (cookie < CODEC_BUFFERS) self->stream[n].buffers[cookie].state = BUFFER_FREE;
    pthread_mutex_unlock(&self->lock);
}

void codec_stream_key(codec_streams *self, unsigned n)
{
    pthread_mutex_lock(&self->lock);
    self->stream[n].key_wanted = true;
    pthread_mutex_unlock(&self->lock);
}

uint16_t codec_streams_load(codec_streams *self)
{
    pthread_mutex_lock(&self->lock);
    uint16_t load = self->load;
    pthread_mutex_unlock(&self->lock);
    return load;
}

void codec_stream_want(codec_streams *self, unsigned n, bool wanted)
{
    stream *s = &self->stream[n];
    pthread_mutex_lock(&self->lock);
    if (wanted && !s->wanted) s->key_wanted = true; /* whoever comes needs one at once */
    s->wanted = wanted;
    pthread_mutex_unlock(&self->lock);
}

static int32_t *setting(stream *s, bmb_control control)
{
    return control == BMB_CONTROL_QUALITY  ? &s->quality
           : control == BMB_CONTROL_KBPS   ? &s->kbps
           : control == BMB_CONTROL_KEY_MS ? &s->key_ms
                                           : NULL;
}

bmb_err codec_stream_set(codec_streams *self, unsigned n, bmb_control control, int32_t value, int32_t *effective)
{
    int32_t *at = setting(&self->stream[n], control);
    bmb_codec codec = control == BMB_CONTROL_QUALITY ? BMB_CODEC_JPEG : BMB_CODEC_H264;
    if (at == NULL) return BMB_UNSUPPORTED;
    bmb_range r = codec_encoder_range(codec, control);
    if (value < r.least || value > r.most) return BMB_BAD_ARG;
    pthread_mutex_lock(&self->lock);
    *at = *effective = value;
    pthread_mutex_unlock(&self->lock);
    return BMB_OK;
}

bmb_err codec_stream_get(codec_streams *self, unsigned n, bmb_control control, int32_t *value)
{
    const int32_t *at = setting(&self->stream[n], control);
    if (at == NULL) return BMB_UNSUPPORTED;
    pthread_mutex_lock(&self->lock);
    *value = *at;
    pthread_mutex_unlock(&self->lock);
    return BMB_OK;
}

void codec_streams_tally(codec_streams *self, codec_tally *out)
{
    pthread_mutex_lock(&self->lock);
    *out = self->tally;
    pthread_mutex_unlock(&self->lock);
}
