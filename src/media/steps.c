/* A feed's step, and its bit rate while that follows a link. */
#include "media/feed.h"

#if BMB_WITH_FOLLOWING

uint32_t bmb_feed_set_kbps(const bmb_context *x, const bmb_feed *feed)
{
    int32_t kbps = 0;
    if (feed->track[0].row->steered) return feed->config->kbps;
    return bmb_camera_get(x, &feed->camera, BMB_CONTROL_KBPS, &kbps) == BMB_OK && kbps > 0 ? (uint32_t)kbps : 0;
}

void bmb_feed_follow(bmb_context *x, bmb_feed *feed, uint32_t kbps)
{
    bmb_camera *c = &feed->camera;
    uint32_t set = bmb_feed_set_kbps(x, feed);
    int32_t effective = 0;
    if (kbps > set) kbps = set;
    if (feed->track[0].row->steered) {
        feed->governor.kbps = kbps;
    } else if (c->lent || bmb_camera_set(x, c, BMB_CONTROL_KBPS, (int32_t)kbps, &effective) != BMB_OK) {
        return;
    } else { /* it may have chosen another one */
        if (effective > 0) kbps = (uint32_t)effective;
        c->set_kbps = kbps < set ? (int32_t)set : 0;
    }
    c->follows_kbps = kbps < set ? kbps : 0;
    bmb_camera_tell(x, c, BMB_EVENT_FOLLOWED, BMB_OK, kbps, set);
}

bmb_feed *bmb_feed_step(const bmb_feeds *feeds, const bmb_feed *feed)
{
    const char *name = feed->config->step;
    bmb_feed *to = name != NULL ? bmb_feeds_named(feeds, name) : NULL;
    return to != NULL && to != feed && to->track[0].row == feed->track[0].row ? to : NULL;
}

uint32_t bmb_feed_follow_least(const bmb_feed *feed, uint32_t set)
{
    uint32_t least = feed->config->follow_kbps > 0 ? feed->config->follow_kbps : set / BMB_FOLLOW_LEAST;
    return least > BMB_FOLLOW_LEAST_KBPS ? least : BMB_FOLLOW_LEAST_KBPS;
}

uint32_t bmb_feed_least_kbps(const bmb_context *x, const bmb_feeds *feeds, const bmb_feed *feed)
{
    for (size_t i = 0; i < feeds->count; i++) { /* no more steps than feeds */
        const bmb_feed *step = bmb_feed_step(feeds, feed);
        if (step == NULL) break;
        feed = step;
    }
    const bmb_track *t = &feed->track[0];
    uint32_t mfps, kbps, set = bmb_feed_set_kbps(x, feed);
    bmb_rate_read(&t->rate, x->now, &mfps, &kbps);
    if (kbps == 0) kbps = set;
    if (!t->row->in_order) /* fewer pictures are still pictures */
        return mfps > BMB_SHARE_LEAST_MFPS ? (uint32_t)((uint64_t)kbps * BMB_SHARE_LEAST_MFPS / mfps) : kbps;
    uint32_t least = feed->config->follow != BMB_FOLLOW_NOBODY ? bmb_feed_follow_least(feed, set) : kbps;
    return least < kbps ? least : kbps;
}

#endif
