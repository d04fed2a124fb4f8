/* UDP: the packets of a frame leave through segmentation offload where the kernel has it (one call, one walk through
 * the network stack, for up to 64 packets of the same size), else with sendmmsg, else one by one. */
#include <errno.h>
#include <netinet/in.h>
#include <netinet/ip.h>
#include <netinet/udp.h>
#include <string.h>
#include <time.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include <linux/errqueue.h> /* wants struct timespec to be known */

#include "base/bytes.h"
#include "linux/state.h"

#ifndef UDP_SEGMENT
#define UDP_SEGMENT 103 /* linux/udp.h */
#endif
#define SEGMENTS_MOST 64      /* UDP_MAX_SEGMENTS of every kernel that has it */
#define SEGMENTED_MOST 65000u /* bytes of one such call: an IP datagram's bound */
#define SLICES_MOST 256
#define ANSWERS_MOST 64u /* read for one that says who is not there: a system that goes on for ever holds nobody up */
#define TRIES_MOST 4     /* answers that came back between two calls */
#define DELIVERY_CLASS 0x88 /* DSCP AF41, interactive video (RFC 4594) */

/* How many packets from the first on may go as segments of one: all as large as the first, the last may be smaller. */
static size_t run_of(const bmb_packet *packets, size_t count, size_t *segment, size_t *slices)
{
    size_t total = *segment = packets[0].size, n = 1;
    *slices = packets[0].count;
    while (n < count && n < SEGMENTS_MOST) {
        size_t size = packets[n].size;
        if (size > *segment || total + size > SEGMENTED_MOST || *slices + packets[n].count > SLICES_MOST) break;
        total += size;
        *slices += packets[n++].count;
        if (size < *segment) break;
    }
    return n;
}

/* The slices of several packets as one run; where they do not follow each other in memory, a copy of their list. */
static const struct iovec *slices_of(const bmb_packet *packets, size_t count, struct iovec *copy, size_t *total)
{
    bool together = true;
    *total = packets[0].count;
    for (size_t i = 1; i < count; i++) {
        together = together && packets[i].slices == packets[0].slices + *total;
        *total += packets[i].count;
    }
    if (together) return (const struct iovec *)(const void *)packets[0].slices;
    for (size_t i = 0, n = 0; i < count; n += packets[i++].count)
        memcpy(copy + n, packets[i].slices, packets[i].count * sizeof *copy);
    return copy;
}

static ssize_t send_segments(int fd, struct sockaddr_storage *to, socklen_t to_size, const bmb_packet *packets,
                             size_t count, size_t segment)
{
    struct iovec copy[SLICES_MOST];
    union {
        char bytes[CMSG_SPACE(sizeof(uint16_t))];
        struct cmsghdr align;
    } control;
    struct msghdr m = { .msg_name = to_size > 0 ? to : NULL, .msg_namelen = to_size };
    size_t parts; /* whose type in msghdr differs between C libraries */
    m.msg_iov = (struct iovec *)(uintptr_t)slices_of(packets, count, copy, &parts);
    m.msg_iovlen = (unsigned short)parts;
    if (count > 1) {
        m.msg_control = control.bytes;
        m.msg_controllen = sizeof control.bytes;
        struct cmsghdr *c = CMSG_FIRSTHDR(&m);
        c->cmsg_level = SOL_UDP;
        c->cmsg_type = UDP_SEGMENT;
        c->cmsg_len = CMSG_LEN(sizeof(uint16_t));
        const uint16_t size = (uint16_t)segment;
        memcpy(CMSG_DATA(c), &size, sizeof size);
    }
    return sendmsg(fd, &m, MSG_NOSIGNAL);
}

static bmb_err send_single(int fd, struct sockaddr_storage *to, socklen_t to_size, const bmb_packet *packets,
                           size_t count, size_t *taken)
{
    for (; *taken < count; ++*taken) {
        struct msghdr m = { .msg_name = to_size > 0 ? to : NULL,
                            .msg_namelen = to_size,
                            .msg_iov = (struct iovec *)(uintptr_t)packets[*taken].slices,
                            .msg_iovlen = packets[*taken].count };
        if (sendmsg(fd, &m, MSG_NOSIGNAL) < 0) return bmb_linux_errno(errno);
    }
    return BMB_OK;
}

static bmb_err send_many(bmb_linux *self, int fd, struct sockaddr_storage *to, socklen_t to_size,
                         const bmb_packet *packets, size_t count, size_t *taken)
{
    struct mmsghdr m[SEGMENTS_MOST];
    while (*taken < count) {
        unsigned n = 0;
        for (; n < SEGMENTS_MOST && *taken + n < count; n++) {
            const bmb_packet *p = &packets[*taken + n];
            m[n] = (struct mmsghdr){ .msg_hdr = { .msg_name = to_size > 0 ? to : NULL,
                                                  .msg_namelen = to_size,
                                                  .msg_iov = (struct iovec *)(uintptr_t)p->slices,
                                                  .msg_iovlen = p->count } };
        }
        int sent = sendmmsg(fd, m, n, MSG_NOSIGNAL);
        if (sent < 0 && errno == ENOSYS) {
            self->udp_way = BMB_UDP_SINGLE;
            return send_single(fd, to, to_size, packets, count, taken);
        }
        if (sent < 0) return bmb_linux_errno(errno);
        *taken += (size_t)sent;
    }
    return BMB_OK;
}

static bmb_err send_packets(bmb_linux *self, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                            size_t *taken)
{
    struct sockaddr_storage ss;
    socklen_t to_size = to != NULL ? bmb_linux_to_sockaddr(to, &ss) : 0; /* 0: the socket is connected */
    *taken = 0;
    while (self->udp_way == BMB_UDP_SEGMENT && *taken < count) {
        size_t segment, slices, n = run_of(packets + *taken, count - *taken, &segment, &slices);
        if (slices > SLICES_MOST) break;
        if (send_segments(sock, &ss, to_size, packets + *taken, n, segment) >= 0) {
            *taken += n;
            continue;
        }
        if (n > 1 && (errno == EINVAL || errno == EMSGSIZE)) break; /* this path only: packets over its MTU */
        if (errno != EIO && errno != EOPNOTSUPP && errno != ENOPROTOOPT) return bmb_linux_errno(errno);
        self->udp_way = BMB_UDP_MANY; /* no offload in this kernel or on this interface: never mind */
    }
    if (*taken == count) return BMB_OK;
    if (self->udp_way == BMB_UDP_SINGLE) return send_single(sock, &ss, to_size, packets, count, taken);
    return send_many(self, sock, &ss, to_size, packets, count, taken);
}

/* A socket for many peers fails once for each answer that came back, whoever it was about: those are read elsewhere. */
static bool not_about_this(const bmb_addr *to, int error)
{
    return to != NULL && (error == ECONNREFUSED || error == EHOSTUNREACH || error == ENETUNREACH);
}

/* With one peer the call itself has told; what is queued besides would only fill up. An answer about the size is the
 * system's business, which cuts packets smaller from then on. */
static bool is_about_size(bmb_sock sock, const bmb_addr *to, int error)
{
    struct msghdr m = { .msg_flags = 0 };
    if (to != NULL || error == 0) return false;
    for (unsigned n = 0; n < ANSWERS_MOST && recvmsg(sock, &m, MSG_ERRQUEUE | MSG_DONTWAIT) >= 0; n++) continue;
    return error == EMSGSIZE;
}

static bmb_err udp_send(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                        size_t *taken)
{
    size_t sent = 0;
    bmb_err err = BMB_OK;
    *taken = 0;
    for (unsigned tries = 0; tries < TRIES_MOST && *taken < count; tries++) {
        errno = 0;
        err = send_packets((bmb_linux *)ctx, sock, to, packets + *taken, count - *taken, &sent);
        *taken += sent;
        const int error = errno;
        if (err == BMB_OK || (!is_about_size(sock, to, error) && !not_about_this(to, error))) break;
    }
    return err;
}

static void set_multicast(int fd, uint8_t family, const bmb_udp_options *o)
{
    const int ttl = o->ttl > 0 ? o->ttl : 1, on = 1;
    if (family == 6) {
        setsockopt(fd, IPPROTO_IPV6, IPV6_MULTICAST_HOPS, &ttl, sizeof ttl);
        setsockopt(fd, IPPROTO_IPV6, IPV6_MULTICAST_LOOP, &on, sizeof on);
        return;
    }
    setsockopt(fd, IPPROTO_IP, IP_MULTICAST_TTL, &ttl, sizeof ttl);
    setsockopt(fd, IPPROTO_IP, IP_MULTICAST_LOOP, &on, sizeof on); /* viewers on this machine */
    const struct in_addr interface = { .s_addr = htonl(o->interface_ipv4) };
    if (o->interface_ipv4 != 0) setsockopt(fd, IPPROTO_IP, IP_MULTICAST_IF, &interface, sizeof interface);
}

static bmb_err udp_open(void *ctx, const bmb_addr *addr, const bmb_udp_options *o, bmb_sock *out, bmb_addr *bound)
{
    (void)ctx;
    const int on = 1, class = DELIVERY_CLASS;
    int fd = socket(addr->family == 6 ? AF_INET6 : AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    if (fd < 0) return bmb_linux_errno(errno);
    /* IPv4 has a socket of its own, which could not have the same port otherwise. */
    if (addr->family == 6) setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &on, sizeof on);
    if (addr->family == 4) setsockopt(fd, IPPROTO_IP, IP_TOS, &class, sizeof class);
    if (addr->family == 6) setsockopt(fd, IPPROTO_IPV6, IPV6_TCLASS, &class, sizeof class);
    set_multicast(fd, addr->family, o);
    const int buffer = (int)(o->send_buffer < INT32_MAX ? o->send_buffer : INT32_MAX);
    if (buffer > 0) setsockopt(fd, SOL_SOCKET, SO_SNDBUF, &buffer, sizeof buffer);
    /* What comes back for one of many peers is queued with its address, instead of failing whatever is called next.
     * With one peer the next call fails, too, also where nobody on this network has the address. */
    if (addr->family == 4) setsockopt(fd, IPPROTO_IP, IP_RECVERR, &on, sizeof on);
    if (addr->family == 6) setsockopt(fd, IPPROTO_IPV6, IPV6_RECVERR, &on, sizeof on);
    bmb_err err = bmb_linux_bind(fd, addr, bound);
    if (err == BMB_OK && o->peer != NULL) {
        struct sockaddr_storage ss;
        socklen_t size = bmb_linux_to_sockaddr(o->peer, &ss);
        setsockopt(fd, SOL_SOCKET, SO_BROADCAST, &on, sizeof on);
        if (connect(fd, (struct sockaddr *)&ss, size) != 0) err = bmb_linux_errno(errno);
    }
    if (err != BMB_OK) {
        close(fd);
        return err;
    }
    *out = fd;
    return BMB_OK;
}

static bmb_err udp_recv(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got, bmb_addr *from)
{
    (void)ctx;
    struct sockaddr_storage ss;
    socklen_t size = sizeof ss;
    ssize_t n = recvfrom(sock, out, room, 0, (struct sockaddr *)&ss, &size);
    *got = n > 0 ? (size_t)n : 0;
    if (n < 0) return bmb_linux_errno(errno);
    bmb_linux_from_sockaddr(&ss, from);
    return BMB_OK;
}

/* An answer of the destination's own host: the address that the packet went to, and what is quoted of it (ip(7),
 * IP_RECVERR). What routers answer, or others on the way, is passed over. */
static bmb_err udp_answer(void *ctx, bmb_sock sock, bmb_addr *to, void *quoted, size_t room, size_t *got)
{
    (void)ctx;
    union {
        char bytes[CMSG_SPACE(sizeof(struct sock_extended_err) + sizeof(struct sockaddr_in6))];
        struct cmsghdr align;
    } control;
    for (unsigned n = 0; n < ANSWERS_MOST; n++) {
        struct sockaddr_storage ss = { 0 }, offender = { 0 };
        struct iovec payload = { quoted, room };
        struct msghdr m = { .msg_name = &ss,
                            .msg_namelen = sizeof ss,
                            .msg_iov = &payload,
                            .msg_iovlen = 1,
                            .msg_control = control.bytes,
                            .msg_controllen = sizeof control.bytes };
        ssize_t size = recvmsg(sock, &m, MSG_ERRQUEUE | MSG_DONTWAIT);
        if (size < 0) return bmb_linux_errno(errno);
        const struct cmsghdr *c = CMSG_FIRSTHDR(&m);
        bool v4 = c != NULL && c->cmsg_level == IPPROTO_IP && c->cmsg_type == IP_RECVERR;
        bool v6 = c != NULL && c->cmsg_level == IPPROTO_IPV6 && c->cmsg_type == IPV6_RECVERR;
        struct sock_extended_err e;
        bmb_addr by;
        if (!v4 && !v6) continue;
        memcpy(&e, CMSG_DATA(c), sizeof e);
        if (e.ee_errno != ECONNREFUSED) continue; /* a router's answer, or about the size */
        size_t rest = (size_t)c->cmsg_len - CMSG_LEN(sizeof e);
        memcpy(&offender, CMSG_DATA(c) + sizeof e, rest < sizeof offender ? rest : sizeof offender);
        bmb_linux_from_sockaddr(&ss, to);
        bmb_linux_from_sockaddr(&offender, &by);
        if (!bmb_same_host(&by, to)) continue;
        *got = (size_t)size;
        return BMB_OK;
    }
    return BMB_AGAIN;
}

static bmb_err udp_unreachable(void *ctx, bmb_sock sock, bmb_addr *to)
{
    uint8_t quoted[1];
    size_t got;
    return udp_answer(ctx, sock, to, quoted, sizeof quoted, &got);
}

void bmb_linux_fill_udp(bmb_port *port)
{
    bmb_net *net = &port->net;
    port->udp_answer = udp_answer;
    net->udp_open = udp_open;
    net->udp_send = udp_send;
    net->udp_recv = udp_recv;
    net->udp_unreachable = udp_unreachable;
}
