#include "device/follow.h"

#include <string.h>

#include "device/contract.h"
#include "flow/follow.h"

#if BMB_WITH_FOLLOWING

bmb_err bmb_follow_check(const bmb_config *config, size_t index, bmb_fault *fault)
{
    const bmb_feed_config *f = &config->feeds[index], *to = NULL;
    if (f->follow > BMB_FOLLOW_SLOWEST)
        return bmb_blame(fault, BMB_BAD_ARG, "feed", "follow", f->name, (int64_t)f->follow, BMB_FOLLOW_SLOWEST);
    if (f->step == NULL) return BMB_OK;
    for (size_t i = 0; i < config->feed_count; i++)
        if (i != index && strcmp(config->feeds[i].name, f->step) == 0) to = &config->feeds[i];
    if (to == NULL) return bmb_blame(fault, BMB_NOT_FOUND, "feed", "step", f->name, 0, 0);
    return to->mode.codec == f->mode.codec ? BMB_OK : bmb_blame(fault, BMB_UNSUPPORTED, "feed", "step", f->name, 0, 0);
}

/* Whoever is sent something: members of a group are not, their group is; and stills are over at once. */
static bool sends(const bmb_watcher *w)
{
    return w->owner->describe != NULL && w->owner->frame_there != NULL &&
           !bmb_viewer_of((bmb_watcher *)(uintptr_t)w)->once;
}

/* With what is wrapped around it. */
static uint32_t demand_of(const bmb_device *d, const bmb_viewer *v)
{
    uint32_t kbps = bmb_track_kbps(&d->context, v->track);
    return kbps + kbps / 32;
}

/* Of its demand, what is kept for it. */
static uint32_t reserved_for(const bmb_device *d, const bmb_viewer *v, uint32_t demand)
{
    for (size_t i = 0; BMB_WITH_PUSH && i < d->pushes.count; i++) {
        const bmb_push *p = &d->pushes.pushes[i];
        if (p->config == NULL || p->config->reserve_kbps == 0 || bmb_push_viewer(p) != v) continue;
        return p->config->reserve_kbps < demand ? p->config->reserve_kbps : demand;
    }
    return 0;
}

/* What goes out if nobody gets more than `level` beyond what is kept for him; *over: how many want more. */
static uint64_t used_at(const bmb_device *d, uint32_t level, uint64_t *reserved, uint32_t *over)
{
    uint64_t used = 0;
    size_t at = 0;
    *over = 0;
    *reserved = 0;
    for (bmb_watcher *w = bmb_feeds_next(&d->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(&d->feeds, &at, w)) {
        if (!sends(w)) continue;
        uint32_t demand = demand_of(d, bmb_viewer_of(w)), kept = reserved_for(d, bmb_viewer_of(w), demand);
        uint32_t rest = demand - kept;
        *reserved += kept;
        *over += rest > level;
        used += rest > level ? level : rest;
    }
    return used;
}

/* Max-min fair: who needs less than an even share leaves the rest to the others. */
void bmb_follow_share(bmb_device *d)
{
    uint32_t uplink = d->context.config->uplink_kbps, over, level = UINT32_MAX;
    uint64_t reserved, used;
    size_t at = 0;
    if (uplink == 0) return;
    used = used_at(d, level, &reserved, &over);
    uint64_t pool = uplink > reserved ? uplink - reserved : 0;
    if (used > pool) {
        level = 0;
        for (unsigned i = 0; i < BMB_SHARE_ROUNDS; i++) { /* each leaves less of the rest */
            used = used_at(d, level, &reserved, &over);
            if (over == 0 || used + over > pool) break;
            level += (uint32_t)((pool - used) / over);
        }
    }
    d->level_kbps = level == UINT32_MAX ? 0 : level > 0 ? level : 1;
    for (bmb_watcher *w = bmb_feeds_next(&d->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(&d->feeds, &at, w)) {
        if (!sends(w)) continue;
        bmb_viewer *v = bmb_viewer_of(w);
        uint32_t demand = demand_of(d, v), kept = reserved_for(d, v, demand);
        bool fits = d->level_kbps == 0 || demand - kept <= d->level_kbps;
        bmb_viewer_share(v, fits ? 0 : kept + d->level_kbps);
    }
}

static void step(bmb_device *d, bmb_viewer *v, const bmb_viewer_stats *now, bmb_feed *to, bmb_advice turn)
{
    bmb_viewer_step(v, to);
    bmb_follow_done(&v->follower, turn);
    bmb_tell(&d->context, &(bmb_event){ .code = BMB_EVENT_STEPPED,
                                        .feed = bmb_viewer_feed(v)->config->name,
                                        .peer = now->peer.family != 0 ? &now->peer : NULL,
                                        .text = to->config->name,
                                        .value = turn == BMB_DOWN,
                                        .extra = now->carries_kbps });
}

/* The first step below that the link is seen to carry, or the last one. */
static bmb_feed *step_down(const bmb_device *d, const bmb_feed *from, uint32_t carries)
{
    bmb_feed *to = bmb_feed_step(&d->feeds, from);
    for (size_t i = 0; to != NULL && carries > 0 && i < d->feeds.count; i++) {
        bmb_feed *next = bmb_feed_step(&d->feeds, to);
        uint32_t kbps = bmb_track_kbps(&d->context, &to->track[0]);
        if (next == NULL || (uint64_t)kbps * 100 <= (uint64_t)carries * BMB_FOLLOW_SHARE) break;
        to = next;
    }
    return to;
}

/* The one above it, of those of `home`. */
static bmb_feed *step_up(const bmb_device *d, bmb_feed *home, const bmb_feed *from)
{
    bmb_feed *to = home;
    for (size_t i = 0; i < d->feeds.count; i++) {
        bmb_feed *next = bmb_feed_step(&d->feeds, to);
        if (next == NULL || next == from) break;
        to = next;
    }
    return to;
}

/* Is it seen beforehand that more does not go? In the end it is tried. */
static bool is_vain(const bmb_device *d, const bmb_viewer *v, const bmb_viewer_stats *now, const bmb_feed *to)
{
    uint32_t kbps = bmb_track_kbps(&d->context, &to->track[0]);
    if (kbps == 0) kbps = bmb_feed_set_kbps(&d->context, to);
    if (d->level_kbps > 0 && kbps > d->level_kbps) return true;
    return v->follower.calm < BMB_FOLLOW_CALM_MOST && now->carries_kbps > 0 && now->carries_kbps < kbps;
}

static void widen(uint32_t kbps, uint32_t *least, uint32_t *most)
{
    if (*least == 0 || kbps < *least) *least = kbps;
    if (kbps > *most) *most = kbps;
}

void bmb_follow_viewer(bmb_device *d, bmb_viewer *v, const bmb_viewer_stats *now, bmb_following *sum)
{
    bool held = bmb_viewer_is_held(v, now);
    const bmb_feed *from = v->track->feed;
    if (v->once) return;
    if (bmb_viewer_may_step(v)) {
        bmb_advice turn = bmb_follow_look(&v->follower, held);
        bmb_feed *down = bmb_feed_step(&d->feeds, from);
        if (turn == BMB_DOWN && down != NULL) {
            step(d, v, now, step_down(d, from, now->carries_kbps), turn);
        } else if (turn == BMB_UP && v->asked != 0) {
            bmb_feed *up = step_up(d, bmb_viewer_feed(v), from);
            if (!is_vain(d, v, now, up)) step(d, v, now, up, turn);
        }
        if (down != NULL) return;
    }
    sum->viewers++;
    if (now->carries_kbps > 0) widen(now->carries_kbps, &sum->least, &sum->most);
    if (!held) return;
    sum->held++;
    widen(now->carries_kbps > 0 ? now->carries_kbps : now->kbps, &sum->narrowest, &sum->widest);
}

/* How many of them have to be held until it goes down: one, or more than half. */
static bool is_held(const bmb_feed *feed, const bmb_following *sum)
{
    return feed->config->follow == BMB_FOLLOW_SLOWEST ? sum->held > 0 : sum->held > sum->viewers / 2;
}

void bmb_follow_feed(bmb_device *d, bmb_feed *feed, const bmb_following *sum)
{
    bmb_context *x = &d->context;
    uint32_t follows = feed->camera.follows_kbps;
    if (feed->config->follow == BMB_FOLLOW_NOBODY && follows == 0) return;
    uint32_t set = bmb_feed_set_kbps(x, feed), now = follows > 0 ? follows : set;
    if (set == 0 || feed->camera.state != BMB_CAMERA_RUNNING) return;
    if (feed->config->follow == BMB_FOLLOW_NOBODY || sum->viewers == 0) { /* who comes next gets it as it is set */
        if (follows > 0) bmb_feed_follow(x, feed, set);
        feed->follower = (bmb_follower){ 0 };
        return;
    }
    bool slowest = feed->config->follow == BMB_FOLLOW_SLOWEST;
    bmb_advice turn = bmb_follow_look(&feed->follower, is_held(feed, sum));
    if (turn == BMB_DOWN) {
        uint32_t carries = slowest ? sum->narrowest : sum->widest;
        uint32_t least = bmb_feed_follow_least(feed, set), to = (uint32_t)((uint64_t)carries * BMB_FOLLOW_SHARE / 100);
        if (to > now * BMB_FOLLOW_SHARE / 100) to = now * BMB_FOLLOW_SHARE / 100;
        if (to < least) to = least;
        if (to >= now) return;
        bmb_feed_follow(x, feed, to);
    } else if (turn == BMB_UP && follows > 0) {
        uint32_t to = now + now / 4, known = slowest ? sum->least : sum->most;
        bool vain = known > 0 && (uint64_t)known * BMB_FOLLOW_SHARE < (uint64_t)to * 100;
        if (vain && feed->follower.calm < BMB_FOLLOW_CALM_MOST) return;
        bmb_feed_follow(x, feed, to);
    } else {
        return;
    }
    bmb_follow_done(&feed->follower, turn);
}

static bmb_watcher *next_given(const bmb_device *d, const bmb_feed *feed)
{
    size_t at = 0;
    for (bmb_watcher *w = bmb_feeds_next(&d->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(&d->feeds, &at, w)) {
        if (w->owner->describe == NULL) continue;
        const bmb_viewer *v = bmb_viewer_of(w);
        if (v->asked != 0 && (v->track->feed == feed || bmb_viewer_feed(v) == feed)) return w;
    }
    return NULL;
}

void bmb_follow_release(bmb_device *d, const bmb_feed *feed)
{
    for (bmb_watcher *w; (w = next_given(d, feed)) != NULL;) {
        bmb_viewer *v = bmb_viewer_of(w);
        bmb_track *home = &bmb_viewer_feed(v)->track[0];
        /* What is under way cannot be taken back, but over a path that takes packets. */
        if (v->watcher.frame != NULL || v->lent[0] != NULL || v->lent[1] != NULL) w->owner->put_out(w->owner, w);
        if (v->framer != NULL && v->asked != 0 && v->watcher.frame == NULL) bmb_viewer_move(v, home);
    }
}

#endif
