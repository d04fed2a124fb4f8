#include "base/history.h"

#include <string.h>

static uint16_t feed_of(const bmb_config *config, const char *name)
{
    for (size_t i = 0; name != NULL && i < config->feed_count; i++)
        if (config->feeds[i].name == name || strcmp(config->feeds[i].name, name) == 0) return (uint16_t)i;
    return BMB_NO_FEED;
}

void bmb_history_note(bmb_history *h, const bmb_config *config, uint64_t now_us, const bmb_event *event)
{
    if (h->most == 0 || event->code == BMB_EVENT_REPORT) return; /* that one comes each second */
    bmb_moment *m = &h->moments[h->next % h->most];
    h->next++;
    *m = (bmb_moment){ .at_us = now_us,
                       .value = event->value,
                       .extra = event->extra,
                       .feed = feed_of(config, event->feed),
                       .code = (uint8_t)event->code,
                       .level = (uint8_t)event->level,
                       .err = (uint8_t)event->err };
    if (event->peer != NULL) m->peer = *event->peer;
    for (size_t i = 0; event->text != NULL && event->text[i] != '\0' && i < sizeof m->text - 1; i++)
        m->text[i] = event->text[i];
}

const bmb_moment *bmb_history_from(const bmb_history *h, uint32_t *number)
{
    uint32_t kept = h->next - 1 < h->most ? h->next - 1 : h->most, oldest = h->next - kept;
    if (kept == 0 || *number >= h->next) return NULL;
    if (*number < oldest) *number = oldest;
    return &h->moments[*number % h->most];
}

void bmb_history_forget(bmb_history *h, uint16_t feed)
{
    for (uint16_t i = 0; i < h->most; i++)
        if (h->moments[i].feed == feed) h->moments[i].feed = BMB_NO_FEED;
}
