#include "media/still.h"

#include "base/bounds.h"

#define STILL_SETTLE 2u         /* pictures that a sensor needs to adjust itself */
#define STILL_PAUSE_US 1000000u /* between two: the stream must not become a slide show */

static void give_back(const bmb_context *x, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    if (s->held) x->port->cameras.release(x->port->cameras.ctx, feed->camera.index, s->cookie);
    s->held = false;
    s->asker = NULL;
    s->active = false;
}

/* The quality that is held for the stream's bit rate is not the one that a still was asked for: that is the configured
 * one, or the camera's preset. */
static void set_quality(const bmb_context *x, bmb_feed *feed, const bmb_camera_info *info)
{
    int32_t wanted = info->controls[BMB_CONTROL_QUALITY].preset, effective;
    if (feed->governor.kbps == 0) return;
    for (size_t i = 0; i < feed->config->setting_count; i++)
        if (feed->config->settings[i].control == BMB_CONTROL_QUALITY) wanted = feed->config->settings[i].value;
    if (wanted <= 0 || wanted > 100) wanted = BMB_QUALITY_FIRST;
    if (bmb_camera_set(x, &feed->camera, BMB_CONTROL_QUALITY, wanted, &effective) == BMB_OK)
        feed->still.quality = feed->governor.quality;
}

static void restore_quality(const bmb_context *x, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    int32_t effective;
    if (s->quality > 0) (void)bmb_camera_set(x, &feed->camera, BMB_CONTROL_QUALITY, s->quality, &effective);
    s->quality = 0;
}

/* The stream goes on; the gap is told with its first frame. */
static void resume_stream(bmb_context *x, bmb_feed *feed)
{
    feed->camera.lent = false;
    feed->camera.lent_us = feed->still.since_us;
    restore_quality(x, feed);
    bmb_feed_start(x, feed);
}

/* The fastest mode of that size. mfps 0: there is none. */
static bmb_mode mode_of(const bmb_camera_info *info, uint16_t width, uint16_t height)
{
    bmb_mode mode = { .codec = BMB_CODEC_JPEG, .width = width, .height = height };
    for (uint8_t i = 0; info->modes != NULL && i < info->mode_count; i++) {
        const bmb_mode_row *m = &info->modes[i];
        if (m->codec == mode.codec && m->width == width && m->height == height) mode.mfps = m->mfps_most;
    }
    return mode;
}

bmb_err bmb_still_begin(bmb_context *x, bmb_feed *feed, void *asker, uint16_t width, uint16_t height)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_still *s = &feed->still;
    size_t index = feed->camera.index;
    bool soon = s->since_us != 0 && x->now < s->since_us + STILL_PAUSE_US;
    if (s->active || soon || feed->camera.state != BMB_CAMERA_RUNNING) return BMB_IN_USE;
    bmb_camera_info info;
    if (feed->camera.mode.codec != BMB_CODEC_JPEG || cameras->info(cameras->ctx, index, &info) != BMB_OK)
        return BMB_UNSUPPORTED;
    const bmb_mode mode = mode_of(&info, width, height);
    if (mode.mfps == 0) return BMB_UNSUPPORTED;
    cameras->stop(cameras->ctx, index);
    *s = (bmb_still){ .active = true, .asker = asker, .since_us = x->now, .width = width, .height = height };
    feed->camera.lent = true;
    set_quality(x, feed, &info);
    bmb_mode effective = mode;
    bmb_err err = cameras->start(cameras->ctx, index, &mode, &effective);
    if (err == BMB_OK && effective.codec == mode.codec && effective.width == width && effective.height == height)
        return BMB_OK;
    if (err == BMB_OK) cameras->stop(cameras->ctx, index); /* it chose another size: that was not asked for */
    s->active = false;
    s->asker = NULL;
    resume_stream(x, feed);
    return BMB_UNSUPPORTED;
}

static void fail(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker)
{
    void *asker = feed->still.asker;
    give_back(x, feed);
    x->port->cameras.stop(x->port->cameras.ctx, feed->camera.index);
    resume_stream(x, feed);
    if (asker != NULL) taker->take(taker, asker, NULL, 0);
}

/* true: it has what was asked for. */
static bool is_good(bmb_still *s, const bmb_camera_frame *in, bmb_jpeg *jpeg)
{
    return s->settled++ >= STILL_SETTLE && bmb_jpeg_parse(in->data, in->size, jpeg) == BMB_OK &&
           jpeg->width == s->width && jpeg->height == s->height;
}

void bmb_still_take(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker)
{
    const bmb_cameras *cameras = &x->port->cameras;
    size_t index = feed->camera.index;
    bmb_still *s = &feed->still;
    bmb_camera_frame in;
    bmb_err err;
    feed->camera.heard_us = x->now;
    while (feed->camera.lent && (err = cameras->take(cameras->ctx, index, &in)) != BMB_AGAIN) {
        if (err != BMB_OK) {
            fail(x, feed, taker);
            return;
        }
        bmb_jpeg jpeg;
        bool good = is_good(s, &in, &jpeg);
        if (!good || s->asker == NULL) {
            cameras->release(cameras->ctx, index, in.cookie);
            if (s->asker != NULL) continue;
            s->active = false; /* whoever asked has left */
            cameras->stop(cameras->ctx, index);
            resume_stream(x, feed);
            return;
        }
        s->held = true;
        s->cookie = in.cookie;
        cameras->stop(cameras->ctx, index);
        resume_stream(x, feed);
        taker->take(taker, s->asker, in.data, jpeg.size);
    }
    if (feed->camera.lent && x->now - s->since_us >= BMB_STILL_MOST_US) fail(x, feed, taker);
}

void bmb_still_cancel(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker)
{
    void *asker = feed->still.asker;
    if (!feed->camera.lent) return; /* there is none, or it is on its way */
    give_back(x, feed);
    feed->camera.lent = false;
    if (asker != NULL) taker->take(taker, asker, NULL, 0);
}

void bmb_still_done(bmb_context *x, const bmb_feeds *feeds, const void *asker)
{
    for (size_t i = 0; i < feeds->count; i++) {
        bmb_feed *feed = &feeds->feed[i];
        if (feed->still.asker != asker) continue;
        if (feed->camera.lent) {
            feed->still.asker = NULL; /* the next picture finds nobody */
        } else {
            give_back(x, feed);
        }
    }
}
