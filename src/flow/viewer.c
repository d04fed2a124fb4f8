#include "flow/viewer.h"

#include <string.h>

#include "base/bounds.h"
#include "flow/steps.h"
#include "media/next.h"

/* What came before on its track is passed over, but for a newest frame to begin with. */
static void begin_behind(bmb_viewer *v)
{
    const bmb_track *track = v->track;
    v->needs_key = track->row->in_order;
    v->begun = false;
    v->seq = track->reel.next_seq - 1;
    if (track->reel.newest != NULL && track->reel.newest->key) v->seq--;
}

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
    v->lends = how->lends && x->port->net.send_lent != NULL && x->port->net.unacked != NULL;
    v->since_us = x->now;
#if BMB_WITH_FOLLOWING
    v->fixed = how->fixed || how->once || how->keep_all;
#endif
    if (BMB_WITH_PATHS) v->tight = BMB_TIGHT; /* until it is known what it carries */
    begin_behind(v);
#if BMB_WITH_VIEWER_RATES
    bmb_rate_start(&v->rate, x->now);
#endif
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

/* Frames that are lent go back: all, or those that the link has acknowledged, with all but so many bytes. */
static void take_back(bmb_viewer *v, uint32_t unacked)
{
    for (size_t i = 0; i < BMB_LENT_MOST; i++) {
        if (v->lent[i] == NULL || unacked > v->behind[i]) continue;
        bmb_reel_unpin(&v->track->reel, v->lent[i]);
        v->lent[i] = NULL;
    }
}

bool bmb_viewer_holds(const bmb_watcher *w, const bmb_frame *frame)
{
    const bmb_viewer *v = (const bmb_viewer *)(const void *)w;
    return v->lent[0] == frame || v->lent[1] == frame;
}

void bmb_viewer_rate(const bmb_viewer *v, uint64_t now_us, uint32_t *mfps, uint32_t *kbps)
{
#if BMB_WITH_VIEWER_RATES
    bmb_rate_read(&v->rate, now_us, mfps, kbps);
#else
    (void)v;
    (void)now_us;
    *mfps = *kbps = 0;
#endif
}

uint64_t bmb_viewer_blocked_us(const bmb_context *x, const bmb_viewer *v)
{
    return v->blocked ? x->now - v->blocked_us : v->blocked_us;
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
    take_back(v, 0);
    bmb_track_leave(v->track, &v->watcher);
    if (v->counted) bmb_viewer_feed(v)->viewers--;
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
    const bmb_feed *feed = bmb_viewer_feed(v);
    bmb_viewer_tell(x, feed, peer, BMB_EVENT_VIEWER_CAME, feed->viewers, 0);
}

void bmb_viewer_leave(bmb_context *x, bmb_viewer *v, const bmb_addr *peer)
{
    if (v->framer == NULL) return;
    const bmb_feed *feed = bmb_viewer_feed(v);
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

uint64_t bmb_viewer_idle_due(const bmb_viewer *v)
{
    /* In the middle of a frame, or blocked: the next frame's end says when. */
    if (!BMB_WITH_TS || v->framer == NULL || v->framer->idle == NULL || v->watcher.frame != NULL || v->blocked)
        return UINT64_MAX;
    return v->framer->idle_due(&v->state);
}

size_t bmb_viewer_idle(const bmb_context *x, bmb_viewer *v, uint8_t *out)
{
    size_t size = BMB_WITH_TS && bmb_viewer_idle_due(v) <= x->now ? v->framer->idle(&v->state, x->now, out) : 0;
    v->bytes += size;
    return size;
}

/* A viewer that is known to be slow waits where its pin would take the last room for new frames; it then shares the
 * frame of another slow one. */
static bmb_frame *choose(bmb_context *x, bmb_viewer *v)
{
    bmb_place place = { v->seq, v->needs_key, v->keep_all };
    bmb_frame *frame = bmb_next_frame(x, v->track, &v->track->feed->camera, &place);
    v->needs_key = place.needs_key;
    if (frame == NULL || (v->framer->carries != NULL && !v->framer->carries(frame))) return NULL;
    bool slow = v->slow || v->lent[0] != NULL || v->lent[1] != NULL;
    return !slow || bmb_reel_may_pin(&v->track->reel, frame) ? frame : NULL;
}

/* A recorder that was promised every frame is told of a gap. */
static void tell_behind(bmb_context *x, const bmb_viewer *v, uint32_t passed)
{
    if (x->now < v->track->feed->behind_us) return;
    v->track->feed->behind_us = x->now + 1000000;
    bmb_viewer_tell(x, v->track->feed, NULL, BMB_EVENT_VIEWER_BEHIND, passed, 0);
}

/* The next frame of a stream has its turn when the share of this one is used up. */
static void take_turn(const bmb_context *x, bmb_viewer *v, const bmb_link *link, uint32_t size)
{
#if BMB_WITH_FOLLOWING
    if (!v->shared || link == NULL || link->kind->packets) return;
    uint64_t us = (uint64_t)size * 8000 / v->carry_kbps;
    uint32_t now = (uint32_t)x->now, from = v->turn_us;
    int32_t ahead = (int32_t)(from - now);
    if (ahead < -BMB_SHARE_SAVED_US || ahead > BMB_SHARE_MOST_US) from = now;
    v->turn_us = from + (uint32_t)(us < BMB_SHARE_MOST_US ? us : BMB_SHARE_MOST_US);
#else
    (void)x, (void)v, (void)link, (void)size;
#endif
}

#if BMB_WITH_FOLLOWING
/* A turn that is further ahead was left behind by a clock of 32 bits. */
static bool waits_for_turn(const bmb_viewer *v, const bmb_link *link)
{
    int32_t ahead = (int32_t)(v->turn_us - (uint32_t)link->x->now);
    if (!v->shared || link->kind->packets || ahead <= 0 || ahead > BMB_SHARE_MOST_US) return false;
    if (link->look_us != NULL) *link->look_us = v->turn_us | 1; /* not 0 */
    return true;
}
#endif

#if BMB_WITH_FOLLOWING
void bmb_viewer_move(bmb_viewer *v, bmb_track *to)
{
    const bmb_feed *home = bmb_viewer_feed(v);
    bmb_owner *owner = v->watcher.owner;
    bmb_track_leave(v->track, &v->watcher);
    bmb_track_join(to, &v->watcher, owner);
    v->track = to;
    v->asked = to->feed == home ? 0 : (home->number + 1u) & 0x7Fu;
    v->next = 0;
    v->state.feed = to->feed->number; /* framed: whose frames, and so which numbers */
#if BMB_WITH_REPEATS
    if (v->state.sent != NULL) *v->state.sent = (bmb_sent){ 0 }; /* numbers of another reel */
#endif
    begin_behind(v);
}
#endif

/* It is given another feed's frames from here on. true: not before what it was lent is acknowledged. */
static bool steps_over(const bmb_context *x, bmb_viewer *v, const bmb_link *link)
{
#if BMB_WITH_FOLLOWING
    if (v->next == 0) return false;
    if (v->lends && link != NULL) take_back(v, x->port->net.unacked(x->port->ctx, link->sock));
    if (v->lent[0] != NULL || v->lent[1] != NULL) return true;
    bmb_feed *now = v->track->feed, *to = now - now->number + (v->next - 1);
    v->next = 0;
    if (!to->removed && to->track[0].row == v->track->row) bmb_viewer_move(v, &to->track[0]);
#else
    (void)x, (void)v, (void)link;
#endif
    return false;
}

static void begin_frame(bmb_context *x, bmb_viewer *v, bmb_frame *frame)
{
    if (v->begun) {
        uint32_t passed = frame->seq - v->seq - 1;
        v->skipped += passed;
        v->track->feed->skipped += passed;
        if (BMB_KEEPS_ALL && v->keep_all && passed > 0) tell_behind(x, v, passed);
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

void bmb_viewer_finish_frame(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    bmb_frame *frame = v->watcher.frame;
    if (v->framer->done != NULL) v->framer->done(&v->state, v->watcher.frame, &v->cursor);
    if (link->kind->frame_ends != NULL) link->kind->frame_ends(link, frame);
    v->sent++;
    v->track->feed->sent++;
    uint64_t now = bmb_clock(x);
    v->age_ms = bmb_ms_between(frame->capture_us, now);
#if BMB_WITH_VIEWER_RATES
    bmb_rate_frame(&v->rate, now, frame->size);
#endif
    v->watcher.frame = NULL;
    if (!v->lends) {
        bmb_reel_unpin(&v->track->reel, frame);
        return;
    }
    size_t place = v->lent[0] == NULL ? 0 : 1; /* one is free, or it had not been begun */
    v->lent[place] = frame;
    v->behind[place] = 0;
}

void bmb_viewer_count_bytes(bmb_viewer *v, size_t sent)
{
    v->bytes += sent;
    for (size_t i = 0; i < BMB_LENT_MOST; i++) v->behind[i] += (uint32_t)sent;
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

bmb_cursor bmb_viewer_gather(const bmb_viewer *v, bmb_gather *g, size_t most)
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
    bmb_cursor after = bmb_viewer_gather(v, g, BMB_GATHER_PIECES);
    if (v->lends) link->lent = (bmb_slice){ v->watcher.frame->data, v->watcher.frame->size };
    bmb_err err = link->kind->send(link, g, v->taken, &sent);
    bmb_viewer_count_bytes(v, sent);
    settle(v, g, &after, v->taken + sent);
    return err;
}

/* A link that is slower than the feed is told what it carries, from time to time. */
static void follow_link(const bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    uint32_t mfps, kbps;
    if (x->now < v->tuned_us) return;
    v->tuned_us = x->now + BMB_TUNE_US;
    bmb_viewer_rate(v, x->now, &mfps, &kbps);
    if (kbps > 0 && link->kind->follow != NULL) link->kind->follow(link, kbps);
}

bmb_err bmb_viewer_finish(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    while (v->watcher.frame != NULL) {
        bmb_err err = send_some(x, v, link);
        if (err == BMB_AGAIN) {
            block(x, v);
            if (BMB_WITH_PATHS) v->tight = BMB_TIGHT;
            follow_link(x, v, link);
            return err;
        }
        if (err != BMB_OK) return BMB_GONE;
        if (v->cursor.end) bmb_viewer_finish_frame(x, v, link);
    }
    return BMB_OK;
}

/* May it lend one more frame to the link? A reel of few frames keeps one for capture and one for the newest. */
static bool may_lend(const bmb_context *x, bmb_viewer *v, const bmb_link *link)
{
    take_back(v, x->port->net.unacked(x->port->ctx, link->sock));
    size_t lent = (size_t)(v->lent[0] != NULL) + (v->lent[1] != NULL);
    return lent < BMB_LENT_MOST && (lent == 0 || v->track->reel.count > BMB_LENT_MOST);
}

/* Behind a path that is narrower than the stream no frame waits in a queue where it can only grow older: it stays in
 * the reel, where a newer one takes its place. */
static bool waits_for_path(bmb_viewer *v, const bmb_link *link)
{
#if BMB_WITH_FOLLOWING
    if (waits_for_turn(v, link)) return true;
#endif
#if BMB_WITH_PATHS
    if (v->tight == 0 || v->keep_all || link->kind->packets) return false;
    bool free = bmb_path_is_free(link);
    v->tight = (uint8_t)(free ? v->tight - 1u : BMB_TIGHT);
    return !free;
#else
    (void)v, (void)link;
    return false;
#endif
}

/* true: it is in the middle of a frame, or there was one to begin. link NULL: it is not known yet. */
bool bmb_viewer_take_frame(bmb_context *x, bmb_viewer *v, const bmb_link *link)
{
    if (v->watcher.frame != NULL) return true;
    bool lent = steps_over(x, v, link);
    v->held = lent || (link != NULL && ((v->lends && !may_lend(x, v, link)) || waits_for_path(v, link)));
    if (v->held) {
        block(x, v);
        return false;
    }
    bmb_frame *frame = choose(x, v);
    if (frame == NULL) return false;
    begin_frame(x, v, frame);
    take_turn(x, v, link, frame->size);
    return true;
}

bool bmb_viewer_prime(bmb_context *x, bmb_viewer *v)
{
    return bmb_viewer_take_frame(x, v, NULL);
}
