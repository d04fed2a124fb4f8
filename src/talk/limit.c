/* Is there a place for one more viewer, and may this host have it? */
#include "talk/conn.h"

/* Of one host, by whatever way. */
static unsigned viewers_of(const bmb_talk *t, const bmb_addr *who)
{
    unsigned n = 0;
    size_t at = 0;
    bmb_viewer_stats stats;
    for (bmb_watcher *w = bmb_feeds_next(t->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(t->feeds, &at, w)) {
        if (w->owner->describe == NULL || !bmb_viewer_of(w)->counted) continue;
        w->owner->describe(w->owner, w, &stats);
        n += bmb_same_host(&stats.peer, who);
    }
    return n;
}

/* Programs on the device itself are its owner's. */
static bool host_has_enough(const bmb_talk *t, const bmb_addr *who, uint16_t now)
{
    const bmb_config *config = t->x->config;
    uint16_t most = config->host_viewers > 0 ? config->host_viewers : (uint16_t)(config->viewers - config->viewers / 4);
    return now >= most && !bmb_is_loopback(who) && viewers_of(t, who) >= most;
}

bool bmb_talk_administers(const bmb_talk *t, uint16_t account)
{
#if BMB_WITH_ACCESS
    const bmb_who who = { .account = account };
    return account != 0 && bmb_guard_role(&t->guard, &who) == BMB_ROLE_ADMINISTER;
#else
    (void)t, (void)account;
    return false;
#endif
}

#if BMB_WITH_FOLLOWING
bool bmb_talk_fits_uplink(bmb_talk *t, const bmb_feed *feed, const bmb_addr *who)
{
    const bmb_config *config = t->x->config;
    uint64_t needed = bmb_feed_least_kbps(t->x, t->feeds, feed);
    size_t at = 0;
    if (config->uplink_kbps == 0) return true;
    for (size_t i = 0; i < config->push_count; i++) needed += config->pushes[i].reserve_kbps;
    for (bmb_watcher *w = bmb_feeds_next(t->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(t->feeds, &at, w))
        if (w->owner->describe != NULL && w->owner->frame_there != NULL && !bmb_viewer_of(w)->once)
            needed += bmb_feed_least_kbps(t->x, t->feeds, bmb_viewer_feed(bmb_viewer_of(w)));
    if (needed <= config->uplink_kbps) return true;
    t->refused++;
    bmb_viewer_tell(t->x, feed, who, BMB_EVENT_UPLINK_FULL, (int64_t)needed, config->uplink_kbps);
    return false;
}
#endif

bool bmb_talk_has_place(bmb_talk *t, const bmb_feed *feed, const bmb_addr *who, uint16_t account)
{
    uint16_t most = t->x->config->viewers, now = bmb_feeds_viewers(t->feeds);
    if (bmb_talk_administers(t, account) && now <= most) return true;
    if (now < most && !(BMB_WITH_ACCESS && host_has_enough(t, who, now))) return true;
    t->refused++;
    bmb_viewer_tell(t->x, feed, who, BMB_EVENT_VIEWER_REFUSED, now < most ? now : most, 0);
    return false;
}
