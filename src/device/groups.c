#include "device/parts.h"

/* Groups that are sent whether somebody asks or not; and those that are not, since not everybody may see the feed. */
void bmb_lease_groups(bmb_device *d)
{
    for (size_t i = 0; i < d->feeds.count; i++) {
        bmb_feed *feed = &d->feeds.feed[i];
        const bmb_multicast *m = &feed->config->multicast;
        if (feed->removed || m->group.family == 0) continue;
        if (!bmb_talk_may_group(&d->talk, feed)) {
            bmb_groups_feed_gone(&d->groups, feed);
            bmb_tell_of(&d->context, feed->config->name, &m->group, BMB_EVENT_GROUP_WITHHELD, 0, 0);
        } else if (m->always) {
            d->talk.groups->lease(d->talk.groups, feed, UINT64_MAX);
        } else {
            bmb_groups_not_always(&d->groups, feed);
        }
    }
}
