/* Datagrams over lwIP's UDP. */
#include <lwip/igmp.h>
#include <lwip/ip.h>

#include "lwip/state.h"

#if LWIP_UDP

/* Where a datagram came from, in a pbuf of its own before its bytes. */
typedef struct sender {
    bmb_addr from;
    uint16_t size;
} sender;

static void received(void *arg, struct udp_pcb *pcb, struct pbuf *p, const ip_addr_t *ip, u16_t port)
{
    sock *s = (sock *)arg;
    (void)pcb;
    sender head = { .size = p->tot_len };
    bmb_lwip_from_ip(ip, port, &head.from);
    size_t waiting = s->in != NULL ? s->in->tot_len : 0, size = sizeof head + p->tot_len;
    /* Copied into memory of its size: a buffer of the pool is a whole frame's. */
    struct pbuf *entry = waiting + size <= BMB_LWIP_WAITING ? pbuf_alloc(PBUF_RAW, (u16_t)size, PBUF_RAM) : NULL;
    if (entry != NULL) {
        memcpy(entry->payload, &head, sizeof head);
        (void)pbuf_copy_partial(p, (uint8_t *)entry->payload + sizeof head, p->tot_len, 0);
        if (s->in == NULL) {
            s->in = entry;
        } else {
            pbuf_cat(s->in, entry);
        }
        s->waiting++;
    }
    pbuf_free(p);
}

static bmb_err udp_open(void *ctx, const bmb_addr *addr, const bmb_udp_options *options, bmb_sock *out, bmb_addr *bound)
{
    ip_addr_t ip, peer;
    bmb_err err = bmb_lwip_own_ip(addr, &ip);
    if (err != BMB_OK) return err;
    if (options->peer != NULL && bmb_lwip_to_ip(options->peer, &peer) != BMB_OK) return BMB_NO_ROUTE;
    struct udp_pcb *pcb = udp_new_ip_type(IP_GET_TYPE(&ip));
    sock *s = pcb != NULL ? bmb_lwip_take((bmb_lwip *)ctx, SOCK_DATAGRAMS, out) : NULL;
    if (s == NULL) {
        if (pcb != NULL) udp_remove(pcb);
        return BMB_LIMIT;
    }
    s->udp = pcb;
    ip_set_option(pcb, SOF_BROADCAST);
#if LWIP_MULTICAST_TX_OPTIONS
    udp_set_multicast_ttl(pcb, options->ttl != 0 ? options->ttl : 1);
    const ip4_addr_t interface = { lwip_htonl(options->interface_ipv4) };
    if (options->interface_ipv4 != 0) udp_set_multicast_netif_addr(pcb, &interface);
#endif
    err_t e = udp_bind(pcb, &ip, addr->port);
    if (e == ERR_OK && options->peer != NULL) e = udp_connect(pcb, &peer, options->peer->port);
    if (e != ERR_OK) {
        udp_remove(pcb);
        bmb_lwip_free(s);
        return bmb_lwip_err(e);
    }
    udp_recv(pcb, received, s);
    *bound = *addr;
    bound->port = pcb->local_port;
    return BMB_OK;
}

/* A packet as lwIP wants it: short slices copied into its first buffer, behind the headers, and longer ones referred
 * to. NULL: no memory. */
#define COPIED_MOST 64u
static struct pbuf *packet_of(const bmb_packet *packet)
{
    size_t first = 0, copied = 0;
    while (first < packet->count && copied + packet->slices[first].size <= COPIED_MOST)
        copied += packet->slices[first++].size;
    struct pbuf *p = pbuf_alloc(PBUF_TRANSPORT, (u16_t)copied, PBUF_RAM);
    uint8_t *at = p != NULL ? (uint8_t *)p->payload : NULL;
    for (size_t i = 0; p != NULL && i < first; i++) {
        memcpy(at, packet->slices[i].data, packet->slices[i].size);
        at += packet->slices[i].size;
    }
    for (size_t i = first; p != NULL && i < packet->count; i++) {
        const bmb_slice *slice = &packet->slices[i];
        struct pbuf *part = slice->size > 0 ? pbuf_alloc(PBUF_RAW, (u16_t)slice->size, PBUF_REF) : NULL;
        if (slice->size == 0) continue;
        if (part == NULL) {
            pbuf_free(p);
            return NULL;
        }
        part->payload = (void *)(uintptr_t)slice->data; /* only read */
        pbuf_cat(p, part);
    }
    return p;
}

static bmb_err udp_send_packets(void *ctx, bmb_sock index, const bmb_addr *to, const bmb_packet *packets, size_t count,
                                size_t *taken)
{
    const sock *s = bmb_lwip_sock(ctx, index);
    ip_addr_t ip;
    *taken = 0;
    if (to != NULL && bmb_lwip_to_ip(to, &ip) != BMB_OK) return BMB_NO_ROUTE;
    while (*taken < count) {
        struct pbuf *p = packet_of(&packets[*taken]);
        if (p == NULL) return BMB_AGAIN;
        err_t err = to != NULL ? udp_sendto(s->udp, p, &ip, to->port) : udp_send(s->udp, p);
        pbuf_free(p);
        if (err == ERR_MEM || err == ERR_BUF) return BMB_AGAIN;
        if (err != ERR_OK) return bmb_lwip_err(err);
        ++*taken;
    }
    return BMB_OK;
}

static bmb_err udp_receive(void *ctx, bmb_sock index, void *out, size_t room, size_t *got, bmb_addr *from)
{
    sock *s = bmb_lwip_sock(ctx, index);
    sender head;
    *got = 0;
    if (s->waiting == 0) return BMB_AGAIN;
    (void)pbuf_copy_partial(s->in, &head, sizeof head, 0);
    u16_t size = room < head.size ? (u16_t)room : head.size;
    *got = pbuf_copy_partial(s->in, out, size, sizeof head);
    *from = head.from;
    s->in = pbuf_free_header(s->in, (u16_t)(sizeof head + head.size));
    s->waiting--;
    return BMB_OK;
}

void bmb_lwip_udp_close(sock *s)
{
    udp_remove(s->udp);
}

void bmb_lwip_fill_udp(bmb_net *net)
{
    net->udp_open = udp_open;
    net->udp_send = udp_send_packets;
    net->udp_recv = udp_receive;
}

#else
void bmb_lwip_udp_close(sock *s)
{
    (void)s;
}
#endif
