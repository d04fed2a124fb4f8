#include "layer/layer.h"

static const bmb_port *below(void *ctx)
{
    return &((const bmb_layer *)ctx)->under;
}

static uint64_t now_us(void *ctx)
{
    return below(ctx)->now_us(below(ctx)->ctx);
}

static bmb_err wall_us(void *ctx, int64_t *unix_us)
{
    return below(ctx)->wall_us(below(ctx)->ctx, unix_us);
}

static void fill_random(void *ctx, void *out, size_t size)
{
    below(ctx)->random(below(ctx)->ctx, out, size);
}

static void hash(void *ctx, bmb_hash which, const bmb_slice *slices, size_t count, uint8_t *out)
{
    below(ctx)->hash(below(ctx)->ctx, which, slices, count, out);
}

static void log_event(void *ctx, const bmb_event *event)
{
    below(ctx)->log(below(ctx)->ctx, event);
}

static void wait_until(void *ctx, uint64_t until_us)
{
    below(ctx)->wait(below(ctx)->ctx, until_us);
}

static void wake(void *ctx)
{
    below(ctx)->wake(below(ctx)->ctx);
}

static void show_light(void *ctx, bmb_light state)
{
    below(ctx)->light(below(ctx)->ctx, state);
}

static bool online(void *ctx)
{
    return below(ctx)->online(below(ctx)->ctx);
}

static bmb_err listen_at(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    return below(ctx)->net.listen(below(ctx)->ctx, addr, out, bound);
}

static bmb_err accept_one(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    return below(ctx)->net.accept(below(ctx)->ctx, listener, out, peer);
}

static bmb_err dial(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    return below(ctx)->net.dial(below(ctx)->ctx, to, out);
}

static bmb_err dialled(void *ctx, bmb_sock sock)
{
    return below(ctx)->net.dialled(below(ctx)->ctx, sock);
}

static bmb_err local(void *ctx, bmb_sock sock, bmb_addr *out)
{
    return below(ctx)->net.local(below(ctx)->ctx, sock, out);
}

static bmb_err send_slices(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    return below(ctx)->net.send(below(ctx)->ctx, sock, slices, count, taken);
}

static bmb_err send_lent(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, const bmb_slice *lent,
                         size_t *taken)
{
    return below(ctx)->net.send_lent(below(ctx)->ctx, sock, slices, count, lent, taken);
}

static uint32_t unacked(void *ctx, bmb_sock sock)
{
    return below(ctx)->net.unacked(below(ctx)->ctx, sock);
}

static bmb_err receive(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got)
{
    return below(ctx)->net.recv(below(ctx)->ctx, sock, out, room, got);
}

static void finish(void *ctx, bmb_sock sock)
{
    below(ctx)->net.finish(below(ctx)->ctx, sock);
}

static void bound_unsent(void *ctx, bmb_sock sock, uint32_t bytes)
{
    below(ctx)->net.bound_unsent(below(ctx)->ctx, sock, bytes);
}

static bmb_err path(void *ctx, bmb_sock sock, bmb_net_path *out)
{
    return below(ctx)->net.path(below(ctx)->ctx, sock, out);
}

static void bound_buffer(void *ctx, bmb_sock sock, uint32_t bytes)
{
    below(ctx)->net.bound_buffer(below(ctx)->ctx, sock, bytes);
}

static bmb_err udp_open(void *ctx, const bmb_addr *addr, const bmb_udp_options *options, bmb_sock *out, bmb_addr *bound)
{
    return below(ctx)->net.udp_open(below(ctx)->ctx, addr, options, out, bound);
}

static bmb_err udp_send(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                        size_t *taken)
{
    return below(ctx)->net.udp_send(below(ctx)->ctx, sock, to, packets, count, taken);
}

static bmb_err udp_recv(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got, bmb_addr *from)
{
    return below(ctx)->net.udp_recv(below(ctx)->ctx, sock, out, room, got, from);
}

static bmb_err udp_answer(void *ctx, bmb_sock sock, bmb_addr *to, void *quoted, size_t room, size_t *got)
{
    return below(ctx)->udp_answer(below(ctx)->ctx, sock, to, quoted, room, got);
}

static bmb_err udp_unreachable(void *ctx, bmb_sock sock, bmb_addr *to)
{
    return below(ctx)->net.udp_unreachable(below(ctx)->ctx, sock, to);
}

static void close_sock(void *ctx, bmb_sock sock)
{
    below(ctx)->net.close(below(ctx)->ctx, sock);
}

static bmb_err watch(void *ctx, bmb_sock sock, uint32_t events, uint32_t token)
{
    return below(ctx)->net.watch(below(ctx)->ctx, sock, events, token);
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    return below(ctx)->net.ready(below(ctx)->ctx, out, room);
}

/* A function that the port below does not have, the upper one does not have either. */
#define PASS(member, function) .member = u->member != NULL ? (function) : NULL

void bmb_layer_put(bmb_layer *layer, bmb_port *port)
{
    layer->under = *port;
    const bmb_port *u = &layer->under;
    *port = (bmb_port){ .ctx = layer,
                        PASS(now_us, now_us),
                        PASS(wall_us, wall_us),
                        PASS(random, fill_random),
                        PASS(hash, hash),
                        PASS(log, log_event),
                        PASS(wait, wait_until),
                        PASS(wake, wake),
                        PASS(light, show_light),
                        PASS(online, online),
                        PASS(net.listen, listen_at),
                        PASS(net.accept, accept_one),
                        PASS(net.dial, dial),
                        PASS(net.dialled, dialled),
                        PASS(net.local, local),
                        PASS(net.send, send_slices),
                        PASS(net.send_lent, send_lent),
                        PASS(net.unacked, unacked),
                        PASS(net.recv, receive),
                        PASS(net.finish, finish),
                        PASS(net.bound_unsent, bound_unsent),
                        PASS(net.bound_buffer, bound_buffer),
                        PASS(net.path, path),
                        PASS(net.udp_open, udp_open),
                        PASS(net.udp_send, udp_send),
                        PASS(net.udp_recv, udp_recv),
                        PASS(net.udp_unreachable, udp_unreachable),
                        PASS(net.close, close_sock),
                        PASS(net.watch, watch),
                        PASS(net.ready, ready),
                        .cameras = u->cameras,
                        .storage = u->storage,
                        PASS(udp_answer, udp_answer) };
}

void bmb_layer_remove(const bmb_layer *layer, bmb_port *port)
{
    const bmb_cameras cameras = port->cameras;
    *port = layer->under;
    port->cameras = cameras;
}
