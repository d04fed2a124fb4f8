#include "talk/http_events.h"

#include "base/bounds.h"
#include "serve/happened.h"
#include "serve/status.h"
#include "talk/http_status.h"

#if BMB_WITH_EVENTS

void bmb_http_begin_events(const bmb_talk *t, bmb_conn *c)
{
    uint32_t last = 0;
#if BMB_WITH_ACCESS
    bmb_text said = bmb_http_parse_value(&c->http, BMB_FIELD_LAST_EVENT);
    if (said.size == 0 || !bmb_read_dec(said.at, said.size, UINT32_MAX - 1, &last)) last = 0;
#endif
    /* One of before a restart means nothing now. */
    c->event = last < t->x->history.next ? last + 1 : 1;
}

/* Those without a feed are about the device, and for its administrators. */
static bool may_see(const bmb_status_view *view, const bmb_moment *m)
{
    return view->peers || (m->feed != BMB_NO_FEED && (view->feeds >> m->feed & 1) != 0);
}

static bool may_listen(bmb_talk *t, const bmb_conn *c)
{
#if BMB_WITH_ACCESS
    return bmb_guard_holds(&t->guard, t->x, &c->pass) && bmb_http_view(t, c).feeds != 0;
#else
    (void)t, (void)c;
    return true;
#endif
}

bool bmb_http_put_event(bmb_talk *t, bmb_conn *c)
{
    const bmb_context *x = t->x;
    if (!may_listen(t, c)) {
        c->more = BMB_MORE_NOTHING;
        return true;
    }
    const bmb_status_view view = bmb_http_view(t, c);
    const bmb_moment *m;
    for (; (m = bmb_history_from(&x->history, &c->event)) != NULL; c->event++) {
        if (!may_see(&view, m)) continue;
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        bmb_put_text(&w, "id: %u\ndata: ", (unsigned)c->event);
        int64_t wall = bmb_wall(x);
        size_t n = bmb_happened(m, m->feed != BMB_NO_FEED ? x->config->feeds[m->feed].name : NULL,
                                m->at_us - x->start_us, wall != 0 ? wall - (int64_t)(x->now - m->at_us) : 0, view.peers,
                                x->scratch, BMB_STATUS_MEMORY, (char *)w.at, (size_t)(w.end - w.at) - 2);
        if (n == 0) continue;
        w.at += n;
        bmb_put_str(&w, "\n\n");
        c->event++;
        c->tx_at = 0;
        c->tx_size = (uint16_t)bmb_written(&w);
        c->since_us = x->now;
        return true;
    }
    return false;
}

void bmb_http_put_alive(const bmb_talk *t, bmb_conn *c)
{
    bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
    bmb_put_str(&w, ":\n\n"); /* a comment, that means nothing */
    c->tx_at = 0;
    c->tx_size = (uint16_t)bmb_written(&w);
    c->since_us = t->x->now;
}

void bmb_http_ask_figures(bmb_conn *c, bool figures)
{
    c->figures = figures;
    c->figured_ms = 0;
}

static uint64_t figures_due(const bmb_talk *t, const bmb_conn *c)
{
    bool within = c->part > 0 || c->index > 0;
    return within ? t->x->now : t->x->start_us + (uint64_t)c->figured_ms * 1000 + BMB_FIGURES_US;
}

uint64_t bmb_http_events_due(const bmb_talk *t, const bmb_conn *c)
{
    uint64_t alive = c->since_us + BMB_EVENTS_ALIVE_US, figures = c->figures ? figures_due(t, c) : UINT64_MAX;
    return figures < alive ? figures : alive;
}

/* true: there is a piece in tx. */
bool bmb_http_put_figures(bmb_talk *t, bmb_conn *c)
{
    static const char *const names[BMB_STATUS_PARTS] = { "device", "outlet", "feed", "push", "viewer", "sign_in" };
    const bmb_context *x = t->x;
    if (!c->figures || x->now < figures_due(t, c)) return false;
    if (c->part == 0 && c->index == 0) c->figured_ms = bmb_ms_between(x->start_us, x->now);
    const bmb_status_view view = bmb_http_view(t, c);
    for (; names[c->part] != NULL; c->part++, c->index = 0) { /* the last part is the document's end */
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        bmb_put_text(&w, "event: figures\ndata: {\"%s\":", names[c->part]);
        size_t n = t->figures->row(t->figures, &view, (bmb_status_part)c->part, c->index, (char *)w.at,
                                   (size_t)(w.end - w.at) - 4);
        if (n == 0) continue;
        w.at += n;
        bmb_put_str(&w, "}\n\n");
        c->index++;
        c->tx_at = 0;
        c->tx_size = (uint16_t)bmb_written(&w);
        c->since_us = x->now;
        return true;
    }
    c->part = 0;
    c->index = 0;
    return false;
}

void bmb_http_spread_events(bmb_talk *t)
{
    bmb_history *h = &t->x->history;
    if (h->told == (uint16_t)h->next) return;
    h->told = (uint16_t)h->next;
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++) {
        bool listens = c->kind == BMB_CONN_HTTP && c->state == BMB_CONN_ANSWERING && c->more == BMB_MORE_EVENTS;
        if (listens && c->tx_size == 0) t->kinds[BMB_CONN_HTTP]->flush(t, c);
    }
}

#endif
