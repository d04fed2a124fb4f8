#include "talk/tunnel.h"

#include <string.h>

#include "base/base64.h"

#define TUNNEL_TYPE "application/x-rtsp-tunnelled"

static bool begin_get(bmb_talk *t, bmb_conn *c, uint32_t cookie)
{
    const bmb_http_terms terms =
        bmb_conn_terms(t, false, true, false); /* old: its end is the connection's, no chunks */
    bmb_conn_turn(t, c, BMB_CONN_RTSP);
    c->rx_size = 0; /* whatever came behind the request is no RTSP */
    c->cookie = cookie;
    c->active = true;
    bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
    bmb_http_head(&w, 200, TUNNEL_TYPE, SIZE_MAX, &terms);
    c->tx_size = (uint16_t)bmb_written(&w);
    t->kinds[BMB_CONN_RTSP]->flush(t, c);
    return true;
}

/* The cookie is a secret between the client and us; that both come from one host is asked besides. */
static bmb_conn *find_get(const bmb_talk *t, const bmb_conn *post, uint32_t cookie)
{
    for (uint16_t i = 0; i < t->conn_used; i++) {
        bmb_conn *c = &t->conns[i];
        bool tunnel = c->state != BMB_CONN_FREE && c->state != BMB_CONN_DRAINING && c->kind == BMB_CONN_RTSP &&
                      c->cookie == cookie;
        if (tunnel && bmb_same_host(&c->peer, &post->peer)) return c;
    }
    return NULL;
}

bool bmb_tunnel_begin(bmb_talk *t, bmb_conn *c, bmb_http_method method, uint32_t cookie)
{
    if (t->session_most == 0) return false;
    if (method == BMB_HTTP_GET) return begin_get(t, c, cookie);
    bmb_conn *get = find_get(t, c, cookie);
    if (get == NULL) return false;
    bmb_conn *former = bmb_conn_at(t, get->post);
    if (former != NULL) bmb_conn_close(t, former); /* some clients begin a new one for each request */
    bmb_conn_turn(t, c, BMB_CONN_POST);
    c->tunnel.get = bmb_conn_number(t, get);
    get->post = bmb_conn_number(t, c);
    t->kinds[BMB_CONN_RTSP]->receive(t, get);
    return true;
}

/* One character of base64 (RFC 4648 4); what is none, such as line ends, is passed over. A group may end early with
 * '=', and another one begin: each request is encoded by itself. Returns how many bytes it completed. */
static size_t decode(bmb_conn *post, uint8_t c, uint8_t out[3])
{
    int value = bmb_base64_value((char)c);
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

void bmb_tunnel_pull(bmb_talk *t, bmb_conn *get)
{
    bmb_conn *post = bmb_conn_at(t, get->post);
    if (post == NULL) return;
    size_t used = 0;
    while (used < post->rx_size && t->rx_room - get->rx_size >= 3) {
        uint8_t bytes[3];
        size_t n = decode(post, post->rx[used++], bytes);
        memcpy(get->rx + get->rx_size, bytes, n);
        get->rx_size = (uint16_t)(get->rx_size + n);
    }
    memmove(post->rx, post->rx + used, post->rx_size - used);
    post->rx_size = (uint16_t)(post->rx_size - used);
    if (used > 0) post->since_us = t->x->now;
    bmb_conn_await(t, post, false); /* there is room again */
}

void bmb_tunnel_closed(bmb_talk *t, bmb_conn *get)
{
    bmb_conn *post = bmb_conn_at(t, get->post);
    get->post = 0;
    if (post == NULL) return;
    post->tunnel.get = 0;
    bmb_conn_close(t, post);
}

static void open_post(bmb_talk *t, bmb_conn *c)
{
    c->state = BMB_CONN_READING;
    bmb_conn_await(t, c, false);
}

static void receive_post(bmb_talk *t, bmb_conn *c)
{
    bmb_conn *get = bmb_conn_at(t, c->tunnel.get);
    if (get != NULL && get->state == BMB_CONN_READING) t->kinds[BMB_CONN_RTSP]->receive(t, get);
}

static void flush_post(bmb_talk *t, bmb_conn *c)
{
    (void)t;
    (void)c; /* nothing is said here */
}

static uint64_t due_post(const bmb_talk *t, const bmb_conn *c)
{
    return c->tunnel.get == 0 ? t->x->now : UINT64_MAX;
}

/* It lives as long as the other half; a part of a request that is not completed is that one's to bound. */
static void sweep_post(bmb_talk *t, bmb_conn *c)
{
    if (c->tunnel.get == 0) bmb_conn_close(t, c);
}

/* A client may end it and begin another one. */
static void closed_post(bmb_talk *t, bmb_conn *c)
{
    bmb_conn *get = bmb_conn_at(t, c->tunnel.get);
    if (get == NULL) return;
    get->post = 0;
    get->since_us = t->x->now;
    bmb_conn_schedule(t, get);
}

static bool idle_post(const bmb_conn *c)
{
    (void)c;
    return false;
}

static bmb_feed *watches_of_post(const bmb_talk *t, const bmb_conn *c)
{
    (void)t;
    (void)c;
    return NULL;
}

const bmb_conversation bmb_post_conversation = { .open = open_post,
                                                 .receive = receive_post,
                                                 .flush = flush_post,
                                                 .due = due_post,
                                                 .sweep = sweep_post,
                                                 .closed = closed_post,
                                                 .idle = idle_post,
                                                 .watches = watches_of_post };
