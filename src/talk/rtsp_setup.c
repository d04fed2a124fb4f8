#include "talk/rtsp_setup.h"

#include "serve/rtsp_answer.h"
#include "talk/rtsp_reply.h"

/* Is a channel of this connection taken by another session? */
static bool channel_taken(const bmb_talk *t, const bmb_conn *c, const bmb_session *self, uint8_t channel)
{
    for (const bmb_session *s = bmb_session_at(t, c->sessions); s != NULL; s = bmb_session_at(t, s->next))
        if (s != self && s->via == BMB_VIA_RTP_TCP && (s->rtp_channel == channel || s->rtcp_channel == channel))
            return true;
    return false;
}

/* The channels that were asked for; where they are taken, the next free pair, which the answer names (12.39). */
static bool take_channels(const bmb_talk *t, const bmb_conn *c, const bmb_rtsp_transport *want, bmb_session *s)
{
    unsigned rtp = want->ports ? want->rtp : 0, rtcp = want->ports ? want->rtcp : 1;
    for (unsigned next = 0; next < 256; next += 2) {
        if (!channel_taken(t, c, s, (uint8_t)rtp) && !channel_taken(t, c, s, (uint8_t)rtcp)) {
            s->rtp_channel = (uint8_t)rtp;
            s->rtcp_channel = (uint8_t)rtcp;
            return true;
        }
        rtp = next;
        rtcp = next + 1;
    }
    return false;
}

/* Packets to these ports would come back to us: the stream would feed itself. */
static bool is_ours(bmb_talk *t, const bmb_conn *c, const bmb_rtsp_transport *want)
{
    bmb_addr local = { .family = 0 };
    uint16_t port = bmb_session_sockets(t, c->peer.family)->port;
    if ((uint16_t)(want->rtp - port) > 1 && (uint16_t)(want->rtcp - port) > 1) return false;
    return t->x->port->net.local(t->x->port->ctx, c->sock, &local) != BMB_OK || bmb_same_host(&local, &c->peer);
}

/* Does this choice of the client's fit? Fills the session in. */
static bool try_transport(bmb_talk *t, bmb_conn *c, const bmb_rtsp_transport *want, bmb_session *s)
{
    bmb_stream_state *state = &s->viewer.state;
    s->feedback = false;
    s->own_stream = want->feedback;
    s->peer = c->peer; /* only to who asked, whatever destination was named */
    if (want->kind == BMB_RTSP_TCP) {
        if (!take_channels(t, c, want, s)) return false;
        s->via = BMB_VIA_RTP_TCP;
        state->interleaved = true;
        state->channel = s->rtp_channel;
        return true;
    }
    if (c->cookie != 0) return false;     /* a tunnel is there because nothing else passes */
    if (bmb_conn_secure(c)) return false; /* datagrams are not encrypted */
    if (want->kind == BMB_RTSP_UDP) {
        if (bmb_session_sockets(t, c->peer.family) == NULL || is_ours(t, c, want)) return false;
        s->via = BMB_VIA_RTP_UDP;
#if BMB_WITH_REPEATS
        s->feedback = c->rtsp.feedback;
#endif
        s->peer.port = want->rtp;
        s->rtcp_port = want->rtcp;
        return true;
    }
    s->via = BMB_VIA_RTP_MULTICAST;
    if (!bmb_talk_may_group(t, s->track->feed)) return false;
    return s->track->feed->config->multicast.group.family != 0 && t->x->port->net.udp_open != NULL;
}

static void put_transport(bmb_talk *t, const bmb_session *s, bmb_writer *w)
{
    const bmb_multicast *m = &s->track->feed->config->multicast;
    bmb_put_str(w, "Transport: RTP/AVP");
    if (BMB_WITH_REPEATS && s->own_stream) bmb_put_u8(w, 'F');
    if (s->via == BMB_VIA_RTP_TCP) {
        bmb_put_text(w, "/TCP;unicast;interleaved=%u-%u", s->rtp_channel, s->rtcp_channel);
    } else if (s->via == BMB_VIA_RTP_UDP) {
        const bmb_udp_pair *pair = bmb_session_sockets(t, s->peer.family);
        bmb_put_text(w, ";unicast;client_port=%u-%u;server_port=%u-%u", s->peer.port, s->rtcp_port, pair->port,
                     pair->port + 1u);
    } else {
        bmb_put_str(w, ";multicast;destination=");
        bmb_put_ip(w, &m->group);
        bmb_put_text(w, ";port=%u-%u;ttl=%u", m->group.port, m->group.port + 1u, m->ttl > 0 ? m->ttl : 1u);
    }
    if (s->via != BMB_VIA_RTP_MULTICAST) { /* a group's is drawn when its sender starts */
        bmb_put_str(w, ";ssrc=");
        bmb_put_hex(w, s->viewer.state.ssrc, 8);
    }
    bmb_put_str(w, "\r\n");
}

static bool choose_transport(bmb_talk *t, bmb_conn *c, bmb_session *s)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    s->viewer.state.interleaved = false;
    for (uint8_t i = 0; i < r->transport_count; i++)
        if (try_transport(t, c, &r->transport[i], s)) return true;
    return false;
}

void bmb_rtsp_setup(bmb_talk *t, bmb_conn *c)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    bmb_feed *feed = bmb_rtsp_find(t, r);
    bmb_track *track = feed != NULL ? bmb_rtsp_track(feed, r) : NULL;
    bmb_session *s = bmb_rtsp_named_session(t, c);
    if (feed != NULL && !r->track && track == NULL) { /* one session is one stream: each is set up by itself */
        bmb_rtsp_reply_status(t, c, 459);
        return;
    }
    if (track == NULL) {
        bmb_rtsp_reply_not_found(t, c);
        return;
    }
    unsigned refusal = r->has_session && s == NULL                                         ? 454
                       : s != NULL && (s->state != BMB_SESSION_READY || s->track != track) ? 455
                       : !r->has_transport                                                 ? 400
                       : bmb_track_refusal(track) != BMB_JPEG_RTP_OK                       ? 415
                                                                                           : 0;
    if (refusal != 0) {
        bmb_rtsp_reply_status(t, c, refusal);
        return;
    }
    if (s == NULL) s = bmb_session_open(t, track, c);
    if (s == NULL) {
        t->refused++;
        bmb_rtsp_reply_status(t, c, 453);
        return;
    }
    bmb_session_move(t, s, c);
    s->by = c->by;
    if (!choose_transport(t, c, s)) {
        s->via = BMB_VIA_HTTP; /* none: nothing of a transport is to be undone */
        bmb_session_close(t, s, &c->peer);
        bmb_rtsp_reply_status(t, c, 461);
        return;
    }
    bmb_writer w = bmb_rtsp_reply_ok(t, c);
    bmb_rtsp_put_session(t, s, &w);
    put_transport(t, s, &w);
    bmb_rtsp_reply_end(c, &w);
}
