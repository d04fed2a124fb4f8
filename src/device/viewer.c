/* A viewer is a cursor that walks shared frames through a framer onto a link. */
#include <string.h>

#include "device/state.h"

void bmb_viewer_begin(bmb_device *d, bmb_viewer *v, bmb_feed *feed, const bmb_framer *framer, bool once, bool counted)
{
    bmb_stream_state state = v->state; /* prepared by the conversation */
    memset(v, 0, sizeof *v);
    v->state = state;
    v->framer = framer;
    v->feed = feed;
    v->once = once;
    v->counted = counted;
    v->tally = BMB_NO_TALLY;
    v->since_us = d->now;
    v->needs_key = feed->mode.codec == BMB_CODEC_H264;
    v->seq = feed->reel.next_seq - 1;                                  /* what came before is passed over … */
    if (feed->reel.newest != NULL && feed->reel.newest->key) v->seq--; /* … but for a newest frame to begin with */
    bmb_rate_start(&v->rate, d->now);
    if (!counted) return;
    feed->viewers++;
    d->viewers++;
}

void bmb_viewer_abandon(bmb_viewer *v)
{
    if (v->frame == NULL) return;
    if (v->framer->done != NULL) v->framer->done(&v->state, v->frame, &v->cursor); /* packets that left stay counted */
    bmb_reel_unpin(&v->feed->reel, v->frame);
    v->frame = NULL;
    v->pace_us = 0;
    v->skipped++;
    v->feed->skipped++;
    v->needs_key = v->feed->mode.codec == BMB_CODEC_H264;
}

void bmb_viewer_end(bmb_device *d, bmb_viewer *v)
{
    if (v->framer == NULL) return;
    bmb_viewer_abandon(v);
    if (v->counted) {
        v->feed->viewers--;
        d->viewers--;
    }
    if (v->tally != BMB_NO_TALLY) {
        bmb_tally *t =
            v->tally < BMB_OUTLETS_MOST ? &d->outlets[v->tally].past : &d->pushes[v->tally - BMB_OUTLETS_MOST].past;
        t->frames += v->sent;
        t->bytes += v->bytes;
        t->blocked_us += bmb_viewer_blocked_us(d, v);
    }
    v->framer = NULL;
}

void bmb_viewer_leave(bmb_device *d, bmb_viewer *v, const bmb_addr *peer)
{
    if (v->framer == NULL) return;
    const bmb_feed *feed = v->feed;
    bool counted = v->counted;
    bmb_viewer_end(d, v);
    if (counted)
        bmb_viewer_event(d, feed, peer, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_LEFT, feed->viewers, (int64_t)v->sent);
}

static void block(const bmb_device *d, bmb_viewer *v)
{
    v->slow = true;
    if (v->blocked) return;
    v->blocked = true;
    v->blocked_us = d->now - v->blocked_us; /* so that the difference to any later time is the total */
}

void bmb_viewer_unblock(const bmb_device *d, bmb_viewer *v)
{
    if (!v->blocked) return;
    v->blocked = false;
    v->blocked_us = d->now - v->blocked_us;
}

uint64_t bmb_viewer_blocked_us(const bmb_device *d, const bmb_viewer *v)
{
    return v->blocked ? d->now - v->blocked_us : v->blocked_us;
}

void bmb_viewer_note_idle(bmb_device *d, const bmb_viewer *v)
{
    if (v->framer->idle_due == NULL) return;
    uint64_t due = v->framer->idle_due(&v->state);
    if (due < d->idle_us) d->idle_us = due;
}

static bool is_new(const bmb_viewer *v, const bmb_frame *frame)
{
    return (int32_t)(frame->seq - v->seq) > 0;
}

static bool carried(const bmb_viewer *v, const bmb_frame *frame)
{
    if (v->framer != &bmb_framer_rtp_jpeg) return true;
    return ((const bmb_jpeg_facts *)frame->facts)->refusal == BMB_JPEG_RTP_OK;
}

/* The newest key frame that the viewer has not had. */
static bmb_frame *newest_key(const bmb_viewer *v)
{
    bmb_frame *found = NULL;
    const bmb_reel *reel = &v->feed->reel;
    for (uint16_t i = 0; i < reel->count; i++) {
        bmb_frame *f = &reel->frames[i];
        if (f->live && f->key && is_new(v, f) && (found == NULL || (int32_t)(f->seq - found->seq) > 0)) found = f;
    }
    return found;
}

/* H.264: the next frame in order; or, where the viewer fell out or is too far behind, the newest key frame. */
static bmb_frame *choose_in_order(bmb_device *d, bmb_viewer *v)
{
    bmb_reel *reel = &v->feed->reel;
    if (!v->needs_key) {
        bmb_frame *f = bmb_reel_after(reel, v->seq);
        if (f == NULL) return NULL;
        bool lags = !v->keep_all && reel->newest != NULL && reel->newest->capture_us > f->capture_us + BMB_LAG_US;
        if (f->seq == v->seq + 1 && !lags) return f;
        v->needs_key = true;
    }
    bmb_frame *key = newest_key(v);
    if (key == NULL && reel->newest != NULL && is_new(v, reel->newest)) bmb_feed_want_key(d, v->feed);
    return key;
}

/* A viewer that is known to be slow waits where its pin would take the last room for new frames; it then shares the
 * frame of another slow one. */
static bmb_frame *choose(bmb_device *d, bmb_viewer *v)
{
    bmb_reel *reel = &v->feed->reel;
    bmb_frame *frame = v->feed->mode.codec == BMB_CODEC_H264 ? choose_in_order(d, v)
                       : v->keep_all                         ? bmb_reel_after(reel, v->seq)
                                                             : reel->newest;
    if (frame == NULL || !is_new(v, frame) || !carried(v, frame)) return NULL;
    if (v->slow && !bmb_reel_may_pin(reel, frame)) return NULL;
    return frame;
}

/* A recorder that was promised every frame is told of a gap. */
static void tell_behind(bmb_device *d, const bmb_viewer *v, uint32_t passed)
{
    if (d->now < d->behind_us) return;
    d->behind_us = d->now + 1000000;
    bmb_viewer_event(d, v->feed, NULL, BMB_LEVEL_WARNING, BMB_EVENT_VIEWER_BEHIND, passed, 0);
}

static void begin_frame(bmb_device *d, bmb_viewer *v, bmb_frame *frame)
{
    if (v->begun) {
        uint32_t passed = frame->seq - v->seq - 1;
        v->skipped += passed;
        v->feed->skipped += passed;
        if (v->keep_all && passed > 0) tell_behind(d, v, passed);
    }
    bmb_reel_pin(&v->feed->reel, frame);
    v->frame = frame;
    v->cursor = (bmb_cursor){ 0 };
    v->taken = 0;
    v->slow = false;
    v->seq = frame->seq;
    v->begun = true;
    v->needs_key = false;
    if (v->framer->begin != NULL) v->framer->begin(&v->state, frame, d->now);
}

static void finish_frame(bmb_device *d, bmb_viewer *v)
{
    bmb_frame *frame = v->frame;
    if (v->framer->done != NULL) v->framer->done(&v->state, v->frame, &v->cursor);
    v->sent++;
    v->feed->sent++;
    uint64_t now = d->port->now_us(d->port->ctx);
    v->age_ms = (uint32_t)((now - frame->capture_us) / 1000);
    bmb_rate_frame(&v->rate, now, frame->size);
    v->frame = NULL;
    bmb_reel_unpin(&v->feed->reel, frame);
    bmb_viewer_note_idle(d, v);
}

static void count_bytes(bmb_viewer *v, size_t sent)
{
    v->bytes += sent;
    v->feed->bytes_sent += sent;
}

/* Leaves out the bytes at the front that the link has already. */
static size_t trim(bmb_gather *g, size_t taken)
{
    size_t first = 0;
    while (taken > 0 && taken >= g->slices[first].size) taken -= g->slices[first++].size;
    if (taken == 0) return first;
    g->slices[first].data = (const uint8_t *)g->slices[first].data + taken;
    g->slices[first].size -= taken;
    return first;
}

/* Puts the cursor to the piece that byte `taken` of the gather falls into. */
static void settle(bmb_viewer *v, const bmb_gather *g, const bmb_cursor *after, size_t taken)
{
    if (taken == g->bytes) {
        v->cursor = *after;
        v->taken = 0;
        return;
    }
    size_t piece = 0;
    while (taken >= g->packets[piece].size) taken -= g->packets[piece++].size;
    v->cursor = g->starts[piece];
    v->taken = (uint32_t)taken;
}

static bmb_cursor gather(const bmb_viewer *v, bmb_gather *g, size_t most)
{
    bmb_cursor after = v->cursor;
    bmb_gather_clear(g);
    v->framer->fill(&v->state, v->frame, &after, g, most);
    return after;
}

/* One gather and one call to the link. */
static bmb_err send_some(bmb_device *d, bmb_viewer *v, bmb_conn *c)
{
    bmb_gather *g = &d->work.gather;
    bmb_cursor after = gather(v, g, BMB_GATHER_PIECES);
    size_t offered = g->bytes - v->taken, sent = 0, first = trim(g, v->taken);
    bmb_err err = bmb_conn_send(d, c, g->slices + first, g->slice_count - first, offered, &sent);
    count_bytes(v, sent);
    settle(v, g, &after, v->taken + sent);
    return err;
}

uint32_t bmb_feed_kbps(const bmb_device *d, const bmb_feed *feed)
{
    uint32_t mfps, kbps;
    bmb_rate_read(&feed->rate, d->now, &mfps, &kbps);
    return kbps;
}

void bmb_viewer_bound_unsent(bmb_device *d, bmb_sock sock, uint32_t kbps)
{
    uint64_t bytes = (uint64_t)kbps * d->config->unsent_ms / 8;
    if (d->port->net.bound_unsent == NULL) return;
    if (bytes < BMB_UNSENT_LEAST) bytes = BMB_UNSENT_LEAST;
    d->port->net.bound_unsent(d->port->ctx, sock, bytes > UINT32_MAX ? UINT32_MAX : (uint32_t)bytes);
}

/* A link that is slower than the feed: the time of what is unsent is counted at what it carries. */
static void follow_link(bmb_device *d, bmb_viewer *v, bmb_sock sock)
{
    uint32_t mfps, kbps;
    if (d->now < v->tuned_us) return;
    v->tuned_us = d->now + BMB_TUNE_US;
    bmb_rate_read(&v->rate, d->now, &mfps, &kbps);
    if (kbps == 0) return;
    bmb_viewer_bound_unsent(d, sock, kbps);
    if (d->port->net.bound_buffer == NULL) return;
    /* What is on its way and not yet acknowledged takes a share of its own. */
    uint64_t bytes = (uint64_t)kbps * d->config->unsent_ms / 8 * 2;
    if (bytes < 2 * BMB_UNSENT_LEAST) bytes = 2 * BMB_UNSENT_LEAST;
    d->port->net.bound_buffer(d->port->ctx, sock, bytes > UINT32_MAX ? UINT32_MAX : (uint32_t)bytes);
}

bmb_err bmb_viewer_finish(bmb_device *d, bmb_viewer *v, bmb_conn *c)
{
    while (v->frame != NULL) {
        bmb_err err = send_some(d, v, c);
        if (err == BMB_AGAIN) {
            block(d, v);
            follow_link(d, v, c->sock);
            return err;
        }
        if (err != BMB_OK) return BMB_GONE;
        if (v->cursor.end) finish_frame(d, v);
    }
    return BMB_OK;
}

/* true: it is in the middle of a frame, or there was one to begin. */
static bool take_frame(bmb_device *d, bmb_viewer *v)
{
    if (v->frame != NULL) return true;
    bmb_frame *frame = choose(d, v);
    if (frame != NULL) begin_frame(d, v, frame);
    return frame != NULL;
}

bool bmb_viewer_prime(bmb_device *d, bmb_viewer *v)
{
    return take_frame(d, v);
}

bmb_err bmb_viewer_pump(bmb_device *d, bmb_viewer *v, bmb_conn *c)
{
    while (take_frame(d, v)) {
        bmb_err err = bmb_viewer_finish(d, v, c);
        if (err != BMB_OK || v->once) return err;
    }
    return BMB_AGAIN;
}

/* A frame leaves in bursts over at most half of the frame interval: how many packets make one, and the pause. */
static size_t burst_of(const bmb_viewer *v, uint64_t *pause_us)
{
    const bmb_feed *feed = v->feed;
    uint64_t half = feed->mode.mfps > 0 ? 500000000u / feed->mode.mfps : 20000;
    if (v->framer->idle != NULL && half > BMB_TS_BURST_US) half = BMB_TS_BURST_US;
    size_t packets = v->frame->size / v->state.payload_max + 1;
    uint64_t bursts_most = half / BMB_BURST_GAP_US > 0 ? half / BMB_BURST_GAP_US : 1;
    size_t burst = packets / (size_t)bursts_most + 1;
    if (burst < BMB_BURST) burst = BMB_BURST;
    if (burst > BMB_GATHER_PIECES) burst = BMB_GATHER_PIECES;
    *pause_us = half / (packets / burst + 1);
    if (*pause_us < BMB_BURST_GAP_US) *pause_us = BMB_BURST_GAP_US;
    return burst;
}

/* One gather of at most so many packets, and one call to the link. *sent counts those that it took. */
static bmb_err send_packets(bmb_device *d, bmb_viewer *v, bmb_sock sock, const bmb_addr *to, size_t most, size_t *sent,
                            bmb_err *answer)
{
    bmb_gather *g = &d->work.gather;
    size_t taken = 0, bytes = 0;
    bmb_cursor after = gather(v, g, most);
    bmb_err err = bmb_net_send_packets(d, sock, to, g->packets, g->piece_count, &taken);
    if (err == BMB_REFUSED) { /* what an earlier packet met with; these were not sent, and somebody may come any time */
        size_t more = 0;
        *answer = err;
        err = bmb_net_send_packets(d, sock, to, g->packets + taken, g->piece_count - taken, &more);
        taken += more;
        if (err == BMB_REFUSED) err = BMB_AGAIN;
    }
    for (size_t i = 0; i < taken; i++) bytes += g->packets[i].size;
    count_bytes(v, bytes);
    v->cursor = taken < g->piece_count ? g->starts[taken] : after;
    *sent += taken;
    return err == BMB_OK && taken < g->piece_count ? BMB_AGAIN : err;
}

/* Sends one burst. BMB_OK: go on with the next frame; BMB_AGAIN: more of this one is due later. */
static bmb_err send_burst(bmb_device *d, bmb_viewer *v, bmb_sock sock, const bmb_addr *to, bmb_err *answer)
{
    uint64_t pause;
    size_t burst = burst_of(v, &pause), sent = 0;
    bmb_err err = BMB_OK;
    while (err == BMB_OK && sent < burst && !v->cursor.end) /* a gather may hold less than a burst */
        err = send_packets(d, v, sock, to, burst - sent, &sent, answer);
    if (err != BMB_OK && err != BMB_AGAIN) { /* the network refuses; the session lives as long as its peer does */
        *answer = err;
        bmb_viewer_abandon(v);
        return BMB_OK;
    }
    if (err == BMB_AGAIN) {
        pause = BMB_BURST_GAP_US;
        v->blocked_us += pause;
    }
    if (!v->cursor.end) {
        v->pace_us = d->now + pause;
        if (v->pace_us < d->pace_us) d->pace_us = v->pace_us;
        return BMB_AGAIN;
    }
    v->pace_us = 0;
    finish_frame(d, v);
    return BMB_OK;
}

bmb_err bmb_viewer_pump_datagrams(bmb_device *d, bmb_viewer *v, bmb_sock sock, const bmb_addr *to)
{
    bmb_err answer = BMB_OK;
    if (v->pace_us > d->now) {
        if (v->pace_us < d->pace_us) d->pace_us = v->pace_us;
        return answer;
    }
    while (take_frame(d, v) && send_burst(d, v, sock, to, &answer) == BMB_OK) continue;
    return answer;
}
