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
 * What it asks of the system: socket, bind, listen, accept, connect, sendmsg, recvfrom, sendto, shutdown, getsockname,
 * getpeername, setsockopt, poll, fcntl(O_NONBLOCK), clock_gettime(CLOCK_MONOTONIC), and /dev/urandom or getentropy in
 * its place.
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

/* All members are the port's own. */
typedef struct bmb_poll {
    bmb_poll_sock sock[BMB_POLL_SOCKETS];
    int wake, turn; /* a socket that sends to itself; whose it is to be reported first */
    bmb_poll_clip clip;
} bmb_poll;

/* Fills in *port, whose cameras, log, light and storage stay empty. BMB_LIMIT: the system has no socket left. */
bmb_err bmb_poll_open(bmb_poll *self, bmb_port *port);
void bmb_poll_close(bmb_poll *self);
/* A camera of that name: `size` bytes of JPEG images, which must stay, at up to mfps. BMB_BAD_DATA: there is none. */
bmb_err bmb_poll_camera(bmb_poll *self, const char *name, const void *data, size_t size, uint32_t mfps, uint16_t width,
                        uint16_t height, bmb_cameras *out);

#ifdef __cplusplus
}
#endif
#endif
