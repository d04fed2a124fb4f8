#include "support/script_v4l2.h"

#include <assert.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static script_driver *self(void *ctx)
{
    return (script_driver *)ctx;
}

static script_node *node_of(void *ctx, int fd)
{
    assert(fd >= 0 && fd < SCRIPT_FILES && self(ctx)->files[fd] >= 0);
    return &self(ctx)->nodes[self(ctx)->files[fd]];
}

static bool list(void *ctx, size_t at, char *path, size_t room)
{
    for (size_t i = 0; i < SCRIPT_NODES; i++) {
        const script_node *n = &self(ctx)->nodes[i];
        if (n->path == NULL || !n->there || at-- > 0) continue;
        snprintf(path, room, "%s", n->path);
        return true;
    }
    return false;
}

static int open_node(void *ctx, const char *path)
{
    script_driver *d = self(ctx);
    for (int i = 0; i < SCRIPT_NODES; i++) {
        script_node *n = &d->nodes[i];
        if (n->path == NULL || !n->there || strcmp(n->path, path) != 0) continue;
        if (n->open_err != 0) return n->open_err;
        for (int fd = 0; fd < SCRIPT_FILES; fd++) {
            if (d->files[fd] >= 0) continue;
            d->files[fd] = i;
            n->opens++;
            return fd;
        }
        return -EMFILE;
    }
    return -ENOENT;
}

static void close_node(void *ctx, int fd)
{
    (void)node_of(ctx, fd);
    self(ctx)->files[fd] = -1;
}

static script_queue *queue_of(script_node *n, uint32_t type)
{
    bool out = type == V4L2_BUF_TYPE_VIDEO_OUTPUT || type == V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE;
    bool planes = type == V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE || type == V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE;
    if (planes != n->planes) return NULL;
    return out ? &n->output : &n->capture;
}

static int enum_format(const script_node *n, struct v4l2_fmtdesc *e)
{
    uint32_t seen = 0, last = 0;
    bool out = e->type == V4L2_BUF_TYPE_VIDEO_OUTPUT || e->type == V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE;
    bool planes = e->type == V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE || e->type == V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE;
    if (planes != n->planes) return -EINVAL;
    for (size_t i = 0; i < n->row_count; i++) {
        /* Rows of an encoder without a rate are what it takes. */
        if (n->rows[i].fourcc == last || (n->rows[i].fps == 0) != out) continue;
        last = n->rows[i].fourcc;
        if (seen++ != e->index) continue;
        e->pixelformat = last;
        return 0;
    }
    return -EINVAL;
}

static int enum_size(const script_node *n, struct v4l2_frmsizeenum *e)
{
    uint32_t seen = 0;
    for (size_t i = 0; i < n->row_count; i++) {
        if (n->rows[i].fourcc != e->pixel_format || seen++ != e->index) continue;
        e->type = n->steps ? V4L2_FRMSIZE_TYPE_STEPWISE : V4L2_FRMSIZE_TYPE_DISCRETE;
        e->discrete.width = n->rows[i].width;
        e->discrete.height = n->rows[i].height;
        if (n->steps) e->stepwise = (struct v4l2_frmsize_stepwise){ 32, n->rows[i].width, 2, 32, n->rows[i].height, 2 };
        return 0;
    }
    return -EINVAL;
}

static int enum_rate(const script_node *n, struct v4l2_frmivalenum *e)
{
    for (size_t i = 0; i < n->row_count && e->index == 0 && !n->no_rates; i++) {
        const script_row *r = &n->rows[i];
        bool same = n->steps || (r->width == e->width && r->height == e->height);
        if (r->fourcc != e->pixel_format || !same) continue;
        e->type = V4L2_FRMIVAL_TYPE_DISCRETE;
        e->discrete = (struct v4l2_fract){ 1, r->fps };
        return 0;
    }
    return -EINVAL;
}

static size_t bytes_of(uint32_t fourcc, uint32_t stride, uint32_t width, uint32_t height)
{
    bool two = fourcc == V4L2_PIX_FMT_NV12 || fourcc == V4L2_PIX_FMT_YUV420;
    bool raw = two || fourcc == V4L2_PIX_FMT_YUYV || fourcc == V4L2_PIX_FMT_GREY;
    return raw ? (size_t)stride * height * (two ? 3 : 2) / 2 : (size_t)width * height * 2;
}

static int set_format(script_node *n, struct v4l2_format *f)
{
    script_queue *q = queue_of(n, f->type);
    if (q == NULL) return -EINVAL;
    if (n->format_err != 0) return n->format_err;
    if (q->streaming || q->count > 0) return -EBUSY;
    q->fourcc = n->planes ? f->fmt.pix_mp.pixelformat : f->fmt.pix.pixelformat;
    q->width = n->other_width != 0 ? n->other_width : n->planes ? f->fmt.pix_mp.width : f->fmt.pix.width;
    q->height = n->planes ? f->fmt.pix_mp.height : f->fmt.pix.height;
    q->stride = q->width * (q->fourcc == V4L2_PIX_FMT_YUYV ? 2 : 1) + n->stride_more;
    q->image = (uint32_t)bytes_of(q->fourcc, q->stride, q->width, q->height);
    if (n->planes) {
        f->fmt.pix_mp.width = q->width;
        f->fmt.pix_mp.height = q->height;
        f->fmt.pix_mp.plane_fmt[0].bytesperline = q->stride;
        f->fmt.pix_mp.plane_fmt[0].sizeimage = q->image;
        f->fmt.pix_mp.num_planes = 1;
    } else {
        f->fmt.pix.width = q->width;
        f->fmt.pix.height = q->height;
        f->fmt.pix.bytesperline = q->stride;
        f->fmt.pix.sizeimage = q->image;
    }
    return 0;
}

static int request(script_node *n, struct v4l2_requestbuffers *r)
{
    script_queue *q = queue_of(n, r->type);
    n->requests++;
    if (n->request_err != 0 && r->count > 0) return n->request_err;
    if (r->count > 0 && n->buffers_most > 0 && r->count > n->buffers_most) r->count = n->buffers_most;
    for (unsigned i = 0; i < q->count; i++) q->buffers[i] = (script_buffer){ 0 }; /* memory goes with its mapping */
    q->count = r->count;
    for (unsigned i = 0; i < q->count; i++) q->buffers[i] = (script_buffer){ .room = q->image };
    return 0;
}

static int query_buffer(const script_node *n, script_queue *q, struct v4l2_buffer *b)
{
    if (n->query_err != 0) return n->query_err;
    if (b->index >= q->count) return -EINVAL;
    uint32_t offset = (q == &n->output ? SCRIPT_BUFFERS : 0) + b->index; /* what map is given back */
    if (n->planes) {
        b->m.planes[0].length = (uint32_t)q->buffers[b->index].room;
        b->m.planes[0].m.mem_offset = offset;
    } else {
        b->length = (uint32_t)q->buffers[b->index].room;
        b->m.offset = offset;
    }
    return 0;
}

static int queue_buffer(script_node *n, script_queue *q, const struct v4l2_buffer *b)
{
    if (n->queue_err != 0) return n->queue_err;
    if (!n->there) return -ENODEV;
    if (b->index >= q->count || q->buffers[b->index].queued) return -EINVAL;
    script_buffer *s = &q->buffers[b->index];
    s->queued = true;
    s->done = false;
    if (q != &n->output || n->mute) return 0;
    size_t used = n->planes ? b->m.planes[0].bytesused : b->bytesused;
    n->raw_sum = 0;
    for (size_t i = 0; i < used && i < s->room; i++) n->raw_sum += s->memory[i];
    s->done = true; /* an encoder: what it answers stands in the next buffer for it */
    for (unsigned i = 0; i < n->capture.count; i++) {
        script_buffer *to = &n->capture.buffers[i];
        if (!to->queued || to->done) continue;
        memcpy(to->memory, n->encoded, n->encoded_size);
        to->used = n->encoded_size;
        to->flags = V4L2_BUF_FLAG_KEYFRAME;
        to->done = true;
        break;
    }
    return 0;
}

static int dequeue(script_node *n, script_queue *q, struct v4l2_buffer *b)
{
    if (!n->there) return -ENODEV;
    if (!q->streaming) return -EINVAL;
    if (n->result_count > 0) {
        int result = n->results[0];
        memmove(n->results, n->results + 1, --n->result_count * sizeof n->results[0]);
        if (result != 0) return result;
    }
    script_buffer *oldest = NULL;
    for (unsigned i = 0; i < q->count; i++) {
        script_buffer *s = &q->buffers[i];
        if (s->queued && s->done && (oldest == NULL || (int32_t)(s->sequence - oldest->sequence) < 0)) oldest = s;
    }
    if (oldest == NULL) return -EAGAIN;
    oldest->queued = false;
    b->index = n->wrong_index >= 0 ? (uint32_t)n->wrong_index : (uint32_t)(oldest - q->buffers);
    b->flags = oldest->flags;
    b->sequence = oldest->sequence;
    b->timestamp.tv_sec = (long)(oldest->at_us / 1000000);
    b->timestamp.tv_usec = (long)(oldest->at_us % 1000000);
    if (n->planes) {
        b->m.planes[0].bytesused = (uint32_t)oldest->used;
        b->m.planes[0].data_offset = n->offset;
    } else {
        b->bytesused = (uint32_t)oldest->used;
    }
    return 0;
}

static script_control *control_of(script_node *n, uint32_t id)
{
    for (size_t i = 0; i < n->control_count; i++)
        if (n->controls[i].id == id) return &n->controls[i];
    return NULL;
}

static int query_control(script_node *n, struct v4l2_queryctrl *q)
{
    script_control *c = NULL;
    if ((q->id & V4L2_CTRL_FLAG_NEXT_CTRL) != 0) {
        uint32_t after = q->id & ~V4L2_CTRL_FLAG_NEXT_CTRL;
        for (size_t i = 0; i < n->control_count; i++)
            if (n->controls[i].id > after && (c == NULL || n->controls[i].id < c->id)) c = &n->controls[i];
    } else {
        c = control_of(n, q->id);
    }
    if (c == NULL) return -EINVAL;
    *q = (struct v4l2_queryctrl){ .id = c->id, .type = c->type, .minimum = c->least, .maximum = c->most };
    q->step = c->step;
    q->default_value = c->preset;
    snprintf((char *)q->name, sizeof q->name, "%s", c->name);
    return 0;
}

static int set_control(script_node *n, const struct v4l2_control *v)
{
    script_control *c = control_of(n, v->id);
    if (c == NULL) return -EINVAL;
    if (v->value < c->least || v->value > c->most) return -ERANGE;
    c->value = c->least + (v->value - c->least) / c->step * c->step; /* drivers round */
    return 0;
}

static int set_rate(const script_node *n, struct v4l2_streamparm *p)
{
    if (n->no_rates) return -ENOTTY;
    p->parm.capture.capability = V4L2_CAP_TIMEPERFRAME;
    return 0;
}

static int event(script_node *n, struct v4l2_event *e)
{
    if (!n->size_changes) return -ENOENT;
    n->size_changes = false;
    e->type = V4L2_EVENT_SOURCE_CHANGE;
    e->u.src_change.changes = V4L2_EVENT_SRC_CH_RESOLUTION;
    return 0;
}

static int query_capability(const script_node *n, struct v4l2_capability *c)
{
    if (n->querycap_err != 0) return n->querycap_err;
    c->capabilities = V4L2_CAP_DEVICE_CAPS | n->caps | V4L2_CAP_VIDEO_CAPTURE; /* the whole device can capture … */
    c->device_caps = n->caps;                                                  /* … this node what it says */
    snprintf((char *)c->card, sizeof c->card, "%s", n->card);
    snprintf((char *)c->bus_info, sizeof c->bus_info, "%s", n->bus);
    snprintf((char *)c->driver, sizeof c->driver, "%s", n->driver);
    return 0;
}

static int enum_input(const script_node *n, struct v4l2_input *in)
{
    if (in->index >= 3 || n->inputs[in->index] == NULL) return -EINVAL;
    snprintf((char *)in->name, sizeof in->name, "%s", n->inputs[in->index]);
    in->status = (int)in->index == n->input ? (uint32_t)n->input_status : 0;
    in->capabilities = (n->digital ? V4L2_IN_CAP_DV_TIMINGS : 0) | (n->analogue ? V4L2_IN_CAP_STD : 0);
    return 0;
}

/* 10 lines and columns of blanking each. */
static int query_timings(const script_node *n, struct v4l2_dv_timings *t)
{
    if (!n->digital) return -ENODATA;
    if (n->timings_err != 0) return n->timings_err;
    t->type = V4L2_DV_BT_656_1120;
    t->bt.width = n->signal_width;
    t->bt.height = n->signal_height;
    t->bt.hsync = t->bt.vsync = 10;
    t->bt.pixelclock = (uint64_t)(n->signal_width + 10) * (n->signal_height + 10) * n->signal_fps;
    return 0;
}

/* The picture has the source's size from then on. */
static int set_timings(script_node *n, const struct v4l2_dv_timings *t)
{
    if (n->capture.streaming) return -EBUSY;
    n->set_width = t->bt.width;
    for (size_t i = 0; i < n->row_count; i++) {
        n->rows[i].width = (uint16_t)t->bt.width;
        n->rows[i].height = (uint16_t)t->bt.height;
    }
    return 0;
}

static int switch_on(script_node *n, uint32_t type, bool on)
{
    script_queue *q = queue_of(n, type);
    if (q == NULL) return -EINVAL;
    if (on && n->on_err != 0) return n->on_err;
    q->streaming = on;
    n->starts += on;
    for (unsigned i = 0; !on && i < q->count; i++) q->buffers[i].queued = q->buffers[i].done = false;
    return 0;
}

static int call_locked(void *ctx, int fd, unsigned long request_number, void *arg)
{
    script_node *n = node_of(ctx, fd);
    struct v4l2_buffer *b = (struct v4l2_buffer *)arg;
    switch (request_number) {
    case VIDIOC_QUERYCAP:
        return query_capability(n, arg);
    case VIDIOC_ENUM_FMT:
        return enum_format(n, arg);
    case VIDIOC_ENUM_FRAMESIZES:
        return enum_size(n, arg);
    case VIDIOC_ENUM_FRAMEINTERVALS:
        return enum_rate(n, arg);
    case VIDIOC_S_FMT:
        return set_format(n, arg);
    case VIDIOC_S_PARM:
        return set_rate(n, arg);
    case VIDIOC_REQBUFS:
        return request(n, arg);
    case VIDIOC_QUERYBUF:
        return query_buffer(n, queue_of(n, b->type), b);
    case VIDIOC_QBUF:
        return queue_buffer(n, queue_of(n, b->type), b);
    case VIDIOC_DQBUF:
        return dequeue(n, queue_of(n, b->type), b);
    case VIDIOC_STREAMON:
        return switch_on(n, *(uint32_t *)arg, true);
    case VIDIOC_STREAMOFF:
        return switch_on(n, *(uint32_t *)arg, false);
    case VIDIOC_QUERYCTRL:
        return query_control(n, arg);
    case VIDIOC_QUERYMENU: {
        const struct v4l2_querymenu *m = (const struct v4l2_querymenu *)arg;
        const script_control *c = control_of(n, m->id);
        return c != NULL && m->index < 32 && (c->items >> m->index & 1) != 0 ? 0 : -EINVAL;
    }
    case VIDIOC_G_CTRL: {
        struct v4l2_control *v = (struct v4l2_control *)arg;
        const script_control *c = control_of(n, v->id);
        if (c != NULL) v->value = c->value;
        return c != NULL ? 0 : -EINVAL;
    }
    case VIDIOC_S_CTRL:
        return set_control(n, arg);
    case VIDIOC_ENUMINPUT:
        return n->inputs[0] != NULL ? enum_input(n, arg) : -ENOTTY;
    case VIDIOC_G_INPUT:
        *(int *)arg = n->input;
        return n->inputs[0] != NULL ? 0 : -ENOTTY;
    case VIDIOC_S_INPUT:
        n->input = *(const int *)arg;
        return 0;
    case VIDIOC_QUERY_DV_TIMINGS:
        return query_timings(n, arg);
    case VIDIOC_S_DV_TIMINGS:
        return set_timings(n, arg);
    case VIDIOC_QUERYSTD:
        *(v4l2_std_id *)arg = n->standard;
        return n->analogue ? 0 : -ENOTTY;
    case VIDIOC_G_STD:
        *(v4l2_std_id *)arg = n->set_standard;
        return n->analogue ? 0 : -ENOTTY;
    case VIDIOC_S_STD:
        n->set_standard = *(const v4l2_std_id *)arg;
        return 0;
    case VIDIOC_SUBSCRIBE_EVENT:
        return n->tells_nothing ? -ENOTTY : 0;
    case VIDIOC_DQEVENT:
        return event(n, arg);
    default:
        return -ENOTTY;
    }
}

/* From any thread, as into a kernel. */
static int call(void *ctx, int fd, unsigned long request_number, void *arg)
{
    pthread_mutex_lock(&self(ctx)->lock);
    int result = call_locked(ctx, fd, request_number, arg);
    pthread_mutex_unlock(&self(ctx)->lock);
    return result;
}

static int map(void *ctx, int fd, size_t size, int64_t offset, void **out)
{
    script_node *n = node_of(ctx, fd);
    script_queue *q = offset >= SCRIPT_BUFFERS ? &n->output : &n->capture;
    if (n->map_err != 0) return n->map_err;
    script_buffer *b = &q->buffers[offset % SCRIPT_BUFFERS];
    b->memory = malloc(size);
    self(ctx)->maps++;
    *out = b->memory;
    return 0;
}

static void unmap(void *ctx, void *at, size_t size)
{
    script_driver *d = self(ctx);
    (void)size;
    assert(d->maps > 0);
    d->maps--;
    for (size_t i = 0; i < SCRIPT_NODES; i++)
        for (size_t k = 0; k < SCRIPT_BUFFERS; k++) {
            if (d->nodes[i].capture.buffers[k].memory == at) d->nodes[i].capture.buffers[k].memory = NULL;
            if (d->nodes[i].output.buffers[k].memory == at) d->nodes[i].output.buffers[k].memory = NULL;
        }
    free(at);
}

static int await(void *ctx, int fd, unsigned ms)
{
    (void)ms;
    return !node_of(ctx, fd)->mute;
}

static uint64_t monotonic_us(void *ctx)
{
    return self(ctx)->now;
}

static void watch(void *ctx, int fd, bool on)
{
    (void)node_of(ctx, fd);
    self(ctx)->watched += on ? 1u : (unsigned)-1;
}

static bool changed(void *ctx)
{
    bool was = self(ctx)->changed;
    self(ctx)->changed = false;
    return was;
}

static script_node *named(void *ctx, const char *path)
{
    for (size_t i = 0; i < SCRIPT_NODES; i++)
        if (self(ctx)->nodes[i].path != NULL && strcmp(self(ctx)->nodes[i].path, path) == 0)
            return &self(ctx)->nodes[i];
    return NULL;
}

static void holder(void *ctx, const char *path, char *out, size_t room)
{
    const script_node *n = named(ctx, path);
    snprintf(out, room, "%s", n != NULL && n->holder != NULL ? n->holder : "");
}

static bool group(void *ctx, const char *path, char *out, size_t room)
{
    const script_node *n = named(ctx, path);
    snprintf(out, room, "%s", n != NULL && n->group != NULL ? n->group : "");
    return n != NULL && n->barred;
}

static bool same(void *ctx, const char *path, const char *node)
{
    (void)ctx;
    return strcmp(path, node) == 0 || (strcmp(path, "/dev/front") == 0 && strcmp(node, "/dev/video0") == 0);
}

static bool pipeline(void *ctx, const char *path, char *out, size_t room)
{
    out[0] = '\0';
    for (size_t i = 0; i < SCRIPT_NODES; i++) {
        const script_node *n = &self(ctx)->nodes[i];
        if (n->path != NULL && n->there && n->pipeline != NULL && strcmp(n->path, path) == 0)
            snprintf(out, room, "%s", n->pipeline);
    }
    return out[0] != '\0';
}

script_driver *script_create(void)
{
    script_driver *d = calloc(1, sizeof *d);
    d->table = (v4l2_system){ d,     list,    open_node, close_node, call, map,     unmap, await, monotonic_us,
                              watch, changed, holder,    group,      same, pipeline };
    pthread_mutex_init(&d->lock, NULL);
    d->now = 5000000;
    for (size_t i = 0; i < SCRIPT_FILES; i++) d->files[i] = -1;
    return d;
}

unsigned script_open_files(const script_driver *d)
{
    unsigned n = 0;
    for (size_t i = 0; i < SCRIPT_FILES; i++) n += d->files[i] >= 0;
    return n;
}

void script_destroy(script_driver *d)
{
    assert(script_open_files(d) == 0 && d->maps == 0 && d->watched == 0);
    free(d);
}

script_node *script_add(script_driver *d, const char *path, const char *card, uint32_t caps)
{
    size_t i = 0;
    while (d->nodes[i].path != NULL) i++;
    script_node *n = &d->nodes[i];
    *n = (script_node){ .there = true, .path = path, .card = card, .bus = "usb-1.2", .driver = "script" };
    n->caps = caps | V4L2_CAP_STREAMING;
    n->planes = (caps & (V4L2_CAP_VIDEO_CAPTURE_MPLANE | V4L2_CAP_VIDEO_M2M_MPLANE)) != 0;
    n->wrong_index = -1;
    return n;
}

void script_format(script_node *n, uint32_t fourcc, uint16_t width, uint16_t height, uint32_t fps)
{
    n->rows[n->row_count++] = (script_row){ fourcc, width, height, fps };
}

script_control *script_add_control(script_node *n, uint32_t id, const char *name, int32_t least, int32_t most,
                                   int32_t preset)
{
    script_control *c = &n->controls[n->control_count++];
    *c = (script_control){ id, name, least, most, 1, preset, preset, V4L2_CTRL_TYPE_INTEGER, 0 };
    return c;
}

bool script_picture(script_driver *d, script_node *n, const void *data, size_t size, uint32_t flags)
{
    script_queue *q = &n->capture;
    bool taken = false;
    pthread_mutex_lock(&d->lock);
    uint32_t sequence = n->sequence++;
    for (unsigned i = 0; !taken && i < q->count; i++) {
        script_buffer *b = &q->buffers[i];
        if (!q->streaming || !b->queued || b->done) continue;
        b->used = size < b->room ? size : b->room;
        memcpy(b->memory, data, b->used);
        b->flags = flags | V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC;
        b->sequence = sequence;
        b->at_us = d->now;
        b->done = true;
        taken = true;
    }
    pthread_mutex_unlock(&d->lock);
    return taken;
}

unsigned script_queued(const script_node *n)
{
    unsigned count = 0;
    for (unsigned i = 0; i < n->capture.count; i++)
        count += n->capture.buffers[i].queued && !n->capture.buffers[i].done;
    return count;
}
