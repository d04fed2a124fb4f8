/* What every RTP sender has in common, whoever it sends to: its stream, its description, its sender reports. */
#include <string.h>

#include "device/state.h"
#include "serve/formats.h"

const bmb_framer *bmb_rtp_framer(const bmb_feed *feed)
{
    return bmb_stream_framer(BMB_FORMAT_RTP, feed->mode.codec, false);
}

void bmb_rtp_start_stream(bmb_device *d, const bmb_feed *feed, bmb_stream_state *state)
{
    memset(state, 0, sizeof *state);
    d->port->random(d->port->ctx, &state->ssrc, sizeof state->ssrc);
    d->port->random(d->port->ctx, &state->next_seq, sizeof state->next_seq);
    d->port->random(d->port->ctx, &state->time_offset, sizeof state->time_offset);
    state->payload_type = feed->mode.codec == BMB_CODEC_H264 ? BMB_RTP_TYPE_H264 : BMB_RTP_TYPE_JPEG;
    state->payload_max = d->config->rtp_packet;
}

/* The bit rate that is configured; where none is, the highest that was seen, in coarse steps, so that a description
 * stays what it is. */
static uint32_t told_kbps(const bmb_device *d, const bmb_feed *feed)
{
    int32_t kbps;
    if (feed->config->kbps > 0) return feed->config->kbps;
    if (feed->mode.codec == BMB_CODEC_H264 && bmb_camera_get(d, feed, BMB_CONTROL_KBPS, &kbps) == BMB_OK && kbps > 0)
        return (uint32_t)kbps;
    return feed->kbps_most;
}

bmb_sdp bmb_rtp_describe(const bmb_device *d, const bmb_feed *feed, const bmb_addr *origin, const bmb_multicast *group,
                         bool control)
{
    const bmb_feed_config *c = feed->config;
    bmb_sdp sdp = { .id = feed->sdp_id,
                    .version = feed->sdp_version,
                    .title = c->title != NULL ? c->title : c->name,
                    .origin = *origin };
    if (group != NULL) {
        sdp.group = group->group;
        sdp.ttl = group->ttl > 0 ? group->ttl : 1;
    }
    uint32_t kbps;
    sdp.codec = feed->mode.codec;
    sdp.sets = &feed->sets;
    sdp.mfps = feed->mode.mfps;
    if (sdp.mfps == 0) bmb_rate_read(&feed->rate, d->now, &sdp.mfps, &kbps);
    sdp.kbps = told_kbps(d, feed);
    sdp.control = control;
    return sdp;
}

/* RTP on an even port, RTCP on the next (RFC 3550 11). With a peer each socket has its own one of the two. */
bmb_err bmb_rtp_open_pair(bmb_device *d, uint8_t family, const bmb_udp_options *options, bmb_udp_pair *pair)
{
    const bmb_net *net = &d->port->net;
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
        err = net->udp_open(d->port->ctx, &any, options, &pair->rtp, &bound);
        if (err != BMB_OK) break;
        any.port = (uint16_t)(bound.port + 1);
        pair->port = bound.port;
        err = bound.port % 2 == 0 ? net->udp_open(d->port->ctx, &any, &rtcp, &pair->rtcp, &bound) : BMB_IN_USE;
        if (err != BMB_OK) net->close(d->port->ctx, pair->rtp);
    }
    return err;
}

void bmb_rtp_put_report(bmb_device *d, const bmb_viewer *v, bool bye, bmb_writer *w)
{
    const bmb_stream_state *state = &v->state;
    uint64_t now = d->port->now_us(d->port->ctx), sent = v->bytes + state->octets;
    int64_t wall = 0;
    if (d->port->wall_us == NULL || d->port->wall_us(d->port->ctx, &wall) != BMB_OK) wall = 0;
    uint64_t headers = (uint64_t)state->packets * (BMB_RTP_HEADER + (state->interleaved ? BMB_RTP_INTERLEAVED : 0));
    const bmb_rtcp_sender sender = { .ssrc = state->ssrc,
                                     .wall_us = wall,
                                     .rtp_time = state->time_offset + bmb_rtp_time(now),
                                     .packets = state->packets,
                                     .octets = (uint32_t)(sent > headers ? sent - headers : 0),
                                     .cname = d->cname };
    bmb_rtcp_report(w, &sender, bye);
}

void bmb_rtp_send_report(bmb_device *d, const bmb_viewer *v, bool bye, bmb_sock sock, const bmb_addr *to)
{
    uint8_t text[BMB_RTCP_MAX];
    size_t taken;
    bmb_writer w = bmb_writer_of(text, sizeof text);
    bmb_rtp_put_report(d, v, bye, &w);
    const bmb_slice slice = { text, bmb_written(&w) };
    const bmb_packet packet = { &slice, 1, (uint32_t)slice.size };
    (void)bmb_net_send_packets(d, sock, to, &packet, 1, &taken);
}

bmb_err bmb_rtp_pump(bmb_device *d, bmb_viewer *v, const bmb_rtp_way *way, uint64_t *report_us)
{
    bmb_err answer = bmb_viewer_pump_datagrams(d, v, way->rtp, way->to);
    if (v->sent == 0 || d->now < *report_us) return answer;
    *report_us = d->now + BMB_REPORT_US;
    bmb_rtp_send_report(d, v, false, way->rtcp, way->rtcp_to);
    return answer;
}

/* The stream goes on after a pause: what was sent before stays counted (RFC 3550 6.4.1). */
void bmb_rtp_pause(bmb_device *d, bmb_viewer *v)
{
    uint64_t bytes = v->framer != NULL ? v->bytes : 0;
    bmb_viewer_end(d, v);
    v->state.octets += (uint32_t)bytes;
    v->bytes = 0;
}
