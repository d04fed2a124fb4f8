#include "media/feed.h"

#include "base/bounds.h"
#include "media/controls.h"

static uint32_t held_kbps(const bmb_feed *feed)
{
#if BMB_WITH_FOLLOWING
    if (feed->camera.follows_kbps > 0) return feed->camera.follows_kbps;
#endif
    return feed->config->kbps;
}

static void start_governor(const bmb_context *x, bmb_feed *feed)
{
    const bmb_feed_config *c = feed->config;
    int32_t quality = BMB_QUALITY_FIRST;
    if (!BMB_WITH_RATE || c->kbps == 0 || !feed->track[0].row->steered) return;
    (void)bmb_camera_get(x, &feed->camera, BMB_CONTROL_QUALITY, &quality);
    bmb_governor_start(&feed->governor, held_kbps(feed), feed->camera.mode.mfps,
                       c->quality_least > 0 ? c->quality_least : BMB_QUALITY_LEAST,
                       c->quality_most > 0 ? c->quality_most : BMB_QUALITY_MOST, (uint8_t)quality, x->now);
}

/* What follows a link follows another bit rate from now on. */
static void forget_link(bmb_feed *feed)
{
#if BMB_WITH_FOLLOWING
    if (feed->track[0].row->steered) feed->camera.follows_kbps = 0;
#else
    (void)feed;
#endif
}

void bmb_feed_hold_rate(const bmb_context *x, bmb_feed *feed)
{
    feed->governor.kbps = 0;
    feed->governor.state = BMB_KEEPING_OFF; /* what it came to before is no verdict on what comes */
    forget_link(feed);
    if (feed->camera.state == BMB_CAMERA_STARTING || feed->camera.state == BMB_CAMERA_RUNNING) start_governor(x, feed);
}

/* false: the frame must be dropped to hold the bit rate. */
static bool govern(bmb_context *x, bmb_feed *feed, uint32_t size, uint64_t capture_us)
{
    uint8_t before = feed->governor.quality, quality;
    if (!BMB_WITH_RATE || feed->governor.kbps == 0) return true;
    bool fits = bmb_governor_take(&feed->governor, size, capture_us, x->now, &quality);
    int32_t effective;
    if (quality != before) (void)bmb_camera_set(x, &feed->camera, BMB_CONTROL_QUALITY, quality, &effective);
    if (!fits) feed->dropped++;
    return fits;
}

void bmb_feed_open(bmb_context *x, bmb_feed *feed)
{
    for (size_t i = 0; i < feed->tracks; i++) bmb_rate_start(&feed->track[i].rate, x->now);
    x->port->random(x->port->ctx, &feed->sdp_id, sizeof feed->sdp_id);
    feed->sdp_id >>= 1; /* it is a number for those who read it with a sign, too */
    feed->sdp_version = 1;
    bmb_feed_start(x, feed);
}

/* Its rate is of no meaning before it has run for a while. */
static void begin_steady(const bmb_context *x, bmb_feed *feed)
{
#if BMB_WITH_VERDICTS
    feed->steady_us = x->now + BMB_STEADY_US;
#else
    (void)x, (void)feed;
#endif
}

/* Its settings may have been applied anew. */
static void follow_on(const bmb_context *x, const bmb_feed *feed)
{
#if BMB_WITH_FOLLOWING
    int32_t effective;
    if (feed->camera.set_kbps > 0)
        (void)bmb_camera_set(x, &feed->camera, BMB_CONTROL_KBPS, (int32_t)feed->camera.follows_kbps, &effective);
#else
    (void)x, (void)feed;
#endif
}

void bmb_feed_start(bmb_context *x, bmb_feed *feed)
{
    bool news;
    if (BMB_WITH_RESTING) feed->camera.off = false;
    if (BMB_WITH_CONTROLS) bmb_controls_apply(x, &feed->camera);
    follow_on(x, feed);
    if (bmb_camera_start(x, &feed->camera, &news) != BMB_OK) return;
    if (news) feed->sdp_version++;
    feed->camera.resting = false; /* what is started is wanted */
    feed->watched_us = x->now;
    begin_steady(x, feed);
    start_governor(x, feed);
    feed->track[0].needs_key = feed->track[0].row->in_order;
    bmb_camera_started(x, &feed->camera);
}

static void drop_frame(bmb_context *x, bmb_feed *feed, bmb_event_code code, size_t size)
{
    bool large = code == BMB_EVENT_FRAME_TOO_LARGE;
    feed->dropped++;
    *(large ? &feed->too_large : &feed->bad) += 1;
#if BMB_WITH_VERDICTS
    if (large) {
        feed->full_ms = (uint32_t)(x->now / 1000);
        feed->full_bytes = (uint32_t)(size < UINT32_MAX ? size : UINT32_MAX);
    }
#endif
    if (x->now < feed->quiet_us) return;
    feed->quiet_us = x->now + 1000000;
    bmb_camera_tell(x, &feed->camera, code, large ? BMB_NO_ROOM : BMB_BAD_DATA, (int64_t)size,
                    large ? (int64_t)feed->config->frame_max : (int64_t)feed->bad);
}

static int64_t wall_of(const bmb_context *x, uint64_t capture_us)
{
    int64_t wall = bmb_wall(x);
    return wall != 0 ? wall - (int64_t)(bmb_clock(x) - capture_us) : 0;
}

static bool inspect(bmb_context *x, bmb_feed *feed, bmb_arrival *a)
{
    bmb_track *t = bmb_feed_video(feed);
    bmb_jpeg_rtp before = bmb_track_refusal(t);
    if (!t->row->inspect(&t->codec, a, feed->config->storage == BMB_KEPT)) return false;
    bmb_jpeg_rtp refusal = bmb_track_refusal(t);
    if (refusal != BMB_JPEG_RTP_OK && refusal != before)
        bmb_camera_tell(x, &feed->camera, BMB_EVENT_CODEC_REFUSED, BMB_UNSUPPORTED, refusal, 0);
    if (a->news) feed->sdp_version++;
    return true;
}

/* Frames that do not fit are no pictures: whatever was set, the encoder is asked for less until they do. */
static void tame(bmb_context *x, bmb_feed *feed)
{
    bmb_camera *c = &feed->camera;
    bmb_control control = feed->track[0].row->steered ? BMB_CONTROL_QUALITY : BMB_CONTROL_KBPS;
    int32_t value, less, effective;
    if (bmb_camera_get(x, c, control, &value) != BMB_OK || !bmb_tame_lower(&feed->tame, x->now, value, &less)) return;
    if (feed->governor.kbps > 0)
        feed->governor.most = (uint8_t)(less > feed->governor.least ? less : feed->governor.least);
    if (bmb_controls_set(x, c, control, less, &effective) == BMB_OK)
        bmb_camera_tell(x, c, BMB_EVENT_CONTROL_LOWERED, BMB_NO_ROOM, (int64_t)control, effective);
}

/* A lost frame spoils those that need it, up to the next key frame: better none than smears. */
static void lost(bmb_context *x, bmb_feed *feed, bmb_event_code code, size_t size)
{
    drop_frame(x, feed, code, size);
    if (BMB_TAMES && code == BMB_EVENT_FRAME_TOO_LARGE) tame(x, feed);
    if (!BMB_WITH_H264 || !feed->track[0].row->in_order) return;
    feed->track[0].needs_key = true;
    bmb_camera_want_key(x, &feed->camera);
}

/* Descriptions tell the highest bit rate, in steps of a quarter to a half, so that they stay what they are. */
static void follow_kbps(const bmb_context *x, bmb_track *t)
{
    uint32_t kbps = bmb_track_kbps(x, t);
    if (!BMB_WITH_RTP || kbps <= t->kbps_most || x->now < x->start_us + BMB_SETTLED_US) return;
    uint32_t step = 4;
    while (step * 4 < kbps) step *= 2;
    t->kbps_most = (kbps + step - 1) / step * step;
    t->feed->sdp_version++;
}

/* true: the reel has taken a borrowed buffer over */
static bool ingest(bmb_context *x, bmb_feed *feed, const bmb_camera_frame *in)
{
    bmb_track *t = bmb_feed_video(feed);
    if (in->size > feed->config->frame_max) {
        lost(x, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    bmb_arrival a = { .data = in->data, .size = (uint32_t)in->size, .facts = x->scratch };
    if (!inspect(x, feed, &a)) {
        lost(x, feed, BMB_EVENT_FRAME_BAD, in->size);
        return false;
    }
#if BMB_WITH_REPAIR
    feed->repaired += a.repaired;
#endif
    if (BMB_WITH_H264 && t->needs_key && !a.key) {
        feed->dropped++;
        bmb_camera_want_key(x, &feed->camera);
        return false;
    }
    if (!govern(x, feed, a.size, in->capture_us)) return false;
    bmb_frame *frame = bmb_track_put(t, &a, in);
    if (frame == NULL) {
        lost(x, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    if (BMB_TAMES) feed->tame.run = 0;
    frame->capture_us = in->capture_us;
    frame->wall_us = wall_of(x, in->capture_us);
    frame->key = a.key;
    bmb_reel_publish(&t->reel, frame);
    t->frames++;
    t->fresh = true;
    t->needs_key = false;
    if (a.key) feed->camera.key_wanted = false;
#if BMB_WITH_DAYLIGHT
    if (t->row->steered) bmb_daylight_look(x, &feed->daylight, &feed->camera, frame->data, frame->size);
#endif
    bmb_rate_frame(&t->rate, x->now, frame->size);
    follow_kbps(x, t);
    return feed->config->storage == BMB_BORROWED;
}

static bool looks_at_light(const bmb_feed *feed)
{
    return BMB_WITH_DAYLIGHT && feed->config->daylight.dark > 0;
}

static bool begin_rest(bmb_context *x, bmb_feed *feed)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_camera *c = &feed->camera;
    if (!feed->config->camera_rests) return cameras->want(cameras->ctx, c->index, false);
    bmb_camera_stop(x, c);
    c->off = true;
    bmb_tell_of(x, feed->config->name, NULL, BMB_EVENT_CAMERA_RESTS, 0, 0);
    return true;
}

static void end_rest(bmb_context *x, bmb_feed *feed)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_camera *c = &feed->camera;
    bmb_track *t = bmb_feed_video(feed);
    c->resting = false;
    c->heard_us = x->now;
    if (bmb_camera_is_off(c)) {
        bmb_feed_start(x, feed);
        return;
    }
    c->awake_us = x->now;
    begin_steady(x, feed);
    t->needs_key = t->row->in_order;
    (void)cameras->want(cameras->ctx, c->index, true);
}

/* An encoder, or the camera, rests while nobody watches, once what it delivers is known. Its frames are old then:
 * whoever comes waits for a new one. Returns when it may begin to rest. */
static uint64_t rest_or_go_on(bmb_context *x, bmb_feed *feed)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_camera *c = &feed->camera;
    bmb_track *t = bmb_feed_video(feed);
    bool camera_rests = feed->config->camera_rests, changed = c->resting && c->off != camera_rests;
    bool watched = t->first != NULL || looks_at_light(feed) || c->state != BMB_CAMERA_RUNNING ||
                   !bmb_feed_described(feed) || changed;
    if (!BMB_WITH_RESTING || c->lent || (cameras->want == NULL && !camera_rests && !c->off)) return UINT64_MAX;
    if (watched || (camera_rests && feed->watched_us > x->now)) feed->watched_us = x->now;
    uint64_t rest_us = feed->watched_us + BMB_REST_US;
    if (c->resting && watched) {
        end_rest(x, feed);
        return x->now; /* to be looked at as one that runs */
    } else if (!c->resting && x->now >= rest_us) {
        c->resting = begin_rest(x, feed);
        if (c->resting) bmb_reel_clear(&t->reel);
        feed->watched_us = c->resting ? x->now : UINT64_MAX - BMB_REST_US; /* no encoder: not asked again */
    }
    if (c->resting && x->now >= feed->watched_us + BMB_REST_US) { /* to see whether it is still alive */
        feed->watched_us = x->now;
        bmb_camera_look(x, c);
        if (!c->resting) return x->now;
    }
    if (c->resting) return feed->watched_us + BMB_REST_US;
    if (!watched && rest_us > x->now) return rest_us;
    return UINT64_MAX;
}

/* From before it rested: one may be on its way then, or wait in a buffer of the camera's meanwhile, and nobody wants to
 * begin with it. */
static bool is_old(const bmb_context *x, bmb_camera *c, uint64_t capture_us)
{
    if (!BMB_WITH_RESTING) return false;
    if (c->resting) return true;
    if (c->awake_us == 0) return false;
    if (capture_us + BMB_FRESH_US < c->awake_us && x->now < c->awake_us + BMB_AWAKE_US) return true;
    c->awake_us = 0;
    return false;
}

void bmb_feed_take(bmb_context *x, bmb_feed *feed)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_camera *c = &feed->camera;
    if (c->state != BMB_CAMERA_STARTING && c->state != BMB_CAMERA_RUNNING) return;
    (void)rest_or_go_on(x, feed);
    if (bmb_camera_is_off(c)) return;
    for (unsigned i = 0; i < BMB_SLOTS_LEAST; i++) {
        bmb_camera_frame in;
        if (BMB_WITH_REPAIR) in.number = 0; /* a driver that knows of none says nothing */
        bmb_err err = cameras->take(cameras->ctx, c->index, &in);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            bmb_camera_fail(x, c, err);
            return;
        }
        if (!BMB_WITH_RESTING || !c->resting) bmb_camera_heard(x, c);
#if BMB_WITH_REPAIR
        bmb_camera_count(c, in.number);
#endif
        if (in.data == NULL) in.size = 0;
        if (in.capture_us > x->now) in.capture_us = x->now; /* ahead of the clock: ages would be enormous */
        if (is_old(x, c, in.capture_us) || !ingest(x, feed, &in)) cameras->release(cameras->ctx, c->index, in.cookie);
    }
}

void bmb_feed_deliver(bmb_feed *feed)
{
    for (size_t i = 0; i < feed->tracks; i++) bmb_track_deliver(&feed->track[i]);
}

bool bmb_feed_fresh(const bmb_feed *feed)
{
    bool fresh = false;
    for (size_t i = 0; i < feed->tracks; i++) fresh = fresh || feed->track[i].fresh;
    return fresh;
}

uint64_t bmb_feed_tend(bmb_context *x, bmb_feed *feed)
{
    bool start;
    uint64_t due = bmb_camera_tend(x, &feed->camera, &start);
    uint64_t keep = BMB_WITH_CONTROLS ? bmb_controls_tend(x, &feed->camera) : UINT64_MAX;
    uint64_t still = feed->still.running ? feed->still.until_us : UINT64_MAX;
    uint64_t rest = rest_or_go_on(x, feed);
    if (start) {
        bmb_feed_start(x, feed);
        due = bmb_camera_tend(x, &feed->camera, &start);
    }
    if (keep < due) due = keep;
    if (rest < due) due = rest;
    return still < due ? still : due;
}

void bmb_feed_end(bmb_context *x, bmb_feed *feed)
{
    feed->removed = true;
    for (size_t i = 0; i < feed->tracks; i++) bmb_track_end(&feed->track[i]);
    bmb_feed_close(x, feed);
    feed->camera.state = BMB_CAMERA_OFF;
    feed->camera.lent = false;
    if (BMB_WITH_RESTING) feed->camera.resting = false;
    feed->camera.gap_us = 0;
    bmb_tell_of(x, feed->config->name, NULL, BMB_EVENT_FEED_REMOVED, 0, 0);
}

void bmb_feed_close(bmb_context *x, bmb_feed *feed)
{
    if (BMB_WITH_CONTROLS) bmb_controls_keep(x, &feed->camera); /* which are read from a camera that runs */
    bmb_camera_stop(x, &feed->camera);
    for (size_t i = 0; i < feed->tracks; i++) bmb_reel_clear(&feed->track[i].reel);
}

bmb_err bmb_feed_set(bmb_context *x, bmb_feed *feed, bmb_control control, int32_t value, int32_t *effective)
{
    bool held = control == BMB_CONTROL_QUALITY && feed->governor.kbps > 0;
    int32_t now;
    const bmb_frame *newest = feed->track[0].reel.newest;
    if (BMB_TAMES && control == BMB_CONTROL_QUALITY && newest != NULL && feed->track[0].row->steered &&
        bmb_camera_get(x, &feed->camera, control, &now) == BMB_OK)
        value = bmb_tame_quality(value, now, newest->size, feed->config->frame_max);
    bmb_err err = held ? BMB_IN_USE : bmb_controls_set(x, &feed->camera, control, value, effective);
    if (err != BMB_OK && bmb_camera_get(x, &feed->camera, control, effective) != BMB_OK) *effective = 0;
    return err;
}

bool bmb_feed_described(const bmb_feed *feed)
{
    bool described = true;
    for (size_t i = 0; i < feed->tracks; i++) described = described && bmb_track_described(&feed->track[i]);
    return described;
}

void bmb_feed_welcome(bmb_context *x, bmb_feed *feed)
{
    if (BMB_WITH_H264 && feed->track[0].row->in_order) bmb_camera_want_key(x, &feed->camera);
}
