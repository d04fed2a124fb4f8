#include "v4l2/controls.h"

#include <ctype.h>
#include <errno.h>
#include <stdio.h>
#include <string.h>

/* How a driver's value and ours go together. */
typedef enum meaning {
    PLAIN,    /* the same number */
    MILLI,    /* ours is 1000 times smaller: bit/s and kbit/s */
    HUNDRED,  /* ours is 100 times larger: units of 100 us, and us */
    PICTURES, /* a number of pictures, and ms */
    MAINS,    /* a menu, and Hz */
    PROFILE,  /* a menu, and profile_idc */
    ON_OFF    /* a switch, and 0 or `most` per cent */
} meaning;

typedef struct control_row {
    bmb_control control;
    uint32_t id;
    meaning means;
    uint32_t auto_id;       /* a switch or menu that takes the control over; 0: none. Ours is 0 then */
    int32_t by_hand, by_it; /* its values */
    int32_t by_it_else;     /* another one for by_it, where a menu lacks that */
} control_row;

/* The first of a control's rows that the driver has counts. */
static const control_row rows[] = {
    { BMB_CONTROL_QUALITY, V4L2_CID_JPEG_COMPRESSION_QUALITY, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_KBPS, V4L2_CID_MPEG_VIDEO_BITRATE, MILLI, 0, 0, 0, 0 },
    { BMB_CONTROL_KEY_MS, V4L2_CID_MPEG_VIDEO_H264_I_PERIOD, PICTURES, 0, 0, 0, 0 },
    { BMB_CONTROL_KEY_MS, V4L2_CID_MPEG_VIDEO_GOP_SIZE, PICTURES, 0, 0, 0, 0 },
    { BMB_CONTROL_FLIP_H, V4L2_CID_HFLIP, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_FLIP_V, V4L2_CID_VFLIP, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_BRIGHTNESS, V4L2_CID_BRIGHTNESS, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_CONTRAST, V4L2_CID_CONTRAST, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_SATURATION, V4L2_CID_SATURATION, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_SHARPNESS, V4L2_CID_SHARPNESS, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_ROTATE, V4L2_CID_ROTATE, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_EXPOSURE_US, V4L2_CID_EXPOSURE_ABSOLUTE, HUNDRED, V4L2_CID_EXPOSURE_AUTO, V4L2_EXPOSURE_MANUAL,
      V4L2_EXPOSURE_APERTURE_PRIORITY, V4L2_EXPOSURE_AUTO },
    { BMB_CONTROL_GAIN, V4L2_CID_GAIN, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_GAIN, V4L2_CID_ANALOGUE_GAIN, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_WHITE_K, V4L2_CID_WHITE_BALANCE_TEMPERATURE, PLAIN, V4L2_CID_AUTO_WHITE_BALANCE, 0, 1, 1 },
    { BMB_CONTROL_FLICKER, V4L2_CID_POWER_LINE_FREQUENCY, MAINS, 0, 0, 0, 0 },
    { BMB_CONTROL_NIGHT, V4L2_CID_SCENE_MODE, ON_OFF, 0, 0, V4L2_SCENE_MODE_NIGHT, 0 },
    { BMB_CONTROL_ILLUMINATION, V4L2_CID_FLASH_TORCH_INTENSITY, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_ILLUMINATION, V4L2_CID_ILLUMINATORS_1, ON_OFF, 0, 0, 1, 0 },
    { BMB_CONTROL_FOCUS, V4L2_CID_FOCUS_ABSOLUTE, PLAIN, V4L2_CID_FOCUS_AUTO, 0, 1, 1 },
    { BMB_CONTROL_ZOOM, V4L2_CID_ZOOM_ABSOLUTE, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_PAN, V4L2_CID_PAN_ABSOLUTE, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_TILT, V4L2_CID_TILT_ABSOLUTE, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_HUE, V4L2_CID_HUE, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_GAMMA, V4L2_CID_GAMMA, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_BACKLIGHT, V4L2_CID_BACKLIGHT_COMPENSATION, PLAIN, 0, 0, 0, 0 },
    { BMB_CONTROL_PROFILE, V4L2_CID_MPEG_VIDEO_H264_PROFILE, PROFILE, 0, 0, 0, 0 },
};
#define ROW_COUNT (sizeof rows / sizeof rows[0])

static bool query(const v4l2_system *s, int fd, uint32_t id, struct v4l2_queryctrl *out)
{
    memset(out, 0, sizeof *out);
    out->id = id;
    return s->ioctl(s->ctx, fd, VIDIOC_QUERYCTRL, out) >= 0 && (out->flags & V4L2_CTRL_FLAG_DISABLED) == 0;
}

static bool menu_has(const v4l2_system *s, int fd, uint32_t id, int32_t item)
{
    struct v4l2_querymenu m = { .id = id, .index = (uint32_t)item };
    return s->ioctl(s->ctx, fd, VIDIOC_QUERYMENU, &m) >= 0;
}

static int get(const v4l2_system *s, int fd, uint32_t id, int32_t *value)
{
    struct v4l2_control c = { .id = id };
    int n = s->ioctl(s->ctx, fd, VIDIOC_G_CTRL, &c);
    *value = c.value;
    return n;
}

static int set(const v4l2_system *s, int fd, uint32_t id, int32_t value)
{
    struct v4l2_control c = { .id = id, .value = value };
    return s->ioctl(s->ctx, fd, VIDIOC_S_CTRL, &c);
}

static int32_t bounded(int64_t v)
{
    return v < INT32_MIN ? INT32_MIN : v > INT32_MAX ? INT32_MAX : (int32_t)v;
}

static int32_t to_ours(const control_row *r, uint32_t mfps, int32_t value)
{
    switch (r->means) {
    case MILLI:
        return value / 1000;
    case HUNDRED:
        return bounded((int64_t)value * 100);
    case PICTURES:
        return mfps > 0 ? bounded((int64_t)value * 1000000 / mfps) : value;
    case MAINS:
        return value == V4L2_CID_POWER_LINE_FREQUENCY_50HZ ? 50 : value == V4L2_CID_POWER_LINE_FREQUENCY_60HZ ? 60 : 0;
    case PROFILE:
        return value <= V4L2_MPEG_VIDEO_H264_PROFILE_CONSTRAINED_BASELINE ? 66
               : value == V4L2_MPEG_VIDEO_H264_PROFILE_MAIN               ? 77
                                                                          : 100;
    case ON_OFF:
        return value != r->by_it ? 0 : r->control == BMB_CONTROL_NIGHT ? 1 : 100;
    default:
        return value;
    }
}

static int32_t to_theirs(const control_row *r, uint32_t mfps, int32_t value)
{
    switch (r->means) {
    case MILLI:
        return bounded((int64_t)value * 1000);
    case HUNDRED:
        return (value + 50) / 100;
    case PICTURES:
        return mfps > 0 ? bounded(((int64_t)value * mfps + 500000) / 1000000) : value;
    case MAINS:
        return value == 50   ? V4L2_CID_POWER_LINE_FREQUENCY_50HZ
               : value == 60 ? V4L2_CID_POWER_LINE_FREQUENCY_60HZ
                             : V4L2_CID_POWER_LINE_FREQUENCY_DISABLED;
    case PROFILE:
        return value < 77    ? V4L2_MPEG_VIDEO_H264_PROFILE_CONSTRAINED_BASELINE
               : value < 100 ? V4L2_MPEG_VIDEO_H264_PROFILE_MAIN
                             : V4L2_MPEG_VIDEO_H264_PROFILE_HIGH;
    case ON_OFF:
        return value != 0 ? r->by_it : r->by_hand;
    default:
        return value;
    }
}

/* The automatic's value while it has the control. */
static int32_t automatic(const v4l2_system *s, int fd, const control_row *r)
{
    struct v4l2_queryctrl q;
    bool menu = query(s, fd, r->auto_id, &q) && q.type == V4L2_CTRL_TYPE_MENU;
    return menu && !menu_has(s, fd, r->auto_id, r->by_it) ? r->by_it_else : r->by_it;
}

static bmb_range range_of(const v4l2_system *s, int fd, uint32_t mfps, const control_row *r,
                          const struct v4l2_queryctrl *q)
{
    bmb_range out = { to_ours(r, mfps, q->minimum), to_ours(r, mfps, q->maximum), 1,
                      to_ours(r, mfps, q->default_value) };
    struct v4l2_queryctrl by_it;
    int32_t step = q->step > 0 ? q->step : 1;
    switch (r->means) {
    case PLAIN:
        out.step = step;
        break;
    case HUNDRED:
        out.step = bounded((int64_t)step * 100);
        break;
    case MAINS:
        out = (bmb_range){ 0, 60, 10, to_ours(r, mfps, q->default_value) };
        break;
    case PROFILE:
        out = (bmb_range){ 66, 100, 1, to_ours(r, mfps, q->default_value) };
        break;
    case ON_OFF:
        out = (bmb_range){ 0, r->control == BMB_CONTROL_NIGHT ? 1 : 100, r->control == BMB_CONTROL_NIGHT ? 1 : 100, 0 };
        break;
    default:
        break;
    }
    if (r->control == BMB_CONTROL_ROTATE) { /* a quarter would exchange width and height */
        if (out.most > 180) out.most = 180;
        out.step = out.most >= 180 ? 180 : 0;
    }
    if (r->auto_id != 0 && query(s, fd, r->auto_id, &by_it)) { /* 0 is the automatic: steps count from there */
        out.preset = by_it.default_value == r->by_hand ? out.preset : 0;
        if (out.least > 0) {
            out.least = 0;
            out.step = 1;
        }
    }
    return out;
}

static const control_row *find(const v4l2_system *s, int fd, bmb_control control, struct v4l2_queryctrl *q)
{
    for (size_t i = 0; i < ROW_COUNT; i++) {
        const control_row *r = &rows[i];
        if (r->control != control || !query(s, fd, r->id, q)) continue;
        if (r->means == ON_OFF && q->type == V4L2_CTRL_TYPE_MENU && !menu_has(s, fd, r->id, r->by_it)) continue;
        return r;
    }
    return NULL;
}

void v4l2_controls_find(const v4l2_system *s, int fd, uint32_t mfps, bmb_range *out)
{
    struct v4l2_queryctrl q;
    for (int c = 0; c < BMB_CONTROL_COUNT; c++) {
        const control_row *r = find(s, fd, (bmb_control)c, &q);
        out[c] = r != NULL ? range_of(s, fd, mfps, r, &q) : (bmb_range){ 0 };
        if (out[c].most <= out[c].least) out[c].step = 0; /* there is nothing to choose */
    }
}

bmb_err v4l2_control_get(const v4l2_system *s, int fd, uint32_t mfps, bmb_control control, int32_t *value)
{
    struct v4l2_queryctrl q;
    const control_row *r = find(s, fd, control, &q);
    int32_t theirs, by_it;
    if (r == NULL) return BMB_UNSUPPORTED;
    if (r->auto_id != 0 && get(s, fd, r->auto_id, &by_it) >= 0 && by_it != r->by_hand) {
        *value = 0;
        return BMB_OK;
    }
    int n = get(s, fd, r->id, &theirs);
    if (n < 0) return v4l2_errno(n);
    *value = to_ours(r, mfps, theirs);
    return BMB_OK;
}

bmb_err v4l2_control_set(const v4l2_system *s, int fd, uint32_t mfps, bmb_control control, int32_t value,
                         int32_t *effective)
{
    struct v4l2_queryctrl q, by_it;
    const control_row *r = find(s, fd, control, &q);
    if (r == NULL) return BMB_UNSUPPORTED;
    bool has_auto = r->auto_id != 0 && query(s, fd, r->auto_id, &by_it);
    const bmb_range range = range_of(s, fd, mfps, r, &q);
    if (value < range.least || value > range.most) return BMB_BAD_ARG;
    int n = has_auto ? set(s, fd, r->auto_id, value == 0 ? automatic(s, fd, r) : r->by_hand) : 0;
    if (n < 0) return v4l2_errno(n);
    int32_t theirs = to_theirs(r, mfps, value);
    if (theirs < q.minimum) theirs = q.minimum; /* between the automatic's 0 and the least */
    if (!has_auto || value != 0) n = set(s, fd, r->id, theirs);
    if (n < 0) return n == -ERANGE ? BMB_BAD_ARG : v4l2_errno(n);
    return v4l2_control_get(s, fd, mfps, control, effective);
}

bmb_err v4l2_force_key(const v4l2_system *s, int fd)
{
    return v4l2_errno(set(s, fd, V4L2_CID_MPEG_VIDEO_FORCE_KEY_FRAME, 1));
}

void v4l2_repeat_sets(const v4l2_system *s, int fd)
{
    struct v4l2_queryctrl q;
    if (query(s, fd, V4L2_CID_MPEG_VIDEO_REPEAT_SEQ_HEADER, &q)) (void)set(s, fd, q.id, 1);
}

static bool is_ours(uint32_t id)
{
    for (size_t i = 0; i < ROW_COUNT; i++)
        if (rows[i].id == id || rows[i].auto_id == id) return true;
    return id == V4L2_CID_MPEG_VIDEO_FORCE_KEY_FRAME || id == V4L2_CID_MPEG_VIDEO_REPEAT_SEQ_HEADER;
}

bmb_err v4l2_control_text(const v4l2_system *s, int fd, size_t index, char *out, size_t room)
{
    struct v4l2_queryctrl q = { .id = V4L2_CTRL_FLAG_NEXT_CTRL };
    for (unsigned n = 0; n < 512 && s->ioctl(s->ctx, fd, VIDIOC_QUERYCTRL, &q) >= 0; n++) {
        int32_t value = 0;
        char name[sizeof q.name + 1] = "";
        bool plain = q.type == V4L2_CTRL_TYPE_INTEGER || q.type == V4L2_CTRL_TYPE_BOOLEAN ||
                     q.type == V4L2_CTRL_TYPE_MENU || q.type == V4L2_CTRL_TYPE_INTEGER_MENU;
        if (plain && (q.flags & V4L2_CTRL_FLAG_DISABLED) == 0 && !is_ours(q.id) && index-- == 0) {
            for (size_t i = 0; i < sizeof q.name && q.name[i] != 0; i++)
                name[i] = isprint(q.name[i]) ? (char)q.name[i] : '?';
            bool known = get(s, fd, q.id, &value) >= 0;
            int at = snprintf(out, room, "%s: %d to %d", name, q.minimum, q.maximum);
            if (known && at > 0 && (size_t)at < room) snprintf(out + at, room - (size_t)at, ", now %d", value);
            return BMB_OK;
        }
        q.id |= V4L2_CTRL_FLAG_NEXT_CTRL;
    }
    return BMB_NOT_FOUND;
}
