#include "talk/guard.h"

#include <string.h>

#include "base/hmac.h"

#define NONCE_MOST_US 300000000u     /* five minutes: a client that comes again later gets a fresh one unasked */
#define WRONG_FREE 5u                /* for one name, before it goes slowly: people mistype */
#define WRONG_US 2000000u            /* each further one: 43,200 guesses a day at most, from wherever */
#define LATER_US 60000000u           /* what was right too early is let in when it is said again after this … */
#define PROVEN_US 600000000u         /* … and before that */
#define SIGN_IN_MOST_US 43200000000u /* half a day without a request ends a sign-in */

#if BMB_WITH_ACCESS

void bmb_guard_open(bmb_guard *g, bmb_context *x)
{
    g->access = x->config->access;
    if (g->access == NULL) return;
    x->port->random(x->port->ctx, g->key, sizeof g->key);
    g->floor_us = x->now;
}

static const bmb_account *account_at(const bmb_guard *g, uint16_t account)
{
    return g->access != NULL && account != 0 && account <= g->access->account_count ? &g->access->accounts[account - 1]
                                                                                    : NULL;
}

/* Names are no secret, and looked for as text is. */
uint16_t bmb_guard_account(const bmb_guard *g, bmb_text name, bool program)
{
    for (size_t i = 0; i < g->access->account_count; i++) {
        const bmb_account *a = &g->access->accounts[i];
        if (a->program == program && bmb_same(name.at, name.size, a->name)) return (uint16_t)(i + 1);
    }
    return 0;
}

static void tell_wrong(const bmb_guard *g, bmb_context *x, const bmb_addr *peer, uint16_t account)
{
    /* Names that there are not stay untold: people mistake the fields, and type their password. */
    const bmb_account *a = account_at(g, account);
    bmb_tell(
        x, &(bmb_event){
               .code = BMB_EVENT_SIGN_IN_FAILED, .err = BMB_DENIED, .peer = peer, .text = a != NULL ? a->name : NULL });
}

uint16_t bmb_guard_token(bmb_guard *g, bmb_context *x, const bmb_addr *peer, bmb_text token)
{
    uint8_t sum[BMB_SHA256_SIZE];
    uint16_t found = 0;
    const bmb_slice slice = { token.at, token.size };
    x->port->hash(x->port->ctx, BMB_HASH_SHA256, &slice, 1, sum);
    for (size_t i = 0; i < g->access->account_count; i++) {
        const bmb_account *a = &g->access->accounts[i];
        if (a->program && bmb_equal_secret(a->sha256, sum, sizeof sum)) found = (uint16_t)(i + 1);
    }
    if (found == 0) tell_wrong(g, x, peer, 0);
    return found;
}

/* Names that are there and names that are not have rows alike; by our key, so that nobody can choose one that shares
 * another's. */
static uint8_t row_of(const bmb_guard *g, const bmb_context *x, bmb_text name)
{
    uint8_t sum[BMB_SHA256_SIZE];
    const bmb_slice slices[] = { { "name", 4 }, { name.at, name.size } };
    bmb_hmac(x->port, g->key, sizeof g->key, slices, 2, sum);
    return sum[0] % BMB_GUARD_NAMES;
}

static bool is_used_up(const bmb_context *x, bmb_allowance wrong)
{
    return wrong > x->now + (WRONG_FREE - 1) * (uint64_t)WRONG_US;
}

static void use(const bmb_context *x, bmb_allowance *wrong)
{
    *wrong = (*wrong > x->now ? *wrong : x->now) + WRONG_US;
}

static bmb_place *place_of(bmb_place *places, size_t count, const bmb_addr *peer, uint8_t row)
{
    for (bmb_place *p = places; p < places + count; p++)
        if (p->host.family != 0 && p->row == row && bmb_same_host(&p->host, peer)) return p;
    return NULL;
}

/* A place for this one, of whoever used his for longest not. */
static bmb_place *new_place(bmb_place *places, size_t count, const bmb_context *x, const bmb_addr *peer, uint8_t row)
{
    bmb_place *oldest = places;
    for (bmb_place *p = places; p < places + count; p++)
        if (oldest->host.family != 0 && (p->host.family == 0 || p->used_us < oldest->used_us)) oldest = p;
    *oldest = (bmb_place){ .host = *peer, .row = row, .used_us = x->now };
    return oldest;
}

/* Right, but nothing may be said now. true: the same was so a while ago, and here he is again. */
static bool is_proven(bmb_guard *g, const bmb_context *x, const bmb_addr *peer, uint8_t row)
{
    bmb_place *p = place_of(g->kept->proven, BMB_GUARD_PROVEN, peer, row);
    uint64_t ago = p != NULL ? x->now - p->used_us : PROVEN_US;
    if (ago >= PROVEN_US) {
        if (p == NULL) p = new_place(g->kept->proven, BMB_GUARD_PROVEN, x, peer, row);
        p->used_us = x->now;
        return false;
    }
    if (ago < LATER_US) return false;
    p->host.family = 0;
    return true;
}

bmb_proof bmb_guard_conclude(bmb_guard *g, bmb_context *x, const bmb_addr *peer, bmb_text name, uint16_t account,
                             bool right)
{
    const bmb_account *a = account_at(g, account);
    if (right && a != NULL && a->program) return BMB_PROOF_GOOD;
    uint8_t row = row_of(g, x, name);
    bmb_place *known = place_of(g->kept->known, BMB_GUARD_PLACES, peer, row);
    bmb_allowance *wrong = known != NULL ? &known->wrong : &g->kept->wrong[row];
    if (is_used_up(x, *wrong) && !(right && is_proven(g, x, peer, row))) return BMB_PROOF_PAUSED;
    if (right) {
        if (known == NULL) known = new_place(g->kept->known, BMB_GUARD_PLACES, x, peer, row);
        known->used_us = x->now;
        return BMB_PROOF_GOOD;
    }
    use(x, wrong);
    tell_wrong(g, x, peer, account);
    return BMB_PROOF_WRONG;
}

void bmb_guard_nonce(bmb_guard *g, bmb_context *x, uint64_t bound, char out[BMB_NONCE_SIZE])
{
    const bmb_nonce nonce = { .made_us = x->now, .serial = ++g->serial };
    bmb_nonce_write(x->port, g->key, &nonce, bound, out);
}

static bmb_seen *seen_of(bmb_guard *g, const bmb_nonce *nonce)
{
    for (bmb_seen *s = g->kept->seen; s < g->kept->seen + BMB_GUARD_NONCES; s++)
        if (s->nonce.made_us == nonce->made_us && s->nonce.serial == nonce->serial && s->highest > 0) return s;
    return NULL;
}

static bmb_seen *see(bmb_guard *g, const bmb_context *x, const bmb_nonce *nonce)
{
    bmb_seen *oldest = g->kept->seen;
    for (bmb_seen *s = g->kept->seen; s < g->kept->seen + BMB_GUARD_NONCES; s++)
        if (s->nonce.made_us < oldest->nonce.made_us) oldest = s;
    if (oldest->highest > 0 && x->now - oldest->nonce.made_us <= NONCE_MOST_US) g->floor_us = oldest->nonce.made_us + 1;
    *oldest = (bmb_seen){ .nonce = *nonce };
    return oldest;
}

/* true: this count was not used before with this nonce. Browsers use one nonce over several connections, so that counts
 * come out of order. */
static bool take_count(bmb_seen *s, uint32_t count)
{
    if (count == 0) return false;
    if (count > s->highest) {
        uint32_t by = count - s->highest;
        s->before = by < 64 ? s->before << by | 1ull << (by - 1) : by == 64 ? 1ull << 63 : 0;
        if (s->highest == 0) s->before = 0;
        s->highest = count;
        return true;
    }
    uint32_t back = s->highest - count;
    if (back == 0 || back > 64 || (s->before >> (back - 1) & 1) != 0) return false;
    s->before |= 1ull << (back - 1);
    return true;
}

/* Is the nonce still good for this? Whoever is asked here has proved to know the password. A nonce that is bound to a
 * connection cannot be used elsewhere, and is good as long as that lives; others are, for a while, by their counts. */
static bool take_nonce(bmb_guard *g, bmb_context *x, const bmb_claim *claim, uint64_t bound, const bmb_addr *peer,
                       uint16_t account)
{
    bmb_nonce nonce;
    if (!bmb_nonce_read(x->port, g->key, claim->nonce, bound, &nonce)) return false;
    if (bound != 0) return true;
    if (nonce.made_us > x->now || x->now - nonce.made_us > NONCE_MOST_US) return false;
    bmb_seen *s = seen_of(g, &nonce);
    if (s == NULL && nonce.made_us < g->floor_us) return false;
    if (s == NULL) {
        s = see(g, x, &nonce);
        g->kept->told = account;
        bmb_tell(x, &(bmb_event){ .code = BMB_EVENT_SIGNED_IN, .peer = peer, .text = account_at(g, account)->name });
    }
    return take_count(s, claim->counted ? claim->nc : 1);
}

static bmb_proof judge_digest(bmb_guard *g, bmb_context *x, const bmb_claim *claim, const char *method, uint64_t bound,
                              const bmb_addr *peer, uint16_t *account)
{
    char expected[2 * BMB_SHA256_SIZE];
    uint16_t number = bmb_guard_account(g, claim->username, false);
    const bmb_account *a = account_at(g, number);
    static const bmb_account nobody;
    if (a == NULL) a = &nobody; /* the same work, so that its time tells no names */
    const uint8_t *ha1 = claim->hash == BMB_HASH_SHA256 ? a->sha256 : a->md5;
    size_t size = bmb_claim_response(x->port, claim, ha1, method, expected);
    bool right = bmb_equal_secret(expected, claim->response.at, size) && number != 0;
    bmb_proof proof = bmb_guard_conclude(g, x, peer, claim->username, number, right);
    if (proof != BMB_PROOF_GOOD) return proof;
    if (!take_nonce(g, x, claim, bound, peer, number)) return BMB_PROOF_STALE;
    *account = number;
    return BMB_PROOF_GOOD;
}

static bmb_proof judge_basic(bmb_guard *g, bmb_context *x, const bmb_claim *claim, const bmb_addr *peer,
                             uint16_t *account)
{
    char plain[128];
    bmb_text name, password;
    uint8_t sum[BMB_SHA256_SIZE];
    if (!bmb_claim_basic(claim, plain, sizeof plain, &name, &password)) return BMB_PROOF_WRONG; /* nothing was said */
    uint16_t number = bmb_guard_account(g, name, false);
    const bmb_account *a = account_at(g, number);
    const bmb_slice all[] = {
        { name.at, name.size },         { ":", 1 }, { g->access->realm, strlen(g->access->realm) }, { ":", 1 },
        { password.at, password.size },
    };
    x->port->hash(x->port->ctx, BMB_HASH_SHA256, all, 5, sum);
    bool right = a != NULL && bmb_equal_secret(a->sha256, sum, sizeof sum);
    bmb_proof proof = bmb_guard_conclude(g, x, peer, name, number, right);
    memset(plain, 0, sizeof plain);
    if (proof == BMB_PROOF_GOOD) *account = number;
    return proof;
}

bmb_proof bmb_guard_judge(bmb_guard *g, bmb_context *x, const bmb_claim *claim, const char *method, uint64_t bound,
                          bool secure, const bmb_addr *peer, uint16_t *account)
{
    *account = 0;
    if (g->access == NULL || claim->scheme == BMB_SCHEME_NONE) return BMB_PROOF_NONE;
    g->kept->told = 0;
    if (claim->scheme == BMB_SCHEME_DIGEST) return judge_digest(g, x, claim, method, bound, peer, account);
    if (claim->scheme == BMB_SCHEME_BASIC && secure) return judge_basic(g, x, claim, peer, account);
    if (claim->scheme != BMB_SCHEME_BEARER)
        return BMB_PROOF_WRONG; /* of no kind that was asked for: nothing was tried */
    *account = bmb_guard_token(g, x, peer, claim->token);
    return *account != 0 ? BMB_PROOF_GOOD : BMB_PROOF_WRONG;
}

/* As long as nobody is said to be one, programs on the device itself are its owner's. */
static bool is_owner(const bmb_guard *g, const bmb_who *who)
{
    return g->access == NULL || (who->local && g->access->account_count == 0 && !g->access->locked);
}

bmb_role bmb_guard_role(const bmb_guard *g, const bmb_who *who)
{
    if (is_owner(g, who)) return BMB_ROLE_ADJUST;
    const bmb_account *a = account_at(g, who->account);
    return a != NULL && a->role > g->access->anybody ? a->role : g->access->anybody;
}

bool bmb_guard_may(const bmb_guard *g, const bmb_context *x, const bmb_who *who, bmb_role role, size_t number)
{
    if (role == BMB_ROLE_WATCH && (x->config->feeds[number].open || (who->lent >> number & 1) != 0)) return true;
    if (is_owner(g, who)) return role <= BMB_ROLE_ADJUST;
    if (g->access->anybody >= role) return true;
    const bmb_account *a = account_at(g, who->account);
    return a != NULL && a->role >= role && (a->feeds >> number & 1) != 0;
}

uint64_t bmb_guard_feeds(const bmb_guard *g, const bmb_context *x, const bmb_who *who)
{
    const bmb_account *a = account_at(g, who->account);
    uint64_t feeds = a != NULL ? a->feeds : 0;
    if (g->access == NULL || g->access->anybody >= BMB_ROLE_WATCH) return UINT64_MAX;
    for (size_t i = 0; i < x->config->feed_count; i++) feeds |= (uint64_t)x->config->feeds[i].open << i;
    return feeds;
}

bool bmb_guard_may_any(const bmb_guard *g, const bmb_context *x, const bmb_who *who, bmb_role role)
{
    (void)x;
    return bmb_guard_role(g, who) >= role;
}

void bmb_guard_sign_in(bmb_guard *g, bmb_context *x, uint16_t account, const bmb_addr *peer, char out[BMB_COOKIE_SIZE])
{
    bmb_sign_in *s = g->kept->sign_ins, *own = NULL; /* the one that was not used for longest goes … */
    unsigned owned = 0;
    for (bmb_sign_in *o = g->kept->sign_ins; o < g->kept->sign_ins + BMB_GUARD_SIGN_INS; o++) {
        if (s->account != 0 && (o->account == 0 || o->seen_us < s->seen_us)) s = o;
        owned += o->account == account;
        if (o->account == account && (own == NULL || o->seen_us < own->seen_us)) own = o;
    }
    if (owned >= BMB_GUARD_OWN_SIGN_INS) s = own; /* … but nobody takes more than a few from others */
    *s =
        (bmb_sign_in){ .account = account, .serial = ++g->doors, .since_us = x->now, .seen_us = x->now, .peer = *peer };
    x->port->random(x->port->ctx, s->secret, sizeof s->secret);
    bmb_writer w = bmb_writer_of(out, BMB_COOKIE_SIZE);
    bmb_put_hex(&w, (uint64_t)(s - g->kept->sign_ins), 4);
    bmb_put_hex_bytes(&w, s->secret, sizeof s->secret);
    if (g->kept->told == account) return; /* with the proof */
    bmb_tell(x, &(bmb_event){ .code = BMB_EVENT_SIGNED_IN, .peer = peer, .text = account_at(g, account)->name });
}

bmb_sign_in *bmb_guard_signed_in(bmb_guard *g, const bmb_context *x, bmb_text cookie)
{
    char digits[BMB_COOKIE_SIZE];
    if (cookie.size != BMB_COOKIE_SIZE) return NULL;
    for (size_t i = 0; i < BMB_GUARD_SIGN_INS; i++) {
        bmb_sign_in *s = &g->kept->sign_ins[i];
        bmb_writer w = bmb_writer_of(digits, sizeof digits);
        bmb_put_hex(&w, i, 4);
        bmb_put_hex_bytes(&w, s->secret, sizeof s->secret);
        if (s->account == 0 || !bmb_equal_secret(digits, cookie.at, sizeof digits)) continue;
        if (x->now - s->seen_us > SIGN_IN_MOST_US) {
            s->account = 0;
            return NULL;
        }
        s->seen_us = x->now;
        return s;
    }
    return NULL;
}

size_t bmb_guard_copy(const bmb_guard *g, const bmb_context *x, bmb_sign_in_copy *out)
{
    size_t n = 0;
    for (size_t i = 0; g->access != NULL && i < BMB_GUARD_SIGN_INS; i++) {
        const bmb_sign_in *s = &g->kept->sign_ins[i];
        const bmb_account *a = account_at(g, s->account);
        if (a == NULL) continue;
        bmb_sign_in_copy *c = &out[n++];
        *c = (bmb_sign_in_copy){
            .place = (uint8_t)i, .since_us = x->now - s->since_us, .idle_us = x->now - s->seen_us, .peer = s->peer
        };
        memcpy(c->name, a->name, sizeof c->name);
        memcpy(c->sha256, a->sha256, sizeof c->sha256);
        memcpy(c->secret, s->secret, sizeof c->secret);
    }
    return n;
}

/* When something was that is so long ago; the clock may have begun since. */
static uint64_t before(const bmb_context *x, uint64_t ago_us)
{
    return x->now > ago_us ? x->now - ago_us : 0;
}

void bmb_guard_take(bmb_guard *g, const bmb_context *x, const bmb_sign_in_copy *copies, size_t count)
{
    for (const bmb_sign_in_copy *c = copies; g->access != NULL && c < copies + count; c++) {
        uint16_t account = bmb_guard_account(g, (bmb_text){ c->name, strlen(c->name) }, false);
        const bmb_account *a = account_at(g, account);
        if (a == NULL || c->place >= BMB_GUARD_SIGN_INS || memcmp(a->sha256, c->sha256, sizeof c->sha256) != 0)
            continue;
        bmb_sign_in *s = &g->kept->sign_ins[c->place];
        *s = (bmb_sign_in){ .account = account,
                            .serial = ++g->doors,
                            .since_us = before(x, c->since_us),
                            .seen_us = before(x, c->idle_us),
                            .peer = c->peer };
        memcpy(s->secret, c->secret, sizeof s->secret);
    }
}

void bmb_guard_change(bmb_guard *g, const bmb_access *access, const uint16_t *to)
{
    for (bmb_sign_in *s = g->kept->sign_ins; s < g->kept->sign_ins + BMB_GUARD_SIGN_INS; s++)
        if (s->account != 0) s->account = to[s->account - 1];
    g->access = access;
}

#else

void bmb_guard_open(bmb_guard *g, bmb_context *x)
{
    (void)x;
    g->access = NULL;
}

#endif
