#include "media/feed.h"

#include <string.h>

#include "base/bounds.h"
#include "media/controls.h"

static void start_governor(bmb_context *x, bmb_feed *feed)
{
    const bmb_feed_config *c = feed->config;
    int32_t quality = BMB_QUALITY_FIRST;
    if (c->kbps == 0 || !bmb_feed_codec(feed)->steered) return;
    (void)bmb_camera_get(x, &feed->camera, BMB_CONTROL_QUALITY, &quality);
    bmb_governor_start(&feed->governor, c->kbps, feed->camera.mode.mfps,
                       c->quality_least > 0 ? c->quality_least : BMB_QUALITY_LEAST,
                       c->quality_most > 0 ? c->quality_most : BMB_QUALITY_MOST, (uint8_t)quality, x->now);
}

/* false: the frame must be dropped to hold the bit rate. */
static bool govern(bmb_context *x, bmb_feed *feed, uint32_t size, uint64_t capture_us)
{
    uint8_t before = feed->governor.quality, quality;
    if (feed->governor.kbps == 0) return true;
    bool fits = bmb_governor_take(&feed->governor, size, capture_us, x->now, &quality);
    int32_t effective;
    if (quality != before) (void)bmb_camera_set(x, &feed->camera, BMB_CONTROL_QUALITY, quality, &effective);
    if (!fits) feed->dropped++;
    return fits;
}

void bmb_feed_open(bmb_context *x, bmb_feed *feed)
{
    bmb_rate_start(&feed->rate, x->now);
    x->port->random(x->port->ctx, &feed->sdp_id, sizeof feed->sdp_id);
    feed->sdp_id >>= 1; /* it is a number for those who read it with a sign, too */
    feed->sdp_version = 1;
    bmb_feed_start(x, feed);
}

void bmb_feed_start(bmb_context *x, bmb_feed *feed)
{
    bool news;
    bmb_controls_apply(x, &feed->camera);
    if (bmb_camera_start(x, &feed->camera, &news) != BMB_OK) return;
    if (news) feed->sdp_version++;
    start_governor(x, feed);
    feed->needs_key = bmb_feed_codec(feed)->in_order;
    bmb_camera_started(x, &feed->camera);
}

static void drop_frame(bmb_context *x, bmb_feed *feed, bmb_event_code code, size_t size)
{
    bool large = code == BMB_EVENT_FRAME_TOO_LARGE;
    feed->dropped++;
    *(large ? &feed->too_large : &feed->bad) += 1;
    if (x->now < feed->quiet_us) return;
    feed->quiet_us = x->now + 1000000;
    bmb_camera_tell(x, &feed->camera, BMB_LEVEL_WARNING, code, large ? BMB_NO_ROOM : BMB_BAD_DATA, (int64_t)size,
                    large ? (int64_t)feed->config->frame_max : (int64_t)feed->bad);
}

/* Those in the middle of this frame give it up. */
static void shed(bmb_feed *feed, const bmb_frame *frame)
{
    for (bmb_watcher *w = feed->first; w != NULL; w = feed->walk) {
        feed->walk = w->next;
        if (w->frame == frame) w->owner->put_out(w->owner, w);
    }
}

static bmb_frame *reserve(bmb_feed *feed, uint32_t size)
{
    for (;;) {
        bmb_frame *frame = bmb_reel_reserve(&feed->reel, size);
        if (frame != NULL) return frame;
        const bmb_frame *in_way = bmb_reel_oldest_pinned(&feed->reel);
        if (in_way == NULL) return NULL;
        shed(feed, in_way);
    }
}

static int64_t wall_of(const bmb_context *x, uint64_t capture_us)
{
    int64_t wall = bmb_wall(x);
    return wall != 0 ? wall - (int64_t)(x->port->now_us(x->port->ctx) - capture_us) : 0;
}

static bool inspect(bmb_context *x, bmb_feed *feed, bmb_arrival *a)
{
    bmb_jpeg_rtp before = feed->codec.refusal;
    if (!bmb_feed_codec(feed)->inspect(&feed->codec, a, feed->config->storage == BMB_KEPT)) return false;
    bmb_jpeg_rtp refusal = feed->codec.refusal;
    if (refusal != BMB_JPEG_RTP_OK && refusal != before)
        bmb_camera_tell(x, &feed->camera, BMB_LEVEL_WARNING, BMB_EVENT_CODEC_REFUSED, BMB_UNSUPPORTED, refusal, 0);
    if (a->news) feed->sdp_version++;
    return true;
}

/* A lost frame spoils those that need it, up to the next key frame: better none than smears. */
static void lost(bmb_context *x, bmb_feed *feed, bmb_event_code code, size_t size)
{
    drop_frame(x, feed, code, size);
    if (!bmb_feed_codec(feed)->in_order) return;
    feed->needs_key = true;
    bmb_camera_want_key(x, &feed->camera);
}

/* Descriptions tell the highest bit rate, in steps of a quarter to a half, so that they stay what they are. */
static void follow_kbps(const bmb_context *x, bmb_feed *feed)
{
    uint32_t kbps = bmb_feed_kbps(x, feed);
    if (kbps <= feed->kbps_most || x->now < x->start_us + BMB_SETTLED_US) return;
    uint32_t step = 4;
    while (step * 4 < kbps) step *= 2;
    feed->kbps_most = (kbps + step - 1) / step * step;
    feed->sdp_version++;
}

/* The frame's bytes and facts: copied, or the driver's. */
static void store(const bmb_feed *feed, const bmb_arrival *a, const bmb_camera_frame *in, bmb_frame *frame)
{
    const bmb_codec_row *codec = bmb_feed_codec(feed);
    if (a->added > 0) {
        codec->fill(&feed->codec, a, bmb_reel_bytes(&feed->reel, frame), frame->facts);
        return;
    }
    memcpy(frame->facts, a->facts, codec->facts_size);
    if (feed->config->storage == BMB_KEPT) {
        memcpy(bmb_reel_bytes(&feed->reel, frame), a->data, a->size);
    } else {
        frame->data = in->data;
        frame->cookie = in->cookie;
    }
}

/* true: the reel has taken a borrowed buffer over */
static bool ingest(bmb_context *x, bmb_feed *feed, const bmb_camera_frame *in)
{
    if (in->size > feed->config->frame_max) {
        lost(x, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    bmb_arrival a = { .data = in->data, .size = (uint32_t)in->size, .facts = x->scratch };
    if (!inspect(x, feed, &a)) {
        lost(x, feed, BMB_EVENT_FRAME_BAD, in->size);
        return false;
    }
    if (feed->needs_key && !a.key) {
        feed->dropped++;
        bmb_camera_want_key(x, &feed->camera);
        return false;
    }
    if (!govern(x, feed, a.size, in->capture_us)) return false;
    uint32_t size = a.size + a.added;
    bmb_frame *frame = reserve(feed, size);
    if (frame == NULL) {
        lost(x, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    store(feed, &a, in, frame);
    frame->capture_us = in->capture_us;
    frame->wall_us = wall_of(x, in->capture_us);
    frame->key = a.key;
    bmb_reel_publish(&feed->reel, frame);
    feed->frames++;
    feed->fresh = true;
    feed->needs_key = false;
    if (a.key) feed->camera.key_wanted = false;
    bmb_rate_frame(&feed->rate, x->now, size);
    follow_kbps(x, feed);
    return feed->config->storage == BMB_BORROWED;
}

void bmb_feed_take(bmb_context *x, bmb_feed *feed)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_camera *c = &feed->camera;
    if (c->state != BMB_CAMERA_STARTING && c->state != BMB_CAMERA_RUNNING) return;
    for (unsigned i = 0; i < BMB_SLOTS_LEAST; i++) {
        bmb_camera_frame in;
        bmb_err err = cameras->take(cameras->ctx, c->index, &in);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            bmb_camera_fail(x, c, err);
            return;
        }
        bmb_camera_heard(x, c);
        if (in.data == NULL) in.size = 0;
        if (in.capture_us > x->now) in.capture_us = x->now; /* ahead of the clock: ages would be enormous */
        if (!ingest(x, feed, &in)) cameras->release(cameras->ctx, c->index, in.cookie);
    }
}

void bmb_feed_deliver(bmb_feed *feed)
{
    for (bmb_watcher *w = feed->fresh ? feed->first : NULL; w != NULL && w != feed->silent; w = feed->walk) {
        feed->walk = w->next;
        w->owner->frame_there(w->owner, w);
    }
    feed->fresh = false;
}

uint64_t bmb_feed_tend(bmb_context *x, bmb_feed *feed)
{
    bool start;
    uint64_t due = bmb_camera_tend(x, &feed->camera, &start), keep = bmb_controls_tend(x, &feed->camera);
    uint64_t still = feed->camera.lent ? feed->still.since_us + BMB_STILL_MOST_US : UINT64_MAX;
    if (start) {
        bmb_feed_start(x, feed);
        due = bmb_camera_tend(x, &feed->camera, &start);
    }
    if (keep < due) due = keep;
    return still < due ? still : due;
}

void bmb_feed_end(bmb_context *x, bmb_feed *feed)
{
    feed->removed = true;
    for (bmb_watcher *w = feed->first; w != NULL; w = feed->walk) {
        feed->walk = w->next;
        w->owner->feed_gone(w->owner, w);
    }
    bmb_feed_close(x, feed);
    feed->camera.state = BMB_CAMERA_OFF;
    feed->camera.lent = false;
    feed->camera.gap_us = 0;
    bmb_tell_of(x, feed->config->name, NULL, BMB_LEVEL_INFO, BMB_EVENT_FEED_REMOVED, 0, 0);
}

void bmb_feed_close(bmb_context *x, bmb_feed *feed)
{
    bmb_controls_keep(x, &feed->camera); /* which are read from a camera that runs */
    bmb_camera_stop(x, &feed->camera);
    bmb_reel_clear(&feed->reel);
}

void bmb_feed_join(bmb_feed *feed, bmb_watcher *w, bmb_owner *owner)
{
    bmb_watcher *next = owner->frame_there != NULL ? feed->silent : NULL;
    *w = (bmb_watcher){ .owner = owner, .next = next, .before = next != NULL ? next->before : feed->last };
    *(w->before != NULL ? &w->before->next : &feed->first) = w;
    *(next != NULL ? &next->before : &feed->last) = w;
    if (owner->frame_there == NULL && feed->silent == NULL) feed->silent = w;
}

void bmb_feed_leave(bmb_feed *feed, bmb_watcher *w)
{
    if (feed->walk == w) feed->walk = w->next; /* the list is being gone through */
    if (feed->silent == w) feed->silent = w->next;
    *(w->before != NULL ? &w->before->next : &feed->first) = w->next;
    *(w->next != NULL ? &w->next->before : &feed->last) = w->before;
    w->next = w->before = NULL;
}

bmb_err bmb_feed_set(bmb_context *x, bmb_feed *feed, bmb_control control, int32_t value, int32_t *effective)
{
    bool held = control == BMB_CONTROL_QUALITY && feed->governor.kbps > 0;
    bmb_err err = held ? BMB_IN_USE : bmb_controls_set(x, &feed->camera, control, value, effective);
    if (err != BMB_OK && bmb_camera_get(x, &feed->camera, control, effective) != BMB_OK) *effective = 0;
    return err;
}

uint32_t bmb_feed_kbps(const bmb_context *x, const bmb_feed *feed)
{
    uint32_t mfps, kbps;
    bmb_rate_read(&feed->rate, x->now, &mfps, &kbps);
    return kbps;
}

bool bmb_feed_described(const bmb_feed *feed)
{
    const bmb_codec_row *codec = bmb_feed_codec(feed);
    return codec->described != NULL ? codec->described(&feed->codec) : feed->frames > 0;
}

void bmb_feed_welcome(bmb_context *x, bmb_feed *feed)
{
    if (bmb_feed_codec(feed)->in_order) bmb_camera_want_key(x, &feed->camera);
}

uint64_t bmb_feeds_removed(const bmb_feeds *feeds)
{
    uint64_t removed = 0;
    for (size_t i = 0; i < feeds->count; i++) removed |= (uint64_t)feeds->feed[i].removed << i;
    return removed;
}

uint16_t bmb_feeds_viewers(const bmb_feeds *feeds)
{
    uint16_t viewers = 0;
    for (size_t i = 0; i < feeds->count; i++) viewers = (uint16_t)(viewers + feeds->feed[i].viewers);
    return viewers;
}

bmb_feed *bmb_feeds_at(const bmb_feeds *feeds, size_t number)
{
    return number < feeds->count && !feeds->feed[number].removed ? &feeds->feed[number] : NULL;
}

bmb_feed *bmb_feeds_named(const bmb_feeds *feeds, const char *name)
{
    for (size_t i = 0; i < feeds->count; i++)
        if (!feeds->feed[i].removed && strcmp(feeds->feed[i].config->name, name) == 0) return &feeds->feed[i];
    return NULL;
}
