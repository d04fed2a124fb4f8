#include "talk/rtsp_reply.h"

#include <string.h>

#include "serve/rtsp_answer.h"

bmb_writer bmb_rtsp_reply(bmb_talk *t, bmb_conn *c)
{
    c->tx_at = c->tx_size = 0;
    c->since_us = t->x->now;
    return bmb_writer_of(c->tx, t->tx_room);
}

void bmb_rtsp_reply_done(bmb_conn *c, const bmb_writer *w)
{
    c->tx_size = (uint16_t)bmb_written(w);
}

bmb_writer bmb_rtsp_reply_ok(bmb_talk *t, bmb_conn *c)
{
    bmb_writer w = bmb_rtsp_reply(t, c);
    bmb_rtsp_begin(&w, 200, &c->rtsp);
    return w;
}

void bmb_rtsp_reply_end(bmb_conn *c, bmb_writer *w)
{
    bmb_rtsp_end(w);
    bmb_rtsp_reply_done(c, w);
}

void bmb_rtsp_reply_status(bmb_talk *t, bmb_conn *c, unsigned status)
{
    bmb_writer w = bmb_rtsp_reply(t, c);
    bmb_rtsp_status(&w, status, &c->rtsp);
    bmb_rtsp_reply_done(c, &w);
}

/* There is nothing of that name: says what there is, and tells the owner. */
void bmb_rtsp_reply_not_found(bmb_talk *t, bmb_conn *c)
{
    bmb_writer body = bmb_writer_of(t->x->scratch, BMB_SDP_ROOM), w = bmb_rtsp_reply(t, c);
    bmb_rtsp_addresses(&body, &c->rtsp, t->x->config, bmb_conn_hidden(t, c), bmb_conn_secure(c));
    bmb_rtsp_begin(&w, 404, &c->rtsp);
    bmb_rtsp_body(&w, "text/plain", t->x->scratch, bmb_written(&body));
    bmb_rtsp_reply_done(c, &w);
    char asked[sizeof c->rtsp.feed + sizeof c->rtsp.track_name + 2];
    bmb_writer a = bmb_writer_of(asked, sizeof asked);
    bmb_put_text(&a, c->rtsp.track ? "/%s/%s" : "/%s", c->rtsp.feed, c->rtsp.track_name);
    bmb_conn_not_found(t, c, "RTSP ", asked, bmb_written(&a));
}

void bmb_rtsp_put_session(const bmb_talk *t, const bmb_session *s, bmb_writer *w)
{
    bmb_put_str(w, "Session: ");
    bmb_put_hex(w, s->id, BMB_RTSP_SESSION_SIZE);
    bmb_put_text(w, ";timeout=%u\r\n", (unsigned)t->x->config->session_ms / 1000);
}

/* The address as the client wrote it, so that it matches what the client compares it with. */
void bmb_rtsp_put_address(const bmb_conn *c, const bmb_feed *feed, bmb_writer *w)
{
    bmb_put_text(w, "%s://%s/", bmb_outlet_scheme(BMB_OUTLET_RTSP, bmb_conn_secure(c)), c->rtsp.host);
#if BMB_WITH_ACCESS
    if (c->rtsp.link[0] != '\0') bmb_put_text(w, "lent/%s/", c->rtsp.link);
#endif
    bmb_put_str(w, feed->config->name);
#if BMB_WITH_REPEATS
    if (c->rtsp.feedback) bmb_put_str(w, ".avpf");
#endif
}

bmb_feed *bmb_rtsp_find(const bmb_talk *t, const bmb_rtsp_parse *r)
{
#if BMB_WITH_REPEATS
    if (r->feedback && t->repeats == NULL) return NULL; /* there is no such address */
#endif
    return bmb_feeds_named(t->feeds, r->feed);
}

bmb_track *bmb_rtsp_track(bmb_feed *feed, const bmb_rtsp_parse *r)
{
    if (!r->track) return feed->tracks == 1 ? &feed->track[0] : NULL;
    for (size_t i = 0; i < feed->tracks; i++)
        if (strcmp(r->track_name, feed->track[i].kind) == 0) return &feed->track[i];
    return NULL;
}

/* A session may be named by nobody but who set it up: the address must match as well. */
bmb_session *bmb_rtsp_named_session(bmb_talk *t, const bmb_conn *c)
{
    bmb_session *s = c->rtsp.has_session ? bmb_session_find(t, c->rtsp.session) : NULL;
    if (s == NULL || !bmb_same_host(&s->peer, &c->peer)) return NULL;
    if (s->via == BMB_VIA_RTP_TCP && s->conn != bmb_conn_number(t, c)) return NULL; /* it belongs to its connection */
    return s;
}
