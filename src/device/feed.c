/* A feed's camera is started, watched and started again; its frames are checked and put into the reel. */
#include <string.h>

#include "device/state.h"

static void tell(bmb_device *d, const bmb_feed *feed, bmb_level level, bmb_event_code code, bmb_err err, int64_t value,
                 int64_t extra)
{
    bmb_tell(
        d, &(bmb_event){
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

static bmb_camera_fault fault_of(const bmb_device *d, const bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    return cameras->fault != NULL ? cameras->fault(cameras->ctx, feed->camera) : BMB_CAMERA_FAULT_NONE;
}

static int64_t packed_size(const bmb_mode *mode)
{
    return (int64_t)mode->width << 16 | mode->height;
}

void bmb_feed_want_key(bmb_device *d, bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    feed->key_wanted = true;
    if (cameras->key_frame == NULL || (feed->key_us != 0 && d->now < feed->key_us + BMB_KEY_PAUSE_US)) return;
    feed->key_us = d->now;
    (void)cameras->key_frame(cameras->ctx, feed->camera);
}

static void start_governor(bmb_device *d, bmb_feed *feed)
{
    const bmb_feed_config *c = feed->config;
    int32_t quality = BMB_QUALITY_FIRST;
    if (c->kbps == 0 || feed->mode.codec != BMB_CODEC_JPEG) return;
    (void)bmb_camera_get(d, feed, BMB_CONTROL_QUALITY, &quality);
    bmb_governor_start(&feed->governor, c->kbps, feed->mode.mfps,
                       c->quality_least > 0 ? c->quality_least : BMB_QUALITY_LEAST,
                       c->quality_most > 0 ? c->quality_most : BMB_QUALITY_MOST, (uint8_t)quality, d->now);
}

/* false: the frame must be dropped to hold the bit rate. */
static bool govern(bmb_device *d, bmb_feed *feed, uint32_t size, uint64_t capture_us)
{
    uint8_t before = feed->governor.quality, quality;
    if (feed->governor.kbps == 0) return true;
    bool fits = bmb_governor_take(&feed->governor, size, capture_us, d->now, &quality);
    int32_t effective;
    if (quality != before) (void)bmb_camera_set(d, feed, BMB_CONTROL_QUALITY, quality, &effective);
    if (!fits) feed->dropped++;
    return fits;
}

void bmb_feed_start(bmb_device *d, bmb_feed *feed)
{
    const bmb_cameras *cameras = &d->port->cameras;
    const bmb_mode *asked = &feed->config->mode;
    bmb_controls_apply(d, feed);
    bmb_mode effective = *asked;
    bmb_err err = cameras->start(cameras->ctx, feed->camera, asked, &effective);
    if (err == BMB_OK && bmb_contract_mode(asked, &effective) != BMB_OK) {
        cameras->stop(cameras->ctx, feed->camera);
        err = BMB_UNSUPPORTED;
    }
    if (err != BMB_OK) {
        retry_later(d, feed, err);
        tell(d, feed, BMB_LEVEL_ERROR, BMB_EVENT_CAMERA_FAILED, err, fault_of(d, feed), feed->retry_ms);
        return;
    }
    if (effective.mfps == 0) effective.mfps = asked->mfps; /* not known: as was asked, until it is measured */
    if (!bmb_mode_same(&feed->mode, &effective)) feed->sdp_version++;
    feed->mode = effective;
    feed->camera_state = BMB_CAMERA_STARTING;
    feed->heard_us = d->now;
    start_governor(d, feed);
    feed->needs_key = feed->mode.codec == BMB_CODEC_H264;
    bool adjusted = !bmb_mode_same(&feed->mode, asked);
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
    if (feed->still.gap) {
        feed->still.gap = false;
        tell(d, feed, BMB_LEVEL_INFO, BMB_EVENT_STILL_GAP, BMB_OK, (int64_t)((d->now - feed->still.since_us) / 1000),
             0);
    }
    uint64_t gap_ms = (d->now - feed->heard_us) / 1000;
    feed->heard_us = d->now;
    if (feed->camera_state == BMB_CAMERA_RUNNING) {
        if (gap_ms > feed->gap_ms_most) feed->gap_ms_most = gap_ms < UINT32_MAX ? (uint32_t)gap_ms : UINT32_MAX;
        return;
    }
    feed->camera_state = BMB_CAMERA_RUNNING;
    feed->camera_err = BMB_OK;
    feed->retry_ms = 0;
    if (feed->gap_us == 0) return;
    tell(d, feed, BMB_LEVEL_INFO, BMB_EVENT_CAMERA_BACK, BMB_OK, (int64_t)((d->now - feed->gap_us) / 1000), 0);
    feed->gap_us = 0;
}

/* What a frame turned out to be. */
typedef struct arrival {
    const uint8_t *data;
    uint32_t size;
    bool key;
    bool wants_sets; /* a key frame without the parameter sets that a late comer needs */
} arrival;

static bool inspect_jpeg(bmb_device *d, bmb_feed *feed, arrival *a)
{
    bmb_jpeg jpeg;
    bmb_jpeg_facts *facts = &d->work.arrived.jpeg;
    if (bmb_jpeg_parse(a->data, a->size, &jpeg) != BMB_OK) return false;
    a->size = (uint32_t)jpeg.size;
    a->key = true;
    bmb_jpeg_facts_of(a->data, &jpeg, facts);
    if (facts->refusal != BMB_JPEG_RTP_OK && facts->refusal != feed->refusal)
        tell(d, feed, BMB_LEVEL_WARNING, BMB_EVENT_CODEC_REFUSED, BMB_UNSUPPORTED, facts->refusal, 0);
    feed->refusal = facts->refusal;
    return true;
}

static bool inspect_h264(bmb_device *d, bmb_feed *feed, arrival *a)
{
    bmb_h264_facts *facts = &d->work.arrived.h264;
    bmb_h264_sets *sets = &feed->sets;
    if (bmb_h264_parse(a->data, a->size, facts) != BMB_OK || !facts->picture) return false;
    if (bmb_h264_keep_sets(a->data, facts, sets)) feed->sdp_version++;
    if (facts->sets) (void)bmb_sps_parse(sets->sps, sets->sps_size, &feed->sps);
    a->key = facts->key && sets->sps_size > 0 && sets->pps_size > 0;
    a->wants_sets = a->key && !facts->sets && feed->config->storage == BMB_KEPT;
    return true;
}

static uint32_t put_set(uint8_t *out, const uint8_t *set, uint16_t size)
{
    static const uint8_t start_code[4] = { 0, 0, 0, 1 };
    memcpy(out, start_code, sizeof start_code);
    memcpy(out + sizeof start_code, set, size);
    return (uint32_t)sizeof start_code + size;
}

/* Copies the frame, behind the parameter sets where it lacks them. */
static void fill(const bmb_feed *feed, const arrival *a, uint8_t *out)
{
    if (a->wants_sets) {
        out += put_set(out, feed->sets.sps, feed->sets.sps_size);
        out += put_set(out, feed->sets.pps, feed->sets.pps_size);
    }
    memcpy(out, a->data, a->size);
}

static void keep_facts(bmb_device *d, const bmb_feed *feed, const arrival *a, bmb_frame *frame)
{
    if (feed->mode.codec == BMB_CODEC_JPEG) {
        memcpy(frame->facts, &d->work.arrived.jpeg, sizeof(bmb_jpeg_facts));
    } else if (a->wants_sets) {
        (void)bmb_h264_parse(frame->data, frame->size, (bmb_h264_facts *)frame->facts);
    } else {
        memcpy(frame->facts, &d->work.arrived.h264, sizeof(bmb_h264_facts));
    }
}

/* A lost H.264 frame spoils those after it, up to the next key frame: better none than smears. */
static void lost(bmb_device *d, bmb_feed *feed, bmb_event_code code, size_t size)
{
    drop_frame(d, feed, code, size);
    if (feed->mode.codec != BMB_CODEC_H264) return;
    feed->needs_key = true;
    bmb_feed_want_key(d, feed);
}

/* Descriptions tell the highest bit rate, in steps of a quarter to a half, so that they stay what they are. */
static void follow_kbps(const bmb_device *d, bmb_feed *feed)
{
    uint32_t kbps = bmb_feed_kbps(d, feed);
    if (kbps <= feed->kbps_most || d->now < d->start_us + BMB_SETTLED_US) return;
    uint32_t step = 4;
    while (step * 4 < kbps) step *= 2;
    feed->kbps_most = (kbps + step - 1) / step * step;
    feed->sdp_version++;
}

/* true: the reel has taken a borrowed buffer over */
static bool ingest(bmb_device *d, bmb_feed *feed, const bmb_camera_frame *in)
{
    bool h264 = feed->mode.codec == BMB_CODEC_H264, borrowed = feed->config->storage == BMB_BORROWED;
    if (in->size > feed->config->frame_max) {
        lost(d, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    arrival a = { .data = in->data, .size = (uint32_t)in->size };
    if (!(h264 ? inspect_h264(d, feed, &a) : inspect_jpeg(d, feed, &a))) {
        lost(d, feed, BMB_EVENT_FRAME_BAD, in->size);
        return false;
    }
    if (feed->needs_key && !a.key) {
        feed->dropped++;
        bmb_feed_want_key(d, feed);
        return false;
    }
    if (!govern(d, feed, a.size, in->capture_us)) return false;
    uint32_t size = a.size + (a.wants_sets ? 8u + feed->sets.sps_size + feed->sets.pps_size : 0);
    bmb_frame *frame = reserve(d, feed, size);
    if (frame == NULL) {
        lost(d, feed, BMB_EVENT_FRAME_TOO_LARGE, in->size);
        return false;
    }
    if (borrowed) {
        frame->data = in->data;
        frame->cookie = in->cookie;
    } else {
        fill(feed, &a, bmb_reel_bytes(&feed->reel, frame));
    }
    keep_facts(d, feed, &a, frame);
    frame->capture_us = in->capture_us;
    frame->wall_us = wall_of(d, in->capture_us);
    frame->key = a.key;
    bmb_reel_publish(&feed->reel, frame);
    feed->frames++;
    feed->fresh = true;
    feed->needs_key = false;
    if (a.key) feed->key_wanted = false;
    bmb_rate_frame(&feed->rate, d->now, size);
    follow_kbps(d, feed);
    return borrowed;
}

void bmb_feed_take(bmb_device *d, bmb_feed *feed)
{
    if (feed->still.taking) {
        feed->heard_us = d->now;
        bmb_still_take(d, feed);
        return;
    }
    const bmb_cameras *cameras = &d->port->cameras;
    if (feed->camera_state != BMB_CAMERA_STARTING && feed->camera_state != BMB_CAMERA_RUNNING) return;
    for (unsigned i = 0; i < BMB_SLOTS_LEAST; i++) {
        bmb_camera_frame in;
        bmb_err err = cameras->take(cameras->ctx, feed->camera, &in);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            cameras->stop(cameras->ctx, feed->camera);
            retry_later(d, feed, err);
            tell(d, feed, BMB_LEVEL_ERROR, BMB_EVENT_CAMERA_FAILED, err, fault_of(d, feed), feed->retry_ms);
            return;
        }
        heard(d, feed);
        if (in.data == NULL) in.size = 0;
        if (in.capture_us > d->now) in.capture_us = d->now; /* ahead of the clock: ages would be enormous */
        if (!ingest(d, feed, &in)) cameras->release(cameras->ctx, feed->camera, in.cookie);
    }
}

static uint64_t silence_allowed(const bmb_feed *feed)
{
    uint64_t ten_frames = feed->mode.mfps > 0 ? 10000000000u / feed->mode.mfps : 0;
    return ten_frames > BMB_STALL_LEAST_US ? ten_frames : BMB_STALL_LEAST_US;
}

static uint64_t tend_camera(bmb_device *d, bmb_feed *feed)
{
    if (feed->camera_state == BMB_CAMERA_OFF) return UINT64_MAX;
    if (feed->key_wanted && d->now >= feed->key_us + BMB_KEY_PAUSE_US) bmb_feed_want_key(d, feed);
    if (feed->camera_state == BMB_CAMERA_WAITING) {
        if (d->now < feed->retry_us) return feed->retry_us;
        feed->restarts++;
        bmb_feed_start(d, feed);
        return d->now + BMB_SWEEP_US;
    }
    uint64_t limit = feed->heard_us + silence_allowed(feed), key = feed->key_us + BMB_KEY_PAUSE_US;
    if (d->now < limit) return feed->key_wanted && key > d->now && key < limit ? key : limit;
    uint64_t silent_ms = (d->now - feed->heard_us) / 1000;
    d->port->cameras.stop(d->port->cameras.ctx, feed->camera);
    retry_later(d, feed, BMB_TIMED_OUT);
    tell(d, feed, BMB_LEVEL_ERROR, BMB_EVENT_CAMERA_STALLED, BMB_TIMED_OUT, (int64_t)silent_ms, feed->retry_ms);
    return feed->retry_us;
}

uint64_t bmb_feed_tend(bmb_device *d, bmb_feed *feed)
{
    uint64_t camera = tend_camera(d, feed), keep = bmb_controls_tend(d, feed);
    return camera < keep ? camera : keep;
}
