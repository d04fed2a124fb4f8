/* A feed's camera is started, watched and started again; its frames are checked and put into the reel. */
#include <string.h>

#include "device/state.h"
#include "wire/jpeg.h"

static void tell(bmb_device *d, const bmb_feed *feed, bmb_level level, bmb_event_code code, bmb_err err, int64_t value,
                 int64_t extra)
{
    bmb_log(d->port,
            &(bmb_event){
                .level = level, .code = code, .err = err, .feed = feed->config->name, .value = value, .extra = extra });
}

static void retry_later(bmb_device *d, bmb_feed *feed, bmb_err err)
{
    uint32_t pause = feed->retry_ms == 0 ? BMB_RETRY_FIRST_MS : feed->retry_ms * 2;
    feed->retry_ms = pause > BMB_RETRY_MOST_MS ? BMB_RETRY_MOST_MS : pause;
    feed->retry_us = d->now + (uint64_t)feed->retry_ms * 1000;
    feed->camera_state = BMB_CAMERA_WAITING;
    feed->camera_err = err;
    if (feed->gap_us == 0) feed->gap_us = feed->heard_us != 0 ? feed->heard_us : d->now;
}

static void apply_settings(bmb_device *d, const bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    for (size_t i = 0; i < feed->config->setting_count; i++) {
        const bmb_setting *s = &feed->config->settings[i];
        int32_t effective = s->value;
        bmb_err err = cameras->set(cameras->ctx, feed->camera, s->control, s->value, &effective);
        if (err != BMB_OK)
            tell(d, feed, BMB_LEVEL_WARNING, BMB_EVENT_CONTROL_REFUSED, err, (int64_t)s->control, s->value);
    }
}

static int64_t packed_size(const bmb_mode *mode)
{
    return (int64_t)mode->width << 16 | mode->height;
}

void bmb_feed_start(bmb_device *d, bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    const bmb_mode *asked = &feed->config->mode;
    apply_settings(d, feed);
    bmb_err err = cameras->start(cameras->ctx, feed->camera, asked, &feed->mode);
    if (err != BMB_OK) {
        retry_later(d, feed, err);
        tell(d, feed, BMB_LEVEL_ERROR, BMB_EVENT_CAMERA_FAILED, err, 0, feed->retry_ms);
        return;
    }
    feed->camera_state = BMB_CAMERA_STARTING;
    feed->heard_us = d->now;
    bool adjusted = memcmp(&feed->mode, asked, sizeof *asked) != 0;
    tell(d, feed, adjusted ? BMB_LEVEL_WARNING : BMB_LEVEL_INFO,
         adjusted ? BMB_EVENT_CAMERA_ADJUSTED : BMB_EVENT_CAMERA_STARTED, BMB_OK, packed_size(&feed->mode),
         feed->mode.mfps);
}

static void drop_frame(bmb_device *d, bmb_feed *feed, bmb_event_code code, size_t size)
{
    bool large = code == BMB_EVENT_FRAME_TOO_LARGE;
    feed->dropped++;
    *(large ? &feed->too_large : &feed->bad) += 1;
    if (d->now < feed->quiet_us) return;
    feed->quiet_us = d->now + 1000000;
    tell(d, feed, BMB_LEVEL_WARNING, code, large ? BMB_NO_ROOM : BMB_BAD_DATA, (int64_t)size,
         large ? (int64_t)feed->config->frame_max : (int64_t)feed->bad);
}

static bmb_frame *reserve(bmb_device *d, bmb_feed *feed, uint32_t size)
{
    for (;;) {
        bmb_frame *frame = bmb_reel_reserve(&feed->reel, size);
        if (frame != NULL) return frame;
        const bmb_frame *in_way = bmb_reel_oldest_pinned(&feed->reel);
        if (in_way == NULL) return NULL;
        bmb_conn_shed(d, feed, in_way);
    }
}

static int64_t wall_of(const bmb_device *d, uint64_t capture_us)
{
    int64_t wall;
    const bmb_port *port = d->port;
    if (port->wall_us == NULL || port->wall_us(port->ctx, &wall) != BMB_OK) return 0;
    return wall - (int64_t)(port->now_us(port->ctx) - capture_us);
}

static void heard(bmb_device *d, bmb_feed *feed)
{
    feed->heard_us = d->now;
    if (feed->camera_state == BMB_CAMERA_RUNNING) return;
    feed->camera_state = BMB_CAMERA_RUNNING;
    feed->camera_err = BMB_OK;
    feed->retry_ms = 0;
    if (feed->gap_us == 0) return;
    tell(d, feed, BMB_LEVEL_INFO, BMB_EVENT_CAMERA_BACK, BMB_OK, (int64_t)((d->now - feed->gap_us) / 1000), 0);
    feed->gap_us = 0;
}

/* true: the reel has taken a borrowed buffer over */
static bool ingest(bmb_device *d, bmb_feed *feed, const bmb_camera_frame *in)
{
    bmb_jpeg jpeg;
    if (in->size > feed->config->frame_max) {
        drop_frame(d, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    if (bmb_jpeg_parse(in->data, in->size, &jpeg) != BMB_OK) {
        drop_frame(d, feed, BMB_EVENT_FRAME_BAD, in->size);
        return false;
    }
    uint32_t size = (uint32_t)jpeg.size;
    bmb_frame *frame = reserve(d, feed, size);
    if (frame == NULL) {
        drop_frame(d, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    bool borrowed = feed->config->storage == BMB_BORROWED;
    if (borrowed) {
        frame->data = in->data;
        frame->cookie = in->cookie;
    } else {
        memcpy(bmb_reel_bytes(&feed->reel, frame), in->data, size);
    }
    frame->capture_us = in->capture_us;
    frame->wall_us = wall_of(d, in->capture_us);
    frame->key = in->key;
    bmb_reel_publish(&feed->reel, frame);
    feed->frames++;
    feed->fresh = true;
    bmb_rate_frame(&feed->rate, d->now, size);
    return borrowed;
}

void bmb_feed_take(bmb_device *d, bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    if (feed->camera_state != BMB_CAMERA_STARTING && feed->camera_state != BMB_CAMERA_RUNNING) return;
    for (unsigned i = 0; i < BMB_SLOTS_LEAST; i++) {
        bmb_camera_frame in;
        bmb_err err = cameras->take(cameras->ctx, feed->camera, &in);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            cameras->stop(cameras->ctx, feed->camera);
            retry_later(d, feed, err);
            tell(d, feed, BMB_LEVEL_ERROR, BMB_EVENT_CAMERA_FAILED, err, 0, feed->retry_ms);
            return;
        }
        heard(d, feed);
        if (!ingest(d, feed, &in)) cameras->release(cameras->ctx, feed->camera, in.cookie);
    }
}

static uint64_t silence_allowed(const bmb_feed *feed)
{
    uint64_t ten_frames = feed->mode.mfps > 0 ? 10000000000u / feed->mode.mfps : 0;
    return ten_frames > BMB_STALL_LEAST_US ? ten_frames : BMB_STALL_LEAST_US;
}

uint64_t bmb_feed_tend(bmb_device *d, bmb_feed *feed)
{
    if (feed->camera_state == BMB_CAMERA_WAITING) {
        if (d->now < feed->retry_us) return feed->retry_us;
        feed->restarts++;
        bmb_feed_start(d, feed);
        return d->now + BMB_SWEEP_US;
    }
    uint64_t limit = feed->heard_us + silence_allowed(feed);
    if (d->now < limit) return limit;
    uint64_t silent_ms = (d->now - feed->heard_us) / 1000;
    d->port->cameras.stop(d->port->cameras.ctx, feed->camera);
    retry_later(d, feed, BMB_TIMED_OUT);
    tell(d, feed, BMB_LEVEL_ERROR, BMB_EVENT_CAMERA_STALLED, BMB_TIMED_OUT, (int64_t)silent_ms, feed->retry_ms);
    return feed->retry_us;
}
