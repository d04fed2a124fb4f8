/* Non-blocking TCP and UDP sockets. */
#include <errno.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <netinet/udp.h>
#include <string.h>
#include <sys/uio.h>
#include <unistd.h>

#include "linux/state.h"

_Static_assert(sizeof(bmb_slice) == sizeof(struct iovec), "slices are handed to the kernel as they are");
_Static_assert(offsetof(bmb_slice, size) == offsetof(struct iovec, iov_len), "slices are handed over as they are");

bmb_err bmb_linux_errno(int error)
{
    switch (error) {
    case EAGAIN:
    case EINTR:
    case ENOBUFS: /* UDP: the interface's queue is full just now */
        return BMB_AGAIN;
    case EPIPE:
    case ECONNRESET:
    case ETIMEDOUT:
    case ENOTCONN:
        return BMB_GONE;
    case EADDRINUSE:
        return BMB_IN_USE;
    case EADDRNOTAVAIL:
        return BMB_NOT_FOUND;
    case EACCES:
    case EPERM:
        return BMB_DENIED;
    case EMFILE:
    case ENFILE:
    case ENOMEM:
        return BMB_LIMIT;
    case ECONNREFUSED:
        return BMB_REFUSED;
    case ENETUNREACH:
    case EHOSTUNREACH:
        return BMB_NO_ROUTE;
    default:
        return BMB_FAILED;
    }
}

socklen_t bmb_linux_to_sockaddr(const bmb_addr *addr, struct sockaddr_storage *out)
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

void bmb_linux_from_sockaddr(const struct sockaddr_storage *in, bmb_addr *out)
{
    static const uint8_t mapped[12] = { 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xFF, 0xFF };
    memset(out, 0, sizeof *out);
    if (in->ss_family == AF_INET) {
        const struct sockaddr_in *v4 = (const struct sockaddr_in *)in;
        out->family = 4;
        out->port = ntohs(v4->sin_port);
        memcpy(out->ip, &v4->sin_addr, 4);
        return;
    }
    const struct sockaddr_in6 *v6 = (const struct sockaddr_in6 *)in;
    const uint8_t *ip = (const uint8_t *)&v6->sin6_addr;
    out->port = ntohs(v6->sin6_port);
    if (memcmp(ip, mapped, sizeof mapped) == 0) { /* an IPv4 peer of a socket for both */
        out->family = 4;
        memcpy(out->ip, ip + 12, 4);
        return;
    }
    out->family = 6;
    out->scope = v6->sin6_scope_id;
    memcpy(out->ip, ip, 16);
}

static int family_of(const bmb_addr *addr)
{
    return addr->family == 6 ? AF_INET6 : AF_INET;
}

static bmb_err local(void *ctx, bmb_sock sock, bmb_addr *out)
{
    (void)ctx;
    struct sockaddr_storage ss;
    socklen_t size = sizeof ss;
    if (getsockname(sock, (struct sockaddr *)&ss, &size) != 0) return bmb_linux_errno(errno);
    bmb_linux_from_sockaddr(&ss, out);
    return BMB_OK;
}

bmb_err bmb_linux_bind(int fd, const bmb_addr *addr, bmb_addr *bound)
{
    struct sockaddr_storage ss;
    socklen_t size = bmb_linux_to_sockaddr(addr, &ss);
    if (bind(fd, (struct sockaddr *)&ss, size) != 0) return bmb_linux_errno(errno);
    bmb_err err = local(NULL, fd, bound);
    if (addr->family == 6) bound->family = 6;
    return err;
}

static bmb_err listen_at(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    (void)ctx;
    const int on = 1, off = 0;
    int fd = socket(family_of(addr), SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    if (fd < 0) return bmb_linux_errno(errno);
    setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    /* Every interface means those of IPv4, too, however the system is set up. */
    if (addr->family == 6) setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &off, sizeof off);
    bmb_err err = bmb_linux_bind(fd, addr, bound);
    if (err == BMB_OK && listen(fd, 128) != 0) err = bmb_linux_errno(errno);
    if (err != BMB_OK) {
        close(fd);
        return err;
    }
    *out = fd;
    return BMB_OK;
}

/* A peer that lost its power says nothing, and while no frames flow nothing is said to it either. */
static void keep_alive(int fd)
{
    const int on = 1, idle_s = 20, between_s = 5, tries = 4;
    setsockopt(fd, SOL_SOCKET, SO_KEEPALIVE, &on, sizeof on);
    setsockopt(fd, IPPROTO_TCP, TCP_KEEPIDLE, &idle_s, sizeof idle_s);
    setsockopt(fd, IPPROTO_TCP, TCP_KEEPINTVL, &between_s, sizeof between_s);
    setsockopt(fd, IPPROTO_TCP, TCP_KEEPCNT, &tries, sizeof tries);
}

static bmb_err accept_one(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    (void)ctx;
    const int on = 1;
    struct sockaddr_storage ss;
    socklen_t size = sizeof ss;
    int fd = accept4(listener, (struct sockaddr *)&ss, &size, SOCK_NONBLOCK | SOCK_CLOEXEC);
    if (fd < 0) return errno == ECONNABORTED ? BMB_AGAIN : bmb_linux_errno(errno);
    setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on); /* a frame's last bytes must not wait for an answer */
    keep_alive(fd);
    bmb_linux_from_sockaddr(&ss, peer);
    *out = fd;
    return BMB_OK;
}

static bmb_err dial(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    (void)ctx;
    const int on = 1;
    struct sockaddr_storage ss;
    socklen_t size = bmb_linux_to_sockaddr(to, &ss);
    int fd = socket(family_of(to), SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    if (fd < 0) return bmb_linux_errno(errno);
    setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
    if (connect(fd, (struct sockaddr *)&ss, size) != 0 && errno != EINPROGRESS) {
        bmb_err err = bmb_linux_errno(errno);
        close(fd);
        return err;
    }
    *out = fd;
    return BMB_OK;
}

static bmb_err dialled(void *ctx, bmb_sock sock)
{
    (void)ctx;
    int error = 0;
    struct sockaddr_storage ss;
    socklen_t size = sizeof error, ss_size = sizeof ss;
    if (getsockopt(sock, SOL_SOCKET, SO_ERROR, &error, &size) != 0) error = errno;
    if (error == ETIMEDOUT) return BMB_TIMED_OUT;
    if (error != 0) return bmb_linux_errno(error);
    return getpeername(sock, (struct sockaddr *)&ss, &ss_size) == 0 ? BMB_OK : BMB_AGAIN;
}

static bmb_err send_slices(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    (void)ctx;
    struct msghdr m = { .msg_iov = (struct iovec *)(uintptr_t)slices, .msg_iovlen = count };
    ssize_t n = sendmsg(sock, &m, MSG_NOSIGNAL);
    *taken = n > 0 ? (size_t)n : 0;
    return n >= 0 ? BMB_OK : bmb_linux_errno(errno);
}

static bmb_err receive(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got)
{
    (void)ctx;
    ssize_t n = recv(sock, out, room, 0);
    *got = n > 0 ? (size_t)n : 0;
    if (n > 0) return BMB_OK;
    if (n == 0) return BMB_GONE;
    bmb_err err = bmb_linux_errno(errno);
    return err == BMB_AGAIN ? BMB_AGAIN : BMB_GONE;
}

static void finish(void *ctx, bmb_sock sock)
{
    (void)ctx;
    shutdown(sock, SHUT_WR);
}

static void bound_unsent(void *ctx, bmb_sock sock, uint32_t bytes)
{
    (void)ctx;
    setsockopt(sock, IPPROTO_TCP, TCP_NOTSENT_LOWAT, &bytes, sizeof bytes);
}

static void bound_buffer(void *ctx, bmb_sock sock, uint32_t bytes)
{
    (void)ctx;
    const int half = (int)(bytes / 2 < INT32_MAX ? bytes / 2 : INT32_MAX); /* the kernel doubles it for its own needs */
    setsockopt(sock, SOL_SOCKET, SO_SNDBUF, &half, sizeof half);
}

static void close_sock(void *ctx, bmb_sock sock)
{
    (void)ctx;
    close(sock); /* epoll forgets it, no other descriptor refers to it */
}

static bmb_err watch(void *ctx, bmb_sock sock, uint32_t events, uint32_t token)
{
    const bmb_linux *self = (const bmb_linux *)ctx;
    struct epoll_event e = { .data.u64 = token };
    if ((events & BMB_READABLE) != 0) e.events |= EPOLLIN | EPOLLRDHUP;
    if ((events & BMB_WRITABLE) != 0) e.events |= EPOLLOUT;
    if (epoll_ctl(self->epoll, EPOLL_CTL_MOD, sock, &e) == 0) return BMB_OK;
    return epoll_ctl(self->epoll, EPOLL_CTL_ADD, sock, &e) == 0 ? BMB_OK : bmb_linux_errno(errno);
}

void bmb_linux_fill_net(bmb_net *net)
{
    *net = (bmb_net){ .listen = listen_at,
                      .accept = accept_one,
                      .dial = dial,
                      .dialled = dialled,
                      .local = local,
                      .send = send_slices,
                      .recv = receive,
                      .finish = finish,
                      .bound_unsent = bound_unsent,
                      .bound_buffer = bound_buffer,
                      .path = bmb_linux_path,
                      .close = close_sock,
                      .watch = watch };
}
