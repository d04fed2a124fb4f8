/* Multicast groups: one sender each, whatever the number of its viewers. It exists as long as a session or a lease
 * holds it, and sends while one of them wants to see something. */
#include <string.h>

#include "device/state.h"

static bmb_addr rtcp_of(const bmb_feed *feed)
{
    bmb_addr to = feed->config->multicast.group;
    to.port++;
    return to;
}

static bmb_err open_group(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    const bmb_multicast *m = &feed->config->multicast;
    const bmb_addr any = { .family = m->group.family };
    const bmb_udp_options options = { .ttl = m->ttl };
    bmb_addr bound;
    if (d->port->net.udp_open == NULL) return BMB_UNSUPPORTED;
    bmb_err err = d->port->net.udp_open(d->port->ctx, &any, &options, &g->sock, &bound);
    if (err == BMB_OK) bmb_rtp_start_stream(d, feed, &g->viewer.state);
    return err;
}

static void begin_sending(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    bmb_viewer_begin(d, &g->viewer, feed, bmb_rtp_framer(feed), false, false);
    for (size_t i = 0; i < d->config->outlet_count; i++)
        if (d->config->outlets[i].kind == BMB_OUTLET_RTSP) g->viewer.tally = (uint8_t)i;
    g->report_us = 0;
    bmb_viewer_event(d, feed, &feed->config->multicast.group, BMB_LEVEL_INFO, BMB_EVENT_MULTICAST_STARTED, 0, 0);
}

static void stop_sending(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    uint64_t sent = g->viewer.sent;
    bmb_rtp_pause(d, &g->viewer);
    bmb_viewer_event(d, feed, &feed->config->multicast.group, BMB_LEVEL_INFO, BMB_EVENT_MULTICAST_STOPPED, 0,
                     (int64_t)sent);
}

bmb_err bmb_group_join(bmb_device *d, bmb_feed *feed, bool holds)
{
    bmb_group *g = &feed->group;
    if (g->holders == 0) {
        bmb_err err = open_group(d, feed);
        if (err != BMB_OK) return err;
    }
    if (!holds) g->holders++;
    if (g->members++ == 0) begin_sending(d, feed);
    return BMB_OK;
}

void bmb_group_leave(bmb_device *d, bmb_feed *feed)
{
    if (--feed->group.members == 0) stop_sending(d, feed);
}

void bmb_group_let_go(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    const bmb_addr rtcp = rtcp_of(feed);
    if (--g->holders > 0) return;
    if (g->viewer.state.packets > 0) bmb_rtp_send_report(d, &g->viewer, true, g->sock, &rtcp);
    d->port->net.close(d->port->ctx, g->sock);
}

void bmb_group_lease(bmb_device *d, bmb_feed *feed, uint64_t until_us)
{
    bmb_group *g = &feed->group;
    if (g->lease_us == 0 && bmb_group_join(d, feed, false) != BMB_OK) return;
    if (until_us > g->lease_us) g->lease_us = until_us;
}

void bmb_group_end_lease(bmb_device *d, bmb_feed *feed)
{
    if (feed->group.lease_us == 0) return;
    feed->group.lease_us = 0;
    bmb_group_leave(d, feed);
    bmb_group_let_go(d, feed);
}

void bmb_group_deliver(bmb_device *d, bmb_feed *feed, bool due_only)
{
    bmb_group *g = &feed->group;
    if (g->members == 0 || (g->viewer.pace_us == 0 && (due_only || !feed->fresh))) return;
    const bmb_addr *to = &feed->config->multicast.group, rtcp = rtcp_of(feed);
    const bmb_rtp_way way = { .rtp = g->sock, .rtcp = g->sock, .to = to, .rtcp_to = &rtcp };
    (void)bmb_rtp_pump(d, &g->viewer, &way, &g->report_us);
}
