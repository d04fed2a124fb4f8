/* lwIP for this board, as far as it differs from lwIP's own choice: no operating system, everything in static memory.
 * The numbers fit eight viewers. */
#ifndef MPS2_LWIPOPTS_H
#define MPS2_LWIPOPTS_H

#define NO_SYS 1
#define SYS_LIGHTWEIGHT_PROT 0 /* lwIP is called from the loop alone, never from an interrupt */
#define LWIP_SOCKET 0
#define LWIP_NETCONN 0
#define LWIP_STATS 0
#define MEM_ALIGNMENT 4

#define LWIP_DHCP 1
#define DHCP_DOES_ARP_CHECK 0 /* it takes a second, and a board that was reset is missed by its viewers */
#define LWIP_AUTOIP 1         /* where no DHCP server answers */
#define LWIP_DHCP_AUTOIP_COOP 1
#define LWIP_DHCP_AUTOIP_COOP_TRIES 2
#define LWIP_IGMP 1
#define IP_REASSEMBLY 0 /* nothing that is waited for comes in fragments */
#define IP_FRAG 0
#ifdef MPS2_LOOPBACK /* for the port check, whose other ends are here, too */
#define LWIP_NETIF_LOOPBACK 1
#define LWIP_HAVE_LOOPIF 1
#define LWIP_LOOPBACK_MAX_PBUFS 64
#define LWIP_SINGLE_NETIF 0
#else
#define LWIP_SINGLE_NETIF 1
#endif
#define IP_SOF_BROADCAST 1
#define SO_REUSE 1
#define LWIP_TCP_KEEPALIVE 1
#define ETH_PAD_SIZE 2 /* so that IP headers are aligned */

#define TCP_MSS 1460
#define TCP_WND (2 * TCP_MSS) /* requests are short */
#define TCP_SND_BUF (6 * TCP_MSS)
#define TCP_SND_QUEUELEN 24
#define TCP_QUEUE_OOSEQ 0
#define TCP_LISTEN_BACKLOG 1
#define TCP_OVERSIZE 128 /* room behind a header, for the next short one; payload is lent */
#define TCP_MAXRTX 6
#define TCP_SYNMAXRTX 3
#define TCP_TMR_INTERVAL 100 /* ms; a lost segment is sent again after some of them: of a stream, a second is long */
#define TCP_MSL 2000u        /* ms; a port that has just been in use is free again after two */

#define MEMP_NUM_TCP_PCB 32
#define MEMP_NUM_TCP_PCB_LISTEN 6
#define MEMP_NUM_UDP_PCB 8
#define MEMP_NUM_TCP_SEG 96
#define MEMP_NUM_PBUF 128 /* descriptions of lent bytes */
#define PBUF_POOL_SIZE 32
#define MEM_SIZE (40 * 1024)

#endif
