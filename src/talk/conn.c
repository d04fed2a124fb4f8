#include "talk/conn.h"

#include <stddef.h>
#include <string.h>

#include "base/bounds.h"

static const bmb_conversation *of(const bmb_talk *t, const bmb_conn *c)
{
    return t->kinds[c->kind];
}

static bmb_viewer *quiet_viewer(bmb_conn *c);

/* Has it a viewer of its own? */
static bool views(const bmb_conn *c)
{
    return c->kind == BMB_CONN_HTTP
               ? c->state == BMB_CONN_WATCHING
               : c->kind == BMB_CONN_TCP && c->state > BMB_CONN_DIALLING && c->state != BMB_CONN_DRAINING;
}

/* Is its path not free, so that it is to be looked at again? */
static bool looks(const bmb_conn *c)
{
#if BMB_WITH_PATHS
    return c->look_us != 0;
#else
    (void)c;
    return false;
#endif
}

/* The peer is waited for: to take bytes, or to acknowledge those that it has. */
static bool is_waited_for(const bmb_conn *c)
{
    return (c->watched & BMB_WRITABLE) != 0 || looks(c) || (views(c) && c->viewer.framer != NULL && c->viewer.held);
}

static uint64_t due_of(const bmb_talk *t, bmb_conn *c)
{
    if (c->state == BMB_CONN_FREE || c->state == BMB_CONN_DIALLING) return UINT64_MAX;
    if (c->state == BMB_CONN_DRAINING) return c->since_us + BMB_DRAIN_US;
    if (is_waited_for(c)) {
        uint64_t stalled = c->progress_us + (uint64_t)t->x->config->stall_ms * 1000;
#if BMB_WITH_PATHS
        if (looks(c)) { /* it is never far */
            uint64_t look = t->x->now + (uint64_t)(int64_t)(int32_t)(c->look_us - (uint32_t)t->x->now);
            return look < stalled ? look : stalled;
        }
#endif
        return stalled;
    }
    const bmb_viewer *v = quiet_viewer(c);
    uint64_t due = of(t, c)->due(t, c), idle = v != NULL ? bmb_viewer_idle_due(v) : UINT64_MAX;
    return idle < due ? idle : due;
}

/* What is due sooner than before is noted; what is due later is found out when the former time has come. */
void bmb_conn_schedule(bmb_talk *t, bmb_conn *c)
{
    bmb_timers_by(&t->timers, (uint16_t)(c - t->conns), due_of(t, c), t->x->now);
}

static void watch(bmb_talk *t, bmb_conn *c, uint8_t events)
{
    /* From here on the peer is waited for: its time begins now, however long there was nothing to take. */
    if ((events & ~c->watched & BMB_WRITABLE) != 0) c->progress_us = t->x->now;
    if (c->watched == events) return;
    c->watched = events;
    uint32_t token = (uint32_t)(BMB_TOKEN_CONN + (size_t)(c - t->conns));
    (void)t->x->port->net.watch(t->x->port->ctx, c->sock, events, token);
}

void bmb_conn_await(bmb_talk *t, bmb_conn *c, bool waits)
{
    watch(t, c, waits ? BMB_READABLE | BMB_WRITABLE : BMB_READABLE);
    bmb_conn_schedule(t, c);
}

bmb_http_terms bmb_conn_terms(const bmb_talk *t, bool keep_alive, bool old, bool head_only)
{
    return (bmb_http_terms)
    {
        .wall_us = bmb_wall(t->x), .keep_alive = keep_alive, .old = old, .head_only = head_only,
#if BMB_WITH_ACCESS
        .config = t->x->config
#endif
    };
}

#define ASKED_MOST 96u

void bmb_conn_tell_text(bmb_talk *t, const bmb_conn *c, bmb_event_code code, const char *before, const char *text,
                        size_t size)
{
    char told[ASKED_MOST];
    bmb_writer w = bmb_writer_of(told, sizeof told - 1);
    bmb_put_str(&w, before);
    for (size_t i = 0; i < size && i < ASKED_MOST / 2; i++) /* it came from the network, and goes to a terminal */
        bmb_put_u8(&w, (uint8_t)(text[i] > 0x20 && text[i] < 0x7F ? text[i] : '?'));
    told[bmb_written(&w)] = '\0';
    bmb_tell(t->x, &(bmb_event){ .code = code, .err = BMB_NOT_FOUND, .peer = &c->peer, .text = told });
}

void bmb_conn_not_found(bmb_talk *t, const bmb_conn *c, const char *scheme, const char *path, size_t size)
{
    bmb_conn_tell_text(t, c, BMB_EVENT_NOT_FOUND, scheme, path, size);
}

static void occupy(bmb_talk *t, const bmb_conn *c)
{
    uint16_t behind = bmb_conn_number(t, c);
    t->conn_live++;
    if (behind > t->conn_used) t->conn_used = behind;
}

void bmb_conn_open(bmb_talk *t, bmb_conn *c, bmb_opening *by, bmb_sock sock, const bmb_addr *peer)
{
    uint8_t *rx = c->rx, *tx = c->tx;
    memset(c, 0, sizeof *c);
    c->rx = rx;
    c->tx = tx;
    c->sock = sock;
    c->kind = (uint8_t)by->kind;
    c->by = by;
    c->peer = *peer;
    c->since_us = c->progress_us = t->x->now;
    occupy(t, c);
    of(t, c)->open(t, c);
}

void bmb_conn_dial(bmb_talk *t, bmb_conn *c, bmb_opening *by, bmb_sock sock)
{
    c->state = BMB_CONN_DIALLING;
    c->sock = sock;
    c->kind = (uint8_t)by->kind;
    c->by = by;
    c->watched = 0;
    c->tx_size = 0;
    occupy(t, c);
    watch(t, c, BMB_WRITABLE);
}

/* What a conversation needs is set to its beginning. */
static void clear(bmb_conn *c)
{
    memset((uint8_t *)c + offsetof(bmb_conn, body), 0, offsetof(bmb_conn, peer) - offsetof(bmb_conn, body));
}

void bmb_conn_turn(bmb_talk *t, bmb_conn *c, bmb_conn_kind kind)
{
    clear(c);
    c->kind = (uint8_t)kind;
    c->tx_at = c->tx_size = 0;
    c->since_us = c->progress_us = t->x->now;
    of(t, c)->open(t, c);
}

void bmb_conn_close(bmb_talk *t, bmb_conn *c)
{
    if (c->state == BMB_CONN_FREE) return;
    if (c->state != BMB_CONN_DIALLING) of(t, c)->closed(t, c);
    bmb_sock_close(t->x, c->sock);
    c->state = BMB_CONN_FREE;
    c->sock = BMB_NO_SOCK;
    t->conn_live--;
    while (t->conn_used > 0 && t->conns[t->conn_used - 1].state == BMB_CONN_FREE) t->conn_used--;
}

bmb_link bmb_conn_link(const bmb_talk *t, bmb_conn *c)
{
    bmb_link link = bmb_stream_link(t->x, c->sock, &c->progress_us);
#if BMB_WITH_PATHS
    link.look_us = &c->look_us;
#endif
    return link;
}

bmb_err bmb_conn_send_pending(bmb_talk *t, bmb_conn *c, bmb_slice *behind)
{
    const bmb_link link = bmb_conn_link(t, c);
    bmb_slice none = { NULL, 0 };
    if (behind == NULL) behind = &none;
    while (c->tx_at < c->tx_size || behind->size > 0) {
        size_t head = (size_t)(c->tx_size - c->tx_at), taken = 0;
        const bmb_slice slices[2] = { { c->tx + c->tx_at, head }, *behind };
        size_t first = head > 0 ? 0 : 1, last = behind->size > 0 ? 2 : 1;
        bmb_err err = bmb_stream_send(&link, slices + first, last - first, head + behind->size, &taken);
        size_t from_head = taken < head ? taken : head, from_behind = taken - from_head;
        c->tx_at = (uint16_t)(c->tx_at + from_head);
        if (from_behind > 0)
            *behind = (bmb_slice){ (const uint8_t *)behind->data + from_behind, behind->size - from_behind };
        if (err != BMB_OK) return err;
    }
    c->tx_at = c->tx_size = 0;
    return BMB_OK;
}

void bmb_conn_drain(bmb_talk *t, bmb_conn *c)
{
    c->state = BMB_CONN_DRAINING;
    c->since_us = t->x->now;
    c->rx_size = 0;
    if (t->x->port->net.finish != NULL) t->x->port->net.finish(t->x->port->ctx, c->sock);
    bmb_conn_await(t, c, false);
}

void bmb_conn_resume(bmb_talk *t, bmb_conn *c)
{
    of(t, c)->flush(t, c);
    if (c->state == BMB_CONN_READING) of(t, c)->receive(t, c);
}

/* How a peer's end is noticed that has nothing to say any more; whatever it says is dropped. */
static void discard_input(bmb_talk *t, bmb_conn *c)
{
    for (unsigned i = 0; i < 8; i++) {
        size_t got = 0;
        bmb_err err = bmb_net_recv(t->x, c->sock, c->rx, t->rx_room, &got);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            bmb_conn_close(t, c);
            return;
        }
    }
}

static void receive(bmb_talk *t, bmb_conn *c)
{
    if (c->state == BMB_CONN_WATCHING || c->state == BMB_CONN_DRAINING) {
        discard_input(t, c);
        return;
    }
    size_t got = 0;
    if (c->rx_size == t->rx_room) { /* an answer is under way and the next requests wait */
        watch(t, c, c->watched & (uint8_t)~BMB_READABLE);
        return;
    }
    bmb_err err = bmb_net_recv(t->x, c->sock, c->rx + c->rx_size, (size_t)(t->rx_room - c->rx_size), &got);
    if (err == BMB_AGAIN) return;
    if (err != BMB_OK) {
        bmb_conn_close(t, c);
        return;
    }
    c->rx_size = (uint16_t)(c->rx_size + got);
    if (c->state == BMB_CONN_READING) of(t, c)->receive(t, c);
}

static void take_events(bmb_talk *t, bmb_conn *c, uint32_t events)
{
    if (c->state == BMB_CONN_FREE) return;
    if (BMB_WITH_PUSH && c->state == BMB_CONN_DIALLING) {
        c->by->dialler->ready(t, c->by, c);
        return;
    }
    if ((events & BMB_BROKEN) != 0 && c->rx_size == t->rx_room) { /* reading, which would tell, has to wait */
        bmb_conn_close(t, c);
        return;
    }
    if ((events & (BMB_READABLE | BMB_BROKEN)) != 0) receive(t, c);
    if (c->state == BMB_CONN_FREE || (events & BMB_WRITABLE) == 0) return;
    bmb_conn_resume(t, c);
}

void bmb_conn_ready(bmb_talk *t, bmb_conn *c, uint32_t events)
{
    take_events(t, c, events);
    bmb_conn_schedule(t, c);
}

void bmb_conn_deliver(bmb_talk *t, bmb_conn *c)
{
    if ((c->watched & BMB_WRITABLE) != 0 || c->tx_size > 0) return;
    bmb_conn_resume(t, c);
}

/* It was waited for to take something, and took nothing. */
static void end_stalled(bmb_talk *t, bmb_conn *c)
{
    bmb_feed *feed = of(t, c)->watches(t, c);
    if (feed != NULL) feed->stalled++;
    if (BMB_WITH_PUSH && c->by->dialler != NULL) {
        c->by->dialler->closed(t, c->by, c, BMB_TIMED_OUT);
    } else {
        bmb_tell_of(t->x, feed != NULL ? feed->config->name : NULL, &c->peer, BMB_EVENT_VIEWER_STALLED,
                    bmb_ms_between(c->progress_us, t->x->now), 0);
    }
    bmb_conn_close(t, c);
}

/* Its own viewer, between frames and with nothing else under way. */
static bmb_viewer *quiet_viewer(bmb_conn *c)
{
    if (!BMB_WITH_TS) return NULL;
    return views(c) && c->tx_size == 0 ? &c->viewer : NULL;
}

static void sweep(bmb_talk *t, bmb_conn *c)
{
    if (c->state == BMB_CONN_FREE || c->state == BMB_CONN_DIALLING) return; /* who dials bounds it */
    if (c->state == BMB_CONN_DRAINING) {
        if (bmb_older_than(t->x, c->since_us, BMB_DRAIN_US)) bmb_conn_close(t, c);
    } else if (!is_waited_for(c)) {
        of(t, c)->sweep(t, c);
    } else if (bmb_older_than_ms(t->x, c->progress_us, t->x->config->stall_ms)) {
        end_stalled(t, c);
    }
}

void bmb_conn_due(bmb_talk *t, bmb_conn *c)
{
    bmb_viewer *v = quiet_viewer(c);
    if (v != NULL) {
        c->tx_at = 0;
        c->tx_size = (uint16_t)bmb_viewer_idle(t->x, v, c->tx);
        if (c->tx_size > 0) of(t, c)->flush(t, c);
    }
    bool again = looks(c);
#if BMB_WITH_PATHS
    c->look_us = 0;
#endif
    if (again || (views(c) && c->viewer.framer != NULL && c->viewer.held))
        of(t, c)->flush(t, c); /* no frame came to look again */
    sweep(t, c);
    bmb_conn_schedule(t, c);
}

void bmb_conn_put_out(bmb_talk *t, bmb_conn *c, bmb_feed *feed)
{
    feed->shed++;
    bmb_viewer_tell(t->x, feed, &c->peer, BMB_EVENT_VIEWER_SHED, 0, 0);
    bmb_conn_close(t, c);
}

bool bmb_talk_may_group(const bmb_talk *t, const bmb_feed *feed)
{
#if BMB_WITH_ACCESS
    const bmb_who nobody = { 0 };
    return feed->config->multicast.open || bmb_guard_may(&t->guard, t->x, &nobody, BMB_ROLE_WATCH, feed->number);
#else
    (void)t, (void)feed;
    return true;
#endif
}

uint16_t bmb_conn_account(const bmb_conn *c)
{
#if BMB_WITH_ACCESS
    return c->pass.account;
#else
    (void)c;
    return 0;
#endif
}

uint64_t bmb_conn_hidden(const bmb_talk *t, const bmb_conn *c)
{
    uint64_t hidden = bmb_feeds_removed(t->feeds);
#if BMB_WITH_ACCESS
    const bmb_who who = { .account = c->pass.account };
    hidden |= ~bmb_guard_feeds(&t->guard, t->x, &who);
#else
    (void)c;
#endif
    return hidden;
}
