/* The port on poll(2): clock, waiting, sockets. */
#include "bambino/poll.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

#if defined LWIP_HDR_SOCKETS_H && !LWIP_IPV6
#define HAS_IPV6 0 /* the stack has no such addresses */
#else
#define HAS_IPV6 BMB_WITH_IPV6
#endif
#define BACKLOG 16
#define SLICES_AT_ONCE 16 /* IOV_MAX is at least that (POSIX) */
#define WAIT_MOST_MS 60000

#define WAKES_WITHIN_MS 200 /* a datagram to itself is there at once, where it comes at all */

#ifndef MSG_NOSIGNAL
#define MSG_NOSIGNAL 0 /* then the program has to ignore SIGPIPE */
#endif

/* Options that can be done without. */
typedef enum option { NODELAY, KEEPALIVE, REUSE, BROADCAST, TTL, INTERFACE, OPTIONS } option;
static const char *const option_names[OPTIONS] = { "TCP_NODELAY",  "SO_KEEPALIVE",     "SO_REUSEADDR",
                                                   "SO_BROADCAST", "IP_MULTICAST_TTL", "IP_MULTICAST_IF" };

static bmb_err err_of(int error)
{
    static const struct {
        int error;
        bmb_err err;
    } rows[] = { { EAGAIN, BMB_AGAIN },         { EWOULDBLOCK, BMB_AGAIN },     { EINTR, BMB_AGAIN },
                 { ENOBUFS, BMB_AGAIN },        { EADDRINUSE, BMB_IN_USE },     { EADDRNOTAVAIL, BMB_NOT_FOUND },
                 { EACCES, BMB_DENIED },        { EPERM, BMB_DENIED },          { EMFILE, BMB_LIMIT },
                 { ENFILE, BMB_LIMIT },         { ENOMEM, BMB_LIMIT },          { ECONNREFUSED, BMB_REFUSED },
                 { ENETUNREACH, BMB_NO_ROUTE }, { EHOSTUNREACH, BMB_NO_ROUTE }, { ETIMEDOUT, BMB_TIMED_OUT },
                 { EPIPE, BMB_GONE },           { ECONNRESET, BMB_GONE },       { ENOTCONN, BMB_GONE } };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (rows[i].error == error) return rows[i].err;
    return BMB_FAILED;
}

static socklen_t to_system(const bmb_addr *addr, struct sockaddr_storage *out)
{
    memset(out, 0, sizeof *out);
#if HAS_IPV6
    if (addr->family == 6) {
        struct sockaddr_in6 *in = (struct sockaddr_in6 *)out;
        in->sin6_family = AF_INET6;
        in->sin6_port = htons(addr->port);
        in->sin6_scope_id = addr->scope;
        memcpy(&in->sin6_addr, addr->ip, 16);
        return sizeof *in;
    }
#endif
    struct sockaddr_in *in = (struct sockaddr_in *)out;
    in->sin_family = AF_INET;
    in->sin_port = htons(addr->port);
    memcpy(&in->sin_addr, addr->ip, 4);
    return sizeof *in;
}

static void from_system(const struct sockaddr_storage *in, bmb_addr *out)
{
    memset(out, 0, sizeof *out);
    out->family = 4;
#if HAS_IPV6
    if (in->ss_family == AF_INET6) {
        static const uint8_t mapped[12] = { [10] = 0xFF, [11] = 0xFF }; /* an IPv4 peer of a socket for both */
        const struct sockaddr_in6 *v6 = (const struct sockaddr_in6 *)in;
        const uint8_t *ip = (const uint8_t *)&v6->sin6_addr;
        bool v4 = memcmp(ip, mapped, sizeof mapped) == 0;
        out->port = ntohs(v6->sin6_port);
        memcpy(out->ip, ip + (v4 ? 12 : 0), v4 ? 4 : 16);
        if (v4) return;
        out->family = 6;
        out->scope = v6->sin6_scope_id;
        return;
    }
#endif
    const struct sockaddr_in *v4 = (const struct sockaddr_in *)in;
    out->port = ntohs(v4->sin_port);
    memcpy(out->ip, &v4->sin_addr, 4);
}

/* POSIX's clock and random numbers, where the C library and the descriptors are POSIX's. */
#ifdef LWIP_HDR_SOCKETS_H
static uint64_t (*const posix_now)(void *ctx) = NULL;
static void (*const posix_random)(void *ctx, void *out, size_t size) = NULL;
#else
static uint64_t posix_now(void *ctx)
{
    struct timespec t;
    (void)ctx;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

static void posix_random(void *ctx, void *out, size_t size)
{
    (void)ctx;
    int fd = open("/dev/urandom", O_RDONLY);
    for (ssize_t n; size > 0 && (n = read(fd, out, size)) > 0; size -= (size_t)n) out = (uint8_t *)out + n;
    close(fd);
}
#endif

static uint64_t now_us(void *ctx)
{
    const bmb_poll_system *s = &((const bmb_poll *)ctx)->system;
    return s->now_us(s->ctx);
}

static void random_bytes(void *ctx, void *out, size_t size)
{
    const bmb_poll_system *s = &((const bmb_poll *)ctx)->system;
    s->random(s->ctx, out, size);
}

static void set_option(bmb_poll *self, int fd, int level, int name, const void *value, socklen_t size, option which)
{
    if (setsockopt(fd, level, name, value, size) != 0) self->refused |= (uint8_t)(1u << which);
}

void bmb_poll_refused(const bmb_poll *self, char *out, size_t room)
{
    size_t at = 0;
    if (room > 0) out[0] = '\0';
    for (int i = 0; i < OPTIONS; i++) {
        size_t size = strlen(option_names[i]), before = at > 0 ? 2 : 0;
        if ((self->refused >> i & 1) == 0 || at + before + size >= room) continue;
        memcpy(out + at, ", ", before);
        memcpy(out + at + before, option_names[i], size + 1);
        at += before + size;
    }
}

/* The table. */
static bmb_poll_sock *at(void *ctx, bmb_sock index)
{
    return &((bmb_poll *)ctx)->sock[index];
}

/* Nothing on it waits: there are stacks whose fcntl takes three arguments. */
static bool be_quiet(int fd)
{
    int flags = fcntl(fd, F_GETFL, 0);
    return flags >= 0 && fcntl(fd, F_SETFL, flags | O_NONBLOCK) >= 0;
}

/* Takes a descriptor into the table. A negative one is the failure of the call that made it. */
static bmb_err add(bmb_poll *self, int fd, int type, uint8_t family, bmb_sock *out)
{
    const int on = 1;
    if (fd < 0) return err_of(errno);
    for (bmb_sock i = 0; i < BMB_POLL_SOCKETS; i++) {
        if (self->sock[i].fd >= 0) continue;
        if (!be_quiet(fd)) break;
        if (type == SOCK_STREAM) {
            /* A frame's last bytes must not wait; and a peer that lost its power says nothing. */
            set_option(self, fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on, NODELAY);
            set_option(self, fd, SOL_SOCKET, SO_KEEPALIVE, &on, sizeof on, KEEPALIVE);
        }
        self->sock[i] = (bmb_poll_sock){ .fd = fd, .family = family };
        *out = i;
        return BMB_OK;
    }
    close(fd);
    return BMB_LIMIT;
}

static bool has_room(const bmb_poll *self)
{
    for (bmb_sock i = 0; i < BMB_POLL_SOCKETS; i++)
        if (self->sock[i].fd < 0) return true;
    return false;
}

static void close_sock(void *ctx, bmb_sock index)
{
    close(at(ctx, index)->fd);
    at(ctx, index)->fd = -1;
}

static bmb_err fail(void *ctx, bmb_sock index)
{
    bmb_err err = err_of(errno);
    close_sock(ctx, index);
    return err;
}

static bmb_err local(void *ctx, bmb_sock index, bmb_addr *out)
{
    struct sockaddr_storage ss;
    socklen_t size = sizeof ss;
    if (getsockname(at(ctx, index)->fd, (struct sockaddr *)&ss, &size) != 0) return err_of(errno);
    from_system(&ss, out);
    return BMB_OK;
}

static bmb_err open_bound(void *ctx, int type, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    const int on = 1;
    struct sockaddr_storage ss;
    socklen_t size = to_system(addr, &ss);
    if (addr->family == 6 && !HAS_IPV6) return BMB_UNSUPPORTED;
    bmb_err err =
        add((bmb_poll *)ctx, socket(addr->family == 6 ? AF_INET6 : AF_INET, type, 0), type, addr->family, out);
    if (err != BMB_OK) return err;
    if (type == SOCK_STREAM)
        set_option((bmb_poll *)ctx, at(ctx, *out)->fd, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on, REUSE);
    if (bind(at(ctx, *out)->fd, (struct sockaddr *)&ss, size) != 0) return fail(ctx, *out);
    err = local(ctx, *out, bound);
    bound->family = addr->family;
    return err;
}

static bmb_err listen_at(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    bmb_err err = open_bound(ctx, SOCK_STREAM, addr, out, bound);
    if (err != BMB_OK) return err;
    return listen(at(ctx, *out)->fd, BACKLOG) == 0 ? BMB_OK : fail(ctx, *out);
}

static bmb_err accept_one(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    struct sockaddr_storage ss;
    socklen_t size = sizeof ss;
    if (!has_room((bmb_poll *)ctx)) return BMB_LIMIT; /* it stays in the queue */
    bmb_err err = add((bmb_poll *)ctx, accept(at(ctx, listener)->fd, (struct sockaddr *)&ss, &size), SOCK_STREAM,
                      at(ctx, listener)->family, out);
    if (err == BMB_OK) from_system(&ss, peer);
    return err == BMB_GONE ? BMB_AGAIN : err; /* one that went before it was taken */
}

static bmb_err dial(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    struct sockaddr_storage ss;
    socklen_t size = to_system(to, &ss);
    if (to->family == 6 && !HAS_IPV6) return BMB_UNSUPPORTED;
    bmb_err err = add((bmb_poll *)ctx, socket(to->family == 6 ? AF_INET6 : AF_INET, SOCK_STREAM, 0), SOCK_STREAM,
                      to->family, out);
    if (err != BMB_OK) return err;
    bool begun = connect(at(ctx, *out)->fd, (struct sockaddr *)&ss, size) == 0 || errno == EINPROGRESS;
    return begun ? BMB_OK : fail(ctx, *out);
}

/* It is made, or has failed, once something could be written (POSIX connect): there are stacks that know of a peer
 * before. */
static bmb_err dialled(void *ctx, bmb_sock index)
{
    struct pollfd p = { .fd = at(ctx, index)->fd, .events = POLLOUT };
    int error = 0;
    socklen_t size = sizeof error;
    if (poll(&p, 1, 0) == 0) return BMB_AGAIN;
    if (getsockopt(p.fd, SOL_SOCKET, SO_ERROR, &error, &size) != 0) error = errno;
    if (error == ECONNRESET || error == ECONNABORTED) return BMB_REFUSED; /* as some stacks call it */
    return error != 0 ? err_of(error) : BMB_OK;
}

/* sendmsg, also on stacks that know no signal and refuse to be told so. */
static ssize_t put(bmb_poll *self, int fd, const struct msghdr *m)
{
    ssize_t n = sendmsg(fd, m, self->send_flags);
    if (n >= 0 || self->send_flags == 0 || errno != EOPNOTSUPP) return n;
    self->send_flags = 0;
    return sendmsg(fd, m, 0);
}

/* The members of struct iovec stand in an order of the system's own. */
static size_t gather(const bmb_slice *slices, size_t count, struct iovec *out)
{
    size_t n = 0;
    for (; n < count && n < SLICES_AT_ONCE; n++)
        out[n] = (struct iovec){ .iov_base = (void *)(uintptr_t)slices[n].data, .iov_len = slices[n].size };
    return n;
}

static bmb_err send_slices(void *ctx, bmb_sock index, const bmb_slice *slices, size_t count, size_t *taken)
{
    *taken = 0;
    while (count > 0) {
        struct iovec parts[SLICES_AT_ONCE];
        size_t n = gather(slices, count, parts), offered = 0;
        for (size_t i = 0; i < n; i++) offered += slices[i].size;
        struct msghdr m = { .msg_iov = parts };
        m.msg_iovlen = (uint8_t)n; /* whose type differs */
        ssize_t sent = put((bmb_poll *)ctx, at(ctx, index)->fd, &m);
        if (sent < 0) return *taken > 0 ? BMB_OK : err_of(errno);
        *taken += (size_t)sent;
        if ((size_t)sent < offered) break;
        slices += n;
        count -= n;
    }
    return BMB_OK;
}

static bmb_err receive(void *ctx, bmb_sock index, void *out, size_t room, size_t *got)
{
    ssize_t n = recv(at(ctx, index)->fd, out, room, 0);
    *got = n > 0 ? (size_t)n : 0;
    if (n > 0) return BMB_OK;
    return n < 0 && err_of(errno) == BMB_AGAIN ? BMB_AGAIN : BMB_GONE;
}

static void finish(void *ctx, bmb_sock index)
{
    (void)shutdown(at(ctx, index)->fd, SHUT_WR);
}

static bmb_err udp_open(void *ctx, const bmb_addr *addr, const bmb_udp_options *options, bmb_sock *out, bmb_addr *bound)
{
    struct sockaddr_storage ss;
    const int on = 1, hops = options->ttl != 0 ? options->ttl : 1;
    const uint8_t ttl = (uint8_t)hops;
    struct in_addr interface = { htonl(options->interface_ipv4) };
    bmb_err err = open_bound(ctx, SOCK_DGRAM, addr, out, bound);
    if (err != BMB_OK) return err;
    bmb_poll *self = (bmb_poll *)ctx;
    int fd = at(ctx, *out)->fd;
    set_option(self, fd, SOL_SOCKET, SO_BROADCAST, &on, sizeof on, BROADCAST);
    if (addr->family == 4) {
        set_option(self, fd, IPPROTO_IP, IP_MULTICAST_TTL, &ttl, sizeof ttl, TTL);
        if (options->interface_ipv4 != 0)
            set_option(self, fd, IPPROTO_IP, IP_MULTICAST_IF, &interface, sizeof interface, INTERFACE);
    }
#ifdef IPV6_MULTICAST_HOPS
    if (addr->family == 6) set_option(self, fd, IPPROTO_IPV6, IPV6_MULTICAST_HOPS, &hops, sizeof hops, TTL);
#endif
    if (options->peer == NULL) return BMB_OK;
    socklen_t size = to_system(options->peer, &ss);
    return connect(fd, (struct sockaddr *)&ss, size) == 0 ? BMB_OK : fail(ctx, *out);
}

static bmb_err udp_send(void *ctx, bmb_sock index, const bmb_addr *to, const bmb_packet *packets, size_t count,
                        size_t *taken)
{
    struct sockaddr_storage ss;
    struct iovec parts[SLICES_AT_ONCE];
    struct msghdr m = { .msg_iov = parts };
    *taken = 0;
    if (to != NULL) {
        m.msg_namelen = to_system(to, &ss);
        m.msg_name = &ss;
    }
    while (*taken < count) {
        m.msg_iovlen = (uint8_t)gather(packets[*taken].slices, packets[*taken].count, parts);
        if (put((bmb_poll *)ctx, at(ctx, index)->fd, &m) < 0) return err_of(errno);
        ++*taken;
    }
    return BMB_OK;
}

static bmb_err udp_receive(void *ctx, bmb_sock index, void *out, size_t room, size_t *got, bmb_addr *from)
{
    struct sockaddr_storage ss;
    socklen_t size = sizeof ss;
    ssize_t n = recvfrom(at(ctx, index)->fd, out, room, 0, (struct sockaddr *)&ss, &size);
    *got = n > 0 ? (size_t)n : 0;
    if (n < 0) return BMB_AGAIN; /* what came back for an earlier datagram is said by the next udp_send */
    from_system(&ss, from);
    return BMB_OK;
}

static bmb_err watch(void *ctx, bmb_sock index, uint32_t events, uint32_t token)
{
    at(ctx, index)->watched = (uint8_t)(events & (BMB_READABLE | BMB_WRITABLE));
    at(ctx, index)->token = token;
    return BMB_OK;
}

/* Who is asked about. */
typedef struct question {
    struct pollfd fds[BMB_POLL_SOCKETS + 1]; /* the socket that wakes is the first */
    bmb_sock index[BMB_POLL_SOCKETS + 1];
    nfds_t first, count; /* first: of the sockets */
} question;

/* From the one on whose turn it is. A wake is taken. */
static int ask(bmb_poll *self, int ms, question *a)
{
    char bytes[16];
    a->fds[0] = (struct pollfd){ .fd = self->wake, .events = POLLIN };
    a->count = self->wake >= 0;
    a->first = a->count;
    for (int k = 0; k < BMB_POLL_SOCKETS; k++) {
        int i = (self->turn + k) % BMB_POLL_SOCKETS;
        const bmb_poll_sock *s = &self->sock[i];
        if (s->fd < 0) continue;
        short events = (short)((s->watched & BMB_READABLE ? POLLIN : 0) | (s->watched & BMB_WRITABLE ? POLLOUT : 0));
        a->fds[a->count] = (struct pollfd){ .fd = s->fd, .events = events };
        a->index[a->count++] = i;
    }
    int n = poll(a->count > 0 ? a->fds : NULL, a->count, ms); /* some stacks take none for a mistake */
    if (n > 0 && self->wake >= 0 && (a->fds[0].revents & POLLIN) != 0)
        while (recv(self->wake, bytes, sizeof bytes, 0) > 0) continue;
    return n;
}

static void wait_until(void *ctx, uint64_t until_us)
{
    bmb_poll *self = (bmb_poll *)ctx;
    question a;
    uint64_t end = until_us;
    if (self->clip.mfps > 0 && self->clip.next_us < end) end = self->clip.next_us; /* a driver would call wake */
    for (;;) {
        uint64_t now = now_us(ctx), ms = end > now ? (end - now + 999) / 1000 : 0;
        uint64_t most = self->wake >= 0 ? WAIT_MOST_MS : self->system.wake_ms; /* a flag is looked at between waits */
        if (self->woken || ask(self, ms > most ? (int)most : (int)ms, &a) != 0 || ms <= most || self->wake >= 0) break;
    }
    self->woken = 0;
}

static uint32_t events_of(short revents)
{
    uint32_t events = 0;
    if ((revents & (POLLIN | POLLHUP)) != 0) events |= BMB_READABLE;
    if ((revents & POLLOUT) != 0) events |= BMB_WRITABLE;
    return (revents & (POLLERR | POLLNVAL)) != 0 ? events | BMB_BROKEN | BMB_READABLE : events;
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    bmb_poll *self = (bmb_poll *)ctx;
    question a;
    size_t n = 0;
    if (ask(self, 0, &a) <= 0) return 0;
    for (nfds_t i = a.first; i < a.count && n < room; i++) {
        uint32_t events = events_of(a.fds[i].revents);
        if (events == 0) continue;
        out[n++] = (bmb_ready){ .token = self->sock[a.index[i]].token, .events = events };
        self->turn = (a.index[i] + 1) % BMB_POLL_SOCKETS;
    }
    return n;
}

static void wake(void *ctx)
{
    bmb_poll *self = (bmb_poll *)ctx;
    const char byte = 0;
    if (self->wake < 0)
        self->woken = 1;
    else
        (void)!send(self->wake, &byte, 1, 0); /* one that does not fit finds others that wait */
}

/* A datagram socket that is connected to itself: there are stacks without pipes. -1: there is no socket; -2: what it
 * sends to itself does not arrive, or it cannot be reached at all. */
static int open_wake(void)
{
    struct sockaddr_in self = { .sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    socklen_t size = sizeof self;
    char byte = 0;
    int fd = socket(AF_INET, SOCK_DGRAM, 0);
    struct pollfd p = { .fd = fd, .events = POLLIN };
    if (fd < 0) return -1;
    if (bind(fd, (struct sockaddr *)&self, size) == 0 && getsockname(fd, (struct sockaddr *)&self, &size) == 0 &&
        connect(fd, (struct sockaddr *)&self, size) == 0 && be_quiet(fd) && send(fd, &byte, 1, 0) == 1 &&
        poll(&p, 1, WAKES_WITHIN_MS) == 1 && recv(fd, &byte, 1, 0) == 1)
        return fd;
    close(fd);
    return -2;
}

bmb_err bmb_poll_open_on(bmb_poll *self, const bmb_poll_system *system, bmb_port *port)
{
    memset(self, 0, sizeof *self);
    for (size_t i = 0; i < BMB_POLL_SOCKETS; i++) self->sock[i].fd = -1;
    self->send_flags = MSG_NOSIGNAL;
    if (system != NULL) self->system = *system;
    if (self->system.now_us == NULL) self->system.now_us = posix_now;
    if (self->system.random == NULL) self->system.random = posix_random;
    self->wake = self->system.wake_ms > 0 ? -1 : open_wake();
    bool able = self->system.now_us != NULL && self->system.random != NULL && self->wake != -2;
    *port = (bmb_port){ .ctx = self, .now_us = now_us, .random = random_bytes, .wait = wait_until, .wake = wake };
    port->net = (bmb_net){ .listen = listen_at,
                           .accept = accept_one,
                           .dial = dial,
                           .dialled = dialled,
                           .local = local,
                           .send = send_slices,
                           .recv = receive,
                           .finish = finish,
                           .udp_open = udp_open,
                           .udp_send = udp_send,
                           .udp_recv = udp_receive,
                           .close = close_sock,
                           .watch = watch,
                           .ready = ready };
    if (!able) return BMB_UNSUPPORTED;
    return self->wake >= 0 || self->system.wake_ms > 0 ? BMB_OK : BMB_LIMIT;
}

bmb_err bmb_poll_open(bmb_poll *self, bmb_port *port)
{
    return bmb_poll_open_on(self, NULL, port);
}

void bmb_poll_close(bmb_poll *self)
{
    for (bmb_sock i = 0; i < BMB_POLL_SOCKETS; i++)
        if (self->sock[i].fd >= 0) close_sock(self, i);
    if (self->wake >= 0) close(self->wake);
}
