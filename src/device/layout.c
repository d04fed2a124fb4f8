#include "base/block.h"
#include "device/parts.h"
#include "talk/session.h"

#include <string.h>

static void lay_out_feed(bmb_block *b, const bmb_config *config, const bmb_plan *p, size_t i, bmb_feed *feed)
{
    const bmb_feed_config *c = &config->feeds[i];
    uint16_t slots = p->slots[i];
    size_t facts_size = bmb_align(bmb_codec_of(c->mode.codec)->facts_size);
    bmb_frame *frames = (bmb_frame *)bmb_block_take(b, slots * sizeof(bmb_frame));
    uint8_t *memory = c->storage == BMB_KEPT ? (uint8_t *)bmb_block_take(b, c->reel_bytes) : NULL;
    uint8_t *facts = (uint8_t *)bmb_block_take(b, slots * facts_size);
    if (feed == NULL) return;
    feed->config = feed->camera.config = c;
    feed->number = (uint16_t)i;
    feed->camera.index = p->camera[i];
    feed->camera.mode = c->mode;
    bmb_track *track = &feed->track[feed->tracks++];
    track->feed = feed;
    track->kind = "video";
    track->row = bmb_codec_of(c->mode.codec);
    if (c->storage == BMB_KEPT) {
        bmb_reel_init_kept(&track->reel, memory, c->reel_bytes, c->frame_max, frames, slots);
    } else {
        bmb_reel_init_borrowed(&track->reel, frames, slots, &config->port->cameras, p->camera[i]);
    }
    for (uint16_t k = 0; k < slots; k++) frames[k].facts = facts + k * facts_size;
}

/* Of each connection: where requests are read, and where answers are written. */
static void lay_out_buffers(bmb_block *b, const bmb_config *config, bmb_conn *conns, uint16_t count, bmb_talk *talk)
{
    uint16_t rx_room = config->request_buffer / 3, tx_room = (uint16_t)(config->request_buffer - rx_room);
    for (uint16_t i = 0; i < count; i++) {
        uint8_t *rx = (uint8_t *)bmb_block_take(b, rx_room), *tx = (uint8_t *)bmb_block_take(b, tx_room);
        if (conns == NULL) continue;
        conns[i].rx = rx;
        conns[i].tx = tx;
    }
    if (talk == NULL) return;
    talk->rx_room = rx_room;
    talk->tx_room = tx_room;
}

#if BMB_WITH_TLS
size_t bmb_secure_accepted(const bmb_config *config)
{
    size_t outlets = 0;
    for (size_t i = 0; i < config->outlet_count; i++) outlets += config->outlets[i].secure;
    return outlets > 0 ? (size_t)config->viewers + config->spare + 1 : 0; /* one is accepted before another is closed */
}

size_t bmb_secure_dialled(const bmb_config *config)
{
    size_t pushes = 0;
    for (size_t i = 0; i < config->push_count; i++) pushes += config->pushes[i].tcp && config->pushes[i].secure;
    return pushes;
}

static void *lay_out_encryption(bmb_block *b, const bmb_config *config, bmb_budget *budget)
{
    const bmb_encryption *e = &config->port->encryption;
    size_t accepted = bmb_secure_accepted(config), dialled = bmb_secure_dialled(config), each = 0;
    if (accepted + dialled == 0 || e->memory == NULL) return NULL;
    void *memory = bmb_block_take(b, e->memory(config->port->ctx, accepted, dialled, &each));
    budget->encryption = bmb_block_since(b);
    budget->per_viewer_tls = accepted > 0 ? each : 0;
    return memory;
}
#endif

bmb_device *bmb_lay_out(void *memory, const bmb_config *config, const bmb_plan *p, bmb_budget *budget)
{
    bmb_block b = bmb_block_of(memory);
    memset(budget, 0, sizeof *budget);

    bmb_device *d = (bmb_device *)bmb_block_take_zeroed(&b, 1, sizeof *d);
    bmb_outlet *outlets = (bmb_outlet *)bmb_block_take_zeroed(&b, config->outlet_count, sizeof *outlets);
#if BMB_WITH_ACCESS
    bmb_guard_memory *guard = (bmb_guard_memory *)bmb_block_take_zeroed(&b, config->access != NULL, sizeof *guard);
#endif
#if BMB_WITH_EVENTS
    bmb_moment *moments = (bmb_moment *)bmb_block_take_zeroed(&b, config->events, sizeof *moments);
#endif
    budget->device = bmb_block_since(&b);
    bmb_feed *feeds = (bmb_feed *)bmb_block_take_zeroed(&b, config->feed_count, sizeof *feeds);
    bmb_group *groups = (bmb_group *)bmb_block_take_zeroed(&b, bmb_groups_of(config), sizeof *groups);
    budget->feeds = bmb_block_since(&b);
    for (size_t i = 0; i < config->feed_count; i++) lay_out_feed(&b, config, p, i, feeds != NULL ? &feeds[i] : NULL);
    budget->reels = bmb_block_since(&b);
    uint16_t conn_most = bmb_talk_conns_of(config);
    bmb_conn *conns = (bmb_conn *)bmb_block_take_zeroed(&b, conn_most, sizeof *conns);
    bmb_session *sessions = (bmb_session *)bmb_block_take_zeroed(&b, bmb_talk_sessions_of(config), sizeof *sessions);
    size_t timer_count = (size_t)conn_most + bmb_talk_sessions_of(config);
    void *timers = bmb_block_take_zeroed(&b, timer_count, BMB_TIMER_SIZE);
    budget->viewers = bmb_block_since(&b);
    bmb_push *pushes = (bmb_push *)bmb_block_take_zeroed(&b, config->push_count, sizeof *pushes);
    budget->pushes = bmb_block_since(&b);
    lay_out_buffers(&b, config, conns, conn_most, d != NULL ? &d->talk : NULL);
    budget->request_buffers = bmb_block_since(&b);
#if BMB_WITH_TLS
    void *secrets = lay_out_encryption(&b, config, budget);
#endif

    budget->total = b.used;
    budget->per_feed = sizeof(bmb_feed);
    budget->per_viewer_http = sizeof(bmb_conn) + BMB_TIMER_SIZE;
    budget->per_viewer_tcp = budget->per_viewer_http;
    budget->per_viewer_rtsp = budget->per_viewer_http + sizeof(bmb_session) + BMB_TIMER_SIZE;
    if (d == NULL) return NULL;
    d->context = (bmb_context){ .port = config->port, .config = config, .pace_us = UINT64_MAX, .scratch = &d->scratch };
#if BMB_WITH_EVENTS
    d->context.history = (bmb_history){ .moments = moments, .next = 1, .most = config->events };
#endif
    d->feeds = (bmb_feeds){ feeds, config->feed_count };
    d->groups.groups = groups;
    d->pushes.pushes = pushes;
    d->talk.x = &d->context;
    d->talk.feeds = &d->feeds;
    d->talk.groups = &d->groups.service;
    d->talk.figures = &d->figures;
    d->talk.outlets = outlets;
#if BMB_WITH_TLS
    d->secrets = secrets;
#endif
    d->talk.conns = conns;
    d->talk.sessions = sessions;
    bmb_talk_prepare(&d->talk, config, timers);
#if BMB_WITH_ACCESS
    if (config->access != NULL) {
        d->talk.guard.seen = guard->seen;
        d->talk.guard.failing = guard->failing;
        d->talk.guard.sign_ins = guard->sign_ins;
        d->talk.guard.links = guard->links;
    }
#endif
    if (BMB_WITH_STATUS || BMB_WITH_FRAMED) d->figures.row = bmb_figures_row;
    return d;
}
