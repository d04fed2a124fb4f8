#include "base/block.h"
#include "device/parts.h"
#include "talk/session.h"

#include <string.h>

BMB_FOR_CHANGES void bmb_lay_out_feed(bmb_block *b, const bmb_config *config, const bmb_plan *p, size_t i,
                                      bmb_feed *feed)
{
    const bmb_feed_config *c = &config->feeds[i];
    uint16_t slots = p->slots[i];
    const bmb_codec_row *row = bmb_codec_of(c->mode.codec);
    size_t facts_size = bmb_align(row->facts_size);
    bmb_frame *frames = (bmb_frame *)bmb_block_take(b, slots * sizeof(bmb_frame));
    uint8_t *memory = c->storage == BMB_KEPT ? (uint8_t *)bmb_block_take(b, c->reel_bytes) : NULL;
    uint8_t *facts = (uint8_t *)bmb_block_take(b, slots * facts_size);
    if (feed == NULL) return;
    feed->config = feed->camera.config = c;
    feed->number = (uint16_t)i;
    feed->camera.index = p->camera[i];
    feed->camera.mode = c->mode;
    feed->tracks = 1;
    bmb_track *track = &feed->track[0];
    track->feed = feed;
    track->kind = "video";
    track->row = row;
    if (c->storage == BMB_KEPT) {
        bmb_reel_init_kept(&track->reel, memory, c->reel_bytes, c->frame_max, frames, slots);
    } else {
        bmb_reel_init_borrowed(&track->reel, frames, slots, &config->port->cameras, p->camera[i]);
    }
    for (uint16_t k = 0; k < slots; k++) frames[k].facts = facts + k * facts_size;
}

#if BMB_WITH_CHANGES
size_t bmb_feed_piece(const bmb_config *config, const bmb_plan *p, size_t i)
{
    bmb_block b = { 0 };
    bmb_lay_out_feed(&b, config, p, i, NULL);
    return b.used;
}

/* The memory of all feeds is one, of which each has a piece, so that one that grows can move. */
static bmb_pieces *lay_out_pieces(bmb_block *b, const bmb_config *config, const bmb_plan *p, bmb_feed *feeds,
                                  bmb_budget *budget)
{
    size_t used = 0, size = bmb_align(config->reserve.bytes);
    for (size_t i = 0; i < config->feed_count; i++) size = bmb_add(size, bmb_feed_piece(config, p, i));
    bmb_pieces *pieces = (bmb_pieces *)bmb_block_take_zeroed(b, 1, sizeof *pieces);
    bmb_piece *of = (bmb_piece *)bmb_block_take_zeroed(b, config->feed_count + config->reserve.feeds, sizeof *of);
    budget->reserve = bmb_block_since(b) + bmb_align(config->reserve.bytes);
    uint8_t *memory = (uint8_t *)bmb_block_take(b, size);
    budget->reels = bmb_block_since(b) - bmb_align(config->reserve.bytes);
    if (memory == NULL) return NULL;
    *pieces = (bmb_pieces){ memory, size, of };
    for (size_t i = 0; i < config->feed_count; i++) {
        bmb_block piece = { .base = memory + used };
        bmb_lay_out_feed(&piece, config, p, i, &feeds[i]);
        of[i] = (bmb_piece){ memory + used, piece.used };
        used += piece.used;
    }
    return pieces;
}

/* The device's own copies of the rows that may change, with the places that are still free. */
static const bmb_config *copy_config(bmb_block *b, const bmb_config *config)
{
    const bmb_reserve *more = &config->reserve;
    size_t feeds = config->feed_count + more->feeds, outlets = config->outlet_count + more->outlets,
           pushes = config->push_count + more->pushes;
    bmb_config *own = (bmb_config *)bmb_block_take_zeroed(b, 1, sizeof *own);
    bmb_feed_config *f = (bmb_feed_config *)bmb_block_take_zeroed(b, feeds, sizeof *f);
    bmb_outlet_config *o = (bmb_outlet_config *)bmb_block_take_zeroed(b, outlets, sizeof *o);
    bmb_push_config *q = (bmb_push_config *)bmb_block_take_zeroed(b, pushes, sizeof *q);
    if (own == NULL) return NULL;
    *own = *config;
    for (size_t i = 0; i < config->feed_count; i++) f[i] = config->feeds[i];
    for (size_t i = config->feed_count; i < feeds; i++) f[i].name = "";
    for (size_t i = 0; i < config->outlet_count; i++) o[i] = config->outlets[i];
    for (size_t i = 0; i < config->push_count; i++) q[i] = config->pushes[i];
    own->feeds = f;
    own->outlets = o;
    own->pushes = q;
    own->feed_count = feeds;
    own->outlet_count = outlets;
    own->push_count = pushes;
    return own;
}
#endif

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

bmb_device *bmb_lay_out(void *memory, const bmb_config *config, bmb_plan *p, bmb_budget *budget)
{
    bmb_block b = bmb_block_of(memory);
    memset(budget, 0, sizeof *budget);
    const bmb_reserve *more = &config->reserve;
    const bool changes = BMB_WITH_CHANGES && bmb_reserves(config);

    bmb_device *d = (bmb_device *)bmb_block_take_zeroed(&b, 1, sizeof *d);
    bmb_outlet *outlets =
        (bmb_outlet *)bmb_block_take_zeroed(&b, config->outlet_count + (changes ? more->outlets : 0), sizeof *outlets);
#if BMB_WITH_ACCESS
    bmb_guard_memory *guard = (bmb_guard_memory *)bmb_block_take_zeroed(&b, config->access != NULL, sizeof *guard);
#endif
#if BMB_WITH_EVENTS
    bmb_moment *moments = (bmb_moment *)bmb_block_take_zeroed(&b, config->events, sizeof *moments);
#endif
    budget->device = bmb_block_since(&b);
    size_t feed_count = config->feed_count + (changes ? more->feeds : 0);
    bmb_feed *feeds = (bmb_feed *)bmb_block_take_zeroed(&b, feed_count, sizeof *feeds);
    bmb_group *groups = (bmb_group *)bmb_block_take_zeroed(&b, bmb_groups_of(config), sizeof *groups);
#if BMB_WITH_PARITY
    uint8_t *parity = (uint8_t *)bmb_block_take_zeroed(&b, bmb_groups_parity(config), config->rtp_packet);
#endif
    budget->feeds = bmb_block_since(&b);
    const bmb_config *running = config;
#if BMB_WITH_CHANGES
    bmb_pieces *pieces = NULL;
    if (changes) {
        pieces = lay_out_pieces(&b, config, p, feeds, budget);
        running = copy_config(&b, config);
        budget->reserve += bmb_block_since(&b);
    }
#endif
    if (!changes) {
        for (size_t i = 0; i < feed_count; i++) bmb_lay_out_feed(&b, config, p, i, feeds != NULL ? &feeds[i] : NULL);
        budget->reels = bmb_block_since(&b);
    }
    uint16_t conn_most = bmb_talk_conns_of(config);
    bmb_conn *conns = (bmb_conn *)bmb_block_take_zeroed(&b, conn_most, sizeof *conns);
    bmb_session *sessions = (bmb_session *)bmb_block_take_zeroed(&b, bmb_talk_sessions_of(config), sizeof *sessions);
#if BMB_WITH_REPEATS
    bmb_repeats *repeats =
        (bmb_repeats *)bmb_block_take_zeroed(&b, config->repeats ? bmb_talk_sessions_of(config) : 0, sizeof *repeats);
#endif
    size_t timer_count = (size_t)conn_most + bmb_talk_sessions_of(config);
    void *timers = bmb_block_take_zeroed(&b, timer_count, BMB_TIMER_SIZE);
    budget->viewers = bmb_block_since(&b);
    bmb_push *pushes =
        (bmb_push *)bmb_block_take_zeroed(&b, config->push_count + (changes ? more->pushes : 0), sizeof *pushes);
    budget->pushes = bmb_block_since(&b);
    lay_out_buffers(&b, config, conns, conn_most, d != NULL ? &d->talk : NULL);
#if BMB_WITH_SERVICE
    bmb_body_place *body = (bmb_body_place *)bmb_block_take_zeroed(
        &b, config->service != NULL, bmb_add(sizeof *body, config->service != NULL ? config->service->body_most : 0));
    if (d != NULL) d->talk.body = body;
#endif
    budget->request_buffers = bmb_block_since(&b);
#if BMB_WITH_TLS
    void *secrets = lay_out_encryption(&b, config, budget);
#endif

    budget->total = b.used;
    budget->per_feed = sizeof(bmb_feed);
    budget->per_viewer_http = sizeof(bmb_conn) + BMB_TIMER_SIZE;
    budget->per_viewer_tcp = budget->per_viewer_http;
    budget->per_viewer_rtsp = budget->per_viewer_http + sizeof(bmb_session) + BMB_TIMER_SIZE;
#if BMB_WITH_REPEATS
    if (config->repeats) budget->per_viewer_rtsp += sizeof(bmb_repeats);
#endif
    if (d == NULL) return NULL;
#if BMB_WITH_CHANGES
    d->pieces = pieces;
    for (size_t i = 0; changes && i < feed_count; i++) {
        feeds[i].config = feeds[i].camera.config = &running->feeds[i];
        feeds[i].number = (uint16_t)i;
        feeds[i].removed = i >= config->feed_count;
        if (feeds[i].removed) feeds[i].camera.index = SIZE_MAX;
    }
#endif
    d->context =
        (bmb_context){ .port = config->port, .config = running, .pace_us = UINT64_MAX, .scratch = &d->scratch };
#if BMB_WITH_EVENTS
    d->context.history = (bmb_history){ .moments = moments, .next = 1, .most = config->events };
#endif
    d->feeds = (bmb_feeds){ feeds, feed_count };
    d->groups.groups = groups;
#if BMB_WITH_PARITY
    bmb_groups_lend_parity(config, groups, parity);
#endif
    d->pushes.pushes = pushes;
    d->talk.x = &d->context;
    d->talk.feeds = &d->feeds;
    d->talk.groups = &d->groups.service;
    d->talk.figures = &d->figures;
    d->talk.outlets = outlets;
#if BMB_WITH_TLS
    p->secrets = secrets;
#endif
    d->talk.conns = conns;
    d->talk.sessions = sessions;
#if BMB_WITH_REPEATS
    if (config->repeats) d->talk.repeats = repeats;
#endif
    bmb_talk_prepare(&d->talk, running, timers);
#if BMB_WITH_ACCESS
    d->talk.guard.kept = config->access != NULL ? guard : NULL;
#endif
    if (BMB_WITH_STATUS || BMB_WITH_FRAMED) d->figures.row = bmb_figures_row;
    return d;
}
