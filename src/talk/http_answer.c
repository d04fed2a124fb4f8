#include "talk/http_answer.h"

#include "talk/http_events.h"

bmb_http_terms bmb_http_terms_of(const bmb_talk *t, const bmb_conn *c)
{
    bmb_http_terms terms = bmb_conn_terms(t, c->keep_alive, c->old, c->head_only);
#if BMB_WITH_ACCESS
    if (c->origin != 0) terms.origin = t->x->config->origins[c->origin - 1];
#endif
    return terms;
}

bmb_writer bmb_http_answer(bmb_talk *t, bmb_conn *c)
{
    c->tx_at = c->tx_size = 0;
    c->body = (bmb_slice){ NULL, 0 };
    return bmb_writer_of(c->tx, t->tx_room);
}

void bmb_http_send(bmb_talk *t, bmb_conn *c, const bmb_writer *w, bmb_conn_state state)
{
    c->tx_size = (uint16_t)bmb_written(w);
    c->state = (uint8_t)state;
    c->since_us = t->x->now;
    t->kinds[BMB_CONN_HTTP]->flush(t, c);
}

static void refuse(bmb_talk *t, bmb_conn *c, uint16_t status, const char *extra, const char *why)
{
    bmb_writer w = bmb_http_answer(t, c);
    bmb_http_terms terms = bmb_http_terms_of(t, c);
    bmb_http_set_extra(&terms, extra);
#if BMB_WITH_ACCESS || BMB_WITH_FOLLOWING
    terms.why = why;
#else
    (void)why;
#endif
    if (status != 503 && status != 404 && status != 401) t->bad_requests++;
    if (status == 404) bmb_conn_not_found(t, c, "HTTP ", c->http.path.text, c->http.path.size);
    bmb_http_error(&w, status, &terms, t->x->config, bmb_conn_hidden(t, c), bmb_http_wrong_door(c));
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}

void bmb_http_refuse_with(bmb_talk *t, bmb_conn *c, uint16_t status, const char *extra)
{
    refuse(t, c, status, extra, NULL);
}

void bmb_http_refuse_why(bmb_talk *t, bmb_conn *c, uint16_t status, const char *why)
{
    refuse(t, c, status, NULL, why);
}

void bmb_http_refuse(bmb_talk *t, bmb_conn *c, uint16_t status)
{
    bmb_http_refuse_with(t, c, status, NULL);
}

#if BMB_WITH_ACCESS
#define UNKNOWN_NAME "The device does not know this host name. If it is right, add it to names in [device].\n"

/* What http_access.c has to say; nothing of it lies in tx. */
void bmb_http_answer_reply(bmb_talk *t, bmb_conn *c, const bmb_http_reply *r)
{
    if (r->status >= 400) {
        refuse(t, c, r->status, r->extra, r->status == 421 ? UNKNOWN_NAME : NULL);
        return;
    }
    bmb_writer w = bmb_http_answer(t, c);
    bmb_http_terms terms = bmb_http_terms_of(t, c);
    terms.extra = r->extra;
    bmb_http_head(&w, r->status, "application/json", r->size, &terms);
    if (!c->head_only) bmb_put_bytes(&w, r->body, r->size);
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}
#endif

/* An answer of 200, up to its document. */
bmb_writer bmb_http_answer_ok(bmb_talk *t, bmb_conn *c, const char *type, size_t length)
{
    bmb_writer w = bmb_http_answer(t, c);
    const bmb_http_terms terms = bmb_http_terms_of(t, c);
    bmb_http_head(&w, 200, type, length, &terms);
    return w;
}

/* In pieces, of which the connection's end is the end where they are no chunks. */
void bmb_http_answer_pieces(bmb_talk *t, bmb_conn *c, bmb_more more, bool head_only)
{
    bool events = BMB_WITH_EVENTS && more == BMB_MORE_EVENTS;
    if (c->old || events) c->keep_alive = false;
    bmb_writer w = bmb_http_answer(t, c);
    bmb_http_terms terms = bmb_http_terms_of(t, c);
    terms.old = terms.old || events;
    if (BMB_WITH_EVENTS && events) bmb_http_begin_events(t, c);
    bmb_http_head(&w, 200, events ? "text/event-stream" : "application/json", SIZE_MAX, &terms);
    c->more = (uint8_t)(head_only ? BMB_MORE_NOTHING : more);
    c->part = 0;
    c->index = 0;
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}
