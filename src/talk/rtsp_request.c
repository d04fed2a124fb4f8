#include "talk/rtsp_request.h"

#include "serve/rtsp_answer.h"
#include "talk/rtsp_access.h"
#include "talk/rtsp_reply.h"
#include "talk/rtsp_setup.h"

static void options(bmb_talk *t, bmb_conn *c)
{
    bmb_writer w = bmb_rtsp_reply_ok(t, c);
    bmb_put_str(&w, BMB_RTSP_PUBLIC);
    bmb_rtsp_reply_end(c, &w);
}

static void await_frame(bmb_talk *t, bmb_conn *c, bmb_feed *feed)
{
    if (c->state == BMB_CONN_WAITING) return;
    c->state = BMB_CONN_WAITING;
    c->since_us = t->x->now;
    c->awaited = (uint16_t)(feed->number + 1);
    bmb_track_join(bmb_feed_video(feed), &c->waiting, &t->describing);
}

void bmb_rtsp_await_no_frame(const bmb_talk *t, bmb_conn *c)
{
    if (c->awaited != 0) bmb_track_leave(bmb_feed_video(&t->feeds->feed[c->awaited - 1]), &c->waiting);
    c->awaited = 0;
}

static void describe(bmb_talk *t, bmb_conn *c)
{
    bmb_feed *feed = bmb_rtsp_find(t, &c->rtsp);
    if (feed == NULL || (c->rtsp.track && bmb_rtsp_track(feed, &c->rtsp) == NULL)) {
        bmb_rtsp_reply_not_found(t, c);
        return;
    }
    if (!bmb_feed_described(feed)) { /* the camera is starting: the first frame will tell */
        await_frame(t, c, feed);
        return;
    }
    if (bmb_track_refusal(bmb_feed_video(feed)) != BMB_JPEG_RTP_OK) {
        bmb_rtsp_reply_status(t, c, 415);
        return;
    }
    bmb_addr origin = { .family = 4 };
    (void)t->x->port->net.local(t->x->port->ctx, c->sock, &origin);
    /* The client chooses: a description with a group's address would turn a unicast player away. */
    bmb_sdp sdp = bmb_rtp_describe(t->x, feed, &origin, NULL, true);
#if BMB_WITH_REPEATS
    if (c->rtsp.feedback) bmb_rtp_describe_feedback(&sdp, feed);
#endif
    bmb_writer body = bmb_writer_of(t->x->scratch, BMB_SDP_ROOM), w = bmb_rtsp_reply(t, c);
    bmb_sdp_write(&body, &sdp);
    bmb_rtsp_begin(&w, 200, &c->rtsp);
    if (c->rtsp.host[0] != '\0') {
        bmb_put_str(&w, "Content-Base: ");
        bmb_rtsp_put_address(c, feed, &w);
        bmb_put_str(&w, "/\r\n");
    }
    bmb_rtsp_body(&w, "application/sdp", t->x->scratch, bmb_written(&body));
    bmb_rtsp_reply_done(c, &w);
}

/* Any request is a sign of life of the session that it names, and of those that were set up on its connection. */
static void keep_alive(bmb_talk *t, const bmb_conn *c)
{
    bmb_session *named = bmb_rtsp_named_session(t, c);
    if (named != NULL) named->alive_us = t->x->now;
    for (bmb_session *s = bmb_session_at(t, c->sessions); s != NULL; s = bmb_session_at(t, s->next))
        s->alive_us = t->x->now;
}

/* RFC 2326 12.33: what the first packet will carry. Its time is not said where its frame is still to come. */
static void put_rtp_info(const bmb_talk *t, const bmb_conn *c, const bmb_session *s, bmb_writer *w)
{
    const bmb_viewer *sender = bmb_session_sender(t, s);
    const bmb_stream_state *state = &sender->state;
    bmb_put_str(w, "Range: npt=now-\r\n");
    if (c->rtsp.host[0] == '\0') return;
    bmb_put_str(w, "RTP-Info: url=");
    bmb_rtsp_put_address(c, s->track->feed, w);
    bmb_put_text(w, "/%s;seq=%u", s->track->kind, state->next_seq);
    if (sender->watcher.frame != NULL)
        bmb_put_text(w, ";rtptime=%u",
                     (unsigned)(state->time_offset + bmb_rtp_time(sender->watcher.frame->capture_us)));
    bmb_put_str(w, "\r\n");
}

static void play(bmb_talk *t, bmb_conn *c, bmb_session *s)
{
#if BMB_WITH_ACCESS
    if (s->state == BMB_SESSION_READY && !bmb_rtsp_take_pass(t, c, s)) {
        bmb_rtsp_reply_status(t, c, 403);
        return;
    }
#endif
    bmb_err err = bmb_session_play(t, s, &c->peer, bmb_conn_account(c));
    if (err != BMB_OK) {
        bmb_rtsp_reply_status(t, c, err == BMB_LIMIT ? 453 : 500);
        return;
    }
    if (s->via == BMB_VIA_RTP_TCP) bmb_bound_unsent(t->x, c->sock, bmb_track_kbps(t->x, s->track));
    bmb_writer w = bmb_rtsp_reply_ok(t, c);
    bmb_rtsp_put_session(t, s, &w);
    put_rtp_info(t, c, s, &w);
    bmb_rtsp_reply_end(c, &w);
}

static void answer_session(bmb_talk *t, bmb_conn *c, const bmb_session *s)
{
    bmb_writer w = bmb_rtsp_reply_ok(t, c);
    if (s != NULL) bmb_rtsp_put_session(t, s, &w);
    bmb_rtsp_reply_end(c, &w);
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
        bmb_rtsp_reply_status(t, c, 451);
    } else {
        answer_session(t, c, s);
    }
}

/* Its feed's address, or its track's. */
static bool names_session(const bmb_talk *t, const bmb_rtsp_parse *r, const bmb_session *s)
{
    bmb_feed *feed = bmb_rtsp_find(t, r);
    return feed == s->track->feed && (!r->track || bmb_rtsp_track(feed, r) == s->track);
}

static void act_on_session(bmb_talk *t, bmb_conn *c, bmb_rtsp_method method)
{
    bmb_session *s = bmb_rtsp_named_session(t, c);
    if (s == NULL) {
        bmb_rtsp_reply_status(t, c, 454);
    } else if (!c->rtsp.wildcard && !names_session(t, &c->rtsp, s)) {
        bmb_rtsp_reply_not_found(t, c);
    } else if (method == BMB_RTSP_PLAY) {
        play(t, c, s);
    } else if (method == BMB_RTSP_TEARDOWN) {
        teardown(t, c, s);
    } else {
        bmb_session_pause(t, s, &c->peer);
        answer_session(t, c, s);
    }
}

/* false: it was refused. */
static bool admit(bmb_talk *t, bmb_conn *c)
{
#if BMB_WITH_ACCESS
    unsigned status = bmb_rtsp_admit(t, c);
    if (status == 0) return true;
    if (status != 401 && status != 301) {
        bmb_rtsp_reply_status(t, c, status);
        return false;
    }
    bmb_writer w = bmb_rtsp_reply(t, c);
    bmb_rtsp_begin(&w, status, &c->rtsp);
    if (status == 301) {
        bmb_rtsp_put_elsewhere(c, &w);
    } else {
        bmb_rtsp_put_challenge(t, c, &w);
    }
    bmb_rtsp_reply_end(c, &w);
    return false;
#else
    (void)t, (void)c;
    return true;
#endif
}

void bmb_rtsp_act(bmb_talk *t, bmb_conn *c)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    bmb_rtsp_method method = (bmb_rtsp_method)r->method;
    unsigned refusal = r->http                          ? 400
                       : r->error != 0                  ? r->error
                       : r->required                    ? 551
                       : method == BMB_RTSP_NOT_ALLOWED ? 405
                       : method == BMB_RTSP_OTHER       ? 501
                                                        : 0;
    const bmb_session *s = bmb_rtsp_named_session(t, c);
    keep_alive(t, c);
    if (refusal != 0) {
        t->bad_requests++;
        bmb_rtsp_reply_status(t, c, refusal);
    } else if (!admit(t, c)) {
        /* and told why */
    } else if (method == BMB_RTSP_OPTIONS) {
        options(t, c);
    } else if (method == BMB_RTSP_DESCRIBE) {
        describe(t, c);
    } else if (method == BMB_RTSP_SETUP) {
        bmb_rtsp_setup(t, c);
    } else if (method == BMB_RTSP_GET_PARAMETER || method == BMB_RTSP_SET_PARAMETER) {
        if (r->has_session && s == NULL) {
            bmb_rtsp_reply_status(t, c, 454);
        } else {
            parameter(t, c, s);
        }
    } else {
        act_on_session(t, c, method);
    }
}
