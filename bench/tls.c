/* HTTPS: CPU per byte against another Mbed TLS that does nothing but encrypt the same bytes in records of the same size
 * and hand them to the system; and how long a handshake holds others up. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include <mbedtls/ctr_drbg.h>
#include <mbedtls/entropy.h>
#include <mbedtls/error.h>
#include <mbedtls/ssl.h>
#include <mbedtls/x509_crt.h>

#include "bambino/tls.h"
#include "rig.h"
#include "support/fake_port.h"

#define VIEWERS 20
#define FRAME 30000u
#define FRAMES_A_ROUND 6
#define ROUNDS 100
#define RECORD 4096u /* as ours are */

static uint8_t jpeg[FRAME + 64];
static size_t jpeg_size;
static mbedtls_ctr_drbg_context drbg;
static mbedtls_ssl_config as_client, as_server;

/* One end of a connection. */
typedef struct end {
    mbedtls_ssl_context ssl;
    int fd;
} end;

static int push_bytes(void *ctx, const unsigned char *data, size_t size)
{
    ssize_t n = send(((end *)ctx)->fd, data, size, MSG_DONTWAIT | MSG_NOSIGNAL);
    return n >= 0 ? (int)n : errno == EAGAIN ? MBEDTLS_ERR_SSL_WANT_WRITE : MBEDTLS_ERR_SSL_CONN_EOF;
}

static int pull_bytes(void *ctx, unsigned char *out, size_t room)
{
    ssize_t n = recv(((end *)ctx)->fd, out, room, MSG_DONTWAIT);
    return n >= 0 ? (int)n : errno == EAGAIN ? MBEDTLS_ERR_SSL_WANT_READ : MBEDTLS_ERR_SSL_CONN_EOF;
}

static void begin(end *e, int fd, const mbedtls_ssl_config *config)
{
    e->fd = fd;
    mbedtls_ssl_init(&e->ssl);
    if (mbedtls_ssl_setup(&e->ssl, config) != 0) abort();
    mbedtls_ssl_set_bio(&e->ssl, e, push_bytes, pull_bytes, NULL);
}

static bool shaken(end *e)
{
    int err = mbedtls_ssl_handshake(&e->ssl);
    if (err != 0 && err != MBEDTLS_ERR_SSL_WANT_READ && err != MBEDTLS_ERR_SSL_WANT_WRITE) abort();
    return err == 0;
}

/* A key and a certificate for the bare end. */
static void set_up(void)
{
    static mbedtls_entropy_context entropy;
    static mbedtls_pk_context key;
    static mbedtls_x509_crt certificate;
    static unsigned char der[2048];
    static const int suites[] = { MBEDTLS_TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, 0 };
    mbedtls_x509write_cert w;
    mbedtls_mpi serial;
    mbedtls_entropy_init(&entropy);
    mbedtls_ctr_drbg_init(&drbg);
    mbedtls_pk_init(&key);
    mbedtls_x509_crt_init(&certificate);
    mbedtls_x509write_crt_init(&w);
    mbedtls_mpi_init(&serial);
    int err = mbedtls_ctr_drbg_seed(&drbg, mbedtls_entropy_func, &entropy, NULL, 0);
    if (err == 0) err = mbedtls_pk_setup(&key, mbedtls_pk_info_from_type(MBEDTLS_PK_ECKEY));
    if (err == 0)
        err = mbedtls_ecp_gen_key(MBEDTLS_ECP_DP_SECP256R1, mbedtls_pk_ec(key), mbedtls_ctr_drbg_random, &drbg);
    mbedtls_x509write_crt_set_md_alg(&w, MBEDTLS_MD_SHA256);
    mbedtls_x509write_crt_set_subject_key(&w, &key);
    mbedtls_x509write_crt_set_issuer_key(&w, &key);
    if (err == 0) err = mbedtls_mpi_lset(&serial, 7);
    if (err == 0) err = mbedtls_x509write_crt_set_serial(&w, &serial);
    if (err == 0) err = mbedtls_x509write_crt_set_subject_name(&w, "CN=yard");
    if (err == 0) err = mbedtls_x509write_crt_set_issuer_name(&w, "CN=yard");
    if (err == 0) err = mbedtls_x509write_crt_set_validity(&w, "20260101000000", "20360101000000");
    int n = err == 0 ? mbedtls_x509write_crt_der(&w, der, sizeof der, mbedtls_ctr_drbg_random, &drbg) : -1;
    if (n <= 0 || mbedtls_x509_crt_parse_der(&certificate, der + sizeof der - n, (size_t)n) != 0) abort();
    for (int server = 0; server < 2; server++) {
        mbedtls_ssl_config *c = server ? &as_server : &as_client;
        mbedtls_ssl_config_init(c);
        if (mbedtls_ssl_config_defaults(c, server ? MBEDTLS_SSL_IS_SERVER : MBEDTLS_SSL_IS_CLIENT,
                                        MBEDTLS_SSL_TRANSPORT_STREAM, MBEDTLS_SSL_PRESET_DEFAULT) != 0)
            abort();
        mbedtls_ssl_conf_rng(c, mbedtls_ctr_drbg_random, &drbg);
        mbedtls_ssl_conf_authmode(c, MBEDTLS_SSL_VERIFY_NONE);
        mbedtls_ssl_conf_ciphersuites(c, suites);
    }
    if (mbedtls_ssl_conf_own_cert(&as_server, &certificate, &key) != 0) abort();
}

static bmb_tls tls[2];
static bmb_port under[2];

static void open_secure(rig *r, int which)
{
    rig_prepare(r, BMB_CODEC_JPEG, VIEWERS, 40000);
    under[which] = r->port;
    const bmb_tls_config config = { .under = &under[which], .name = "yard" };
    if (bmb_tls_lay_over(&tls[which], &config, &r->port) != BMB_OK) abort();
    r->outlets[0].secure = true;
    rig_start(r);
}

static void watch(rig *r, drain *d, end *viewers)
{
    static const unsigned char request[] = "GET /feed.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n";
    for (int i = 0; i < VIEWERS; i++) {
        begin(&viewers[i], dial(r->http), &as_client);
        while (!shaken(&viewers[i])) rig_run(r, 500);
        if (mbedtls_ssl_write(&viewers[i].ssl, request, sizeof request - 1) <= 0) abort();
        drain_add(d, viewers[i].fd); /* which reads what it cannot understand */
        rig_run(r, 2000);
    }
    rig_run(r, 50000);
}

/* Connections of the bare end with itself. */
static void connect_bare(end *servers, drain *d)
{
    static end client;
    struct sockaddr_storage at = { 0 };
    socklen_t size = sizeof at;
    int listener = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (listen(listener, VIEWERS) != 0 || getsockname(listener, (struct sockaddr *)&at, &size) != 0) abort();
    for (int i = 0; i < VIEWERS; i++) {
        int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (connect(fd, (struct sockaddr *)&at, size) != 0) abort();
        begin(&client, fd, &as_client);
        begin(&servers[i], accept(listener, NULL, NULL), &as_server);
        for (bool a = false, b = false; !a || !b;) {
            if (!a) a = shaken(&client);
            if (!b) b = shaken(&servers[i]);
        }
        drain_add(d, fd);
    }
    close(listener);
}

static double floor_of(end *servers, const drain *d)
{
    static uint8_t frame[FRAME + 400];
    size_t size = (size_t)snprintf((char *)frame, 200,
                                   "Content-Type: image/jpeg\r\nContent-Length: 30000\r\nFrame-Number: 100\r\n"
                                   "Frame-Captured-Us: 1790000000000000 unix\r\n\r\n");
    memcpy(frame + size, jpeg, jpeg_size);
    size += jpeg_size;
    uint64_t cpu = 0;
    unsigned long long bytes = 0, start = atomic_load(&d->bytes);
    for (int k = 0; k < FRAMES_A_ROUND; k++) {
        uint64_t before = thread_cpu_ns();
        for (int i = 0; i < VIEWERS; i++)
            for (size_t at = 0; at < size; at += RECORD) {
                size_t n = size - at < RECORD ? size - at : RECORD;
                if (mbedtls_ssl_write(&servers[i].ssl, frame + at, n) != (int)n) abort();
            }
        cpu += thread_cpu_ns() - before;
        bytes += size * VIEWERS;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}

void bench_tls(void)
{
    static rig r;
    static end viewers[VIEWERS], servers[VIEWERS];
    static double mine[ROUNDS], least[ROUNDS];
    drain d;
    bmb_tls_figures f;
    if (!bmb_tls_there()) return;
    jpeg_size = fake_jpeg(jpeg, 640, 480, FRAME);
    set_up();
    open_secure(&r, 0);
    drain_start(&d);
    watch(&r, &d, viewers);
    connect_bare(servers, &d);
    (void)rig_cost(&r, &d, jpeg, jpeg_size, true, FRAMES_A_ROUND);
    (void)floor_of(servers, &d);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = rig_cost(&r, &d, jpeg, jpeg_size, true, FRAMES_A_ROUND);
        least[i] = floor_of(servers, &d);
    }
    result_of_turns("MJPEG over HTTPS, 20 viewers: CPU, ns a byte", "ns/byte", mine, least, ROUNDS, 1.25);
    bmb_tls_figures_get(&tls[0], &f);
    result("Longest step of 20 handshakes", "ms", f.step_us / 1000.0, 0, 5.0);
    result("RAM of one more HTTPS viewer for its encryption", "bytes", (double)r.budget.per_viewer_tls, 0, 16384);
    drain_stop(&d);
    rig_close(&r);
}
