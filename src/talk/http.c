#include "talk/http.h"

#include <stddef.h>
#include <string.h>

#include "talk/http_access.h"
#include "talk/http_answer.h"
#include "talk/http_events.h"
#include "talk/http_service.h"
#include "talk/http_status.h"
#include "talk/tunnel.h"

static void open_conversation(bmb_talk *t, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    c->since_us = t->x->now;
    c->head_only = false;
    if (BMB_WITH_SERVICE) bmb_http_service_done(t, c);
    bmb_http_parse_reset(&c->http);
#if BMB_WITH_SERVICE
    c->http.serves = t->x->config->service != NULL;
#endif
    bmb_conn_await(t, c, false);
}

static void flush(bmb_talk *t, bmb_conn *c);

static void viewer_left(bmb_talk *t, bmb_conn *c)
{
    if (c->state == BMB_CONN_WATCHING) bmb_viewer_leave(t->x, &c->viewer, &c->peer);
}

static void closed(bmb_talk *t, bmb_conn *c)
{
    if (BMB_WITH_SIZED_STILLS) bmb_still_done(t->x, t->feeds, c);
    if (BMB_WITH_SERVICE) bmb_http_service_done(t, c);
    viewer_left(t, c);
}

/* false: it is answered already. */
static bool admit(bmb_talk *t, bmb_conn *c, const bmb_route *route)
{
#if BMB_WITH_ACCESS
    bmb_http_reply r = bmb_http_admit(t, c, route);
    if (r.status == 0 && route->kind >= BMB_ROUTE_WHO) r = bmb_http_access(t, c, route);
    if (r.status == 0 && route->kind == BMB_ROUTE_ERROR && route->status == 405 && route->value == 1)
        r = (bmb_http_reply){ .status = 405, .extra = "Allow: POST\r\n" };
    if (r.status != 0) bmb_http_answer_reply(t, c, &r);
    return r.status == 0;
#else
    (void)t, (void)c, (void)route;
    return true;
#endif
}

/* Has the client what it asks for already? (RFC 9110 13.1.2) */
static bool has_it(const bmb_conn *c, const bmb_asset *asset)
{
#if BMB_WITH_ACCESS
    const bmb_text had = bmb_http_parse_value(&c->http, BMB_FIELD_IF_NONE_MATCH);
    size_t size = asset->etag != NULL ? strlen(asset->etag) : 0;
    for (size_t i = 0; size > 0 && i + size <= had.size; i++)
        if (memcmp(had.at + i, asset->etag, size) == 0) return true;
#else
    (void)c, (void)asset;
#endif
    return false;
}

static void answer_asset(bmb_talk *t, bmb_conn *c, const bmb_asset *asset, bool head_only)
{
    bool same = has_it(c, asset);
    bmb_writer w = bmb_http_answer(t, c);
    bmb_http_terms terms = bmb_http_terms_of(t, c);
#if BMB_WITH_PAGE
    terms.asset = asset;
#endif
    bmb_http_head(&w, same ? 304 : 200, asset->type, asset->size, &terms);
    if (!same && !head_only) c->body = (bmb_slice){ asset->data, asset->size };
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}

static void answer_feed(bmb_talk *t, bmb_conn *c, const bmb_route *route, bool head_only)
{
    bmb_feed *feed = &t->feeds->feed[route->feed];
    const bmb_format *format = route->format;
    if (feed->removed) {
        bmb_http_refuse(t, c, 404);
        return;
    }
    bool streaming = !format->info.picture;
    if (streaming && !head_only && !bmb_talk_has_place(t, feed, &c->peer, bmb_conn_account(c))) {
        bmb_http_refuse(t, c, 503);
        return;
    }
    if (streaming && !head_only && !bmb_talk_fits_uplink(t, feed, &c->peer)) {
        bmb_http_refuse_why(t, c, 503, "The uplink has no room for one more viewer.\n");
        return;
    }
    bmb_writer w = bmb_http_answer(t, c);
    bmb_http_terms terms = bmb_http_terms_of(t, c);
    if (streaming) {
        c->keep_alive = terms.keep_alive = false;
        terms.old = true; /* no chunks */
        bmb_http_head(&w, 200, format->info.media_type, SIZE_MAX, &terms);
        if (!head_only) bmb_put_str(&w, format->preamble);
    }
    if (streaming && head_only) {
        bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
        return;
    }
    c->viewer.state = (bmb_stream_state){ .keep_alive = c->keep_alive, .old = c->old, .head_only = head_only };
#if BMB_WITH_ACCESS
    if (!streaming) c->viewer.state.embeds = terms.config->embed;
    if (!streaming) c->viewer.state.origin = terms.origin;
#endif
    const bmb_viewing how = { .owner = &t->viewing,
                              .tally = &c->by->past,
                              .framer = format->framer[feed->camera.mode.codec],
                              .once = format->info.picture,
                              .counted = streaming,
                              .lends = streaming };
    bmb_viewer_begin(t->x, &c->viewer, bmb_feed_video(feed), &how);
    if (streaming) {
        bmb_bound_unsent(t->x, c->sock, bmb_track_kbps(t->x, bmb_feed_video(feed)));
        bmb_viewer_came(t->x, &c->viewer, &c->peer);
    }
    bmb_http_send(t, c, &w, BMB_CONN_WATCHING);
}

/* The multicast group's description, for players that get it by HTTP instead of RTSP. */
static void answer_sdp(bmb_talk *t, bmb_conn *c, bmb_feed *feed, bool head_only)
{
    bmb_addr origin = { .family = 4 };
    if (feed->removed || !bmb_feed_described(feed)) {
        bmb_http_refuse(t, c, feed->removed ? 404 : 503);
        return;
    }
    (void)t->x->port->net.local(t->x->port->ctx, c->sock, &origin);
    const bmb_sdp sdp = bmb_rtp_describe(t->x, feed, &origin, &feed->config->multicast, false);
    bmb_writer body = bmb_writer_of(t->x->scratch, BMB_SDP_ROOM);
    bmb_sdp_write(&body, &sdp);
    bmb_writer w = bmb_http_answer_ok(t, c, "application/sdp", bmb_written(&body));
    if (!head_only) bmb_put_bytes(&w, t->x->scratch, bmb_written(&body));
    /* Whoever fetches it wants to see something, and has no session to ask with. Browsers show no group: any page of
     * somebody else's could make them fetch it, and fill the network. */
    if (!head_only && !bmb_conn_quiet(c))
        t->groups->lease(t->groups, feed, t->x->now + (uint64_t)t->x->config->session_ms * 1000);
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}

static void answer_own_still(bmb_talk *t, bmb_conn *c, const bmb_route *route, bool head_only)
{
    bmb_feed *feed = &t->feeds->feed[route->feed];
    const bmb_mode *mode = &feed->camera.mode;
    uint16_t width = route->width != 0 ? route->width : mode->width, height = width == mode->width ? mode->height : 0;
    if (route->height != 0) height = route->height;
    if (mode->codec == BMB_CODEC_JPEG && width == mode->width && height == mode->height) {
        const bmb_route plain = { .feed = route->feed, .format = bmb_format_still() };
        answer_feed(t, c, &plain, head_only);
        return;
    }
    bmb_err err =
        feed->removed || head_only ? BMB_UNSUPPORTED : bmb_still_begin(t->x, t->feeds, feed, c, width, height);
    if (err != BMB_OK) {
        bmb_http_refuse(t, c, err == BMB_UNSUPPORTED ? 404 : 409);
        return;
    }
    c->state = BMB_CONN_WAITING;
    c->since_us = t->x->now;
}

void bmb_http_take_still(bmb_still_taker *taker, void *asker, const uint8_t *data, size_t size)
{
    bmb_talk *t = (bmb_talk *)(void *)((uint8_t *)taker - offsetof(bmb_talk, stills));
    bmb_conn *c = (bmb_conn *)asker;
    if (size == 0) {
        bmb_http_refuse(t, c, 503);
        return;
    }
    c->keep_alive = false; /* so that its end gives the picture back */
    bmb_writer w = bmb_http_answer_ok(t, c, "image/jpeg", size);
    c->body = (bmb_slice){ data, size };
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}

/* What is asked for. false: it is answered already. */
static bool begin_act(bmb_talk *t, bmb_conn *c, bmb_route *route)
{
    *route = bmb_http_route(t->x->config, &c->http);
    if (bmb_http_wrong_door(c) && route->kind != BMB_ROUTE_TUNNEL && route->kind != BMB_ROUTE_ERROR)
        *route = (bmb_route){ .kind = BMB_ROUTE_ERROR, .status = 404 };
    t->requests++;
    c->old = c->http.old;
    c->keep_alive = c->http.error == 0 && c->http.keep_alive;
    return admit(t, c, route);
}

/* Who may not ask need not send what it is about. */
static bool take_body(bmb_talk *t, bmb_conn *c)
{
    bmb_route route;
    bool keep_alive = c->http.keep_alive;
    c->http.keep_alive = false; /* where it is refused, what follows is not read */
    if (!begin_act(t, c, &route) || !bmb_http_take_body(t, c, &route)) return false;
    c->keep_alive = keep_alive;
    return true;
}

static void act(bmb_talk *t, bmb_conn *c)
{
    bmb_route route;
    bool head_only = c->head_only = c->http.complete && c->http.method == BMB_HTTP_HEAD;
    if (bmb_http_granted(c) && c->http.error == 0) { /* it was admitted before its body came */
        bmb_http_answer_service(t, c);
        return;
    }
    if (!begin_act(t, c, &route)) return;
    switch (route.kind) {
    case BMB_ROUTE_SERVICE:
        if (BMB_WITH_SERVICE) bmb_http_answer_service(t, c);
        break;
    case BMB_ROUTE_ASSET:
        if (BMB_WITH_PAGE) answer_asset(t, c, route.asset, head_only);
        break;
    case BMB_ROUTE_STATUS:
        if (BMB_WITH_STATUS) bmb_http_answer_pieces(t, c, BMB_MORE_STATUS, head_only);
        break;
    case BMB_ROUTE_EVENTS:
        if (BMB_WITH_EVENTS) bmb_http_ask_figures(c, route.value == 1);
        if (BMB_WITH_EVENTS) bmb_http_answer_pieces(t, c, BMB_MORE_EVENTS, head_only);
        break;
    case BMB_ROUTE_FEED:
        answer_feed(t, c, &route, head_only);
        break;
    case BMB_ROUTE_STILL:
        if (BMB_WITH_SIZED_STILLS) answer_own_still(t, c, &route, head_only);
        break;
    case BMB_ROUTE_SDP:
        if (BMB_WITH_MULTICAST) answer_sdp(t, c, &t->feeds->feed[route.feed], head_only);
        break;
    case BMB_ROUTE_TUNNEL:
        if (BMB_WITH_TUNNEL && !bmb_tunnel_begin(t, c, (bmb_http_method)c->http.method, c->http.cookie))
            bmb_http_refuse(t, c, 404);
        break;
    default:
        bmb_http_refuse(t, c, route.status);
        break;
    }
}

/* true: a request was complete (or refused) and has been acted on */
static bool parse(bmb_talk *t, bmb_conn *c)
{
    bool had_begun = c->http.begun;
#if BMB_WITH_ACCESS
    bmb_http_parse_keep(&c->http, c->tx, t->tx_room); /* nothing is sent while a request comes in */
#endif
    size_t used = bmb_http_parse_feed(&c->http, c->rx, c->rx_size);
    memmove(c->rx, c->rx + used, c->rx_size - used);
    c->rx_size = (uint16_t)(c->rx_size - used);
    if (c->http.begun && !had_begun) c->since_us = t->x->now;
    if (bmb_http_asks_for_room(c)) return take_body(t, c);
    if (!c->http.complete && c->http.error == 0) return false;
    act(t, c);
    return true;
}

static void receive(bmb_talk *t, bmb_conn *c)
{
    /* A request may turn it into something else. */
    while (c->kind == BMB_CONN_HTTP && c->state == BMB_CONN_READING && c->rx_size > 0 && parse(t, c)) continue;
}

static void flush(bmb_talk *t, bmb_conn *c)
{
    bmb_err err = BMB_AGAIN;
    if (c->state == BMB_CONN_WATCHING) bmb_viewer_unblock(t->x, &c->viewer);
    while (c->state == BMB_CONN_ANSWERING || c->state == BMB_CONN_WATCHING) {
        err = bmb_conn_send_pending(t, c, &c->body);
        if (err != BMB_OK) break;
        if (BMB_WITH_STATUS && c->more == BMB_MORE_STATUS) {
            bmb_http_put_status(t, c);
            continue;
        }
        if (BMB_WITH_EVENTS && c->state == BMB_CONN_ANSWERING && c->more == BMB_MORE_EVENTS) {
            if (bmb_http_put_event(t, c) || bmb_http_put_figures(t, c)) continue;
            err = BMB_AGAIN;
            break;
        }
        if (c->state == BMB_CONN_WATCHING) {
            bmb_link link = bmb_conn_link(t, c);
            err = bmb_viewer_pump(t->x, &c->viewer, &link);
            if (err != BMB_OK) break;
            viewer_left(t, c);
        }
        if (!c->keep_alive) {
            if (BMB_WITH_SIZED_STILLS) bmb_still_done(t->x, t->feeds, c);
            if (BMB_WITH_SERVICE) bmb_http_service_done(t, c);
            bmb_conn_drain(t, c);
            return;
        }
        open_conversation(t, c);
        err = BMB_AGAIN;
    }
    if (err != BMB_AGAIN) {
        bmb_conn_close(t, c);
        return;
    }
    bool blocked = c->tx_at < c->tx_size || c->body.size > 0 ||
                   (c->state == BMB_CONN_WATCHING && bmb_viewer_awaits_room(&c->viewer));
    bmb_conn_await(t, c, blocked);
}

/* How long a connection may be without a request's first byte. Of an encrypted one nothing is told before its handshake
 * is over: it must not take longer than a request. */
static uint32_t quiet_ms(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    return bmb_conn_secure(c) && config->request_ms < config->idle_ms ? config->request_ms : config->idle_ms;
}

static uint64_t due(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    bool waits = c->state == BMB_CONN_WATCHING && c->viewer.once && c->viewer.watcher.frame == NULL;
    if (BMB_WITH_EVENTS && c->state == BMB_CONN_ANSWERING && c->more == BMB_MORE_EVENTS)
        return bmb_http_events_due(t, c);
    if (c->state == BMB_CONN_READING)
        return c->since_us + (uint64_t)(c->http.begun ? config->request_ms : quiet_ms(t, c)) * 1000;
    return waits ? c->viewer.since_us + bmb_feed_patience_us(bmb_viewer_feed(&c->viewer))
                 : UINT64_MAX; /* other stills have a bound of their own */
}

static void sweep_watching(bmb_talk *t, bmb_conn *c)
{
    bmb_viewer *v = &c->viewer;
    if (v->once && v->watcher.frame == NULL &&
        bmb_older_than(t->x, v->since_us, bmb_feed_patience_us(bmb_viewer_feed(&c->viewer)))) {
        bmb_viewer_end(t->x, v);
        bmb_http_refuse(t, c, 503);
    }
}

static void sweep(bmb_talk *t, bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    if (c->state == BMB_CONN_READING && !c->http.begun) {
        if (bmb_older_than_ms(t->x, c->since_us, quiet_ms(t, c))) bmb_conn_close(t, c);
    } else if (c->state == BMB_CONN_READING) {
        if (!bmb_older_than_ms(t->x, c->since_us, config->request_ms)) return;
        c->keep_alive = false;
        bmb_http_refuse(t, c, 408);
    } else if (c->state == BMB_CONN_WATCHING) {
        sweep_watching(t, c);
    } else if (BMB_WITH_EVENTS && c->state == BMB_CONN_ANSWERING && c->more == BMB_MORE_EVENTS && c->tx_size == 0 &&
               t->x->now >= bmb_http_events_due(t, c)) {
        if (!bmb_http_put_figures(t, c)) bmb_http_put_alive(t, c);
        flush(t, c);
    }
}

static bool idle(const bmb_conn *c)
{
    /* Whoever listens to events only holds a place, too: browsers come again by themselves. */
    bool listens = BMB_WITH_EVENTS && c->state == BMB_CONN_ANSWERING && c->more == BMB_MORE_EVENTS;
    return listens || (c->state == BMB_CONN_READING && !c->http.begun);
}

static bmb_feed *watches(const bmb_talk *t, const bmb_conn *c)
{
    (void)t;
    return c->state == BMB_CONN_WATCHING && c->viewer.framer != NULL ? bmb_viewer_feed(&c->viewer) : NULL;
}

static void feed_gone(bmb_talk *t, bmb_conn *c)
{
    bmb_conn_close(t, c); /* the end of the connection is the end of the document */
}

static void turn_away(const bmb_talk *t, const bmb_opening *by, bmb_writer *w)
{
    const bmb_http_terms terms = bmb_conn_terms(t, false, false, false);
    (void)by;
    bmb_http_error(w, 503, &terms, NULL, 0, false);
}

const bmb_conversation bmb_http_conversation = { .open = open_conversation,
                                                 .receive = receive,
                                                 .flush = flush,
                                                 .due = due,
                                                 .sweep = sweep,
                                                 .closed = closed,
                                                 .idle = idle,
                                                 .watches = watches,
                                                 .feed_gone = feed_gone,
                                                 .turn_away = turn_away };
