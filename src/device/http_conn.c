/* What an HTTP connection does: requests become answers and viewers. */
#include <string.h>

#include "device/state.h"

static void open_conversation(bmb_device *d, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    c->since_us = d->now;
    bmb_http_parse_reset(&c->http);
    bmb_conn_await(d, c, false);
}

static bmb_http_terms terms_of(const bmb_device *d, const bmb_conn *c)
{
    return bmb_conn_terms(d, c->keep_alive, c->old, c->http.complete && c->http.method == BMB_HTTP_HEAD);
}

/* Somebody opens the address of RTSP in a browser: it is told what to open, and where. */
static bool wrong_door(const bmb_device *d, const bmb_conn *c)
{
    return d->config->outlets[c->outlet].kind == BMB_OUTLET_RTSP;
}

static void put_status(bmb_device *d, bmb_conn *c);
static void viewer_left(bmb_device *d, bmb_conn *c);
static void flush(bmb_device *d, bmb_conn *c);

static void closed(bmb_device *d, bmb_conn *c)
{
    bmb_still_done(d, c);
    viewer_left(d, c);
}

static void viewer_left(bmb_device *d, bmb_conn *c)
{
    bmb_viewer_leave(d, &c->viewer, &c->peer);
}

static bmb_writer answer(bmb_device *d, bmb_conn *c)
{
    c->tx_at = c->tx_size = 0;
    c->body_left = 0;
    return bmb_writer_of(c->tx, d->tx_room);
}

static void send_answer(bmb_device *d, bmb_conn *c, const bmb_writer *w, bmb_conn_state state)
{
    c->tx_size = (uint16_t)bmb_written(w);
    c->state = (uint8_t)state;
    c->since_us = d->now;
    flush(d, c);
}

static void refuse(bmb_device *d, bmb_conn *c, uint16_t status)
{
    bmb_writer w = answer(d, c);
    const bmb_http_terms terms = terms_of(d, c);
    if (status != 503 && status != 404) d->bad_requests++;
    if (status == 404) bmb_conn_not_found(d, c, "HTTP ", c->http.path.text, c->http.path.size);
    bmb_http_error(&w, status, &terms, d->config, bmb_removed(d), wrong_door(d, c));
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void answer_asset(bmb_device *d, bmb_conn *c, const bmb_asset *asset, bool head_only)
{
    bmb_writer w = answer(d, c);
    const bmb_http_terms terms = terms_of(d, c);
    bmb_http_head(&w, 200, asset->type, asset->size, &terms);
    c->body = (const uint8_t *)asset->data;
    c->body_left = head_only ? 0 : asset->size;
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void answer_status(bmb_device *d, bmb_conn *c, bool head_only)
{
    bmb_writer w = answer(d, c);
    if (c->old) c->keep_alive = false; /* the end of the connection is the end of the document */
    const bmb_http_terms terms = terms_of(d, c);
    bmb_http_head(&w, 200, "application/json", SIZE_MAX, &terms);
    c->status = !head_only;
    c->part = 0;
    c->index = 0;
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void answer_feed(bmb_device *d, bmb_conn *c, const bmb_route *route, bool head_only)
{
    bmb_feed *feed = &d->feeds[route->feed];
    const bmb_format *format = route->format;
    if (feed->removed) {
        refuse(d, c, 404);
        return;
    }
    bool streaming = !format->once;
    if (streaming && !head_only && d->viewers >= d->config->viewers) {
        d->refused++;
        bmb_viewer_event(d, feed, &c->peer, BMB_LEVEL_WARNING, BMB_EVENT_VIEWER_REFUSED, d->config->viewers, 0);
        refuse(d, c, 503);
        return;
    }
    bmb_writer w = answer(d, c);
    if (streaming) {
        c->keep_alive = false;
        const bmb_http_terms terms = bmb_conn_terms(d, false, true, head_only); /* old: no chunks */
        bmb_http_head(&w, 200, format->type, SIZE_MAX, &terms);
        if (!head_only) bmb_put_str(&w, format->preamble);
    }
    if (streaming && head_only) {
        send_answer(d, c, &w, BMB_CONN_ANSWERING);
        return;
    }
    c->viewer.state = (bmb_stream_state){ .keep_alive = c->keep_alive, .old = c->old, .head_only = head_only };
    bmb_viewer_begin(d, &c->viewer, feed, format->framer, format->once, streaming);
    c->viewer.tally = c->outlet;
    if (streaming) {
        bmb_viewer_bound_unsent(d, c->sock, bmb_feed_kbps(d, feed));
        bmb_viewer_event(d, feed, &c->peer, BMB_LEVEL_INFO, BMB_EVENT_VIEWER_CAME, feed->viewers, 0);
    }
    send_answer(d, c, &w, BMB_CONN_WATCHING);
}

/* The multicast group's description, for players that get it by HTTP instead of RTSP. */
static void answer_sdp(bmb_device *d, bmb_conn *c, bmb_feed *feed, bool head_only)
{
    bmb_addr origin = { .family = 4 };
    if (feed->removed || (feed->mode.codec == BMB_CODEC_H264 && feed->sets.sps_size == 0)) {
        refuse(d, c, feed->removed ? 404 : 503);
        return;
    }
    (void)d->port->net.local(d->port->ctx, c->sock, &origin);
    const bmb_sdp sdp = bmb_rtp_describe(d, feed, &origin, &feed->config->multicast, false);
    const bmb_http_terms terms = terms_of(d, c);
    bmb_writer body = bmb_writer_of(d->work.sdp, sizeof d->work.sdp), w = answer(d, c);
    bmb_sdp_write(&body, &sdp);
    bmb_http_head(&w, 200, "application/sdp", bmb_written(&body), &terms);
    if (!head_only) bmb_put_bytes(&w, d->work.sdp, bmb_written(&body));
    /* Whoever fetches it wants to see something, and has no session to ask with. */
    if (!head_only) bmb_group_lease(d, feed, d->now + (uint64_t)d->config->session_ms * 1000);
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void answer_own_still(bmb_device *d, bmb_conn *c, const bmb_route *route, bool head_only)
{
    bmb_feed *feed = &d->feeds[route->feed];
    if (route->width == feed->mode.width && route->height == feed->mode.height) {
        const bmb_route plain = { .feed = route->feed, .format = bmb_format_still() };
        answer_feed(d, c, &plain, head_only);
        return;
    }
    bmb_err err =
        feed->removed || head_only ? BMB_UNSUPPORTED : bmb_still_begin(d, feed, c, route->width, route->height);
    if (err != BMB_OK) {
        refuse(d, c, err == BMB_UNSUPPORTED ? 404 : 409);
        return;
    }
    c->state = BMB_CONN_WAITING;
    c->since_us = d->now;
}

void bmb_http_answer_still(bmb_device *d, bmb_conn *c, const uint8_t *data, size_t size)
{
    if (size == 0) {
        refuse(d, c, 503);
        return;
    }
    bmb_writer w = answer(d, c);
    c->keep_alive = false; /* so that its end gives the picture back */
    const bmb_http_terms terms = terms_of(d, c);
    bmb_http_head(&w, 200, "image/jpeg", size, &terms);
    c->body = data;
    c->body_left = size;
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void act(bmb_device *d, bmb_conn *c)
{
    bool head_only = c->http.complete && c->http.method == BMB_HTTP_HEAD;
    bmb_route route = bmb_http_route(d->config, &c->http);
    if (wrong_door(d, c) && route.kind != BMB_ROUTE_TUNNEL && route.kind != BMB_ROUTE_ERROR)
        route = (bmb_route){ .kind = BMB_ROUTE_ERROR, .status = 404 };
    d->requests++;
    c->old = c->http.old;
    c->keep_alive = c->http.error == 0 && c->http.keep_alive;
    switch (route.kind) {
    case BMB_ROUTE_ASSET:
        answer_asset(d, c, route.asset, head_only);
        break;
    case BMB_ROUTE_STATUS:
        answer_status(d, c, head_only);
        break;
    case BMB_ROUTE_FEED:
        answer_feed(d, c, &route, head_only);
        break;
    case BMB_ROUTE_STILL:
        answer_own_still(d, c, &route, head_only);
        break;
    case BMB_ROUTE_SDP:
        answer_sdp(d, c, &d->feeds[route.feed], head_only);
        break;
    case BMB_ROUTE_TUNNEL:
        if (!bmb_tunnel_begin(d, c, (bmb_http_method)c->http.method, c->http.cookie)) refuse(d, c, 404);
        break;
    case BMB_ROUTE_ERROR:
        refuse(d, c, route.status);
        break;
    }
}

/* true: a request was complete (or refused) and has been acted on */
static bool parse(bmb_device *d, bmb_conn *c)
{
    bool had_begun = c->http.begun;
    size_t used = bmb_http_parse_feed(&c->http, c->rx, c->rx_size);
    memmove(c->rx, c->rx + used, c->rx_size - used);
    c->rx_size = (uint16_t)(c->rx_size - used);
    if (c->http.begun && !had_begun) c->since_us = d->now;
    if (!c->http.complete && c->http.error == 0) return false;
    act(d, c);
    return true;
}

static void receive(bmb_device *d, bmb_conn *c)
{
    /* A request may turn it into something else. */
    while (c->kind == BMB_CONN_HTTP && c->state == BMB_CONN_READING && c->rx_size > 0 && parse(d, c)) continue;
}

/* The status document, in parts: each row of a part becomes one chunk. */
typedef enum status_part {
    PART_DEVICE,
    PART_OUTLETS,
    PART_FEEDS,
    PART_PUSHES,
    PART_VIEWERS,
    PART_END,
    PART_COUNT
} status_part;

static size_t status_row(bmb_device *d, status_part part, size_t index, char *out, size_t room)
{
    void *memory = d->work.json;
    size_t size = sizeof d->work.json;
    if (part == PART_DEVICE && index == 0) {
        bmb_device_stats stats;
        bmb_device_stats_get(d, &stats);
        return bmb_status_device(d->config->name, &stats, memory, size, out, room);
    }
    bmb_outlet_stats outlet;
    if (part == PART_OUTLETS && bmb_outlet_stats_get(d, index, &outlet) == BMB_OK)
        return bmb_status_outlet(&outlet,
                                 outlet.feed < d->config->feed_count ? d->config->feeds[outlet.feed].name : NULL,
                                 memory, size, out, room);
    bmb_push_stats push;
    if (part == PART_PUSHES && bmb_push_stats_get(d, index, &push) == BMB_OK)
        return bmb_status_push(d->config->feeds[push.config->feed].name, &push, memory, size, out, room);
    bmb_feed_stats feed;
    if (part == PART_FEEDS && bmb_feed_stats_get(d, index, &feed) == BMB_OK)
        return bmb_status_feed(&feed, memory, size, out, room);
    bmb_viewer_stats viewer;
    if (part == PART_VIEWERS && bmb_viewer_stats_get(d, index, &viewer) == BMB_OK)
        return bmb_status_viewer(d->config->feeds[viewer.feed].name, &viewer, memory, size, out, room);
    return 0;
}

static void put_chunk(bmb_conn *c, const char *text, size_t size)
{
    if (size == 0) return;
    bmb_writer w = bmb_writer_of(c->tx, BMB_CHUNK_ROOM);
    if (!c->old) {
        bmb_put_hex(&w, size, 4);
        bmb_put_str(&w, "\r\n");
    }
    size_t head = bmb_written(&w);
    memmove(c->tx + head, text, size);
    if (!c->old) memcpy(c->tx + head + size, "\r\n", 2);
    c->tx_size = (uint16_t)(head + size + (c->old ? 0 : 2));
}

static void put_status(bmb_device *d, bmb_conn *c)
{
    static const char *const openers[PART_COUNT] = { "{\"device\":",   ",\"outlets\":[",  "],\"feeds\":[",
                                                     "],\"pushes\":[", "],\"viewers\":[", "]}\n" };
    c->tx_at = 0;
    if (c->part == PART_COUNT) {
        bmb_writer w = bmb_writer_of(c->tx, d->tx_room);
        if (!c->old) bmb_put_str(&w, "0\r\n\r\n");
        c->tx_size = (uint16_t)bmb_written(&w);
        c->status = false;
        return;
    }
    /* The text is made behind the place of the chunk's head, and the head put before it. */
    char *text = (char *)c->tx + BMB_CHUNK_ROOM;
    size_t room = (size_t)(d->tx_room - 2 * BMB_CHUNK_ROOM), before = 0;
    if (c->index == 0) {
        before = strlen(openers[c->part]);
        memcpy(text, openers[c->part], before);
    } else {
        text[before++] = ',';
    }
    size_t row = status_row(d, (status_part)c->part, c->index, text + before, room - before);
    if (row > 0) {
        c->index++;
    } else {
        if (c->index > 0) before = 0;
        c->part++;
        c->index = 0;
    }
    put_chunk(c, text, before + row);
}

static void flush(bmb_device *d, bmb_conn *c)
{
    bmb_err err = BMB_AGAIN;
    bmb_viewer_unblock(d, &c->viewer);
    while (c->state == BMB_CONN_ANSWERING || c->state == BMB_CONN_WATCHING) {
        err = bmb_conn_send_pending(d, c);
        if (err != BMB_OK) break;
        if (c->status) {
            put_status(d, c);
            continue;
        }
        if (c->state == BMB_CONN_WATCHING) {
            err = bmb_viewer_pump(d, &c->viewer, c);
            if (err != BMB_OK) break;
            viewer_left(d, c);
        }
        if (!c->keep_alive) {
            bmb_still_done(d, c);
            bmb_conn_drain(d, c);
            return;
        }
        open_conversation(d, c);
        err = BMB_AGAIN;
    }
    if (err != BMB_AGAIN) {
        bmb_conn_close(d, c);
        return;
    }
    bool blocked = c->tx_at < c->tx_size || c->body_left > 0 || (c->state == BMB_CONN_WATCHING && c->viewer.blocked);
    bmb_conn_await(d, c, blocked);
}

static void sweep_watching(bmb_device *d, bmb_conn *c)
{
    bmb_viewer *v = &c->viewer;
    if (v->once && v->frame == NULL && bmb_conn_older_than(d, v->since_us, BMB_STILL_WAIT_US)) {
        bmb_viewer_end(d, v);
        refuse(d, c, 503);
    }
}

static void sweep(bmb_device *d, bmb_conn *c)
{
    const bmb_config *config = d->config;
    if (c->state == BMB_CONN_WAITING) return; /* the still has its own bound */
    if (c->state == BMB_CONN_READING && !c->http.begun) {
        if (bmb_conn_older_than(d, c->since_us, (uint64_t)config->idle_ms * 1000)) bmb_conn_close(d, c);
    } else if (c->state == BMB_CONN_READING) {
        if (!bmb_conn_older_than(d, c->since_us, (uint64_t)config->request_ms * 1000)) return;
        c->keep_alive = false;
        refuse(d, c, 408);
    } else if (c->state == BMB_CONN_WATCHING) {
        sweep_watching(d, c);
    }
}

static bool idle(const bmb_device *d, const bmb_conn *c)
{
    (void)d;
    return c->state == BMB_CONN_READING && !c->http.begun;
}

static bmb_viewer *viewer(const bmb_device *d, const bmb_conn *c, unsigned n)
{
    (void)d;
    bmb_viewer *v = (bmb_viewer *)(uintptr_t)&c->viewer;
    return c->state == BMB_CONN_WATCHING && n == 0 && v->framer != NULL ? v : NULL;
}

static void feed_removed(bmb_device *d, bmb_conn *c)
{
    bmb_conn_close(d, c); /* the end of the connection is the end of the document */
}

const bmb_conversation bmb_http_conversation = { .open = open_conversation,
                                                 .receive = receive,
                                                 .flush = flush,
                                                 .sweep = sweep,
                                                 .closed = closed,
                                                 .idle = idle,
                                                 .viewer = viewer,
                                                 .feed_removed = feed_removed };
