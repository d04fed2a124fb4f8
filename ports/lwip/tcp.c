/* Streams over lwIP's TCP. */
#include <lwip/ip.h>

#include "lwip/state.h"

#define STARVED_MS 20u /* a connection that lwIP had no memory for is tried again after, if none was given back */
#define BACKLOG 8u
#define KEEP_IDLE_MS 20000u /* a peer that lost its power says nothing; while no frames flow nothing is said to it */
#define KEEP_BETWEEN_MS 5000u
#define KEEP_TRIES 4u

static void failed(void *arg, err_t err)
{
    sock *s = (sock *)arg;
    s->tcp = NULL; /* lwIP has freed it */
    s->why = err;
    s->broken = true;
    s->self->freed++;
    if (s->waits || s->kind == SOCK_ENDING) bmb_lwip_free(s); /* nobody has heard of it, or wants to */
}

/* A peer that sends byte by byte would take a whole buffer of the pool for each. */
static bool put_together(sock *s)
{
    if (pbuf_clen(s->in) <= BMB_LWIP_PIECES) return true;
    struct pbuf *whole = pbuf_alloc(PBUF_RAW, s->in->tot_len, PBUF_RAM);
    if (whole == NULL) return false;
    (void)pbuf_copy(whole, s->in);
    pbuf_free(s->in);
    s->in = whole;
    return true;
}

static err_t received(void *arg, struct tcp_pcb *pcb, struct pbuf *p, err_t err)
{
    sock *s = (sock *)arg;
    (void)err;
    if (s->kind == SOCK_ENDING && p != NULL) { /* nobody reads any more */
        tcp_recved(pcb, p->tot_len);
        pbuf_free(p);
        return ERR_OK;
    }
    if (p == NULL) {
        s->ended = true;
        return ERR_OK;
    }
    if (s->in == NULL) {
        s->in = p;
        return ERR_OK;
    }
    pbuf_cat(s->in, p);
    if (put_together(s)) return ERR_OK;
    tcp_abort(pcb); /* calls failed() */
    return ERR_ABRT;
}

/* Everything has been acknowledged. */
static bool is_out(const struct tcp_pcb *pcb)
{
    return pcb->unsent == NULL && pcb->unacked == NULL;
}

/* lwIP ends it alone from here on. */
static void let_go(sock *s)
{
    tcp_arg(s->tcp, NULL);
    tcp_recv(s->tcp, NULL);
    tcp_sent(s->tcp, NULL);
    tcp_err(s->tcp, NULL);
    s->tcp = NULL;
    bmb_lwip_free(s);
}

static err_t acknowledged(void *arg, struct tcp_pcb *pcb, u16_t size)
{
    sock *s = (sock *)arg;
    uint16_t copied = size < s->copied ? size : s->copied;
    s->copied = (uint16_t)(s->copied - copied);
    s->self->copied -= copied;
    s->self->freed++;
    if (s->kind == SOCK_ENDING && is_out(pcb)) let_go(s);
    return ERR_OK;
}

static void attach(sock *s, struct tcp_pcb *pcb)
{
    s->tcp = pcb;
    tcp_arg(pcb, s);
    tcp_recv(pcb, received);
    tcp_sent(pcb, acknowledged);
    tcp_err(pcb, failed);
    tcp_nagle_disable(pcb);         /* a frame's last bytes must not wait for an answer */
    tcp_setprio(pcb, TCP_PRIO_MAX); /* newcomers may not push out who is there */
    ip_set_option(pcb, SOF_KEEPALIVE);
    pcb->keep_idle = KEEP_IDLE_MS;
#if LWIP_TCP_KEEPALIVE
    pcb->keep_intvl = KEEP_BETWEEN_MS;
    pcb->keep_cnt = KEEP_TRIES;
#endif
}

static err_t arrived(void *arg, struct tcp_pcb *pcb, err_t err)
{
    const sock *listener = (const sock *)arg;
    bmb_lwip *self = listener->self;
    bmb_sock index;
    if (err != ERR_OK || pcb == NULL) return ERR_VAL;
    sock *s = bmb_lwip_take(self, SOCK_STREAM, &index);
    if (s == NULL) return ERR_MEM; /* lwIP resets it */
    s->waits = s->connected = true;
    s->of = (int16_t)(listener - self->socks);
    attach(s, pcb);
    tcp_backlog_delayed(pcb);
    return ERR_OK;
}

static bmb_err listen_at(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    ip_addr_t ip;
    bmb_err err = bmb_lwip_own_ip(addr, &ip);
    if (err != BMB_OK) return err;
    struct tcp_pcb *pcb = tcp_new_ip_type(IP_GET_TYPE(&ip));
    if (pcb == NULL) return BMB_LIMIT;
    ip_set_option(pcb, SOF_REUSEADDR); /* connections that have just ended do not hold the port */
    err_t e = tcp_bind(pcb, &ip, addr->port);
    struct tcp_pcb *listener = e == ERR_OK ? tcp_listen_with_backlog_and_err(pcb, BACKLOG, &e) : NULL;
    if (listener == NULL) {
        tcp_abort(pcb);
        return bmb_lwip_err(e);
    }
    sock *s = bmb_lwip_take((bmb_lwip *)ctx, SOCK_LISTENER, out);
    if (s == NULL) {
        (void)tcp_close(listener);
        return BMB_LIMIT;
    }
    s->tcp = listener;
    tcp_arg(listener, s);
    tcp_accept(listener, arrived);
    *bound = *addr;
    bound->port = listener->local_port;
    return BMB_OK;
}

static bmb_err accept_one(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    bmb_lwip *self = (bmb_lwip *)ctx;
    for (uint16_t i = 0; i < self->count; i++) {
        sock *s = &self->socks[i];
        if (s->kind != SOCK_STREAM || !s->waits || s->of != listener) continue;
        s->waits = false;
        tcp_backlog_accepted(s->tcp);
        bmb_lwip_from_ip(&s->tcp->remote_ip, s->tcp->remote_port, peer);
        *out = i;
        return BMB_OK;
    }
    return BMB_AGAIN;
}

static err_t connected(void *arg, struct tcp_pcb *pcb, err_t err)
{
    (void)pcb;
    (void)err;
    ((sock *)arg)->connected = true;
    return ERR_OK;
}

static bmb_err dial(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    ip_addr_t ip;
    if (bmb_lwip_to_ip(to, &ip) != BMB_OK) return BMB_NO_ROUTE;
    struct tcp_pcb *pcb = tcp_new_ip_type(IP_GET_TYPE(&ip));
    sock *s = pcb != NULL ? bmb_lwip_take((bmb_lwip *)ctx, SOCK_STREAM, out) : NULL;
    if (s == NULL) {
        if (pcb != NULL) tcp_abort(pcb);
        return BMB_LIMIT;
    }
    attach(s, pcb);
    err_t err = tcp_connect(pcb, &ip, to->port, connected);
    if (err == ERR_OK) return BMB_OK;
    (void)bmb_lwip_tcp_close(s);
    bmb_lwip_free(s);
    return bmb_lwip_err(err);
}

static bmb_err dialled(void *ctx, bmb_sock index)
{
    const sock *s = bmb_lwip_sock(ctx, index);
    if (!s->broken) return s->connected ? BMB_OK : BMB_AGAIN;
    return s->why == ERR_ABRT ? BMB_TIMED_OUT : bmb_lwip_err(s->why);
}

static bmb_err local(void *ctx, bmb_sock index, bmb_addr *out)
{
    const sock *s = bmb_lwip_sock(ctx, index);
    if (s->tcp == NULL) return BMB_GONE;
    bmb_lwip_from_ip(&s->tcp->local_ip, s->tcp->local_port, out);
    return BMB_OK;
}

static uint32_t now_ms(const sock *s)
{
    return (uint32_t)(s->self->board->now_us(s->self->board->ctx) / 1000);
}

static void starve(sock *s)
{
    s->starved = true;
    s->freed = s->self->freed;
    s->at_ms = now_ms(s);
}

/* How many bytes more may be copied for it. */
static size_t copy_room(const sock *s)
{
    size_t all = s->self->copied, most = BMB_LWIP_COPIED;
    if (all >= BMB_LWIP_COPIED_ALL) most = BMB_LWIP_COPIED_LEAST;
    if (all < BMB_LWIP_COPIED_ALL / 2) most = TCP_SND_BUF; /* a way with a long delay needs as much */
    return s->copied < most ? most - s->copied : 0;
}

static bool takes(const sock *s)
{
    if (!s->lends && copy_room(s) == 0) return false;
    if (tcp_sndbuf(s->tcp) == 0 || tcp_sndqueuelen(s->tcp) + 2 > TCP_SND_QUEUELEN) return false;
    return !s->starved || s->freed != s->self->freed || now_ms(s) - s->at_ms >= STARVED_MS;
}

uint32_t bmb_lwip_tcp_events(const sock *s)
{
    if (s->broken) return BMB_BROKEN | BMB_READABLE | BMB_WRITABLE;
    if (!s->connected) return 0;
    return (s->in != NULL || s->ended ? BMB_READABLE : 0) | (takes(s) ? BMB_WRITABLE : 0);
}

static bool within(const bmb_slice *whole, const uint8_t *at, size_t size)
{
    const uint8_t *begin = (const uint8_t *)whole->data;
    return whole->size > 0 && at >= begin && size <= whole->size && at - begin <= (ptrdiff_t)(whole->size - size);
}

/* As much of one slice as lwIP takes, a segment at a time: it takes each offer wholly or not at all. */
static size_t put(sock *s, const bmb_slice *slice, const bmb_slice *lent, bool more)
{
    const uint8_t *at = (const uint8_t *)slice->data;
    bool copy = !within(lent, at, slice->size);
    size_t taken = 0;
    while (taken < slice->size && takes(s)) {
        size_t size = slice->size - taken, room = tcp_sndbuf(s->tcp), most = tcp_mss(s->tcp);
        if (size > room) size = room;
        if (size > most) size = most;
        most = copy ? copy_room(s) : size;
        if (size > most) size = most;
        if (size == 0) break;
        u8_t flags =
            (u8_t)((copy ? TCP_WRITE_FLAG_COPY : 0) | (more || taken + size < slice->size ? TCP_WRITE_FLAG_MORE : 0));
        if (tcp_write(s->tcp, at + taken, (u16_t)size, flags) != ERR_OK) {
            starve(s);
            break;
        }
        s->starved = false;
        taken += size;
        if (copy) {
            s->copied = (uint16_t)(s->copied + size);
            s->self->copied += (uint32_t)size;
            continue;
        }
        s->lends = true;
        s->lent_end = s->tcp->snd_lbb;
    }
    return taken;
}

static bmb_err send_lent(void *ctx, bmb_sock index, const bmb_slice *slices, size_t count, const bmb_slice *lent,
                         size_t *taken)
{
    sock *s = bmb_lwip_sock(ctx, index);
    *taken = 0;
    if (s->broken) return BMB_GONE;
    for (size_t i = 0; i < count; i++) {
        size_t n = put(s, &slices[i], lent, i + 1 < count);
        *taken += n;
        if (n < slices[i].size) break;
    }
    (void)tcp_output(s->tcp);
    return *taken > 0 ? BMB_OK : BMB_AGAIN;
}

static bmb_err send_slices(void *ctx, bmb_sock index, const bmb_slice *slices, size_t count, size_t *taken)
{
    const bmb_slice none = { NULL, 0 };
    return send_lent(ctx, index, slices, count, &none, taken);
}

static uint32_t unacked(void *ctx, bmb_sock index)
{
    const sock *s = bmb_lwip_sock(ctx, index);
    return s->broken ? 0 : s->tcp->snd_lbb - s->tcp->lastack;
}

static bmb_err receive(void *ctx, bmb_sock index, void *out, size_t room, size_t *got)
{
    sock *s = bmb_lwip_sock(ctx, index);
    *got = 0;
    if (s->in == NULL) return s->ended || s->broken ? BMB_GONE : BMB_AGAIN;
    u16_t size = room < s->in->tot_len ? (u16_t)room : s->in->tot_len;
    size = pbuf_copy_partial(s->in, out, size, 0);
    s->in = pbuf_free_header(s->in, size);
    if (s->tcp != NULL) tcp_recved(s->tcp, size);
    *got = size;
    return BMB_OK;
}

static void finish(void *ctx, bmb_sock index)
{
    const sock *s = bmb_lwip_sock(ctx, index);
    if (!s->broken) (void)tcp_shutdown(s->tcp, 0, 1);
}

void bmb_lwip_tcp_reset(sock *s)
{
    struct tcp_pcb *pcb = s->tcp;
    let_go(s);
    tcp_abort(pcb);
}

bool bmb_lwip_tcp_close(sock *s)
{
    struct tcp_pcb *pcb = s->tcp;
    if (s->kind == SOCK_LISTENER) {
        for (uint16_t i = 0; i < s->self->count; i++) { /* those that nobody accepted */
            sock *other = &s->self->socks[i];
            if (other->kind != SOCK_STREAM || !other->waits || &s->self->socks[other->of] != s) continue;
            other->waits = false;
            if (bmb_lwip_tcp_close(other)) bmb_lwip_free(other);
        }
        (void)tcp_close(pcb);
        return true;
    }
    if (pcb == NULL) return true;
    bool lent = s->lends && (int32_t)(s->lent_end - pcb->lastack) > 0;
    if (s->in != NULL && !lent) tcp_recved(pcb, s->in->tot_len); /* or closing would reset, and what was sent be lost */
    tcp_setprio(pcb, TCP_PRIO_MIN);             /* if room is needed, those that are just ending go first */
    if (lent || !s->connected || is_out(pcb)) { /* what is lent may change from here on */
        tcp_arg(pcb, NULL);
        tcp_recv(pcb, NULL);
        tcp_sent(pcb, NULL);
        tcp_err(pcb, NULL);
        s->tcp = NULL;
        if (lent || !s->connected || tcp_close(pcb) != ERR_OK) tcp_abort(pcb);
        return true;
    }
    if (s->in != NULL) pbuf_free(s->in);
    s->in = NULL;
    s->kind = SOCK_ENDING;
    s->watched = 0;
    s->token = s->self->endings++; /* nobody watches it: its age */
    if (tcp_close(pcb) == ERR_OK) return false;
    bmb_lwip_tcp_reset(s);
    return false;
}

void bmb_lwip_fill_tcp(bmb_net *net)
{
    *net = (bmb_net){ .listen = listen_at,
                      .accept = accept_one,
                      .dial = dial,
                      .dialled = dialled,
                      .local = local,
                      .send = send_slices,
                      .send_lent = send_lent,
                      .unacked = unacked,
                      .recv = receive,
                      .finish = finish };
}
