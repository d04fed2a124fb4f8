#include "receive/line.h"

#include <arpa/inet.h>
#include <errno.h>
#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "receive/secure.h"

uint64_t line_now_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

int64_t line_wall_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_REALTIME, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

uint16_t line_port(const struct sockaddr_storage *at)
{
    return ntohs(at->ss_family == AF_INET6 ? ((const struct sockaddr_in6 *)(const void *)at)->sin6_port
                                           : ((const struct sockaddr_in *)(const void *)at)->sin_port);
}

void line_set_port(struct sockaddr_storage *at, uint16_t port)
{
    if (at->ss_family == AF_INET6)
        ((struct sockaddr_in6 *)(void *)at)->sin6_port = htons(port);
    else
        ((struct sockaddr_in *)(void *)at)->sin_port = htons(port);
}

bool line_is_group(const struct sockaddr_storage *at)
{
    if (at->ss_family == AF_INET6) return ((const struct sockaddr_in6 *)(const void *)at)->sin6_addr.s6_addr[0] == 0xFF;
    return IN_MULTICAST(ntohl(((const struct sockaddr_in *)(const void *)at)->sin_addr.s_addr));
}

const char *line_text(const struct sockaddr_storage *at, bool with_port, char *out, size_t room)
{
    char host[INET6_ADDRSTRLEN] = "?";
    bool v6 = at->ss_family == AF_INET6;
    const void *ip = v6 ? (const void *)&((const struct sockaddr_in6 *)(const void *)at)->sin6_addr
                        : (const void *)&((const struct sockaddr_in *)(const void *)at)->sin_addr;
    if (v6 && IN6_IS_ADDR_V4MAPPED((const struct in6_addr *)ip)) { /* a socket for both: it is IPv4's */
        ip = (const uint8_t *)ip + 12;
        v6 = false;
    }
    (void)inet_ntop(v6 ? AF_INET6 : AF_INET, ip, host, sizeof host);
    if (with_port)
        snprintf(out, room, v6 ? "[%s]:%u" : "%s:%u", host, line_port(at));
    else
        snprintf(out, room, "%s", host);
    return out;
}

bool line_address(const char *host, uint16_t port, bool passive, struct sockaddr_storage *out, socklen_t *size)
{
    const struct addrinfo hints = { .ai_socktype = SOCK_STREAM, .ai_flags = passive ? AI_PASSIVE : 0 };
    struct addrinfo *found = NULL;
    char service[8];
    snprintf(service, sizeof service, "%u", port);
    if (getaddrinfo(host[0] != '\0' ? host : NULL, service, &hints, &found) != 0) return false;
    memset(out, 0, sizeof *out);
    memcpy(out, found->ai_addr, found->ai_addrlen);
    *size = found->ai_addrlen;
    freeaddrinfo(found);
    return true;
}

/* Waits for it, in steps short enough that `stop` is seen. */
static bool wait_for(int fd, short what, int wait_ms, const volatile bool *stop)
{
    uint64_t end = line_now_us() + (uint64_t)wait_ms * 1000u;
    for (;;) {
        uint64_t now = line_now_us();
        if (now >= end || (stop != NULL && *stop)) return false;
        uint64_t left = (end - now) / 1000u + 1;
        struct pollfd p = { .fd = fd, .events = what };
        if (poll(&p, 1, left < 100 ? (int)left : 100) > 0) return true;
    }
}

static line_state connect_to(line *l, const struct addrinfo *at, int wait_ms, const volatile bool *stop)
{
    int error = 0, one = 1;
    socklen_t size = sizeof error;
    l->fd = socket(at->ai_family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (l->fd < 0) return LINE_FAILED;
    (void)setsockopt(l->fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
    memcpy(&l->peer, at->ai_addr, at->ai_addrlen);
    l->peer_size = at->ai_addrlen;
    (void)line_text(&l->peer, false, l->peer_text, sizeof l->peer_text);
    if (connect(l->fd, at->ai_addr, at->ai_addrlen) != 0) {
        if (errno == EINPROGRESS && !wait_for(l->fd, POLLOUT, wait_ms, stop)) return LINE_SILENT;
        if (errno != EINPROGRESS) error = errno;
    }
    if (error == 0) (void)getsockopt(l->fd, SOL_SOCKET, SO_ERROR, &error, &size);
    l->own_size = sizeof l->own;
    (void)getsockname(l->fd, (struct sockaddr *)(void *)&l->own, &l->own_size);
    l->error = error;
    return error == 0                                      ? LINE_OPEN
           : error == ECONNREFUSED                         ? LINE_REFUSED
           : error == ENETUNREACH || error == EHOSTUNREACH ? LINE_NO_ROUTE
           : error == ETIMEDOUT                            ? LINE_SILENT
                                                           : LINE_FAILED;
}

line_state line_open(line *l, const char *host, uint16_t port, bool secure, int wait_ms, const volatile bool *stop)
{
    const struct addrinfo hints = { .ai_socktype = SOCK_STREAM };
    struct addrinfo *found = NULL;
    char service[8];
    line_state state = LINE_UNKNOWN_HOST;
    memset(l, 0, sizeof *l);
    l->fd = -1;
    snprintf(service, sizeof service, "%u", port);
    if (secure && !secure_there()) return LINE_NO_TLS;
    if (getaddrinfo(host, service, &hints, &found) != 0) return state;
    l->resolved_us = line_now_us();
    for (const struct addrinfo *at = found; at != NULL && state != LINE_OPEN; at = at->ai_next) {
        if (l->fd >= 0) close(l->fd);
        state = connect_to(l, at, wait_ms, stop);
        if (state == LINE_SILENT && stop != NULL && *stop) break;
    }
    freeaddrinfo(found);
    if (state != LINE_OPEN) return state;
    l->connected_us = line_now_us();
    if (!secure) return LINE_OPEN;
    l->secure = secure_begin(l, host, wait_ms);
    l->secured_us = line_now_us();
    return l->secure != NULL ? LINE_OPEN : LINE_BAD_TLS;
}

bool line_send(line *l, const void *data, size_t size)
{
    const uint8_t *at = data;
    while (size > 0) {
        ssize_t n = l->secure != NULL ? secure_send(l->secure, at, size) : send(l->fd, at, size, MSG_NOSIGNAL);
        if (n < 0 && l->secure == NULL && (errno == EAGAIN || errno == EINTR)) {
            if (!wait_for(l->fd, POLLOUT, 5000, NULL)) return false;
            continue;
        }
        if (n <= 0) return false;
        at += n;
        size -= (size_t)n;
    }
    return true;
}

bool line_has(const line *l)
{
    return l->secure != NULL && secure_has(l->secure);
}

int line_recv(line *l, void *out, size_t room, int wait_ms)
{
    if (!line_has(l) && wait_ms > 0 && !wait_for(l->fd, POLLIN, wait_ms, NULL)) return -2;
    if (l->secure != NULL) return secure_recv(l->secure, out, room);
    ssize_t n = recv(l->fd, out, room, 0);
    if (n < 0) return errno == EAGAIN || errno == EINTR ? -2 : -1;
    return (int)n;
}

void line_close(line *l)
{
    if (l->secure != NULL) secure_end(l->secure);
    if (l->fd >= 0) close(l->fd);
    l->secure = NULL;
    l->fd = -1;
}

/* At the interface that is named, and at the one that the system chooses: the sender may use either. */
static bool join(int fd, const struct sockaddr_storage *at, const struct sockaddr_storage *interface)
{
    if (at->ss_family == AF_INET6) {
        const struct ipv6_mreq m = { .ipv6mr_multiaddr = ((const struct sockaddr_in6 *)(const void *)at)->sin6_addr };
        return setsockopt(fd, IPPROTO_IPV6, IPV6_JOIN_GROUP, &m, sizeof m) == 0;
    }
    struct ip_mreq m = { .imr_multiaddr = ((const struct sockaddr_in *)(const void *)at)->sin_addr };
    bool joined = setsockopt(fd, IPPROTO_IP, IP_ADD_MEMBERSHIP, &m, sizeof m) == 0;
    if (interface == NULL || interface->ss_family != AF_INET) return joined;
    m.imr_interface = ((const struct sockaddr_in *)(const void *)interface)->sin_addr;
    return setsockopt(fd, IPPROTO_IP, IP_ADD_MEMBERSHIP, &m, sizeof m) == 0 || joined;
}

int line_datagram(const struct sockaddr_storage *at, socklen_t size, const struct sockaddr_storage *interface)
{
    int one = 1, room = 4 << 20;
    int fd = socket(at->ss_family, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (fd < 0) return -1;
    bool group = line_is_group(at);
    if (group) (void)setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &one, sizeof one);
    (void)setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof room);
    (void)setsockopt(fd, SOL_SOCKET, SO_TIMESTAMPNS, &one, sizeof one);
    if (bind(fd, (const struct sockaddr *)(const void *)at, size) == 0 && (!group || join(fd, at, interface)))
        return fd;
    int error = errno;
    close(fd);
    errno = error;
    return -1;
}

int line_take(int fd, void *out, size_t room, uint64_t *at_us, struct sockaddr_storage *from)
{
    union {
        struct cmsghdr head;
        char bytes[CMSG_SPACE(sizeof(struct timespec))];
    } control;
    struct sockaddr_storage peer = { 0 };
    struct iovec v = { out, room };
    struct msghdr m = { .msg_name = &peer,
                        .msg_namelen = sizeof peer,
                        .msg_iov = &v,
                        .msg_iovlen = 1,
                        .msg_control = control.bytes,
                        .msg_controllen = sizeof control.bytes };
    ssize_t n = recvmsg(fd, &m, 0);
    *at_us = line_now_us();
    if (n < 0) return errno == EAGAIN || errno == EINTR || errno == ECONNREFUSED ? -2 : -1;
    for (struct cmsghdr *c = CMSG_FIRSTHDR(&m); c != NULL; c = CMSG_NXTHDR(&m, c)) {
        struct timespec t;
        if (c->cmsg_level != SOL_SOCKET || c->cmsg_type != SCM_TIMESTAMPNS) continue;
        memcpy(&t, CMSG_DATA(c), sizeof t);
        int64_t waited = line_wall_us() - ((int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000);
        if (waited > 0 && waited < 10000000) *at_us -= (uint64_t)waited; /* unless the clock was set meanwhile */
    }
    if (from != NULL) *from = peer;
    return (int)n;
}
