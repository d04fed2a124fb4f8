/* As a board would have it, but with a loopback interface, IPv6, and lwIP's own checks: the other ends of connections
 * are sockets of the same stack. */
#ifndef BMB_TESTS_LWIPOPTS_H
#define BMB_TESTS_LWIPOPTS_H

#define NO_SYS 1
#define SYS_LIGHTWEIGHT_PROT 0
#define LWIP_SOCKET 0
#define LWIP_NETCONN 0
#define LWIP_STATS 0
#define MEM_ALIGNMENT 8
#define LWIP_IPV6 1
#define LWIP_IPV6_REASS 0
#define IP_REASSEMBLY 0
#define LWIP_ETHERNET 0
#define LWIP_ARP 0
#define LWIP_DHCP 0
#define LWIP_IPV6_DHCP6 0
#define LWIP_DNS 0
#define LWIP_RAW 0
#define LWIP_IGMP 1
#define LWIP_NETIF_LOOPBACK 1
#define LWIP_HAVE_LOOPIF 1
#define LWIP_LOOPBACK_MAX_PBUFS 32
#define IP_SOF_BROADCAST 1
#define SO_REUSE 1
#define LWIP_TCP_KEEPALIVE 1
#define LWIP_MULTICAST_TX_OPTIONS 1
#define TCP_MSS 1460
#define TCP_WND (2 * TCP_MSS)
#define TCP_SND_BUF (6 * TCP_MSS)
#define TCP_SND_QUEUELEN 24
#define TCP_QUEUE_OOSEQ 0
#define TCP_LISTEN_BACKLOG 1
#define TCP_MSL 50u
#define MEMP_NUM_TCP_PCB 64
#define MEMP_NUM_TCP_PCB_LISTEN 8
#define MEMP_NUM_UDP_PCB 12
#define MEMP_NUM_TCP_SEG 200
#define MEMP_NUM_PBUF 256
#define PBUF_POOL_SIZE 64
#define MEM_SIZE (256 * 1024)

#endif
