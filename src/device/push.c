/* Feeds that are sent to an address by themselves: by datagrams, or over a connection that is made again whenever the
 * listener went away. */
#include <string.h>

#include "device/state.h"
#include "serve/formats.h"

#define TS_DATAGRAM 1316u /* seven packets */

static void tell(bmb_device *d, const bmb_push *p, bmb_level level, bmb_event_code code, bmb_err err, int64_t value,
                 int64_t extra)
{
    bmb_tell(d, &(bmb_event){ .level = level,
                              .code = code,
                              .err = err,
                              .feed = p->feed->config->name,
                              .peer = &p->config->to,
                              .value = value,
                              .extra = extra });
}

bmb_push *bmb_push_of(const bmb_device *d, const bmb_conn *c)
{
    size_t outlets = d->config->outlet_count;
    return c->kind == BMB_OUTLET_TCP && c->outlet >= outlets ? &d->pushes[c->outlet - outlets] : NULL;
}

bmb_plain bmb_conn_plain(const bmb_device *d, const bmb_conn *c)
{
    const bmb_push *push = bmb_push_of(d, c);
    if (push != NULL) {
        const bmb_push_config *p = push->config;
        return (bmb_plain){ p->format, p->feed, p->keep_all, p->controls };
    }
    const bmb_outlet_config *o = d->outlets[c->outlet].config;
    return (bmb_plain){ o->format, o->feed, o->keep_all, o->controls };
}

static uint32_t retry_later(bmb_device *d, bmb_push *p, bmb_err err)
{
    uint32_t pause = p->retry_ms == 0 ? BMB_PUSH_RETRY_FIRST_MS : p->retry_ms * 2;
    p->retry_ms = pause > BMB_PUSH_RETRY_MOST_MS ? BMB_PUSH_RETRY_MOST_MS : pause;
    p->retry_us = d->now + (uint64_t)p->retry_ms * 1000;
    p->state = BMB_PUSH_WAITING;
    p->err = err;
    return p->retry_ms;
}

static void started(bmb_device *d, bmb_push *p)
{
    p->state = BMB_PUSH_SENDING;
    p->err = BMB_OK;
    p->since_us = d->now;
    p->starts++;
    tell(d, p, BMB_LEVEL_INFO, BMB_EVENT_PUSH_STARTED, BMB_OK, 0, p->starts);
}

static void failed(bmb_device *d, bmb_push *p, bmb_err err)
{
    uint32_t pause = retry_later(d, p, err);
    tell(d, p, BMB_LEVEL_WARNING, BMB_EVENT_PUSH_FAILED, err, pause, 0);
}

/* Each socket has one peer, whose answers it hears: RTP needs two of them. */
static bmb_err open_sockets(bmb_device *d, bmb_push *p)
{
    const bmb_push_config *c = p->config;
    const bmb_addr any = { .family = c->to.family };
    const bmb_udp_options options = { .ttl = c->ttl, .interface_ipv4 = c->interface_ipv4, .peer = &c->to };
    bmb_addr bound;
    bmb_udp_pair pair;
    if (c->format != BMB_FORMAT_RTP) return d->port->net.udp_open(d->port->ctx, &any, &options, &p->sock, &bound);
    bmb_err err = bmb_rtp_open_pair(d, c->to.family, &options, &pair);
    if (err != BMB_OK) return err;
    p->sock = pair.rtp;
    p->rtcp = pair.rtcp;
    return BMB_OK;
}

static void close_sockets(bmb_device *d, bmb_push *p)
{
    if (p->rtcp != BMB_NO_SOCK) d->port->net.close(d->port->ctx, p->rtcp);
    if (p->sock != BMB_NO_SOCK) d->port->net.close(d->port->ctx, p->sock);
    p->sock = p->rtcp = BMB_NO_SOCK;
}

static void start_udp(bmb_device *d, bmb_push *p)
{
    bmb_viewer *v = &p->viewer;
    bmb_err err = open_sockets(d, p);
    if (err != BMB_OK) {
        p->sock = p->rtcp = BMB_NO_SOCK;
        failed(d, p, err);
        return;
    }
    if (p->config->format == BMB_FORMAT_RTP) {
        bmb_rtp_start_stream(d, p->feed, &v->state);
    } else {
        v->state = (bmb_stream_state){ .payload_max = TS_DATAGRAM };
    }
    bmb_viewer_begin(d, v, p->feed, bmb_stream_framer(p->config->format, p->feed->mode.codec, false), false, false);
    v->tally = (uint8_t)(BMB_OUTLETS_MOST + (size_t)(p - d->pushes));
    v->keep_all = p->config->keep_all;
    p->report_us = 0;
    started(d, p);
}

static void start_tcp(bmb_device *d, bmb_push *p)
{
    bmb_conn *c = &d->conns[p->conn];
    bmb_sock sock;
    bmb_err err = d->port->net.dial(d->port->ctx, &p->config->to, &sock);
    if (err != BMB_OK) {
        failed(d, p, err);
        return;
    }
    p->state = BMB_PUSH_DIALLING;
    p->since_us = d->now;
    c->state = BMB_CONN_DIALLING;
    c->sock = sock;
    c->kind = BMB_OUTLET_TCP;
    c->outlet = (uint8_t)(d->config->outlet_count + (size_t)(p - d->pushes));
    c->watched = 0;
    c->tx_size = 0;
    d->conn_live++;
    if (p->conn >= d->conn_used) d->conn_used = (uint16_t)(p->conn + 1);
    (void)d->port->net.watch(d->port->ctx, sock, BMB_WRITABLE, (uint32_t)(BMB_TOKEN_CONN + p->conn));
    c->watched = BMB_WRITABLE;
}

static void start(bmb_device *d, bmb_push *p)
{
    if (p->config->tcp) {
        start_tcp(d, p);
    } else {
        start_udp(d, p);
    }
}

void bmb_push_start(bmb_device *d, bmb_push *p, size_t index)
{
    uint16_t reserved = d->conn_open;
    p->config = &d->config->pushes[index];
    p->feed = &d->feeds[p->config->feed];
    p->sock = p->rtcp = BMB_NO_SOCK;
    for (size_t i = 0; i < index; i++) reserved = (uint16_t)(reserved + d->config->pushes[i].tcp);
    p->conn = reserved;
    start(d, p);
}

/* Dialling is over, without a connection. */
static void hang_up(bmb_device *d, bmb_push *p, bmb_err err)
{
    bmb_conn_close(d, &d->conns[p->conn]);
    failed(d, p, err);
}

void bmb_push_dialled(bmb_device *d, bmb_conn *c)
{
    bmb_push *p = bmb_push_of(d, c);
    bmb_err err = d->port->net.dialled(d->port->ctx, c->sock);
    if (err == BMB_AGAIN) return;
    if (err != BMB_OK) {
        hang_up(d, p, err);
        return;
    }
    started(d, p);
    d->conn_live--; /* counted when it was dialled */
    bmb_conn_open(d, c, BMB_OUTLET_TCP, c->outlet, c->sock, &p->config->to);
}

void bmb_push_closed(bmb_device *d, const bmb_conn *c, bmb_err why)
{
    bmb_push *p = bmb_push_of(d, c);
    if (p == NULL || p->state != BMB_PUSH_SENDING) return;
    uint64_t silent_us = d->now - c->progress_us;
    if (c->viewer.sent > 0) p->retry_ms = 0; /* it was a real listener: the pauses begin anew */
    uint32_t pause = retry_later(d, p, why);
    if (why == BMB_TIMED_OUT) {
        tell(d, p, BMB_LEVEL_WARNING, BMB_EVENT_PUSH_UNREAD, why, (int64_t)(silent_us / 1000), pause);
    } else {
        tell(d, p, BMB_LEVEL_WARNING, BMB_EVENT_PUSH_LOST, why, pause, (int64_t)c->viewer.sent);
    }
}

/* What the destination of datagrams answers is told once, and again from time to time. */
static void hear(bmb_device *d, bmb_push *p, bmb_err answer)
{
    if (answer != BMB_OK) {
        bool fresh = p->err != answer || bmb_conn_older_than(d, p->told_us, BMB_PUSH_TELL_US);
        p->err = answer;
        p->since_us = d->now;
        if (!fresh) return;
        p->told_us = d->now;
        tell(d, p, BMB_LEVEL_WARNING, BMB_EVENT_PUSH_FAILED, answer, 0, 0);
    } else if (p->err != BMB_OK && bmb_conn_older_than(d, p->since_us, BMB_REPORT_OUT_US)) {
        p->err = BMB_OK;
        if (p->feed->mode.codec == BMB_CODEC_H264) bmb_feed_want_key(d, p->feed); /* whoever came has seen none */
        tell(d, p, BMB_LEVEL_INFO, BMB_EVENT_PUSH_HEARD, BMB_OK, 0, 0);
    }
}

static void deliver(bmb_device *d, bmb_push *p)
{
    bmb_err answer;
    if (p->config->format == BMB_FORMAT_RTP) {
        const bmb_rtp_way way = { .rtp = p->sock, .rtcp = p->rtcp };
        answer = bmb_rtp_pump(d, &p->viewer, &way, &p->report_us);
    } else {
        answer = bmb_viewer_pump_datagrams(d, &p->viewer, p->sock, NULL);
    }
    hear(d, p, answer);
}

static bool sends_datagrams(const bmb_push *p)
{
    return p->state == BMB_PUSH_SENDING && !p->config->tcp;
}

void bmb_push_deliver(bmb_device *d, bool due_only)
{
    for (size_t i = 0; i < d->config->push_count; i++) {
        bmb_push *p = &d->pushes[i];
        if (!sends_datagrams(p)) continue;
        if (p->viewer.pace_us != 0 || (!due_only && p->feed->fresh)) deliver(d, p);
    }
}

void bmb_push_idle(bmb_device *d)
{
    for (size_t i = 0; i < d->config->push_count; i++) {
        bmb_push *p = &d->pushes[i];
        bmb_viewer *v = &p->viewer;
        if (!sends_datagrams(p) || v->framer->idle == NULL || v->frame != NULL) continue;
        if (v->framer->idle_due(&v->state) <= d->now) {
            uint8_t piece[BMB_IDLE_MAX];
            size_t taken;
            const bmb_slice slice = { piece, v->framer->idle(&v->state, d->now, piece) };
            const bmb_packet packet = { &slice, 1, (uint32_t)slice.size };
            v->bytes += slice.size;
            (void)bmb_net_send_packets(d, p->sock, NULL, &packet, 1, &taken);
        }
        bmb_viewer_note_idle(d, v);
    }
}

void bmb_push_shed(bmb_device *d, const bmb_frame *frame)
{
    for (size_t i = 0; i < d->config->push_count; i++)
        if (d->pushes[i].viewer.frame == frame) bmb_viewer_abandon(&d->pushes[i].viewer);
}

uint64_t bmb_push_sweep(bmb_device *d)
{
    uint64_t next = UINT64_MAX;
    for (size_t i = 0; i < d->config->push_count; i++) {
        bmb_push *p = &d->pushes[i];
        if (p->state == BMB_PUSH_DIALLING && bmb_conn_older_than(d, p->since_us, BMB_DIAL_MOST_US))
            hang_up(d, p, BMB_TIMED_OUT);
        if (p->state == BMB_PUSH_WAITING && d->now >= p->retry_us) start(d, p);
        if (p->state == BMB_PUSH_WAITING && p->retry_us < next) next = p->retry_us;
    }
    return next;
}

void bmb_push_end(bmb_device *d, bmb_push *p)
{
    if (p->config == NULL) return; /* opening failed before it was started */
    uint8_t was = p->state;
    p->state = BMB_PUSH_OFF;
    p->err = BMB_GONE;
    if (p->config->tcp && (was == BMB_PUSH_SENDING || was == BMB_PUSH_DIALLING)) bmb_conn_close(d, &d->conns[p->conn]);
    if (p->config->tcp || p->sock == BMB_NO_SOCK) return;
    bmb_viewer_end(d, &p->viewer);
    close_sockets(d, p);
}

bmb_err bmb_push_describe(const bmb_device *d, size_t index, char *out, size_t room, size_t *size)
{
    if (index >= d->config->push_count) return BMB_NOT_FOUND;
    const bmb_push_config *p = &d->config->pushes[index];
    const bmb_feed *feed = &d->feeds[p->feed];
    if (p->format != BMB_FORMAT_RTP || p->tcp) return BMB_UNSUPPORTED;
    if (feed->mode.codec == BMB_CODEC_H264 && feed->sets.sps_size == 0) return BMB_AGAIN;
    const bmb_addr origin = { .family = p->to.family };
    const bmb_multicast to = { .group = p->to, .ttl = p->ttl };
    const bmb_sdp sdp = bmb_rtp_describe(d, feed, &origin, &to, false);
    bmb_writer w = bmb_writer_of(out, room);
    bmb_sdp_write(&w, &sdp);
    *size = bmb_written(&w);
    return *size > 0 ? BMB_OK : BMB_NO_ROOM;
}
