#include "v4l2/input.h"

#include <errno.h>
#include <linux/videodev2.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "v4l2/node.h"

#define INPUTS_MOST 16u

static bool describe(const v4l2_system *s, int fd, uint32_t index, struct v4l2_input *out)
{
    memset(out, 0, sizeof *out);
    out->index = index;
    return s->ioctl(s->ctx, fd, VIDIOC_ENUMINPUT, out) >= 0;
}

static bool in_use(const v4l2_system *s, int fd, uint32_t *index)
{
    int now = 0;
    if (s->ioctl(s->ctx, fd, VIDIOC_G_INPUT, &now) < 0 || now < 0) return false;
    *index = (uint32_t)now;
    return true;
}

bmb_err v4l2_input_choose(const v4l2_system *s, int fd, const char *wanted)
{
    char *end, name[33];
    struct v4l2_input in;
    unsigned long number = strtoul(wanted, &end, 10);
    bool by_number = end != wanted && *end == '\0';
    for (uint32_t i = 0; i < INPUTS_MOST && describe(s, fd, i, &in); i++) {
        uint32_t now;
        v4l2_text(name, in.name, sizeof in.name);
        if (by_number ? number != i : !v4l2_contains(name, wanted)) continue;
        if (in_use(s, fd, &now) && now == i) return BMB_OK; /* setting it again would break off a stream */
        int index = (int)i;
        return v4l2_errno(s->ioctl(s->ctx, fd, VIDIOC_S_INPUT, &index));
    }
    return BMB_NOT_FOUND;
}

static void missing(v4l2_signal *out, const char *why)
{
    out->err = BMB_NO_SIGNAL;
    out->why = why;
}

/* Digital: the driver measures what arrives (the timings of CTA-861 or VESA). */
static void look_at_timings(const v4l2_system *s, int fd, v4l2_signal *out)
{
    struct v4l2_dv_timings found = { 0 }, set = { 0 };
    const struct v4l2_bt_timings *bt = &found.bt;
    switch (-s->ioctl(s->ctx, fd, VIDIOC_QUERY_DV_TIMINGS, &found)) {
    case ENOLINK:
        missing(out, "no signal");
        return;
    case ENOLCK:
        missing(out, "a signal that is not steady");
        return;
    case ERANGE:
        missing(out, "a signal in a form that this receiver cannot take");
        return;
    case 0:
        break;
    default:
        return; /* it cannot tell */
    }
    if (bt->width < 16 || bt->height < 16 || bt->width > 8192 || bt->height > 8192) return;
    out->width = (uint16_t)bt->width;
    out->height = (uint16_t)bt->height;
    uint64_t whole = (uint64_t)V4L2_DV_BT_FRAME_WIDTH(bt) * V4L2_DV_BT_FRAME_HEIGHT(bt);
    if (whole > 0) out->mfps = (uint32_t)((bt->pixelclock * 1000 + whole / 2) / whole);
    if (s->ioctl(s->ctx, fd, VIDIOC_G_DV_TIMINGS, &set) >= 0 && memcmp(&set.bt, bt, sizeof set.bt) == 0) return;
    (void)s->ioctl(s->ctx, fd, VIDIOC_S_DV_TIMINGS, &found); /* not while somebody captures: then it is right */
}

/* Analogue: which standard (ITU-R BT.470) the driver finds. */
static void look_at_standard(const v4l2_system *s, int fd, v4l2_signal *out)
{
    v4l2_std_id found = 0, set = 0;
    if (s->ioctl(s->ctx, fd, VIDIOC_QUERYSTD, &found) < 0) return;
    if (found == V4L2_STD_UNKNOWN) {
        missing(out, "no signal");
        return;
    }
    if (s->ioctl(s->ctx, fd, VIDIOC_G_STD, &set) >= 0 && (set & found) != 0) return;
    (void)s->ioctl(s->ctx, fd, VIDIOC_S_STD, &found);
}

void v4l2_input_look(const v4l2_system *s, int fd, v4l2_signal *out)
{
    struct v4l2_input in;
    *out = (v4l2_signal){ .err = BMB_OK };
    if (!in_use(s, fd, &out->input) || !describe(s, fd, out->input, &in)) return;
    v4l2_text(out->name, in.name, sizeof in.name);
    if ((in.status & V4L2_IN_ST_NO_POWER) != 0)
        missing(out, "an input without power");
    else if ((in.status & V4L2_IN_ST_NO_SIGNAL) != 0)
        missing(out, "no signal");
    else if ((in.status & (V4L2_IN_ST_NO_SYNC | V4L2_IN_ST_NO_H_LOCK)) != 0)
        missing(out, "a signal that is not steady");
    if (out->err != BMB_OK) return;
    if ((in.capabilities & V4L2_IN_CAP_DV_TIMINGS) != 0)
        look_at_timings(s, fd, out);
    else if ((in.capabilities & V4L2_IN_CAP_STD) != 0)
        look_at_standard(s, fd, out);
}

void v4l2_input_list(const v4l2_system *s, int fd, char *out, size_t room)
{
    struct v4l2_input in;
    char name[33];
    uint32_t now = UINT32_MAX;
    size_t at = 0;
    out[0] = '\0';
    if (!in_use(s, fd, &now) || !describe(s, fd, 1, &in)) return;
    for (uint32_t i = 0; i < INPUTS_MOST && describe(s, fd, i, &in); i++) {
        v4l2_text(name, in.name, sizeof in.name);
        int n = snprintf(out + at, room - at, "%s%u %s%s", i > 0 ? ", " : "", i, name, i == now ? " (in use)" : "");
        if (n < 0 || (size_t)n >= room - at) return;
        at += (size_t)n;
    }
}
