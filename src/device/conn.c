/* Connections of every kind: accepted, read, written, timed and closed. What is said on them is the conversations'. */
#include <stddef.h>
#include <string.h>

#include "device/state.h"
#include "serve/rtsp_answer.h"

static const bmb_conversation *of(const bmb_conn *c)
{
    static const bmb_conversation *const kinds[BMB_CONN_KINDS] = { &bmb_http_conversation, &bmb_rtsp_conversation,
                                                                   &bmb_tcp_conversation, &bmb_post_conversation };
    return kinds[c->kind];
}

static void watch(bmb_device *d, bmb_conn *c, uint8_t events)
{
    /* From here on the peer is waited for: its time begins now, however long there was nothing to take. */
    if ((events & ~c->watched & BMB_WRITABLE) != 0) c->progress_us = d->now;
    if (c->watched == events) return;
    c->watched = events;
    uint32_t token = (uint32_t)(BMB_TOKEN_CONN + (size_t)(c - d->conns));
    (void)d->port->net.watch(d->port->ctx, c->sock, events, token);
}

void bmb_conn_await(bmb_device *d, bmb_conn *c, bool waits)
{
    watch(d, c, waits ? BMB_READABLE | BMB_WRITABLE : BMB_READABLE);
}

bmb_http_terms bmb_conn_terms(const bmb_device *d, bool keep_alive, bool old, bool head_only)
{
    bmb_http_terms terms = { .keep_alive = keep_alive, .old = old, .head_only = head_only };
    const bmb_port *port = d->port;
    if (port->wall_us == NULL || port->wall_us(port->ctx, &terms.wall_us) != BMB_OK) terms.wall_us = 0;
    return terms;
}

#define ASKED_MOST 96u

void bmb_conn_not_found(bmb_device *d, const bmb_conn *c, const char *scheme, const char *path, size_t size)
{
    char text[ASKED_MOST];
    bmb_writer w = bmb_writer_of(text, sizeof text - 1);
    bmb_put_str(&w, scheme);
    for (size_t i = 0; i < size && i < ASKED_MOST / 2; i++) /* it came from the network, and goes to a terminal */
        bmb_put_u8(&w, (uint8_t)(path[i] > 0x20 && path[i] < 0x7F ? path[i] : '?'));
    text[bmb_written(&w)] = '\0';
    bmb_tell(d, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                              .code = BMB_EVENT_NOT_FOUND,
                              .err = BMB_NOT_FOUND,
                              .peer = &c->peer,
                              .text = text });
}

static bmb_conn *free_conn(bmb_device *d)
{
    bmb_conn *idle = NULL;
    for (uint16_t i = 0; i < d->conn_open; i++) {
        bmb_conn *c = &d->conns[i];
        if (c->state == BMB_CONN_FREE) return c;
        bool waits = c->state == BMB_CONN_DRAINING || of(c)->idle(d, c);
        if (waits && (idle == NULL || c->since_us < idle->since_us)) idle = c;
    }
    if (idle != NULL) bmb_conn_close(d, idle); /* nobody misses a connection that is only kept alive */
    return idle;
}

void bmb_conn_open(bmb_device *d, bmb_conn *c, bmb_outlet_kind kind, size_t outlet, bmb_sock sock, const bmb_addr *peer)
{
    uint8_t *rx = c->rx, *tx = c->tx;
    memset(c, 0, sizeof *c);
    c->rx = rx;
    c->tx = tx;
    c->sock = sock;
    c->kind = (uint8_t)kind;
    c->outlet = (uint8_t)outlet;
    c->peer = *peer;
    c->since_us = c->progress_us = d->now;
    d->conn_live++;
    uint16_t behind = (uint16_t)(c - d->conns + 1);
    if (behind > d->conn_used) d->conn_used = behind;
    of(c)->open(d, c);
}

/* No connection is left for it: one sentence, and away. */
static void turn_away(bmb_device *d, const bmb_outlet *outlet, bmb_sock sock, const bmb_addr *peer)
{
    uint8_t text[256];
    size_t taken;
    bmb_writer w = bmb_writer_of(text, sizeof text);
    if (outlet->config->kind == BMB_OUTLET_TCP) {
        bmb_tcp_turn_away(&w, outlet->config->format);
    } else if (outlet->config->kind == BMB_OUTLET_RTSP) {
        bmb_rtsp_status(&w, 503, &(bmb_rtsp_parse){ .has_cseq = false });
    } else {
        const bmb_http_terms terms = bmb_conn_terms(d, false, false, false);
        bmb_http_error(&w, 503, &terms, NULL, 0, false);
    }
    const bmb_slice slice = { .data = text, .size = bmb_written(&w) };
    if (slice.size > 0) (void)bmb_net_send(d, sock, &slice, 1, slice.size, &taken);
    d->port->net.close(d->port->ctx, sock);
    d->refused++;
    bmb_tell(d, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                              .code = BMB_EVENT_CONNECTIONS_FULL,
                              .err = BMB_LIMIT,
                              .peer = peer,
                              .value = d->conn_most });
}

/* What a conversation needs is set to its beginning. */
static void clear(bmb_conn *c)
{
    memset((uint8_t *)c + offsetof(bmb_conn, viewer), 0, sizeof *c - offsetof(bmb_conn, viewer));
}

void bmb_conn_turn(bmb_device *d, bmb_conn *c, bmb_conn_kind kind)
{
    clear(c);
    c->kind = (uint8_t)kind;
    c->tx_at = c->tx_size = 0;
    c->body_left = 0;
    c->since_us = c->progress_us = d->now;
    of(c)->open(d, c);
}

void bmb_conn_accept(bmb_device *d, bmb_outlet *outlet)
{
    for (unsigned i = 0; i < BMB_READY_MOST; i++) {
        bmb_sock sock;
        bmb_addr peer;
        bmb_err err = d->port->net.accept(d->port->ctx, outlet->sock, &sock, &peer);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            d->accept_failed++;
            outlet->paused_us = d->now + BMB_ACCEPT_PAUSE_US;
            (void)d->port->net.watch(d->port->ctx, outlet->sock, 0, (uint32_t)(outlet - d->outlets));
            bmb_tell(d, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                                      .code = BMB_EVENT_ACCEPT_PAUSED,
                                      .err = err,
                                      .value = BMB_ACCEPT_PAUSE_US / 1000 });
            return;
        }
        bmb_conn *c = free_conn(d);
        if (c == NULL) {
            turn_away(d, outlet, sock, &peer);
        } else {
            bmb_conn_open(d, c, outlet->config->kind, (size_t)(outlet - d->outlets), sock, &peer);
        }
    }
}

void bmb_viewer_event(bmb_device *d, const bmb_feed *feed, const bmb_addr *peer, bmb_level level, bmb_event_code code,
                      int64_t value, int64_t extra)
{
    bmb_tell(
        d,
        &(bmb_event){
            .level = level, .code = code, .feed = feed->config->name, .peer = peer, .value = value, .extra = extra });
}

void bmb_conn_close(bmb_device *d, bmb_conn *c)
{
    if (c->state == BMB_CONN_FREE) return;
    if (c->state != BMB_CONN_DIALLING) of(c)->closed(d, c);
    d->port->net.close(d->port->ctx, c->sock);
    c->state = BMB_CONN_FREE;
    c->sock = BMB_NO_SOCK;
    d->conn_live--;
    while (d->conn_used > 0 && d->conns[d->conn_used - 1].state == BMB_CONN_FREE) d->conn_used--;
}

bmb_err bmb_conn_send(bmb_device *d, bmb_conn *c, const bmb_slice *slices, size_t count, size_t offered, size_t *taken)
{
    bmb_err err = bmb_net_send(d, c->sock, slices, count, offered, taken);
    if (*taken > 0) c->progress_us = d->now;
    return err == BMB_OK && *taken < offered ? BMB_AGAIN : err;
}

bmb_err bmb_conn_send_pending(bmb_device *d, bmb_conn *c)
{
    while (c->tx_at < c->tx_size || c->body_left > 0) {
        size_t head = (size_t)(c->tx_size - c->tx_at), taken = 0;
        const bmb_slice slices[2] = { { c->tx + c->tx_at, head }, { c->body, c->body_left } };
        size_t first = head > 0 ? 0 : 1, last = c->body_left > 0 ? 2 : 1;
        bmb_err err = bmb_conn_send(d, c, slices + first, last - first, head + c->body_left, &taken);
        size_t from_head = taken < head ? taken : head;
        c->tx_at = (uint16_t)(c->tx_at + from_head);
        if (taken > from_head) c->body += taken - from_head;
        c->body_left -= taken - from_head;
        if (err != BMB_OK) return err;
    }
    c->tx_at = c->tx_size = 0;
    return BMB_OK;
}

void bmb_conn_drain(bmb_device *d, bmb_conn *c)
{
    c->state = BMB_CONN_DRAINING;
    c->since_us = d->now;
    c->rx_size = 0;
    if (d->port->net.finish != NULL) d->port->net.finish(d->port->ctx, c->sock);
    bmb_conn_await(d, c, false);
}

void bmb_conn_resume(bmb_device *d, bmb_conn *c)
{
    of(c)->flush(d, c);
    if (c->state == BMB_CONN_READING) of(c)->receive(d, c);
}

/* How a peer's end is noticed that has nothing to say any more; whatever it says is dropped. */
static void discard_input(bmb_device *d, bmb_conn *c)
{
    for (unsigned i = 0; i < 8; i++) {
        size_t got = 0;
        bmb_err err = bmb_net_recv(d, c->sock, c->rx, d->rx_room, &got);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            bmb_conn_close(d, c);
            return;
        }
    }
}

static void receive(bmb_device *d, bmb_conn *c)
{
    if (c->state == BMB_CONN_WATCHING || c->state == BMB_CONN_DRAINING) {
        discard_input(d, c);
        return;
    }
    size_t got = 0;
    if (c->rx_size == d->rx_room) { /* an answer is under way and the next requests wait */
        watch(d, c, c->watched & (uint8_t)~BMB_READABLE);
        return;
    }
    bmb_err err = bmb_net_recv(d, c->sock, c->rx + c->rx_size, (size_t)(d->rx_room - c->rx_size), &got);
    if (err == BMB_AGAIN) return;
    if (err != BMB_OK) {
        bmb_conn_close(d, c);
        return;
    }
    c->rx_size = (uint16_t)(c->rx_size + got);
    if (c->state == BMB_CONN_READING) of(c)->receive(d, c);
}

void bmb_conn_ready(bmb_device *d, bmb_conn *c, uint32_t events)
{
    if (c->state == BMB_CONN_FREE) return;
    if (c->state == BMB_CONN_DIALLING) {
        bmb_push_dialled(d, c);
        return;
    }
    if ((events & BMB_BROKEN) != 0 && c->rx_size == d->rx_room) { /* reading, which would tell, has to wait */
        bmb_conn_close(d, c);
        return;
    }
    if ((events & (BMB_READABLE | BMB_BROKEN)) != 0) receive(d, c);
    if (c->state == BMB_CONN_FREE || (events & BMB_WRITABLE) == 0) return;
    bmb_conn_resume(d, c);
}

bmb_viewer *bmb_conn_viewer(const bmb_device *d, const bmb_conn *c, unsigned n)
{
    if (c->state == BMB_CONN_FREE || c->state == BMB_CONN_DIALLING || c->state == BMB_CONN_DRAINING) return NULL;
    return of(c)->viewer(d, c, n);
}

bool bmb_conn_deliver(bmb_device *d, bmb_conn *c)
{
    const bmb_viewer *v;
    if ((c->watched & BMB_WRITABLE) != 0 || c->tx_size > 0) return false;
    for (unsigned n = 0; (v = bmb_conn_viewer(d, c, n)) != NULL; n++) {
        if (!v->feed->fresh) continue;
        bmb_conn_resume(d, c);
        return true;
    }
    return false;
}

void bmb_conn_idle(bmb_device *d, bmb_conn *c)
{
    bmb_viewer *v = bmb_conn_viewer(d, c, 0);
    if (v == NULL || v->framer->idle == NULL) return;
    /* In the middle of a frame, or blocked: the next frame's end says when. */
    bool quiet = v->frame == NULL && !v->blocked && c->tx_size == 0 && c->body_left == 0;
    if (quiet && v->framer->idle_due(&v->state) <= d->now) {
        c->tx_at = 0;
        c->tx_size = (uint16_t)v->framer->idle(&v->state, d->now, c->tx);
        v->bytes += c->tx_size;
        bmb_viewer_note_idle(d, v);
        of(c)->flush(d, c);
    } else if (quiet) {
        bmb_viewer_note_idle(d, v);
    }
}

void bmb_conn_shed(bmb_device *d, bmb_feed *feed, const bmb_frame *frame)
{
    const bmb_viewer *v;
    for (uint16_t i = 0; i < d->conn_used; i++) {
        bmb_conn *c = &d->conns[i];
        for (unsigned n = 0; (v = bmb_conn_viewer(d, c, n)) != NULL; n++) {
            if (v->frame != frame) continue;
            feed->shed++;
            bmb_viewer_event(d, feed, &c->peer, BMB_LEVEL_WARNING, BMB_EVENT_VIEWER_SHED, 0, 0);
            bmb_conn_close(d, c);
            break;
        }
    }
    bmb_session_shed(d, frame);
    bmb_push_shed(d, frame);
}

bool bmb_conn_older_than(const bmb_device *d, uint64_t since_us, uint64_t limit_us)
{
    return d->now > since_us && d->now - since_us >= limit_us;
}

/* It was waited for to take something, and took nothing. */
static void end_stalled(bmb_device *d, bmb_conn *c)
{
    const bmb_viewer *v = bmb_conn_viewer(d, c, 0);
    if (v != NULL) v->feed->stalled++;
    if (bmb_push_of(d, c) != NULL) {
        bmb_push_closed(d, c, BMB_TIMED_OUT);
    } else {
        bmb_tell(d, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                                  .code = BMB_EVENT_VIEWER_STALLED,
                                  .feed = v != NULL ? v->feed->config->name : NULL,
                                  .peer = &c->peer,
                                  .value = (int64_t)((d->now - c->progress_us) / 1000) });
    }
    bmb_conn_close(d, c);
}

void bmb_conn_sweep(bmb_device *d, bmb_conn *c)
{
    if (c->state == BMB_CONN_FREE || c->state == BMB_CONN_DIALLING) return; /* a push bounds its dialling */
    if (c->state == BMB_CONN_DRAINING) {
        if (bmb_conn_older_than(d, c->since_us, BMB_DRAIN_US)) bmb_conn_close(d, c);
    } else if ((c->watched & BMB_WRITABLE) == 0) {
        of(c)->sweep(d, c);
    } else if (bmb_conn_older_than(d, c->progress_us, (uint64_t)d->config->stall_ms * 1000)) {
        end_stalled(d, c);
    }
}

bmb_err bmb_feed_remove(bmb_device *d, size_t index)
{
    if (index >= d->config->feed_count || d->feeds[index].removed) return BMB_NOT_FOUND;
    bmb_feed *feed = &d->feeds[index];
    d->now = d->port->now_us(d->port->ctx);
    feed->removed = true;
    bmb_session_feed_removed(d, feed);
    for (uint16_t i = 0; i < d->conn_used; i++) { /* sessions, and with them interleaved viewers, are gone already */
        bmb_conn *c = &d->conns[i];
        const bmb_viewer *v = bmb_conn_viewer(d, c, 0);
        if (v != NULL && v->feed == feed && bmb_push_of(d, c) == NULL) of(c)->feed_removed(d, c);
    }
    for (size_t i = 0; i < d->config->push_count; i++)
        if (d->pushes[i].feed == feed) bmb_push_end(d, &d->pushes[i]);
    if (feed->camera_state == BMB_CAMERA_STARTING || feed->camera_state == BMB_CAMERA_RUNNING)
        d->port->cameras.stop(d->port->cameras.ctx, feed->camera);
    bmb_controls_keep(d, feed);
    feed->camera_state = BMB_CAMERA_OFF;
    feed->still.taking = false;
    feed->gap_us = 0;
    bmb_reel_clear(&feed->reel);
    bmb_viewer_event(d, feed, NULL, BMB_LEVEL_INFO, BMB_EVENT_FEED_REMOVED, 0, 0);
    return BMB_OK;
}
