/* Private to ports/linux. */
#ifndef BMB_LINUX_STATE_H
#define BMB_LINUX_STATE_H

#include <stdbool.h>
#include <sys/epoll.h>
#include <sys/socket.h>

#include "bambino/linux.h"

#define BMB_LINUX_STASH 64
#define BMB_LINUX_WAKE UINT64_MAX
#define BMB_LINUX_OTHERS (UINT64_MAX - 1)

/* How packets leave: each way is tried once and given up for good when the kernel does not know it. */
typedef enum bmb_udp_way { BMB_UDP_SEGMENT, BMB_UDP_MANY, BMB_UDP_SINGLE } bmb_udp_way;

struct bmb_linux {
    int epoll, wake;
    struct epoll_event stash[BMB_LINUX_STASH]; /* found by wait, reported by ready */
    int stash_count;
    bmb_level log_level;
    bmb_udp_way udp_way;
    char *state_folder; /* of bmb_linux_storage */
    bmb_lines *log;     /* opened with the first event */
    void *memory;       /* of bmb_linux_open */
};

void bmb_linux_fill_net(bmb_net *net);
bmb_err bmb_linux_path(void *ctx, bmb_sock sock, bmb_net_path *out);
void bmb_linux_fill_udp(bmb_port *port);
/* Binds, and reads back where the socket really is: the port may have been 0. */
bmb_err bmb_linux_bind(int fd, const bmb_addr *addr, bmb_addr *bound);
bmb_err bmb_linux_errno(int error);
socklen_t bmb_linux_to_sockaddr(const bmb_addr *addr, struct sockaddr_storage *out);
void bmb_linux_from_sockaddr(const struct sockaddr_storage *in, bmb_addr *out);

#endif
