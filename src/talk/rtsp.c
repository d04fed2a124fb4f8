#include "talk/rtsp.h"

#include <stddef.h>
#include <string.h>

#include "serve/rtsp_answer.h"
#include "talk/session.h"
#include "talk/tunnel.h"

static void open_conversation(bmb_talk *t, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    bmb_rtsp_parse_reset(&c->rtsp);
    bmb_conn_await(t, c, false);
}

static bmb_writer answer(bmb_talk *t, bmb_conn *c)
{
    c->tx_at = c->tx_size = 0;
    c->since_us = t->x->now;
    return bmb_writer_of(c->tx, t->tx_room);
}

static void send_answer(bmb_conn *c, const bmb_writer *w)
{
    c->tx_size = (uint16_t)bmb_written(w);
}

static void answer_status(bmb_talk *t, bmb_conn *c, unsigned status)
{
    bmb_writer w = answer(t, c);
    bmb_rtsp_status(&w, status, &c->rtsp);
    send_answer(c, &w);
}

/* There is nothing of that name: says what there is, and tells the owner. */
static void answer_not_found(bmb_talk *t, bmb_conn *c)
{
    bmb_writer body = bmb_writer_of(t->x->scratch, BMB_SDP_ROOM), w = answer(t, c);
    bmb_rtsp_addresses(&body, &c->rtsp, t->x->config, bmb_feeds_removed(t->feeds));
    bmb_rtsp_begin(&w, 404, &c->rtsp);
    bmb_rtsp_body(&w, "text/plain", t->x->scratch, bmb_written(&body));
    send_answer(c, &w);
    char asked[sizeof c->rtsp.feed + sizeof c->rtsp.track_name + 2];
    bmb_writer a = bmb_writer_of(asked, sizeof asked);
    bmb_put_u8(&a, '/');
    bmb_put_str(&a, c->rtsp.feed);
    if (c->rtsp.track) bmb_put_u8(&a, '/');
    bmb_put_str(&a, c->rtsp.track_name);
    bmb_conn_not_found(t, c, "RTSP ", asked, bmb_written(&a));
}

static void put_session(bmb_talk *t, const bmb_session *s, bmb_writer *w)
{
    bmb_put_str(w, "Session: ");
    bmb_put_hex(w, s->id, BMB_RTSP_SESSION_SIZE);
    bmb_put_str(w, ";timeout=");
    bmb_put_dec(w, t->x->config->session_ms / 1000);
    bmb_put_str(w, "\r\n");
}

/* The address as the client wrote it, so that it matches what the client compares it with. */
static void put_address(const bmb_conn *c, const bmb_feed *feed, bmb_writer *w)
{
    bmb_put_str(w, "rtsp://");
    bmb_put_str(w, c->rtsp.host);
    bmb_put_u8(w, '/');
    bmb_put_str(w, feed->config->name);
}

static bmb_feed *find_feed(const bmb_talk *t, const bmb_rtsp_parse *r)
{
    return bmb_feeds_named(t->feeds, r->feed);
}

static bool track_is_right(const bmb_rtsp_parse *r)
{
    return !r->track || strcmp(r->track_name, BMB_RTP_VIDEO) == 0;
}

static void options(bmb_talk *t, bmb_conn *c)
{
    bmb_writer w = answer(t, c);
    bmb_rtsp_begin(&w, 200, &c->rtsp);
    bmb_put_str(&w, BMB_RTSP_PUBLIC);
    bmb_rtsp_end(&w);
    send_answer(c, &w);
}

static void await_frame(bmb_talk *t, bmb_conn *c, bmb_feed *feed)
{
    if (c->state == BMB_CONN_WAITING) return;
    c->state = BMB_CONN_WAITING;
    c->since_us = t->x->now;
    c->awaited = feed;
    bmb_feed_join(feed, &c->waiting, &t->describing);
}

static void await_no_frame(bmb_conn *c)
{
    if (c->awaited != NULL) bmb_feed_leave(c->awaited, &c->waiting);
    c->awaited = NULL;
}

static void describe(bmb_talk *t, bmb_conn *c)
{
    bmb_feed *feed = find_feed(t, &c->rtsp);
    if (feed == NULL || !track_is_right(&c->rtsp)) {
        answer_not_found(t, c);
        return;
    }
    if (!bmb_feed_described(feed)) { /* the camera is starting: the first frame will tell */
        await_frame(t, c, feed);
        return;
    }
    if (feed->codec.refusal != BMB_JPEG_RTP_OK) {
        answer_status(t, c, 415);
        return;
    }
    bmb_addr origin = { .family = 4 };
    (void)t->x->port->net.local(t->x->port->ctx, c->sock, &origin);
    /* The client chooses: a description with a group's address would turn a unicast player away. */
    const bmb_sdp sdp = bmb_rtp_describe(t->x, feed, &origin, NULL, true);
    bmb_writer body = bmb_writer_of(t->x->scratch, BMB_SDP_ROOM), w = answer(t, c);
    bmb_sdp_write(&body, &sdp);
    bmb_rtsp_begin(&w, 200, &c->rtsp);
    if (c->rtsp.host[0] != '\0') {
        bmb_put_str(&w, "Content-Base: ");
        put_address(c, feed, &w);
        bmb_put_str(&w, "/\r\n");
    }
    bmb_rtsp_body(&w, "application/sdp", t->x->scratch, bmb_written(&body));
    send_answer(c, &w);
}

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

/* Does this choice of the client's fit? Fills the session in. */
static bool try_transport(bmb_talk *t, bmb_conn *c, const bmb_rtsp_transport *want, bmb_session *s)
{
    bmb_stream_state *state = &s->viewer.state;
    s->peer = c->peer; /* only to who asked, whatever destination was named */
    if (want->kind == BMB_RTSP_TCP) {
        if (!take_channels(t, c, want, s)) return false;
        s->via = BMB_VIA_RTP_TCP;
        state->interleaved = true;
        state->channel = s->rtp_channel;
        return true;
    }
    if (c->cookie != 0) return false; /* a tunnel is there because nothing else passes */
    if (want->kind == BMB_RTSP_UDP) {
        if (bmb_session_sockets(t, c->peer.family) == NULL) return false;
        s->via = BMB_VIA_RTP_UDP;
        s->peer.port = want->rtp;
        s->rtcp_port = want->rtcp;
        return true;
    }
    s->via = BMB_VIA_RTP_MULTICAST;
    return s->feed->config->multicast.group.family != 0 && t->x->port->net.udp_open != NULL;
}

static void put_transport(bmb_talk *t, const bmb_session *s, bmb_writer *w)
{
    const bmb_multicast *m = &s->feed->config->multicast;
    bmb_put_str(w, "Transport: RTP/AVP");
    if (s->via == BMB_VIA_RTP_TCP) {
        bmb_put_str(w, "/TCP;unicast;interleaved=");
        bmb_put_dec(w, s->rtp_channel);
        bmb_put_u8(w, '-');
        bmb_put_dec(w, s->rtcp_channel);
    } else if (s->via == BMB_VIA_RTP_UDP) {
        const bmb_udp_pair *pair = bmb_session_sockets(t, s->peer.family);
        bmb_put_str(w, ";unicast;client_port=");
        bmb_put_dec(w, s->peer.port);
        bmb_put_u8(w, '-');
        bmb_put_dec(w, s->rtcp_port);
        bmb_put_str(w, ";server_port=");
        bmb_put_dec(w, pair->port);
        bmb_put_u8(w, '-');
        bmb_put_dec(w, pair->port + 1u);
    } else {
        bmb_put_str(w, ";multicast;destination=");
        bmb_put_ip(w, &m->group);
        bmb_put_str(w, ";port=");
        bmb_put_dec(w, m->group.port);
        bmb_put_u8(w, '-');
        bmb_put_dec(w, m->group.port + 1u);
        bmb_put_str(w, ";ttl=");
        bmb_put_dec(w, m->ttl > 0 ? m->ttl : 1);
    }
    if (s->via != BMB_VIA_RTP_MULTICAST) { /* a group's is drawn when its sender starts */
        bmb_put_str(w, ";ssrc=");
        bmb_put_hex(w, s->viewer.state.ssrc, 8);
    }
    bmb_put_str(w, "\r\n");
}

/* A session may be named by nobody but who set it up: the address must match as well. */
static bmb_session *named_session(bmb_talk *t, const bmb_conn *c)
{
    bmb_session *s = c->rtsp.has_session ? bmb_session_find(t, c->rtsp.session) : NULL;
    if (s == NULL || !bmb_same_host(&s->peer, &c->peer)) return NULL;
    if (s->via == BMB_VIA_RTP_TCP && s->conn != bmb_conn_number(t, c)) return NULL; /* it belongs to its connection */
    return s;
}

/* Any request is a sign of life of the session that it names, and of those that were set up on its connection. */
static void keep_alive(bmb_talk *t, const bmb_conn *c)
{
    bmb_session *named = named_session(t, c);
    if (named != NULL) named->alive_us = t->x->now;
    for (bmb_session *s = bmb_session_at(t, c->sessions); s != NULL; s = bmb_session_at(t, s->next))
        s->alive_us = t->x->now;
}

static bool choose_transport(bmb_talk *t, bmb_conn *c, bmb_session *s)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    s->viewer.state.interleaved = false;
    for (uint8_t i = 0; i < r->transport_count; i++)
        if (try_transport(t, c, &r->transport[i], s)) return true;
    return false;
}

static void setup(bmb_talk *t, bmb_conn *c)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    bmb_feed *feed = find_feed(t, r); /* with one track, the feed's own address means that */
    bmb_session *s = named_session(t, c);
    if (feed == NULL || !track_is_right(r)) {
        answer_not_found(t, c);
        return;
    }
    unsigned refusal = r->has_session && s == NULL                                       ? 454
                       : s != NULL && (s->state != BMB_SESSION_READY || s->feed != feed) ? 455
                       : !r->has_transport                                               ? 400
                       : feed->codec.refusal != BMB_JPEG_RTP_OK                          ? 415
                                                                                         : 0;
    if (refusal != 0) {
        answer_status(t, c, refusal);
        return;
    }
    if (s == NULL) s = bmb_session_open(t, feed);
    if (s == NULL) {
        t->refused++;
        answer_status(t, c, 453);
        return;
    }
    bmb_session_move(t, s, c);
    s->by = c->by;
    if (!choose_transport(t, c, s)) {
        s->via = BMB_VIA_HTTP; /* none: nothing of a transport is to be undone */
        bmb_session_close(t, s, &c->peer);
        answer_status(t, c, 461);
        return;
    }
    bmb_writer w = answer(t, c);
    bmb_rtsp_begin(&w, 200, r);
    put_session(t, s, &w);
    put_transport(t, s, &w);
    bmb_rtsp_end(&w);
    send_answer(c, &w);
}

/* RFC 2326 12.33: what the first packet will carry. Its time is not said where its frame is still to come. */
static void put_rtp_info(const bmb_talk *t, const bmb_conn *c, const bmb_session *s, bmb_writer *w)
{
    const bmb_viewer *sender = bmb_session_sender(t, s);
    const bmb_stream_state *state = &sender->state;
    bmb_put_str(w, "Range: npt=now-\r\n");
    if (c->rtsp.host[0] == '\0') return;
    bmb_put_str(w, "RTP-Info: url=");
    put_address(c, s->feed, w);
    bmb_put_str(w, "/" BMB_RTP_VIDEO ";seq=");
    bmb_put_dec(w, state->next_seq);
    if (sender->watcher.frame != NULL) {
        bmb_put_str(w, ";rtptime=");
        bmb_put_dec(w, state->time_offset + bmb_rtp_time(sender->watcher.frame->capture_us));
    }
    bmb_put_str(w, "\r\n");
}

static void play(bmb_talk *t, bmb_conn *c, bmb_session *s)
{
    bmb_err err = bmb_session_play(t, s, &c->peer);
    if (err != BMB_OK) {
        answer_status(t, c, err == BMB_LIMIT ? 453 : 500);
        return;
    }
    if (s->via == BMB_VIA_RTP_TCP) bmb_bound_unsent(t->x, c->sock, bmb_feed_kbps(t->x, s->feed));
    bmb_writer w = answer(t, c);
    bmb_rtsp_begin(&w, 200, &c->rtsp);
    put_session(t, s, &w);
    put_rtp_info(t, c, s, &w);
    bmb_rtsp_end(&w);
    send_answer(c, &w);
}

static void answer_session(bmb_talk *t, bmb_conn *c, const bmb_session *s)
{
    bmb_writer w = answer(t, c);
    bmb_rtsp_begin(&w, 200, &c->rtsp);
    if (s != NULL) put_session(t, s, &w);
    bmb_rtsp_end(&w);
    send_answer(c, &w);
}

static void teardown(bmb_talk *t, bmb_conn *c, bmb_session *s)
{
    bmb_session_close(t, s, &c->peer);
    answer_session(t, c, NULL);
}

/* Parameters there are none: without a body both are signs of life (RFC 2326 10.8). */
static void parameter(bmb_talk *t, bmb_conn *c, const bmb_session *s)
{
    if (c->rtsp.body) {
        answer_status(t, c, 451);
    } else {
        answer_session(t, c, s);
    }
}

static void act_on_session(bmb_talk *t, bmb_conn *c, bmb_rtsp_method method)
{
    bmb_session *s = named_session(t, c);
    if (s == NULL) {
        answer_status(t, c, 454);
    } else if (!c->rtsp.wildcard && (find_feed(t, &c->rtsp) != s->feed || !track_is_right(&c->rtsp))) {
        answer_not_found(t, c);
    } else if (method == BMB_RTSP_PLAY) {
        play(t, c, s);
    } else if (method == BMB_RTSP_TEARDOWN) {
        teardown(t, c, s);
    } else {
        bmb_session_pause(t, s, &c->peer);
        answer_session(t, c, s);
    }
}

static void act(bmb_talk *t, bmb_conn *c)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    bmb_rtsp_method method = (bmb_rtsp_method)r->method;
    unsigned refusal = r->http                          ? 400
                       : r->error != 0                  ? r->error
                       : r->required                    ? 551
                       : method == BMB_RTSP_NOT_ALLOWED ? 405
                       : method == BMB_RTSP_OTHER       ? 501
                                                        : 0;
    const bmb_session *s = named_session(t, c);
    keep_alive(t, c);
    if (refusal != 0) {
        t->bad_requests++;
        answer_status(t, c, refusal);
    } else if (method == BMB_RTSP_OPTIONS) {
        options(t, c);
    } else if (method == BMB_RTSP_DESCRIBE) {
        describe(t, c);
    } else if (method == BMB_RTSP_SETUP) {
        setup(t, c);
    } else if (method == BMB_RTSP_GET_PARAMETER || method == BMB_RTSP_SET_PARAMETER) {
        if (r->has_session && s == NULL) {
            answer_status(t, c, 454);
        } else {
            parameter(t, c, s);
        }
    } else {
        act_on_session(t, c, method);
    }
}

static void flush(bmb_talk *t, bmb_conn *c);

/* Goodbye was said over the connection. */
static void end_departed(bmb_talk *t, bmb_conn *c)
{
    for (bmb_session *s = bmb_session_at(t, c->sessions); s != NULL;) {
        bmb_session *next = bmb_session_at(t, s->next);
        if (s->departed) bmb_session_close(t, s, &c->peer);
        s = next;
    }
}

static void take_interleaved(bmb_talk *t, const bmb_conn *c, const bmb_rtsp_data *data)
{
    for (bmb_session *s = bmb_session_at(t, c->sessions); s != NULL; s = bmb_session_at(t, s->next))
        if (s->via == BMB_VIA_RTP_TCP && s->rtcp_channel == data->channel)
            s->departed = bmb_session_rtcp(t, s, data->data, data->size) || s->departed;
}

/* Takes what is in rx apart until a request is complete. false: more bytes are needed. */
static bool parse(bmb_talk *t, bmb_conn *c)
{
    bmb_rtsp_data data;
    bool begun = c->rtsp.header_size > 0;
    size_t used = bmb_rtsp_parse_feed(&c->rtsp, c->rx, c->rx_size, t->rx_room, &data);
    c->active = c->active || used > 0;
    if (data.data != NULL) take_interleaved(t, c, &data);
    if (!begun && c->rtsp.header_size > 0) c->since_us = t->x->now; /* a request has so long to become complete */
    memmove(c->rx, c->rx + used, c->rx_size - used);
    c->rx_size = (uint16_t)(c->rx_size - used);
    return used > 0 || c->rtsp.complete;
}

/* A complete request is acted on between two frames only: neither an answer nor the end of the session can stand in the
 * middle of a packet. flush finishes the frame that is under way, and begins no other as long as a request waits. */
static void receive(bmb_talk *t, bmb_conn *c)
{
    while (c->state == BMB_CONN_READING && c->tx_size == 0) {
        if (c->post != 0) bmb_tunnel_pull(t, c);
        if (!c->rtsp.complete && (c->rx_size == 0 || !parse(t, c))) return;
        if (!c->rtsp.complete) continue;
        if (c->rtsp.http && c->cookie == 0 && c->sessions == 0) { /* a tunnel, or somebody who took the wrong door */
            bmb_conn_turn(t, c, BMB_CONN_HTTP);
            t->kinds[BMB_CONN_HTTP]->receive(t, c);
            return;
        }
        if (c->mid != 0) {
            flush(t, c);
            if (c->state == BMB_CONN_FREE || c->mid != 0) return;
        }
        t->requests++;
        act(t, c);
        if (c->state == BMB_CONN_WAITING) return;
        c->closing = c->closing || c->rtsp.broken || c->rtsp.close || c->rtsp.http;
        bmb_rtsp_parse_reset(&c->rtsp);
        flush(t, c);
    }
}

/* A sender report of an interleaved session, when one is due and no frame is under way. */
static void put_due_report(bmb_talk *t, bmb_conn *c)
{
    if (c->mid != 0 || c->tx_size > 0) return;
    for (bmb_session *s = bmb_session_at(t, c->sessions); s != NULL; s = bmb_session_at(t, s->next)) {
        bmb_writer w = bmb_writer_of(c->tx + BMB_RTP_INTERLEAVED, (size_t)(t->tx_room - BMB_RTP_INTERLEAVED));
        if (s->via != BMB_VIA_RTP_TCP || !bmb_session_report(t, s, &w)) continue;
        size_t size = bmb_written(&w);
        bmb_writer head = bmb_writer_of(c->tx, BMB_RTP_INTERLEAVED);
        bmb_put_u8(&head, '$');
        bmb_put_u8(&head, s->rtcp_channel);
        bmb_put_u16(&head, (uint16_t)size);
        c->tx_at = 0;
        c->tx_size = (uint16_t)(BMB_RTP_INTERLEAVED + size);
        return;
    }
}

/* The first session from `s` on that gets its frames over its connection. */
static bmb_session *interleaved(const bmb_talk *t, bmb_session *s)
{
    while (s != NULL && (s->via != BMB_VIA_RTP_TCP || s->viewer.framer == NULL)) s = bmb_session_at(t, s->next);
    return s;
}

static bmb_session *next_interleaved(const bmb_talk *t, const bmb_session *s)
{
    return interleaved(t, bmb_session_at(t, s->next));
}

/* The frame under way; then answers and reports; then new frames, session by session. */
static bmb_err flush_once(bmb_talk *t, bmb_conn *c)
{
    bmb_link link = bmb_conn_link(t, c);
    bmb_err err = BMB_OK;
    if (c->mid != 0) err = bmb_viewer_finish(t->x, &bmb_session_at(t, c->mid)->viewer, &link);
    if (err != BMB_OK) return err;
    c->mid = 0;
    err = bmb_conn_send_pending(t, c, NULL);
    if (err != BMB_OK) return err;
    end_departed(t, c);
    if (c->closing || c->rtsp.complete) return BMB_AGAIN;
    for (bmb_session *s = interleaved(t, bmb_session_at(t, c->sessions)); s != NULL; s = next_interleaved(t, s)) {
        err = bmb_viewer_pump(t->x, &s->viewer, &link);
        bool under_way = s->viewer.watcher.frame != NULL;
        if (under_way) c->mid = bmb_session_number(t, s);
        if (err != BMB_AGAIN || under_way) return err;
    }
    return BMB_AGAIN;
}

static void flush(bmb_talk *t, bmb_conn *c)
{
    if (c->state != BMB_CONN_READING && c->state != BMB_CONN_WAITING) return;
    for (bmb_session *s = interleaved(t, bmb_session_at(t, c->sessions)); s != NULL; s = next_interleaved(t, s))
        bmb_viewer_unblock(t->x, &s->viewer);
    bmb_err err = flush_once(t, c);
    put_due_report(t, c);
    if (err == BMB_AGAIN && c->mid == 0 && c->tx_size > 0 && c->tx_at == 0) err = flush_once(t, c);
    if (err != BMB_AGAIN) {
        bmb_conn_close(t, c);
        return;
    }
    if (c->closing && c->tx_size == 0 && c->mid == 0) {
        bmb_session_conn_closed(t, c);
        bmb_conn_drain(t, c);
        return;
    }
    bmb_conn_await(t, c, c->tx_size > 0 || c->mid != 0);
}

/* A description that waited for the camera is tried again. */
static void wait_over(bmb_talk *t, bmb_conn *c)
{
    act(t, c);
    if (c->tx_size == 0) return;
    await_no_frame(c);
    c->state = BMB_CONN_READING;
    bmb_rtsp_parse_reset(&c->rtsp);
    flush(t, c);
    if (c->state == BMB_CONN_READING) receive(t, c);
}

static void give_up_description(bmb_talk *t, bmb_conn *c)
{
    answer_status(t, c, 503);
    await_no_frame(c);
    c->state = BMB_CONN_READING;
    bmb_rtsp_parse_reset(&c->rtsp);
    bmb_conn_resume(t, c);
}

/* Half a request may take so long; so may whoever has said nothing yet, or has half of a tunnel. Between requests
 * sessions decide: with one, the connection lives as long as it does. */
static void sweep(bmb_talk *t, bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    if (c->state == BMB_CONN_WAITING) {
        if (bmb_older_than(t->x, c->since_us, BMB_STILL_WAIT_US)) give_up_description(t, c);
        return;
    }
    bool hurry = c->rtsp.header_size > 0 || !c->active || (c->cookie != 0 && c->post == 0 && c->sessions == 0);
    uint64_t limit = hurry ? config->request_ms : config->session_ms;
    if (!hurry && c->sessions != 0) return;
    if (bmb_older_than(t->x, c->since_us, limit * 1000)) bmb_conn_close(t, c);
}

static void closed(bmb_talk *t, bmb_conn *c)
{
    await_no_frame(c);
    bmb_session_conn_closed(t, c);
    bmb_tunnel_closed(t, c);
}

static bool idle(const bmb_conn *c)
{
    return c->state == BMB_CONN_READING && c->rtsp.header_size == 0 && c->sessions == 0;
}

static bmb_feed *watches(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_session *s = interleaved(t, bmb_session_at(t, c->sessions));
    return s != NULL ? s->feed : NULL;
}

static void turn_away(const bmb_talk *t, const bmb_opening *by, bmb_writer *w)
{
    (void)t;
    (void)by;
    bmb_rtsp_status(w, 503, &(bmb_rtsp_parse){ .has_cseq = false });
}

const bmb_conversation bmb_rtsp_conversation = { .open = open_conversation,
                                                 .receive = receive,
                                                 .flush = flush,
                                                 .sweep = sweep,
                                                 .closed = closed,
                                                 .idle = idle,
                                                 .watches = watches,
                                                 .turn_away = turn_away };

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    bmb_talk *t = (bmb_talk *)(void *)((uint8_t *)owner - offsetof(bmb_talk, describing));
    bmb_conn *c = (bmb_conn *)(void *)((uint8_t *)w - offsetof(bmb_conn, waiting));
    wait_over(t, c);
}

/* It holds no frame. A feed that is gone is answered as one that is not there. */
const bmb_owner bmb_rtsp_describing = { .frame_there = frame_there, .feed_gone = frame_there };
