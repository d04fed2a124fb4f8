/* Sockets over lwIP's control blocks. Private to ports/lwip. */
#ifndef BMB_LWIP_STATE_H
#define BMB_LWIP_STATE_H

#include <string.h>

#include <lwip/pbuf.h>
#include <lwip/tcp.h>
#include <lwip/udp.h>

#include "bambino/lwip.h"

/* SOCK_ENDING: closed, and lwIP still sends what was taken. Such a one gives way to whoever needs a socket. */
typedef enum sock_kind { SOCK_FREE = 0, SOCK_LISTENER, SOCK_STREAM, SOCK_DATAGRAMS, SOCK_ENDING } sock_kind;

typedef struct sock {
    uint8_t kind;    /* sock_kind */
    uint8_t watched; /* BMB_READABLE | BMB_WRITABLE */
    bool waits;      /* stream: made, and not accepted yet */
    bool connected;  /* stream: false while it is dialled */
    bool ended;      /* stream: the peer says no more */
    bool broken;     /* stream: lwIP has given its control block up … */
    err_t why;       /* … for this reason */
    bool lends;      /* stream: bytes were lent to it … */
    bool starved;    /* stream: lwIP had no memory for what send offered … */
    uint32_t freed;  /* … when so much had been given back to it (bmb_lwip.freed) … */
    uint32_t at_ms;  /* … at this time */
    int16_t of;      /* stream that waits: index of its listener */
    uint32_t token;
    uint16_t copied;   /* stream: bytes that were copied and are not acknowledged */
    uint32_t lent_end; /* … the last one before this sequence number */
    union {
        struct tcp_pcb *tcp; /* NULL: broken */
        struct udp_pcb *udp;
    };
    struct pbuf *in;  /* received: a chain; datagrams one behind the other, each with its sender in front (udp.c) */
    uint16_t waiting; /* datagrams in it */
    bmb_lwip *self;
} sock;

struct bmb_lwip {
    const bmb_lwip_board *board;
    volatile bool woken;
    uint16_t count, used, used_most;
    uint16_t turn;    /* whose it is to be reported first */
    bool more;        /* the interfaces have more than was taken */
    uint32_t copied;  /* of all sockets */
    uint32_t endings; /* counts those that began to end */
    uint32_t freed;   /* counts what gives memory back */
    sock *socks;
    uint64_t look_us,
        taken_us; /* the next look at the link; not before it another host with our address is told again */
};

_Static_assert(sizeof(sock) <= BMB_LWIP_SOCK_SIZE, "BMB_LWIP_SOCK_SIZE is too small");
_Static_assert(sizeof(bmb_lwip) <= 80, "BMB_LWIP_MEMORY is too small");

/* link.c */
extern bmb_lwip *bmb_lwip_now;
void bmb_lwip_tend_link(bmb_lwip *self);
bool bmb_lwip_online(void *ctx);

/* lwip.c */
sock *bmb_lwip_take(bmb_lwip *self, sock_kind kind, bmb_sock *out); /* NULL: all are in use */
void bmb_lwip_free(sock *s);
void bmb_lwip_end_oldest(bmb_lwip *self); /* resets the one that has been ending for the longest time */
bmb_err bmb_lwip_err(err_t err);
void bmb_lwip_from_ip(const ip_addr_t *ip, uint16_t port, bmb_addr *out);
/* BMB_NOT_FOUND: this lwIP has no such family. */
bmb_err bmb_lwip_to_ip(const bmb_addr *addr, ip_addr_t *out);
/* The address to bind to: one of the interfaces', or any of the family's. BMB_NOT_FOUND. */
bmb_err bmb_lwip_own_ip(const bmb_addr *addr, ip_addr_t *out);
/* Which of these are so now. */
uint32_t bmb_lwip_events(const sock *s);

static inline sock *bmb_lwip_sock(void *ctx, bmb_sock index)
{
    return &((bmb_lwip *)ctx)->socks[index];
}

/* tcp.c */
void bmb_lwip_fill_tcp(bmb_net *net);
uint32_t bmb_lwip_tcp_events(const sock *s);
bool bmb_lwip_tcp_close(sock *s); /* false: it goes on sending, as SOCK_ENDING */
void bmb_lwip_tcp_reset(sock *s); /* of one that is ending */

/* udp.c */
void bmb_lwip_fill_udp(bmb_net *net);
void bmb_lwip_udp_close(sock *s);

#endif
