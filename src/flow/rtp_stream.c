#include "flow/rtp_stream.h"

#include <string.h>

#include "base/bounds.h"
#include "flow/repeat.h"
#include "serve/formats.h"
#include "wire/rtcp.h"

const bmb_framer *bmb_rtp_framer(const bmb_track *track)
{
    return bmb_stream_framer(BMB_FORMAT_RTP, track->row->codec, false);
}

void bmb_rtp_start_stream(bmb_context *x, const bmb_track *track, bmb_stream_state *state)
{
    memset(state, 0, sizeof *state);
    x->port->random(x->port->ctx, &state->ssrc, sizeof state->ssrc);
    x->port->random(x->port->ctx, &state->next_seq, sizeof state->next_seq);
    x->port->random(x->port->ctx, &state->time_offset, sizeof state->time_offset);
    state->payload_type = track->row->rtp_type;
    state->payload_max = x->config->rtp_packet;
}

/* The bit rate that is configured; where none is, the highest that was seen, in coarse steps, so that a description
 * stays what it is. */
static uint32_t told_kbps(const bmb_context *x, const bmb_track *track)
{
    const bmb_feed *feed = track->feed;
    int32_t kbps;
    if (feed->config->kbps > 0) return feed->config->kbps;
    if (!track->row->steered && bmb_camera_get(x, &feed->camera, BMB_CONTROL_KBPS, &kbps) == BMB_OK && kbps > 0)
        return (uint32_t)kbps;
    return track->kbps_most;
}

bmb_sdp bmb_rtp_describe(const bmb_context *x, const bmb_feed *feed, const bmb_addr *origin, const bmb_multicast *group,
                         bool control)
{
    const bmb_feed_config *c = feed->config;
    bmb_sdp sdp = { .id = feed->sdp_id,
                    .version = feed->sdp_version,
                    .title = c->title != NULL ? c->title : c->name,
                    .origin = *origin,
                    .control = control };
    if (group != NULL) {
        sdp.group = group->group;
        sdp.ttl = group->ttl > 0 ? group->ttl : 1;
#if BMB_WITH_PARITY
        if (group->parity > 0) sdp.parity_type = BMB_RTP_TYPE_PARITY;
#endif
    }
    for (size_t i = 0; i < feed->tracks; i++) {
        const bmb_track *t = &feed->track[i];
        bmb_sdp_media *m = &sdp.media[sdp.media_count++];
        uint32_t kbps;
        *m = (bmb_sdp_media){ .kind = t->kind,
                              .payload_type = t->row->rtp_type,
                              .mfps = feed->camera.mode.mfps,
                              .kbps = told_kbps(x, t),
                              .describe = t->row->describe,
                              .codec = (const uint8_t *)&t->codec + t->row->described_by };
        if (m->mfps == 0) bmb_rate_read(&t->rate, x->now, &m->mfps, &kbps);
    }
    return sdp;
}

#if BMB_WITH_REPEATS
void bmb_rtp_describe_feedback(bmb_sdp *sdp, const bmb_feed *feed)
{
    for (size_t i = 0; i < sdp->media_count; i++) {
        sdp->media[i].repeat_type = BMB_RTP_TYPE_RTX;
        sdp->media[i].repeat_ms = BMB_REPEAT_KEPT_MS;
        sdp->media[i].keys = feed->track[i].row->in_order;
    }
}
#endif

/* RTP on an even port, RTCP on the next (RFC 3550 11). With a peer each socket has its own one of the two. */
bmb_err bmb_rtp_open_pair(bmb_context *x, uint8_t family, const bmb_udp_options *options, bmb_udp_pair *pair)
{
    const bmb_net *net = &x->port->net;
    bmb_addr any = { .family = family }, bound, rtcp_peer;
    bmb_udp_options rtcp = *options;
    if (options->peer != NULL) {
        rtcp_peer = *options->peer;
        rtcp_peer.port++;
        rtcp.peer = &rtcp_peer;
    }
    bmb_err err = BMB_IN_USE;
    for (unsigned tries = 0; tries < 16 && err == BMB_IN_USE; tries++) {
        any.port = 0;
        err = net->udp_open(x->port->ctx, &any, options, &pair->rtp, &bound);
        if (err != BMB_OK) break;
        any.port = (uint16_t)(bound.port + 1);
        pair->port = bound.port;
        err = bound.port % 2 == 0 ? net->udp_open(x->port->ctx, &any, &rtcp, &pair->rtcp, &bound) : BMB_IN_USE;
        if (err != BMB_OK) net->close(x->port->ctx, pair->rtp);
    }
    return err;
}

void bmb_rtp_put_report(bmb_context *x, const bmb_viewer *v, bool bye, bmb_writer *w)
{
    const bmb_stream_state *state = &v->state;
    uint64_t now = bmb_clock(x), sent = v->bytes + state->octets;
    uint64_t headers = (uint64_t)state->packets * (BMB_RTP_HEADER + (state->interleaved ? BMB_RTP_INTERLEAVED : 0));
    const bmb_rtcp_sender sender = { .ssrc = state->ssrc,
                                     .wall_us = bmb_wall(x),
                                     .rtp_time = state->time_offset + bmb_rtp_time(now),
                                     .packets = state->packets,
                                     .octets = (uint32_t)(sent > headers ? sent - headers : 0),
                                     .cname = x->cname };
    bmb_rtcp_report(w, &sender, bye);
}

void bmb_rtp_send_report(bmb_context *x, const bmb_viewer *v, bool bye, bmb_sock sock, const bmb_addr *to)
{
    uint8_t text[BMB_RTCP_MAX];
    const bmb_link link = bmb_datagram_link(x, sock, to);
    bmb_writer w = bmb_writer_of(text, sizeof text);
    bmb_rtp_put_report(x, v, bye, &w);
    bmb_datagram_send(&link, text, bmb_written(&w));
}

bmb_err bmb_rtp_pump(bmb_context *x, bmb_viewer *v, const bmb_rtp_way *way, uint64_t *report_us)
{
    bmb_link link = bmb_datagram_link(x, way->rtp, way->to);
#if BMB_WITH_PARITY
    link.parity = way->parity;
#endif
    (void)bmb_viewer_pump(x, v, &link);
    if (v->sent == 0 || x->now < *report_us) return link.answer;
    *report_us = x->now + BMB_REPORT_US;
    bmb_rtp_send_report(x, v, false, way->rtcp, way->rtcp_to);
    return link.answer;
}

#if BMB_WITH_FOLLOWING
void bmb_rtp_hear(bmb_context *x, bmb_viewer *v, bmb_sock sock, const bmb_addr *peer)
{
    uint8_t data[512];
    bmb_addr from;
    bmb_rtcp_block b;
    const bmb_port *port = x->port;
    for (unsigned i = 0; i < BMB_DATAGRAMS; i++) {
        size_t size = 0;
        bmb_rtcp_walk walk = { 0 };
        if (port->net.udp_recv(port->ctx, sock, data, sizeof data, &size, &from) != BMB_OK || size > sizeof data)
            return;
        if (!bmb_same_host(&from, peer)) continue;
        while (bmb_rtcp_next(&walk, data, size, &b))
            if (b.ssrc == v->state.ssrc) bmb_viewer_reported(x, v, b.lost_256);
        if (BMB_WITH_H264 && walk.key_of == v->state.ssrc && v->track->row->in_order)
            bmb_camera_want_key(x, &v->track->feed->camera);
    }
}
#endif

/* The stream goes on after a pause: what was sent before stays counted (RFC 3550 6.4.1). */
void bmb_rtp_pause(bmb_context *x, bmb_viewer *v)
{
    uint64_t bytes = v->framer != NULL ? v->bytes : 0;
    bmb_viewer_end(x, v);
    v->state.octets += (uint32_t)bytes;
    v->bytes = 0;
}
