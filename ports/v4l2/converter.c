#include "v4l2/converter.h"

#include <linux/videodev2.h>
#include <stdlib.h>
#include <string.h>

#include "v4l2/node.h"

#define OUT_BUFFERS 1u /* raw pictures to it, … */
#define IN_BUFFERS 2u  /* … encoded ones from it */
#define ANSWER_MS 500u /* an encoder that takes longer for a picture hangs */

struct v4l2_converter {
    const v4l2_system *system;
    char path[V4L2_PATH];
    bool planes;
    uint32_t raw, encoded; /* its formats */
};

/* One of its queues: of raw pictures to it ("output"), or of encoded ones from it ("capture"). */
typedef struct lane {
    uint32_t type;
    unsigned count;
    void *at[IN_BUFFERS];
    size_t room[IN_BUFFERS];
} lane;

typedef struct work {
    const v4l2_converter *node;
    int fd;
    uint16_t width, height;
    uint32_t mfps, stride;
    int32_t kbps, key_ms, quality;
    bool began;
    lane to, from;
    codec_canvas canvas;
} work;

static int call(const v4l2_converter *n, int fd, unsigned long request, void *arg)
{
    return n->system->ioctl(n->system->ctx, fd, request, arg);
}

/* Does a queue have this format? */
static bool offers(const v4l2_converter *n, int fd, uint32_t type, uint32_t fourcc)
{
    struct v4l2_fmtdesc e = { .type = type };
    for (; e.index < 64 && call(n, fd, VIDIOC_ENUM_FMT, &e) >= 0; e.index++)
        if (e.pixelformat == fourcc) return true;
    return false;
}

static uint32_t to_type(const v4l2_converter *n)
{
    return n->planes ? V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE : V4L2_BUF_TYPE_VIDEO_OUTPUT;
}

static uint32_t from_type(const v4l2_converter *n)
{
    return n->planes ? V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE : V4L2_BUF_TYPE_VIDEO_CAPTURE;
}

/* Raw pictures in, of a layout that we have; the codec out. */
static bool suits(v4l2_converter *n, int fd, bmb_codec codec)
{
    static const uint32_t raws[] = { V4L2_PIX_FMT_YUV420, V4L2_PIX_FMT_NV12 };
    static const uint32_t jpegs[] = { V4L2_PIX_FMT_JPEG, V4L2_PIX_FMT_MJPEG };
    struct v4l2_capability cap = { 0 };
    if (call(n, fd, VIDIOC_QUERYCAP, &cap) < 0) return false;
    uint32_t caps = (cap.capabilities & V4L2_CAP_DEVICE_CAPS) != 0 ? cap.device_caps : cap.capabilities;
    n->planes = (caps & V4L2_CAP_VIDEO_M2M_MPLANE) != 0;
    if (!n->planes && (caps & V4L2_CAP_VIDEO_M2M) == 0) return false;
    n->raw = n->encoded = 0;
    for (size_t i = 0; n->raw == 0 && i < 2; i++)
        if (offers(n, fd, to_type(n), raws[i])) n->raw = raws[i];
    if (codec == BMB_CODEC_H264 && offers(n, fd, from_type(n), V4L2_PIX_FMT_H264)) n->encoded = V4L2_PIX_FMT_H264;
    for (size_t i = 0; codec == BMB_CODEC_JPEG && n->encoded == 0 && i < 2; i++)
        if (offers(n, fd, from_type(n), jpegs[i])) n->encoded = jpegs[i];
    return n->raw != 0 && n->encoded != 0;
}

v4l2_converter *v4l2_converter_find(const v4l2_system *s, bmb_codec codec)
{
    v4l2_converter *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    self->system = s;
    for (size_t i = 0; s->list(s->ctx, i, self->path, sizeof self->path); i++) {
        int fd = s->open(s->ctx, self->path);
        if (fd < 0) continue;
        bool good = suits(self, fd, codec);
        s->close(s->ctx, fd);
        if (good) return self;
    }
    free(self);
    return NULL;
}

void v4l2_converter_free(v4l2_converter *self)
{
    free(self);
}

static struct v4l2_buffer buffer_of(const work *w, const lane *l, unsigned index, struct v4l2_plane *plane)
{
    struct v4l2_buffer b = { .index = index, .type = l->type, .memory = V4L2_MEMORY_MMAP };
    memset(plane, 0, sizeof *plane);
    if (w->node->planes) {
        b.m.planes = plane;
        b.length = 1;
    }
    return b;
}

static bool set_format(work *w, const lane *l, uint32_t fourcc)
{
    struct v4l2_format f = { .type = l->type };
    bool encoded = l == &w->from;
    uint32_t size = encoded ? (uint32_t)codec_encoded_most(w->width, w->height) : 0;
    if (w->node->planes) {
        f.fmt.pix_mp = (struct v4l2_pix_format_mplane){ .width = w->width, .height = w->height, .pixelformat = fourcc };
        f.fmt.pix_mp.field = V4L2_FIELD_NONE;
        f.fmt.pix_mp.num_planes = 1;
        f.fmt.pix_mp.plane_fmt[0].sizeimage = size;
    } else {
        f.fmt.pix = (struct v4l2_pix_format){ .width = w->width, .height = w->height, .pixelformat = fourcc };
        f.fmt.pix.field = V4L2_FIELD_NONE;
        f.fmt.pix.sizeimage = size;
    }
    if (call(w->node, w->fd, VIDIOC_S_FMT, &f) < 0) return false;
    const struct v4l2_pix_format_mplane *mp = &f.fmt.pix_mp;
    const struct v4l2_pix_format *p = &f.fmt.pix;
    if (!encoded) w->stride = w->node->planes ? mp->plane_fmt[0].bytesperline : p->bytesperline;
    bool same_format = (w->node->planes ? mp->pixelformat : p->pixelformat) == fourcc;
    /* Sizes are rounded up to whole blocks by some; the raw picture then has rows that nobody sees. */
    return same_format && (w->node->planes ? mp->width : p->width) >= w->width &&
           (w->node->planes ? mp->height : p->height) >= w->height && (!w->node->planes || mp->num_planes == 1);
}

static bool provide(work *w, lane *l, unsigned wanted)
{
    struct v4l2_requestbuffers r = { .count = wanted, .type = l->type, .memory = V4L2_MEMORY_MMAP };
    if (call(w->node, w->fd, VIDIOC_REQBUFS, &r) < 0 || r.count == 0) return false;
    l->count = r.count < wanted ? r.count : wanted;
    for (unsigned i = 0; i < l->count; i++) {
        struct v4l2_plane plane;
        struct v4l2_buffer b = buffer_of(w, l, i, &plane);
        const v4l2_system *s = w->node->system;
        if (call(w->node, w->fd, VIDIOC_QUERYBUF, &b) < 0) return false;
        l->room[i] = w->node->planes ? plane.length : b.length;
        int64_t offset = w->node->planes ? plane.m.mem_offset : b.m.offset;
        if (s->map(s->ctx, w->fd, l->room[i], offset, &l->at[i]) < 0) {
            l->at[i] = NULL;
            return false;
        }
    }
    return true;
}

static bool queue(const work *w, const lane *l, unsigned index, size_t used)
{
    struct v4l2_plane plane;
    struct v4l2_buffer b = buffer_of(w, l, index, &plane);
    plane.bytesused = b.bytesused = (uint32_t)used;
    plane.length = (uint32_t)l->room[index];
    return call(w->node, w->fd, VIDIOC_QBUF, &b) >= 0;
}

static void set_control(const work *w, uint32_t id, int32_t value)
{
    struct v4l2_control c = { .id = id, .value = value };
    (void)call(w->node, w->fd, VIDIOC_S_CTRL, &c); /* encoders differ in what they have */
}

static int32_t pictures_of(const work *w, int32_t ms)
{
    int64_t n = ((int64_t)ms * w->mfps + 500000) / 1000000;
    return n < 1 ? 1 : n > 100000 ? 100000 : (int32_t)n;
}

static void follow(work *w, const codec_request *r, bool first)
{
    if (first || r->kbps != w->kbps) set_control(w, V4L2_CID_MPEG_VIDEO_BITRATE, r->kbps * 1000);
    if (first || r->quality != w->quality) set_control(w, V4L2_CID_JPEG_COMPRESSION_QUALITY, r->quality);
    if (first || r->key_ms != w->key_ms) {
        set_control(w, V4L2_CID_MPEG_VIDEO_GOP_SIZE, pictures_of(w, r->key_ms));
        set_control(w, V4L2_CID_MPEG_VIDEO_H264_I_PERIOD, pictures_of(w, r->key_ms));
    }
    w->kbps = r->kbps;
    w->quality = r->quality;
    w->key_ms = r->key_ms;
}

static bool begin(work *w, const codec_request *first)
{
    struct v4l2_streamparm p = { .type = w->to.type };
    p.parm.output.timeperframe = (struct v4l2_fract){ 1000, w->mfps };
    /* The encoded format first: drivers derive the other from it. */
    if (!set_format(w, &w->from, w->node->encoded) || !set_format(w, &w->to, w->node->raw)) return false;
    (void)call(w->node, w->fd, VIDIOC_S_PARM, &p);
    if (w->node->encoded == V4L2_PIX_FMT_H264) {
        set_control(w, V4L2_CID_MPEG_VIDEO_H264_PROFILE, V4L2_MPEG_VIDEO_H264_PROFILE_CONSTRAINED_BASELINE);
        set_control(w, V4L2_CID_MPEG_VIDEO_BITRATE_MODE, V4L2_MPEG_VIDEO_BITRATE_MODE_CBR);
        set_control(w, V4L2_CID_MPEG_VIDEO_REPEAT_SEQ_HEADER, 1);
        set_control(w, V4L2_CID_MPEG_VIDEO_B_FRAMES, 0);
    }
    follow(w, first, true);
    if (!provide(w, &w->to, OUT_BUFFERS) || !provide(w, &w->from, IN_BUFFERS)) return false;
    for (unsigned i = 0; i < w->from.count; i++)
        if (!queue(w, &w->from, i, 0)) return false;
    return call(w->node, w->fd, VIDIOC_STREAMON, &w->to.type) >= 0 &&
           call(w->node, w->fd, VIDIOC_STREAMON, &w->from.type) >= 0;
}

static void unmap(const work *w, lane *l)
{
    const v4l2_system *s = w->node->system;
    for (unsigned i = 0; i < IN_BUFFERS; i++)
        if (l->at[i] != NULL) s->unmap(s->ctx, l->at[i], l->room[i]);
}

static void close_work(void *self)
{
    work *w = (work *)self;
    const v4l2_system *s = w->node->system;
    (void)call(w->node, w->fd, VIDIOC_STREAMOFF, &w->to.type);
    (void)call(w->node, w->fd, VIDIOC_STREAMOFF, &w->from.type);
    unmap(w, &w->to);
    unmap(w, &w->from);
    s->close(s->ctx, w->fd);
    codec_canvas_free(&w->canvas);
    free(w);
}

static void *open_work(void *ctx, const bmb_mode *mode, const codec_request *first)
{
    const v4l2_converter *node = (const v4l2_converter *)ctx;
    const v4l2_system *s = node->system;
    work *w = calloc(1, sizeof *w);
    if (w == NULL) return NULL;
    w->node = node;
    w->width = mode->width;
    w->height = mode->height;
    w->mfps = mode->mfps;
    w->to.type = to_type(node);
    w->from.type = from_type(node);
    w->fd = s->open(s->ctx, node->path);
    if (w->fd < 0) {
        free(w);
        return NULL;
    }
    if (begin(w, first)) return w;
    close_work(w);
    return NULL;
}

/* The picture in the node's layout: rows of its stride, chroma behind luma. false: its buffer is too small. */
static bool fill(work *w, const codec_picture *p)
{
    if (p->format != CODEC_I420) {
        if (!codec_scale(&w->canvas, p, p->width, p->height)) return false;
        p = &w->canvas.view;
    }
    bool nv12 = w->node->raw == V4L2_PIX_FMT_NV12;
    uint32_t stride = w->stride >= w->width ? w->stride : w->width, half = (w->width + 1u) / 2;
    uint32_t rows = (w->height + 1u) / 2;
    uint8_t *at = (uint8_t *)w->to.at[0];
    if ((size_t)stride * w->height + (size_t)stride * rows > w->to.room[0]) return false;
    for (uint32_t y = 0; y < w->height; y++, at += stride) memcpy(at, p->plane[0] + (size_t)y * p->stride[0], w->width);
    for (unsigned plane = 1; plane < 3 && !nv12; plane++)
        for (uint32_t y = 0; y < rows; y++, at += stride / 2)
            memcpy(at, p->plane[plane] + (size_t)y * p->stride[plane], half);
    for (uint32_t y = 0; y < rows && nv12; y++, at += stride) {
        const uint8_t *u = p->plane[1] + (size_t)y * p->stride[1], *v = p->plane[2] + (size_t)y * p->stride[2];
        for (uint32_t x = 0; x < half; x++) {
            at[2 * x] = u[x];
            at[2 * x + 1] = v[x];
        }
    }
    return true;
}

/* Takes one buffer of a queue back, waiting for it. false: it does not come. */
static bool dequeue(const work *w, const lane *l, struct v4l2_buffer *b, struct v4l2_plane *plane)
{
    const v4l2_system *s = w->node->system;
    *b = buffer_of(w, l, 0, plane);
    for (unsigned tries = 0; tries < 3; tries++) {
        int n = call(w->node, w->fd, VIDIOC_DQBUF, b);
        if (n >= 0) return b->index < l->count;
        if (v4l2_errno(n) != BMB_AGAIN || s->await(s->ctx, w->fd, ANSWER_MS) <= 0) return false;
    }
    return false;
}

static size_t encode(void *self, const codec_picture *picture, const codec_request *request, uint8_t *out, size_t room,
                     bool *key)
{
    work *w = (work *)self;
    struct v4l2_plane plane;
    struct v4l2_buffer b;
    follow(w, request, false);
    if (request->key && w->began) set_control(w, V4L2_CID_MPEG_VIDEO_FORCE_KEY_FRAME, 1);
    if (!fill(w, picture)) return 0;
    w->began = true;
    uint32_t stride = w->stride >= w->width ? w->stride : w->width;
    if (!queue(w, &w->to, 0, (size_t)stride * w->height + (size_t)stride * ((w->height + 1u) / 2))) return 0;
    if (!dequeue(w, &w->from, &b, &plane)) return 0;
    size_t used = w->node->planes ? plane.bytesused : b.bytesused, skip = w->node->planes ? plane.data_offset : 0;
    bool good =
        used > skip && used <= w->from.room[b.index] && used - skip <= room && (b.flags & V4L2_BUF_FLAG_ERROR) == 0;
    if (good) memcpy(out, (uint8_t *)w->from.at[b.index] + skip, used - skip);
    *key = (b.flags & V4L2_BUF_FLAG_KEYFRAME) != 0 || w->node->encoded != V4L2_PIX_FMT_H264;
    if (!queue(w, &w->from, b.index, 0)) return 0;
    if (!dequeue(w, &w->to, &b, &plane)) return 0;
    return good ? used - skip : 0;
}

const codec_encoder *v4l2_converter_encoder(bmb_codec codec)
{
    static const codec_encoder encoders[BMB_CODEC_COUNT] = { { BMB_CODEC_JPEG, open_work, encode, close_work },
                                                             { BMB_CODEC_H264, open_work, encode, close_work } };
    return &encoders[codec];
}
