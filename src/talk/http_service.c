#include "talk/http_service.h"

#include "talk/http_answer.h"

#if BMB_WITH_SERVICE

/* Who waits for it before he sends a body (RFC 9110 10.1.1) is told to go on. */
static void tell_to_continue(bmb_talk *t, const bmb_conn *c)
{
    static const char go_on[] = "HTTP/1.1 100 Continue\r\n\r\n";
    const bmb_slice slice = { go_on, sizeof go_on - 1 };
    size_t sent;
    if (bmb_http_parse_value(&c->http, BMB_FIELD_EXPECT).size == 0 || c->old || c->rx_size > 1) return;
    (void)t->x->port->net.send(t->x->port->ctx, c->sock, &slice, 1, &sent);
}

/* There is one place for bodies. Whoever has it and sends slowly gives it up for the next one: it may be kept for a
 * moment, and longer by what has come. */
static void make_room(bmb_talk *t)
{
    bmb_conn *owner = bmb_conn_at(t, t->body->taken);
    if (owner == NULL || !owner->granted) return;
    uint64_t allowed = BMB_BODY_US + (uint64_t)owner->http.body_size * 1000000 / BMB_BODY_RATE;
    if (bmb_older_than(t->x, t->body->since_us, allowed)) bmb_conn_close(t, owner);
}

bool bmb_http_take_body(bmb_talk *t, bmb_conn *c, const bmb_route *route)
{
    const bmb_service *service = t->x->config->service;
    if (service != NULL && route->kind == BMB_ROUTE_SERVICE && service->body_most > 0 && t->body->taken != 0)
        make_room(t);
    uint16_t refused = route->kind != BMB_ROUTE_SERVICE
                           ? (route->status == 405 || route->status == 404 ? route->status : 413)
                       : service->body_most == 0 ? 413
                       : t->body->taken != 0     ? 503
                                                 : 0;
    if (refused == 0) {
        t->body->taken = bmb_conn_number(t, c);
        t->body->since_us = t->x->now;
        c->granted = true;
        bmb_http_parse_body(&c->http, t->body->bytes, service->body_most);
        refused = c->http.error;
    }
    if (refused == 0) {
        tell_to_continue(t, c);
        return true;
    }
    c->keep_alive = false; /* what follows is not read */
    bmb_http_refuse(t, c, refused);
    return false;
}

void bmb_http_answer_service(bmb_talk *t, bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    const bmb_service *service = config->service;
    const bmb_who who = { .account = c->pass.account, .local = !c->quiet && bmb_is_loopback(&c->peer) };
    uint64_t adjusts = 0;
    for (size_t i = 0; i < t->feeds->count; i++)
        adjusts |= (uint64_t)bmb_guard_may(&t->guard, t->x, &who, BMB_ROLE_ADJUST, i) << i;
    const bmb_access *access = t->guard.access;
    const bmb_text type = bmb_http_parse_value(&c->http, BMB_FIELD_TYPE),
                   match = bmb_http_parse_value(&c->http, BMB_FIELD_IF_MATCH),
                   none = bmb_http_parse_value(&c->http, BMB_FIELD_IF_NONE_MATCH);
    bmb_addr local = { .family = 0 };
    (void)t->x->port->net.local(t->x->port->ctx, c->sock, &local);
    const bmb_request request = {
        .method = bmb_http_method_of(c->http.method),
        .path = c->http.path.text,
        .path_size = c->http.path.size,
        .type = type.at,
        .type_size = type.size,
        .if_match = match.at,
        .if_match_size = match.size,
        .if_none_match = none.at,
        .if_none_match_size = none.size,
        .body = c->http.body,
        .body_size = c->http.body_size,
        .role = access != NULL ? bmb_guard_role(&t->guard, &who) : BMB_ROLE_ADMINISTER,
        .adjusts = adjusts,
        .who = who.account != 0 && who.account != BMB_BY_LINK ? access->accounts[who.account - 1].name : NULL,
        .peer = c->peer,
        .port = local.port,
        .secure = bmb_conn_secure(c),
    };
    bmb_answer a = { .status = 200, .type = "text/plain; charset=utf-8" };
    service->ask(service->ctx, &request, &a);
    c->served = service->done != NULL;
    c->token = a.token;
    bmb_writer w = bmb_http_answer(t, c);
    bmb_http_terms terms = bmb_http_terms_of(t, c);
    terms.extra = a.lines;
    terms.etag = a.etag;
    bmb_http_head(&w, a.status, a.type, a.size, &terms);
    if (!c->head_only && a.status != 204 && a.status != 304) c->body = (bmb_slice){ a.body, a.size };
    bmb_http_send(t, c, &w, BMB_CONN_ANSWERING);
}

void bmb_http_service_done(bmb_talk *t, bmb_conn *c)
{
    const bmb_service *service = t->x->config->service;
    if (c->granted) t->body->taken = 0;
    c->granted = false;
    if (!c->served) return;
    c->served = false;
    service->done(service->ctx, c->token);
}

#else

bool bmb_http_take_body(bmb_talk *t, bmb_conn *c, const bmb_route *route)
{
    (void)t, (void)c, (void)route;
    return false;
}

void bmb_http_answer_service(bmb_talk *t, bmb_conn *c)
{
    (void)t, (void)c;
}

void bmb_http_service_done(bmb_talk *t, bmb_conn *c)
{
    (void)t, (void)c;
}

#endif
