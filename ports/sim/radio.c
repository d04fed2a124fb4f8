#include "sim/radio.h"

#include "layer/layer.h"

#include <stdlib.h>
#include <string.h>
#include <time.h>

#define QUEUE_MS 60u      /* of the link's rate: what the radio itself holds before it takes no more */
#define QUEUE_LEAST 6000u /* bytes; four packets */
#define RESEND_US 200000u /* TCP: until a lost packet is sent again */
#define PACKET 1400u
#define PACKETS_MOST 512
#define ENDINGS_MOST 64
#define BROKEN_MOST 16u /* connections that failed, and whose owner was not told yet */
#define ENDING_US 5000000u
#define NO_TOKEN UINT32_MAX /* of sockets that the device has forgotten */

typedef struct packet {
    struct packet *next;
    bmb_sock sock;
    bmb_addr to;
    bool udp, connected;
    uint64_t due_us;
    size_t size, at;
    uint8_t data[];
} packet;

/* A connection that the device is done with, and that still has packets on their way. */
typedef struct ending {
    bmb_sock sock;
    bool close;        /* when they have arrived; else: say that nothing more comes */
    uint64_t until_us; /* closing: a peer that takes nothing is not waited for any longer */
} ending;

struct sim_radio {
    bmb_layer layer;
    bmb_board_link link;
    ending endings[ENDINGS_MOST];
    size_t ending_count;
    bmb_sock broken[BROKEN_MOST];
    size_t broken_count;
    packet *first, *last;
    size_t queued, count; /* bytes, packets */
    uint64_t free_us;     /* when the air is free again */
    uint64_t tcp_us;      /* TCP keeps its order */
    uint64_t start_us;
    uint32_t random;
    bool down;
};

static sim_radio *of(void *ctx)
{
    return (sim_radio *)((bmb_layer *)ctx)->owner;
}

static uint32_t next_random(sim_radio *r)
{
    r->random = r->random * 1664525u + 1013904223u;
    return r->random >> 8;
}

static uint64_t now_us(const sim_radio *r)
{
    return r->layer.under.now_us(r->layer.under.ctx);
}

static bool dropped_out(const sim_radio *r, uint64_t now)
{
    if (r->down) return true;
    if (r->link.drop_every_s == 0) return false;
    uint64_t at = (now - r->start_us) % ((uint64_t)r->link.drop_every_s * 1000000);
    return now - r->start_us > 1000000 && at < (uint64_t)r->link.drop_ms * 1000;
}

static size_t room(const sim_radio *r)
{
    if (r->link.kbps == 0) return SIZE_MAX;
    size_t most = (size_t)r->link.kbps * QUEUE_MS / 8;
    if (most < QUEUE_LEAST) most = QUEUE_LEAST;
    return r->queued < most && r->count < PACKETS_MOST ? most - r->queued : 0;
}

/* When a packet that is handed over now arrives. */
static uint64_t arrival(sim_radio *r, size_t size, bool udp, bool *lost)
{
    uint64_t now = now_us(r), air = r->link.kbps > 0 ? (uint64_t)size * 8000 / r->link.kbps : 0;
    if (r->free_us < now) r->free_us = now;
    r->free_us += air;
    uint64_t due = r->free_us + (uint64_t)r->link.delay_ms * 1000;
    if (r->link.jitter_ms > 0) due += next_random(r) % (r->link.jitter_ms * 1000 + 1);
    *lost = r->link.loss_1000 > 0 && next_random(r) % 1000 < r->link.loss_1000;
    if (udp) return due;
    if (*lost) due += RESEND_US;
    if (due < r->tcp_us) due = r->tcp_us;
    r->tcp_us = due;
    *lost = false;
    return due;
}

static bool enqueue(sim_radio *r, bmb_sock sock, const bmb_slice *slices, size_t count, size_t skip, size_t size,
                    bool udp, const bmb_addr *to)
{
    bool lost;
    packet *p = malloc(sizeof *p + size);
    if (p == NULL) return false;
    *p = (packet){ .sock = sock, .udp = udp, .connected = to == NULL, .size = size };
    if (to != NULL) p->to = *to;
    size_t at = 0;
    for (size_t i = 0; i < count && at < size; i++) {
        size_t from = skip < slices[i].size ? skip : slices[i].size, n = slices[i].size - from;
        skip -= from;
        if (n > size - at) n = size - at;
        if (n > 0) memcpy(p->data + at, (const uint8_t *)slices[i].data + from, n);
        at += n;
    }
    p->due_us = arrival(r, size, udp, &lost);
    if (lost) {
        free(p);
        return true;
    }
    packet **place = r->last != NULL ? &r->last->next : &r->first;
    *place = p;
    r->last = p;
    r->queued += size;
    r->count++;
    return true;
}

/* Gives what has arrived to the sockets below; returns when the next is due. A socket that takes nothing keeps its own
 * waiting, in order, and no other's. */
static uint64_t pass_packets(sim_radio *r)
{
    uint64_t now = now_us(r), next = UINT64_MAX;
    packet **at = &r->first;
    r->last = NULL;
    while (*at != NULL) {
        packet *p = *at;
        bool gone = false;
        if (p->due_us > now) {
            if (p->due_us < next) next = p->due_us;
        } else if (p->udp) {
            const bmb_slice slice = { p->data, p->size };
            const bmb_packet one = { &slice, 1, (uint32_t)p->size };
            size_t taken;
            (void)r->layer.under.net.udp_send(r->layer.under.ctx, p->sock, p->connected ? NULL : &p->to, &one, 1,
                                              &taken);
            gone = true;
        } else {
            bool blocked = false;
            for (const packet *q = r->first; q != p; q = q->next) blocked = blocked || (!q->udp && q->sock == p->sock);
            const bmb_slice slice = { p->data + p->at, p->size - p->at };
            size_t taken = 0;
            const bmb_port *u = &r->layer.under;
            bmb_err err = blocked ? BMB_AGAIN : u->net.send(u->ctx, p->sock, &slice, 1, &taken);
            p->at += taken;
            bool failed = err != BMB_OK && err != BMB_AGAIN;
            if (failed) r->broken[r->broken_count++ % BROKEN_MOST] = p->sock; /* whoever sends next is told */
            gone = p->at == p->size || failed;
            if (!gone && now + 5000 < next) next = now + 5000;
        }
        if (gone) {
            *at = p->next;
            r->queued -= p->size;
            r->count--;
            free(p);
        } else {
            r->last = p;
            at = &p->next;
        }
    }
    return next;
}

static bool on_its_way(const sim_radio *r, bmb_sock sock)
{
    for (const packet *p = r->first; p != NULL; p = p->next)
        if (!p->udp && p->sock == sock) return true;
    return false;
}

static void forget_packets(sim_radio *r, bmb_sock sock)
{
    packet **at = &r->first;
    r->last = NULL;
    while (*at != NULL) {
        packet *p = *at;
        if (p->sock != sock) {
            r->last = p;
            at = &p->next;
            continue;
        }
        *at = p->next;
        r->queued -= p->size;
        r->count--;
        free(p);
    }
}

/* Connections end when what was taken for them has arrived. */
static void end_some(sim_radio *r)
{
    const bmb_port *u = &r->layer.under;
    uint64_t now = now_us(r);
    for (size_t i = 0; i < r->ending_count;) {
        const ending e = r->endings[i];
        bool late = e.close && now >= e.until_us;
        if (!late && on_its_way(r, e.sock)) {
            i++;
            continue;
        }
        r->endings[i] = r->endings[--r->ending_count];
        if (late) forget_packets(r, e.sock);
        if (e.close) {
            u->net.close(u->ctx, e.sock);
        } else if (u->net.finish != NULL) {
            u->net.finish(u->ctx, e.sock);
        }
    }
}

static uint64_t pass_on(sim_radio *r)
{
    uint64_t next = pass_packets(r);
    end_some(r);
    return next;
}

static void forget_ending(sim_radio *r, bmb_sock sock)
{
    for (size_t i = 0; i < r->ending_count; i++)
        if (r->endings[i].sock == sock) r->endings[i--] = r->endings[--r->ending_count];
}

static bool end_later(sim_radio *r, bmb_sock sock, bool close)
{
    forget_ending(r, sock);
    if (!on_its_way(r, sock) || r->ending_count == ENDINGS_MOST) return false;
    r->endings[r->ending_count++] = (ending){ sock, close, now_us(r) + ENDING_US };
    return true;
}

static bool is_broken(const sim_radio *r, bmb_sock sock)
{
    size_t count = r->broken_count < BROKEN_MOST ? r->broken_count : BROKEN_MOST;
    for (size_t i = 0; i < count; i++)
        if (r->broken[i] == sock) return true;
    return false;
}

static void forget_broken(sim_radio *r, bmb_sock sock)
{
    for (size_t i = 0; i < BROKEN_MOST; i++)
        if (r->broken[i] == sock) r->broken[i] = BMB_NO_SOCK; /* its number may be given again */
}

static void radio_finish(void *ctx, bmb_sock sock)
{
    sim_radio *r = of(ctx);
    if (!end_later(r, sock, false)) r->layer.under.net.finish(r->layer.under.ctx, sock);
}

static bmb_err radio_send(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    sim_radio *r = of(ctx);
    size_t total = 0;
    *taken = 0;
    for (size_t i = 0; i < count; i++) total += slices[i].size;
    if (is_broken(r, sock)) return BMB_GONE;
    if (dropped_out(r, now_us(r))) return BMB_AGAIN;
    while (*taken < total && room(r) > 0) {
        size_t size = total - *taken < PACKET ? total - *taken : PACKET;
        if (!enqueue(r, sock, slices, count, *taken, size, false, NULL)) break;
        *taken += size;
    }
    (void)pass_on(r);
    return *taken > 0 ? BMB_OK : BMB_AGAIN;
}

static bmb_err radio_udp_send(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                              size_t *taken)
{
    sim_radio *r = of(ctx);
    bool out = dropped_out(r, now_us(r));
    for (*taken = 0; *taken < count && (out || room(r) > 0); ++*taken) {
        const bmb_packet *p = &packets[*taken];
        if (!out && !enqueue(r, sock, p->slices, p->count, 0, p->size, true, to)) break;
    }
    (void)pass_on(r);
    return *taken < count ? BMB_AGAIN : BMB_OK;
}

static bmb_err radio_accept(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    const sim_radio *r = of(ctx);
    return r->down ? BMB_AGAIN : r->layer.under.net.accept(r->layer.under.ctx, listener, out, peer);
}

static void radio_close(void *ctx, bmb_sock sock)
{
    sim_radio *r = of(ctx);
    const bmb_port *u = &r->layer.under;
    (void)pass_packets(r);
    forget_broken(r, sock);
    if (end_later(r, sock, true)) {
        (void)u->net.watch(u->ctx, sock, 0, NO_TOKEN);
        return;
    }
    forget_packets(r, sock);
    u->net.close(u->ctx, sock);
}

/* Sockets are writable below while the radio takes no more: those reports wait. */
static size_t radio_ready(void *ctx, bmb_ready *out, size_t room_for)
{
    sim_radio *r = of(ctx);
    (void)pass_on(r);
    size_t n = r->layer.under.net.ready(r->layer.under.ctx, out, room_for), kept = 0;
    bool full = room(r) < PACKET || dropped_out(r, now_us(r));
    for (size_t i = 0; i < n; i++) {
        if (full) out[i].events &= ~BMB_WRITABLE;
        if (out[i].events != 0 && out[i].token != NO_TOKEN) out[kept++] = out[i];
    }
    return kept;
}

static void radio_wait(void *ctx, uint64_t until_us)
{
    sim_radio *r = of(ctx);
    uint64_t next = pass_on(r), now = now_us(r);
    /* The sockets below are writable, or broken, and would end any wait at once. */
    if (room(r) < PACKET || dropped_out(r, now) || r->ending_count > 0) {
        const struct timespec pause = { .tv_nsec = 1000000 };
        if (now < until_us) nanosleep(&pause, NULL);
        return;
    }
    r->layer.under.wait(r->layer.under.ctx, next < until_us ? next : until_us);
}

sim_radio *sim_radio_create(const bmb_board_link *link, bmb_port *port)
{
    sim_radio *r = calloc(1, sizeof *r);
    if (r == NULL) return NULL;
    r->link = *link;
    r->random = link->seed;
    r->start_us = port->now_us(port->ctx);
    r->layer.owner = r;
    bmb_layer_put(&r->layer, port);
    port->wait = radio_wait;
    port->net.send = radio_send;
    port->net.send_lent = NULL; /* nothing passes the radio unseen */
    port->net.unacked = NULL;
    port->net.path = NULL;
    port->net.accept = radio_accept;
    port->net.close = radio_close;
    port->net.ready = radio_ready;
    if (port->net.finish != NULL) port->net.finish = radio_finish;
    if (port->net.udp_send != NULL) port->net.udp_send = radio_udp_send;
    return r;
}

void sim_radio_down(sim_radio *r, bool down)
{
    r->down = down;
}

void sim_radio_destroy(sim_radio *r, bmb_port *port)
{
    const bmb_port *u = &r->layer.under;
    for (uint64_t next; r->ending_count > 0 && !r->down;) { /* the last answers are on their way still */
        const struct timespec pause = { .tv_nsec = 1000000 };
        next = pass_on(r);
        if (r->ending_count > 0 && next > 0) nanosleep(&pause, NULL);
    }
    for (size_t i = 0; i < r->ending_count; i++)
        if (r->endings[i].close) u->net.close(u->ctx, r->endings[i].sock);
    while (r->first != NULL) {
        packet *p = r->first;
        r->first = p->next;
        free(p);
    }
    bmb_layer_remove(&r->layer, port);
    free(r);
}
