#include "talk/plain_access.h"

#include <string.h>

#include "base/hmac.h"

#if BMB_WITH_ACCESS

bool bmb_plain_may(const bmb_talk *t, const bmb_conn *c, bmb_role role, size_t feed)
{
    const bmb_who who = { .account = c->pass.account, .local = bmb_is_loopback(&c->peer) };
    return c->by->dialler != NULL || bmb_guard_may(&t->guard, t->x, &who, role, feed);
}

bool bmb_plain_host_may(const bmb_talk *t, const bmb_conn *c)
{
    if (bmb_plain_may(t, c, BMB_ROLE_WATCH, c->by->feed) || bmb_is_loopback(&c->peer)) return true;
    for (size_t i = 0; i < c->by->outlet->host_count; i++)
        if (bmb_same_host(&c->by->outlet->hosts[i], &c->peer)) return true;
    return false;
}

bool bmb_plain_token(bmb_talk *t, bmb_conn *c, const char *line, size_t size)
{
    static const char word[] = "token ";
    const size_t before = sizeof word - 1;
    if (size > 0 && line[size - 1] == '\r') size--;
    if (size <= before || memcmp(line, word, before) != 0) return false;
    uint16_t account = bmb_guard_token(&t->guard, t->x, &c->peer, (bmb_text){ line + before, size - before });
    c->pass.account = account;
    return account != 0 && bmb_plain_may(t, c, BMB_ROLE_WATCH, c->by->feed);
}

bool bmb_framed_asks(const bmb_talk *t, const bmb_conn *c)
{
    return c->by->dialler == NULL && t->guard.access != NULL && t->guard.access->account_count > 0;
}

/* The number alone is kept: the challenge is made of it again when it is answered. */
static void challenge_of(const bmb_talk *t, const bmb_conn *c, uint8_t out[BMB_SHA256_SIZE])
{
    const uint16_t number = bmb_conn_number(t, c);
    const bmb_slice slices[] = { { "framed", 6 }, { &number, sizeof number }, { &c->challenge, sizeof c->challenge } };
    bmb_hmac(t->x->port, t->guard.key, sizeof t->guard.key, slices, 3, out);
}

void bmb_framed_put_challenge(bmb_talk *t, bmb_conn *c, bmb_writer *w)
{
    uint8_t challenge[BMB_SHA256_SIZE];
    size_t size = strlen(t->guard.access->realm);
    c->challenge = ++t->guard.doors;
    challenge_of(t, c, challenge);
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_bytes(w, challenge, sizeof challenge);
    bmb_put_u8(w, (uint8_t)size);
    bmb_put_bytes(w, t->guard.access->realm, size);
    bmb_framed_end(w, begun, BMB_FRAMED_CHALLENGE, 0);
}

/* The account's digest is the key; both sides know it, and nobody who listens learns it. */
static bool answers(const bmb_talk *t, const bmb_conn *c, const bmb_account *a, const bmb_framed_request *r)
{
    uint8_t challenge[BMB_SHA256_SIZE], expected[BMB_SHA256_SIZE];
    challenge_of(t, c, challenge);
    const bmb_slice slices[] = { { challenge, sizeof challenge }, { r->name, strlen(r->name) } };
    bmb_hmac(t->x->port, a->sha256, sizeof a->sha256, slices, 2, expected);
    return bmb_equal_secret(expected, r->proof, sizeof expected);
}

bmb_err bmb_framed_sign_in(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    static const bmb_account nobody;
    const bmb_text name = { r->name, strlen(r->name) };
    *value = BMB_ROLE_NONE;
    if (!bmb_framed_asks(t, c) || c->challenge == 0) return BMB_UNSUPPORTED;
    uint16_t account = bmb_guard_account(&t->guard, name, false);
    if (account == 0) account = bmb_guard_account(&t->guard, name, true);
    const bmb_account *a = account != 0 ? &t->guard.access->accounts[account - 1] : &nobody;
    bool right = answers(t, c, a, r) && account != 0;
    bmb_proof proof = bmb_guard_conclude(&t->guard, t->x, &c->peer, name, account, right);
    if (proof != BMB_PROOF_GOOD) {
        c->challenges = true; /* another one: this one was used */
        c->challenge = 0;
        return proof == BMB_PROOF_PAUSED ? BMB_LIMIT : BMB_DENIED;
    }
    bmb_tell(t->x, &(bmb_event){ .code = BMB_EVENT_SIGNED_IN, .peer = &c->peer, .text = a->name });
    c->pass.account = account;
    c->announced = 0; /* the feeds that it may see now */
    *value = (int32_t)a->role;
    return BMB_OK;
}

#endif
