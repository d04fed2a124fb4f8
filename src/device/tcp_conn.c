/* What a plain TCP connection does: one feed in a plain format, or the framed protocol with its requests. The same code
 * serves those that were accepted by an outlet and those that a push has dialled. */
#include <string.h>

#include "device/state.h"
#include "serve/formats.h"
#include "serve/framed_request.h"
#include "wire/framed.h"

static void flush(bmb_device *d, bmb_conn *c);

static bool may_watch(const bmb_device *d, const bmb_conn *c)
{
    return bmb_push_of(d, c) != NULL || d->viewers < d->config->viewers;
}

static bmb_err watch(bmb_device *d, bmb_conn *c, uint16_t index)
{
    const bmb_plain plain = bmb_conn_plain(d, c);
    bmb_push *push = bmb_push_of(d, c);
    bmb_viewer *v = &c->viewer;
    if (index >= d->config->feed_count || d->feeds[index].removed) return BMB_NOT_FOUND;
    bmb_feed *feed = &d->feeds[index];
    if (!may_watch(d, c)) {
        d->refused++;
        bmb_viewer_event(d, feed, &c->peer, BMB_LEVEL_WARNING, BMB_EVENT_VIEWER_REFUSED, d->config->viewers, 0);
        return BMB_LIMIT;
    }
    v->state = (bmb_stream_state){ .feed = index, .payload_type = (uint8_t)feed->mode.codec };
    bmb_viewer_begin(d, v, feed, bmb_stream_framer(plain.format, feed->mode.codec, true), false, push == NULL);
    v->tally = (uint8_t)(push != NULL ? BMB_OUTLETS_MOST + (size_t)(push - d->pushes) : c->outlet);
    v->keep_all = plain.keep_all;
    c->feed = index;
    c->paused = false;
    bmb_viewer_bound_unsent(d, c->sock, bmb_feed_kbps(d, feed));
    if (push == NULL) bmb_viewer_event(d, feed, &c->peer, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_CAME, feed->viewers, 0);
    if (feed->mode.codec == BMB_CODEC_H264) bmb_feed_want_key(d, feed);
    return BMB_OK;
}

static void leave(bmb_device *d, bmb_conn *c)
{
    bmb_viewer_leave(d, &c->viewer, &c->peer);
}

static void put_hello(bmb_device *d, bmb_writer *w)
{
    size_t length = strlen(d->config->name);
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_u8(w, BMB_FRAMED_VERSION); /* the oldest that is spoken, and the newest */
    bmb_put_u8(w, BMB_FRAMED_VERSION);
    bmb_put_u16(w, (uint16_t)d->config->feed_count);
    bmb_put_u8(w, (uint8_t)(length < 255 ? length : 255));
    bmb_put_bytes(w, d->config->name, length < 255 ? length : 255);
    bmb_framed_end(w, begun, BMB_FRAMED_HELLO, 0);
}

static void put_text(bmb_writer *w, const char *text)
{
    bmb_put_u8(w, (uint8_t)strlen(text));
    bmb_put_bytes(w, text, strlen(text));
}

static void put_feed(bmb_device *d, bmb_writer *w, uint16_t index)
{
    const bmb_feed *feed = &d->feeds[index];
    const bmb_feed_config *config = feed->config;
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_u16(w, index);
    bmb_put_u8(w, (uint8_t)feed->mode.codec);
    bmb_put_u8(w, feed->removed ? 1 : 0);
    bmb_put_u16(w, feed->mode.width);
    bmb_put_u16(w, feed->mode.height);
    bmb_put_u32(w, feed->mode.mfps);
    put_text(w, config->name);
    put_text(w, config->title != NULL ? config->title : config->name);
    bmb_put_u16(w, feed->sets.sps_size);
    bmb_put_bytes(w, feed->sets.sps, feed->sets.sps_size);
    bmb_put_u16(w, feed->sets.pps_size);
    bmb_put_bytes(w, feed->sets.pps, feed->sets.pps_size);
    bmb_framed_end(w, begun, BMB_FRAMED_FEED, 0);
}

static void put_bye(bmb_writer *w, bmb_err why)
{
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_u8(w, (uint8_t)why);
    bmb_put_u8(w, BMB_FRAMED_VERSION);
    bmb_put_u8(w, BMB_FRAMED_VERSION);
    bmb_put_u8(w, 0);
    bmb_framed_end(w, begun, BMB_FRAMED_BYE, 0);
}

void bmb_tcp_turn_away(bmb_writer *w, bmb_stream_format format)
{
    if (format == BMB_FORMAT_FRAMED) put_bye(w, BMB_LIMIT);
}

static void end_tx(bmb_conn *c, const bmb_writer *w)
{
    c->tx_at = 0;
    c->tx_size = (uint16_t)bmb_written(w);
}

/* value: in force; why: BMB_OK, or the reason why the asked one is not. */
static void answer(bmb_device *d, bmb_conn *c, const bmb_framed_request *r, bmb_err why, int32_t value)
{
    bmb_writer w = bmb_writer_of(c->tx, d->tx_room);
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

static void act_hello(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    answer(d, c, r, BMB_OK, BMB_FRAMED_VERSION);
    c->announced = 0; /* the list again, as it is now */
}

static void act_feed(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    if (r->feed == BMB_FRAMED_NO_FEED) {
        leave(d, c);
        c->feed = BMB_NO_FEED;
        answer(d, c, r, BMB_OK, BMB_FRAMED_NO_FEED);
        return;
    }
    if (r->feed >= d->config->feed_count || d->feeds[r->feed].removed) {
        answer(d, c, r, BMB_NOT_FOUND, c->feed);
        return;
    }
    leave(d, c);
    bmb_err err = watch(d, c, r->feed);
    if (err != BMB_OK) c->feed = BMB_NO_FEED;
    answer(d, c, r, err, c->feed);
}

static void act_key(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    if (c->viewer.framer == NULL) {
        answer(d, c, r, BMB_NOT_FOUND, 0);
        return;
    }
    if (c->viewer.feed->mode.codec == BMB_CODEC_H264) bmb_feed_want_key(d, c->viewer.feed);
    answer(d, c, r, BMB_OK, 1);
}

static void act_pause(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    bmb_err err = BMB_OK;
    if (r->value < 0 || r->value > 1) {
        err = BMB_BAD_ARG;
    } else if (c->feed == BMB_NO_FEED) {
        err = BMB_NOT_FOUND;
    } else if (r->value == 1) {
        leave(d, c);
        c->paused = true;
    } else if (c->paused) {
        err = watch(d, c, c->feed);
    }
    answer(d, c, r, err, c->paused);
}

static void act_control(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    bmb_control control = (bmb_control)r->control;
    int32_t value = 0;
    bmb_err err = BMB_OK;
    if (r->feed >= d->config->feed_count || d->feeds[r->feed].removed) {
        err = BMB_NOT_FOUND;
    } else if (r->control >= BMB_CONTROL_COUNT) {
        err = BMB_UNSUPPORTED;
    } else if (!bmb_conn_plain(d, c).controls) {
        err = BMB_DENIED;
    } else {
        err = bmb_control_set(d, r->feed, control, r->value, &value);
    }
    /* Refused: the value that stays in force, where there is one. */
    if (err != BMB_OK && r->feed < d->config->feed_count && r->control < BMB_CONTROL_COUNT)
        (void)bmb_camera_get(d, &d->feeds[r->feed], control, &value);
    answer(d, c, r, err, value);
}

static void act_status(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    char *text = (char *)c->tx + BMB_FRAMED_HEADER;
    size_t room = (size_t)(d->tx_room - BMB_FRAMED_HEADER), size = 0;
    bmb_feed_stats feed;
    if (r->feed == BMB_FRAMED_NO_FEED) {
        bmb_device_stats stats;
        bmb_device_stats_get(d, &stats);
        size = bmb_status_device(d->config->name, &stats, d->work.json, sizeof d->work.json, text, room);
    } else if (bmb_feed_stats_get(d, r->feed, &feed) == BMB_OK) {
        size = bmb_status_feed(&feed, d->work.json, sizeof d->work.json, text, room);
    } else {
        answer(d, c, r, BMB_NOT_FOUND, 0);
        return;
    }
    if (size == 0) {
        answer(d, c, r, BMB_NO_ROOM, 0);
        return;
    }
    bmb_framed_write(c->tx,
                     &(bmb_framed_message){ .type = BMB_FRAMED_STATUS, .number = r->number, .length = (uint32_t)size });
    c->tx_at = 0;
    c->tx_size = (uint16_t)(BMB_FRAMED_HEADER + size);
}

static void act(bmb_device *d, bmb_conn *c, const bmb_framed_request *r)
{
    d->requests++;
    switch (r->type) {
    case BMB_FRAMED_ASK_HELLO:
        act_hello(d, c, r);
        break;
    case BMB_FRAMED_ASK_FEED:
        act_feed(d, c, r);
        break;
    case BMB_FRAMED_ASK_KEY:
        act_key(d, c, r);
        break;
    case BMB_FRAMED_ASK_PAUSE:
        act_pause(d, c, r);
        break;
    case BMB_FRAMED_ASK_CONTROL:
        act_control(d, c, r);
        break;
    case BMB_FRAMED_ASK_STATUS:
        act_status(d, c, r);
        break;
    default: /* ASK_ALIVE */
        answer(d, c, r, BMB_OK, 0);
        break;
    }
}

static void consume(bmb_conn *c, size_t used)
{
    memmove(c->rx, c->rx + used, c->rx_size - used);
    c->rx_size = (uint16_t)(c->rx_size - used);
}

/* Takes one message. false: nothing more can be done just now. */
static bool take(bmb_device *d, bmb_conn *c)
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
        d->bad_requests++;
        say_goodbye(c, err);
        return false;
    }
    consume(c, used);
    if (err == BMB_OK) act(d, c, &r);
    return true;
}

/* An answer may stand only between frames, and there is room for one. Requests wait in rx until then. */
static bool may_answer(const bmb_device *d, const bmb_conn *c)
{
    return c->tx_size == 0 && c->viewer.frame == NULL && c->bye == BMB_OK && c->announced >= d->config->feed_count;
}

static void receive(bmb_device *d, bmb_conn *c)
{
    while (c->state == BMB_CONN_READING && c->rx_size > 0 && may_answer(d, c)) {
        bool more = take(d, c);
        if (c->tx_size > 0 || c->bye != BMB_OK) flush(d, c);
        if (!more) break;
    }
    if (c->state == BMB_CONN_READING && c->rx_size == 0) c->since_us = d->now; /* when the next message began */
}

static bmb_err flush_once(bmb_device *d, bmb_conn *c)
{
    bmb_viewer *v = &c->viewer;
    bool framed = c->state == BMB_CONN_READING;
    for (;;) {
        bmb_err err = v->framer != NULL ? bmb_viewer_finish(d, v, c) : BMB_OK;
        if (err == BMB_OK) err = bmb_conn_send_pending(d, c);
        if (err != BMB_OK) return err;
        bmb_writer w = bmb_writer_of(c->tx, d->tx_room);
        if (c->ending) return BMB_OK;
        if (framed && c->announced < d->config->feed_count) {
            put_feed(d, &w, c->announced++);
        } else if (c->bye != BMB_OK) {
            put_bye(&w, (bmb_err)c->bye);
            c->ending = true;
        } else {
            return v->framer != NULL ? bmb_viewer_pump(d, v, c) : BMB_AGAIN;
        }
        end_tx(c, &w);
    }
}

static void flush(bmb_device *d, bmb_conn *c)
{
    if (c->state != BMB_CONN_READING && c->state != BMB_CONN_WATCHING) return;
    bmb_viewer_unblock(d, &c->viewer);
    bmb_err err = flush_once(d, c);
    if (err == BMB_OK) { /* the farewell is out */
        leave(d, c);
        bmb_conn_drain(d, c);
        return;
    }
    if (err != BMB_AGAIN) {
        bmb_conn_close(d, c);
        return;
    }
    bool blocked = c->tx_size > 0 || c->viewer.blocked;
    bmb_conn_await(d, c, blocked);
}

static void open_conversation(bmb_device *d, bmb_conn *c)
{
    const bmb_plain plain = bmb_conn_plain(d, c);
    c->framed = plain.format == BMB_FORMAT_FRAMED;
    c->state = c->framed ? BMB_CONN_READING : BMB_CONN_WATCHING;
    c->feed = BMB_NO_FEED;
    if (c->framed) {
        bmb_writer w = bmb_writer_of(c->tx, d->tx_room);
        put_hello(d, &w);
        end_tx(c, &w);
    }
    bmb_err err = plain.feed != BMB_NO_FEED ? watch(d, c, plain.feed) : BMB_OK;
    if (err != BMB_OK && !c->framed) {
        bmb_conn_close(d, c);
        return;
    }
    if (err != BMB_OK) say_goodbye(c, err);
    flush(d, c);
}

static void sweep(bmb_device *d, bmb_conn *c)
{
    const bmb_viewer *v = &c->viewer;
    if (!c->framed || v->frame != NULL) return;
    if ((c->rx_size > 0 || c->skip > 0) &&
        bmb_conn_older_than(d, c->since_us, (uint64_t)d->config->request_ms * 1000)) {
        d->bad_requests++;
        say_goodbye(c, BMB_TIMED_OUT); /* half a message */
        flush(d, c);
        return;
    }
    /* Whoever watches nothing must say something from time to time, or its place goes to somebody else. */
    if (v->framer == NULL && bmb_conn_older_than(d, c->since_us, (uint64_t)d->config->session_ms * 1000)) {
        say_goodbye(c, BMB_TIMED_OUT);
        flush(d, c);
        return;
    }
    uint64_t said = v->state.clock_us > c->progress_us ? v->state.clock_us : c->progress_us;
    if (!bmb_conn_older_than(d, said, BMB_FRAMED_ALIVE_US)) return;
    bmb_framed_write(c->tx, &(bmb_framed_message){ .type = BMB_FRAMED_ALIVE });
    c->tx_at = 0;
    c->tx_size = BMB_FRAMED_HEADER;
    flush(d, c);
}

static void closed(bmb_device *d, bmb_conn *c)
{
    bmb_push_closed(d, c, BMB_GONE);
    leave(d, c);
}

/* Whoever watches nothing gives way to others. */
static bool idle(const bmb_device *d, const bmb_conn *c)
{
    (void)d;
    return c->framed && c->state == BMB_CONN_READING && c->viewer.framer == NULL && c->rx_size == 0 && c->skip == 0;
}

static bmb_viewer *viewer(const bmb_device *d, const bmb_conn *c, unsigned n)
{
    (void)d;
    bmb_viewer *v = (bmb_viewer *)(uintptr_t)&c->viewer;
    return n == 0 && v->framer != NULL ? v : NULL;
}

static void feed_removed(bmb_device *d, bmb_conn *c)
{
    bool half = c->viewer.frame != NULL; /* the peer counts on the rest of it */
    leave(d, c);
    c->feed = BMB_NO_FEED;
    if (!c->framed || half) {
        bmb_conn_close(d, c);
        return;
    }
    c->announced = 0; /* the list tells it */
    flush(d, c);
}

const bmb_conversation bmb_tcp_conversation = { .open = open_conversation,
                                                .receive = receive,
                                                .flush = flush,
                                                .sweep = sweep,
                                                .closed = closed,
                                                .idle = idle,
                                                .viewer = viewer,
                                                .feed_removed = feed_removed };
