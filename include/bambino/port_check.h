/* Is a port what bambino/port.h asks for? A test program, with cmocka, that links with the port:
 *
 *     static bmb_port *open(void) { … }          a fresh one; cameras and storage where it has them
 *     static void close(bmb_port *port) { … }
 *
 *     int main(void)
 *     {
 *         const bmb_port_check check = { .name = "our board", .open = open, .close = close, .peers = &bmb_host_peers };
 *         return bmb_port_check_run(&check);
 *     }
 *
 * Functions that the port leaves out are not asked for, where they are optional. Each question is a test of its own;
 * the names of those that fail say what is wrong. Everything stays on the loopback interface unless `host` says
 * otherwise.
 */
#ifndef BAMBINO_PORT_CHECK_H
#define BAMBINO_PORT_CHECK_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The other ends of connections, which the check drives. None of these blocks. A peer is a number that means something
 * to them alone; below 0: it failed. */
typedef struct bmb_peers {
    int (*connect)(const bmb_addr *to);
    int (*listen)(bmb_addr *bound); /* port->net.dial dials this; NULL: dialling cannot be checked */
    int (*accept)(int listener);    /* below 0: nobody has come yet */
    long (*send)(int peer, const void *data, size_t size); /* bytes taken */
    long (*recv)(int peer, void *out, size_t room);        /* bytes; 0: the end; below 0: nothing is there */
    void (*finish)(int peer); /* sends no more, and goes on to listen; NULL: cannot be done */
    void (*close)(int peer);
    int (*udp)(bmb_addr *bound); /* NULL: datagrams cannot be checked */
    long (*udp_send)(int peer, const bmb_addr *to, const void *data, size_t size);
    long (*udp_recv)(int peer, void *out, size_t room, bmb_addr *from); /* below 0: nothing is there */
} bmb_peers;

/* Sockets of the machine that the check runs on. */
extern const bmb_peers bmb_host_peers;
/* The address of this machine at which the port reaches them, where `host` of the check is another machine or stack;
 * else 127.0.0.1. Before the check runs. */
void bmb_host_peers_use(const bmb_addr *own);
/* Sockets of another port on the same network, for boards that have no host beside them: one of the same kind will do
 * where the stack connects to itself. To be named before the check runs. */
extern const bmb_peers bmb_port_peers;
void bmb_port_peers_use(bmb_port *port);
/* For `exhaust`, where the port's sockets are files of this machine: the process may open no more of them. */
void bmb_host_exhaust(bool on);

typedef struct bmb_port_check {
    const char *name;
    bmb_port *(*open)(void);
    void (*close)(bmb_port *port);
    const bmb_peers *peers;
    bmb_addr host;                             /* where the port's sockets are reached; family 0: 127.0.0.1 */
    void (*pass)(bmb_port *port, uint32_t us); /* lets time pass; NULL: port->wait does */
    void (*exhaust)(bool on);                  /* no socket can be had any more; false: again. NULL: cannot be done */
} bmb_port_check;

/* Runs all questions; returns how many failed. */
int bmb_port_check_run(const bmb_port_check *check);

#ifdef __cplusplus
}
#endif
#endif
