/* A port over another one: its connections may be encrypted, and all else goes through. */
#include "bambino/tls.h"

#include <string.h>

#include <mbedtls/platform.h>
#include <mbedtls/ssl_internal.h>

#include "layer/layer.h"
#include "tls/state.h"

#define TOKEN 0x80000000u   /* of our connections, at the port below; the core's own are small */
#define SHAKE_US 1000u      /* of handshakes in one step of the device, or one step of one of them */
#define CLOSING_US 2000000u /* for what was said before a connection was closed */
#define LOOK_US 3600000000u /* between two looks whether the certificate ends soon */
#define TICKET_S 43200u     /* a session may be resumed for so long */

static bmb_tls_state *state_of(void *ctx)
{
    return ((bmb_tls *)ctx)->state;
}

static const bmb_port *below(void *ctx)
{
    return &((bmb_layer *)ctx)->under;
}

int bmb_tls_random(void *state, unsigned char *out, size_t size)
{
    const bmb_port *under = ((const bmb_tls_state *)state)->under;
    under->random(under->ctx, out, size);
    return 0;
}

bmb_arena *bmb_tls_enter(bmb_tls_state *s, bmb_arena *arena)
{
    return bmb_arena_enter(arena, &s->fixed, (long long)(s->under->now_us(s->under->ctx) / 1000000));
}

/* NULL: a connection that is not encrypted, or a socket of another kind. */
static tls_conn *conn_of(void *ctx, bmb_sock sock)
{
    bmb_tls_state *s = state_of(ctx);
    for (size_t i = 0; s != NULL && i < s->count; i++)
        if (s->conns[i].phase != TLS_FREE && s->conns[i].phase != TLS_CLOSING && s->conns[i].sock == sock)
            return &s->conns[i];
    return NULL;
}

/* Tells the port below what is waited for. */
static void watch_below(tls_conn *c)
{
    const bmb_port *under = c->state->under;
    bool left = c->phase > TLS_DIALLING && c->ssl.out_left != 0;
    uint8_t events = 0;
    switch (c->phase) {
    case TLS_DIALLING:
        events = BMB_WRITABLE;
        break;
    case TLS_SHAKING:
        events = c->runnable ? 0 : left ? BMB_WRITABLE : BMB_READABLE;
        break;
    case TLS_OPEN:
        events = (uint8_t)(c->events | (left ? BMB_WRITABLE : 0));
        break;
    case TLS_CLOSING:
        events = BMB_WRITABLE;
        break;
    default:
        break;
    }
    if (events == c->watched) return;
    c->watched = events;
    (void)under->net.watch(under->ctx, c->sock, events, TOKEN | (uint32_t)(c - c->state->conns));
}

static bmb_err take_conn(bmb_tls_state *s, bmb_sock sock, bool client, const uint8_t *pin, tls_conn **out)
{
    tls_conn *c = NULL;
    size_t from = client ? s->accepted : 0, to = client ? s->count : s->accepted;
    for (size_t i = from; i < to; i++) /* those that are closed, and only say the rest, give way */
        if (s->conns[i].phase == TLS_FREE || (s->conns[i].phase == TLS_CLOSING && c == NULL)) {
            c = &s->conns[i];
            if (c->phase == TLS_FREE) break;
        }
    if (c == NULL) return BMB_LIMIT;
    if (c->phase == TLS_CLOSING) bmb_tls_end(c);
    bmb_err err = bmb_tls_begin(c, sock, client, pin);
    if (err == BMB_OK) c->watched = UINT8_MAX; /* nothing was said yet */
    *out = c;
    return err;
}

/* Encryption, as the core asks for it. */

static size_t align(size_t size)
{
    return (size + 15) & ~(size_t)15;
}

static size_t memory_needed(void *ctx, size_t accepted, size_t dialled, size_t *each)
{
    (void)ctx;
    *each = sizeof(tls_conn) + BMB_TLS_ACCEPTED;
    return align(sizeof(bmb_tls_state) + (accepted + dialled) * sizeof(tls_conn)) + BMB_TLS_FIXED +
           accepted * BMB_TLS_ACCEPTED + dialled * BMB_TLS_DIALLED;
}

/* The keys of tickets change from time to time, which allocates: not in the memory of the connection that is served. */
static int write_ticket(void *ctx, const mbedtls_ssl_session *session, unsigned char *start, const unsigned char *end,
                        size_t *size, uint32_t *lifetime_s)
{
    bmb_tls_state *s = (bmb_tls_state *)ctx;
    bmb_arena *before = bmb_tls_enter(s, &s->fixed);
    int err = mbedtls_ssl_ticket_write(&s->tickets, session, start, end, size, lifetime_s);
    (void)bmb_tls_enter(s, before);
    return err;
}

static int read_ticket(void *ctx, mbedtls_ssl_session *session, unsigned char *data, size_t size)
{
    bmb_tls_state *s = (bmb_tls_state *)ctx;
    bmb_arena *before = bmb_tls_enter(s, &s->fixed);
    int err = mbedtls_ssl_ticket_parse(&s->tickets, session, data, size);
    (void)bmb_tls_enter(s, before);
    return err;
}

static const char *set_up(bmb_tls_state *s)
{
    mbedtls_ssl_config *server = &s->server, *client = &s->client;
    mbedtls_ssl_config_init(server);
    mbedtls_ssl_config_init(client);
    mbedtls_ssl_ticket_init(&s->tickets);
    int err = mbedtls_ssl_config_defaults(server, MBEDTLS_SSL_IS_SERVER, MBEDTLS_SSL_TRANSPORT_STREAM,
                                          MBEDTLS_SSL_PRESET_DEFAULT);
    if (err == 0)
        err = mbedtls_ssl_config_defaults(client, MBEDTLS_SSL_IS_CLIENT, MBEDTLS_SSL_TRANSPORT_STREAM,
                                          MBEDTLS_SSL_PRESET_DEFAULT);
    if (err == 0) err = mbedtls_ssl_ticket_setup(&s->tickets, bmb_tls_random, s, MBEDTLS_CIPHER_AES_128_GCM, TICKET_S);
    if (err != 0) return "the library could not be set up";
    static const mbedtls_ecp_group_id curves[] = { MBEDTLS_ECP_DP_SECP256R1, MBEDTLS_ECP_DP_SECP384R1,
                                                   MBEDTLS_ECP_DP_NONE }; /* the fast one first */
    mbedtls_ssl_conf_curves(server, curves);
    mbedtls_ssl_conf_curves(client, curves);
    mbedtls_ssl_conf_rng(server, bmb_tls_random, s);
    mbedtls_ssl_conf_rng(client, bmb_tls_random, s);
    mbedtls_ssl_conf_authmode(client, MBEDTLS_SSL_VERIFY_OPTIONAL); /* judged by its fingerprint */
    mbedtls_ssl_conf_async_private_cb(server, bmb_tls_sign_later, NULL, bmb_tls_sign_now, NULL, NULL);
    mbedtls_ssl_conf_session_tickets_cb(server, write_ticket, read_ticket, s);
    return NULL;
}

/* Takes another identity in place of that which is in use; nothing is in its handshake. */
static void take_identity(bmb_tls_state *s, const tls_identity *id)
{
    static const char digits[] = "0123456789ABCDEF";
    uint8_t sum[32];
    bmb_tls_identity_free(&s->identity);
    s->identity = *id;
    /* The list of own certificates can only be added to: it is begun anew. */
    mbedtls_ssl_key_cert *list = s->server.key_cert;
    s->server.key_cert = NULL;
    while (list != NULL) {
        mbedtls_ssl_key_cert *next = list->next;
        mbedtls_free(list);
        list = next;
    }
    (void)mbedtls_ssl_conf_own_cert(&s->server, &s->identity.chain, &s->identity.key);
    bmb_tls_fingerprint(&s->identity.chain, sum);
    char *at = s->tls->fingerprint;
    for (size_t i = 0; i < sizeof sum; i++) {
        *at++ = digits[sum[i] >> 4];
        *at++ = digits[sum[i] & 15];
        *at++ = i + 1 < sizeof sum ? ':' : '\0';
    }
}

static bmb_err change_identity(bmb_tls_state *s, const char *certificate, const char *key)
{
    tls_identity id;
    (void)bmb_tls_enter(s, &s->fixed);
    s->fixed.failed = false;
    const char *trouble =
        certificate != NULL ? bmb_tls_identity_parse(&id, s, certificate, key) : bmb_tls_identity_own(&id, s);
    if (trouble != NULL) bmb_tls_identity_free(&id);
    bmb_arena_leave();
    s->tls->trouble = trouble != NULL ? trouble : s->unkept;
    if (trouble != NULL) return s->fixed.failed ? BMB_NO_MEMORY : BMB_BAD_DATA;
    for (size_t i = 0; i < s->count; i++) { /* these may hold the former key */
        tls_conn *c = &s->conns[i];
        if (c->phase != TLS_SHAKING || c->client) continue;
        c->phase = TLS_FAILED;
        c->why = BMB_GONE;
    }
    (void)bmb_tls_enter(s, &s->fixed);
    take_identity(s, &id);
    bmb_arena_leave();
    s->own = certificate == NULL;
    s->look_us = s->under->now_us(s->under->ctx) + LOOK_US;
    return BMB_OK;
}

static bmb_err open_state(void *ctx, void *memory, size_t size, size_t accepted, size_t dialled)
{
    size_t connections = accepted + dialled;
    bmb_tls *tls = (bmb_tls *)ctx;
    bmb_tls_state *s = (bmb_tls_state *)memory;
    uint8_t *at = (uint8_t *)memory + align(sizeof *s + connections * sizeof(tls_conn));
    (void)size;
    memset(memory, 0, sizeof *s + connections * sizeof(tls_conn));
    s->tls = tls;
    s->under = &tls->layer.under;
    s->count = connections;
    s->accepted = accepted;
    for (size_t i = 0; i < BMB_TLS_LISTENERS; i++) s->listeners[i] = BMB_NO_SOCK;
    bmb_arena_init(&s->fixed, at, BMB_TLS_FIXED);
    at += BMB_TLS_FIXED;
    for (size_t i = 0; i < connections; i++, at += i <= accepted ? BMB_TLS_ACCEPTED : BMB_TLS_DIALLED) {
        s->conns[i].state = s;
        s->conns[i].sock = BMB_NO_SOCK;
        s->conns[i].arena.memory = at;
    }
    mbedtls_x509_crt_init(&s->identity.chain);
    mbedtls_pk_init(&s->identity.key);
    (void)bmb_tls_enter(s, &s->fixed);
    const char *trouble = tls->trouble = set_up(s);
    bmb_arena_leave();
    bmb_err err = trouble != NULL ? BMB_NO_MEMORY : change_identity(s, tls->config.certificate, tls->config.key);
    if (err == BMB_OK) tls->state = s;
    return err;
}

static void close_state(void *ctx)
{
    bmb_tls_state *s = state_of(ctx);
    if (s == NULL) return;
    for (size_t i = 0; i < s->count; i++)
        if (s->conns[i].phase != TLS_FREE) bmb_tls_end(&s->conns[i]);
    (void)bmb_tls_enter(s, &s->fixed);
    mbedtls_ssl_config_free(&s->server);
    mbedtls_ssl_config_free(&s->client);
    mbedtls_ssl_ticket_free(&s->tickets);
    bmb_tls_identity_free(&s->identity);
    bmb_arena_leave();
    ((bmb_tls *)ctx)->state = NULL;
    ((bmb_tls *)ctx)->fingerprint[0] = '\0';
}

static bmb_err listen_secure(void *ctx, bmb_sock listener)
{
    bmb_tls_state *s = state_of(ctx);
    for (size_t i = 0; i < BMB_TLS_LISTENERS; i++) {
        if (s->listeners[i] != BMB_NO_SOCK) continue;
        s->listeners[i] = listener;
        return BMB_OK;
    }
    return BMB_LIMIT;
}

static bmb_err dial_secure(void *ctx, bmb_sock sock, const uint8_t *pin)
{
    bmb_tls_state *s = state_of(ctx);
    tls_conn *c;
    bmb_err err = take_conn(s, sock, true, pin, &c);
    if (err == BMB_OK && s->dialled == sock) c->peer = s->to;
    return err;
}

static const char *fingerprint(void *ctx)
{
    return ((const bmb_tls *)ctx)->fingerprint;
}

/* Connections. */

static bool is_secure(const bmb_tls_state *s, bmb_sock listener)
{
    for (size_t i = 0; s != NULL && i < BMB_TLS_LISTENERS; i++)
        if (s->listeners[i] == listener) return true;
    return false;
}

static bmb_err accept_below(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    const bmb_port *under = below(ctx);
    bmb_err err = under->net.accept(under->ctx, listener, out, peer);
    tls_conn *c;
    if (err != BMB_OK || !is_secure(state_of(ctx), listener)) return err;
    err = take_conn(state_of(ctx), *out, false, NULL, &c);
    if (err != BMB_OK) {
        under->net.close(under->ctx, *out);
        return BMB_AGAIN;
    }
    c->peer = *peer;
    watch_below(c);
    return BMB_OK;
}

static bmb_err dial_below(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    bmb_tls_state *s = state_of(ctx);
    bmb_err err = below(ctx)->net.dial(below(ctx)->ctx, to, out);
    if (err == BMB_OK && s != NULL) {
        s->dialled = *out;
        s->to = *to;
    }
    return err;
}

static bmb_err dialled(void *ctx, bmb_sock sock)
{
    const bmb_port *under = below(ctx);
    tls_conn *c = conn_of(ctx, sock);
    if (c == NULL) return under->net.dialled(under->ctx, sock);
    if (c->phase == TLS_OPEN) return BMB_OK;
    if (c->phase == TLS_FAILED) return c->why;
    if (c->phase == TLS_SHAKING) return BMB_AGAIN;
    bmb_err err = under->net.dialled(under->ctx, sock);
    if (err != BMB_OK) return err;
    c->phase = TLS_SHAKING;
    c->runnable = true; /* we speak first */
    watch_below(c);
    return BMB_AGAIN;
}

static bmb_err say(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    tls_conn *c = conn_of(ctx, sock);
    if (c == NULL) return below(ctx)->net.send(below(ctx)->ctx, sock, slices, count, taken);
    bmb_err err = bmb_tls_say(c, slices, count, taken);
    watch_below(c);
    return err;
}

static bmb_err say_lent(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, const bmb_slice *lent,
                        size_t *taken)
{
    if (conn_of(ctx, sock) != NULL) return say(ctx, sock, slices, count, taken); /* encrypted, it is a copy */
    return below(ctx)->net.send_lent(below(ctx)->ctx, sock, slices, count, lent, taken);
}

static uint32_t unacked(void *ctx, bmb_sock sock)
{
    return conn_of(ctx, sock) != NULL ? 0 : below(ctx)->net.unacked(below(ctx)->ctx, sock);
}

static bmb_err hear(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got)
{
    tls_conn *c = conn_of(ctx, sock);
    if (c == NULL) return below(ctx)->net.recv(below(ctx)->ctx, sock, out, room, got);
    bmb_err err = bmb_tls_hear(c, out, room, got);
    watch_below(c); /* an alert may wait to be sent */
    return err;
}

/* Once all is said that was taken. */
static void finish_below(tls_conn *c)
{
    const bmb_port *under = c->state->under;
    if (c->ended && c->ssl.out_left == 0 && under->net.finish != NULL) under->net.finish(under->ctx, c->sock);
}

static void finish(void *ctx, bmb_sock sock)
{
    tls_conn *c = conn_of(ctx, sock);
    if (c == NULL) {
        below(ctx)->net.finish(below(ctx)->ctx, sock);
        return;
    }
    bmb_tls_finish(c);
    finish_below(c);
    watch_below(c);
}

static void close_sock(void *ctx, bmb_sock sock)
{
    bmb_tls_state *s = state_of(ctx);
    tls_conn *c = conn_of(ctx, sock);
    for (size_t i = 0; s != NULL && i < BMB_TLS_LISTENERS; i++)
        if (s->listeners[i] == sock) s->listeners[i] = BMB_NO_SOCK;
    if (c == NULL) {
        below(ctx)->net.close(below(ctx)->ctx, sock);
        return;
    }
    bmb_tls_finish(c);
    if (c->phase == TLS_OPEN && c->ssl.out_left != 0) {
        c->phase = TLS_CLOSING;
        c->until_us = s->under->now_us(s->under->ctx) + CLOSING_US;
        watch_below(c);
    } else {
        bmb_tls_end(c);
    }
}

static bmb_err watch(void *ctx, bmb_sock sock, uint32_t events, uint32_t token)
{
    tls_conn *c = conn_of(ctx, sock);
    if (c == NULL) return below(ctx)->net.watch(below(ctx)->ctx, sock, events, token);
    c->events = (uint8_t)events;
    c->token = token;
    watch_below(c);
    return BMB_OK;
}

/* The loop. */

/* Something to do without the port below reporting anything. */
static bool is_ready(const tls_conn *c)
{
    return (c->phase == TLS_SHAKING && c->runnable) || c->phase == TLS_FAILED ||
           ((c->events & BMB_READABLE) != 0 && bmb_tls_has_more(c));
}

static void tend_closing(tls_conn *c, uint64_t now)
{
    if (bmb_tls_flush(c) || (c->heard & BMB_BROKEN) != 0 || now >= c->until_us) bmb_tls_end(c);
}

/* Handshakes take turns, and leave the time to others that a step of the device has for them. */
static void work(bmb_tls_state *s)
{
    uint64_t now = s->under->now_us(s->under->ctx), end = now + SHAKE_US;
    for (size_t i = 0; i < s->count; i++) {
        tls_conn *c = &s->conns[(s->turn + i) % s->count];
        if (c->phase == TLS_SHAKING && (c->runnable || c->heard != 0) && now < end) {
            bmb_tls_shake(c, end);
            now = s->under->now_us(s->under->ctx);
            c->heard &= (uint8_t)~BMB_READABLE; /* of the handshake */
            watch_below(c);
        } else if (c->phase == TLS_CLOSING) {
            tend_closing(c, now);
        } else if (c->phase == TLS_OPEN && c->ssl.out_left != 0 && (c->heard & BMB_WRITABLE) != 0) {
            if (bmb_tls_flush(c)) finish_below(c);
            watch_below(c);
        }
    }
    if (s->own && now >= s->look_us) {
        s->look_us = now + LOOK_US;
        if (bmb_tls_identity_ends(&s->identity, s)) (void)change_identity(s, NULL, NULL);
    }
}

static uint32_t events_of(const tls_conn *c)
{
    uint32_t events = 0;
    switch (c->phase) {
    case TLS_DIALLING:
        return c->heard;
    case TLS_FAILED:
        return BMB_BROKEN;
    case TLS_OPEN:
        if ((c->events & BMB_READABLE) != 0 && ((c->heard & (BMB_READABLE | BMB_BROKEN)) != 0 || bmb_tls_has_more(c)))
            events |= BMB_READABLE;
        if ((c->events & c->heard & BMB_WRITABLE) != 0 && c->ssl.out_left == 0) events |= BMB_WRITABLE;
        return events | (c->heard & BMB_BROKEN);
    default:
        return 0;
    }
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    bmb_tls_state *s = state_of(ctx);
    size_t n = below(ctx)->net.ready(below(ctx)->ctx, out, room), kept = 0;
    if (s == NULL) return n;
    for (size_t i = 0; i < n; i++) {
        size_t index = out[i].token & ~TOKEN;
        if ((out[i].token & TOKEN) == 0) {
            out[kept++] = out[i];
        } else if (index < s->count) {
            s->conns[index].heard |= (uint8_t)out[i].events;
        }
    }
    work(s);
    size_t turn = (s->turn + 1) % (s->count > 0 ? s->count : 1);
    for (size_t i = 0; i < s->count; i++) {
        tls_conn *c = &s->conns[(s->turn + i) % s->count];
        uint32_t events = c->phase != TLS_FREE ? events_of(c) : 0;
        c->heard = 0; /* the port below says it again */
        if (events == 0) continue;
        if (kept < room) {
            out[kept++] = (bmb_ready){ .token = c->token, .events = events };
        } else {
            turn = (s->turn + i) % s->count;
            break;
        }
    }
    s->turn = turn;
    return kept;
}

static void wait_below(void *ctx, uint64_t until_us)
{
    bmb_tls_state *s = state_of(ctx);
    for (size_t i = 0; s != NULL && i < s->count; i++) {
        const tls_conn *c = &s->conns[i];
        if (is_ready(c)) until_us = 0;
        if (c->phase == TLS_CLOSING && c->until_us < until_us) until_us = c->until_us;
    }
    below(ctx)->wait(below(ctx)->ctx, until_us);
}

bool bmb_tls_there(void)
{
    return true;
}

bmb_err bmb_tls_lay_over(bmb_tls *tls, const bmb_tls_config *config, bmb_port *out)
{
    *tls = (bmb_tls){ .config = *config };
    *out = *config->under;
    bmb_layer_put(&tls->layer, out);
    bmb_net *n = &out->net;
    out->hash = bmb_mbedtls_hash;
    out->wait = wait_below;
    n->accept = accept_below;
    if (n->dial != NULL) n->dial = dial_below;
    if (n->dialled != NULL) n->dialled = dialled;
    n->send = say;
    if (n->send_lent != NULL) n->send_lent = say_lent;
    if (n->unacked != NULL) n->unacked = unacked;
    n->recv = hear;
    if (n->finish != NULL) n->finish = finish;
    n->close = close_sock;
    n->watch = watch;
    n->ready = ready;
    out->encryption = (bmb_encryption){ .memory = memory_needed,
                                        .open = open_state,
                                        .close = close_state,
                                        .listen = listen_secure,
                                        .dial = dial_secure,
                                        .fingerprint = fingerprint };
    return BMB_OK;
}

bmb_err bmb_tls_use(bmb_tls *tls, const char *certificate, const char *key)
{
    return tls->state != NULL ? change_identity(tls->state, certificate, key) : BMB_BAD_ARG;
}

bmb_err bmb_tls_names_change(bmb_tls *tls, const char *const *names, size_t name_count, const bmb_addr *addresses,
                             size_t address_count)
{
    bmb_tls_state *s = tls->state;
    if (s == NULL) return BMB_BAD_ARG;
    tls->config.names = names;
    tls->config.name_count = name_count;
    tls->config.addresses = addresses;
    tls->config.address_count = address_count;
    return !s->own || bmb_tls_identity_names(&s->identity, s) ? BMB_OK : change_identity(s, NULL, NULL);
}

void bmb_tls_figures_get(const bmb_tls *tls, bmb_tls_figures *out)
{
    const bmb_tls_state *s = tls->state;
    *out = s != NULL ? s->figures : (bmb_tls_figures){ 0 };
    out->accepted_size = BMB_TLS_ACCEPTED;
    out->dialled_size = BMB_TLS_DIALLED;
    out->fixed_size = BMB_TLS_FIXED;
    if (s == NULL) return;
    out->fixed_most = s->fixed.most;
    for (const tls_conn *c = s->conns; c < s->conns + s->count; c++) {
        uint32_t *most = c->client ? &out->dialled_most : &out->accepted_most;
        if (c->phase != TLS_FREE && c->arena.most > *most) *most = c->arena.most;
    }
}
