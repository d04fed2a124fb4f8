#include "media/camera.h"

#include "base/bounds.h"

void bmb_camera_tell(bmb_context *x, const bmb_camera *c, bmb_event_code code, bmb_err err, int64_t value,
                     int64_t extra)
{
    bmb_tell(x, &(bmb_event){ .code = code, .err = err, .feed = c->config->name, .value = value, .extra = extra });
}

static void retry_later(const bmb_context *x, bmb_camera *c, bmb_err err)
{
    /* One that failed again soon after it began has not recovered. */
    if (c->began_us != 0 && x->now >= c->began_us + BMB_RECOVERED_US) c->retry_ms = 0;
    c->began_us = 0;
    uint32_t pause = c->retry_ms == 0 ? BMB_RETRY_FIRST_MS : c->retry_ms * 2;
    c->retry_ms = pause > BMB_RETRY_MOST_MS ? BMB_RETRY_MOST_MS : pause;
    c->retry_us = x->now + (uint64_t)c->retry_ms * 1000;
    c->state = BMB_CAMERA_WAITING;
    c->err = err;
    const bmb_cameras *cameras = &x->port->cameras;
    c->absent = cameras->present != NULL && !cameras->present(cameras->ctx, c->index);
    /* While nobody watched, nobody heard of it: its rest is no gap. */
    if (c->gap_us == 0) c->gap_us = c->heard_us != 0 && !c->resting ? c->heard_us : x->now;
}

static bmb_camera_fault fault_of(const bmb_context *x, const bmb_camera *c)
{
    const bmb_cameras *cameras = &x->port->cameras;
    return cameras->fault != NULL ? cameras->fault(cameras->ctx, c->index) : BMB_CAMERA_FAULT_NONE;
}

static void failed(bmb_context *x, bmb_camera *c, bmb_err err)
{
    const bmb_cameras *cameras = &x->port->cameras;
    retry_later(x, c, err);
    bmb_tell(x, &(bmb_event){ .code = BMB_EVENT_CAMERA_FAILED,
                              .err = err,
                              .feed = c->config->name,
                              .value = fault_of(x, c),
                              .extra = c->retry_ms,
                              .text = cameras->trouble != NULL ? cameras->trouble(cameras->ctx, c->index) : NULL });
}

bool bmb_mode_same(const bmb_mode *a, const bmb_mode *b)
{
    return a->codec == b->codec && a->width == b->width && a->height == b->height && a->mfps == b->mfps;
}

static int64_t packed_size(const bmb_mode *mode)
{
    return (int64_t)mode->width << 16 | mode->height;
}

/* The layout holds for the codec that was asked for; a size of nothing would be divided by. */
static bool mode_may_be(const bmb_mode *asked, const bmb_mode *effective)
{
    return effective->codec == asked->codec && effective->width > 0 && effective->height > 0;
}

bmb_err bmb_camera_start(bmb_context *x, bmb_camera *c, bool *news)
{
    const bmb_cameras *cameras = &x->port->cameras;
    const bmb_mode *asked = &c->config->mode;
    bmb_mode effective = *asked;
    bmb_err err = cameras->start(cameras->ctx, c->index, asked, &effective);
    if (err == BMB_OK && !mode_may_be(asked, &effective)) {
        cameras->stop(cameras->ctx, c->index);
        err = BMB_UNSUPPORTED;
    }
    if (err != BMB_OK) {
        failed(x, c, err);
        return err;
    }
    if (effective.mfps == 0) effective.mfps = asked->mfps; /* not known: as was asked, until it is measured */
    *news = !bmb_mode_same(&c->mode, &effective);
    c->mode = effective;
#if BMB_WITH_REPAIR
    c->number = 0;
#endif
    c->state = BMB_CAMERA_STARTING;
    c->heard_us = x->now;
    return BMB_OK;
}

void bmb_camera_started(bmb_context *x, const bmb_camera *c)
{
    bool adjusted = !bmb_mode_same(&c->mode, &c->config->mode);
    bmb_camera_tell(x, c, adjusted ? BMB_EVENT_CAMERA_ADJUSTED : BMB_EVENT_CAMERA_STARTED, BMB_OK,
                    packed_size(&c->mode), c->mode.mfps);
}

void bmb_camera_stop(bmb_context *x, bmb_camera *c)
{
    if ((c->state == BMB_CAMERA_STARTING || c->state == BMB_CAMERA_RUNNING) && !bmb_camera_is_off(c))
        x->port->cameras.stop(x->port->cameras.ctx, c->index);
}

void bmb_camera_fail(bmb_context *x, bmb_camera *c, bmb_err err)
{
    x->port->cameras.stop(x->port->cameras.ctx, c->index);
    failed(x, c, err);
}

void bmb_camera_look(bmb_context *x, bmb_camera *c)
{
    const bmb_cameras *cameras = &x->port->cameras;
    if (!bmb_camera_is_off(c) || cameras->present == NULL || cameras->present(cameras->ctx, c->index)) return;
    c->off = c->resting = false;
    c->heard_us = x->now; /* its rest is no gap */
    failed(x, c, BMB_GONE);
}

void bmb_camera_heard(bmb_context *x, bmb_camera *c)
{
    if (BMB_WITH_SIZED_STILLS && c->lent_us != 0) {
        bmb_camera_tell(x, c, BMB_EVENT_STILL_GAP, BMB_OK, bmb_ms_between(c->lent_us, x->now), 0);
        c->lent_us = 0;
    }
    uint32_t gap_ms = bmb_ms_between(c->heard_us, x->now);
    c->heard_us = x->now;
    if (c->state == BMB_CAMERA_RUNNING) {
        if (gap_ms > c->gap_ms_most) c->gap_ms_most = gap_ms;
        return;
    }
    c->state = BMB_CAMERA_RUNNING;
    c->err = BMB_OK;
    c->began_us = x->now;
    if (c->gap_us == 0) return;
    bmb_camera_tell(x, c, BMB_EVENT_CAMERA_BACK, BMB_OK, bmb_ms_between(c->gap_us, x->now), 0);
    c->gap_us = 0;
}

#if BMB_WITH_REPAIR
void bmb_camera_count(bmb_camera *c, uint32_t number)
{
    uint32_t missing = number - c->number - 1;
    /* While its encoder rests nobody misses anything; and a driver may begin anew. */
    if (number != 0 && c->number != 0 && !c->resting && missing < INT32_MAX) c->dropped += missing;
    c->number = c->resting ? 0 : number;
}
#endif

void bmb_camera_want_key(bmb_context *x, bmb_camera *c)
{
    const bmb_cameras *cameras = &x->port->cameras;
    if (!BMB_WITH_H264) return; /* every frame is one */
    c->key_wanted = true;
    if (bmb_camera_is_off(c) || cameras->key_frame == NULL || (c->key_us != 0 && x->now < c->key_us + BMB_KEY_PAUSE_US))
        return;
    c->key_us = x->now;
    (void)cameras->key_frame(cameras->ctx, c->index);
}

static uint64_t silence_allowed(const bmb_camera *c)
{
    uint64_t ten_frames = c->mode.mfps > 0 ? 10000000000u / c->mode.mfps : 0;
    uint64_t least = c->state == BMB_CAMERA_STARTING ? BMB_START_MOST_US : BMB_STALL_LEAST_US;
    return ten_frames > least ? ten_frames : least;
}

uint64_t bmb_camera_tend(bmb_context *x, bmb_camera *c, bool *start)
{
    *start = false;
    if (c->state == BMB_CAMERA_OFF) return UINT64_MAX;
    if (BMB_WITH_H264 && c->key_wanted && x->now >= c->key_us + BMB_KEY_PAUSE_US) bmb_camera_want_key(x, c);
    if (c->state == BMB_CAMERA_WAITING) {
        /* It may have failed an instant before it was gone. */
        const bmb_cameras *cameras = &x->port->cameras;
        bool there = cameras->present == NULL || cameras->present(cameras->ctx, c->index), back = c->absent && there;
        c->absent = !there;
        if (x->now < c->retry_us && !back) return c->retry_us;
        c->restarts++;
        *start = true;
        return x->now;
    }
    if (c->resting) return UINT64_MAX;
    uint64_t limit = c->heard_us + silence_allowed(c), key = c->key_us + BMB_KEY_PAUSE_US;
    if (x->now < limit) return BMB_WITH_H264 && c->key_wanted && key > x->now && key < limit ? key : limit;
    uint32_t silent_ms = bmb_ms_between(c->heard_us, x->now);
    x->port->cameras.stop(x->port->cameras.ctx, c->index);
    retry_later(x, c, BMB_TIMED_OUT);
    bmb_camera_tell(x, c, BMB_EVENT_CAMERA_STALLED, BMB_TIMED_OUT, silent_ms, c->retry_ms);
    return c->retry_us;
}

bmb_err bmb_camera_set(const bmb_context *x, const bmb_camera *c, bmb_control control, int32_t value,
                       int32_t *effective)
{
    const bmb_cameras *cameras = &x->port->cameras;
    *effective = value;
    if (cameras->set == NULL) return BMB_UNSUPPORTED;
    return cameras->set(cameras->ctx, c->index, control, value, effective);
}

bmb_err bmb_camera_get(const bmb_context *x, const bmb_camera *c, bmb_control control, int32_t *value)
{
    const bmb_cameras *cameras = &x->port->cameras;
#if BMB_WITH_FOLLOWING
    if (control == BMB_CONTROL_KBPS && c->set_kbps > 0) {
        *value = c->set_kbps;
        return BMB_OK;
    }
#endif
    return cameras->get != NULL ? cameras->get(cameras->ctx, c->index, control, value) : BMB_UNSUPPORTED;
}
