#include "flow/link.h"

#include "base/bounds.h"

bmb_err bmb_net_send(const bmb_context *x, bmb_sock sock, const bmb_slice *slices, size_t count, size_t offered,
                     const bmb_slice *lent, size_t *taken)
{
    const bmb_port *port = x->port;
    *taken = 0;
    bmb_err err = lent != NULL && lent->size > 0 ? port->net.send_lent(port->ctx, sock, slices, count, lent, taken)
                                                 : port->net.send(port->ctx, sock, slices, count, taken);
    if (*taken > offered) {
        *taken = 0;
        return BMB_FAILED;
    }
    return err == BMB_OK && *taken == 0 && offered > 0 ? BMB_AGAIN : err;
}

bmb_err bmb_net_recv(const bmb_context *x, bmb_sock sock, void *out, size_t room, size_t *got)
{
    *got = 0;
    bmb_err err = x->port->net.recv(x->port->ctx, sock, out, room, got);
    if (*got > room) {
        *got = 0;
        return BMB_FAILED;
    }
    return err == BMB_OK && *got == 0 ? BMB_AGAIN : err;
}

static bmb_err net_send_packets(const bmb_link *link, const bmb_packet *packets, size_t count, size_t *taken)
{
    const bmb_port *port = link->x->port;
    *taken = 0;
    bmb_err err = port->net.udp_send(port->ctx, link->sock, link->to, packets, count, taken);
    if (*taken > count) {
        *taken = 0;
        return BMB_FAILED;
    }
    return err == BMB_OK && *taken < count ? BMB_AGAIN : err;
}

bmb_err bmb_stream_send(const bmb_link *link, const bmb_slice *slices, size_t count, size_t offered, size_t *taken)
{
    bmb_err err = bmb_net_send(link->x, link->sock, slices, count, offered, &link->lent, taken);
    if (*taken > 0) *link->progress_us = link->x->now;
    return err == BMB_OK && *taken < offered ? BMB_AGAIN : err;
}

/* Leaves out the bytes at the front that the link has already; returns the first slice that is left. */
static size_t trim(bmb_gather *g, size_t skip)
{
    size_t first = 0;
    while (skip > 0 && skip >= g->slices[first].size) skip -= g->slices[first++].size;
    if (skip == 0) return first;
    g->slices[first].data = (const uint8_t *)g->slices[first].data + skip;
    g->slices[first].size -= skip;
    return first;
}

static bmb_err send_stream(bmb_link *link, bmb_gather *g, size_t skip, size_t *taken)
{
    size_t first = trim(g, skip);
    return bmb_stream_send(link, g->slices + first, g->slice_count - first, g->bytes - skip, taken);
}

static uint32_t bytes_unsent(const bmb_context *x, uint32_t kbps, uint32_t times)
{
    uint64_t bytes = (uint64_t)kbps * x->config->unsent_ms / 8 * times;
    if (bytes < times * BMB_UNSENT_LEAST) return times * BMB_UNSENT_LEAST;
    return bytes > UINT32_MAX ? UINT32_MAX : (uint32_t)bytes;
}

void bmb_bound_unsent(const bmb_context *x, bmb_sock sock, uint32_t kbps)
{
    if (x->port->net.bound_unsent != NULL) x->port->net.bound_unsent(x->port->ctx, sock, bytes_unsent(x, kbps, 1));
}

/* The time of what is unsent is counted at what the link carries. What is on its way and not yet acknowledged takes a
 * share of its own. */
static void follow_stream(bmb_link *link, uint32_t kbps)
{
    const bmb_port *port = link->x->port;
    bmb_bound_unsent(link->x, link->sock, kbps);
    if (port->net.bound_buffer == NULL) return;
    uint64_t bytes = bytes_unsent(link->x, kbps, 2);
#if BMB_WITH_PATHS
    /* A long way holds much, and could hold more than was tried: a share that only fits what goes now would shrink with
     * each look. */
    bmb_net_path path = { 0 };
    if (port->net.path != NULL && port->net.path(port->ctx, link->sock, &path) == BMB_OK) {
        uint64_t most = path.kbps > kbps ? path.kbps : kbps;
        uint64_t rtt = path.round_trip_us < BMB_ROUND_TRIP_MOST_US ? path.round_trip_us : BMB_ROUND_TRIP_MOST_US;
        bytes += most * rtt / 8000 * 3;
    }
#endif
    port->net.bound_buffer(port->ctx, link->sock, bytes < UINT32_MAX ? (uint32_t)bytes : UINT32_MAX);
}

static const bmb_link_kind stream_kind = { .send = send_stream, .follow = follow_stream };

bmb_link bmb_stream_link(bmb_context *x, bmb_sock sock, uint64_t *progress_us)
{
    return (bmb_link){ .kind = &stream_kind, .x = x, .sock = sock, .progress_us = progress_us };
}

#if BMB_WITH_PATHS
/* On its way may be what the way itself holds (its rate times its least round trip), and a little more, so that it does
 * not run dry until we look again. Whatever else waits stands in a queue. */
bool bmb_path_is_free(const bmb_link *link)
{
    bmb_net_path path = { 0 };
    const bmb_port *port = link->x->port;
    if (port->net.path == NULL || link->look_us == NULL) return true;
    *link->look_us = 0;
    if (port->net.path(port->ctx, link->sock, &path) != BMB_OK) return true;
    uint64_t rtt = path.round_trip_us < BMB_ROUND_TRIP_MOST_US ? path.round_trip_us : BMB_ROUND_TRIP_MOST_US;
    uint64_t free = (uint64_t)path.kbps * (rtt + BMB_AHEAD_US) / 8000;
    if (free < BMB_AHEAD_LEAST) free = BMB_AHEAD_LEAST;
    if (path.waiting <= free) return true;
    uint64_t wait_us = path.kbps > 0 ? (path.waiting - free) * 8000 / path.kbps : BMB_LOOK_MOST_US;
    if (wait_us < BMB_BURST_GAP_US) wait_us = BMB_BURST_GAP_US;
    *link->look_us =
        (uint32_t)(link->x->now + (wait_us < BMB_LOOK_MOST_US ? wait_us : BMB_LOOK_MOST_US)) | 1; /* not 0 */
    return false;
}
#endif

static bmb_err send_datagrams(bmb_link *link, bmb_gather *g, size_t skip, size_t *taken)
{
    (void)skip;
    bmb_err err = net_send_packets(link, g->packets, g->piece_count, taken);
    if (err != BMB_REFUSED) return err;
    size_t more = 0; /* what an earlier packet met with; these were not sent, and somebody may come any time */
    link->answer = err;
    err = net_send_packets(link, g->packets + *taken, g->piece_count - *taken, &more);
    *taken += more;
    return err == BMB_REFUSED ? BMB_AGAIN : err;
}

static const bmb_link_kind datagram_kind = { .packets = true, .send = send_datagrams };

bmb_link bmb_datagram_link(bmb_context *x, bmb_sock sock, const bmb_addr *to)
{
    return (bmb_link){ .kind = &datagram_kind, .x = x, .sock = sock, .to = to };
}

#if BMB_WITH_PARITY
void bmb_datagram_parity(const bmb_link *link, const bmb_packet *packet)
{
    bmb_parity *p = link->parity;
    uint8_t head[BMB_PARITY_HEAD];
    if (packet != NULL) bmb_parity_add(p, packet);
    if (!bmb_parity_is_due(p, packet == NULL)) return;
    bmb_parity_write(p, head);
    const bmb_slice slices[2] = { { head, sizeof head }, { p->data, p->size } };
    const bmb_packet out = { slices, 2, BMB_PARITY_HEAD + (uint32_t)p->size };
    bmb_addr to = *link->to;
    to.port = (uint16_t)(to.port + 2);
    bmb_link way = *link;
    way.to = &to;
    size_t taken;
    (void)net_send_packets(&way, &out, 1, &taken);
    bmb_parity_clear(p);
}
#endif

#if BMB_WITH_REPEATS
void bmb_datagram_put(const bmb_link *link, const bmb_packet *packet)
{
    size_t taken;
    (void)net_send_packets(link, packet, 1, &taken);
}
#endif

void bmb_datagram_send(const bmb_link *link, const void *data, size_t size)
{
    const bmb_slice slice = { data, size };
    const bmb_packet packet = { &slice, 1, (uint32_t)size };
    size_t taken;
    (void)net_send_packets(link, &packet, 1, &taken);
}
