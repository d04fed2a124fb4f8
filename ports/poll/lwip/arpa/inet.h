/* <arpa/inet.h> of lwIP's sockets, also where the board's cc.h leaves the order of bytes to the C library. */
#include "lwip/def.h"
#include "lwip/sockets.h"

#ifndef htons
#define htons(x) lwip_htons(x)
#define ntohs(x) lwip_ntohs(x)
#define htonl(x) lwip_htonl(x)
#define ntohl(x) lwip_ntohl(x)
#endif
