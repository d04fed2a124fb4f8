/* The other ends of connections as sockets of this machine. */
#include "bambino/port_check.h"

#include <fcntl.h>
#include <netinet/in.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <unistd.h>

static bmb_addr here = { .family = 4, .ip = { 127, 0, 0, 1 } };

void bmb_host_peers_use(const bmb_addr *own)
{
    here = *own;
    here.port = 0;
}

void bmb_host_exhaust(bool on)
{
    static rlim_t before;
    struct rlimit limit;
    int lowest = on ? dup(STDERR_FILENO) : -1; /* the next file would be this one */
    if (getrlimit(RLIMIT_NOFILE, &limit) != 0) return;
    if (on) before = limit.rlim_cur;
    limit.rlim_cur = lowest >= 0 ? (rlim_t)lowest : before;
    (void)setrlimit(RLIMIT_NOFILE, &limit);
    if (lowest >= 0) close(lowest);
}

static struct sockaddr_in address_of(const bmb_addr *a)
{
    struct sockaddr_in s = { .sin_family = AF_INET, .sin_port = htons(a->port) };
    memcpy(&s.sin_addr, a->ip, 4);
    return s;
}

static bmb_addr from_address(const struct sockaddr_in *s)
{
    bmb_addr a = { .family = 4, .port = ntohs(s->sin_port) };
    memcpy(a.ip, &s->sin_addr, 4);
    return a;
}

static int quiet(int fd)
{
    (void)fcntl(fd, F_SETFL, fcntl(fd, F_GETFL) | O_NONBLOCK);
    return fd;
}

static int peer_connect(const bmb_addr *to)
{
    struct sockaddr_in s = address_of(to);
    int fd = socket(AF_INET, SOCK_STREAM, 0);
    if (connect(fd, (struct sockaddr *)&s, sizeof s) == 0) return quiet(fd);
    close(fd);
    return -1;
}

static int bound_socket(int type, bmb_addr *bound)
{
    struct sockaddr_in s = address_of(&here);
    socklen_t size = sizeof s;
    int fd = socket(AF_INET, type, 0);
    if (bind(fd, (struct sockaddr *)&s, size) != 0 || getsockname(fd, (struct sockaddr *)&s, &size) != 0) return -1;
    *bound = from_address(&s);
    return quiet(fd);
}

static int peer_listen(bmb_addr *bound)
{
    int fd = bound_socket(SOCK_STREAM, bound);
    return fd >= 0 && listen(fd, 8) == 0 ? fd : -1;
}

static int peer_accept(int listener)
{
    int fd = accept(listener, NULL, NULL);
    return fd >= 0 ? quiet(fd) : -1;
}

static long peer_send(int peer, const void *data, size_t size)
{
    ssize_t n = send(peer, data, size, MSG_NOSIGNAL);
    return n > 0 ? n : 0;
}

static long peer_recv(int peer, void *out, size_t room)
{
    return recv(peer, out, room, 0);
}

static void peer_finish(int peer)
{
    (void)shutdown(peer, SHUT_WR);
}

static void peer_close(int peer)
{
    close(peer);
}

static int peer_udp(bmb_addr *bound)
{
    return bound_socket(SOCK_DGRAM, bound);
}

static long peer_udp_send(int peer, const bmb_addr *to, const void *data, size_t size)
{
    struct sockaddr_in s = address_of(to);
    return sendto(peer, data, size, 0, (struct sockaddr *)&s, sizeof s);
}

static long peer_udp_recv(int peer, void *out, size_t room, bmb_addr *from)
{
    struct sockaddr_in s;
    socklen_t size = sizeof s;
    ssize_t n = recvfrom(peer, out, room, 0, (struct sockaddr *)&s, &size);
    if (n >= 0) *from = from_address(&s);
    return n;
}

const bmb_peers bmb_host_peers = { .connect = peer_connect,
                                   .listen = peer_listen,
                                   .accept = peer_accept,
                                   .send = peer_send,
                                   .recv = peer_recv,
                                   .finish = peer_finish,
                                   .close = peer_close,
                                   .udp = peer_udp,
                                   .udp_send = peer_udp_send,
                                   .udp_recv = peer_udp_recv };
