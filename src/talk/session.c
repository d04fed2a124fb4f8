#include "talk/session.h"

#include <stddef.h>
#include <string.h>

#include "base/bounds.h"
#include "flow/verdict.h"

uint16_t bmb_session_number(const bmb_talk *t, const bmb_session *s)
{
    return (uint16_t)(s - t->sessions + 1);
}

bmb_session *bmb_session_at(const bmb_talk *t, uint16_t number)
{
    return number != 0 ? &t->sessions[number - 1] : NULL;
}

static bmb_session *session_of(bmb_watcher *w)
{
    return (bmb_session *)(void *)((uint8_t *)w - offsetof(bmb_session, viewer));
}

static void schedule(bmb_talk *t, bmb_session *s);

/* The sessions of a connection are a list, so that none has to be looked for among all. */
static void attach(bmb_talk *t, bmb_session *s, bmb_conn *c)
{
    s->conn = bmb_conn_number(t, c);
    s->next = c->sessions;
    c->sessions = bmb_session_number(t, s);
}

static void detach(bmb_talk *t, bmb_session *s)
{
    if (s->conn == 0) return;
    bmb_conn *c = bmb_conn_at(t, s->conn);
    uint16_t *at = &c->sessions, self = bmb_session_number(t, s);
    while (*at != 0 && *at != self) at = &bmb_session_at(t, *at)->next;
    if (*at == self) *at = s->next;
    if (c->mid == self) c->mid = 0;
    s->conn = 0;
    s->next = 0;
    bmb_conn_schedule(t, c);
}

void bmb_session_move(bmb_talk *t, bmb_session *s, bmb_conn *c)
{
    detach(t, s);
    attach(t, s, c);
}

static bool unplayed(const bmb_session *s)
{
    return s->state == BMB_SESSION_READY && s->viewer.sent == 0;
}

static bool has_another(const bmb_talk *t, const bmb_session *one)
{
    for (const bmb_session *s = t->sessions; s < t->sessions + t->session_most; s++)
        if (s != one && unplayed(s) && bmb_same_host(&s->peer, &one->peer)) return true;
    return false;
}

/* Whoever sets up and plays nothing takes no place from others: the oldest such session goes where it had its time, or
 * where another host has more of them. */
static bmb_session *make_place(bmb_talk *t, const bmb_conn *by)
{
    bmb_session *own = NULL, *other = NULL;
    for (bmb_session *s = t->sessions; s < t->sessions + t->session_most; s++) {
        if (!unplayed(s)) continue;
        bmb_session **oldest = bmb_same_host(&s->peer, &by->peer) ? &own : &other;
        if (*oldest == NULL || s->alive_us < (*oldest)->alive_us) *oldest = s;
    }
    bmb_session *s = other != NULL && has_another(t, other) ? other : NULL;
    if (s == NULL && own != NULL && bmb_older_than(t->x, own->alive_us, BMB_UNPLAYED_US)) s = own;
    if (s == NULL && other != NULL && bmb_older_than(t->x, other->alive_us, BMB_UNPLAYED_US)) s = other;
    if (s != NULL) bmb_session_close(t, s, &s->peer);
    return s;
}

static bmb_session *free_session(bmb_talk *t, const bmb_conn *by)
{
    /* The last one is there with accounts, and is kept as the place for an administrator is. */
    uint16_t most = t->session_most > t->x->config->viewers && !bmb_talk_administers(t, bmb_conn_account(by))
                        ? t->x->config->viewers
                        : t->session_most;
    for (uint16_t i = 0; i < most; i++)
        if (t->sessions[i].state == BMB_SESSION_FREE) return &t->sessions[i];
    return BMB_WITH_ACCESS ? make_place(t, by) : NULL;
}

bmb_session *bmb_session_open(bmb_talk *t, bmb_track *track, const bmb_conn *by)
{
    bmb_session *s = free_session(t, by);
    if (s == NULL) return NULL;
    memset(s, 0, sizeof *s);
    s->state = BMB_SESSION_READY;
    s->track = track;
    s->via = BMB_VIA_HTTP; /* none yet */
    s->peer = by->peer;
    s->alive_us = t->x->now;
    t->x->port->random(t->x->port->ctx, &s->id, sizeof s->id);
    bmb_rtp_start_stream(t->x, track, &s->viewer.state);
    t->session_live++;
    schedule(t, s);
    return s;
}

bmb_session *bmb_session_find(bmb_talk *t, const char *id)
{
    for (uint16_t i = 0; i < t->session_most; i++) {
        char text[BMB_RTSP_SESSION_SIZE];
        bmb_session *s = &t->sessions[i];
        if (s->state == BMB_SESSION_FREE) continue;
        bmb_writer w = bmb_writer_of(text, sizeof text);
        bmb_put_hex(&w, s->id, BMB_RTSP_SESSION_SIZE);
        if (bmb_same(text, sizeof text, id)) return s;
    }
    return NULL;
}

bmb_udp_pair *bmb_session_sockets(bmb_talk *t, uint8_t family)
{
    size_t index = family == 6 ? 1 : 0;
    bmb_udp_pair *pair = &t->udp[index];
    const bmb_udp_options options = { 0 };
    if (pair->port != 0) return pair;
    if (t->x->port->net.udp_open == NULL || bmb_rtp_open_pair(t->x, family, &options, pair) != BMB_OK) {
        pair->port = 0;
        return NULL;
    }
    /* RTP's own socket is read, too: some receivers send their first packet there to open a firewall. */
    (void)t->x->port->net.watch(t->x->port->ctx, pair->rtp, BMB_READABLE, (uint32_t)(BMB_TOKEN_UDP + 2 * index));
    (void)t->x->port->net.watch(t->x->port->ctx, pair->rtcp, BMB_READABLE, (uint32_t)(BMB_TOKEN_UDP + 2 * index + 1));
    return pair;
}

const bmb_viewer *bmb_session_sender(const bmb_talk *t, const bmb_session *s)
{
    return s->via == BMB_VIA_RTP_MULTICAST ? t->groups->sender(t->groups, s->track->feed) : &s->viewer;
}

/* From now on it can be told which frame a packet was of. */
static void note_packets(bmb_talk *t, bmb_session *s)
{
#if BMB_WITH_REPEATS
    bmb_repeats *r = s->feedback ? &t->repeats[bmb_session_number(t, s) - 1] : NULL;
    if (r != NULL && s->viewer.state.sent == NULL) {
        bmb_repeats_start(t->x, r, s->own_stream);
        if (s->own_stream) /* so that a packet fits with it, too */
            s->viewer.state.payload_max = (uint16_t)(t->x->config->rtp_packet - BMB_REPEAT_NUMBER);
    }
    s->viewer.state.sent = r != NULL ? &r->sent : NULL;
#else
    (void)t, (void)s;
#endif
}

bmb_err bmb_session_play(bmb_talk *t, bmb_session *s, const bmb_addr *who, uint16_t account)
{
    if (s->state == BMB_SESSION_PLAYING) return BMB_OK;
    if (!bmb_talk_has_place(t, s->track->feed, who, account)) return BMB_LIMIT;
    /* One more of a group that is sent already takes nothing. */
    bool alone = s->via != BMB_VIA_RTP_MULTICAST || bmb_session_sender(t, s)->framer == NULL;
    if (alone && !bmb_talk_fits_uplink(t, s->track->feed, who)) return BMB_LIMIT;
    if (s->via == BMB_VIA_RTP_MULTICAST) {
        bmb_err err = t->groups->join(t->groups, s->track->feed, s->holds);
        if (err != BMB_OK) return err;
        s->holds = true;
    }
    const bmb_viewing how = { .owner = s->via == BMB_VIA_RTP_MULTICAST ? &t->member : &t->playing,
                              .tally = &s->by->past,
                              .framer = bmb_rtp_framer(s->track),
                              .counted = true,
                              .fixed = s->via == BMB_VIA_RTP_MULTICAST };
    bmb_viewer_begin(t->x, &s->viewer, s->track, &how);
    s->state = BMB_SESSION_PLAYING;
    note_packets(t, s);
    s->report_us = 0;
    s->unreachable = 0;
    bmb_viewer_came(t->x, &s->viewer, who);
    /* A group's own newcomers wait for its next key frame, too. */
    bmb_feed_welcome(t->x, s->track->feed);
    if (s->via != BMB_VIA_RTP_MULTICAST && bmb_viewer_prime(t->x, &s->viewer) && s->via == BMB_VIA_RTP_UDP) {
        s->viewer.pace_us = t->x->now; /* goes out in this step */
        schedule(t, s);
    }
    return BMB_OK;
}

/* Its frame is not under way any more. */
static void forget_middle(bmb_talk *t, const bmb_session *s)
{
    bmb_conn *c = bmb_conn_at(t, s->conn);
    if (c != NULL && c->mid == bmb_session_number(t, s)) c->mid = 0;
}

void bmb_session_pause(bmb_talk *t, bmb_session *s, const bmb_addr *who)
{
    if (s->state != BMB_SESSION_PLAYING) return;
    uint64_t sent = s->viewer.sent;
    forget_middle(t, s);
    if (s->via == BMB_VIA_RTP_MULTICAST) t->groups->leave(t->groups, s->track->feed);
    bmb_rtp_pause(t->x, &s->viewer);
    s->state = BMB_SESSION_READY;
    schedule(t, s);
    bmb_viewer_tell(t->x, s->track->feed, who, BMB_EVENT_VIEWER_LEFT, s->track->feed->viewers, (int64_t)sent);
}

static bmb_addr rtcp_of(const bmb_session *s)
{
    bmb_addr to = s->peer;
    to.port = s->rtcp_port;
    return to;
}

void bmb_session_close(bmb_talk *t, bmb_session *s, const bmb_addr *who)
{
    if (s->state == BMB_SESSION_FREE) return;
    if (s->via == BMB_VIA_RTP_UDP && s->viewer.state.packets > 0) {
        const bmb_addr rtcp = rtcp_of(s);
        bmb_rtp_send_report(t->x, &s->viewer, true, bmb_session_sockets(t, s->peer.family)->rtcp, &rtcp);
    }
    bmb_session_pause(t, s, who);
    if (s->holds) t->groups->let_go(t->groups, s->track->feed);
    detach(t, s);
    s->state = BMB_SESSION_FREE;
    t->session_live--;
}

void bmb_session_conn_closed(bmb_talk *t, bmb_conn *c)
{
    while (c->sessions != 0) {
        bmb_session *s = bmb_session_at(t, c->sessions);
        detach(t, s);
        s->alive_us = t->x->now; /* the last sign of life that this connection gave */
        schedule(t, s);
        if (s->via == BMB_VIA_RTP_TCP) bmb_session_close(t, s, &c->peer);
    }
}

bool bmb_session_report(bmb_talk *t, bmb_session *s, bmb_writer *w)
{
    if (s->state != BMB_SESSION_PLAYING || s->viewer.sent == 0 || t->x->now < s->report_us) return false;
    s->report_us = t->x->now + BMB_REPORT_US;
    bmb_rtp_put_report(t->x, &s->viewer, false, w);
    return true;
}

void bmb_session_end(bmb_talk *t, bmb_session *s, bmb_ending why)
{
    const bmb_addr peer = s->peer;
    if (s->state == BMB_SESSION_PLAYING) bmb_viewer_tell(t->x, s->track->feed, &peer, BMB_EVENT_SESSION_ENDED, why, 0);
    bmb_session_close(t, s, &peer);
}

/* An interleaved session that plays lives as long as its connection takes its frames; one over UDP whose connection is
 * closed must report, or its receiver is taken for dead. */
static bool is_orphan(const bmb_session *s)
{
    return s->conn == 0 && s->via == BMB_VIA_RTP_UDP && s->state == BMB_SESSION_PLAYING;
}

static uint64_t end_of(const bmb_talk *t, const bmb_session *s)
{
    uint64_t silent = s->alive_us + (uint64_t)t->x->config->session_ms * 1000, orphan = s->alive_us + BMB_ORPHAN_US;
    if (s->state == BMB_SESSION_FREE || (s->via == BMB_VIA_RTP_TCP && s->state == BMB_SESSION_PLAYING))
        return UINT64_MAX;
    return is_orphan(s) && orphan < silent ? orphan : silent;
}

/* When it ends for want of life, or more of a frame is to be sent. */
static void schedule(bmb_talk *t, bmb_session *s)
{
    uint64_t due = end_of(t, s);
    bool bursts = s->state == BMB_SESSION_PLAYING && s->via == BMB_VIA_RTP_UDP && bmb_viewer_in_bursts(&s->viewer);
    if (bursts && s->viewer.pace_us < due) due = s->viewer.pace_us;
    bmb_timers_by(&t->timers, (uint16_t)(t->conn_most + (s - t->sessions)), due, t->x->now);
}

static void deliver_unicast(bmb_talk *t, bmb_session *s)
{
    const bmb_udp_pair *pair = bmb_session_sockets(t, s->peer.family);
    const bmb_addr rtcp = rtcp_of(s);
    const bmb_rtp_way way = { .rtp = pair->rtp, .rtcp = pair->rtcp, .to = &s->peer, .rtcp_to = &rtcp };
    (void)bmb_rtp_pump(t->x, &s->viewer, &way, &s->report_us);
    schedule(t, s);
}

void bmb_session_due(bmb_talk *t, bmb_session *s)
{
    if (s->state == BMB_SESSION_PLAYING && s->via == BMB_VIA_RTP_UDP && bmb_viewer_in_bursts(&s->viewer))
        deliver_unicast(t, s);
    bool abandoned = is_orphan(s) && bmb_older_than(t->x, s->alive_us, BMB_ORPHAN_US);
    if (t->x->now >= end_of(t, s)) bmb_session_end(t, s, abandoned ? BMB_ENDING_ABANDONED : BMB_ENDING_SILENT);
    schedule(t, s);
}

static bmb_talk *talk_of(bmb_owner *owner)
{
    return (bmb_talk *)owner->room;
}

static void describe(bmb_owner *owner, bmb_watcher *w, bmb_viewer_stats *out)
{
    const bmb_talk *t = talk_of(owner);
    const bmb_session *s = session_of(w);
    /* A group's viewers share one sender; only the place that they take is their own. */
    bmb_viewer_figures(t->x, bmb_session_sender(t, s), out);
    out->watching_ms = bmb_ms_between(s->viewer.since_us, bmb_clock(t->x));
    out->transport = (bmb_transport)s->via;
    out->peer = s->peer;
    out->reports = s->reports;
    out->lost = s->lost > 0 ? (uint32_t)s->lost : 0;
    out->lost_256 = s->lost_256;
    out->jitter_us = s->jitter_us;
    out->round_trip_us = s->round_trip_us;
    const bmb_conn *c = BMB_WITH_VERDICTS && s->via == BMB_VIA_RTP_TCP ? bmb_conn_at(t, s->conn) : NULL;
    if (BMB_WITH_VERDICTS) bmb_viewer_judge(t->x, bmb_session_sender(t, s), c != NULL ? c->sock : BMB_NO_SOCK, out);
}

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    bmb_talk *t = talk_of(owner);
    bmb_session *s = session_of(w);
    if (s->via == BMB_VIA_RTP_UDP) deliver_unicast(t, s);
    if (s->via == BMB_VIA_RTP_TCP) bmb_conn_deliver(t, bmb_conn_at(t, s->conn));
}

/* An interleaved stream cannot stop in the middle of a packet, and RTSP has no word for this: the connection ends. */
static void put_out(bmb_owner *owner, bmb_watcher *w)
{
    bmb_talk *t = talk_of(owner);
    bmb_session *s = session_of(w);
    if (s->via == BMB_VIA_RTP_TCP) {
        bmb_conn_put_out(t, bmb_conn_at(t, s->conn), s->track->feed);
    } else {
        bmb_viewer_abandon(&s->viewer);
    }
}

static void end_quietly(bmb_talk *t, bmb_session *s)
{
    const bmb_addr peer = s->peer;
    bmb_session_close(t, s, &peer);
}

static void end_with_feed(bmb_talk *t, bmb_session *s)
{
    bmb_conn *c = bmb_conn_at(t, s->conn);
    if (s->via == BMB_VIA_RTP_TCP && c != NULL) {
        bmb_conn_close(t, c);
    } else {
        end_quietly(t, s);
    }
}

static void feed_gone(bmb_owner *owner, bmb_watcher *w)
{
    end_with_feed(talk_of(owner), session_of(w));
}

const bmb_owner bmb_session_owner = {
    .frame_there = frame_there, .put_out = put_out, .feed_gone = feed_gone, .describe = describe
};

void bmb_session_feed_gone(bmb_talk *t, const bmb_feed *feed, bool group)
{
    for (uint16_t i = 0; i < t->session_most; i++) {
        bmb_session *s = &t->sessions[i];
        bool meant = !group || s->via == BMB_VIA_RTP_MULTICAST;
        if (s->state != BMB_SESSION_FREE && s->track->feed == feed && meant) end_with_feed(t, s);
    }
}

void bmb_session_outlet_gone(bmb_talk *t, const bmb_opening *by)
{
    for (uint16_t i = 0; i < t->session_most; i++)
        if (t->sessions[i].state != BMB_SESSION_FREE && t->sessions[i].by == by) end_quietly(t, &t->sessions[i]);
}

void bmb_session_close_all(bmb_talk *t)
{
    for (uint16_t i = 0; i < t->session_most; i++) end_quietly(t, &t->sessions[i]);
}

void bmb_session_close_sockets(bmb_talk *t)
{
    const bmb_port *port = t->x->port;
    for (size_t i = 0; i < 2; i++) {
        if (t->udp[i].port == 0) continue;
        port->net.close(port->ctx, t->udp[i].rtp);
        port->net.close(port->ctx, t->udp[i].rtcp);
    }
}
