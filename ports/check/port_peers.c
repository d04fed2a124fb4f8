/* The other ends of connections as sockets of another port: for boards that have no host beside them. */
#include "check/check.h"

static bmb_port *other;

void bmb_port_peers_use(bmb_port *port)
{
    other = port;
}

static int peer_connect(const bmb_addr *to)
{
    bmb_sock sock;
    return other->net.dial(other->ctx, to, &sock) == BMB_OK ? sock : -1;
}

static int peer_listen(bmb_addr *bound)
{
    const bmb_addr any = loopback(0);
    bmb_sock sock;
    if (other->net.listen(other->ctx, &any, &sock, bound) != BMB_OK) return -1;
    return sock;
}

static int peer_accept(int listener)
{
    bmb_sock sock;
    bmb_addr from;
    return other->net.accept(other->ctx, listener, &sock, &from) == BMB_OK ? sock : -1;
}

static long peer_send(int peer, const void *data, size_t size)
{
    const bmb_slice slice = { data, size };
    size_t taken = 0;
    for (unsigned i = 0; i < PATIENCE && other->net.dialled(other->ctx, peer) == BMB_AGAIN; i++) {
        bmb_ready none[1];
        (void)other->net.ready(other->ctx, none, 1); /* a stack without threads works when it is asked */
    }
    (void)other->net.send(other->ctx, peer, &slice, 1, &taken);
    return (long)taken;
}

static long peer_recv(int peer, void *out, size_t room)
{
    size_t got = 0;
    bmb_err err = other->net.recv(other->ctx, peer, out, room, &got);
    return err == BMB_OK ? (long)got : err == BMB_AGAIN ? -1 : 0;
}

static void peer_finish(int peer)
{
    other->net.finish(other->ctx, peer);
}

static void peer_close(int peer)
{
    other->net.close(other->ctx, peer);
}

static int peer_udp(bmb_addr *bound)
{
    const bmb_addr any = loopback(0);
    const bmb_udp_options options = { 0 };
    bmb_sock sock;
    if (other->net.udp_open == NULL || other->net.udp_open(other->ctx, &any, &options, &sock, bound) != BMB_OK)
        return -1;
    *bound = loopback(bound->port);
    return sock;
}

static long peer_udp_send(int peer, const bmb_addr *to, const void *data, size_t size)
{
    const bmb_slice slice = { data, size };
    const bmb_packet packet = { &slice, 1, (uint32_t)size };
    size_t taken = 0;
    (void)other->net.udp_send(other->ctx, peer, to, &packet, 1, &taken);
    return taken == 1 ? (long)size : -1;
}

static long peer_udp_recv(int peer, void *out, size_t room, bmb_addr *from)
{
    size_t got = 0;
    return other->net.udp_recv(other->ctx, peer, out, room, &got, from) == BMB_OK ? (long)got : -1;
}

const bmb_peers bmb_port_peers = { .connect = peer_connect,
                                   .listen = peer_listen,
                                   .accept = peer_accept,
                                   .send = peer_send,
                                   .recv = peer_recv,
                                   .finish = peer_finish,
                                   .close = peer_close,
                                   .udp = peer_udp,
                                   .udp_send = peer_udp_send,
                                   .udp_recv = peer_udp_recv };
