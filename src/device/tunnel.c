/* RTSP tunnelled in HTTP, for clients behind proxies: two connections with the same x-sessioncookie. A GET is answered
 * with a document that does not end, and carries everything from here to the client; a POST carries the requests, in
 * base64. The first one goes on as an RTSP connection, whose requests come out of the second one's buffer.
 */
#include <string.h>

#include "device/state.h"

#define TUNNEL_TYPE "application/x-rtsp-tunnelled"

static uint16_t number_of(const bmb_device *d, const bmb_conn *c)
{
    return (uint16_t)(c - d->conns + 1);
}

static bmb_conn *partner(const bmb_device *d, uint16_t number)
{
    return number != 0 ? &d->conns[number - 1] : NULL;
}

static bool begin_get(bmb_device *d, bmb_conn *c, uint32_t cookie)
{
    const bmb_http_terms terms =
        bmb_conn_terms(d, false, true, false); /* old: its end is the connection's, no chunks */
    bmb_conn_turn(d, c, BMB_CONN_RTSP);
    c->rx_size = 0; /* whatever came behind the request is no RTSP */
    c->cookie = cookie;
    c->active = true;
    bmb_writer w = bmb_writer_of(c->tx, d->tx_room);
    bmb_http_head(&w, 200, TUNNEL_TYPE, SIZE_MAX, &terms);
    c->tx_size = (uint16_t)bmb_written(&w);
    bmb_rtsp_conversation.flush(d, c);
    return true;
}

/* The cookie is a secret between the client and us; that both come from one host is asked besides. */
static bmb_conn *find_get(const bmb_device *d, const bmb_conn *post, uint32_t cookie)
{
    for (uint16_t i = 0; i < d->conn_used; i++) {
        bmb_conn *c = &d->conns[i];
        bool tunnel = c->state != BMB_CONN_FREE && c->state != BMB_CONN_DRAINING && c->kind == BMB_CONN_RTSP &&
                      c->cookie == cookie;
        if (tunnel && bmb_same_host(&c->peer, &post->peer)) return c;
    }
    return NULL;
}

bool bmb_tunnel_begin(bmb_device *d, bmb_conn *c, bmb_http_method method, uint32_t cookie)
{
    if (d->session_most == 0) return false;
    if (method == BMB_HTTP_GET) return begin_get(d, c, cookie);
    bmb_conn *get = find_get(d, c, cookie);
    if (get == NULL) return false;
    bmb_conn *former = partner(d, get->post);
    if (former != NULL) bmb_conn_close(d, former); /* some clients begin a new one for each request */
    bmb_conn_turn(d, c, BMB_CONN_POST);
    c->tunnel.get = number_of(d, get);
    get->post = number_of(d, c);
    bmb_rtsp_conversation.receive(d, get);
    return true;
}

static int value_of(uint8_t c)
{
    if (c >= 'A' && c <= 'Z') return c - 'A';
    if (c >= 'a' && c <= 'z') return c - 'a' + 26;
    if (c >= '0' && c <= '9') return c - '0' + 52;
    return c == '+' ? 62 : c == '/' ? 63 : -1;
}

/* One character of base64 (RFC 4648 4); what is none, such as line ends, is passed over. A group may end early with
 * '=', and another one begin: each request is encoded by itself. Returns how many bytes it completed. */
static size_t decode(bmb_conn *post, uint8_t c, uint8_t out[3])
{
    int value = value_of(c);
    uint8_t digits = post->tunnel.digits;
    uint32_t group = post->tunnel.group;
    if (value < 0 && c != '=') return 0;
    if (value >= 0) {
        group = group << 6 | (uint32_t)value;
        digits++;
    }
    bool whole = digits == 4 || (value < 0 && digits > 0);
    post->tunnel.digits = whole ? 0 : digits;
    post->tunnel.group = whole ? 0 : group;
    if (!whole) return 0;
    group <<= 6 * (4 - digits);
    for (unsigned i = 0; i < 3; i++) out[i] = (uint8_t)(group >> (16 - 8 * i));
    return digits - 1u;
}

void bmb_tunnel_pull(bmb_device *d, bmb_conn *get)
{
    bmb_conn *post = partner(d, get->post);
    if (post == NULL) return;
    size_t used = 0;
    while (used < post->rx_size && d->rx_room - get->rx_size >= 3) {
        uint8_t bytes[3];
        size_t n = decode(post, post->rx[used++], bytes);
        memcpy(get->rx + get->rx_size, bytes, n);
        get->rx_size = (uint16_t)(get->rx_size + n);
    }
    memmove(post->rx, post->rx + used, post->rx_size - used);
    post->rx_size = (uint16_t)(post->rx_size - used);
    if (used > 0) post->since_us = d->now;
    bmb_conn_await(d, post, false); /* there is room again */
}

void bmb_tunnel_closed(bmb_device *d, bmb_conn *get)
{
    bmb_conn *post = partner(d, get->post);
    get->post = 0;
    if (post == NULL) return;
    post->tunnel.get = 0;
    bmb_conn_close(d, post);
}

static void open_post(bmb_device *d, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    bmb_conn_await(d, c, false);
}

static void receive_post(bmb_device *d, bmb_conn *c)
{
    bmb_conn *get = partner(d, c->tunnel.get);
    if (get != NULL && get->state == BMB_CONN_READING) bmb_rtsp_conversation.receive(d, get);
}

static void flush_post(bmb_device *d, bmb_conn *c)
{
    (void)d;
    (void)c; /* nothing is said here */
}

/* It lives as long as the other half; a part of a request that is not completed is that one's to bound. */
static void sweep_post(bmb_device *d, bmb_conn *c)
{
    if (c->tunnel.get == 0) bmb_conn_close(d, c);
}

/* A client may end it and begin another one. */
static void closed_post(bmb_device *d, bmb_conn *c)
{
    bmb_conn *get = partner(d, c->tunnel.get);
    if (get == NULL) return;
    get->post = 0;
    get->since_us = d->now;
}

static bool idle_post(const bmb_device *d, const bmb_conn *c)
{
    (void)d;
    (void)c;
    return false;
}

static bmb_viewer *viewer_of_post(const bmb_device *d, const bmb_conn *c, unsigned n)
{
    (void)d;
    (void)c;
    (void)n;
    return NULL;
}

const bmb_conversation bmb_post_conversation = { .open = open_post,
                                                 .receive = receive_post,
                                                 .flush = flush_post,
                                                 .sweep = sweep_post,
                                                 .closed = closed_post,
                                                 .idle = idle_post,
                                                 .viewer = viewer_of_post };
