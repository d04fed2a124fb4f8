/* (Comes as source: ports/lwip is compiled with the board's own lwipopts.h.)
 *
 * The network functions of a port on lwIP 2.1, through its raw API and without an operating system (NO_SYS): for any
 * board that lwIP runs on. The board brings up the interfaces (struct netif), gives a clock and a source of random
 * numbers, and hands in what its interfaces receive; docs/porting.md walks through one.
 *
 *     static bmb_lwip_memory memory[BMB_LWIP_MEMORY(12)];
 *     static const bmb_lwip_board board = { .now_us = …, .random = …, .input = …, .sleep = … };
 *
 *     lwip_init(); netif_add(…);
 *     bmb_lwip *net = bmb_lwip_open(&board, memory, 12, &port);   // fills port: ctx, clock, random, wait, wake, net
 *     port.cameras = …; port.log = …;                              // the board's own; `ctx` is not theirs
 *     bmb_open(&config, …);
 *
 * What lwIP is built with (lwipopts.h) decides how much memory connections need:
 *
 *  - NO_SYS, LWIP_TCP, LWIP_CALLBACK_API; LWIP_UDP for RTP and pushes over UDP; LWIP_IGMP or LWIP_MULTICAST_TX_OPTIONS
 *    for groups; LWIP_TCP_KEEPALIVE, so that peers that vanished are noticed; SO_REUSE, so that a listener can be
 *    opened again at once; LWIP_NETIF_LOOPBACK for the port check.
 *  - MEMP_NUM_TCP_PCB: the device's connections (viewers + spare), and as many again for those that are just ending.
 *  - PBUF_POOL_SIZE: a few for each connection. A peer that sends bytes one by one holds at most BMB_LWIP_PIECES of
 *    them: what it sends beyond is put together in MEM_SIZE.
 *  - MEM_SIZE: half of it may be taken by bytes that were copied (answers, stills, RTSP), whoever does not read them.
 *  - TCP_SND_BUF: what may be under way to one viewer. Frames are lent to lwIP and not copied (bmb_net.send_lent), so
 *    it costs only descriptions: TCP_SND_QUEUELEN and MEMP_NUM_TCP_SEG.
 *
 * An Ethernet driver must have read a frame's memory when its linkoutput returns, or copy it: datagrams are sent from
 * the reel, and only TCP waits for an acknowledgement.
 */
#ifndef BAMBINO_LWIP_H
#define BAMBINO_LWIP_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

#define BMB_LWIP_PIECES 4u /* received pbufs that one connection may hold */
/* Bytes of datagrams that wait at one socket; further ones are lost, whoever floods it: it is lwIP's own memory. What
 * is waited for are RTCP reports, of some hundred bytes. Another one may be given when ports/lwip is compiled. */
#ifndef BMB_LWIP_WAITING
#define BMB_LWIP_WAITING 2048u
#endif
#define BMB_LWIP_SOCK_SIZE 96u /* bytes for one socket, checked when it is compiled */

/* Bytes that were copied and are not acknowledged: of one connection, once half of what may be taken is taken (before
 * that it is TCP_SND_BUF); of one even where all is taken; and that, of all connections. Others may be given when
 * ports/lwip is compiled. */
#ifndef BMB_LWIP_COPIED
#define BMB_LWIP_COPIED 2920u
#endif
#define BMB_LWIP_COPIED_LEAST 512u
#ifndef BMB_LWIP_COPIED_ALL
#define BMB_LWIP_COPIED_ALL (MEM_SIZE / 2)
#endif

typedef uint64_t bmb_lwip_memory;
/* Elements of bmb_lwip_memory for so many sockets: connections, outlets, and four for RTP over UDP. */
#define BMB_LWIP_MEMORY(sockets) ((80u + (size_t)(sockets)*BMB_LWIP_SOCK_SIZE) / sizeof(bmb_lwip_memory))

typedef struct bmb_lwip_board {
    void *ctx;                                         /* handed to all of these */
    uint64_t (*now_us)(void *ctx);                     /* as bmb_port.now_us */
    void (*random)(void *ctx, void *out, size_t size); /* as bmb_port.random */
    /* Gives lwIP what the interfaces have received (netif->input), a bounded number of frames; true: more are there,
     * which have to wait until the device was stepped. NULL: others do. */
    bool (*input)(void *ctx);
    /* Sleeps until an interrupt, or that time; not at all once *woken is set, which an interrupt may do at any time: so
     * with interrupts off, look at it, and wait for one (WFI ends then, too). NULL: `wait` goes round instead. */
    void (*sleep)(void *ctx, uint64_t until_us, const volatile bool *woken);
    /* Is the cable in, or the radio joined? Asked twice a second of lwIP's default interface; port->online follows it,
     * and when the link comes back, what was under way goes on at once. Optional: it counts as there. */
    bool (*link)(void *ctx);
    /* Another host uses this board's address, and has that hardware address: told once a minute, where the driver hands
     * its frames to bmb_lwip_input(). Optional. */
    void (*taken)(void *ctx, const uint8_t mac[6]);
} bmb_lwip_board;

typedef struct bmb_lwip bmb_lwip;

/* memory: BMB_LWIP_MEMORY(sockets) elements that stay; so does the board. Fills in all of *port but what stands in its
 * comment above as the board's own, which is zeroed. */
bmb_lwip *bmb_lwip_open(const bmb_lwip_board *board, bmb_lwip_memory *memory, uint16_t sockets, bmb_port *port);
/* After bmb_close(). Ends every connection that is left. */
void bmb_lwip_close(bmb_lwip *self);

/* For a driver to call in place of netif->input: looks at a frame, and hands it on. Returns lwIP's err_t. */
struct pbuf;
struct netif;
int8_t bmb_lwip_input(struct pbuf *p, struct netif *netif);

/* Sockets in use now, and at most since opening. */
uint16_t bmb_lwip_used(const bmb_lwip *self, uint16_t *most);

#ifdef __cplusplus
}
#endif
#endif
