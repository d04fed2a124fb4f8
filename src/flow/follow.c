#include "flow/follow.h"

#include "base/bounds.h"

#if BMB_WITH_FOLLOWING

bool bmb_viewer_is_held(const bmb_viewer *v, const bmb_viewer_stats *now)
{
    switch (now->held_by.cause) {
    case BMB_CAUSE_LINK:
    case BMB_CAUSE_READER:
    case BMB_CAUSE_LIMIT:
        return true;
    case BMB_CAUSE_LOSS: /* not where some of everything is lost, whatever is sent */
        return v->carry_kbps > 0;
    default: /* in order, so that all frames come, but late */
        return now->waiting && now->age_ms > BMB_FOLLOW_LATE_MS;
    }
}

bool bmb_viewer_may_step(const bmb_viewer *v)
{
    return !v->fixed && (v->asked != 0 || v->track->feed->config->step != NULL);
}

void bmb_viewer_step(bmb_viewer *v, const bmb_feed *to)
{
    v->next = (to->number + 1u) & 0x7Fu;
}

void bmb_viewer_share(bmb_viewer *v, uint32_t kbps)
{
    if (kbps == 0 && v->shared) {
        v->carry_kbps = 0;
        v->shared = false;
    } else if (kbps > 0 && (v->shared || v->carry_kbps == 0 || v->carry_kbps > kbps)) {
        v->carry_kbps = kbps;
        v->shared = true;
    }
}

#endif
