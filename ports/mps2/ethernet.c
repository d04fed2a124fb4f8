/* The machine's LAN9118 Ethernet controller, as an lwIP interface. Frames go through its FIFOs word by word: one that
 * is sent has been read when the call returns, which ports/lwip asks for. */
#include <lwip/dhcp.h>
#include <lwip/etharp.h>
#include <lwip/netif.h>
#include <netif/ethernet.h>
#include <string.h>

#include "mps2/board.h"

/* Registers: SMSC LAN9118 data sheet, 5.2 and 5.3. */
#define RX_DATA mps2_at(MPS2_ETHERNET + 0x00u)
#define TX_DATA mps2_at(MPS2_ETHERNET + 0x20u)
#define RX_STATUS mps2_at(MPS2_ETHERNET + 0x40u)
#define ID_REV mps2_at(MPS2_ETHERNET + 0x50u)
#define IRQ_CFG mps2_at(MPS2_ETHERNET + 0x54u)
#define INT_STS mps2_at(MPS2_ETHERNET + 0x58u)
#define INT_EN mps2_at(MPS2_ETHERNET + 0x5Cu)
#define FIFO_INT mps2_at(MPS2_ETHERNET + 0x68u)
#define RX_CFG mps2_at(MPS2_ETHERNET + 0x6Cu)
#define TX_CFG mps2_at(MPS2_ETHERNET + 0x70u)
#define RX_FIFO_INF mps2_at(MPS2_ETHERNET + 0x7Cu)
#define TX_FIFO_INF mps2_at(MPS2_ETHERNET + 0x80u)
#define MAC_CSR_CMD mps2_at(MPS2_ETHERNET + 0xA4u)
#define MAC_CSR_DATA mps2_at(MPS2_ETHERNET + 0xA8u)
#define MAC_BUSY 0x80000000u
#define MAC_READ 0x40000000u
#define MAC_CR 1u
#define MAC_ADDRH 2u
#define MAC_ADDRL 3u
#define MII_ACC 6u
#define MII_DATA 7u
#define FRAMES_AT_ONCE 16u
#define RSFL_INT 0x8u /* a frame was received */

static struct netif interface;
static volatile bool arrived;

static uint32_t mac(uint32_t reg, uint32_t value)
{
    *MAC_CSR_DATA = value;
    *MAC_CSR_CMD = MAC_BUSY | reg;
    while ((*MAC_CSR_CMD & MAC_BUSY) != 0) continue;
    return *MAC_CSR_DATA;
}

/* The status register of the PHY, which is number 1 (IEEE 802.3 22.2.4.2): the link is there. */
bool mps2_ethernet_link(void *ctx)
{
    (void)ctx;
    (void)mac(MII_ACC, 1u << 11 | 1u << 6 | 1u);
    return (mac(MAC_READ | MII_DATA, 0) >> 2 & 1) != 0;
}

/* Bytes of a chain as the words that the FIFO takes. */
static void put_words(const struct pbuf *p)
{
    uint32_t word = 0;
    unsigned have = 0;
    for (; p != NULL; p = p->next) {
        const uint8_t *at = (const uint8_t *)p->payload;
        for (size_t left = p->len; left > 0;) {
            if (have == 0 && left >= 4) {
                memcpy(&word, at, 4);
                *TX_DATA = word;
                at += 4;
                left -= 4;
                continue;
            }
            if (have == 0) word = 0;
            word |= (uint32_t)*at++ << (8 * have++);
            left--;
            if (have < 4) continue;
            *TX_DATA = word;
            have = 0;
        }
    }
    if (have > 0) *TX_DATA = word;
}

static err_t send_frame(struct netif *netif, struct pbuf *p)
{
    (void)netif;
    (void)pbuf_remove_header(p, ETH_PAD_SIZE);
    uint32_t size = p->tot_len;
    bool room = (*TX_FIFO_INF & 0xFFFFu) >= size + 16;
    if (room) {
        *TX_DATA = 0x3000u | size; /* command A: first and last part of a frame */
        *TX_DATA = size;           /* command B */
        put_words(p);
    }
    (void)pbuf_add_header(p, ETH_PAD_SIZE);
    return room ? ERR_OK : ERR_MEM; /* TCP tries again; RTP counts it */
}

/* Without its checksum, into one buffer of the pool: they are a frame's size. NULL: it is no good, or there is none. */
static struct pbuf *take_frame(uint32_t status)
{
    uint32_t size = status >> 16 & 0x3FFFu, words = (size + 3) / 4, kept = 0;
    bool good = (status & 0x8000u) == 0 && size > 18;
    struct pbuf *p = good ? pbuf_alloc(PBUF_RAW, (u16_t)(size - 4 + ETH_PAD_SIZE), PBUF_POOL) : NULL;
    if (p != NULL && p->next == NULL) {
        uint8_t *to = (uint8_t *)p->payload + ETH_PAD_SIZE;
        for (kept = 0; kept < (size - 4) / 4; kept++, to += 4) memcpy(to, &(uint32_t){ *RX_DATA }, 4);
        uint32_t last = (size - 4) % 4 > 0 ? *RX_DATA : 0;
        memcpy(to, &last, (size - 4) % 4);
        kept += (size - 4) % 4 > 0;
    } else if (p != NULL) {
        pbuf_free(p);
        p = NULL;
    }
    for (; kept < words; kept++) (void)*RX_DATA;
    return p;
}

bool mps2_ethernet_input(void *ctx)
{
    (void)ctx;
    if (!arrived) return false;
    arrived = false;
    *INT_STS = RSFL_INT; /* before they are taken: one that comes meanwhile is said of anew */
    for (unsigned i = 0; (*RX_FIFO_INF >> 16 & 0xFFu) > 0; i++) {
        if (i == FRAMES_AT_ONCE) { /* whoever floods it does not hold the loop up */
            arrived = true;
            return true;
        }
        struct pbuf *p = take_frame(*RX_STATUS);
        if (p != NULL && bmb_lwip_input(p, &interface) != ERR_OK) pbuf_free(p);
    }
    *INT_EN = RSFL_INT; /* what came meanwhile interrupts at once */
    return false;
}

/* The frames stay in the controller until the loop takes them; no more is said of them until then. */
void mps2_ethernet_interrupt(void)
{
    *INT_EN = 0;
    arrived = true;
    mps2_interrupted();
}

static err_t begin(struct netif *netif)
{
    uint32_t low = mac(MAC_READ | MAC_ADDRL, 0), high = mac(MAC_READ | MAC_ADDRH, 0);
    memcpy(netif->hwaddr, &low, 4);
    memcpy(netif->hwaddr + 4, &high, 2);
    netif->hwaddr_len = ETH_HWADDR_LEN;
    netif->name[0] = 'e';
    netif->name[1] = 'n';
    netif->mtu = 1500;
    netif->flags = NETIF_FLAG_BROADCAST | NETIF_FLAG_ETHARP | NETIF_FLAG_LINK_UP | NETIF_FLAG_IGMP;
    netif->output = etharp_output;
    netif->linkoutput = send_frame;
    return ERR_OK;
}

bool mps2_ethernet_start(void)
{
    if (*ID_REV >> 16 != 0x0118u) return false;
    (void)netif_add_noaddr(&interface, NULL, begin, ethernet_input);
    netif_set_default(&interface);
    *IRQ_CFG = 0x111u; /* on, active high, push-pull */
    *FIFO_INT = 0;     /* each frame interrupts */
    *RX_CFG = 0;
    *TX_CFG = 2;                                     /* on */
    (void)mac(MAC_CR, 1u << 19 | 1u << 3 | 1u << 2); /* all groups, transmitter and receiver on */
    mps2_enable(MPS2_IRQ_ETHERNET);
    *INT_EN = RSFL_INT;
    netif_set_up(&interface);
    return dhcp_start(&interface) == ERR_OK;
}

uint32_t mps2_ipv4(void)
{
    return lwip_ntohl(ip4_addr_get_u32(netif_ip4_addr(&interface)));
}
