#include "talk/http_access.h"

#include <string.h>

#include "base/hmac.h"
#include "talk/http_host.h"
#include "talk/passes.h"

#if BMB_WITH_ACCESS

#define EXTRA_ROOM 800u /* of the scratch memory, for lines of the head; the rest is the body's */

static char *extra_of(bmb_talk *t)
{
    return (char *)t->x->scratch;
}

static bmb_http_reply refusal(uint16_t status)
{
    return (bmb_http_reply){ .status = status };
}

/* Ends a text, and gives it as the reply's lines. */
static void set_extra(bmb_http_reply *r, bmb_writer *w)
{
    bmb_put_u8(w, 0);
    r->extra = w->failed ? NULL : (const char *)w->start;
}

static bmb_http_reply with_body(bmb_http_reply r, const bmb_writer *w)
{
    r.body = (const char *)w->start;
    r.size = bmb_written(w);
    return r;
}

static bmb_writer body_of(bmb_talk *t)
{
    return bmb_writer_of((uint8_t *)t->x->scratch + EXTRA_ROOM, BMB_ACCESS_ROOM - EXTRA_ROOM);
}

static void put_challenge(bmb_writer *w, const bmb_access *access, const char *algorithm, const char *nonce, bool stale)
{
    bmb_put_text(w, "WWW-Authenticate: Digest realm=\"%s\", qop=\"auth\", algorithm=%s, nonce=\"", access->realm,
                 algorithm);
    bmb_put_bytes(w, nonce, BMB_NONCE_SIZE);
    bmb_put_str(w, stale ? "\", stale=true\r\n" : "\"\r\n");
}

/* The page signs in by itself: a browser that is told of Digest would ask, too, in a window of its own. */
static bmb_http_reply challenge(bmb_talk *t, const bmb_conn *c, bool stale, bool page)
{
    const bmb_access *access = t->guard.access;
    bmb_http_reply r = refusal(401);
    char nonce[BMB_NONCE_SIZE];
    bmb_writer w = bmb_writer_of(extra_of(t), EXTRA_ROOM);
    if (page) {
        bmb_put_text(&w, "WWW-Authenticate: Bearer realm=\"%s\"\r\n", access->realm);
    } else {
        bmb_guard_nonce(&t->guard, t->x, 0, nonce);
        /* Clients that know MD5 alone look at the first challenge only, or at the last; those that know both choose by
         * themselves. */
        put_challenge(&w, access, "MD5", nonce, stale);
        put_challenge(&w, access, "SHA-256", nonce, stale);
        put_challenge(&w, access, "MD5", nonce, stale);
        if (bmb_conn_secure(c)) bmb_put_text(&w, "WWW-Authenticate: Basic realm=\"%s\"\r\n", access->realm);
    }
    set_extra(&r, &w);
    return r;
}

static bool from_browser(const bmb_conn *c)
{
    bmb_text agent = bmb_http_parse_value(&c->http, BMB_FIELD_USER_AGENT);
    return agent.size >= 8 && memcmp(agent.at, "Mozilla/", 8) == 0;
}

static const char *method_of(const bmb_conn *c)
{
    static const char *const names[] = { "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE" };
    return c->http.method < BMB_HTTP_OTHER ? names[c->http.method] : "GET";
}

static bmb_text cookie_of(const bmb_conn *c)
{
    bmb_text cookies = bmb_http_parse_value(&c->http, BMB_FIELD_COOKIE);
    return bmb_cookie_of(cookies.at, cookies.size, BMB_COOKIE);
}

/* A digest counts for the address that it was made for. A reverse proxy may have taken a prefix off its beginning
 * ("/cam/yard.jpg" arrives as "/yard.jpg"): what is left of it has to be the whole of what is asked for. */
static bool asks_for_this(const bmb_conn *c, const bmb_claim *claim)
{
    const bmb_path *path = &c->http.path;
    bmb_path said;
    bmb_path_reset(&said);
    bmb_path_feed(&said, claim->uri.at, claim->uri.size);
    return claim->scheme != BMB_SCHEME_DIGEST ||
           (said.size >= path->size && said.size < BMB_PATH_MAX &&
            memcmp(said.text + said.size - path->size, path->text, path->size) == 0);
}

static bmb_who who_is(bmb_talk *t, bmb_conn *c)
{
    bmb_who who = { 0 };
    bmb_claim claim;
    bmb_text authorization = bmb_http_parse_value(&c->http, BMB_FIELD_AUTHORIZATION), cookie = cookie_of(c);
    if (t->guard.access == NULL) return who;
    who.local = !c->quiet && bmb_is_loopback(&c->peer); /* a browser may ask on behalf of somebody else's page */
    const bmb_sign_in *s = bmb_guard_signed_in(&t->guard, t->x, cookie);
    if (s != NULL) {
        who.account = s->account;
        c->pass.number = s->serial;
        bmb_passes_watch(t);
    }
    if (authorization.size == 0) return who;
    bmb_claim_read(&claim, authorization.at, authorization.size);
    uint16_t account = 0;
    who.proof = (uint8_t)(asks_for_this(c, &claim) ? bmb_guard_judge(&t->guard, t->x, &claim, method_of(c), 0,
                                                                     bmb_conn_secure(c), &c->peer, &account)
                                                   : BMB_PROOF_WRONG);
    if (who.proof == BMB_PROOF_GOOD) {
        who.account = account;
        c->pass.number = 0; /* by what he said now */
    }
    return who;
}

/* There, for another method: the address of a feed, which not everybody is to know of. */
static bool is_hidden(const bmb_route *route)
{
    return route->status == 405 && route->of_feed;
}

/* The feed that an address names, whatever is asked of it; SIZE_MAX: none. */
static size_t feed_of(const bmb_route *route)
{
    bool named = route->kind == BMB_ROUTE_STILL || route->kind == BMB_ROUTE_FEED || route->kind == BMB_ROUTE_SDP ||
                 route->kind == BMB_ROUTE_LEND || (route->kind == BMB_ROUTE_ERROR && is_hidden(route));
    return named ? route->feed : SIZE_MAX;
}

/* What is needed for a route; *number: for this feed, or SIZE_MAX: for any. */
static bmb_role needed(const bmb_route *route, size_t *number)
{
    *number = SIZE_MAX;
    switch (route->kind) {
    case BMB_ROUTE_STATUS:
    case BMB_ROUTE_EVENTS:
        return BMB_ROLE_WATCH;
    case BMB_ROUTE_SERVICE:
        return (bmb_role)route->role;
    case BMB_ROUTE_ERROR: /* it tells which feeds there are, as one does that is there for another method */
        return route->status == 404 || is_hidden(route) ? BMB_ROLE_WATCH : BMB_ROLE_NONE;
    case BMB_ROUTE_STILL:
    case BMB_ROUTE_FEED:
    case BMB_ROUTE_SDP:
        *number = route->feed;
        return route->width != 0 ? BMB_ROLE_ADJUST : BMB_ROLE_WATCH;
    case BMB_ROUTE_LEND:
    case BMB_ROUTE_END_LINK:
    case BMB_ROUTE_END_SIGN_IN:
        return BMB_ROLE_ADMINISTER;
    default:
        return BMB_ROLE_NONE;
    }
}

static bool may(const bmb_talk *t, const bmb_who *who, bmb_role role, size_t number)
{
    if (role == BMB_ROLE_NONE) return true;
    if (number != SIZE_MAX) return bmb_guard_may(&t->guard, t->x, who, role, number);
    if (bmb_guard_may_any(&t->guard, t->x, who, role)) return true;
    if (role != BMB_ROLE_WATCH) return false;
    for (size_t i = 0; i < t->x->config->feed_count; i++) /* one that is open to all is enough */
        if (t->x->config->feeds[i].open) return true;
    return false;
}

/* By a lent link. Its path is cut to what is behind it. */
static bool is_lent(bmb_talk *t, bmb_conn *c, const bmb_route *route, bmb_link_terms *terms)
{
    return route->link.size > 0 && (route->kind == BMB_ROUTE_FEED || route->kind == BMB_ROUTE_STILL) &&
           c->http.method <= BMB_HTTP_HEAD && bmb_guard_link(&t->guard, t->x, route->link, route->feed, terms) &&
           (route->width == 0 || terms->viewers == BMB_LINK_OWNERS);
}

static bmb_http_reply admit_lent(bmb_talk *t, bmb_conn *c, const bmb_route *route, const bmb_link_terms *terms)
{
    bool watches = route->kind == BMB_ROUTE_FEED && !route->format->info.picture && c->http.method == BMB_HTTP_GET;
    c->pass = (bmb_pass){ .account = BMB_BY_LINK, .number = terms->number, .until_s = terms->until_s };
    bmb_passes_watch(t);
    if (watches ? !bmb_guard_link_use(&t->guard, t->x, terms) : bmb_guard_link_spent(&t->guard, terms))
        return refusal(403);
    return refusal(0);
}

/* Is it had at this outlet? */
static bool is_here(const bmb_conn *c, const bmb_route *route)
{
    bool of_feed = route->kind == BMB_ROUTE_STILL || route->kind == BMB_ROUTE_FEED || route->kind == BMB_ROUTE_SDP;
    return c->by->outlet == NULL || c->by->outlet->elsewhere == 0 || (of_feed && bmb_feed_is_here(c, route->feed));
}

/* The same address, encrypted (RFC 9110 15.4.9: nothing that was to be posted is lost). Without its query: nothing here
 * has one. */
static bmb_http_reply send_elsewhere(bmb_talk *t, const bmb_conn *c)
{
    bmb_http_reply r = refusal(308);
    bmb_text host = bmb_host_alone(bmb_http_parse_value(&c->http, BMB_FIELD_HOST));
    bmb_writer w = bmb_writer_of(extra_of(t), EXTRA_ROOM);
    if (c->by->elsewhere == 0 || host.size == 0) return refusal(403);
    bmb_put_str(&w, "Location: https://");
    bmb_put_bytes(&w, host.at, host.size);
    bmb_put_text(&w, ":%u", c->by->elsewhere);
    for (size_t i = 0; i < c->http.path.size; i++) {
        char one = c->http.path.text[i];
        bool plain = (one >= 'a' && one <= 'z') || (one >= 'A' && one <= 'Z') || (one >= '-' && one <= '9') ||
                     one == '_' || one == '~';
        if (plain) {
            bmb_put_bytes(&w, &one, 1);
        } else {
            bmb_put_str(&w, "%");
            bmb_put_hex(&w, (uint8_t)one, 2);
        }
    }
    bmb_put_str(&w, "\r\n");
    set_extra(&r, &w);
    return r.extra != NULL ? r : refusal(403);
}

/* Whoever shows a feed in a page of his own sees an empty place, and no word why. */
static void tell_framing(bmb_talk *t, const bmb_conn *c, const bmb_route *route)
{
    if (!c->quiet || (route->kind != BMB_ROUTE_FEED && route->kind != BMB_ROUTE_STILL)) return;
    bmb_text page = bmb_host_framer(t->x->config, bmb_http_parse_value(&c->http, BMB_FIELD_REFERER),
                                    bmb_http_parse_value(&c->http, BMB_FIELD_HOST));
    if (page.size > 0) bmb_conn_tell_text(t, c, BMB_EVENT_FRAMING_REFUSED, "", page.at, page.size);
}

bmb_http_reply bmb_http_admit(bmb_talk *t, bmb_conn *c, const bmb_route *route)
{
    bmb_link_terms terms;
    size_t number;
    bmb_role role = needed(route, &number);
    if (route->kind == BMB_ROUTE_ERROR && route->status != 404 && !is_hidden(route) &&
        (is_here(c, route) || route->status != 405))
        return refusal(0); /* which is answered as it is */
    if (!bmb_host_is_ours(t->x->config, bmb_http_parse_value(&c->http, BMB_FIELD_HOST))) {
        bmb_text host = bmb_http_parse_value(&c->http, BMB_FIELD_HOST);
        bmb_conn_tell_text(t, c, BMB_EVENT_NAME_REFUSED, "", host.at, host.size);
        return refusal(421);
    }
    if (!is_here(c, route)) return send_elsewhere(t, c);
    uint8_t origin = bmb_origin_of(t, c);
    if (origin == 0 || (origin != UINT8_MAX && c->http.method > BMB_HTTP_HEAD)) return refusal(403);
    c->origin = origin == UINT8_MAX ? 0 : origin;
    c->pass = (bmb_pass){ .account = 0 };
    c->quiet = from_browser(c);
    tell_framing(t, c, route);
    if (is_lent(t, c, route, &terms)) return admit_lent(t, c, route, &terms);
    bmb_who who = who_is(t, c);
    c->pass.account = who.account;
    bool page = cookie_of(c).size > 0 || route->kind == BMB_ROUTE_SIGN_IN;
    if (who.proof == BMB_PROOF_PAUSED) return (bmb_http_reply){ .status = 429, .extra = "Retry-After: 60\r\n" };
    if (who.proof >= BMB_PROOF_STALE) return challenge(t, c, who.proof == BMB_PROOF_STALE, page);
    /* A feed that is not his is none that he can tell from one that is not there. */
    const size_t feed = feed_of(route);
    bool sees = feed == SIZE_MAX || bmb_guard_may(&t->guard, t->x, &who, BMB_ROLE_WATCH, feed);
    if (sees && may(t, &who, role, number)) return refusal(0);
    const bmb_access *access = t->guard.access; /* where nobody can sign in, nobody is asked to */
    bool asks = who.account == 0 && access != NULL && access->account_count > 0;
    if (!asks && !sees && bmb_guard_may_any(&t->guard, t->x, &who, BMB_ROLE_WATCH)) return refusal(404);
    return asks ? challenge(t, c, false, page) : refusal(403);
}

static const char *name_of(const bmb_talk *t, uint16_t account)
{
    return account != 0 ? t->guard.access->accounts[account - 1].name : "";
}

/* What the page needs to know before it can show anything. */
static bmb_http_reply tell_who(bmb_talk *t, const bmb_conn *c)
{
    const bmb_access *access = t->guard.access;
    const bmb_who who = { .account = c->pass.account };
    char nonce[BMB_NONCE_SIZE];
    bmb_writer w = body_of(t);
    bmb_put_text(&w, "{\"name\":\"%s\",\"role\":\"%s\",\"anybody\":\"%s\"", name_of(t, c->pass.account),
                 bmb_role_name(bmb_guard_role(&t->guard, &who)),
                 bmb_role_name(access != NULL ? access->anybody : BMB_ROLE_ADJUST));
    bmb_put_text(&w, ",\"accounts\":%u,\"settings\":%u", access != NULL ? (unsigned)access->account_count : 0,
                 bmb_http_has_settings(t->x->config));
    if (access != NULL && access->locked) bmb_put_str(&w, ",\"users\":\"locked\"");
    if (access != NULL && access->stale && bmb_guard_role(&t->guard, &who) == BMB_ROLE_ADMINISTER)
        bmb_put_str(&w, ",\"users\":\"stale\"");
    if (access != NULL && access->account_count > 0) {
        bmb_guard_nonce(&t->guard, t->x, 0, nonce);
        bmb_put_text(&w, ",\"realm\":\"%s\",\"nonce\":\"", access->realm);
        bmb_put_bytes(&w, nonce, sizeof nonce);
        bmb_put_str(&w, "\"");
    }
    bmb_put_str(&w, "}\n");
    return with_body(refusal(200), &w);
}

static bmb_http_reply set_cookie(bmb_talk *t, const bmb_conn *c, const char *value, size_t size, const char *more)
{
    bmb_http_reply r = refusal(204);
    bmb_writer w = bmb_writer_of(extra_of(t), EXTRA_ROOM);
    bmb_put_str(&w, "Set-Cookie: " BMB_COOKIE "=");
    bmb_put_bytes(&w, value, size);
    bmb_put_text(&w, "; Path=/; HttpOnly; SameSite=Strict%s%s\r\n", bmb_conn_secure(c) ? "; Secure" : "", more);
    set_extra(&r, &w);
    return r;
}

static bmb_http_reply sign_in(bmb_talk *t, bmb_conn *c)
{
    char cookie[BMB_COOKIE_SIZE];
    bool person = c->pass.account != 0 && !t->guard.access->accounts[c->pass.account - 1].program;
    if (t->guard.access == NULL || t->guard.access->account_count == 0) return refusal(404);
    if (!person) return challenge(t, c, false, true);
    bmb_guard_sign_in(&t->guard, t->x, c->pass.account, &c->peer, cookie);
    return set_cookie(t, c, cookie, sizeof cookie, "");
}

static bmb_http_reply sign_out(bmb_talk *t, const bmb_conn *c)
{
    bmb_sign_in *s = t->guard.access != NULL ? bmb_guard_signed_in(&t->guard, t->x, cookie_of(c)) : NULL;
    if (s != NULL) s->account = 0;
    return set_cookie(t, c, "", 0, "; Max-Age=0");
}

static bmb_http_reply end_sign_in(bmb_talk *t, uint32_t number)
{
    bmb_sign_in *s = number < BMB_GUARD_SIGN_INS ? &t->guard.kept->sign_ins[number] : NULL;
    if (s == NULL || s->account == 0) return refusal(404);
    s->account = 0;
    return refusal(204);
}

static bmb_http_reply lend(bmb_talk *t, bmb_conn *c, const bmb_route *route)
{
    bmb_link_terms terms;
    char link[BMB_LINK_SIZE];
    const bmb_feed *feed = bmb_feeds_at(t->feeds, route->feed);
    bmb_err err = feed == NULL ? BMB_NOT_FOUND
                               : bmb_guard_lend(&t->guard, t->x, route->feed, route->value, route->times, &terms, link);
    if (err != BMB_OK) return refusal(err == BMB_UNKNOWN ? 409 : 404);
    bmb_tell(t->x, &(bmb_event){ .code = BMB_EVENT_LENT,
                                 .feed = feed->config->name,
                                 .peer = &c->peer,
                                 .text = name_of(t, c->pass.account),
                                 .value = terms.number });
    bmb_writer w = body_of(t);
    bmb_put_text(&w, "{\"number\":%u,\"until\":%u,\"viewers\":%u,\"path\":\"/lent/%s/%s\"}\n", (unsigned)terms.number,
                 (unsigned)terms.until_s, terms.viewers, link, feed->config->name);
    return with_body(refusal(200), &w);
}

static bmb_http_reply end_link(bmb_talk *t, const bmb_conn *c, uint32_t number, uint32_t until_s)
{
    if (number == 0 || t->guard.access == NULL || t->guard.access->link_key == NULL) return refusal(404);
    if (bmb_guard_link_end(&t->guard, t->x, number, until_s) != BMB_OK) return refusal(409);
    bmb_tell(t->x, &(bmb_event){ .code = BMB_EVENT_LINK_ENDED,
                                 .peer = &c->peer,
                                 .text = name_of(t, c->pass.account),
                                 .value = number });
    return refusal(204);
}

bmb_http_reply bmb_http_access(bmb_talk *t, bmb_conn *c, const bmb_route *route)
{
    switch (route->kind) {
    case BMB_ROUTE_WHO:
        return tell_who(t, c);
    case BMB_ROUTE_SIGN_IN:
        return sign_in(t, c);
    case BMB_ROUTE_SIGN_OUT:
        return sign_out(t, c);
    case BMB_ROUTE_END_SIGN_IN:
        return end_sign_in(t, route->value);
    case BMB_ROUTE_LEND:
        return lend(t, c, route);
    default:
        return end_link(t, c, route->value, route->until);
    }
}

#endif
