#include "flow/viewer.h"

#include <string.h>

#include "base/bounds.h"

void bmb_viewer_begin(bmb_context *x, bmb_viewer *v, bmb_track *track, const bmb_viewing *how)
{
    bmb_stream_state state = v->state; /* prepared by the conversation */
    memset(v, 0, sizeof *v);
    v->state = state;
    v->framer = how->framer;
    v->track = track;
    v->tally = how->tally;
    v->once = how->once;
    v->counted = how->counted;
    v->keep_all = how->keep_all;
    v->since_us = x->now;
    v->needs_key = track->row->in_order;
    v->seq = track->reel.next_seq - 1;                                   /* what came before is passed over … */
    if (track->reel.newest != NULL && track->reel.newest->key) v->seq--; /* … but for a newest frame to begin with */
    bmb_rate_start(&v->rate, x->now);
    bmb_track_join(track, &v->watcher, how->owner);
    if (v->counted) track->feed->viewers++;
}

void bmb_viewer_abandon(bmb_viewer *v)
{
    bmb_frame *frame = v->watcher.frame;
    if (frame == NULL) return;
    if (v->framer->done != NULL) v->framer->done(&v->state, frame, &v->cursor); /* packets that left stay counted */
    bmb_reel_unpin(&v->track->reel, frame);
    v->watcher.frame = NULL;
    v->pace_us = 0;
    v->skipped++;
    v->track->feed->skipped++;
    v->needs_key = v->track->row->in_order;
}

void bmb_viewer_add(const bmb_context *x, const bmb_viewer *v, bmb_tally *sum)
{
    sum->frames += v->sent;
    sum->bytes += v->bytes;
    sum->blocked_us += bmb_viewer_blocked_us(x, v);
}

void bmb_viewer_end(bmb_context *x, bmb_viewer *v)
{
    if (v->framer == NULL) return;
    bmb_viewer_abandon(v);
    bmb_track_leave(v->track, &v->watcher);
    if (v->counted) v->track->feed->viewers--;
    if (v->tally != NULL) bmb_viewer_add(x, v, v->tally);
    v->framer = NULL;
}

void bmb_viewer_tell(bmb_context *x, const bmb_feed *feed, const bmb_addr *peer, bmb_event_code code, int64_t value,
                     int64_t extra)
{
    bmb_tell_of(x, feed->config->name, peer, code, value, extra);
}

void bmb_viewer_came(bmb_context *x, const bmb_viewer *v, const bmb_addr *peer)
{
    bmb_viewer_tell(x, v->track->feed, peer, BMB_EVENT_VIEWER_CAME, v->track->feed->viewers, 0);
}

void bmb_viewer_leave(bmb_context *x, bmb_viewer *v, const bmb_addr *peer)
{
    if (v->framer == NULL) return;
    const bmb_feed *feed = v->track->feed;
    bool counted = v->counted;
    bmb_viewer_end(x, v);
    if (counted) bmb_viewer_tell(x, feed, peer, BMB_EVENT_VIEWER_LEFT, feed->viewers, (int64_t)v->sent);
}

static void block(const bmb_context *x, bmb_viewer *v)
{
    v->slow = true;
    if (v->blocked) return;
    v->blocked = true;
    v->blocked_us = x->now - v->blocked_us; /* so that the difference to any later time is the total */
}

void bmb_viewer_unblock(const bmb_context *x, bmb_viewer *v)
{
    if (!v->blocked) return;
    v->blocked = false;
    v->blocked_us = x->now - v->blocked_us;
}

uint64_t bmb_viewer_blocked_us(const bmb_context *x, const bmb_viewer *v)
{
    return v->blocked ? x->now - v->blocked_us : v->blocked_us;
}

uint64_t bmb_viewer_idle_due(const bmb_viewer *v)
{
    /* In the middle of a frame, or blocked: the next frame's end says when. */
    if (v->framer == NULL || v->framer->idle == NULL || v->watcher.frame != NULL || v->blocked) return UINT64_MAX;
    return v->framer->idle_due(&v->state);
}

size_t bmb_viewer_idle(const bmb_context *x, bmb_viewer *v, uint8_t *out)
{
    size_t size = bmb_viewer_idle_due(v) <= x->now ? v->framer->idle(&v->state, x->now, out) : 0;
    v->bytes += size;
    return size;
}

static bool is_new(const bmb_viewer *v, const bmb_frame *frame)
{
    return (int32_t)(frame->seq - v->seq) > 0;
}

static bool carried(const bmb_viewer *v, const bmb_frame *frame)
{
    return v->framer->carries == NULL || v->framer->carries(frame);
}

/* The newest key frame that the viewer has not had. */
static bmb_frame *newest_key(const bmb_viewer *v)
{
    bmb_frame *found = NULL;
    const bmb_reel *reel = &v->track->reel;
    for (uint16_t i = 0; i < reel->count; i++) {
        bmb_frame *f = &reel->frames[i];
        if (f->live && f->key && is_new(v, f) && (found == NULL || (int32_t)(f->seq - found->seq) > 0)) found = f;
    }
    return found;
}

/* H.264: the next frame in order; or, where the viewer fell out or is too far behind, the newest key frame. */
static bmb_frame *choose_in_order(bmb_context *x, bmb_viewer *v)
{
    bmb_reel *reel = &v->track->reel;
    if (!v->needs_key) {
        bmb_frame *f = bmb_reel_after(reel, v->seq);
        if (f == NULL) return NULL;
        bool lags = !v->keep_all && reel->newest != NULL && reel->newest->capture_us > f->capture_us + BMB_LAG_US;
        if (f->seq == v->seq + 1 && !lags) return f;
        v->needs_key = true;
    }
    bmb_frame *key = newest_key(v);
    if (key == NULL && reel->newest != NULL && is_new(v, reel->newest)) bmb_camera_want_key(x, &v->track->feed->camera);
    return key;
}

/* A viewer that is known to be slow waits where its pin would take the last room for new frames; it then shares the
 * frame of another slow one. */
static bmb_frame *choose(bmb_context *x, bmb_viewer *v)
{
    bmb_reel *reel = &v->track->reel;
    bmb_frame *frame = v->track->row->in_order ? choose_in_order(x, v)
                       : v->keep_all           ? bmb_reel_after(reel, v->seq)
                                               : reel->newest;
    if (frame == NULL || !is_new(v, frame) || !carried(v, frame)) return NULL;
    if (v->slow && !bmb_reel_may_pin(reel, frame)) return NULL;
    return frame;
}

/* A recorder that was promised every frame is told of a gap. */
static void tell_behind(bmb_context *x, const bmb_viewer *v, uint32_t passed)
{
    if (x->now < v->track->feed->behind_us) return;
    v->track->feed->behind_us = x->now + 1000000;
    bmb_viewer_tell(x, v->track->feed, NULL, BMB_EVENT_VIEWER_BEHIND, passed, 0);
}

static void begin_frame(bmb_context *x, bmb_viewer *v, bmb_frame *frame)
{
    if (v->begun) {
        uint32_t passed = frame->seq - v->seq - 1;
        v->skipped += passed;
        v->track->feed->skipped += passed;
        if (v->keep_all && passed > 0) tell_behind(x, v, passed);
    }
    bmb_reel_pin(&v->track->reel, frame);
    v->watcher.frame = frame;
    v->cursor = (bmb_cursor){ 0 };
    v->taken = 0;
    v->slow = false;
    v->seq = frame->seq;
    v->begun = true;
    v->needs_key = false;
    if (v->framer->begin != NULL) v->framer->begin(&v->state, frame, x->now);
}

static void finish_frame(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    bmb_frame *frame = v->watcher.frame;
    if (v->framer->done != NULL) v->framer->done(&v->state, v->watcher.frame, &v->cursor);
    if (link->kind->frame_ends != NULL) link->kind->frame_ends(link, frame);
    v->sent++;
    v->track->feed->sent++;
    uint64_t now = bmb_clock(x);
    v->age_ms = bmb_ms_between(frame->capture_us, now);
    bmb_rate_frame(&v->rate, now, frame->size);
    v->watcher.frame = NULL;
    bmb_reel_unpin(&v->track->reel, frame);
}

static void count_bytes(bmb_viewer *v, size_t sent)
{
    v->bytes += sent;
    v->track->feed->bytes_sent += sent;
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
    v->framer->fill(&v->state, v->watcher.frame, &after, g, most);
    return after;
}

/* One gather and one call to the link. */
static bmb_err send_some(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    bmb_gather *g = (bmb_gather *)x->scratch;
    size_t sent = 0;
    bmb_cursor after = gather(v, g, BMB_GATHER_PIECES);
    bmb_err err = link->kind->send(link, g, v->taken, &sent);
    count_bytes(v, sent);
    settle(v, g, &after, v->taken + sent);
    return err;
}

/* A link that is slower than the feed is told what it carries, from time to time. */
static void follow_link(const bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    uint32_t mfps, kbps;
    if (x->now < v->tuned_us) return;
    v->tuned_us = x->now + BMB_TUNE_US;
    bmb_rate_read(&v->rate, x->now, &mfps, &kbps);
    if (kbps > 0 && link->kind->follow != NULL) link->kind->follow(link, kbps);
}

bmb_err bmb_viewer_finish(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    while (v->watcher.frame != NULL) {
        bmb_err err = send_some(x, v, link);
        if (err == BMB_AGAIN) {
            block(x, v);
            follow_link(x, v, link);
            return err;
        }
        if (err != BMB_OK) return BMB_GONE;
        if (v->cursor.end) finish_frame(x, v, link);
    }
    return BMB_OK;
}

/* true: it is in the middle of a frame, or there was one to begin. */
static bool take_frame(bmb_context *x, bmb_viewer *v)
{
    if (v->watcher.frame != NULL) return true;
    bmb_frame *frame = choose(x, v);
    if (frame != NULL) begin_frame(x, v, frame);
    return frame != NULL;
}

bool bmb_viewer_prime(bmb_context *x, bmb_viewer *v)
{
    return take_frame(x, v);
}

static bmb_err pump_stream(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    while (take_frame(x, v)) {
        bmb_err err = bmb_viewer_finish(x, v, link);
        if (err != BMB_OK || v->once) return err;
    }
    return BMB_AGAIN;
}

/* A frame leaves in bursts over at most half of the frame interval: how many packets make one, and the pause. */
static size_t burst_of(const bmb_viewer *v, uint64_t *pause_us)
{
    const bmb_feed *feed = v->track->feed;
    uint64_t half = feed->camera.mode.mfps > 0 ? 500000000u / feed->camera.mode.mfps : 20000;
    if (v->framer->idle != NULL && half > BMB_TS_BURST_US) half = BMB_TS_BURST_US;
    size_t packets = v->watcher.frame->size / v->state.payload_max + 1;
    uint64_t bursts_most = half / BMB_BURST_GAP_US > 0 ? half / BMB_BURST_GAP_US : 1;
    size_t burst = packets / (size_t)bursts_most + 1;
    if (burst < BMB_BURST) burst = BMB_BURST;
    if (burst > BMB_GATHER_PIECES) burst = BMB_GATHER_PIECES;
    *pause_us = half / (packets / burst + 1);
    if (*pause_us < BMB_BURST_GAP_US) *pause_us = BMB_BURST_GAP_US;
    return burst;
}

/* One gather of at most so many packets, and one call to the link. *sent counts those that it took. */
static bmb_err send_packets(bmb_context *x, bmb_viewer *v, bmb_link *link, size_t most, size_t *sent)
{
    bmb_gather *g = (bmb_gather *)x->scratch;
    size_t taken = 0, bytes = 0;
    bmb_cursor after = gather(v, g, most);
    bmb_err err = link->kind->send(link, g, 0, &taken);
    for (size_t i = 0; i < taken; i++) bytes += g->packets[i].size;
    count_bytes(v, bytes);
    v->cursor = taken < g->piece_count ? g->starts[taken] : after;
    *sent += taken;
    return err == BMB_OK && taken < g->piece_count ? BMB_AGAIN : err;
}

static void burst_due(bmb_context *x, const bmb_viewer *v)
{
    if (v->pace_us < x->pace_us) x->pace_us = v->pace_us;
}

/* Sends one burst. BMB_OK: go on with the next frame; BMB_AGAIN: more of this one is due later. */
static bmb_err send_burst(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    uint64_t pause;
    size_t burst = burst_of(v, &pause), sent = 0;
    bmb_err err = BMB_OK;
    while (err == BMB_OK && sent < burst && !v->cursor.end) /* a gather may hold less than a burst */
        err = send_packets(x, v, link, burst - sent, &sent);
    if (err != BMB_OK && err != BMB_AGAIN) { /* the network refuses; the session lives as long as its peer does */
        link->answer = err;
        bmb_viewer_abandon(v);
        return BMB_OK;
    }
    if (err == BMB_AGAIN) {
        pause = BMB_BURST_GAP_US;
        v->blocked_us += pause;
    }
    if (!v->cursor.end) {
        v->pace_us = x->now + pause;
        burst_due(x, v);
        return BMB_AGAIN;
    }
    v->pace_us = 0;
    finish_frame(x, v, link);
    return BMB_OK;
}

static bmb_err pump_packets(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    if (v->pace_us > x->now) {
        burst_due(x, v);
        return BMB_AGAIN;
    }
    while (take_frame(x, v) && send_burst(x, v, link) == BMB_OK) continue;
    return BMB_AGAIN;
}

bmb_err bmb_viewer_pump(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    return link->kind->packets ? pump_packets(x, v, link) : pump_stream(x, v, link);
}

void bmb_viewer_figures(const bmb_context *x, const bmb_viewer *v, bmb_viewer_stats *out)
{
    uint64_t now = bmb_clock(x);
    memset(out, 0, sizeof *out);
    out->feed = v->track->feed->number;
    out->sent = v->sent;
    out->skipped = v->skipped;
    out->bytes = v->bytes;
    bmb_rate_read(&v->rate, now, &out->mfps, &out->kbps);
    out->age_ms = v->age_ms;
    out->watching_ms = bmb_ms_between(v->since_us, now);
    out->waiting = v->blocked;
    out->blocked_ms = bmb_ms_between(0, bmb_viewer_blocked_us(x, v));
}

bmb_tally bmb_viewers_sum(const bmb_context *x, const bmb_feeds *feeds, const bmb_tally *tally, uint16_t *counted)
{
    bmb_tally sum = *tally;
    size_t at = 0;
    *counted = 0;
    for (bmb_watcher *w = bmb_feeds_next(feeds, &at, NULL); w != NULL; w = bmb_feeds_next(feeds, &at, w)) {
        const bmb_viewer *v = w->owner->viewers ? bmb_viewer_of(w) : NULL;
        if (v == NULL || v->tally != tally) continue;
        bmb_viewer_add(x, v, &sum);
        *counted = (uint16_t)(*counted + v->counted);
    }
    return sum;
}
