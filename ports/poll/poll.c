/* The port on poll(2): clock, waiting, sockets, and a camera that plays a clip. */
#include "bambino/poll.h"

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

#define BACKLOG 16
#define SLICES_AT_ONCE 16 /* IOV_MAX is at least that (POSIX) */
#define WAIT_MOST_MS 60000

#ifndef MSG_NOSIGNAL
#define MSG_NOSIGNAL 0 /* then the program has to ignore SIGPIPE */
#endif

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
    if (addr->family == 6) {
        struct sockaddr_in6 *in = (struct sockaddr_in6 *)out;
        in->sin6_family = AF_INET6;
        in->sin6_port = htons(addr->port);
        in->sin6_scope_id = addr->scope;
        memcpy(&in->sin6_addr, addr->ip, 16);
        return sizeof *in;
    }
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
    if (in->ss_family == AF_INET) {
        const struct sockaddr_in *v4 = (const struct sockaddr_in *)in;
        out->port = ntohs(v4->sin_port);
        memcpy(out->ip, &v4->sin_addr, 4);
        return;
    }
    const struct sockaddr_in6 *v6 = (const struct sockaddr_in6 *)in;
    bool mapped = IN6_IS_ADDR_V4MAPPED(&v6->sin6_addr); /* an IPv4 peer of a socket for both */
    out->port = ntohs(v6->sin6_port);
    memcpy(out->ip, (const uint8_t *)&v6->sin6_addr + (mapped ? 12 : 0), mapped ? 4 : 16);
    if (mapped) return;
    out->family = 6;
    out->scope = v6->sin6_scope_id;
}

static uint64_t now_us(void *ctx)
{
    struct timespec t;
    (void)ctx;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

static void random_bytes(void *ctx, void *out, size_t size)
{
    (void)ctx;
    int fd = open("/dev/urandom", O_RDONLY);
    for (ssize_t n; size > 0 && (n = read(fd, out, size)) > 0; size -= (size_t)n) out = (uint8_t *)out + n;
    close(fd);
}

/* The table. */
static bmb_poll_sock *at(void *ctx, bmb_sock index)
{
    return &((bmb_poll *)ctx)->sock[index];
}

/* Takes a descriptor into the table. A negative one is the failure of the call that made it. */
static bmb_err add(bmb_poll *self, int fd, uint8_t family, bmb_sock *out)
{
    const int on = 1;
    if (fd < 0) return err_of(errno);
    for (bmb_sock i = 0; i < BMB_POLL_SOCKETS; i++) {
        if (self->sock[i].fd >= 0) continue;
        (void)fcntl(fd, F_SETFL, fcntl(fd, F_GETFL) | O_NONBLOCK);
        (void)setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on); /* a frame's last bytes must not wait */
        (void)setsockopt(fd, SOL_SOCKET, SO_KEEPALIVE, &on, sizeof on); /* a peer that lost its power says nothing */
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
    bmb_err err = add((bmb_poll *)ctx, socket(addr->family == 6 ? AF_INET6 : AF_INET, type, 0), addr->family, out);
    if (err != BMB_OK) return err;
    if (type == SOCK_STREAM) (void)setsockopt(at(ctx, *out)->fd, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
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
    bmb_err err = add((bmb_poll *)ctx, accept(at(ctx, listener)->fd, (struct sockaddr *)&ss, &size),
                      at(ctx, listener)->family, out);
    if (err == BMB_OK) from_system(&ss, peer);
    return err == BMB_GONE ? BMB_AGAIN : err; /* one that went before it was taken */
}

static bmb_err dial(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    struct sockaddr_storage ss;
    socklen_t size = to_system(to, &ss);
    bmb_err err = add((bmb_poll *)ctx, socket(to->family == 6 ? AF_INET6 : AF_INET, SOCK_STREAM, 0), to->family, out);
    if (err != BMB_OK) return err;
    bool begun = connect(at(ctx, *out)->fd, (struct sockaddr *)&ss, size) == 0 || errno == EINPROGRESS;
    return begun ? BMB_OK : fail(ctx, *out);
}

static bmb_err dialled(void *ctx, bmb_sock index)
{
    struct sockaddr_storage ss;
    int error = 0;
    socklen_t size = sizeof error, ss_size = sizeof ss;
    if (getsockopt(at(ctx, index)->fd, SOL_SOCKET, SO_ERROR, &error, &size) != 0) error = errno;
    if (error != 0) return err_of(error);
    return getpeername(at(ctx, index)->fd, (struct sockaddr *)&ss, &ss_size) == 0 ? BMB_OK : BMB_AGAIN;
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
        m.msg_iovlen = n;
        ssize_t sent = sendmsg(at(ctx, index)->fd, &m, MSG_NOSIGNAL);
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
    const unsigned char ttl = (unsigned char)hops;
    struct in_addr interface = { htonl(options->interface_ipv4) };
    bmb_err err = open_bound(ctx, SOCK_DGRAM, addr, out, bound);
    if (err != BMB_OK) return err;
    int fd = at(ctx, *out)->fd;
    (void)setsockopt(fd, SOL_SOCKET, SO_BROADCAST, &on, sizeof on);
    if (addr->family == 6) {
        (void)setsockopt(fd, IPPROTO_IPV6, IPV6_MULTICAST_HOPS, &hops, sizeof hops);
    } else {
        (void)setsockopt(fd, IPPROTO_IP, IP_MULTICAST_TTL, &ttl, sizeof ttl);
        if (options->interface_ipv4 != 0)
            (void)setsockopt(fd, IPPROTO_IP, IP_MULTICAST_IF, &interface, sizeof interface);
    }
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
        m.msg_iovlen = gather(packets[*taken].slices, packets[*taken].count, parts);
        if (sendmsg(at(ctx, index)->fd, &m, MSG_NOSIGNAL) < 0) return err_of(errno);
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
    nfds_t count;
} question;

/* From the one on whose turn it is. A wake is taken. */
static int ask(const bmb_poll *self, int ms, question *a)
{
    char bytes[16];
    a->fds[0] = (struct pollfd){ .fd = self->wake, .events = POLLIN };
    a->count = 1;
    for (int k = 0; k < BMB_POLL_SOCKETS; k++) {
        int i = (self->turn + k) % BMB_POLL_SOCKETS;
        const bmb_poll_sock *s = &self->sock[i];
        if (s->fd < 0) continue;
        short events = (short)((s->watched & BMB_READABLE ? POLLIN : 0) | (s->watched & BMB_WRITABLE ? POLLOUT : 0));
        a->fds[a->count] = (struct pollfd){ .fd = s->fd, .events = events };
        a->index[a->count++] = i;
    }
    int n = poll(a->fds, a->count, ms);
    if (n > 0 && (a->fds[0].revents & POLLIN) != 0)
        while (recv(self->wake, bytes, sizeof bytes, 0) > 0) continue;
    return n;
}

static void wait_until(void *ctx, uint64_t until_us)
{
    const bmb_poll *self = (const bmb_poll *)ctx;
    question a;
    uint64_t now = now_us(ctx), end = until_us;
    if (self->clip.mfps > 0 && self->clip.next_us < end) end = self->clip.next_us; /* a driver would call wake */
    uint64_t ms = end > now ? (end - now + 999) / 1000 : 0;
    (void)ask(self, ms > WAIT_MOST_MS ? WAIT_MOST_MS : (int)ms, &a);
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
    for (nfds_t i = 1; i < a.count && n < room; i++) {
        uint32_t events = events_of(a.fds[i].revents);
        if (events == 0) continue;
        out[n++] = (bmb_ready){ .token = self->sock[a.index[i]].token, .events = events };
        self->turn = (a.index[i] + 1) % BMB_POLL_SOCKETS;
    }
    return n;
}

static void wake(void *ctx)
{
    const char byte = 0;
    (void)!send(((bmb_poll *)ctx)->wake, &byte, 1, 0); /* one that does not fit finds others that wait */
}

/* A datagram socket that is connected to itself: there are stacks without pipes. */
static int open_wake(void)
{
    struct sockaddr_in self = { .sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    socklen_t size = sizeof self;
    int fd = socket(AF_INET, SOCK_DGRAM, 0);
    if (fd >= 0 && bind(fd, (struct sockaddr *)&self, size) == 0 &&
        getsockname(fd, (struct sockaddr *)&self, &size) == 0 && connect(fd, (struct sockaddr *)&self, size) == 0 &&
        fcntl(fd, F_SETFL, fcntl(fd, F_GETFL) | O_NONBLOCK) == 0)
        return fd;
    if (fd >= 0) close(fd);
    return -1;
}

/* A camera that plays a clip from memory. A driver would have buffers that an interrupt fills (bmb_bare_buffers). */
static bmb_poll_clip *clip_of(void *ctx)
{
    return &((bmb_poll *)ctx)->clip;
}

static size_t count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    const bmb_poll_clip *c = clip_of(ctx);
    if (index > 0) return BMB_NOT_FOUND;
    *out = (bmb_camera_info){ .model = "clip", .modes = &c->mode, .mode_count = 1, .buffers = BMB_POLL_BUFFERS };
    memcpy(out->name, c->name, sizeof out->name);
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    bmb_poll_clip *c = clip_of(ctx);
    (void)index;
    if (asked->codec != BMB_CODEC_JPEG) return BMB_UNSUPPORTED;
    if (c->mfps > 0) return BMB_IN_USE;
    c->mfps = asked->mfps > c->mode.mfps_most ? c->mode.mfps_most : asked->mfps > 0 ? asked->mfps : 1000;
    c->next_us = now_us(ctx);
    *effective = (bmb_mode){ BMB_CODEC_JPEG, c->mode.width, c->mode.height, c->mfps };
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    (void)index;
    clip_of(ctx)->mfps = 0;
}

/* A buffer that is free; BMB_POLL_BUFFERS: all are out, and the exposure is lost. */
static unsigned free_buffer(const bmb_poll_clip *c)
{
    unsigned i = 0;
    while (i < BMB_POLL_BUFFERS && (c->out >> i & 1) != 0) i++;
    return i;
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    bmb_poll_clip *c = clip_of(ctx);
    uint64_t now = now_us(ctx);
    unsigned buffer = free_buffer(c);
    (void)index;
    if (c->mfps == 0 || now < c->next_us) return BMB_AGAIN;
    uint32_t picture = c->number++ % c->pictures;
    uint64_t interval = 1000000000u / c->mfps, late = now - c->next_us;
    uint64_t capture_us = now - late % interval; /* exposures that nobody fetched are overwritten by later ones */
    c->next_us = capture_us + interval;
    if (buffer == BMB_POLL_BUFFERS) return BMB_AGAIN;
    c->out |= (uint8_t)(1u << buffer);
    *out = (bmb_camera_frame){ .data = c->data + c->begin[picture],
                               .size = c->begin[picture + 1] - c->begin[picture],
                               .capture_us = capture_us,
                               .key = true,
                               .cookie = buffer };
    return BMB_OK;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)index;
    clip_of(ctx)->out &= (uint8_t) ~(1u << cookie);
}

bmb_err bmb_poll_camera(bmb_poll *self, const char *name, const void *data, size_t size, uint32_t mfps, uint16_t width,
                        uint16_t height, bmb_cameras *out)
{
    bmb_poll_clip *c = &self->clip;
    memset(c, 0, sizeof *c);
    c->data = (const uint8_t *)data;
    c->mode = (bmb_mode_row){ BMB_CODEC_JPEG, width, height, mfps };
    strncpy(c->name, name, sizeof c->name - 1);
    /* An image ends with EOI, and the next one begins with SOI (ITU-T T.81 B.1.1.3). */
    for (size_t i = 0; i + 3 < size && c->pictures + 1 < BMB_POLL_PICTURES; i++)
        if (c->data[i] == 0xFF && c->data[i + 1] == 0xD9 && c->data[i + 2] == 0xFF && c->data[i + 3] == 0xD8)
            c->begin[++c->pictures] = (uint32_t)i + 2;
    if (size < 4) return BMB_BAD_DATA;
    c->begin[++c->pictures] = (uint32_t)size;
    *out = (bmb_cameras){
        .ctx = self, .count = count, .info = info, .start = start, .stop = stop, .take = take, .release = release
    };
    return BMB_OK;
}

bmb_err bmb_poll_open(bmb_poll *self, bmb_port *port)
{
    memset(self, 0, sizeof *self);
    for (size_t i = 0; i < BMB_POLL_SOCKETS; i++) self->sock[i].fd = -1;
    self->wake = open_wake();
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
    return self->wake >= 0 ? BMB_OK : BMB_LIMIT;
}

void bmb_poll_close(bmb_poll *self)
{
    for (bmb_sock i = 0; i < BMB_POLL_SOCKETS; i++)
        if (self->sock[i].fd >= 0) close_sock(self, i);
    if (self->wake >= 0) close(self->wake);
}
