#include "talk/session_rtcp.h"

#include "base/bounds.h"
#include "wire/rtcp.h"

/* The round trip from our report's time, the receiver's delay, and now (RFC 3550 6.4.1). */
static uint32_t round_trip_us(bmb_talk *t, const bmb_rtcp_block *b)
{
    int64_t wall = bmb_wall(t->x);
    if (b->last_report == 0 || wall == 0) return 0;
    int32_t units = (int32_t)(bmb_ntp_middle(wall) - b->last_report - b->delay);
    return units > 0 ? (uint32_t)((uint64_t)units * 1000000 / 65536) : 1;
}

static bool is_receiver(const bmb_session *s, uint32_t source)
{
#if BMB_WITH_ACCESS
    return s->reports && source != 0 && source == s->receiver;
#else
    (void)s;
    (void)source;
    return false;
#endif
}

/* true: one of the blocks is about this session's stream. *bye: and its receiver leaves. Only who knows the stream's
 * SSRC, or said before which one is its own, can have received it. own: it came over the session's own connection,
 * which nobody else can write to. */
static bool take_reports(bmb_talk *t, bmb_session *s, const uint8_t *data, size_t size, bool own, bool *bye)
{
    bmb_rtcp_walk walk = { 0 };
    bmb_rtcp_block b;
    bool ours = false;
    while (bmb_rtcp_next(&walk, data, size, &b)) {
        if (b.ssrc != bmb_session_sender(t, s)->state.ssrc) continue;
        ours = true;
#if BMB_WITH_ACCESS
        s->receiver = b.from;
#endif
        s->reports = true;
        s->lost_256 = b.lost_256;
        s->lost = b.lost;
        s->jitter_us = (uint32_t)((uint64_t)b.jitter * 100 / 9);
        s->round_trip_us = round_trip_us(t, &b);
        if (s->via == BMB_VIA_RTP_UDP) bmb_viewer_reported(t->x, &s->viewer, b.lost_256);
    }
    if (BMB_WITH_H264 && walk.key_of == bmb_session_sender(t, s)->state.ssrc && s->track->row->in_order) {
        ours = true;
        const bmb_viewer *sender = bmb_session_sender(t, s);
        bmb_camera_want_key(
            t->x,
            &(sender->framer != NULL ? sender->track : s->track)->feed->camera); /* at a bounded rate, whoever asks */
    }
    *bye = walk.bye && (own || ours || is_receiver(s, walk.left));
    return ours;
}

bool bmb_session_rtcp(bmb_talk *t, bmb_session *s, const uint8_t *data, size_t size)
{
    bool bye = false;
    (void)take_reports(t, s, data, size, true, &bye);
    s->alive_us = t->x->now;
    return bye;
}

static void repeat_missed(bmb_talk *t, bmb_session *s, const uint8_t *data, size_t size)
{
#if BMB_WITH_REPEATS
    uint16_t missed[BMB_MISSED_MOST];
    if (!s->feedback || s->state != BMB_SESSION_PLAYING) return;
    size_t count = bmb_rtcp_missed(data, size, s->viewer.state.ssrc, missed, BMB_MISSED_MOST);
    const bmb_link link = bmb_datagram_link(t->x, bmb_session_sockets(t, s->peer.family)->rtp, &s->peer);
    for (size_t i = 0; i < count; i++)
        bmb_viewer_repeat(t->x, &s->viewer, &t->repeats[bmb_session_number(t, s) - 1], &link, missed[i]);
#else
    (void)t, (void)s, (void)data, (void)size;
#endif
}

/* From a host that a session plays to. A sign of life is a report on the stream alone: everything else may be sent by
 * somebody who has never seen it. */
static void take_datagram(bmb_talk *t, const bmb_addr *from, const uint8_t *data, size_t size)
{
    for (uint16_t i = 0; i < t->session_most; i++) {
        bmb_session *s = &t->sessions[i];
        bool bye = false;
        if (s->state == BMB_SESSION_FREE || s->via != BMB_VIA_RTP_UDP || !bmb_same_host(&s->peer, from)) continue;
        if (BMB_WITH_REPEATS) repeat_missed(t, s, data, size);
        if (take_reports(t, s, data, size, false, &bye)) {
            s->alive_us = t->x->now;
            s->unreachable = 0;
        }
        if (bye) bmb_session_end(t, s, BMB_ENDING_BYE);
    }
}

/* Does the answer quote a packet that this session was sent? Who is not on its way has never seen one. quoted NULL: the
 * port cannot tell. */
static bool is_ours(const bmb_session *s, const uint8_t *quoted, size_t size)
{
    const bmb_stream_state *state = &s->viewer.state;
    if (quoted == NULL) return true;
    bmb_reader r = bmb_reader_of(quoted, size);
    uint32_t first = bmb_get_u32(&r), behind = state->next_seq - first + BMB_ANSWERED_MOST; /* or ahead, on its way */
    (void)bmb_get_u32(&r);
    return first >> 30 == 2 && bmb_get_u32(&r) == state->ssrc && !r.failed && (uint16_t)behind <= 2 * BMB_ANSWERED_MOST;
}

/* One such answer may be a receiver that is just opening its port; a few of them, and no report and no request, are a
 * receiver that is gone. Only the port of RTP counts: not every receiver listens for RTCP. */
static void take_unreachable(bmb_talk *t, const bmb_addr *to, const uint8_t *quoted, size_t size)
{
    for (uint16_t i = 0; i < t->session_most; i++) {
        bmb_session *s = &t->sessions[i];
        bool ours = s->state == BMB_SESSION_PLAYING && s->via == BMB_VIA_RTP_UDP && bmb_same_host(&s->peer, to) &&
                    s->peer.port == to->port && is_ours(s, quoted, size);
        if (!ours) continue;
        const uint32_t now_ms = (uint32_t)(t->x->now / 1000);
        if (s->unreachable == 0 || bmb_ms_between(s->alive_us, t->x->now) < now_ms - s->unreachable_ms) {
            s->unreachable = 0; /* it is alive, or this is the first one */
            s->unreachable_ms = now_ms;
        }
        if (s->unreachable < UINT8_MAX) s->unreachable++;
        if (s->unreachable >= BMB_UNREACHABLE_LEAST && now_ms - s->unreachable_ms >= BMB_UNREACHABLE_US / 1000)
            bmb_session_end(t, s, BMB_ENDING_UNREACHABLE);
    }
}

/* *size: the room for what is quoted, and how much was. */
static bmb_err next_answer(const bmb_port *port, bmb_sock sock, bmb_addr *to, uint8_t *quoted, size_t *size)
{
    if (port->udp_answer != NULL) return port->udp_answer(port->ctx, sock, to, quoted, *size, size);
    return port->net.udp_unreachable != NULL ? port->net.udp_unreachable(port->ctx, sock, to) : BMB_AGAIN;
}

void bmb_session_datagrams(bmb_talk *t, bmb_sock sock)
{
    const bmb_net *net = &t->x->port->net;
    uint8_t data[512];
    bmb_addr addr;
    for (unsigned i = 0; i < BMB_DATAGRAMS; i++) {
        size_t size = 0;
        if (net->udp_recv(t->x->port->ctx, sock, data, sizeof data, &size, &addr) != BMB_OK || size > sizeof data)
            break;
        take_datagram(t, &addr, data, size);
    }
    for (unsigned i = 0; i < BMB_DATAGRAMS; i++) {
        size_t size = sizeof data; /* of a port that cannot tell: no packet's beginning is there to be looked at */
        if (next_answer(t->x->port, sock, &addr, data, &size) != BMB_OK) return;
        take_unreachable(t, &addr, t->x->port->udp_answer != NULL ? data : NULL, size);
    }
}
