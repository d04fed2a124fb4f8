/* RTP senders: sessions of one viewer each, over UDP or interleaved, and groups with any number of them. */
#include <string.h>

#include "device/state.h"
#include "serve/formats.h"

#define CNAME "bambino"

static const bmb_framer *framer_of(const bmb_feed *feed)
{
    return bmb_stream_framer(BMB_FORMAT_RTP, feed->mode.codec, false);
}

/* RFC 3550 5.1: random SSRC, sequence number and time offset. */
void bmb_session_start_stream(bmb_device *d, const bmb_feed *feed, bmb_stream_state *state)
{
    memset(state, 0, sizeof *state);
    d->port->random(d->port->ctx, &state->ssrc, sizeof state->ssrc);
    d->port->random(d->port->ctx, &state->next_seq, sizeof state->next_seq);
    d->port->random(d->port->ctx, &state->time_offset, sizeof state->time_offset);
    state->payload_type = feed->mode.codec == BMB_CODEC_H264 ? BMB_RTP_TYPE_H264 : BMB_RTP_TYPE_JPEG;
    state->payload_max = d->config->rtp_payload;
}

bmb_sdp bmb_session_describe(const bmb_feed *feed, const bmb_addr *origin, const bmb_multicast *group, bool control)
{
    const bmb_feed_config *c = feed->config;
    bmb_sdp sdp = { .id = 1, .title = c->title != NULL ? c->title : c->name, .origin = *origin };
    /* The same description has the same number: a sum over what can change. */
    for (uint16_t i = 0; i < feed->sets.sps_size; i++) sdp.id = sdp.id * 31 + feed->sets.sps[i];
    sdp.id &= INT64_MAX;
    if (group != NULL) {
        sdp.group = group->group;
        sdp.ttl = group->ttl > 0 ? group->ttl : 1;
    }
    sdp.codec = feed->mode.codec;
    sdp.sets = &feed->sets;
    sdp.mfps = feed->mode.mfps;
    sdp.control = control;
    return sdp;
}

bmb_session *bmb_session_open(bmb_device *d, bmb_feed *feed)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        bmb_session *s = &d->sessions[i];
        if (s->state != BMB_SESSION_FREE) continue;
        memset(s, 0, sizeof *s);
        s->state = BMB_SESSION_READY;
        s->feed = feed;
        s->alive_us = d->now;
        d->port->random(d->port->ctx, &s->id, sizeof s->id);
        bmb_session_start_stream(d, feed, &s->viewer.state);
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

static bool open_pair(bmb_device *d, uint8_t family, bmb_udp_pair *pair)
{
    const bmb_net *net = &d->port->net;
    const bmb_udp_options options = { 0 };
    bmb_addr any = { .family = family }, bound;
    for (unsigned tries = 0; tries < 16; tries++) {
        any.port = 0;
        if (net->udp_open(d->port->ctx, &any, &options, &pair->rtp, &bound) != BMB_OK) return false;
        any.port = (uint16_t)(bound.port + 1);
        if (bound.port % 2 == 0 && net->udp_open(d->port->ctx, &any, &options, &pair->rtcp, &bound) == BMB_OK) {
            pair->port = (uint16_t)(any.port - 1);
            return true;
        }
        net->close(d->port->ctx, pair->rtp);
    }
    return false;
}

bmb_udp_pair *bmb_session_sockets(bmb_device *d, uint8_t family)
{
    size_t index = family == 6 ? 1 : 0;
    bmb_udp_pair *pair = &d->udp[index];
    if (pair->port != 0) return pair;
    if (d->port->net.udp_open == NULL || !open_pair(d, family, pair)) return NULL;
    /* RTP's own socket is read, too: some receivers send their first packet there to open a firewall. */
    (void)d->port->net.watch(d->port->ctx, pair->rtp, BMB_READABLE, (uint32_t)(BMB_TOKEN_UDP + 2 * index));
    (void)d->port->net.watch(d->port->ctx, pair->rtcp, BMB_READABLE, (uint32_t)(BMB_TOKEN_UDP + 2 * index + 1));
    return pair;
}

const bmb_stream_state *bmb_session_stream(const bmb_session *s)
{
    return s->via == BMB_VIA_RTP_MULTICAST ? &s->feed->group.viewer.state : &s->viewer.state;
}

/* One more viewer of a group; the first starts its sender. */
static bmb_err join_group(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    const bmb_multicast *m = &feed->config->multicast;
    if (g->members > 0) {
        g->members++;
        return BMB_OK;
    }
    const bmb_addr any = { .family = m->group.family };
    const bmb_udp_options options = { .ttl = m->ttl };
    bmb_addr bound;
    bmb_err err = d->port->net.udp_open(d->port->ctx, &any, &options, &g->sock, &bound);
    if (err != BMB_OK) return err;
    bmb_session_start_stream(d, feed, &g->viewer.state);
    bmb_viewer_begin(d, &g->viewer, feed, framer_of(feed), false, false);
    for (size_t i = 0; i < d->config->outlet_count; i++)
        if (d->config->outlets[i].kind == BMB_OUTLET_RTSP) g->viewer.tally = (uint8_t)i;
    g->report_us = 0;
    g->members = 1;
    bmb_viewer_event(d, feed, &m->group, BMB_LEVEL_INFO, BMB_EVENT_MULTICAST_STARTED, 0, 0);
    return BMB_OK;
}

/* A compound RTCP packet about a stream at this instant. */
static void put_report(bmb_device *d, const bmb_viewer *v, bool bye, bmb_writer *w)
{
    const bmb_stream_state *state = &v->state;
    uint64_t now = d->port->now_us(d->port->ctx);
    int64_t wall = 0;
    if (d->port->wall_us == NULL || d->port->wall_us(d->port->ctx, &wall) != BMB_OK) wall = 0;
    uint64_t headers = (uint64_t)state->packets * (BMB_RTP_HEADER + (state->interleaved ? BMB_RTP_INTERLEAVED : 0));
    const bmb_rtcp_sender sender = { .ssrc = state->ssrc,
                                     .wall_us = wall,
                                     .rtp_time = state->time_offset + bmb_rtp_time(now),
                                     .packets = state->packets,
                                     .octets = (uint32_t)(v->bytes > headers ? v->bytes - headers : 0),
                                     .cname = CNAME };
    bmb_rtcp_report(w, &sender, bye);
}

static void send_report(bmb_device *d, const bmb_viewer *v, bool bye, bmb_sock sock, const bmb_addr *to)
{
    uint8_t text[BMB_RTCP_MAX];
    size_t taken;
    bmb_writer w = bmb_writer_of(text, sizeof text);
    put_report(d, v, bye, &w);
    const bmb_slice slice = { text, bmb_written(&w) };
    const bmb_packet packet = { &slice, 1, (uint32_t)slice.size };
    (void)d->port->net.udp_send(d->port->ctx, sock, to, &packet, 1, &taken);
}

static bmb_addr with_port(bmb_addr addr, uint16_t port)
{
    addr.port = port;
    return addr;
}

static void leave_group(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    const bmb_addr *to = &feed->config->multicast.group;
    if (--g->members > 0) return;
    const bmb_addr rtcp = with_port(*to, (uint16_t)(to->port + 1));
    uint64_t sent = g->viewer.sent;
    if (sent > 0) send_report(d, &g->viewer, true, g->sock, &rtcp);
    bmb_viewer_end(d, &g->viewer);
    d->port->net.close(d->port->ctx, g->sock);
    bmb_viewer_event(d, feed, to, BMB_LEVEL_INFO, BMB_EVENT_MULTICAST_STOPPED, 0, (int64_t)sent);
}

void bmb_session_lease(bmb_device *d, bmb_feed *feed, uint64_t until_us)
{
    bmb_group *g = &feed->group;
    if (g->lease_us == 0 && join_group(d, feed) != BMB_OK) return;
    if (until_us > g->lease_us) g->lease_us = until_us;
}

static void end_lease(bmb_device *d, bmb_feed *feed)
{
    if (feed->group.lease_us == 0) return;
    feed->group.lease_us = 0;
    leave_group(d, feed);
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
        bmb_err err = join_group(d, s->feed);
        if (err != BMB_OK) return err;
    }
    bmb_viewer_begin(d, &s->viewer, s->feed, framer_of(s->feed), false, true);
    s->viewer.tally = s->outlet;
    s->state = BMB_SESSION_PLAYING;
    s->report_us = 0;
    bmb_viewer_event(d, s->feed, who, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_CAME, s->feed->viewers, 0);
    /* A group's own newcomers wait for its next key frame, too. */
    if (s->feed->mode.codec == BMB_CODEC_H264) bmb_feed_want_key(d, s->feed);
    return BMB_OK;
}

void bmb_session_pause(bmb_device *d, bmb_session *s, const bmb_addr *who)
{
    if (s->state != BMB_SESSION_PLAYING) return;
    uint64_t sent = s->viewer.sent;
    if (s->via == BMB_VIA_RTP_MULTICAST) leave_group(d, s->feed);
    bmb_viewer_end(d, &s->viewer);
    s->state = BMB_SESSION_READY;
    bmb_viewer_event(d, s->feed, who, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_LEFT, s->feed->viewers, (int64_t)sent);
}

void bmb_session_close(bmb_device *d, bmb_session *s, const bmb_addr *who)
{
    if (s->state == BMB_SESSION_FREE) return;
    if (s->via == BMB_VIA_RTP_UDP && s->viewer.state.packets > 0) {
        const bmb_addr rtcp = with_port(s->peer, s->rtcp_port);
        send_report(d, &s->viewer, true, bmb_session_sockets(d, s->peer.family)->rtcp, &rtcp);
    }
    bmb_session_pause(d, s, who);
    s->state = BMB_SESSION_FREE;
    d->session_live--;
}

bool bmb_session_report(bmb_device *d, bmb_session *s, bmb_writer *w)
{
    if (s->viewer.sent == 0 || d->now < s->report_us) return false;
    s->report_us = d->now + BMB_REPORT_US;
    put_report(d, &s->viewer, false, w);
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
        if (b.ssrc != s->viewer.state.ssrc) continue;
        ours = true;
        s->reports = true;
        s->lost_256 = b.lost_256;
        s->lost = b.lost;
        s->jitter_us = (uint32_t)((uint64_t)b.jitter * 100 / 9);
        s->round_trip_us = round_trip_us(d, &b);
    }
    return ours;
}

void bmb_session_rtcp(bmb_device *d, bmb_session *s, const uint8_t *data, size_t size)
{
    bool bye = false;
    (void)take_reports(d, s, data, size, &bye);
    s->alive_us = d->now;
}

/* From a host that a session plays to: by the stream it reports on, else by the port that it comes from. */
static void take_datagram(bmb_device *d, const bmb_addr *from, const uint8_t *data, size_t size)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        bmb_session *s = &d->sessions[i];
        bool bye = false;
        if (s->state == BMB_SESSION_FREE || s->via != BMB_VIA_RTP_UDP || !bmb_same_host(&s->peer, from)) continue;
        bool same_port = from->port == s->rtcp_port || from->port == s->peer.port;
        if (!take_reports(d, s, data, size, &bye) && !same_port) continue;
        s->alive_us = d->now;
    }
}

void bmb_session_datagrams(bmb_device *d, bmb_sock sock)
{
    uint8_t data[512];
    for (unsigned i = 0; i < BMB_DATAGRAMS; i++) {
        size_t size;
        bmb_addr from;
        if (d->port->net.udp_recv(d->port->ctx, sock, data, sizeof data, &size, &from) != BMB_OK) return;
        take_datagram(d, &from, data, size);
    }
}

static void end_quietly(bmb_device *d, bmb_session *s)
{
    const bmb_addr peer = s->peer;
    bmb_session_close(d, s, &peer);
}

void bmb_session_sweep(bmb_device *d)
{
    uint64_t limit = (uint64_t)d->config->session_ms * 1000;
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++) {
        bmb_session *s = &d->sessions[i];
        /* An interleaved session lives as long as its connection takes its frames. */
        bool played = s->via == BMB_VIA_RTP_TCP && s->state == BMB_SESSION_PLAYING;
        if (s->state == BMB_SESSION_FREE || played || !bmb_conn_older_than(d, s->alive_us, limit)) continue;
        if (s->via == BMB_VIA_RTP_TCP && s->conn != 0) d->conns[s->conn - 1].interleaved = NULL;
        end_quietly(d, s);
    }
    for (size_t i = 0; i < d->config->feed_count; i++)
        if (d->now >= d->feeds[i].group.lease_us) end_lease(d, &d->feeds[i]);
}

bmb_err bmb_session_pump(bmb_device *d, bmb_viewer *v, bmb_sock sock, const bmb_addr *to, bmb_sock rtcp_sock,
                         const bmb_addr *rtcp, uint64_t *report_us)
{
    bmb_err answer = bmb_viewer_pump_datagrams(d, v, sock, to);
    if (v->sent == 0 || d->now < *report_us) return answer;
    *report_us = d->now + BMB_REPORT_US;
    send_report(d, v, false, rtcp_sock, rtcp);
    return answer;
}

static void deliver_unicast(bmb_device *d, bmb_session *s)
{
    const bmb_udp_pair *pair = bmb_session_sockets(d, s->peer.family);
    const bmb_addr rtcp = with_port(s->peer, s->rtcp_port);
    (void)bmb_session_pump(d, &s->viewer, pair->rtp, &s->peer, pair->rtcp, &rtcp, &s->report_us);
}

static void deliver_group(bmb_device *d, bmb_feed *feed)
{
    bmb_group *g = &feed->group;
    const bmb_addr *to = &feed->config->multicast.group;
    const bmb_addr rtcp = with_port(*to, (uint16_t)(to->port + 1));
    (void)bmb_session_pump(d, &g->viewer, g->sock, to, g->sock, &rtcp, &g->report_us);
}

void bmb_session_deliver(bmb_device *d, bool due_only)
{
    d->pace_us = UINT64_MAX;
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++) {
        bmb_session *s = &d->sessions[i];
        if (s->state != BMB_SESSION_PLAYING || s->via != BMB_VIA_RTP_UDP) continue;
        if (s->viewer.pace_us != 0 || (!due_only && s->feed->fresh)) deliver_unicast(d, s);
    }
    for (size_t i = 0; i < d->config->feed_count; i++) {
        bmb_feed *feed = &d->feeds[i];
        if (feed->group.members == 0) continue;
        if (feed->group.viewer.pace_us != 0 || (!due_only && feed->fresh)) deliver_group(d, feed);
    }
}

void bmb_session_shed(bmb_device *d, const bmb_frame *frame)
{
    for (uint16_t i = 0; i < d->session_most; i++)
        if (d->sessions[i].viewer.frame == frame) bmb_viewer_abandon(&d->sessions[i].viewer);
    for (size_t i = 0; i < d->config->feed_count; i++)
        if (d->feeds[i].group.viewer.frame == frame) bmb_viewer_abandon(&d->feeds[i].group.viewer);
}

void bmb_session_feed_removed(bmb_device *d, const bmb_feed *feed)
{
    for (uint16_t i = 0; i < d->session_most; i++) {
        bmb_session *s = &d->sessions[i];
        if (s->state == BMB_SESSION_FREE || s->feed != feed) continue;
        if (s->via == BMB_VIA_RTP_TCP && s->conn != 0) d->conns[s->conn - 1].interleaved = NULL;
        end_quietly(d, s);
    }
    end_lease(d, &d->feeds[feed - d->feeds]);
}

void bmb_session_close_all(bmb_device *d)
{
    for (uint16_t i = 0; i < d->session_most; i++) end_quietly(d, &d->sessions[i]);
    for (size_t i = 0; i < d->config->feed_count; i++) end_lease(d, &d->feeds[i]);
    for (size_t i = 0; i < 2; i++) {
        if (d->udp[i].port == 0) continue;
        d->port->net.close(d->port->ctx, d->udp[i].rtp);
        d->port->net.close(d->port->ctx, d->udp[i].rtcp);
        d->udp[i].port = 0;
    }
}
