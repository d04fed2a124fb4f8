#include "talk/rtsp.h"

#include <stddef.h>
#include <string.h>

#include "serve/rtsp_answer.h"
#include "talk/rtsp_access.h"
#include "talk/rtsp_reply.h"
#include "talk/rtsp_request.h"
#include "talk/session.h"
#include "talk/session_rtcp.h"
#include "talk/tunnel.h"

static void open_conversation(bmb_talk *t, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    bmb_rtsp_parse_reset(&c->rtsp);
#if BMB_WITH_ACCESS
    c->door = ++t->guard.doors;
#endif
    bmb_conn_await(t, c, false);
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
#if BMB_WITH_ACCESS
    if (c->rtsp.credentials_size > 0)
        bmb_rtsp_judge(t, c, (bmb_text){ (const char *)c->rx + c->rtsp.credentials_at, c->rtsp.credentials_size });
#endif
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
        bmb_rtsp_act(t, c);
        if (c->state == BMB_CONN_WAITING) return;
        c->closing = c->closing || c->rtsp.broken || c->rtsp.close || c->rtsp.http;
        bmb_rtsp_parse_reset(&c->rtsp);
#if BMB_WITH_ACCESS
        c->proof = BMB_PROOF_NONE;
#endif
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
    bmb_rtsp_act(t, c);
    if (c->tx_size == 0) return;
    bmb_rtsp_await_no_frame(t, c);
    c->state = BMB_CONN_READING;
    bmb_rtsp_parse_reset(&c->rtsp);
    flush(t, c);
    if (c->state == BMB_CONN_READING) receive(t, c);
}

static void give_up_description(bmb_talk *t, bmb_conn *c)
{
    bmb_rtsp_reply_status(t, c, 503);
    bmb_rtsp_await_no_frame(t, c);
    c->state = BMB_CONN_READING;
    bmb_rtsp_parse_reset(&c->rtsp);
    bmb_conn_resume(t, c);
}

/* Half a request may take so long; so may whoever has said nothing yet, or has half of a tunnel. Between requests
 * sessions decide: with one, the connection lives as long as it does. */
static uint64_t due(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    if (c->state == BMB_CONN_WAITING) return c->since_us + BMB_STILL_WAIT_US;
    bool hurry = c->rtsp.header_size > 0 || !c->active || (c->cookie != 0 && c->post == 0 && c->sessions == 0);
    if (!hurry && c->sessions != 0) return UINT64_MAX;
    return c->since_us + (uint64_t)(hurry ? config->request_ms : config->session_ms) * 1000;
}

static void sweep(bmb_talk *t, bmb_conn *c)
{
    if (t->x->now < due(t, c)) return;
    if (c->state == BMB_CONN_WAITING) {
        give_up_description(t, c);
    } else {
        bmb_conn_close(t, c);
    }
}

static void closed(bmb_talk *t, bmb_conn *c)
{
    bmb_rtsp_await_no_frame(t, c);
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
    return s != NULL ? s->track->feed : NULL;
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
                                                 .due = due,
                                                 .sweep = sweep,
                                                 .closed = closed,
                                                 .idle = idle,
                                                 .watches = watches,
                                                 .turn_away = turn_away };

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    bmb_talk *t = (bmb_talk *)owner->room;
    bmb_conn *c = (bmb_conn *)(void *)((uint8_t *)w - offsetof(bmb_conn, waiting));
    wait_over(t, c);
}

/* It holds no frame. A feed that is gone is answered as one that is not there. */
const bmb_owner bmb_rtsp_describing = { .frame_there = frame_there, .feed_gone = frame_there };
