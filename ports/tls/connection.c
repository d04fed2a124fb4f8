/* One encrypted connection. */
#include <string.h>

#include <mbedtls/ssl_internal.h>

#include "tls/state.h"

#define TAKE_MOST 65536u /* bytes that one call takes of a peer, whatever he sends: others wait meanwhile */
#define SAY_MOST 65536u  /* bytes that one call encrypts */
#define TELL_MOST 5u     /* failures that are told, one soon after the other … */
#define TELL_US 1000000u /* … and then none before so long nothing was told */

static int send_below(void *ctx, const unsigned char *data, size_t size)
{
    const tls_conn *c = (const tls_conn *)ctx;
    const bmb_port *under = c->state->under;
    const bmb_slice slice = { data, size };
    size_t taken = 0;
    bmb_err err = under->net.send(under->ctx, c->sock, &slice, 1, &taken);
    if (err == BMB_OK && taken > 0) return (int)taken;
    return err == BMB_OK || err == BMB_AGAIN ? MBEDTLS_ERR_SSL_WANT_WRITE : MBEDTLS_ERR_SSL_CONN_EOF;
}

static int receive_below(void *ctx, unsigned char *out, size_t room)
{
    tls_conn *c = (tls_conn *)ctx;
    const bmb_port *under = c->state->under;
    size_t got = 0;
    if (room > c->room) room = c->room;
    if (room == 0) return MBEDTLS_ERR_SSL_WANT_READ;
    bmb_err err = under->net.recv(under->ctx, c->sock, out, room, &got);
    if (err == BMB_AGAIN || (err == BMB_OK && got == 0)) return MBEDTLS_ERR_SSL_WANT_READ;
    if (err != BMB_OK) return MBEDTLS_ERR_SSL_CONN_EOF;
    c->room -= (uint32_t)got;
    /* Somebody who speaks something else, most often HTTP, is not to be waited for until he has said a record's worth.
     */
    if (!c->spoke && out[0] != MBEDTLS_SSL_MSG_HANDSHAKE && out[0] != MBEDTLS_SSL_MSG_ALERT)
        return MBEDTLS_ERR_SSL_INVALID_RECORD;
    c->spoke = true;
    return (int)got;
}

static void enter(tls_conn *c)
{
    c->room = TAKE_MOST;
    (void)bmb_tls_enter(c->state, &c->arena);
}

static void fail(tls_conn *c, bmb_err why)
{
    c->phase = TLS_FAILED;
    c->why = why;
    c->runnable = false;
}

/* Whose certificate it is, is all that counts: there is nobody who vouches for boards. */
static int verify(void *ctx, mbedtls_x509_crt *crt, int depth, uint32_t *flags)
{
    tls_conn *c = (tls_conn *)ctx;
    uint8_t sum[32], differ = 0;
    *flags = 0;
    if (depth != 0) return 0;
    bmb_tls_fingerprint(crt, sum);
    for (size_t i = 0; i < sizeof sum; i++) differ |= (uint8_t)(sum[i] ^ c->pin[i]);
    c->trusted = differ == 0;
    return 0; /* judged when the handshake is over */
}

/* The library makes its key of this handshake and signs it at one go: the signature is put off to the next step. */
int bmb_tls_sign_later(mbedtls_ssl_context *ssl, mbedtls_x509_crt *crt, mbedtls_md_type_t md, const unsigned char *sum,
                       size_t size)
{
    tls_conn *c = (tls_conn *)ssl->p_bio;
    (void)crt;
    if (size > sizeof c->to_sign) return MBEDTLS_ERR_SSL_INTERNAL_ERROR;
    memcpy(c->to_sign, sum, size);
    c->to_sign_size = (uint8_t)size;
    c->to_sign_md = (uint8_t)md;
    return MBEDTLS_ERR_SSL_ASYNC_IN_PROGRESS;
}

int bmb_tls_sign_now(mbedtls_ssl_context *ssl, unsigned char *out, size_t *size, size_t room)
{
    tls_conn *c = (tls_conn *)ssl->p_bio;
    bmb_tls_state *s = c->state;
    (void)room; /* the library's own, for the largest key there is */
    return mbedtls_pk_sign(&s->identity.key, (mbedtls_md_type_t)c->to_sign_md, c->to_sign, c->to_sign_size, out, size,
                           bmb_tls_random, s);
}

bmb_err bmb_tls_begin(tls_conn *c, bmb_sock sock, bool client, const uint8_t *pin)
{
    bmb_tls_state *s = c->state;
    uint8_t *memory = c->arena.memory;
    *c = (tls_conn){ .sock = sock, .client = client, .state = s, .phase = client ? TLS_DIALLING : TLS_SHAKING };
    bmb_arena_init(&c->arena, memory, client ? BMB_TLS_DIALLED : BMB_TLS_ACCEPTED);
    if (pin != NULL) memcpy(c->pin, pin, sizeof c->pin);
    c->pinned = pin != NULL;
    mbedtls_ssl_init(&c->ssl);
    enter(c);
    int err = mbedtls_ssl_setup(&c->ssl, client ? &s->client : &s->server);
    if (err == 0) {
        mbedtls_ssl_set_bio(&c->ssl, c, send_below, receive_below, NULL);
        if (client && pin != NULL) mbedtls_ssl_set_verify(&c->ssl, verify, c);
    } else {
        mbedtls_ssl_free(&c->ssl);
        c->phase = TLS_FREE;
    }
    bmb_arena_leave();
    return err == 0 ? BMB_OK : BMB_NO_MEMORY;
}

/* In words for those who set it up. */
static const char *reason_of(const tls_conn *c, int err)
{
    if (c->arena.failed) return "it needs more memory than a connection has";
    switch (err) {
    case MBEDTLS_ERR_SSL_INVALID_RECORD:
        return !c->spoke ? "it does not speak TLS: is the address meant for the port without encryption?"
                         : "its records are larger than what is taken here, or damaged";
    case MBEDTLS_ERR_SSL_FATAL_ALERT_MESSAGE:
        switch (c->ssl.in_msg[1]) {
        case MBEDTLS_SSL_ALERT_MSG_BAD_CERT:
        case MBEDTLS_SSL_ALERT_MSG_UNSUPPORTED_CERT:
        case MBEDTLS_SSL_ALERT_MSG_CERT_EXPIRED:
        case MBEDTLS_SSL_ALERT_MSG_CERT_UNKNOWN:
        case MBEDTLS_SSL_ALERT_MSG_UNKNOWN_CA:
        case MBEDTLS_SSL_ALERT_MSG_ACCESS_DENIED:
            return "it does not trust the certificate: compare the fingerprint, and tell it to";
        default:
            return "it gave up";
        }
    case MBEDTLS_ERR_SSL_BAD_HS_PROTOCOL_VERSION:
        return "it speaks no TLS 1.2";
    case MBEDTLS_ERR_SSL_NO_CIPHER_CHOSEN:
        return "it has no cipher in common with us";
    case MBEDTLS_ERR_X509_CERT_VERIFY_FAILED:
        return "its certificate has another fingerprint than the one that is expected";
    default:
        return "its handshake is wrong";
    }
}

static void tell(const tls_conn *c, int err)
{
    bmb_tls_state *s = c->state;
    const bmb_port *under = s->under;
    uint64_t now = under->now_us(under->ctx);
    s->figures.failed++;
    if (now - s->told_us >= TELL_US) s->told = 0;
    /* A peer that just goes says nothing about us. */
    if (under->log == NULL || err == MBEDTLS_ERR_SSL_CONN_EOF || s->told == TELL_MOST) return;
    s->told++;
    s->told_us = now;
    under->log(under->ctx, &(bmb_event){ .level = BMB_LEVEL_WARNING,
                                         .code = BMB_EVENT_HANDSHAKE_FAILED,
                                         .err = c->why,
                                         .peer = &c->peer,
                                         .value = -err,
                                         .text = reason_of(c, err) });
}

static void opened(tls_conn *c)
{
    c->runnable = false;
    if (c->client && c->pinned && !c->trusted) { /* nothing was said to him yet */
        fail(c, BMB_DENIED);
        tell(c, MBEDTLS_ERR_X509_CERT_VERIFY_FAILED);
        return;
    }
    c->phase = TLS_OPEN;
    c->state->figures.resumed += c->resumed;
    c->state->figures.handshakes++;
}

void bmb_tls_shake(tls_conn *c, uint64_t until_us)
{
    bmb_tls_state *s = c->state;
    const bmb_port *under = s->under;
    uint64_t now = under->now_us(under->ctx), before;
    int err;
    enter(c);
    do {
        before = now;
        err = mbedtls_ssl_handshake_step(&c->ssl);
        if (err == MBEDTLS_ERR_SSL_ASYNC_IN_PROGRESS) err = 0;
        now = under->now_us(under->ctx);
        if (now - before > s->figures.step_us) s->figures.step_us = (uint32_t)(now - before);
        if (c->ssl.handshake != NULL) c->resumed = c->ssl.handshake->resume != 0;
    } while (err == 0 && c->ssl.state != MBEDTLS_SSL_HANDSHAKE_OVER && now < until_us);
    c->runnable = err == 0;
    if (err == 0 && c->ssl.state == MBEDTLS_SSL_HANDSHAKE_OVER) {
        opened(c);
    } else if (err != 0 && err != MBEDTLS_ERR_SSL_WANT_READ && err != MBEDTLS_ERR_SSL_WANT_WRITE) {
        fail(c, err == MBEDTLS_ERR_SSL_CONN_EOF ? BMB_GONE : BMB_REFUSED);
        tell(c, err);
    }
    bmb_arena_leave();
}

/* As much as becomes one record; *at and *offset go on behind it. */
static size_t gather(bmb_tls_state *s, size_t most, const bmb_slice *slices, size_t count, size_t *at, size_t *offset)
{
    size_t n = 0;
    while (*at < count && n < most) {
        size_t part = slices[*at].size - *offset;
        if (part > most - n) part = most - n;
        if (part > 0) memcpy(s->record + n, (const uint8_t *)slices[*at].data + *offset, part);
        n += part;
        *offset += part;
        if (*offset < slices[*at].size) break;
        (*at)++;
        *offset = 0;
    }
    return n;
}

bmb_err bmb_tls_say(tls_conn *c, const bmb_slice *slices, size_t count, size_t *taken)
{
    size_t at = 0, offset = 0, n;
    *taken = 0;
    if (c->phase < TLS_OPEN) return BMB_AGAIN;
    if (c->phase != TLS_OPEN || c->finishing) return BMB_GONE;
    enter(c);
    int err = mbedtls_ssl_flush_output(&c->ssl);
    int most = mbedtls_ssl_get_max_out_record_payload(&c->ssl);
    if (most > (int)sizeof c->state->record) most = (int)sizeof c->state->record;
    /* A record that the port below does not take at once is kept, and goes with the next: it counts as taken. */
    while (err == 0 && most > 0 && *taken < SAY_MOST &&
           (n = gather(c->state, (size_t)most, slices, count, &at, &offset)) > 0) {
        err = mbedtls_ssl_write(&c->ssl, c->state->record, n);
        if (err > 0 || err == MBEDTLS_ERR_SSL_WANT_WRITE) *taken += n;
        if (err > 0) err = 0;
    }
    bmb_arena_leave();
    if (err != 0 && err != MBEDTLS_ERR_SSL_WANT_WRITE) {
        fail(c, BMB_GONE);
        return *taken > 0 ? BMB_OK : BMB_GONE;
    }
    return *taken > 0 || err == 0 ? BMB_OK : BMB_AGAIN;
}

bmb_err bmb_tls_hear(tls_conn *c, void *out, size_t room, size_t *got)
{
    *got = 0;
    if (c->phase < TLS_OPEN) return BMB_AGAIN;
    if (c->phase != TLS_OPEN) return BMB_GONE;
    enter(c);
    int n = mbedtls_ssl_read(&c->ssl, (unsigned char *)out, room);
    bmb_arena_leave();
    if (n > 0) {
        *got = (size_t)n;
        return BMB_OK;
    }
    if (n == MBEDTLS_ERR_SSL_WANT_READ || n == MBEDTLS_ERR_SSL_WANT_WRITE) return BMB_AGAIN;
    if (n != MBEDTLS_ERR_SSL_PEER_CLOSE_NOTIFY) fail(c, BMB_GONE); /* he may still listen */
    return BMB_GONE;
}

/* Once, behind all else: without it, it might be somebody else who cut the connection off. */
static int say_the_end(tls_conn *c)
{
    if (c->ended) return 0;
    c->ended = true;
    return mbedtls_ssl_close_notify(&c->ssl);
}

bool bmb_tls_flush(tls_conn *c)
{
    if (c->ssl.out_left == 0) return true;
    enter(c);
    int err = mbedtls_ssl_flush_output(&c->ssl);
    if (err == 0 && c->finishing) err = say_the_end(c);
    bmb_arena_leave();
    if (err != 0 && err != MBEDTLS_ERR_SSL_WANT_WRITE && c->phase == TLS_OPEN) fail(c, BMB_GONE);
    return err != MBEDTLS_ERR_SSL_WANT_WRITE;
}

bool bmb_tls_has_more(const tls_conn *c)
{
    return c->phase == TLS_OPEN && mbedtls_ssl_check_pending(&c->ssl) != 0;
}

void bmb_tls_finish(tls_conn *c)
{
    if (c->phase != TLS_OPEN || c->finishing) return;
    c->finishing = true;
    enter(c);
    if (mbedtls_ssl_flush_output(&c->ssl) == 0) (void)say_the_end(c);
    bmb_arena_leave();
}

void bmb_tls_end(tls_conn *c)
{
    const bmb_port *under = c->state->under;
    bmb_tls_state *s = c->state;
    under->net.close(under->ctx, c->sock);
    enter(c);
    mbedtls_ssl_free(&c->ssl);
    bmb_arena_leave();
    uint32_t *most = c->client ? &s->figures.dialled_most : &s->figures.accepted_most;
    if (c->arena.most > *most) *most = c->arena.most;
    s->figures.strays += c->arena.count;
    c->phase = TLS_FREE;
    c->sock = BMB_NO_SOCK;
}
