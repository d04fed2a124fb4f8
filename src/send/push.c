#include "send/push.h"

#include <stddef.h>

#include "flow/verdict.h"
#include "serve/formats.h"

#define TS_DATAGRAM 1316u /* seven packets */

static void tell(bmb_push_set *set, const bmb_push *p, bmb_event_code code, bmb_err err, int64_t value, int64_t extra)
{
    bmb_tell(set->x, &(bmb_event){ .code = code,
                                   .err = err,
                                   .feed = p->feed->config->name,
                                   .peer = &p->config->to,
                                   .value = value,
                                   .extra = extra });
}

static uint32_t retry_later(bmb_push_set *set, bmb_push *p, bmb_err err)
{
    uint32_t pause = p->retry_ms == 0 ? BMB_PUSH_RETRY_FIRST_MS : p->retry_ms * 2;
    p->retry_ms = pause > BMB_PUSH_RETRY_MOST_MS ? BMB_PUSH_RETRY_MOST_MS : pause;
    p->retry_us = set->x->now + (uint64_t)p->retry_ms * 1000;
    p->state = BMB_PUSH_WAITING;
    p->err = err;
    return p->retry_ms;
}

/* The same trouble is told again at growing intervals: it fills no log, and is not forgotten either. */
static bool is_news(const bmb_push_set *set, bmb_push *p, bmb_err err)
{
    bool same = p->told_ms > 0 && p->told_err == (uint8_t)err;
    if (same && !bmb_older_than(set->x, p->told_us, (uint64_t)p->told_ms * 1000)) return false;
    p->told_ms = !same                                    ? BMB_PUSH_TELL_FIRST_MS
                 : p->told_ms < BMB_PUSH_TELL_MOST_MS / 2 ? 2 * p->told_ms
                                                          : BMB_PUSH_TELL_MOST_MS;
    p->told_err = (uint8_t)err;
    p->told_us = set->x->now;
    return true;
}

static void started(bmb_push_set *set, bmb_push *p)
{
    p->state = BMB_PUSH_SENDING;
    p->err = BMB_OK;
    p->since_us = set->x->now;
    p->starts++;
    if (!p->flaps) tell(set, p, BMB_EVENT_PUSH_STARTED, BMB_OK, 0, p->starts);
}

static void failed(bmb_push_set *set, bmb_push *p, bmb_err err)
{
    uint32_t pause = retry_later(set, p, err);
    if (is_news(set, p, err)) tell(set, p, BMB_EVENT_PUSH_FAILED, err, pause, 0);
}

/* Each socket has one peer, whose answers it hears: RTP needs two of them. */
static bmb_err open_sockets(bmb_push_set *set, bmb_push *p)
{
    const bmb_push_config *c = p->config;
    const bmb_addr any = { .family = c->to.family };
    const bmb_udp_options options = { .ttl = c->ttl, .interface_ipv4 = c->interface_ipv4, .peer = &c->to };
    bmb_addr bound;
    bmb_udp_pair pair;
    if (c->format != BMB_FORMAT_RTP)
        return set->x->port->net.udp_open(set->x->port->ctx, &any, &options, &p->sock, &bound);
    bmb_err err = bmb_rtp_open_pair(set->x, c->to.family, &options, &pair);
    if (err != BMB_OK) return err;
    p->sock = pair.rtp;
    p->rtcp = pair.rtcp;
    return BMB_OK;
}

static void close_sockets(bmb_push_set *set, bmb_push *p)
{
    if (p->rtcp != BMB_NO_SOCK) bmb_sock_close(set->x, p->rtcp);
    if (p->sock != BMB_NO_SOCK) bmb_sock_close(set->x, p->sock);
    p->sock = p->rtcp = BMB_NO_SOCK;
}

static void start_udp(bmb_push_set *set, bmb_push *p)
{
    bmb_viewer *v = &p->viewer;
    bmb_err err = open_sockets(set, p);
    if (err != BMB_OK) {
        p->sock = p->rtcp = BMB_NO_SOCK;
        failed(set, p, err);
        return;
    }
    if (p->config->format == BMB_FORMAT_RTP) {
        bmb_rtp_start_stream(set->x, bmb_feed_video(p->feed), &v->state);
    } else {
        v->state = (bmb_stream_state){ .payload_max = TS_DATAGRAM };
    }
    const bmb_viewing how = { .owner = &set->owner,
                              .tally = &p->by.past,
                              .framer = bmb_stream_framer(p->config->format, p->feed->camera.mode.codec, false),
                              .keep_all = p->config->keep_all };
    bmb_viewer_begin(set->x, v, bmb_feed_video(p->feed), &how);
    p->report_us = 0;
    started(set, p);
}

static void start_tcp(bmb_push_set *set, bmb_push *p)
{
    bmb_sock sock;
    bmb_err err = set->x->port->net.dial(set->x->port->ctx, &p->config->to, &sock);
#if BMB_WITH_TLS
    if (err == BMB_OK && p->config->secure) {
        err = set->x->port->encryption.dial(set->x->port->ctx, sock, p->config->pin);
        if (err != BMB_OK) bmb_sock_close(set->x, sock);
    }
#endif
    if (err != BMB_OK) {
        failed(set, p, err);
        return;
    }
    p->state = BMB_PUSH_DIALLING;
    p->since_us = set->x->now;
    bmb_conn_dial(set->talk, &set->talk->conns[p->conn], &p->by, sock);
}

static void start(bmb_push_set *set, bmb_push *p)
{
    if (p->config->tcp) {
        start_tcp(set, p);
    } else {
        start_udp(set, p);
    }
}

/* Dialling is over, without a connection. */
static void hang_up(bmb_push_set *set, bmb_push *p, bmb_err err)
{
    bmb_conn_close(set->talk, &set->talk->conns[p->conn]);
    failed(set, p, err);
}

static bmb_push *push_of(bmb_opening *by)
{
    return (bmb_push *)(void *)by; /* its first member */
}

static void ready(bmb_talk *t, bmb_opening *by, bmb_conn *c)
{
    bmb_push *p = push_of(by);
    bmb_push_set *set = p->set;
    bmb_err err = set->x->port->net.dialled(set->x->port->ctx, c->sock);
    if (err == BMB_AGAIN) return;
    if (err != BMB_OK) {
        hang_up(set, p, err);
        return;
    }
    started(set, p);
    t->conn_live--; /* counted when it was dialled */
    bmb_conn_open(t, c, by, c->sock, &p->config->to);
}

static void closed(bmb_talk *t, bmb_opening *by, bmb_conn *c, bmb_err why)
{
    bmb_push *p = push_of(by);
    bmb_push_set *set = p->set;
    (void)t;
    if (p->state != BMB_PUSH_SENDING) return;
    uint32_t silent_ms = bmb_ms_between(c->progress_us, set->x->now);
    p->flaps = c->viewer.sent == 0;
    if (!p->flaps) p->retry_ms = p->told_ms = 0; /* it was a real listener: the pauses begin anew */
    uint32_t pause = retry_later(set, p, why);
    if (!is_news(set, p, why)) return;
    if (why == BMB_TIMED_OUT) {
        tell(set, p, BMB_EVENT_PUSH_UNREAD, why, silent_ms, pause);
    } else {
        tell(set, p, BMB_EVENT_PUSH_LOST, why, pause, (int64_t)c->viewer.sent);
    }
}

static const bmb_dialler dialler = { .ready = ready, .closed = closed };

/* What the destination of datagrams answers. Answers come now and then, not to each packet: only a while without one
 * means that somebody is there. */
static void hear(bmb_push_set *set, bmb_push *p, bmb_err answer)
{
    if (answer != BMB_OK) {
        p->err = answer;
        p->since_us = set->x->now;
        if (is_news(set, p, answer)) tell(set, p, BMB_EVENT_PUSH_FAILED, answer, 0, 0);
    } else if (p->err != BMB_OK && bmb_older_than(set->x, p->since_us, BMB_PUSH_QUIET_US)) {
        p->err = BMB_OK;
        p->told_ms = 0;
        bmb_feed_welcome(set->x, p->feed); /* whoever came has seen none */
        tell(set, p, BMB_EVENT_PUSH_HEARD, BMB_OK, 0, 0);
    }
}

static void deliver(bmb_push_set *set, bmb_push *p)
{
    bmb_err answer;
    if (p->config->format == BMB_FORMAT_RTP) {
        const bmb_rtp_way way = { .rtp = p->sock, .rtcp = p->rtcp };
        answer = bmb_rtp_pump(set->x, &p->viewer, &way, &p->report_us);
    } else {
        bmb_link link = bmb_datagram_link(set->x, p->sock, NULL);
        (void)bmb_viewer_pump(set->x, &p->viewer, &link);
        answer = link.answer;
    }
    hear(set, p, answer);
}

static bool sends_datagrams(const bmb_push *p)
{
    return p->state == BMB_PUSH_SENDING && p->config != NULL && !p->config->tcp;
}

void bmb_pushes_bursts(bmb_push_set *set)
{
    for (size_t i = 0; i < set->count; i++) {
        bmb_push *p = &set->pushes[i];
        if (sends_datagrams(p) && bmb_viewer_in_bursts(&p->viewer)) deliver(set, p);
    }
}

/* What is due between frames; returns when that next is. */
static uint64_t speak_between(const bmb_push_set *set, bmb_push *p)
{
    uint8_t piece[BMB_IDLE_MAX];
    const bmb_link link = bmb_datagram_link(set->x, p->sock, NULL);
    size_t size = bmb_viewer_idle(set->x, &p->viewer, piece);
    if (size > 0) bmb_datagram_send(&link, piece, size);
    return bmb_viewer_idle_due(&p->viewer);
}

static bmb_push *push_at(bmb_watcher *w)
{
    return (bmb_push *)(void *)((uint8_t *)w - offsetof(bmb_push, viewer));
}

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    bmb_push_set *set = (bmb_push_set *)owner->room;
    bmb_push *p = push_at(w);
#if BMB_WITH_FOLLOWING
    if (p->rtcp != BMB_NO_SOCK) bmb_rtp_hear(set->x, &p->viewer, p->rtcp, &p->config->to);
#endif
    deliver(set, p);
}

static void put_out(bmb_owner *owner, bmb_watcher *w)
{
    (void)owner;
    bmb_viewer_abandon(&push_at(w)->viewer);
}

/* None of them takes a viewer's place: its figures say how its link is. */
static void describe(bmb_owner *owner, bmb_watcher *w, bmb_viewer_stats *out)
{
    const bmb_push_set *set = (bmb_push_set *)owner->room;
    if (!BMB_WITH_FOLLOWING) return;
    bmb_viewer_figures(set->x, bmb_viewer_of(w), out);
    out->peer = push_at(w)->config->to;
    if (BMB_WITH_VERDICTS) bmb_viewer_judge(set->x, bmb_viewer_of(w), BMB_NO_SOCK, out);
}

static void feed_gone(bmb_owner *owner, bmb_watcher *w)
{
    (void)owner;
    (void)w; /* pushes of a feed are ended before it */
}

/* The first reserved connection that no other push has. */
static uint16_t free_conn(const bmb_push_set *set, const bmb_push *p)
{
    uint16_t conn = set->talk->conn_open;
    for (size_t i = 0; i < set->count; i++) {
        const bmb_push *other = &set->pushes[i];
        if (other == p || other->config == NULL || !other->config->tcp || other->conn != conn) continue;
        conn++;
        i = SIZE_MAX; /* from the beginning */
    }
    return conn;
}

void bmb_pushes_start(bmb_push_set *set, const bmb_feeds *feeds, size_t index)
{
    bmb_push *p = &set->pushes[index];
    const bmb_push_config *c = p->config = &set->x->config->pushes[index];
    p->set = set;
    p->feed = &feeds->feed[c->feed];
    p->sock = p->rtcp = BMB_NO_SOCK;
    p->by = (bmb_opening)
    {
        .kind = BMB_OUTLET_TCP, .format = c->format, .feed = c->feed, .keep_all = c->keep_all, .controls = c->controls,
#if BMB_WITH_TLS
        .secure = c->secure,
#endif
        .dialler = &dialler
    };
    if (c->tcp) p->conn = free_conn(set, p);
    start(set, p);
}

void bmb_pushes_open(bmb_push_set *set, bmb_context *x, const bmb_feeds *feeds, bmb_talk *talk, bmb_push *pushes)
{
    *set = (bmb_push_set){ .owner = { set, frame_there, put_out, feed_gone, describe, NULL },
                           .x = x,
                           .talk = talk,
                           .pushes = pushes,
                           .count = x->config->push_count };
    for (size_t i = 0; i < set->count; i++) pushes[i].sock = pushes[i].rtcp = BMB_NO_SOCK;
    size_t more = BMB_WITH_COMING && x->config->reserve.changes ? x->config->reserve.pushes : 0;
    for (size_t i = 0; i + more < set->count; i++) bmb_pushes_start(set, feeds, i);
}

static uint64_t tend(bmb_push_set *set, bmb_push *p)
{
    if (p->config == NULL) return UINT64_MAX;
    if (p->state == BMB_PUSH_DIALLING && bmb_older_than(set->x, p->since_us, BMB_DIAL_MOST_US))
        hang_up(set, p, BMB_TIMED_OUT);
    if (p->state == BMB_PUSH_WAITING && set->x->now >= p->retry_us) start(set, p);
    if (p->state == BMB_PUSH_WAITING) return p->retry_us;
    if (p->state == BMB_PUSH_DIALLING) return p->since_us + BMB_DIAL_MOST_US;
    return sends_datagrams(p) ? speak_between(set, p) : UINT64_MAX;
}

uint64_t bmb_pushes_tend(bmb_push_set *set)
{
    uint64_t next = UINT64_MAX;
    for (size_t i = 0; i < set->count; i++) {
        uint64_t due = tend(set, &set->pushes[i]);
        if (due < next) next = due;
    }
    return next;
}

static void end(bmb_push_set *set, bmb_push *p)
{
    uint8_t was = p->state;
    if (p->config == NULL) return; /* a free place */
    p->state = BMB_PUSH_OFF;
    p->err = BMB_GONE;
    if (p->config->tcp && (was == BMB_PUSH_SENDING || was == BMB_PUSH_DIALLING))
        bmb_conn_close(set->talk, &set->talk->conns[p->conn]);
    if (p->config->tcp || p->sock == BMB_NO_SOCK) return;
    bmb_viewer_end(set->x, &p->viewer);
    close_sockets(set, p);
}

void bmb_pushes_end(bmb_push_set *set, const bmb_feed *feed)
{
    for (size_t i = 0; i < set->count; i++)
        if (feed == NULL || set->pushes[i].feed == feed) end(set, &set->pushes[i]);
}

void bmb_pushes_resume(bmb_push_set *set, const bmb_feed *feed)
{
    for (size_t i = 0; i < set->count; i++) {
        bmb_push *p = &set->pushes[i];
        if (p->config != NULL && p->feed == feed && p->state == BMB_PUSH_OFF) start(set, p);
    }
}

size_t bmb_pushes_dialling(const bmb_push_set *set)
{
    size_t count = 0;
    for (size_t i = 0; i < set->count; i++) count += set->pushes[i].config != NULL && set->pushes[i].config->tcp;
    return count;
}

void bmb_pushes_remove(bmb_push_set *set, size_t index)
{
    end(set, &set->pushes[index]);
    set->pushes[index].config = NULL;
}

const bmb_viewer *bmb_push_viewer(const bmb_push *p)
{
    if (p->config == NULL) return NULL;
    const bmb_viewer *v = p->config->tcp ? &p->set->talk->conns[p->conn].viewer : &p->viewer;
    return p->state == BMB_PUSH_SENDING && v->framer != NULL ? v : NULL;
}

bmb_err bmb_pushes_describe(const bmb_push_set *set, size_t index, char *out, size_t room, size_t *size)
{
    const bmb_push_config *p = set->pushes[index].config;
    const bmb_feed *feed = set->pushes[index].feed;
    if (p->format != BMB_FORMAT_RTP || p->tcp) return BMB_UNSUPPORTED;
    if (!bmb_feed_described(feed)) return BMB_AGAIN;
    const bmb_addr origin = { .family = p->to.family };
    const bmb_multicast to = { .group = p->to, .ttl = p->ttl };
    const bmb_sdp sdp = bmb_rtp_describe(set->x, feed, &origin, &to, false);
    bmb_writer w = bmb_writer_of(out, room);
    bmb_sdp_write(&w, &sdp);
    *size = bmb_written(&w);
    return *size > 0 ? BMB_OK : BMB_NO_ROOM;
}
