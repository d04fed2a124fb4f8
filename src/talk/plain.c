#include "talk/plain.h"

#include <string.h>

#include "serve/formats.h"
#include "serve/framed_request.h"
#include "talk/framed_message.h"
#include "talk/framed_acts.h"
#include "talk/plain_access.h"
#include "wire/framed.h"

static void flush(bmb_talk *t, bmb_conn *c);

static void turn_away(const bmb_talk *t, const bmb_opening *by, bmb_writer *w)
{
    (void)t;
    if (BMB_WITH_FRAMED && by->format == BMB_FORMAT_FRAMED) bmb_framed_put_bye(w, BMB_LIMIT);
}

static void say_goodbye(bmb_conn *c, bmb_err why)
{
    c->bye = (uint8_t)why;
    c->rx_size = 0;
}

static void consume(bmb_conn *c, size_t used)
{
    memmove(c->rx, c->rx + used, c->rx_size - used);
    c->rx_size = (uint16_t)(c->rx_size - used);
}

/* Takes one message. false: nothing more can be done just now. */
static bool take(bmb_talk *t, bmb_conn *c)
{
    bmb_framed_request r;
    size_t used;
    if (c->skip > 0) {
        used = c->skip < c->rx_size ? c->skip : c->rx_size;
        c->skip -= (uint32_t)used;
        consume(c, used);
        return c->rx_size > 0;
    }
    bmb_err err = bmb_framed_request_read(c->rx, c->rx_size, &r, &used, &c->skip);
    if (err == BMB_AGAIN && used == 0) return false;
    if (err == BMB_BAD_DATA || err == BMB_UNSUPPORTED) {
        t->bad_requests++;
        say_goodbye(c, err);
        return false;
    }
    consume(c, used);
    if (err == BMB_OK) bmb_framed_act(t, c, &r);
    return true;
}

/* An answer may stand only between frames, and there is room for one. Requests wait in rx until then. */
static bool may_answer(const bmb_talk *t, const bmb_conn *c)
{
    return c->tx_size == 0 && c->viewer.watcher.frame == NULL && c->bye == BMB_OK && c->announced >= t->feeds->count;
}

/* What may not be seen by everybody is there for who says a program's token first. */
static void take_token(bmb_talk *t, bmb_conn *c)
{
#if BMB_WITH_ACCESS
    const uint8_t *end = bmb_find(c->rx, c->rx_size, '\n');
    if (c->state != BMB_CONN_READING || (end == NULL && c->rx_size < t->rx_room)) return;
    bool good = end != NULL && bmb_plain_token(t, c, (const char *)c->rx, (size_t)(end - c->rx));
    if (!good || bmb_plain_watch(t, c, c->by->feed) != BMB_OK) {
        t->bad_requests++;
        bmb_conn_close(t, c);
        return;
    }
    c->rx_size = 0;
    c->state = BMB_CONN_WATCHING;
    flush(t, c);
#else
    (void)t, (void)c;
#endif
}

static void receive(bmb_talk *t, bmb_conn *c)
{
    if (BMB_WITH_ACCESS && !bmb_is_framed(c)) take_token(t, c);
    while (bmb_is_framed(c) && c->state == BMB_CONN_READING && c->rx_size > 0 && may_answer(t, c)) {
        bool more = take(t, c);
        if (c->tx_size > 0 || c->bye != BMB_OK) flush(t, c);
        if (!more) break;
    }
    if (c->state == BMB_CONN_READING && c->rx_size == 0) c->since_us = t->x->now; /* when the next message began */
}

static bool challenges(const bmb_conn *c)
{
#if BMB_WITH_ACCESS
    return c->challenges;
#else
    (void)c;
    return false;
#endif
}

static bmb_err flush_once(bmb_talk *t, bmb_conn *c)
{
    bmb_viewer *v = &c->viewer;
    bmb_link link = bmb_conn_link(t, c);
    bool framed = bmb_is_framed(c) && c->state == BMB_CONN_READING;
    for (;;) {
        bmb_err err = v->framer != NULL ? bmb_viewer_finish(t->x, v, &link) : BMB_OK;
        if (err == BMB_OK) err = bmb_conn_send_pending(t, c, NULL);
        if (err != BMB_OK) return err;
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        if (c->ending) return BMB_OK;
        while (framed && c->announced < t->feeds->count &&
               (!bmb_feed_is_there(&t->feeds->feed[c->announced]) ||
                !bmb_plain_allows(t, c, BMB_ROLE_WATCH, c->announced)))
            c->announced++;
        if (framed && c->announced < t->feeds->count) {
            bmb_framed_put_feed(t, &w, c->announced++);
        } else if (framed && challenges(c)) {
#if BMB_WITH_ACCESS
            c->challenges = false;
            bmb_framed_put_challenge(t, c, &w);
#endif
        } else if (BMB_WITH_FRAMED && c->bye != BMB_OK) {
            bmb_framed_put_bye(&w, (bmb_err)c->bye);
            c->ending = true;
        } else {
            return v->framer != NULL ? bmb_viewer_pump(t->x, v, &link) : BMB_AGAIN;
        }
        bmb_plain_end_tx(c, &w);
    }
}

static void flush(bmb_talk *t, bmb_conn *c)
{
    if (c->state != BMB_CONN_READING && c->state != BMB_CONN_WATCHING) return;
    bmb_viewer_unblock(t->x, &c->viewer);
    bmb_err err = flush_once(t, c);
    if (err == BMB_OK) { /* the farewell is out */
        bmb_plain_leave(t, c);
        bmb_conn_drain(t, c);
        return;
    }
    if (err != BMB_AGAIN) {
        bmb_conn_close(t, c);
        return;
    }
    bool blocked = c->tx_size > 0 || bmb_viewer_awaits_room(&c->viewer);
    bmb_conn_await(t, c, blocked);
}

static void open_conversation(bmb_talk *t, bmb_conn *c)
{
    c->framed = BMB_WITH_FRAMED && c->by->format == BMB_FORMAT_FRAMED;
    c->state = bmb_is_framed(c) ? BMB_CONN_READING : BMB_CONN_WATCHING;
    c->feed = BMB_NO_FEED;
    if (bmb_is_framed(c)) {
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        uint16_t feeds = 0;
        for (size_t i = 0; i < t->feeds->count; i++)
            feeds = (uint16_t)(feeds +
                               (bmb_feed_is_there(&t->feeds->feed[i]) && bmb_plain_allows(t, c, BMB_ROLE_WATCH, i)));
        bmb_framed_put_hello(t, feeds, &w);
        bmb_plain_end_tx(c, &w);
    }
#if BMB_WITH_ACCESS
    c->challenges = bmb_is_framed(c) && bmb_framed_asks(t, c);
    bool asked = c->by->feed != BMB_NO_FEED &&
                 !(bmb_is_framed(c) ? bmb_plain_allows(t, c, BMB_ROLE_WATCH, c->by->feed) : bmb_plain_host_may(t, c));
    if (asked && !bmb_is_framed(c)) { /* for its token */
        c->state = BMB_CONN_READING;
        bmb_conn_await(t, c, false);
        return;
    }
    if (asked) {
        flush(t, c);
        return;
    }
#endif
    bmb_err err = c->by->feed != BMB_NO_FEED ? bmb_plain_watch(t, c, c->by->feed) : BMB_OK;
    if (err != BMB_OK && !bmb_is_framed(c)) {
        bmb_conn_close(t, c);
        return;
    }
    if (err != BMB_OK) say_goodbye(c, err);
    flush(t, c);
}

/* The last sign of life of ours. */
static uint64_t said_us(const bmb_conn *c)
{
    uint64_t framed_us = c->viewer.state.clock_us;
    return framed_us > c->progress_us ? framed_us : c->progress_us;
}

static bool waits_for_token(const bmb_conn *c)
{
    return BMB_WITH_ACCESS && !bmb_is_framed(c) && c->state == BMB_CONN_READING;
}

static uint64_t due(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    uint64_t alive = said_us(c) + BMB_FRAMED_ALIVE_US, limit = UINT64_MAX;
    if (waits_for_token(c)) return c->since_us + (uint64_t)config->request_ms * 1000;
    if (!bmb_is_framed(c) || c->viewer.watcher.frame != NULL) return UINT64_MAX;
    if (c->viewer.framer == NULL) limit = c->since_us + (uint64_t)config->session_ms * 1000;
    if (c->rx_size > 0 || c->skip > 0) limit = c->since_us + (uint64_t)config->request_ms * 1000;
    return alive < limit ? alive : limit;
}

static void sweep(bmb_talk *t, bmb_conn *c)
{
    const bmb_viewer *v = &c->viewer;
    if (waits_for_token(c) && bmb_older_than_ms(t->x, c->since_us, t->x->config->request_ms)) {
        bmb_conn_close(t, c);
        return;
    }
    if (!bmb_is_framed(c) || v->watcher.frame != NULL) return;
    if ((c->rx_size > 0 || c->skip > 0) && bmb_older_than_ms(t->x, c->since_us, t->x->config->request_ms)) {
        t->bad_requests++;
        say_goodbye(c, BMB_TIMED_OUT); /* half a message */
        flush(t, c);
        return;
    }
    /* Whoever watches nothing must say something from time to time, or its place goes to somebody else. */
    if (v->framer == NULL && bmb_older_than_ms(t->x, c->since_us, t->x->config->session_ms)) {
        say_goodbye(c, BMB_TIMED_OUT);
        flush(t, c);
        return;
    }
    if (!bmb_older_than(t->x, said_us(c), BMB_FRAMED_ALIVE_US)) return;
    bmb_framed_write(c->tx, &(bmb_framed_message){ .type = BMB_FRAMED_ALIVE });
    c->tx_size = BMB_FRAMED_HEADER;
    flush(t, c);
}

static void closed(bmb_talk *t, bmb_conn *c)
{
    if (BMB_WITH_PUSH && c->by->dialler != NULL) c->by->dialler->closed(t, c->by, c, BMB_GONE);
    bmb_plain_leave(t, c);
}

/* Whoever watches nothing gives way to others. */
static bool idle(const bmb_conn *c)
{
    return bmb_is_framed(c) && c->state == BMB_CONN_READING && c->viewer.framer == NULL && c->rx_size == 0 &&
           c->skip == 0;
}

static bmb_feed *watches(const bmb_talk *t, const bmb_conn *c)
{
    (void)t;
    return c->viewer.framer != NULL ? bmb_viewer_feed(&c->viewer) : NULL;
}

static void feed_gone(bmb_talk *t, bmb_conn *c)
{
    bool half = c->viewer.watcher.frame != NULL; /* the peer counts on the rest of it */
    bmb_plain_leave(t, c);
    c->feed = BMB_NO_FEED;
    if (!bmb_is_framed(c) || half) {
        bmb_conn_close(t, c);
        return;
    }
    c->announced = 0; /* the list tells it */
    flush(t, c);
}

const bmb_conversation bmb_plain_conversation = { .open = open_conversation,
                                                  .receive = receive,
                                                  .flush = flush,
                                                  .due = due,
                                                  .sweep = sweep,
                                                  .closed = closed,
                                                  .idle = idle,
                                                  .watches = watches,
                                                  .feed_gone = feed_gone,
                                                  .turn_away = turn_away };
