/* lwIP with threads and sockets, as an RTOS has it: no loopback interface, which is its preset. */
#ifndef BMB_TESTS_SOCKETS_LWIPOPTS_H
#define BMB_TESTS_SOCKETS_LWIPOPTS_H

#include <limits.h> /* SSIZE_MAX, by which lwIP knows that there is a ssize_t */

#define NO_SYS 0
#define LWIP_SOCKET 1
#define LWIP_NETCONN 1
#define LWIP_COMPAT_SOCKETS 1
#define LWIP_POSIX_SOCKETS_IO_NAMES 1
#define LWIP_SOCKET_POLL 1
#define LWIP_STATS 0
#define MEM_ALIGNMENT 8
#ifndef LWIP_IPV6
#define LWIP_IPV6 0
#endif
#define LWIP_DHCP 0
#define LWIP_DNS 0
#define LWIP_IGMP 1
#define SO_REUSE 1
#define IP_SOF_BROADCAST 1
#define LWIP_TCP_KEEPALIVE 1
#define LWIP_MULTICAST_TX_OPTIONS 1
#define TCP_MSS 1460
#define TCP_WND (4 * TCP_MSS)
#define TCP_SND_BUF (8 * TCP_MSS)
#define TCP_SND_QUEUELEN 32
#define TCP_LISTEN_BACKLOG 1
#define TCP_MSL 50u /* the check opens and closes many */
#define MEMP_NUM_NETCONN 80
#define MEMP_NUM_TCP_PCB 64
#define MEMP_NUM_TCP_PCB_LISTEN 8
#define MEMP_NUM_UDP_PCB 16
#define MEMP_NUM_TCP_SEG 400
#define MEMP_NUM_PBUF 256
#define MEMP_NUM_NETBUF 64
#define MEMP_NUM_TCPIP_MSG_API 64
#define MEMP_NUM_TCPIP_MSG_INPKT 64
#define PBUF_POOL_SIZE 128
#define MEM_SIZE (512 * 1024)
#define TCPIP_MBOX_SIZE 64
#define DEFAULT_ACCEPTMBOX_SIZE 8
#define DEFAULT_TCP_RECVMBOX_SIZE 32
#define DEFAULT_UDP_RECVMBOX_SIZE 32
#define DEFAULT_RAW_RECVMBOX_SIZE 8
#define LWIP_NETIF_TX_SINGLE_PBUF 1
/* Debian's sources leave these to whoever brings other types of addresses; these are lwIP's own. */
#define IP4ADDR_SOCKADDR_SET_LEN(sin) ((sin)->sin_len = sizeof(struct sockaddr_in))
#define IP6ADDR_SOCKADDR_SET_LEN(sin6) ((sin6)->sin6_len = sizeof(struct sockaddr_in6))
#define IPADDR_SOCKADDR_GET_LEN(address) ((address)->sa.sa_len)

#endif
