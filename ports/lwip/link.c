/* The network below the sockets: its link that goes and comes, a DHCP server that begins late, and another host that
 * has the same address. Of the default interface: a board has one. */
#include <lwip/dhcp.h>
#include <lwip/netif.h>
#include <lwip/priv/tcp_priv.h>
#include <lwip/prot/dhcp.h>
#include <lwip/prot/etharp.h>
#include <netif/ethernet.h>

#include "lwip/state.h"

#define LOOK_US 500000u
#define TAKEN_US 60000000u     /* between two times that another host with our address is told */
#define DISCOVER_TRIES_MOST 1u /* lwIP doubles the pause with each of them, up to a minute; so it stays at 4 s */

bmb_lwip *bmb_lwip_now; /* there is one stack, and one port on it at a time */

#if LWIP_DHCP
/* A server that begins late, as a router that was switched on together with the board, is asked within 4 s. */
static void keep_asking(struct netif *netif)
{
    struct dhcp *d = netif_dhcp_data(netif);
    bool asks = d != NULL && (d->state == DHCP_STATE_SELECTING || d->state == DHCP_STATE_BACKING_OFF);
#if LWIP_DHCP_AUTOIP_COOP /* the tries count until it takes an address of its own meanwhile */
    asks = asks && d->autoip_coop_state != DHCP_AUTOIP_COOP_STATE_OFF;
#endif
    if (asks && d->tries > DISCOVER_TRIES_MOST) d->tries = DISCOVER_TRIES_MOST;
}
#endif

/* What was under way when the link went is sent again at once, not after a pause that has doubled meanwhile. lwIP
 * itself asks for its address again, and tells groups and neighbours. */
static void resume(struct netif *netif)
{
    netif_set_link_up(netif);
    for (struct tcp_pcb *pcb = tcp_active_pcbs; pcb != NULL; pcb = pcb->next) {
        pcb->nrtx = 0;
        if (pcb->unacked != NULL)
            tcp_rexmit_rto(pcb);
        else
            (void)tcp_output(pcb);
    }
}

void bmb_lwip_tend_link(bmb_lwip *self)
{
    struct netif *netif = netif_default;
    uint64_t now = self->board->now_us(self->board->ctx);
    if (netif == NULL) return;
#if LWIP_DHCP
    keep_asking(netif);
#endif
    if (self->board->link == NULL || now < self->look_us) return;
    self->look_us = now + LOOK_US;
    bool up = self->board->link(self->board->ctx), was = netif_is_link_up(netif) != 0;
    if (up && !was) resume(netif);
    if (!up && was) netif_set_link_down(netif);
}

bool bmb_lwip_online(void *ctx)
{
    const struct netif *netif = netif_default;
    (void)ctx;
    if (netif == NULL || !netif_is_link_up(netif)) return false;
    if (!ip4_addr_isany_val(*netif_ip4_addr(netif))) return true;
#if LWIP_IPV6
    return ip6_addr_isvalid(netif_ip6_addr_state(netif, 1)) != 0;
#else
    return false;
#endif
}

#if LWIP_ARP
/* Does this frame say that another host has our address (RFC 5227 2.4)? */
static bool is_taken(const struct pbuf *p, const struct netif *netif, uint8_t mac[6])
{
    struct eth_hdr ethernet;
    struct etharp_hdr arp;
    const ip4_addr_t *own = netif_ip4_addr(netif);
    if (ip4_addr_isany_val(*own) || pbuf_copy_partial(p, &ethernet, sizeof ethernet, 0) != sizeof ethernet ||
        ethernet.type != PP_HTONS(ETHTYPE_ARP) || pbuf_copy_partial(p, &arp, sizeof arp, sizeof ethernet) != sizeof arp)
        return false;
    memcpy(mac, arp.shwaddr.addr, 6);
    return memcmp(&arp.sipaddr, own, 4) == 0 && memcmp(mac, netif->hwaddr, 6) != 0;
}

#endif

int8_t bmb_lwip_input(struct pbuf *p, struct netif *netif)
{
#if LWIP_ARP
    uint8_t mac[6];
    bmb_lwip *self = bmb_lwip_now;
    const bmb_lwip_board *board = self != NULL ? self->board : NULL;
    if (board != NULL && board->taken != NULL && is_taken(p, netif, mac) &&
        board->now_us(board->ctx) >= self->taken_us) {
        self->taken_us = board->now_us(board->ctx) + TAKEN_US;
        board->taken(board->ctx, mac);
    }
#endif
    return netif->input(p, netif);
}
