/* The port's loop: sockets as a table, who is ready, and waiting. */
#include <lwip/netif.h>
#include <lwip/timeouts.h>

#include "lwip/state.h"

#if LWIP_IPV6 && !BMB_WITH_IPV6
#error "lwIP has IPv6, and BMB_WITH_IPV6 is 0"
#endif

void bmb_lwip_end_oldest(bmb_lwip *self)
{
    sock *oldest = NULL;
    for (uint16_t i = 0; i < self->count; i++) {
        sock *s = &self->socks[i];
        if (s->kind == SOCK_ENDING && (oldest == NULL || (int32_t)(s->token - oldest->token) < 0)) oldest = s;
    }
    if (oldest != NULL) bmb_lwip_tcp_reset(oldest);
}

sock *bmb_lwip_take(bmb_lwip *self, sock_kind kind, bmb_sock *out)
{
    if (self->used == self->count) bmb_lwip_end_oldest(self);
    for (uint16_t i = 0; i < self->count; i++) {
        sock *s = &self->socks[i];
        if (s->kind != SOCK_FREE) continue;
        memset(s, 0, sizeof *s);
        s->kind = (uint8_t)kind;
        s->self = self;
        if (++self->used > self->used_most) self->used_most = self->used;
        *out = i;
        return s;
    }
    return NULL;
}

void bmb_lwip_free(sock *s)
{
    if (s->in != NULL) pbuf_free(s->in);
    s->self->copied -= s->copied;
    s->self->used--;
    s->self->freed++;
    s->kind = SOCK_FREE;
}

bmb_err bmb_lwip_err(err_t err)
{
    switch (err) {
    case ERR_OK:
        return BMB_OK;
    case ERR_MEM:
    case ERR_BUF:
        return BMB_LIMIT;
    case ERR_USE:
        return BMB_IN_USE;
    case ERR_RTE:
        return BMB_NO_ROUTE;
    case ERR_TIMEOUT:
        return BMB_TIMED_OUT;
    case ERR_RST:
        return BMB_REFUSED;
    case ERR_ABRT:
    case ERR_CLSD:
    case ERR_CONN:
        return BMB_GONE;
    default:
        return BMB_FAILED;
    }
}

void bmb_lwip_from_ip(const ip_addr_t *ip, uint16_t port, bmb_addr *out)
{
    memset(out, 0, sizeof *out);
    out->port = port;
    out->family = 4;
    if (!IP_IS_V6(ip)) {
        memcpy(out->ip, ip_2_ip4(ip), 4);
        return;
    }
#if LWIP_IPV6
    out->family = 6;
    memcpy(out->ip, ip_2_ip6(ip)->addr, 16);
#if LWIP_IPV6_SCOPES
    out->scope = ip6_addr_zone(ip_2_ip6(ip));
#endif
#endif
}

bmb_err bmb_lwip_to_ip(const bmb_addr *addr, ip_addr_t *out)
{
    memset(out, 0, sizeof *out);
    if (addr->family == 4) {
        memcpy(ip_2_ip4(out), addr->ip, 4);
        IP_SET_TYPE_VAL(*out, IPADDR_TYPE_V4);
        return BMB_OK;
    }
#if LWIP_IPV6
    memcpy(ip_2_ip6(out)->addr, addr->ip, 16);
    IP_SET_TYPE_VAL(*out, IPADDR_TYPE_V6);
#if LWIP_IPV6_SCOPES
    ip6_addr_set_zone(ip_2_ip6(out), (u8_t)addr->scope);
#endif
    return BMB_OK;
#else
    return BMB_NOT_FOUND;
#endif
}

static bool is_own(const struct netif *netif, const ip_addr_t *ip)
{
    if (!IP_IS_V6(ip)) return ip4_addr_cmp(netif_ip4_addr(netif), ip_2_ip4(ip)) != 0;
#if LWIP_IPV6
    return netif_get_ip6_addr_match((struct netif *)(uintptr_t)netif, ip_2_ip6(ip)) >= 0;
#else
    return false;
#endif
}

bmb_err bmb_lwip_own_ip(const bmb_addr *addr, ip_addr_t *out)
{
    bmb_err err = bmb_lwip_to_ip(addr, out);
    if (err != BMB_OK || ip_addr_isany(out)) return err;
    const struct netif *netif;
    NETIF_FOREACH(netif)
    {
        if (is_own(netif, out)) return BMB_OK;
    }
    return BMB_NOT_FOUND;
}

uint32_t bmb_lwip_events(const sock *s)
{
    switch ((sock_kind)s->kind) {
    case SOCK_STREAM:
        return s->waits ? 0 : bmb_lwip_tcp_events(s);
    case SOCK_DATAGRAMS:
        return BMB_WRITABLE | (s->waiting > 0 ? BMB_READABLE : 0);
    case SOCK_LISTENER:
        for (uint16_t i = 0; i < s->self->count; i++) {
            const sock *other = &s->self->socks[i];
            if (other->kind == SOCK_STREAM && other->waits && &s->self->socks[other->of] == s) return BMB_READABLE;
        }
        return 0;
    case SOCK_FREE:
    case SOCK_ENDING:
        break;
    }
    return 0;
}

static uint64_t now_us(void *ctx)
{
    const bmb_lwip_board *board = ((bmb_lwip *)ctx)->board;
    return board->now_us(board->ctx);
}

static void random_bytes(void *ctx, void *out, size_t size)
{
    const bmb_lwip_board *board = ((bmb_lwip *)ctx)->board;
    board->random(board->ctx, out, size);
}

/* What arrived, and lwIP's own timers. */
static void tend(bmb_lwip *self)
{
    self->more = self->board->input != NULL && self->board->input(self->board->ctx);
#if LWIP_NETIF_LOOPBACK
    netif_poll_all();
#endif
    sys_check_timeouts();
    bmb_lwip_tend_link(self);
    /* Those that are only ending give their share back to those who are served. */
    if (self->copied >= BMB_LWIP_COPIED_ALL) bmb_lwip_end_oldest(self);
}

static uint32_t ready_events(const sock *s)
{
    return s->kind == SOCK_FREE || s->kind == SOCK_ENDING ? 0 : bmb_lwip_events(s) & (s->watched | BMB_BROKEN);
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    bmb_lwip *self = (bmb_lwip *)ctx;
    size_t n = 0;
    uint16_t i = self->turn, last = i;
    tend(self);
    for (uint16_t k = 0; k < self->count && n < room; k++, i++) {
        if (i >= self->count) i = 0;
        const sock *s = &self->socks[i];
        uint32_t events = ready_events(s);
        if (events == 0) continue;
        out[n++] = (bmb_ready){ .token = s->token, .events = events };
        last = (uint16_t)(i + 1);
    }
    self->turn = last >= self->count ? 0 : last;
    return n;
}

static bool any_ready(const bmb_lwip *self)
{
    for (uint16_t i = 0; i < self->count; i++)
        if (ready_events(&self->socks[i]) != 0) return true;
    return false;
}

static void wait_until(void *ctx, uint64_t until_us)
{
    bmb_lwip *self = (bmb_lwip *)ctx;
    for (;;) {
        tend(self);
        uint64_t now = now_us(self), end = until_us, timeouts = sys_timeouts_sleeptime();
        if (self->woken || self->more || any_ready(self) || now >= until_us) break;
        if (timeouts != SYS_TIMEOUTS_SLEEPTIME_INFINITE && end - now > timeouts * 1000) end = now + timeouts * 1000;
        if (self->board->sleep != NULL) self->board->sleep(self->board->ctx, end, &self->woken);
        if (self->board->input == NULL) break; /* the caller's own loop hands in what arrives */
    }
    self->woken = false;
}

static void wake(void *ctx)
{
    ((bmb_lwip *)ctx)->woken = true;
}

static bmb_err watch(void *ctx, bmb_sock index, uint32_t events, uint32_t token)
{
    sock *s = bmb_lwip_sock(ctx, index);
    s->watched = (uint8_t)(events & (BMB_READABLE | BMB_WRITABLE));
    s->token = token;
    return BMB_OK;
}

static void close_sock(void *ctx, bmb_sock index)
{
    sock *s = bmb_lwip_sock(ctx, index);
    bool gone = true;
    if (s->kind == SOCK_DATAGRAMS) {
        bmb_lwip_udp_close(s);
    } else {
        gone = bmb_lwip_tcp_close(s);
    }
    if (gone) bmb_lwip_free(s);
}

bmb_lwip *bmb_lwip_open(const bmb_lwip_board *board, bmb_lwip_memory *memory, uint16_t sockets, bmb_port *port)
{
    bmb_lwip *self = (bmb_lwip *)(void *)memory;
    memset(memory, 0, BMB_LWIP_MEMORY(sockets) * sizeof *memory);
    self->board = board;
    self->count = sockets;
    self->socks = (sock *)(void *)((uint8_t *)memory + 80);
    *port = (bmb_port){ .ctx = self, .now_us = now_us, .random = random_bytes, .wait = wait_until, .wake = wake };
    bmb_lwip_fill_tcp(&port->net);
#if LWIP_UDP
    bmb_lwip_fill_udp(&port->net);
#endif
    port->net.close = close_sock;
    port->net.watch = watch;
    port->net.ready = ready;
    bmb_lwip_now = self;
    if (board->link != NULL) port->online = bmb_lwip_online;
    return self;
}

void bmb_lwip_close(bmb_lwip *self)
{
    if (bmb_lwip_now == self) bmb_lwip_now = NULL;
    for (uint16_t i = 0; i < self->count; i++) {
        sock *s = &self->socks[i];
        if (s->kind != SOCK_FREE && s->kind != SOCK_ENDING) close_sock(self, i);
        if (s->kind == SOCK_ENDING) bmb_lwip_tcp_reset(s);
    }
}

uint16_t bmb_lwip_used(const bmb_lwip *self, uint16_t *most)
{
    if (most != NULL) *most = self->used_most;
    return self->used;
}
