/* The Linux port: clock, epoll, sockets, network interfaces. It brings no cameras; attach those of bambino/sim.h or
 * your own to port.cameras before bmb_open().
 */
#ifndef BAMBINO_LINUX_H
#define BAMBINO_LINUX_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct bmb_linux bmb_linux;

/* Creates the port (heap memory, three file descriptors) and fills in *port, whose cameras and storage stay empty.
 * BMB_NO_MEMORY, BMB_LIMIT. */
bmb_err bmb_linux_create(bmb_linux **out, bmb_port *port);
void bmb_linux_destroy(bmb_linux *self);

/* Where events go: by default, sentences to stderr at BMB_LEVEL_INFO and graver. */
void bmb_linux_log_level(bmb_linux *self, bmb_level most_detailed);

/* The addresses under which a listener at `bound` can be reached: itself when it names one interface; for a wildcard
 * one per interface that is up, those reachable from outside first, loopback last. Link-local IPv6 addresses are left
 * out. Returns how many were written. */
size_t bmb_linux_reachable(const bmb_addr *bound, bmb_addr *out, size_t room);

/* Reads "ADDR:PORT", "[ADDR]:PORT", ":PORT" or "PORT"; an empty ADDR means every interface. BMB_BAD_ARG. */
bmb_err bmb_addr_parse(const char *text, bmb_addr *out);

#ifdef __cplusplus
}
#endif
#endif
