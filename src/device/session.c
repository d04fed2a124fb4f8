/* RTSP sessions: one feed for one receiver, over UDP, interleaved, or as a member of a multicast group. */
#include <stddef.h>
#include <string.h>

#include "device/state.h"

static uint16_t number_of(const bmb_device *d, const bmb_session *s)
{
    return (uint16_t)(s - d->sessions + 1);
}

bmb_session *bmb_session_at(const bmb_device *d, uint16_t number)
{
    return number != 0 ? &d->sessions[number - 1] : NULL;
}

bmb_session *bmb_session_of(bmb_viewer *v)
{
    return (bmb_session *)(void *)((uint8_t *)v - offsetof(bmb_session, viewer));
}

/* The sessions of a connection are a list, so that none has to be looked for among all. */
static void attach(bmb_device *d, bmb_session *s, bmb_conn *c)
{
    s->conn = (uint16_t)(c - d->conns + 1);
    s->next = c->sessions;
    c->sessions = number_of(d, s);
}

static void detach(bmb_device *d, bmb_session *s)
{
    if (s->conn == 0) return;
    bmb_conn *c = &d->conns[s->conn - 1];
    uint16_t *at = &c->sessions, self = number_of(d, s);
    while (*at != 0 && *at != self) at = &bmb_session_at(d, *at)->next;
    if (*at == self) *at = s->next;
    if (c->mid == self) c->mid = 0;
    s->conn = 0;
    s->next = 0;
}

void bmb_session_move(bmb_device *d, bmb_session *s, bmb_conn *c)
{
    detach(d, s);
    attach(d, s, c);
}

bmb_session *bmb_session_open(bmb_device *d, bmb_feed *feed)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        bmb_session *s = &d->sessions[i];
        if (s->state != BMB_SESSION_FREE) continue;
        memset(s, 0, sizeof *s);
        s->state = BMB_SESSION_READY;
        s->feed = feed;
        s->via = BMB_VIA_HTTP; /* none yet */
        s->alive_us = d->now;
        d->port->random(d->port->ctx, &s->id, sizeof s->id);
        bmb_rtp_start_stream(d, feed, &s->viewer.state);
        d->session_live++;
        return s;
    }
    return NULL;
}

bmb_session *bmb_session_find(bmb_device *d, const char *id)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        char text[BMB_RTSP_SESSION_SIZE];
        bmb_session *s = &d->sessions[i];
        if (s->state == BMB_SESSION_FREE) continue;
        bmb_writer w = bmb_writer_of(text, sizeof text);
        bmb_put_hex(&w, s->id, BMB_RTSP_SESSION_SIZE);
        if (bmb_same(text, sizeof text, id)) return s;
    }
    return NULL;
}

bmb_udp_pair *bmb_session_sockets(bmb_device *d, uint8_t family)
{
    size_t index = family == 6 ? 1 : 0;
    bmb_udp_pair *pair = &d->udp[index];
    const bmb_udp_options options = { 0 };
    if (pair->port != 0) return pair;
    if (d->port->net.udp_open == NULL || bmb_rtp_open_pair(d, family, &options, pair) != BMB_OK) {
        pair->port = 0;
        return NULL;
    }
    /* RTP's own socket is read, too: some receivers send their first packet there to open a firewall. */
    (void)d->port->net.watch(d->port->ctx, pair->rtp, BMB_READABLE, (uint32_t)(BMB_TOKEN_UDP + 2 * index));
    (void)d->port->net.watch(d->port->ctx, pair->rtcp, BMB_READABLE, (uint32_t)(BMB_TOKEN_UDP + 2 * index + 1));
    return pair;
}

const bmb_viewer *bmb_session_sender(const bmb_session *s)
{
    return s->via == BMB_VIA_RTP_MULTICAST ? &s->feed->group.viewer : &s->viewer;
}

bmb_err bmb_session_play(bmb_device *d, bmb_session *s, const bmb_addr *who)
{
    if (s->state == BMB_SESSION_PLAYING) return BMB_OK;
    if (d->viewers >= d->config->viewers) {
        d->refused++;
        bmb_viewer_event(d, s->feed, who, BMB_LEVEL_WARNING, BMB_EVENT_VIEWER_REFUSED, d->config->viewers, 0);
        return BMB_LIMIT;
    }
    if (s->via == BMB_VIA_RTP_MULTICAST) {
        bmb_err err = bmb_group_join(d, s->feed, s->holds);
        if (err != BMB_OK) return err;
        s->holds = true;
    }
    bmb_viewer_begin(d, &s->viewer, s->feed, bmb_rtp_framer(s->feed), false, true);
    s->viewer.tally = s->outlet;
    s->state = BMB_SESSION_PLAYING;
    s->report_us = 0;
    s->unreachable = 0;
    bmb_viewer_event(d, s->feed, who, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_CAME, s->feed->viewers, 0);
    /* A group's own newcomers wait for its next key frame, too. */
    if (s->feed->mode.codec == BMB_CODEC_H264) bmb_feed_want_key(d, s->feed);
    if (s->via != BMB_VIA_RTP_MULTICAST && bmb_viewer_prime(d, &s->viewer) && s->via == BMB_VIA_RTP_UDP) {
        s->viewer.pace_us = d->now; /* goes out in this step */
        d->pace_us = d->now < d->pace_us ? d->now : d->pace_us;
    }
    return BMB_OK;
}

void bmb_session_pause(bmb_device *d, bmb_session *s, const bmb_addr *who)
{
    if (s->state != BMB_SESSION_PLAYING) return;
    uint64_t sent = s->viewer.sent;
    if (s->conn != 0 && d->conns[s->conn - 1].mid == number_of(d, s)) d->conns[s->conn - 1].mid = 0;
    if (s->via == BMB_VIA_RTP_MULTICAST) bmb_group_leave(d, s->feed);
    bmb_rtp_pause(d, &s->viewer);
    s->state = BMB_SESSION_READY;
    bmb_viewer_event(d, s->feed, who, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_LEFT, s->feed->viewers, (int64_t)sent);
}

static bmb_addr rtcp_of(const bmb_session *s)
{
    bmb_addr to = s->peer;
    to.port = s->rtcp_port;
    return to;
}

void bmb_session_close(bmb_device *d, bmb_session *s, const bmb_addr *who)
{
    if (s->state == BMB_SESSION_FREE) return;
    if (s->via == BMB_VIA_RTP_UDP && s->viewer.state.packets > 0) {
        const bmb_addr rtcp = rtcp_of(s);
        bmb_rtp_send_report(d, &s->viewer, true, bmb_session_sockets(d, s->peer.family)->rtcp, &rtcp);
    }
    bmb_session_pause(d, s, who);
    if (s->holds) bmb_group_let_go(d, s->feed);
    detach(d, s);
    s->state = BMB_SESSION_FREE;
    d->session_live--;
}

void bmb_session_conn_closed(bmb_device *d, bmb_conn *c)
{
    while (c->sessions != 0) {
        bmb_session *s = bmb_session_at(d, c->sessions);
        detach(d, s);
        s->orphan_us = d->now;
        if (s->via == BMB_VIA_RTP_TCP) bmb_session_close(d, s, &c->peer);
    }
}

bool bmb_session_report(bmb_device *d, bmb_session *s, bmb_writer *w)
{
    if (s->state != BMB_SESSION_PLAYING || s->viewer.sent == 0 || d->now < s->report_us) return false;
    s->report_us = d->now + BMB_REPORT_US;
    bmb_rtp_put_report(d, &s->viewer, false, w);
    return true;
}

/* The round trip from our report's time, the receiver's delay, and now (RFC 3550 6.4.1). */
static uint32_t round_trip_us(bmb_device *d, const bmb_rtcp_block *b)
{
    int64_t wall;
    if (b->last_report == 0 || d->port->wall_us == NULL || d->port->wall_us(d->port->ctx, &wall) != BMB_OK) return 0;
    int32_t units = (int32_t)(bmb_ntp_middle(wall) - b->last_report - b->delay);
    return units > 0 ? (uint32_t)((uint64_t)units * 1000000 / 65536) : 1;
}

/* true: one of the blocks is about this session's stream */
static bool take_reports(bmb_device *d, bmb_session *s, const uint8_t *data, size_t size, bool *bye)
{
    bmb_rtcp_walk walk = { 0 };
    bmb_rtcp_block b;
    bool ours = false;
    while (bmb_rtcp_next(&walk, data, size, &b, bye)) {
        if (b.ssrc != bmb_session_sender(s)->state.ssrc) continue;
        ours = true;
        s->reports = true;
        s->lost_256 = b.lost_256;
        s->lost = b.lost;
        s->jitter_us = (uint32_t)((uint64_t)b.jitter * 100 / 9);
        s->round_trip_us = round_trip_us(d, &b);
    }
    return ours;
}

static void end(bmb_device *d, bmb_session *s, bmb_ending why)
{
    const bmb_addr peer = s->peer;
    if (s->state == BMB_SESSION_PLAYING)
        bmb_viewer_event(d, s->feed, &peer, BMB_LEVEL_INFO, BMB_EVENT_SESSION_ENDED, why, 0);
    bmb_session_close(d, s, &peer);
}

bool bmb_session_rtcp(bmb_device *d, bmb_session *s, const uint8_t *data, size_t size)
{
    bool bye = false;
    (void)take_reports(d, s, data, size, &bye);
    s->alive_us = d->now;
    return bye;
}

/* From a host that a session plays to: by the stream it reports on, else by the port that it comes from. */
static void take_datagram(bmb_device *d, const bmb_addr *from, const uint8_t *data, size_t size)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        bmb_session *s = &d->sessions[i];
        bool bye = false;
        if (s->state == BMB_SESSION_FREE || s->via != BMB_VIA_RTP_UDP || !bmb_same_host(&s->peer, from)) continue;
        bool from_rtcp = from->port == s->rtcp_port;
        if (!take_reports(d, s, data, size, &bye) && !from_rtcp && from->port != s->peer.port) continue;
        s->alive_us = d->now;
        s->unreachable = 0;
        if (bye && from_rtcp) end(d, s, BMB_ENDING_BYE);
    }
}

/* One such answer may be a receiver that is just opening its port; a few of them, and no report, are a receiver that is
 * gone. Only the port of RTP counts: not every receiver listens for RTCP. */
static void take_unreachable(bmb_device *d, const bmb_addr *to)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        bmb_session *s = &d->sessions[i];
        bool ours = s->state == BMB_SESSION_PLAYING && s->via == BMB_VIA_RTP_UDP && bmb_same_host(&s->peer, to) &&
                    s->peer.port == to->port;
        if (!ours) continue;
        if (s->unreachable == 0) s->unreachable_us = d->now;
        if (s->unreachable < UINT8_MAX) s->unreachable++;
        if (s->unreachable >= BMB_UNREACHABLE_LEAST && bmb_conn_older_than(d, s->unreachable_us, BMB_UNREACHABLE_US))
            end(d, s, BMB_ENDING_UNREACHABLE);
    }
}

void bmb_session_datagrams(bmb_device *d, bmb_sock sock)
{
    const bmb_net *net = &d->port->net;
    uint8_t data[512];
    bmb_addr addr;
    for (unsigned i = 0; i < BMB_DATAGRAMS; i++) {
        size_t size = 0;
        if (net->udp_recv(d->port->ctx, sock, data, sizeof data, &size, &addr) != BMB_OK || size > sizeof data) break;
        take_datagram(d, &addr, data, size);
    }
    for (unsigned i = 0; net->udp_unreachable != NULL && i < BMB_DATAGRAMS; i++) {
        if (net->udp_unreachable(d->port->ctx, sock, &addr) != BMB_OK) return;
        take_unreachable(d, &addr);
    }
}

/* Why it should end now, if it should. An interleaved session that plays lives as long as its connection takes its
 * frames; one over UDP whose connection is closed must report, or its receiver is taken for dead. */
static bool is_over(const bmb_device *d, const bmb_session *s, bmb_ending *why)
{
    uint64_t limit = (uint64_t)d->config->session_ms * 1000;
    uint64_t seen = s->alive_us > s->orphan_us ? s->alive_us : s->orphan_us;
    if (s->state == BMB_SESSION_FREE) return false;
    if (s->via == BMB_VIA_RTP_TCP && s->state == BMB_SESSION_PLAYING) return false;
    bool orphan = s->conn == 0 && s->via == BMB_VIA_RTP_UDP && s->state == BMB_SESSION_PLAYING;
    *why = orphan && bmb_conn_older_than(d, seen, BMB_ORPHAN_US) ? BMB_ENDING_ABANDONED : BMB_ENDING_SILENT;
    return *why == BMB_ENDING_ABANDONED || bmb_conn_older_than(d, s->alive_us, limit);
}

void bmb_session_sweep(bmb_device *d)
{
    bmb_ending why;
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++)
        if (is_over(d, &d->sessions[i], &why)) end(d, &d->sessions[i], why);
    for (size_t i = 0; i < d->config->feed_count; i++)
        if (d->now >= d->feeds[i].group.lease_us) bmb_group_end_lease(d, &d->feeds[i]);
}

static void deliver_unicast(bmb_device *d, bmb_session *s)
{
    const bmb_udp_pair *pair = bmb_session_sockets(d, s->peer.family);
    const bmb_addr rtcp = rtcp_of(s);
    const bmb_rtp_way way = { .rtp = pair->rtp, .rtcp = pair->rtcp, .to = &s->peer, .rtcp_to = &rtcp };
    (void)bmb_rtp_pump(d, &s->viewer, &way, &s->report_us);
}

void bmb_session_deliver(bmb_device *d, bool due_only)
{
    d->pace_us = UINT64_MAX;
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++) {
        bmb_session *s = &d->sessions[i];
        if (s->state != BMB_SESSION_PLAYING || s->via != BMB_VIA_RTP_UDP) continue;
        if (s->viewer.pace_us != 0 || (!due_only && s->feed->fresh)) deliver_unicast(d, s);
    }
    for (size_t i = 0; i < d->config->feed_count; i++) bmb_group_deliver(d, &d->feeds[i], due_only);
}

void bmb_session_shed(bmb_device *d, const bmb_frame *frame)
{
    for (uint16_t i = 0; i < d->session_most; i++)
        if (d->sessions[i].viewer.frame == frame) bmb_viewer_abandon(&d->sessions[i].viewer);
    for (size_t i = 0; i < d->config->feed_count; i++)
        if (d->feeds[i].group.viewer.frame == frame) bmb_viewer_abandon(&d->feeds[i].group.viewer);
}

static void end_quietly(bmb_device *d, bmb_session *s)
{
    const bmb_addr peer = s->peer;
    bmb_session_close(d, s, &peer);
}

/* An interleaved stream cannot stop in the middle of a packet, and RTSP has no word for this: the connection ends. */
static void end_with_feed(bmb_device *d, bmb_session *s)
{
    if (s->via == BMB_VIA_RTP_TCP && s->conn != 0) {
        bmb_conn_close(d, &d->conns[s->conn - 1]);
    } else {
        end_quietly(d, s);
    }
}

void bmb_session_feed_removed(bmb_device *d, bmb_feed *feed)
{
    for (uint16_t i = 0; i < d->session_most; i++)
        if (d->sessions[i].state != BMB_SESSION_FREE && d->sessions[i].feed == feed) end_with_feed(d, &d->sessions[i]);
    bmb_group_end_lease(d, feed);
}

void bmb_session_close_all(bmb_device *d)
{
    for (uint16_t i = 0; i < d->session_most; i++) end_quietly(d, &d->sessions[i]);
    for (size_t i = 0; i < d->config->feed_count; i++) bmb_group_end_lease(d, &d->feeds[i]);
    for (size_t i = 0; i < 2; i++) {
        if (d->udp[i].port == 0) continue;
        d->port->net.close(d->port->ctx, d->udp[i].rtp);
        d->port->net.close(d->port->ctx, d->udp[i].rtcp);
        d->udp[i].port = 0;
    }
}
