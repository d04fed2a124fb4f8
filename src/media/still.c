#include "media/still.h"

#include <string.h>

#include "base/bounds.h"

#define STILL_SETTLE 2u         /* pictures that a sensor needs to adjust itself */
#define STILL_PAUSE_US 1000000u /* between two: the stream must not become a slide show */

static void give_back(const bmb_context *x, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    if (s->held) x->port->cameras.release(x->port->cameras.ctx, s->index, s->cookie);
    s->held = false;
    s->asker = NULL;
    s->active = false;
}

/* The quality of a still is the configured one, or the camera's preset: not the one at which the stream's bit rate is
 * being held, and not that of whoever had the stream before. */
static void set_quality(const bmb_context *x, bmb_feed *feed, const bmb_camera_info *info)
{
    const bmb_cameras *cameras = &x->port->cameras;
    int32_t wanted = info->controls[BMB_CONTROL_QUALITY].preset, effective;
    if (feed->camera.lent && feed->governor.kbps == 0) return;
    for (size_t i = 0; i < feed->config->setting_count; i++)
        if (feed->config->settings[i].control == BMB_CONTROL_QUALITY) wanted = feed->config->settings[i].value;
    if (wanted <= 0 || wanted > 100) wanted = BMB_QUALITY_FIRST;
    if (cameras->set == NULL ||
        cameras->set(cameras->ctx, feed->still.index, BMB_CONTROL_QUALITY, wanted, &effective) != BMB_OK)
        return;
    if (feed->camera.lent) feed->still.quality = feed->governor.quality;
}

static void restore_quality(const bmb_context *x, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    int32_t effective;
    if (s->quality > 0) (void)bmb_camera_set(x, &feed->camera, BMB_CONTROL_QUALITY, s->quality, &effective);
    s->quality = 0;
}

/* The stream for it ends. Where it was lent, the feed's goes on; the gap is told with its first frame. */
static void end_stream(bmb_context *x, bmb_feed *feed)
{
    bmb_still *s = &feed->still;
    if (s->running) x->port->cameras.stop(x->port->cameras.ctx, s->index);
    s->running = false;
    if (!feed->camera.lent) return;
    feed->camera.lent = false;
    feed->camera.lent_us = s->since_us;
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

/* Does a feed have this stream, or a still that is being taken? */
static bool is_used(const bmb_feeds *feeds, size_t index)
{
    for (size_t i = 0; i < feeds->count; i++) {
        const bmb_feed *f = &feeds->feed[i];
        bool still = f->still.index == index && (f->still.running || f->still.held);
        if (still || (!f->removed && f->camera.index == index)) return true;
    }
    return false;
}

/* Starts a stream in exactly this mode. */
static bool start_in(const bmb_context *x, bmb_still *s, size_t index, const bmb_mode *mode)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_mode effective = *mode;
    if (cameras->start(cameras->ctx, index, mode, &effective) != BMB_OK) return false;
    s->running = effective.codec == mode->codec && effective.width == mode->width && effective.height == mode->height;
    if (!s->running) cameras->stop(cameras->ctx, index); /* it chose another size: that was not asked for */
    s->index = (uint16_t)index;
    return s->running;
}

/* A stream beside the feed's, which goes on meanwhile. */
static bool begin_beside(bmb_context *x, const bmb_feeds *feeds, bmb_feed *feed, uint16_t width, uint16_t height)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_camera_info info;
    size_t count = cameras->count(cameras->ctx);
    for (size_t i = 0; i < count && i < UINT16_MAX; i++) {
        if (is_used(feeds, i) || cameras->info(cameras->ctx, i, &info) != BMB_OK || info.stream == 0 ||
            strncmp(info.name, feed->config->camera, sizeof info.name) != 0)
            continue;
        const bmb_mode mode = mode_of(&info, width, height);
        if (mode.mfps == 0 || !start_in(x, &feed->still, i, &mode)) continue;
        set_quality(x, feed, &info);
        return true;
    }
    return false;
}

bool bmb_still_is_beside(const bmb_context *x, const bmb_feeds *feeds, const bmb_feed *feed)
{
    const bmb_cameras *cameras = &x->port->cameras;
    const bmb_mode *mode = &feed->camera.mode;
    bmb_camera_info info;
    size_t count = mode->codec == BMB_CODEC_JPEG || feed->removed ? 0 : cameras->count(cameras->ctx);
    for (size_t i = 0; i < count && i < UINT16_MAX; i++) {
        bool own = feed->still.index == i && feed->still.running;
        if ((!own && is_used(feeds, i)) || cameras->info(cameras->ctx, i, &info) != BMB_OK || info.stream == 0 ||
            strncmp(info.name, feed->config->camera, sizeof info.name) != 0)
            continue;
        if (mode_of(&info, mode->width, mode->height).mfps > 0) return true;
    }
    return mode->codec == BMB_CODEC_JPEG;
}

static bool begin_lent(bmb_context *x, bmb_feed *feed, uint16_t width, uint16_t height)
{
    const bmb_cameras *cameras = &x->port->cameras;
    size_t index = feed->camera.index;
    bmb_camera_info info;
    if (feed->camera.mode.codec != BMB_CODEC_JPEG || cameras->info(cameras->ctx, index, &info) != BMB_OK) return false;
    const bmb_mode mode = mode_of(&info, width, height);
    if (mode.mfps == 0) return false;
    bmb_camera_stop(x, &feed->camera);
    if (BMB_WITH_RESTING) feed->camera.off = false; /* it runs, for the still */
    feed->camera.lent = true;
    feed->still.index = (uint16_t)index;
    set_quality(x, feed, &info);
    if (start_in(x, &feed->still, index, &mode)) return true;
    end_stream(x, feed);
    return false;
}

bmb_err bmb_still_begin(bmb_context *x, const bmb_feeds *feeds, bmb_feed *feed, void *asker, uint16_t width,
                        uint16_t height)
{
    bmb_still *s = &feed->still;
    bool soon = s->since_us != 0 && x->now < s->since_us + STILL_PAUSE_US;
    if (s->active || feed->camera.state != BMB_CAMERA_RUNNING) return BMB_IN_USE;
    const bmb_still fresh = { .active = true, .asker = asker, .since_us = x->now, .width = width, .height = height };
    const bmb_still before = *s;
    *s = fresh;
    if (begin_beside(x, feeds, feed, width, height)) {
        s->since_us = before.since_us; /* the pause is for those that the viewers see */
        s->until_us = x->now + BMB_STILL_MOST_US;
        return BMB_OK;
    }
    *s = soon ? before : fresh;
    if (soon) return BMB_IN_USE;
    s->until_us = x->now + BMB_STILL_MOST_US;
    if (begin_lent(x, feed, width, height)) return BMB_OK;
    s->active = false;
    s->asker = NULL;
    return BMB_UNSUPPORTED;
}

static void fail(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker)
{
    void *asker = feed->still.asker;
    give_back(x, feed);
    end_stream(x, feed);
    if (asker != NULL) taker->take(taker, asker, NULL, 0);
}

/* true: it has what was asked for. A sensor that was switched over needs some pictures to adjust itself. */
static bool is_good(bmb_still *s, bool lent, const bmb_camera_frame *in, bmb_jpeg *jpeg)
{
    return (s->settled++ >= STILL_SETTLE || !lent) && bmb_jpeg_parse(in->data, in->size, jpeg) == BMB_OK &&
           jpeg->width == s->width && jpeg->height == s->height;
}

void bmb_still_take(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_still *s = &feed->still;
    bmb_camera_frame in;
    bmb_err err;
    if (feed->camera.lent) feed->camera.heard_us = x->now;
    while (s->running && (err = cameras->take(cameras->ctx, s->index, &in)) != BMB_AGAIN) {
        if (err != BMB_OK) {
            fail(x, feed, taker);
            return;
        }
        bmb_jpeg jpeg;
        bool good = is_good(s, feed->camera.lent, &in, &jpeg);
        if (!good || s->asker == NULL) {
            cameras->release(cameras->ctx, s->index, in.cookie);
            if (s->asker != NULL) continue;
            s->active = false; /* whoever asked has left */
            end_stream(x, feed);
            return;
        }
        s->held = true;
        s->cookie = in.cookie;
        end_stream(x, feed);
        taker->take(taker, s->asker, in.data, jpeg.size);
    }
    if (s->running && x->now >= s->until_us) fail(x, feed, taker);
}

void bmb_still_cancel(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker)
{
    void *asker = feed->still.asker;
    if (!feed->still.running) return; /* there is none, or it is on its way */
    give_back(x, feed);
    if (!feed->camera.lent) end_stream(x, feed);
    feed->still.running = feed->camera.lent = false; /* whose stream stops with the feed */
    if (asker != NULL) taker->take(taker, asker, NULL, 0);
}

void bmb_still_done(bmb_context *x, const bmb_feeds *feeds, const void *asker)
{
    for (size_t i = 0; i < feeds->count; i++) {
        bmb_feed *feed = &feeds->feed[i];
        if (feed->still.asker != asker) continue;
        if (feed->still.running) {
            feed->still.asker = NULL; /* the next picture finds nobody */
        } else {
            give_back(x, feed);
        }
    }
}
