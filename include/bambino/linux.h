/* The Linux port: clock, epoll, sockets, network interfaces. It brings no cameras; attach those of bambino/sim.h or
 * your own to port.cameras before bmb_open().
 */
#ifndef BAMBINO_LINUX_H
#define BAMBINO_LINUX_H

#include "bambino/device.h"
#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct bmb_linux bmb_linux;

/* Creates the port (heap memory, three file descriptors) and fills in *port, whose cameras and storage stay empty.
 * BMB_NO_MEMORY, BMB_LIMIT. */
bmb_err bmb_linux_create(bmb_linux **out, bmb_port *port);
/* After bmb_close(), and after cameras that call `wake`. */
void bmb_linux_destroy(bmb_linux *self);

/* For small programs. Opens a device in memory from the heap, which is given back with the port or the next time; NULL:
 * standard error says why it cannot be. */
bmb_device *bmb_linux_open(bmb_linux *self, const bmb_config *config);
/* Prints the addresses of all feeds on standard output, one a line, as a player takes them. */
void bmb_linux_print_addresses(const bmb_config *config, const bmb_device *device);
/* Steps the device until the program is interrupted (SIGINT, SIGTERM), or for so many seconds; 0: without an end. */
void bmb_linux_serve(bmb_device *device, const bmb_port *port, uint32_t seconds);
/* For a loop of one's own: a descriptor that is readable when bmb_step() has something to do, for poll(2), epoll(7) or
 * an event library. The time that bmb_step() returns counts besides. It stays the port's. */
int bmb_linux_fd(const bmb_linux *self);

/* Ends `wait` while this descriptor has something to be read (on), or not any more: for drivers whose calls do not
 * block, and who look in `take`. */
void bmb_linux_watch(bmb_linux *self, int fd, bool on);

/* Where events go: by default, sentences to stderr at BMB_LEVEL_INFO and graver. They are written by a thread of its
 * own (see bmb_lines), so that a pipe, terminal or disk that takes nothing never holds the device up. */
void bmb_linux_log_level(bmb_linux *self, bmb_level most_detailed);

/* Lines of text to a file descriptor, written behind the caller's back. A bounded number waits; where nobody takes them
 * the newest ones are not kept, and a line says how many are missing as soon as there is room again. A closed pipe is
 * taken in its stride, without a signal. */
typedef struct bmb_lines bmb_lines;
bmb_lines *bmb_lines_open(int fd); /* NULL: no memory, or no thread. The descriptor stays the caller's */
void bmb_lines_put(bmb_lines *lines, const char *text); /* without its line end; never blocks; NULL is allowed */
/* Waits at most so long for what is still to be written. false: it was not taken; the descriptor must stay open. */
bool bmb_lines_close(bmb_lines *lines, uint32_t wait_ms);

/* Tells a service manager something (sd_notify(3)): "READY=1", "WATCHDOG=1", "STOPPING=1", "STATUS=…". false: there is
 * none, or it does not listen. */
bool bmb_linux_notify(const char *text);
/* How often it wants to hear "WATCHDOG=1" at least, in us; 0: not at all. */
uint64_t bmb_linux_watchdog_us(void);

/* Keeps named records as files in a folder, which is made when it is not there. BMB_DENIED, BMB_NOT_FOUND (its parent):
 * nothing can be stored there; what is there is loaded all the same. */
bmb_err bmb_linux_storage(bmb_linux *self, const char *folder, bmb_storage *out);
/* Writes a file whole or not at all, also over a power cut: under another name in the same folder first, which nobody
 * can guess and which ends in BMB_LINUX_PART, and down to the medium before it gets its own. A symbolic link at the
 * path is replaced and not followed. replace false: a file that is there stays, and BMB_IN_USE is returned.
 * BMB_NO_ROOM, BMB_DENIED, BMB_NOT_FOUND (the folder). */
bmb_err bmb_linux_write_whole(const char *path, const void *data, size_t size, bool replace);
#define BMB_LINUX_PART ".part"
/* If a file's name is one under which a file was being written, cuts it to the name that it would have got. */
bool bmb_linux_unpart(char *name);

/* The addresses under which a listener at `bound` can be reached: itself when it names one interface; for a wildcard
 * one per interface that is up, those reachable from outside first, loopback last. Link-local IPv6 addresses are left
 * out. Returns how many were written. */
size_t bmb_linux_reachable(const bmb_addr *bound, bmb_addr *out, size_t room);

/* The index of the interface that has an address (RFC 3493, section 4); 0: none has it, or it is a wildcard. */
unsigned bmb_linux_interface_of(const bmb_addr *addr);

/* Reads "ADDR:PORT", "[ADDR]:PORT", ":PORT" or "PORT"; an empty ADDR means every interface: of IPv6 and
 * IPv4, where the system has both ("::", whose listener takes both), else of IPv4. BMB_BAD_ARG. */
bmb_err bmb_addr_parse(const char *text, bmb_addr *out);

/* What is wrong with a destination that somebody typed, or worth a word. */
typedef enum bmb_destination_fault {
    BMB_DESTINATION_FINE = 0,
    BMB_DESTINATION_SCHEME,         /* neither udp:// nor tcp:// */
    BMB_DESTINATION_NOT_AN_ADDRESS, /* no host that could be one, or something behind the port */
    BMB_DESTINATION_NO_PORT,        /* none, or not 1 to 65535 */
    BMB_DESTINATION_UNKNOWN_HOST,   /* the name cannot be resolved */
    BMB_DESTINATION_NO_ROUTE,       /* no interface leads there */
    BMB_DESTINATION_OWN,            /* this machine itself: possible, but seldom meant */
    BMB_DESTINATION_OTHER_NETWORK   /* on no network of this machine: goes through a router */
} bmb_destination_fault;

/* Reads "udp://HOST:PORT" or "tcp://HOST:PORT" and resolves the host, which may block for as long as the system's
 * resolver does. HOST: a name, an IPv4 address, or an IPv6 address in brackets. */
bmb_destination_fault bmb_linux_destination(const char *text, bool *tcp, bmb_addr *out);
/* Looks at a destination from this machine: one of the last three, or fine. */
bmb_destination_fault bmb_linux_judge(const bmb_addr *to);

#ifdef __cplusplus
}
#endif
#endif
