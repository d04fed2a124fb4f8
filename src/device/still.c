/* A still of another size than the stream, while the feed streams: the camera is stopped, started in the still's mode,
 * and started again for the stream. The picture goes out of the driver's own buffer; no memory is needed for it, and
 * the viewers see a gap, which is told.
 */
#include "device/state.h"

#define STILL_SETTLE 2u         /* pictures that a sensor needs to adjust itself */
#define STILL_PAUSE_US 1000000u /* between two: the stream must not become a slide show */
#define STILL_MOST_US 4000000u  /* a camera that gives none by then is started again for its stream */

static void give_back(bmb_device *d, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    if (s->held) d->port->cameras.release(d->port->cameras.ctx, feed->camera, s->cookie);
    s->held = false;
    s->conn = 0;
    s->active = false;
}

/* The quality that is held for the stream's bit rate is not the one that a still was asked for: that is the configured
 * one, or the camera's preset. */
static void set_quality(bmb_device *d, bmb_feed *feed, const bmb_camera_info *info)
{
    int32_t wanted = info->controls[BMB_CONTROL_QUALITY].preset, effective;
    if (feed->governor.kbps == 0) return;
    for (size_t i = 0; i < feed->config->setting_count; i++)
        if (feed->config->settings[i].control == BMB_CONTROL_QUALITY) wanted = feed->config->settings[i].value;
    if (wanted <= 0 || wanted > 100) wanted = BMB_QUALITY_FIRST;
    if (bmb_camera_set(d, feed, BMB_CONTROL_QUALITY, wanted, &effective) == BMB_OK)
        feed->still.quality = feed->governor.quality;
}

static void restore_quality(bmb_device *d, bmb_feed *feed)
{
    int32_t effective;
    if (feed->still.quality > 0) (void)bmb_camera_set(d, feed, BMB_CONTROL_QUALITY, feed->still.quality, &effective);
    feed->still.quality = 0;
}

/* The stream goes on; the gap is told with its first frame. */
static void resume_stream(bmb_device *d, bmb_feed *feed)
{
    feed->still.taking = false;
    feed->still.gap = true;
    restore_quality(d, feed);
    bmb_feed_start(d, feed);
}

bmb_err bmb_still_begin(bmb_device *d, bmb_feed *feed, const bmb_conn *c, uint16_t width, uint16_t height)
{
    const bmb_cameras *cameras = &d->port->cameras;
    bmb_still *s = &feed->still;
    bmb_mode effective;
    bool soon = s->since_us != 0 && d->now < s->since_us + STILL_PAUSE_US;
    if (s->active || soon || feed->camera_state != BMB_CAMERA_RUNNING) return BMB_IN_USE;
    bmb_camera_info info;
    bmb_mode mode = { .codec = BMB_CODEC_JPEG, .width = width, .height = height };
    if (feed->mode.codec != BMB_CODEC_JPEG || cameras->info(cameras->ctx, feed->camera, &info) != BMB_OK)
        return BMB_UNSUPPORTED;
    for (uint8_t i = 0; info.modes != NULL && i < info.mode_count; i++) {
        const bmb_mode_row *m = &info.modes[i];
        if (m->codec == mode.codec && m->width == width && m->height == height) mode.mfps = m->mfps_most;
    }
    if (mode.mfps == 0) return BMB_UNSUPPORTED;
    cameras->stop(cameras->ctx, feed->camera);
    *s = (bmb_still){ .active = true,
                      .taking = true,
                      .conn = (uint16_t)(c - d->conns + 1),
                      .since_us = d->now,
                      .width = width,
                      .height = height };
    set_quality(d, feed, &info);
    effective = mode;
    bmb_err err = cameras->start(cameras->ctx, feed->camera, &mode, &effective);
    if (err == BMB_OK && effective.codec == mode.codec && effective.width == width && effective.height == height)
        return BMB_OK;
    if (err == BMB_OK) cameras->stop(cameras->ctx, feed->camera); /* it chose another size: that was not asked for */
    s->active = false;
    s->conn = 0;
    resume_stream(d, feed);
    return BMB_UNSUPPORTED;
}

void bmb_still_take(bmb_device *d, bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    bmb_still *s = &feed->still;
    bmb_camera_frame in;
    bmb_err err;
    while (s->taking && (err = cameras->take(cameras->ctx, feed->camera, &in)) != BMB_AGAIN) {
        if (err != BMB_OK) {
            bmb_still_fail(d, feed);
            return;
        }
        bmb_jpeg jpeg;
        bool good = s->settled++ >= STILL_SETTLE && bmb_jpeg_parse(in.data, in.size, &jpeg) == BMB_OK &&
                    jpeg.width == s->width && jpeg.height == s->height;
        if (!good || s->conn == 0) {
            cameras->release(cameras->ctx, feed->camera, in.cookie);
            if (s->conn != 0) continue;
            s->active = false; /* whoever asked has left */
            cameras->stop(cameras->ctx, feed->camera);
            resume_stream(d, feed);
            return;
        }
        s->held = true;
        s->cookie = in.cookie;
        bmb_conn *c = &d->conns[s->conn - 1];
        cameras->stop(cameras->ctx, feed->camera);
        resume_stream(d, feed);
        bmb_http_answer_still(d, c, in.data, jpeg.size);
    }
    if (s->taking && d->now - s->since_us > STILL_MOST_US) bmb_still_fail(d, feed);
}

void bmb_still_fail(bmb_device *d, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    bmb_conn *c = s->conn != 0 ? &d->conns[s->conn - 1] : NULL;
    give_back(d, feed);
    d->port->cameras.stop(d->port->cameras.ctx, feed->camera);
    resume_stream(d, feed);
    if (c != NULL) bmb_http_answer_still(d, c, NULL, 0);
}

void bmb_still_done(bmb_device *d, const bmb_conn *c)
{
    for (size_t i = 0; i < d->config->feed_count; i++) {
        bmb_feed *feed = &d->feeds[i];
        if (feed->still.conn != (uint16_t)(c - d->conns + 1)) continue;
        if (feed->still.taking) {
            feed->still.conn = 0; /* the next picture finds nobody */
        } else {
            give_back(d, feed);
        }
    }
}
