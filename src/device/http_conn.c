/* What an HTTP connection does: requests become answers and viewers. */
#include <string.h>

#include "device/state.h"

void bmb_http_conn_open(bmb_device *d, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    c->since_us = d->now;
    bmb_http_parse_reset(&c->http);
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
    c->since_us = c->progress_us = d->now;
    bmb_conn_flush(d, c);
}

void bmb_http_conn_refuse(bmb_device *d, bmb_conn *c, uint16_t status)
{
    bmb_writer w = answer(d, c);
    bool head_only = c->http.complete && c->http.method == BMB_HTTP_HEAD;
    if (status != 503 && status != 404) d->bad_requests++;
    bmb_http_error(&w, status, c->keep_alive, head_only);
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void answer_asset(bmb_device *d, bmb_conn *c, const bmb_asset *asset, bool head_only)
{
    bmb_writer w = answer(d, c);
    bmb_http_head(&w, 200, asset->type, asset->size, c->keep_alive, c->old);
    c->body = (const uint8_t *)asset->data;
    c->body_left = head_only ? 0 : asset->size;
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

static void answer_status(bmb_device *d, bmb_conn *c, bool head_only)
{
    bmb_writer w = answer(d, c);
    if (c->old) c->keep_alive = false; /* the end of the connection is the end of the document */
    bmb_http_head(&w, 200, "application/json", SIZE_MAX, c->keep_alive, c->old);
    c->status = !head_only;
    c->part = 0;
    c->index = 0;
    send_answer(d, c, &w, BMB_CONN_ANSWERING);
}

/* How much may wait unsent in the system: more would only grow old there. */
static uint32_t backlog_of(const bmb_device *d, const bmb_feed *feed)
{
    uint32_t mfps, kbps;
    bmb_rate_read(&feed->rate, d->now, &mfps, &kbps);
    uint64_t bytes = (uint64_t)kbps * d->config->backlog_ms / 8;
    if (bytes < BMB_BACKLOG_LEAST) bytes = BMB_BACKLOG_LEAST;
    return bytes > UINT32_MAX ? UINT32_MAX : (uint32_t)bytes;
}

static void answer_feed(bmb_device *d, bmb_conn *c, const bmb_route *route, bool head_only)
{
    bmb_feed *feed = &d->feeds[route->feed];
    const bmb_format *format = route->format;
    bool streaming = !format->once;
    if (streaming && !head_only && d->viewers >= d->config->viewers) {
        d->refused++;
        bmb_log(d->port, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                                       .code = BMB_EVENT_VIEWER_REFUSED,
                                       .feed = feed->config->name,
                                       .peer = &c->peer,
                                       .value = d->config->viewers });
        bmb_http_conn_refuse(d, c, 503);
        return;
    }
    bmb_writer w = answer(d, c);
    if (streaming) {
        c->keep_alive = false;
        bmb_http_head(&w, 200, format->type, SIZE_MAX, false, true);
        if (!head_only) bmb_put_str(&w, format->preamble);
    }
    if (streaming && head_only) {
        send_answer(d, c, &w, BMB_CONN_ANSWERING);
        return;
    }
    c->viewer.state = (bmb_stream_state){ .keep_alive = c->keep_alive, .head_only = head_only };
    bmb_viewer_begin(d, &c->viewer, feed, format->framer, format->once);
    if (streaming) {
        if (d->port->net.bound_backlog != NULL) d->port->net.bound_backlog(d->port->ctx, c->sock, backlog_of(d, feed));
        bmb_log(d->port, &(bmb_event){ .level = BMB_LEVEL_INFO,
                                       .code = BMB_EVENT_VIEWER_CAME,
                                       .feed = feed->config->name,
                                       .peer = &c->peer,
                                       .value = feed->viewers });
    }
    send_answer(d, c, &w, BMB_CONN_WATCHING);
}

static void act(bmb_device *d, bmb_conn *c)
{
    bool head_only = c->http.complete && c->http.method == BMB_HTTP_HEAD;
    bmb_route route = bmb_http_route(d->config, &c->http);
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
    case BMB_ROUTE_SDP:
    case BMB_ROUTE_ERROR:
        bmb_http_conn_refuse(d, c, route.kind == BMB_ROUTE_ERROR ? route.status : 404);
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

void bmb_http_conn_receive(bmb_device *d, bmb_conn *c)
{
    while (c->state == BMB_CONN_READING && c->rx_size > 0 && parse(d, c)) continue;
}

/* The status document, in parts: each row of a part becomes one chunk. */
typedef enum status_part { PART_DEVICE, PART_OUTLETS, PART_FEEDS, PART_VIEWERS, PART_END, PART_COUNT } status_part;

static size_t status_row(bmb_device *d, status_part part, size_t index, char *out, size_t room)
{
    void *memory = d->work.json;
    size_t size = sizeof d->work.json;
    if (part == PART_DEVICE && index == 0) {
        bmb_device_stats stats;
        bmb_device_stats_get(d, &stats);
        return bmb_status_device(d->config->name, &stats, memory, size, out, room);
    }
    bmb_addr addr;
    if (part == PART_OUTLETS && bmb_outlet_addr(d, index, &addr) == BMB_OK)
        return bmb_status_outlet(d->config->outlets[index].kind, &addr, memory, size, out, room);
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

void bmb_http_conn_status(bmb_device *d, bmb_conn *c)
{
    static const char *const openers[PART_COUNT] = { "{\"device\":", ",\"outlets\":[", "],\"feeds\":[",
                                                     "],\"viewers\":[", "]}\n" };
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
