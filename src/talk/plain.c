#include "talk/plain.h"

#include <string.h>

#include "serve/formats.h"
#include "serve/framed_request.h"
#include "talk/framed_message.h"
#include "wire/framed.h"

static void flush(bmb_talk *t, bmb_conn *c);

static bmb_err watch(bmb_talk *t, bmb_conn *c, uint16_t index)
{
    bmb_opening *by = c->by;
    bmb_viewer *v = &c->viewer;
    bool counted = by->dialler == NULL;
    bmb_feed *feed = bmb_feeds_at(t->feeds, index);
    if (feed == NULL) return BMB_NOT_FOUND;
    if (counted && !bmb_talk_has_place(t, feed, &c->peer)) return BMB_LIMIT;
    bmb_codec codec = feed->camera.mode.codec;
    v->state = (bmb_stream_state){ .feed = index, .payload_type = (uint8_t)codec };
    const bmb_viewing how = { .owner = &t->viewing,
                              .tally = &by->past,
                              .framer = bmb_stream_framer(by->format, codec, true),
                              .counted = counted,
                              .keep_all = by->keep_all };
    bmb_viewer_begin(t->x, v, bmb_feed_video(feed), &how);
    c->feed = index;
    c->paused = false;
    bmb_bound_unsent(t->x, c->sock, bmb_track_kbps(t->x, bmb_feed_video(feed)));
    if (counted) bmb_viewer_came(t->x, v, &c->peer);
    bmb_feed_welcome(t->x, feed);
    return BMB_OK;
}

static void leave(bmb_talk *t, bmb_conn *c)
{
    bmb_viewer_leave(t->x, &c->viewer, &c->peer);
}

static void turn_away(const bmb_talk *t, const bmb_opening *by, bmb_writer *w)
{
    (void)t;
    if (by->format == BMB_FORMAT_FRAMED) bmb_framed_put_bye(w, BMB_LIMIT);
}

static void end_tx(bmb_conn *c, const bmb_writer *w)
{
    c->tx_at = 0;
    c->tx_size = (uint16_t)bmb_written(w);
}

/* value: in force; why: BMB_OK, or the reason why the asked one is not. */
static void answer(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, bmb_err why, int32_t value)
{
    bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
    uint8_t *begun = bmb_framed_begin(&w);
    bmb_put_u8(&w, (uint8_t)r->type);
    bmb_put_u8(&w, (uint8_t)why);
    bmb_put_u16(&w, 0);
    bmb_put_u32(&w, (uint32_t)value);
    bmb_framed_end(&w, begun, BMB_FRAMED_ANSWER, r->number);
    end_tx(c, &w);
}

static void say_goodbye(bmb_conn *c, bmb_err why)
{
    c->bye = (uint8_t)why;
    c->rx_size = 0;
}

/* The acts: each does what is asked, and says what is in force. */
static bmb_err act_feed(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    bmb_err err = BMB_OK;
    if (r->feed == BMB_FRAMED_NO_FEED) {
        leave(t, c);
        c->feed = BMB_NO_FEED;
    } else if (bmb_feeds_at(t->feeds, r->feed) == NULL) {
        err = BMB_NOT_FOUND;
    } else {
        leave(t, c);
        err = watch(t, c, r->feed);
        if (err != BMB_OK) c->feed = BMB_NO_FEED;
    }
    *value = c->feed;
    return err;
}

static bmb_err act_key(const bmb_talk *t, const bmb_conn *c, int32_t *value)
{
    if (c->viewer.framer == NULL) return BMB_NOT_FOUND;
    bmb_feed_welcome(t->x, c->viewer.track->feed);
    *value = 1;
    return BMB_OK;
}

static bmb_err act_pause(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    bmb_err err = BMB_OK;
    if (r->value < 0 || r->value > 1) {
        err = BMB_BAD_ARG;
    } else if (c->feed == BMB_NO_FEED) {
        err = BMB_NOT_FOUND;
    } else if (r->value == 1) {
        leave(t, c);
        c->paused = true;
    } else if (c->paused) {
        err = watch(t, c, c->feed);
    }
    *value = c->paused;
    return err;
}

static bmb_err act_control(bmb_talk *t, const bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    bmb_control control = (bmb_control)r->control;
    bmb_feed *feed = bmb_feeds_at(t->feeds, r->feed);
    if (feed == NULL) return BMB_NOT_FOUND;
    if (r->control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    if (c->by->controls) return bmb_feed_set(t->x, feed, control, r->value, value);
    (void)bmb_camera_get(t->x, &feed->camera, control, value);
    return BMB_DENIED;
}

/* A document answers; a refusal only is an answer like the others. */
static bmb_err act_status(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r)
{
    char *text = (char *)c->tx + BMB_FRAMED_HEADER;
    size_t room = (size_t)(t->tx_room - BMB_FRAMED_HEADER);
    bool whole = r->feed == BMB_FRAMED_NO_FEED;
    if (!whole && r->feed >= t->feeds->count) return BMB_NOT_FOUND;
    size_t size =
        t->figures->row(t->figures, whole ? BMB_STATUS_DEVICE : BMB_STATUS_FEEDS, whole ? 0 : r->feed, text, room);
    if (size == 0) return BMB_NO_ROOM;
    bmb_framed_write(c->tx,
                     &(bmb_framed_message){ .type = BMB_FRAMED_STATUS, .number = r->number, .length = (uint32_t)size });
    c->tx_at = 0;
    c->tx_size = (uint16_t)(BMB_FRAMED_HEADER + size);
    return BMB_OK;
}

static void act(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r)
{
    bmb_err err = BMB_OK;
    int32_t value = 0;
    t->requests++;
    switch (r->type) {
    case BMB_FRAMED_ASK_HELLO:
        value = BMB_FRAMED_VERSION;
        c->announced = 0; /* the list again, as it is now */
        break;
    case BMB_FRAMED_ASK_FEED:
        err = act_feed(t, c, r, &value);
        break;
    case BMB_FRAMED_ASK_KEY:
        err = act_key(t, c, &value);
        break;
    case BMB_FRAMED_ASK_PAUSE:
        err = act_pause(t, c, r, &value);
        break;
    case BMB_FRAMED_ASK_CONTROL:
        err = act_control(t, c, r, &value);
        break;
    case BMB_FRAMED_ASK_STATUS:
        err = act_status(t, c, r);
        if (err == BMB_OK) return;
        break;
    default: /* ASK_ALIVE */
        break;
    }
    answer(t, c, r, err, value);
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
    if (err == BMB_OK) act(t, c, &r);
    return true;
}

/* An answer may stand only between frames, and there is room for one. Requests wait in rx until then. */
static bool may_answer(const bmb_talk *t, const bmb_conn *c)
{
    return c->tx_size == 0 && c->viewer.watcher.frame == NULL && c->bye == BMB_OK && c->announced >= t->feeds->count;
}

static void receive(bmb_talk *t, bmb_conn *c)
{
    while (c->state == BMB_CONN_READING && c->rx_size > 0 && may_answer(t, c)) {
        bool more = take(t, c);
        if (c->tx_size > 0 || c->bye != BMB_OK) flush(t, c);
        if (!more) break;
    }
    if (c->state == BMB_CONN_READING && c->rx_size == 0) c->since_us = t->x->now; /* when the next message began */
}

static bmb_err flush_once(bmb_talk *t, bmb_conn *c)
{
    bmb_viewer *v = &c->viewer;
    bmb_link link = bmb_conn_link(t, c);
    bool framed = c->state == BMB_CONN_READING;
    for (;;) {
        bmb_err err = v->framer != NULL ? bmb_viewer_finish(t->x, v, &link) : BMB_OK;
        if (err == BMB_OK) err = bmb_conn_send_pending(t, c, NULL);
        if (err != BMB_OK) return err;
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        if (c->ending) return BMB_OK;
        if (framed && c->announced < t->feeds->count) {
            bmb_framed_put_feed(t, &w, c->announced++);
        } else if (c->bye != BMB_OK) {
            bmb_framed_put_bye(&w, (bmb_err)c->bye);
            c->ending = true;
        } else {
            return v->framer != NULL ? bmb_viewer_pump(t->x, v, &link) : BMB_AGAIN;
        }
        end_tx(c, &w);
    }
}

static void flush(bmb_talk *t, bmb_conn *c)
{
    if (c->state != BMB_CONN_READING && c->state != BMB_CONN_WATCHING) return;
    bmb_viewer_unblock(t->x, &c->viewer);
    bmb_err err = flush_once(t, c);
    if (err == BMB_OK) { /* the farewell is out */
        leave(t, c);
        bmb_conn_drain(t, c);
        return;
    }
    if (err != BMB_AGAIN) {
        bmb_conn_close(t, c);
        return;
    }
    bool blocked = c->tx_size > 0 || c->viewer.blocked;
    bmb_conn_await(t, c, blocked);
}

static void open_conversation(bmb_talk *t, bmb_conn *c)
{
    c->framed = c->by->format == BMB_FORMAT_FRAMED;
    c->state = c->framed ? BMB_CONN_READING : BMB_CONN_WATCHING;
    c->feed = BMB_NO_FEED;
    if (c->framed) {
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        bmb_framed_put_hello(t, &w);
        end_tx(c, &w);
    }
    bmb_err err = c->by->feed != BMB_NO_FEED ? watch(t, c, c->by->feed) : BMB_OK;
    if (err != BMB_OK && !c->framed) {
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

static uint64_t due(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    uint64_t alive = said_us(c) + BMB_FRAMED_ALIVE_US, limit = UINT64_MAX;
    if (!c->framed || c->viewer.watcher.frame != NULL) return UINT64_MAX;
    if (c->viewer.framer == NULL) limit = c->since_us + (uint64_t)config->session_ms * 1000;
    if (c->rx_size > 0 || c->skip > 0) limit = c->since_us + (uint64_t)config->request_ms * 1000;
    return alive < limit ? alive : limit;
}

static void sweep(bmb_talk *t, bmb_conn *c)
{
    const bmb_viewer *v = &c->viewer;
    if (!c->framed || v->watcher.frame != NULL) return;
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
    if (c->by->dialler != NULL) c->by->dialler->closed(t, c->by, c, BMB_GONE);
    leave(t, c);
}

/* Whoever watches nothing gives way to others. */
static bool idle(const bmb_conn *c)
{
    return c->framed && c->state == BMB_CONN_READING && c->viewer.framer == NULL && c->rx_size == 0 && c->skip == 0;
}

static bmb_feed *watches(const bmb_talk *t, const bmb_conn *c)
{
    (void)t;
    return c->viewer.framer != NULL ? c->viewer.track->feed : NULL;
}

static void feed_gone(bmb_talk *t, bmb_conn *c)
{
    bool half = c->viewer.watcher.frame != NULL; /* the peer counts on the rest of it */
    leave(t, c);
    c->feed = BMB_NO_FEED;
    if (!c->framed || half) {
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
