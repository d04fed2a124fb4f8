#include "talk/talk.h"

#include "talk/http.h"
#include "talk/http_events.h"
#include "talk/passes.h"
#include "talk/places.h"
#include "talk/plain.h"
#include "talk/rtsp.h"
#include "talk/session.h"
#include "talk/session_rtcp.h"
#include "talk/tunnel.h"

#include <stddef.h>

#include "flow/verdict.h"

static const bmb_conversation *const kinds[BMB_CONN_KINDS] = {
    [BMB_CONN_HTTP] = BMB_WITH_HTTP ? &bmb_http_conversation : NULL,
    [BMB_CONN_RTSP] = BMB_WITH_RTSP ? &bmb_rtsp_conversation : NULL,
    [BMB_CONN_TCP] = BMB_WITH_PLAIN || BMB_WITH_PUSH ? &bmb_plain_conversation : NULL,
    [BMB_CONN_POST] = BMB_WITH_TUNNEL ? &bmb_post_conversation : NULL,
};

size_t bmb_talk_conn_size(void)
{
    return sizeof(bmb_conn);
}

size_t bmb_talk_session_size(void)
{
    return sizeof(bmb_session);
}

uint16_t bmb_talk_conns_of(const bmb_config *config)
{
    size_t pushes = 0;
    for (size_t i = 0; i < config->push_count; i++) pushes += config->pushes[i].tcp;
    if (BMB_WITH_COMING && config->reserve.changes) pushes += config->reserve.pushes; /* each may be one */
    return (uint16_t)(config->viewers + config->spare + pushes);
}

uint16_t bmb_talk_sessions_of(const bmb_config *config)
{
    for (size_t i = 0; BMB_WITH_RTSP && i < config->outlet_count; i++)
        if (config->outlets[i].kind == BMB_OUTLET_RTSP)
            return (uint16_t)(config->viewers + (BMB_WITH_ACCESS && config->access != NULL)); /* an administrator's */
    return 0;
}

/* The viewers of connections. */
static bmb_talk *talk_of(bmb_owner *owner)
{
    return (bmb_talk *)owner->room;
}

static bmb_conn *conn_of(bmb_watcher *w)
{
    return (bmb_conn *)(void *)((uint8_t *)w - offsetof(bmb_conn, viewer));
}

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    bmb_conn_deliver(talk_of(owner), conn_of(w));
}

static void put_out(bmb_owner *owner, bmb_watcher *w)
{
    bmb_conn_put_out(talk_of(owner), conn_of(w), bmb_viewer_of(w)->track->feed);
}

static void feed_gone(bmb_owner *owner, bmb_watcher *w)
{
    bmb_talk *t = talk_of(owner);
    bmb_conn *c = conn_of(w);
    t->kinds[c->kind]->feed_gone(t, c);
}

static void describe(bmb_owner *owner, bmb_watcher *w, bmb_viewer_stats *out)
{
    const bmb_talk *t = talk_of(owner);
    const bmb_conn *c = conn_of(w);
    bmb_viewer_figures(t->x, &c->viewer, out);
    out->transport = c->kind == BMB_CONN_TCP ? BMB_VIA_TCP : BMB_VIA_HTTP;
    out->peer = c->peer;
    if (BMB_WITH_VERDICTS) bmb_viewer_judge(t->x, &c->viewer, c->sock, out);
}

void bmb_talk_prepare(bmb_talk *t, const bmb_config *config, void *timers)
{
    t->kinds = kinds;
    t->viewing = (bmb_owner){ t, frame_there, put_out, feed_gone, describe, bmb_viewer_holds };
    if (BMB_WITH_RTSP) {
        t->describing = bmb_rtsp_describing;
        t->playing = t->member = bmb_session_owner;
        t->member.frame_there = NULL; /* the group sends for all of them */
        t->describing.room = t->playing.room = t->member.room = t;
    }
    if (BMB_WITH_SIZED_STILLS) t->stills.take = bmb_http_take_still;
    t->conn_most = bmb_talk_conns_of(config);
    t->conn_open = (uint16_t)(config->viewers + config->spare);
    t->session_most = bmb_talk_sessions_of(config);
    bmb_timers_init(&t->timers, timers, (uint16_t)(t->conn_most + t->session_most));
    for (size_t i = 0; i < config->outlet_count; i++) t->outlets[i].sock = BMB_NO_SOCK;
}

/* A free place has no socket. */
static bool is_free(const bmb_outlet *o)
{
    return BMB_WITH_COMING && o->sock == BMB_NO_SOCK;
}

static void forward(bmb_talk *t)
{
#if BMB_WITH_ACCESS
    for (size_t i = 0; i < t->x->config->outlet_count; i++)
        if (!is_free(&t->outlets[i]) && t->outlets[i].config->elsewhere > 0)
            t->outlets[i].by.elsewhere = t->outlets[t->outlets[i].config->elsewhere - 1].bound.port;
#else
    (void)t;
#endif
}

BMB_FOR_CHANGES bmb_err bmb_talk_listen(bmb_talk *t, size_t index, bmb_fault *fault)
{
    const bmb_port *port = t->x->port;
    const bmb_outlet_config *config = &t->x->config->outlets[index];
    bmb_outlet *o = &t->outlets[index];
    o->config = config;
    o->by = (bmb_opening)
    {
        .kind = config->kind, .format = config->format, .feed = config->feed, .keep_all = config->keep_all,
#if BMB_WITH_ACCESS
        .outlet = config,
#endif
#if BMB_WITH_TLS
        .secure = config->secure,
#endif
        .controls = config->controls
    };
    bmb_err err = port->net.listen(port->ctx, &config->listen, &o->sock, &o->bound);
    if (err != BMB_OK) o->sock = BMB_NO_SOCK;
#if BMB_WITH_TLS
    if (err == BMB_OK && config->secure) err = port->encryption.listen(port->ctx, o->sock);
#endif
    if (err == BMB_OK) err = port->net.watch(port->ctx, o->sock, BMB_READABLE, (uint32_t)index);
    if (err == BMB_OK) {
        forward(t);
        return BMB_OK;
    }
    if (fault != NULL) *fault = (bmb_fault){ .part = "outlet", .key = "listen", .err = err, .addr = config->listen };
    return err;
}

#if BMB_WITH_COMING
void bmb_talk_deafen(bmb_talk *t, size_t index)
{
    bmb_outlet *o = &t->outlets[index];
    if (is_free(o)) return;
    for (uint16_t i = 0; i < t->conn_most; i++)
        if (t->conns[i].state != BMB_CONN_FREE && t->conns[i].by == &o->by) bmb_conn_close(t, &t->conns[i]);
    if (BMB_WITH_RTSP) bmb_session_outlet_gone(t, &o->by);
    bmb_sock_close(t->x, o->sock);
    o->sock = BMB_NO_SOCK;
    o->bound = (bmb_addr){ .family = 0 };
    o->paused_us = 0;
}
#endif

bmb_err bmb_talk_open(bmb_talk *t, bmb_fault *fault)
{
    bmb_guard_open(&t->guard, t->x);
#if BMB_WITH_ACCESS
    if (t->guard.access != NULL) bmb_guard_load(&t->guard, t->x);
#endif
    bmb_err err = BMB_OK;
    size_t count = t->x->config->outlet_count;
    if (BMB_WITH_COMING && t->x->config->reserve.changes) count -= t->x->config->reserve.outlets;
    for (size_t i = 0; err == BMB_OK && i < count; i++) err = bmb_talk_listen(t, i, fault);
    return err;
}

void bmb_talk_close(bmb_talk *t)
{
    for (uint16_t i = 0; i < t->conn_most; i++) bmb_conn_close(t, &t->conns[i]);
    if (BMB_WITH_RTSP) bmb_session_close_all(t);
#if BMB_WITH_ACCESS
    bmb_guard_close(&t->guard, t->x);
#endif
}

void bmb_talk_close_sockets(bmb_talk *t)
{
    if (BMB_WITH_RTSP) bmb_session_close_sockets(t);
    for (size_t i = 0; i < t->x->config->outlet_count; i++)
        if (t->outlets[i].sock != BMB_NO_SOCK) bmb_sock_close(t->x, t->outlets[i].sock);
}

void bmb_talk_ready(bmb_talk *t, uint32_t token, uint32_t events)
{
    size_t outlets = t->x->config->outlet_count;
    if (token < BMB_TOKEN_UDP) {
        if (token < outlets && !is_free(&t->outlets[token])) bmb_places_accept(t, &t->outlets[token]);
    } else if (token < BMB_TOKEN_CONN) {
        if (!BMB_WITH_RTSP) return;
        const bmb_udp_pair *pair = &t->udp[(token - BMB_TOKEN_UDP) / 2 % 2];
        if (pair->port != 0) bmb_session_datagrams(t, token % 2 == 0 ? pair->rtp : pair->rtcp);
    } else if (token - BMB_TOKEN_CONN < t->conn_most) {
        bmb_conn_ready(t, &t->conns[token - BMB_TOKEN_CONN], events);
    }
}

static uint64_t end_pauses(bmb_talk *t)
{
    const bmb_port *port = t->x->port;
    uint64_t next = UINT64_MAX;
    for (size_t i = 0; i < t->x->config->outlet_count; i++) {
        bmb_outlet *o = &t->outlets[i];
        if (o->paused_us != 0 && t->x->now >= o->paused_us) {
            o->paused_us = 0;
            (void)port->net.watch(port->ctx, o->sock, BMB_READABLE, (uint32_t)i);
        }
        if (o->paused_us != 0 && o->paused_us < next) next = o->paused_us;
    }
    return next;
}

uint64_t bmb_talk_tend(bmb_talk *t)
{
    uint16_t number;
    if (BMB_WITH_EVENTS) bmb_http_spread_events(t);
    for (uint16_t n = t->timers.count; n > 0 && bmb_timers_take(&t->timers, t->x->now, &number); n--) {
        if (number < t->conn_most) {
            bmb_conn_due(t, &t->conns[number]);
        } else if (BMB_WITH_RTSP) {
            bmb_session_due(t, &t->sessions[number - t->conn_most]);
        }
    }
    uint64_t due = bmb_timers_next(&t->timers, t->x->now), pauses = end_pauses(t);
#if BMB_WITH_ACCESS
    uint64_t links = bmb_guard_tend(&t->guard, t->x), passes = bmb_passes_tend(t);
    if (links < due) due = links;
    if (passes < due) due = passes;
#endif
    return due < pauses ? due : pauses;
}

#if BMB_WITH_CHANGES
void bmb_talk_feed_changed(bmb_talk *t, const bmb_feed *feed)
{
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_most; c++) {
        bool framed = c->state != BMB_CONN_FREE && c->kind == BMB_CONN_TCP && c->framed;
        if (!framed || c->announced <= feed->number) continue;
        c->announced = feed->number;
        bmb_conn_resume(t, c);
    }
}
#endif

void bmb_talk_feed_gone(bmb_talk *t, bmb_feed *feed)
{
    if (BMB_WITH_SIZED_STILLS) bmb_still_cancel(t->x, feed, &t->stills);
    if (BMB_WITH_RTSP) bmb_session_feed_gone(t, feed, false);
}
