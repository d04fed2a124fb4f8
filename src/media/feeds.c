/* All feeds of a device: which one is meant, and who watches any. */
#include <string.h>

#include "media/feed.h"

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

bmb_watcher *bmb_feeds_next(const bmb_feeds *feeds, size_t *at, const bmb_watcher *after)
{
    bmb_watcher *next = after != NULL ? after->next : NULL;
    for (; next == NULL && *at < feeds->count * BMB_TRACKS_MOST; ++*at) /* each track's list from its beginning */
        next = feeds->feed[*at / BMB_TRACKS_MOST].track[*at % BMB_TRACKS_MOST].first;
    return next;
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
