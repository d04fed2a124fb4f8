#include "talk/rtsp_access.h"

#include <string.h>

#include "talk/passes.h"
#include "talk/rtsp_reply.h"

#if BMB_WITH_ACCESS

/* Nonces of RTSP are good on the connection that they were given out on, and there alone: players of RFC 2069 count
 * nothing. */
static uint64_t bound_of(const bmb_talk *t, const bmb_conn *c)
{
    return (uint64_t)bmb_conn_number(t, c) << 32 | c->door;
}

void bmb_rtsp_judge(bmb_talk *t, bmb_conn *c, bmb_text credentials)
{
    bmb_claim claim;
    uint16_t account;
    const char *method = bmb_rtsp_method_name((bmb_rtsp_method)c->rtsp.method);
    bmb_claim_read(&claim, credentials.at, credentials.size);
    c->proof = (uint8_t)(method == NULL ? BMB_PROOF_WRONG
                                        : bmb_guard_judge(&t->guard, t->x, &claim, method, bound_of(t, c),
                                                          bmb_conn_secure(c), &c->peer, &account));
    if (c->proof != BMB_PROOF_GOOD) return;
    if (c->pass.account != account && t->guard.access != NULL)
        bmb_tell(t->x, &(bmb_event){ .code = BMB_EVENT_SIGNED_IN,
                                     .peer = &c->peer,
                                     .text = t->guard.access->accounts[account - 1].name });
    c->pass.account = account;
}

/* Feeds that the link of the address allows. */
static uint64_t lent(bmb_talk *t, const bmb_rtsp_parse *r, const bmb_feed *feed, bmb_link_terms *terms)
{
    const bmb_text link = { r->link, strlen(r->link) };
    bool good = link.size > 0 && feed != NULL && bmb_guard_link(&t->guard, t->x, link, feed->number, terms);
    return good ? 1ull << feed->number : 0;
}

bool bmb_rtsp_take_pass(bmb_talk *t, const bmb_conn *c, bmb_session *s)
{
    bmb_link_terms terms;
    const bmb_who who = { .account = c->pass.account };
    s->pass = c->pass;
    if (bmb_guard_may(&t->guard, t->x, &who, BMB_ROLE_WATCH, s->track->feed->number)) return true;
    if (lent(t, &c->rtsp, s->track->feed, &terms) == 0) return false;
    bool again = s->viewer.sent > 0; /* it was paused, and is the same viewer */
    if (!again && !bmb_guard_link_use(&t->guard, t->x, &terms)) return false;
    s->pass = (bmb_pass){ .account = BMB_BY_LINK, .number = terms.number, .until_s = terms.until_s };
    bmb_passes_watch(t);
    return true;
}

static bool needs_nothing(bmb_rtsp_method method)
{
    return method == BMB_RTSP_OPTIONS || method == BMB_RTSP_GET_PARAMETER || method == BMB_RTSP_SET_PARAMETER;
}

unsigned bmb_rtsp_admit(bmb_talk *t, bmb_conn *c)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    bmb_link_terms terms;
    if (c->proof == BMB_PROOF_PAUSED) return 503;
    if (c->proof >= BMB_PROOF_STALE) return 401;
    if (needs_nothing((bmb_rtsp_method)r->method)) return 0;
    const bmb_feed *asked = bmb_rtsp_find(t, r);
    /* What is elsewhere, or nowhere, is looked for there: one answer for both. */
    bool whole = r->wildcard && asked == NULL;
    if (!whole && (asked == NULL ? c->by->outlet->elsewhere != 0 : !bmb_feed_is_here(c, asked->number)))
        return c->by->elsewhere != 0 ? 301 : 403;
    const bmb_session *s = bmb_rtsp_named_session(t, c);
    const bmb_feed *feed = r->wildcard && s != NULL ? s->track->feed : bmb_rtsp_find(t, r);
    const bmb_who who = { .account = c->pass.account, .lent = lent(t, r, feed, &terms) };
    bool may = feed != NULL ? bmb_guard_may(&t->guard, t->x, &who, BMB_ROLE_WATCH, feed->number)
                            : bmb_guard_may_any(&t->guard, t->x, &who, BMB_ROLE_WATCH);
    if (may) return 0;
    const bmb_access *access = t->guard.access;
    if (c->pass.account != 0 && feed != NULL) return 404; /* not his, and so not there */
    return c->pass.account != 0 || access == NULL || access->account_count == 0 ? 403 : 401;
}

/* The same address, encrypted. */
void bmb_rtsp_put_elsewhere(const bmb_conn *c, bmb_writer *w)
{
    const bmb_rtsp_parse *r = &c->rtsp;
    size_t size = strlen(r->host);
    while (size > 0 && r->host[size - 1] >= '0' && r->host[size - 1] <= '9') size--;
    size = size > 0 && r->host[size - 1] == ':' ? size - 1 : strlen(r->host);
    bmb_put_str(w, "Location: rtsps://");
    bmb_put_bytes(w, r->host, size);
    bmb_put_text(w, ":%u/", c->by->elsewhere);
    if (r->link[0] != '\0') bmb_put_text(w, "lent/%s/", r->link);
    bmb_put_text(w, "%s\r\n", r->feed);
}

static void put_digest(bmb_talk *t, const bmb_conn *c, const char *algorithm, bmb_writer *w)
{
    char nonce[BMB_NONCE_SIZE];
    bmb_guard_nonce(&t->guard, t->x, bound_of(t, c), nonce);
    bmb_put_text(w, "WWW-Authenticate: Digest realm=\"%s\", algorithm=%s, nonce=\"", t->guard.access->realm, algorithm);
    bmb_put_bytes(w, nonce, sizeof nonce);
    bmb_put_str(w, c->proof == BMB_PROOF_STALE ? "\", stale=true\r\n" : "\"\r\n");
}

/* Some players take the first, some the last, and those know MD5 alone; who takes the first mostly looks at no
 * algorithm, and answers with MD5 all the same. */
void bmb_rtsp_put_challenge(bmb_talk *t, const bmb_conn *c, bmb_writer *w)
{
    if (t->guard.access == NULL) return;
    put_digest(t, c, "SHA-256", w);
    put_digest(t, c, "MD5", w);
    if (bmb_conn_secure(c)) bmb_put_text(w, "WWW-Authenticate: Basic realm=\"%s\"\r\n", t->guard.access->realm);
}

#endif
