/* A port on poll(2) and BSD sockets, with no call that is special to one system: the skeleton for boards with an RTOS
 * whose stack has the socket interface, and for other Unixes. Copy ports/poll, put your own clock, random numbers and
 * camera in, and ask bambino/port_check.h. On Linux, bambino/linux.h does more in fewer calls.
 *
 *     static bmb_poll net;                          // no heap is used
 *     bmb_port port;
 *     if (bmb_poll_open(&net, &port) != BMB_OK) …
 *     bmb_poll_camera(&net, "loco", clip, clip_size, 10000, 320, 240, &port.cameras);
 *     …bmb_open(…); for (;;) port.wait(port.ctx, bmb_step(device));
 *
 * What it asks of the system: socket, bind, listen, accept, connect, sendmsg, recvfrom, shutdown, getsockname,
 * setsockopt, getsockopt, poll and fcntl(O_NONBLOCK). Clock and random numbers are POSIX's, or those that
 * bmb_poll_open_on() is given.
 *
 * On lwIP's sockets (LWIP_SOCKET 1, LWIP_COMPAT_SOCKETS 1, LWIP_POSIX_SOCKETS_IO_NAMES 1) compile ports/poll with
 * ports/poll/lwip as the first include folder, and raise these, of which the presets are too low: MEMP_NUM_NETCONN,
 * MEMP_NUM_TCP_PCB, MEMP_NUM_TCP_PCB_LISTEN and MEMP_NUM_UDP_PCB to the sockets that the configuration has,
 * DEFAULT_ACCEPTMBOX_SIZE, DEFAULT_TCP_RECVMBOX_SIZE and DEFAULT_UDP_RECVMBOX_SIZE to 8 at least (0 is the preset),
 * TCP_SND_BUF to 4 * TCP_MSS at least; and switch on LWIP_SOCKET_POLL, SO_REUSE, LWIP_TCP_KEEPALIVE,
 * LWIP_MULTICAST_TX_OPTIONS and IP_SOF_BROADCAST. bmb_poll_refused() tells which of the last ones are missing.
 */
#ifndef BAMBINO_POLL_H
#define BAMBINO_POLL_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Connections (viewers, spare, pushes over TCP), outlets, and four for RTP over UDP. Another one may be given when
 * ports/poll and the program are compiled. */
#ifndef BMB_POLL_SOCKETS
#define BMB_POLL_SOCKETS 64
#endif
#define BMB_POLL_BUFFERS 4u
#define BMB_POLL_PICTURES 256u

/* One that is not in use has fd -1. */
typedef struct bmb_poll_sock {
    int fd;
    uint32_t token;
    uint8_t watched; /* BMB_READABLE | BMB_WRITABLE */
    uint8_t family;
} bmb_poll_sock;

/* Plays JPEG images that stand one behind the other in memory, as a sensor with few buffers would deliver them. */
typedef struct bmb_poll_clip {
    char name[BMB_NAME_MAX];
    const uint8_t *data;
    uint32_t begin[BMB_POLL_PICTURES + 1], pictures;
    bmb_mode_row mode;
    uint32_t mfps;    /* in force; 0: stopped */
    uint64_t next_us; /* the next exposure */
    uint32_t number;
    uint8_t out; /* a bit for each buffer that is not released */
} bmb_poll_clip;

/* What a system has in place of POSIX's calls. */
typedef struct bmb_poll_system {
    void *ctx;                                         /* given to the functions */
    uint64_t (*now_us)(void *ctx);                     /* as bmb_port.now_us; NULL: CLOCK_MONOTONIC */
    void (*random)(void *ctx, void *out, size_t size); /* as bmb_port.random; NULL: /dev/urandom */
    /* How `wake` ends a wait. 0: by a datagram that a socket sends to itself, at once; not from interrupts, and the
     * stack needs a loopback interface. Above: a flag, from wherever, also from interrupts; a wait looks for it every
     * so many ms, which is what it may come late. */
    uint32_t wake_ms;
} bmb_poll_system;

/* All members are the port's own. */
typedef struct bmb_poll {
    bmb_poll_sock sock[BMB_POLL_SOCKETS];
    int wake, turn; /* a socket that sends to itself, or -1; whose it is to be reported first */
    bmb_poll_clip clip;
    bmb_poll_system system;
    volatile uint8_t woken; /* the flag */
    uint8_t refused;        /* options of sockets, a bit each */
    int send_flags;
} bmb_poll;

/* Fills in *port, whose cameras, log, light and storage stay empty. BMB_LIMIT: the system has no socket left;
 * BMB_UNSUPPORTED: `wake` cannot reach itself, since the stack has no loopback interface (see wake_ms), or there is no
 * clock or no source of random numbers. */
bmb_err bmb_poll_open(bmb_poll *self, bmb_port *port);
/* The same on a system that is not POSIX's all over. system is copied; NULL: it is. */
bmb_err bmb_poll_open_on(bmb_poll *self, const bmb_poll_system *system, bmb_port *port);
/* Which options of sockets the stack refused so far, such as "TCP_NODELAY, SO_KEEPALIVE"; "": none. Without them it
 * goes on, and worse: frames end late, or a peer that lost its power keeps its place. */
void bmb_poll_refused(const bmb_poll *self, char *out, size_t room);
void bmb_poll_close(bmb_poll *self);
/* A camera of that name: `size` bytes of JPEG images, which must stay, at up to mfps. BMB_BAD_DATA: there is none. */
bmb_err bmb_poll_camera(bmb_poll *self, const char *name, const void *data, size_t size, uint32_t mfps, uint16_t width,
                        uint16_t height, bmb_cameras *out);

#ifdef __cplusplus
}
#endif
#endif
