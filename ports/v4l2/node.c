#include "v4l2/node.h"

#include <ctype.h>
#include <errno.h>
#include <string.h>

static const v4l2_format_row formats[] = {
    { V4L2_PIX_FMT_MJPEG, "MJPEG", true, BMB_CODEC_JPEG, 0 }, { V4L2_PIX_FMT_JPEG, "JPEG", true, BMB_CODEC_JPEG, 0 },
    { V4L2_PIX_FMT_H264, "H.264", true, BMB_CODEC_H264, 0 },  { V4L2_PIX_FMT_NV12, "NV12", false, 0, CODEC_NV12 },
    { V4L2_PIX_FMT_YUV420, "YU12", false, 0, CODEC_I420 },    { V4L2_PIX_FMT_YUYV, "YUYV", false, 0, CODEC_YUYV },
    { V4L2_PIX_FMT_UYVY, "UYVY", false, 0, CODEC_UYVY },      { V4L2_PIX_FMT_YUV422P, "422P", false, 0, CODEC_I422 },
    { V4L2_PIX_FMT_GREY, "GREY", false, 0, CODEC_GREY },      { V4L2_PIX_FMT_RGB24, "RGB3", false, 0, CODEC_RGB24 },
};

/* Sizes that are offered of a sensor that has any size. */
static const uint16_t usual[][2] = { { 1920, 1080 }, { 1640, 1232 }, { 1296, 972 }, { 1280, 960 },
                                     { 1280, 720 },  { 1024, 768 },  { 800, 600 },  { 640, 480 },
                                     { 640, 360 },   { 320, 240 },   { 320, 180 } };

const v4l2_format_row *v4l2_format_of(uint32_t fourcc)
{
    for (size_t i = 0; i < sizeof formats / sizeof formats[0]; i++)
        if (formats[i].fourcc == fourcc) return &formats[i];
    return NULL;
}

bmb_err v4l2_errno(int error)
{
    switch (-error) {
    case 0:
        return BMB_OK;
    case EAGAIN:
        return BMB_AGAIN;
    case EACCES:
    case EPERM:
        return BMB_DENIED;
    case ENOENT:
    case ENODEV:
    case ENXIO:
        return BMB_NOT_FOUND;
    case EBUSY:
        return BMB_IN_USE;
    case ENOTTY: /* the driver has no such call; EINVAL may mean anything, so it is a failure */
        return BMB_UNSUPPORTED;
    case ENOMEM:
        return BMB_NO_MEMORY;
    case EMFILE:
    case ENFILE:
    case ENOSPC: /* USB: no bandwidth left on the bus */
        return BMB_LIMIT;
    default:
        return BMB_FAILED;
    }
}

void v4l2_text(char *out, const void *from, size_t size)
{
    const char *text = (const char *)from;
    size_t n = 0;
    for (; n < size && text[n] != '\0'; n++) out[n] = isprint((unsigned char)text[n]) ? text[n] : '?';
    out[n] = '\0';
}

bool v4l2_contains(const char *text, const char *part)
{
    size_t n = strlen(part);
    for (; *text != '\0'; text++) {
        size_t i = 0;
        while (i < n && tolower((unsigned char)text[i]) == tolower((unsigned char)part[i])) i++;
        if (i == n) return true;
    }
    return false;
}

static uint32_t rate_of(const struct v4l2_fract *interval)
{
    if (interval->numerator == 0 || interval->denominator == 0) return 0;
    uint64_t mfps = (uint64_t)interval->denominator * 1000 / interval->numerator;
    return mfps > 240000 ? 240000 : (uint32_t)mfps;
}

/* The fastest of a size; drivers that do not tell are taken for what nearly all of them do, or for what arrives. */
static uint32_t fastest(const v4l2_system *s, int fd, const v4l2_node *n, uint32_t fourcc, uint32_t width,
                        uint32_t height)
{
    struct v4l2_frmivalenum e = { .pixel_format = fourcc, .width = width, .height = height };
    uint32_t most = 0, usually = n->signal.mfps >= 1000 && n->signal.mfps <= 240000 ? n->signal.mfps : 30000;
    for (; e.index < 64 && s->ioctl(s->ctx, fd, VIDIOC_ENUM_FRAMEINTERVALS, &e) >= 0; e.index++) {
        uint32_t mfps = rate_of(e.type == V4L2_FRMIVAL_TYPE_DISCRETE ? &e.discrete : &e.stepwise.min);
        if (mfps > most) most = mfps;
        if (e.type != V4L2_FRMIVAL_TYPE_DISCRETE) break;
    }
    return most >= 1000 ? most : most > 0 ? 1000 : usually;
}

static void add_row(const v4l2_system *s, int fd, v4l2_node *n, uint32_t fourcc, uint32_t width, uint32_t height)
{
    if (n->row_count == V4L2_ROWS || width < 16 || height < 16 || width > 8192 || height > 8192) return;
    for (size_t i = 0; i < n->row_count; i++)
        if (n->rows[i].fourcc == fourcc && n->rows[i].width == width && n->rows[i].height == height) return;
    n->rows[n->row_count++] =
        (v4l2_row){ fourcc, (uint16_t)width, (uint16_t)height, fastest(s, fd, n, fourcc, width, height) };
}

static bool fits_steps(const struct v4l2_frmsize_stepwise *r, uint32_t width, uint32_t height)
{
    return width >= r->min_width && width <= r->max_width && height >= r->min_height && height <= r->max_height &&
           (r->step_width == 0 || (width - r->min_width) % r->step_width == 0) &&
           (r->step_height == 0 || (height - r->min_height) % r->step_height == 0);
}

static void add_sizes(const v4l2_system *s, int fd, v4l2_node *n, uint32_t fourcc)
{
    struct v4l2_frmsizeenum e = { .pixel_format = fourcc };
    for (; e.index < V4L2_ROWS && s->ioctl(s->ctx, fd, VIDIOC_ENUM_FRAMESIZES, &e) >= 0; e.index++) {
        if (e.type == V4L2_FRMSIZE_TYPE_DISCRETE) {
            add_row(s, fd, n, fourcc, e.discrete.width, e.discrete.height);
            continue;
        }
        add_row(s, fd, n, fourcc, e.stepwise.max_width, e.stepwise.max_height);
        for (size_t i = 0; i < sizeof usual / sizeof usual[0]; i++)
            if (fits_steps(&e.stepwise, usual[i][0], usual[i][1])) add_row(s, fd, n, fourcc, usual[i][0], usual[i][1]);
        return;
    }
    if (e.index > 0) return;
    /* No list: the size that it is set to is one that it has. */
    struct v4l2_format f = { .type = n->planes ? V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE : V4L2_BUF_TYPE_VIDEO_CAPTURE };
    if (s->ioctl(s->ctx, fd, VIDIOC_G_FMT, &f) < 0) return;
    add_row(s, fd, n, fourcc, n->planes ? f.fmt.pix_mp.width : f.fmt.pix.width,
            n->planes ? f.fmt.pix_mp.height : f.fmt.pix.height);
}

/* One format and size after the other. */
static void add_formats(const v4l2_system *s, int fd, v4l2_node *out)
{
    struct v4l2_fmtdesc e = { .type = out->planes ? V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE : V4L2_BUF_TYPE_VIDEO_CAPTURE };
    for (; e.index < 64 && s->ioctl(s->ctx, fd, VIDIOC_ENUM_FMT, &e) >= 0; e.index++)
        if (v4l2_format_of(e.pixelformat) != NULL) add_sizes(s, fd, out, e.pixelformat);
}

static bmb_err look(const v4l2_system *s, int fd, const char *input, v4l2_node *out)
{
    struct v4l2_capability cap = { 0 };
    int n = s->ioctl(s->ctx, fd, VIDIOC_QUERYCAP, &cap);
    if (n < 0) return v4l2_errno(n);
    uint32_t caps = (cap.capabilities & V4L2_CAP_DEVICE_CAPS) != 0 ? cap.device_caps : cap.capabilities;
    v4l2_text(out->card, cap.card, sizeof cap.card);
    v4l2_text(out->bus, cap.bus_info, sizeof cap.bus_info);
    v4l2_text(out->driver, cap.driver, sizeof cap.driver);
    bool single = (caps & V4L2_CAP_VIDEO_CAPTURE) != 0, planes = (caps & V4L2_CAP_VIDEO_CAPTURE_MPLANE) != 0;
    bool converter = (caps & (V4L2_CAP_VIDEO_M2M | V4L2_CAP_VIDEO_M2M_MPLANE | V4L2_CAP_VIDEO_OUTPUT |
                              V4L2_CAP_VIDEO_OUTPUT_MPLANE)) != 0;
    if ((!single && !planes) || converter || (caps & V4L2_CAP_STREAMING) == 0) return BMB_UNSUPPORTED;
    out->planes = !single;
    if (input != NULL) {
        bmb_err err = v4l2_input_choose(s, fd, input);
        if (err != BMB_OK) return err == BMB_UNSUPPORTED ? BMB_NOT_FOUND : err;
    }
    v4l2_input_look(s, fd, &out->signal);
    add_formats(s, fd, out);
    if (out->signal.err != BMB_OK) return out->signal.err;
    return out->row_count > 0 ? BMB_OK : BMB_UNSUPPORTED;
}

bmb_err v4l2_probe(const v4l2_system *s, const char *path, const char *input, v4l2_node *out)
{
    memset(out, 0, sizeof *out);
    strncpy(out->path, path, sizeof out->path - 1);
    int fd = s->open(s->ctx, path);
    if (fd < 0) return v4l2_errno(fd);
    bmb_err err = look(s, fd, input, out);
    s->close(s->ctx, fd);
    if (out->card[0] != '\0') (void)s->pipeline(s->ctx, path, out->pipeline, sizeof out->pipeline);
    return err;
}

static bool is_meant(const v4l2_system *s, const v4l2_node *n, const char *device)
{
    if (device == NULL) return true;
    if (device[0] == '/') return s->same(s->ctx, device, n->path);
    return strcmp(device, n->bus) == 0 || v4l2_contains(n->card, device);
}

bmb_err v4l2_find(const v4l2_system *s, const v4l2_wanted *wanted, v4l2_node *out)
{
    const char *device = wanted->device;
    const bool by_path = device != NULL && device[0] == '/';
    char path[V4L2_PATH];
    bmb_err worst = BMB_NOT_FOUND;
    v4l2_node which = { .path = "" };
    for (size_t i = 0; s->list(s->ctx, i, path, sizeof path); i++) {
        if (wanted->skip != NULL && wanted->skip(wanted->ctx, path, NULL)) continue;
        if (by_path && !s->same(s->ctx, device, path)) continue;
        bmb_err err = v4l2_probe(s, path, wanted->input, out);
        bool named = out->card[0] != '\0' && is_meant(s, out, device);
        bool others = wanted->skip != NULL && named && wanted->skip(wanted->ctx, path, out->bus);
        if (others || (out->pipeline[0] != '\0' && !by_path)) continue;
        if (err == BMB_OK && named) return BMB_OK;
        /* One that nobody may open says not what it is. Why another one cannot be used counts where it was meant: by
         * its path, or since no signal arrives at it. */
        if (err != BMB_DENIED && !by_path && !(err == BMB_NO_SIGNAL && named)) continue;
        if (err == BMB_OK || (worst == BMB_NO_SIGNAL && err == BMB_DENIED)) continue;
        worst = err;
        which = *out;
    }
    *out = which;
    return worst;
}
