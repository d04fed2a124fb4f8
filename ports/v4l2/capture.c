#include "v4l2/capture.h"

#include <errno.h>
#include <string.h>

#define STAY 2u         /* buffers that the driver keeps at least */
#define ERRORS_MOST 10u /* in a row: it does not get better by itself */
#define TAKES_MOST 16u  /* in one call: bounds a step's time */

void v4l2_capture_init(v4l2_capture *c, const v4l2_system *system)
{
    memset(c, 0, sizeof *c);
    c->system = system;
    c->fd = -1;
}

static uint32_t type_of(const v4l2_capture *c)
{
    return c->planes ? V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE : V4L2_BUF_TYPE_VIDEO_CAPTURE;
}

static int call(const v4l2_capture *c, unsigned long request, void *arg)
{
    return c->system->ioctl(c->system->ctx, c->fd, request, arg);
}

/* What failed, for whoever looks for the reason. */
static bmb_err failed(v4l2_capture *c, const char *step, int error)
{
    c->step = step;
    c->error = error;
    return v4l2_errno(error);
}

static bmb_err set_format(v4l2_capture *c, v4l2_setup *s)
{
    struct v4l2_format f = { .type = type_of(c) };
    if (c->planes) {
        f.fmt.pix_mp.width = s->width;
        f.fmt.pix_mp.height = s->height;
        f.fmt.pix_mp.pixelformat = s->fourcc;
        f.fmt.pix_mp.field = V4L2_FIELD_NONE;
        f.fmt.pix_mp.num_planes = 1;
    } else {
        f.fmt.pix.width = s->width;
        f.fmt.pix.height = s->height;
        f.fmt.pix.pixelformat = s->fourcc;
        f.fmt.pix.field = V4L2_FIELD_NONE;
    }
    int n = call(c, VIDIOC_S_FMT, &f);
    if (n == -EINVAL) return BMB_UNSUPPORTED; /* this format, in this size */
    if (n < 0) return failed(c, "VIDIOC_S_FMT", n);
    uint32_t width = c->planes ? f.fmt.pix_mp.width : f.fmt.pix.width;
    uint32_t height = c->planes ? f.fmt.pix_mp.height : f.fmt.pix.height;
    uint32_t fourcc = c->planes ? f.fmt.pix_mp.pixelformat : f.fmt.pix.pixelformat;
    if (fourcc != s->fourcc || width < 16 || height < 16 || width > 8192 || height > 8192) return BMB_UNSUPPORTED;
    if (c->planes && f.fmt.pix_mp.num_planes != 1) return BMB_UNSUPPORTED;
    s->width = (uint16_t)width;
    s->height = (uint16_t)height;
    uint32_t range = c->planes ? f.fmt.pix_mp.quantization : f.fmt.pix.quantization;
    uint32_t space = c->planes ? f.fmt.pix_mp.colorspace : f.fmt.pix.colorspace;
    if (range == V4L2_QUANTIZATION_DEFAULT) range = V4L2_MAP_QUANTIZATION_DEFAULT(false, space, 0);
    c->limited = range == V4L2_QUANTIZATION_LIM_RANGE;
    c->stride = c->planes ? f.fmt.pix_mp.plane_fmt[0].bytesperline : f.fmt.pix.bytesperline;
    c->image = c->planes ? f.fmt.pix_mp.plane_fmt[0].sizeimage : f.fmt.pix.sizeimage;
    return BMB_OK;
}

/* Drivers without rates to set leave what they have, which is not known then. */
static void set_rate(const v4l2_capture *c, v4l2_setup *s)
{
    struct v4l2_streamparm p = { .type = type_of(c) };
    p.parm.capture.timeperframe = (struct v4l2_fract){ 1000, s->mfps };
    if (call(c, VIDIOC_S_PARM, &p) < 0) return;
    const struct v4l2_fract *t = &p.parm.capture.timeperframe;
    if ((p.parm.capture.capability & V4L2_CAP_TIMEPERFRAME) == 0 || t->numerator == 0 || t->denominator == 0) return;
    uint64_t mfps = (uint64_t)t->denominator * 1000 / t->numerator;
    if (mfps > 0 && mfps <= 240000) s->mfps = (uint32_t)mfps;
}

static struct v4l2_buffer buffer_of(const v4l2_capture *c, unsigned index, struct v4l2_plane *plane)
{
    struct v4l2_buffer b = { .index = index, .type = type_of(c), .memory = V4L2_MEMORY_MMAP };
    memset(plane, 0, sizeof *plane);
    if (c->planes) {
        b.m.planes = plane;
        b.length = 1;
    }
    return b;
}

static int queue(const v4l2_capture *c, unsigned index)
{
    struct v4l2_plane plane;
    struct v4l2_buffer b = buffer_of(c, index, &plane);
    return call(c, VIDIOC_QBUF, &b);
}

static void unmap(const v4l2_capture *c, v4l2_slot *s)
{
    if (s->at != NULL) c->system->unmap(c->system->ctx, s->at, s->room);
    s->at = NULL;
}

static bool is_empty(const v4l2_pool *p)
{
    for (unsigned i = 0; i < V4L2_BUFFERS; i++)
        if (p->slots[i].at != NULL) return false;
    return true;
}

/* A pool without buffers; false: all have some that are still held. */
static bool choose_pool(v4l2_capture *c)
{
    for (unsigned i = 0; i < V4L2_POOLS; i++) {
        if (!is_empty(&c->pools[i])) continue;
        c->pool = i;
        return true;
    }
    return false;
}

static bmb_err map_one(v4l2_capture *c, v4l2_pool *p, unsigned index)
{
    struct v4l2_plane plane;
    struct v4l2_buffer b = buffer_of(c, index, &plane);
    v4l2_slot *s = &p->slots[index];
    int n = call(c, VIDIOC_QUERYBUF, &b);
    if (n < 0) return failed(c, "VIDIOC_QUERYBUF", n);
    s->room = c->planes ? plane.length : b.length;
    if (s->room == 0) return BMB_FAILED;
    int64_t offset = c->planes ? plane.m.mem_offset : b.m.offset;
    n = c->system->map(c->system->ctx, c->fd, s->room, offset, &s->at);
    if (n < 0) s->at = NULL;
    atomic_store(&s->refs, 0);
    return n < 0 ? failed(c, "mmap", n) : BMB_OK;
}

static bmb_err provide_buffers(v4l2_capture *c)
{
    struct v4l2_requestbuffers r = { .count = V4L2_BUFFERS, .type = type_of(c), .memory = V4L2_MEMORY_MMAP };
    if (!choose_pool(c)) return BMB_IN_USE;
    v4l2_pool *p = &c->pools[c->pool];
    int n = call(c, VIDIOC_REQBUFS, &r);
    if (n < 0) return failed(c, "VIDIOC_REQBUFS", n);
    p->count = r.count < V4L2_BUFFERS ? r.count : V4L2_BUFFERS;
    if (p->count <= STAY) return BMB_LIMIT; /* none could be lent */
    for (unsigned i = 0; i < p->count; i++) {
        bmb_err err = map_one(c, p, i);
        if (err != BMB_OK) return err;
    }
    for (unsigned i = 0; i < p->count; i++) {
        n = queue(c, i);
        if (n < 0) return failed(c, "VIDIOC_QBUF", n);
    }
    p->active = true;
    return BMB_OK;
}

static bmb_err begin(v4l2_capture *c, v4l2_setup *setup)
{
    bmb_err err = set_format(c, setup);
    if (err != BMB_OK) return err;
    set_rate(c, setup);
    err = provide_buffers(c);
    if (err != BMB_OK) return err;
    struct v4l2_event_subscription size = { .type = V4L2_EVENT_SOURCE_CHANGE, .id = c->input };
    c->tells_size = call(c, VIDIOC_SUBSCRIBE_EVENT, &size) >= 0; /* few do */
    uint32_t type = type_of(c);
    int n = call(c, VIDIOC_STREAMON, &type);
    return n < 0 ? failed(c, "VIDIOC_STREAMON", n) : BMB_OK;
}

bmb_err v4l2_capture_start(v4l2_capture *c, const v4l2_node *node, v4l2_setup *setup)
{
    if (c->fd < 0) c->fd = c->system->open(c->system->ctx, node->path);
    if (c->fd < 0) return failed(c, "open", c->fd);
    c->planes = node->planes;
    c->input = node->signal.input;
    c->changed = false;
    c->step = NULL;
    c->counted = false;
    c->errors = 0;
    bmb_err err = begin(c, setup);
    if (err != BMB_OK) {
        v4l2_capture_stop(c);
        v4l2_capture_close(c);
        return err;
    }
    c->setup = *setup;
    c->system->watch(c->system->ctx, c->fd, true);
    c->watched = true;
    return BMB_OK;
}

void v4l2_capture_stop(v4l2_capture *c)
{
    v4l2_pool *p = &c->pools[c->pool];
    if (c->fd < 0) return;
    if (c->watched) c->system->watch(c->system->ctx, c->fd, false);
    c->watched = false;
    uint32_t type = type_of(c);
    (void)call(c, VIDIOC_STREAMOFF, &type);
    p->active = false;
    for (unsigned i = 0; i < V4L2_BUFFERS; i++)
        if (atomic_load(&p->slots[i].refs) == 0) unmap(c, &p->slots[i]);
    struct v4l2_requestbuffers none = { .type = type, .memory = V4L2_MEMORY_MMAP };
    (void)call(c, VIDIOC_REQBUFS, &none); /* those that are held go when they are unmapped */
}

void v4l2_capture_close(v4l2_capture *c)
{
    if (c->fd >= 0) c->system->close(c->system->ctx, c->fd);
    c->fd = -1;
}

void v4l2_capture_free(v4l2_capture *c)
{
    for (unsigned i = 0; i < V4L2_POOLS * V4L2_BUFFERS; i++)
        unmap(c, &c->pools[i / V4L2_BUFFERS].slots[i % V4L2_BUFFERS]);
    v4l2_capture_close(c);
}

void v4l2_capture_hold(v4l2_capture *c, unsigned buffer)
{
    atomic_fetch_add(&c->pools[buffer / V4L2_BUFFERS].slots[buffer % V4L2_BUFFERS].refs, 1);
}

void v4l2_capture_let(v4l2_capture *c, unsigned buffer)
{
    if (buffer >= V4L2_POOLS * V4L2_BUFFERS) return;
    v4l2_pool *p = &c->pools[buffer / V4L2_BUFFERS];
    v4l2_slot *s = &p->slots[buffer % V4L2_BUFFERS];
    if (atomic_load(&s->refs) == 0 || atomic_fetch_sub(&s->refs, 1) != 1) return;
    if (p->active) {
        (void)queue(c, buffer % V4L2_BUFFERS); /* a device that is gone says so when it is asked for a picture */
    } else {
        unmap(c, s);
    }
}

static unsigned held(const v4l2_pool *p)
{
    unsigned n = 0;
    for (unsigned i = 0; i < p->count; i++) n += atomic_load(&p->slots[i].refs) > 0;
    return n;
}

/* Has the input another size now? Other events are of no use here. */
static bool size_changed(const v4l2_capture *c)
{
    struct v4l2_event e = { 0 };
    for (unsigned i = 0; c->tells_size && i < TAKES_MOST && call(c, VIDIOC_DQEVENT, &e) >= 0; i++)
        if (e.type == V4L2_EVENT_SOURCE_CHANGE && (e.u.src_change.changes & V4L2_EVENT_SRC_CH_RESOLUTION) != 0)
            return true;
    return false;
}

/* What a failure to take means. */
static bmb_err judge(v4l2_capture *c, int error)
{
    switch (-error) {
    case EAGAIN:
        c->changed = size_changed(c);
        return c->changed ? BMB_GONE : BMB_AGAIN;
    case EIO: /* one picture was lost on its way */
        c->bad++;
        if (++c->errors < ERRORS_MOST) return BMB_AGAIN;
        break;
    case EPIPE: /* the last picture before a change was taken */
        c->changed = true;
        return BMB_GONE;
    case ENODEV:
    case ENXIO:
        return BMB_GONE;
    default:
        break;
    }
    (void)failed(c, "VIDIOC_DQBUF", error);
    return BMB_FAILED;
}

static void count(v4l2_capture *c, uint32_t sequence)
{
    if (c->counted && sequence - c->sequence - 1 < 1000000) c->lost += sequence - c->sequence - 1;
    c->sequence = sequence;
    c->counted = true;
}

bmb_err v4l2_capture_take(v4l2_capture *c, v4l2_taken *out)
{
    v4l2_pool *p = &c->pools[c->pool];
    if (c->fd < 0 || !p->active) return BMB_GONE;
    for (unsigned i = 0; i < TAKES_MOST; i++) {
        struct v4l2_plane plane;
        struct v4l2_buffer b = buffer_of(c, 0, &plane);
        int n = call(c, VIDIOC_DQBUF, &b);
        if (n < 0) return judge(c, n);
        if (b.index >= p->count || atomic_load(&p->slots[b.index].refs) > 0) return BMB_FAILED; /* a broken driver */
        count(c, b.sequence);
        v4l2_slot *s = &p->slots[b.index];
        size_t used = c->planes ? plane.bytesused : b.bytesused, skip = c->planes ? plane.data_offset : 0;
        bool bad = (b.flags & V4L2_BUF_FLAG_ERROR) != 0 || used > s->room || skip >= used;
        /* The driver needs some to go on with: what cannot be lent is the oldest that nobody has fetched. */
        if (bad || held(p) + STAY >= p->count) {
            c->bad += bad;
            c->lost += !bad;
            if (bad && ++c->errors >= 100 * ERRORS_MOST) return BMB_FAILED;
            n = queue(c, b.index);
            if (n < 0) return judge(c, n);
            continue;
        }
        c->errors = 0;
        c->frames++;
        atomic_store(&s->refs, 1);
        bool timed = (b.flags & V4L2_BUF_FLAG_TIMESTAMP_MASK) == V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC;
        *out = (v4l2_taken){ .buffer = c->pool * V4L2_BUFFERS + b.index,
                             .data = (uint8_t *)s->at + skip,
                             .size = used - skip,
                             .room = s->room - skip,
                             .key = (b.flags & V4L2_BUF_FLAG_KEYFRAME) != 0 };
        if (timed) out->capture_us = (uint64_t)b.timestamp.tv_sec * 1000000u + (uint64_t)b.timestamp.tv_usec;
        return BMB_OK;
    }
    return BMB_AGAIN;
}

bool v4l2_capture_picture(const v4l2_capture *c, const v4l2_taken *taken, codec_picture *out)
{
    const v4l2_format_row *f = v4l2_format_of(c->setup.fourcc);
    if (f == NULL || f->encoded) return false;
    uint32_t tight = codec_picture_in(f->raw, c->setup.width, c->setup.height, taken->data, 0).stride[0];
    uint32_t stride = c->stride >= tight ? c->stride : tight;
    *out = codec_picture_in(f->raw, c->setup.width, c->setup.height, taken->data, stride);
    out->limited = c->limited && f->raw != CODEC_RGB24;
    size_t need = codec_picture_bytes(f->raw, c->setup.width, c->setup.height) / tight * stride;
    return taken->size + (stride - tight) >= need; /* the last row may end with its last sample */
}
