#include "send/group.h"

#include <stddef.h>

static bmb_group_set *set_of(const bmb_groups *service)
{
    return (bmb_group_set *)(uintptr_t)service; /* its first member */
}

static bmb_group *group_of(const bmb_group_set *set, const bmb_feed *feed)
{
    return feed->group != 0 ? &set->groups[feed->group - 1] : NULL;
}

static const bmb_addr *address_of(const bmb_group *g)
{
    return &g->feed->config->multicast.group;
}

static bmb_addr rtcp_of(const bmb_group *g)
{
    bmb_addr to = *address_of(g);
    to.port++;
    return to;
}

static bmb_err open_group(const bmb_group_set *set, bmb_group *g)
{
    bmb_context *x = set->x;
    const bmb_addr any = { .family = address_of(g)->family };
    const bmb_udp_options options = { .ttl = g->feed->config->multicast.ttl };
    bmb_addr bound;
    if (x->port->net.udp_open == NULL) return BMB_UNSUPPORTED;
    bmb_err err = x->port->net.udp_open(x->port->ctx, &any, &options, &g->sock, &bound);
    if (err != BMB_OK) return err;
    bmb_rtp_start_stream(x, bmb_feed_video(g->feed), &g->viewer.state);
#if BMB_WITH_PARITY
    if (g->parity.of > 0) /* so that its packets are no larger than others */
        g->viewer.state.payload_max = (uint16_t)(x->config->rtp_packet - (BMB_PARITY_HEAD - BMB_RTP_HEADER));
#endif
    return BMB_OK;
}

static void begin_sending(bmb_group_set *set, bmb_group *g)
{
    const bmb_viewing how = {
        .owner = &set->owner, .tally = set->tally, .framer = bmb_rtp_framer(bmb_feed_video(g->feed)), .fixed = true
    }; /* as its description says, for all */
    bmb_viewer_begin(set->x, &g->viewer, bmb_feed_video(g->feed), &how);
    g->report_us = 0;
    bmb_viewer_tell(set->x, g->feed, address_of(g), BMB_EVENT_MULTICAST_STARTED, 0, 0);
}

static void stop_sending(const bmb_group_set *set, bmb_group *g)
{
    uint64_t sent = g->viewer.sent;
    bmb_rtp_pause(set->x, &g->viewer);
    bmb_viewer_tell(set->x, g->feed, address_of(g), BMB_EVENT_MULTICAST_STOPPED, 0, (int64_t)sent);
}

static bmb_err join(bmb_groups *service, bmb_feed *feed, bool holds)
{
    bmb_group_set *set = set_of(service);
    bmb_group *g = group_of(set, feed);
    if (g->holders == 0) {
        bmb_err err = open_group(set, g);
        if (err != BMB_OK) return err;
    }
    if (!holds) g->holders++;
    if (g->members++ == 0) begin_sending(set, g);
    return BMB_OK;
}

static void leave(bmb_groups *service, bmb_feed *feed)
{
    bmb_group *g = group_of(set_of(service), feed);
    if (--g->members == 0) stop_sending(set_of(service), g);
}

static void let_go(bmb_groups *service, bmb_feed *feed)
{
    const bmb_group_set *set = set_of(service);
    bmb_group *g = group_of(set, feed);
    const bmb_addr rtcp = rtcp_of(g);
    if (--g->holders > 0) return;
    if (g->viewer.state.packets > 0) bmb_rtp_send_report(set->x, &g->viewer, true, g->sock, &rtcp);
    bmb_sock_close(set->x, g->sock);
}

static void lease(bmb_groups *service, bmb_feed *feed, uint64_t until_us)
{
    bmb_group *g = group_of(set_of(service), feed);
    if (g->lease_us == 0 && join(service, feed, false) != BMB_OK) return;
    if (until_us > g->lease_us) g->lease_us = until_us;
}

static const bmb_viewer *sender(const bmb_groups *service, const bmb_feed *feed)
{
    const bmb_group *g = group_of(set_of(service), feed);
    return g != NULL ? &g->viewer : NULL;
}

static void pump(const bmb_group_set *set, bmb_group *g)
{
    const bmb_addr rtcp = rtcp_of(g);
    bmb_rtp_way way = { .rtp = g->sock, .rtcp = g->sock, .to = address_of(g), .rtcp_to = &rtcp };
#if BMB_WITH_PARITY
    if (g->parity.of > 0) way.parity = &g->parity;
#endif
    (void)bmb_rtp_pump(set->x, &g->viewer, &way, &g->report_us);
}

static bmb_group *group_at(bmb_watcher *w)
{
    return (bmb_group *)(void *)((uint8_t *)w - offsetof(bmb_group, viewer));
}

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    pump((bmb_group_set *)owner->room, group_at(w));
}

static void put_out(bmb_owner *owner, bmb_watcher *w)
{
    (void)owner;
    bmb_viewer_abandon(&group_at(w)->viewer);
}

/* None of them takes a viewer's place: nobody asks. */
static void describe(bmb_owner *owner, bmb_watcher *w, bmb_viewer_stats *out)
{
    (void)owner, (void)w, (void)out;
}

static void feed_gone(bmb_owner *owner, bmb_watcher *w)
{
    (void)owner;
    (void)w; /* it ends with the last one that holds it */
}

/* Groups that feeds may get while it runs. */
static size_t reserved(const bmb_config *config)
{
    size_t count = 0;
    if (!BMB_WITH_CHANGES || !config->reserve.changes) return 0;
    for (size_t i = 0; i < config->feed_count; i++) {
        const bmb_addr *group = &config->feeds[i].multicast.group;
        count += group->family == 0 && group->port != 0;
    }
    return count;
}

size_t bmb_groups_of(const bmb_config *config)
{
    size_t count = reserved(config);
    for (size_t i = 0; i < config->feed_count; i++) count += config->feeds[i].multicast.group.family != 0;
    return count;
}

/* The group in this place is this feed's; NULL: nobody's. */
static void assign(bmb_group_set *set, bmb_group *g, bmb_feed *feed)
{
    if (g->feed != NULL) g->feed->group = 0;
    g->feed = feed;
    if (feed == NULL) return;
    feed->group = (uint16_t)(g - set->groups + 1);
#if BMB_WITH_PARITY
    g->parity.of = feed->config->multicast.parity;
    if (g->parity.of == 0) return;
    bmb_parity_clear(&g->parity);
    set->x->port->random(set->x->port->ctx, &g->parity.seq, sizeof g->parity.seq);
#endif
}

void bmb_groups_open(bmb_group_set *set, bmb_context *x, const bmb_feeds *feeds, bmb_tally *tally, bmb_group *groups)
{
    *set = (bmb_group_set){ .service = { join, leave, let_go, lease, sender },
                            .owner = { set, frame_there, put_out, feed_gone, describe, NULL },
                            .x = x,
                            .tally = tally,
                            .groups = groups };
    for (size_t i = 0; i < feeds->count; i++)
        if (feeds->feed[i].config->multicast.group.family != 0) assign(set, &groups[set->count++], &feeds->feed[i]);
    set->count += reserved(x->config);
}

#if BMB_WITH_PARITY
size_t bmb_groups_parity(const bmb_config *config)
{
    size_t count = 0;
    if (reserved(config) > 0) return bmb_groups_of(config);
    for (size_t i = 0; i < config->feed_count; i++)
        count += config->feeds[i].multicast.group.family != 0 && config->feeds[i].multicast.parity > 0;
    return count;
}

void bmb_groups_lend_parity(const bmb_config *config, bmb_group *groups, uint8_t *memory)
{
    const bool all = reserved(config) > 0;
    size_t count = 0;
    for (size_t i = 0; i < config->feed_count; i++) {
        const bmb_multicast *m = &config->feeds[i].multicast;
        if (m->group.family == 0) continue;
        bmb_group *g = &groups[count++];
        if (m->parity == 0 && !all) continue;
        g->parity = (bmb_parity){ .data = memory, .room = config->rtp_packet };
        memory += config->rtp_packet;
    }
    for (; count < bmb_groups_of(config); count++, memory += config->rtp_packet)
        groups[count].parity = (bmb_parity){ .data = memory, .room = config->rtp_packet };
}
#endif

static void end_lease(bmb_group_set *set, bmb_group *g)
{
    if (g->lease_us == 0) return;
    g->lease_us = 0;
    leave(&set->service, g->feed);
    let_go(&set->service, g->feed);
}

void bmb_groups_bursts(bmb_group_set *set)
{
    for (size_t i = 0; i < set->count; i++)
        if (set->groups[i].members > 0 && bmb_viewer_in_bursts(&set->groups[i].viewer)) pump(set, &set->groups[i]);
}

uint64_t bmb_groups_tend(bmb_group_set *set)
{
    uint64_t next = UINT64_MAX;
    for (size_t i = 0; i < set->count; i++) {
        bmb_group *g = &set->groups[i];
        if (set->x->now >= g->lease_us) end_lease(set, g);
        if (g->lease_us != 0 && g->lease_us < next) next = g->lease_us;
    }
    return next;
}

void bmb_groups_feed_gone(bmb_group_set *set, const bmb_feed *feed)
{
    bmb_group *g = group_of(set, feed);
    if (g != NULL) end_lease(set, g);
}

void bmb_groups_not_always(bmb_group_set *set, const bmb_feed *feed)
{
    bmb_group *g = group_of(set, feed);
    if (g != NULL && g->lease_us == UINT64_MAX) end_lease(set, g);
}

#if BMB_WITH_CHANGES
static bmb_group *free_group(const bmb_group_set *set)
{
    for (size_t i = 0; i < set->count; i++)
        if (set->groups[i].feed == NULL) return &set->groups[i];
    return NULL;
}

bool bmb_groups_fits(const bmb_group_set *set, const bmb_feed *feed, const bmb_multicast *to)
{
    const bmb_group *g = group_of(set, feed);
    if (to->group.family == 0) return true;
    if (g == NULL) g = free_group(set);
    if (g == NULL) return false;
#if BMB_WITH_PARITY
    return to->parity == 0 || g->parity.data != NULL;
#else
    return true;
#endif
}

void bmb_groups_assign(bmb_group_set *set, bmb_feed *feed)
{
    bmb_group *g = group_of(set, feed);
    const bool wanted = feed->config->multicast.group.family != 0;
    if (wanted && g == NULL) g = free_group(set);
    if (g != NULL) assign(set, g, wanted ? feed : NULL);
}
#endif

void bmb_groups_close(bmb_group_set *set)
{
    for (size_t i = 0; i < set->count; i++) end_lease(set, &set->groups[i]);
}
