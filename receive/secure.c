#include "receive/secure.h"

#include <errno.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#ifdef RECEIVE_WITH_TLS

#include <mbedtls/ctr_drbg.h>
#include <mbedtls/entropy.h>
#include <mbedtls/sha256.h>
#include <mbedtls/ssl.h>

struct line_secure {
    mbedtls_ssl_context ssl;
    mbedtls_ssl_config config;
    mbedtls_entropy_context entropy;
    mbedtls_ctr_drbg_context random;
    int fd;
};

bool secure_there(void)
{
    return true;
}

static int put(void *ctx, const unsigned char *data, size_t size)
{
    ssize_t n = send(((line_secure *)ctx)->fd, data, size, MSG_NOSIGNAL);
    if (n >= 0) return (int)n;
    return errno == EAGAIN || errno == EINTR ? MBEDTLS_ERR_SSL_WANT_WRITE : MBEDTLS_ERR_SSL_INTERNAL_ERROR;
}

static int get(void *ctx, unsigned char *out, size_t room)
{
    ssize_t n = recv(((line_secure *)ctx)->fd, out, room, 0);
    if (n >= 0) return (int)n;
    return errno == EAGAIN || errno == EINTR ? MBEDTLS_ERR_SSL_WANT_READ : MBEDTLS_ERR_SSL_INTERNAL_ERROR;
}

/* Waits for what the library wants; false: it has failed, or it takes too long. */
static bool wait_more(const line_secure *s, int result, uint64_t end)
{
    uint64_t now = line_now_us();
    if ((result != MBEDTLS_ERR_SSL_WANT_READ && result != MBEDTLS_ERR_SSL_WANT_WRITE) || now >= end) return false;
    struct pollfd p = { .fd = s->fd, .events = result == MBEDTLS_ERR_SSL_WANT_READ ? POLLIN : POLLOUT };
    return poll(&p, 1, (int)((end - now) / 1000 + 1)) >= 0;
}

static void tell(line *l, const line_secure *s)
{
    const mbedtls_x509_crt *peer = mbedtls_ssl_get_peer_cert(&s->ssl);
    uint8_t sum[32];
    snprintf(l->cipher, sizeof l->cipher, "%s", mbedtls_ssl_get_version(&s->ssl));
    if (peer == NULL || mbedtls_sha256_ret(peer->raw.p, peer->raw.len, sum, 0) != 0) return;
    for (unsigned i = 0; i < sizeof sum; i++)
        snprintf(l->fingerprint + 3 * i, sizeof l->fingerprint - 3 * i, i + 1 < sizeof sum ? "%02X:" : "%02X", sum[i]);
}

line_secure *secure_begin(line *l, const char *host, int wait_ms)
{
    line_secure *s = calloc(1, sizeof *s);
    if (s == NULL) return NULL;
    uint64_t end = line_now_us() + (uint64_t)wait_ms * 1000u;
    int result;
    s->fd = l->fd;
    mbedtls_ssl_init(&s->ssl);
    mbedtls_ssl_config_init(&s->config);
    mbedtls_entropy_init(&s->entropy);
    mbedtls_ctr_drbg_init(&s->random);
    bool ready = mbedtls_ctr_drbg_seed(&s->random, mbedtls_entropy_func, &s->entropy, NULL, 0) == 0 &&
                 mbedtls_ssl_config_defaults(&s->config, MBEDTLS_SSL_IS_CLIENT, MBEDTLS_SSL_TRANSPORT_STREAM,
                                             MBEDTLS_SSL_PRESET_DEFAULT) == 0;
    mbedtls_ssl_conf_authmode(&s->config, MBEDTLS_SSL_VERIFY_NONE);
    mbedtls_ssl_conf_rng(&s->config, mbedtls_ctr_drbg_random, &s->random);
    ready = ready && mbedtls_ssl_setup(&s->ssl, &s->config) == 0 && mbedtls_ssl_set_hostname(&s->ssl, host) == 0;
    mbedtls_ssl_set_bio(&s->ssl, s, put, get, NULL);
    while (ready && (result = mbedtls_ssl_handshake(&s->ssl)) != 0) ready = wait_more(s, result, end);
    if (ready) {
        tell(l, s);
        return s;
    }
    secure_end(s);
    return NULL;
}

int secure_send(line_secure *s, const void *data, size_t size)
{
    uint64_t end = line_now_us() + 5000000u;
    int n;
    while ((n = mbedtls_ssl_write(&s->ssl, data, size)) < 0)
        if (!wait_more(s, n, end)) return -1;
    return n;
}

int secure_recv(line_secure *s, void *out, size_t room)
{
    int n = mbedtls_ssl_read(&s->ssl, out, room);
    if (n == MBEDTLS_ERR_SSL_WANT_READ || n == MBEDTLS_ERR_SSL_WANT_WRITE) return -2;
    if (n == MBEDTLS_ERR_SSL_PEER_CLOSE_NOTIFY) return 0;
    return n < 0 ? -1 : n;
}

bool secure_has(const line_secure *s)
{
    return mbedtls_ssl_check_pending(&s->ssl) != 0;
}

void secure_end(line_secure *s)
{
    (void)mbedtls_ssl_close_notify(&s->ssl);
    mbedtls_ssl_free(&s->ssl);
    mbedtls_ssl_config_free(&s->config);
    mbedtls_ctr_drbg_free(&s->random);
    mbedtls_entropy_free(&s->entropy);
    free(s);
}

#else

bool secure_there(void)
{
    return false;
}

line_secure *secure_begin(line *l, const char *host, int wait_ms)
{
    (void)l, (void)host, (void)wait_ms;
    return NULL;
}

int secure_send(line_secure *s, const void *data, size_t size)
{
    (void)s, (void)data, (void)size;
    return -1;
}

int secure_recv(line_secure *s, void *out, size_t room)
{
    (void)s, (void)out, (void)room;
    return -1;
}

bool secure_has(const line_secure *s)
{
    (void)s;
    return false;
}

void secure_end(line_secure *s)
{
    (void)s;
}

#endif
