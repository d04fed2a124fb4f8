/* Addresses: reading those that people write, and finding those under which this machine can be reached. */
#include <arpa/inet.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <stdlib.h>
#include <string.h>

#include "base/bytes.h"
#include "linux/state.h"

static bool is_wildcard(const bmb_addr *addr)
{
    static const uint8_t zero[16];
    return memcmp(addr->ip, zero, addr->family == 6 ? 16 : 4) == 0;
}

static bool is_loopback(const bmb_addr *addr)
{
    static const uint8_t one[16] = { [15] = 1 };
    return addr->family == 6 ? memcmp(addr->ip, one, 16) == 0 : addr->ip[0] == 127;
}

static bool is_link_local(const bmb_addr *addr)
{
    return addr->family == 6 && addr->ip[0] == 0xFE && (addr->ip[1] & 0xC0) == 0x80;
}

size_t bmb_linux_reachable(const bmb_addr *bound, bmb_addr *out, size_t room)
{
    struct ifaddrs *list;
    size_t n = 0;
    if (room == 0) return 0;
    if (!is_wildcard(bound)) {
        out[0] = *bound;
        return 1;
    }
    if (getifaddrs(&list) != 0) return 0;
    for (int loopback = 0; loopback <= 1; loopback++) {
        for (const struct ifaddrs *i = list; i != NULL && n < room; i = i->ifa_next) {
            if (i->ifa_addr == NULL || (i->ifa_flags & IFF_UP) == 0) continue;
            int family = i->ifa_addr->sa_family;
            /* A listener for IPv6 also takes IPv4, as the system is set up by default. */
            if (family != AF_INET && (family != AF_INET6 || bound->family != 6)) continue;
            struct sockaddr_storage ss = { 0 };
            memcpy(&ss, i->ifa_addr, family == AF_INET ? sizeof(struct sockaddr_in) : sizeof(struct sockaddr_in6));
            bmb_addr addr;
            bmb_linux_from_sockaddr(&ss, &addr);
            addr.port = bound->port;
            if (is_link_local(&addr) || is_loopback(&addr) != (loopback != 0)) continue;
            out[n++] = addr;
        }
    }
    freeifaddrs(list);
    return n;
}

bmb_err bmb_addr_parse(const char *text, bmb_addr *out)
{
    const char *colon = strrchr(text, ':'), *port = colon != NULL ? colon + 1 : text;
    const char *host = text;
    size_t size = colon != NULL ? (size_t)(colon - text) : 0;
    uint32_t number;
    memset(out, 0, sizeof *out);
    if (!bmb_read_dec(port, strlen(port), 65535, &number)) return BMB_BAD_ARG;
    out->port = (uint16_t)number;
    out->family = 4;
    if (size == 0) return BMB_OK;
    if (host[0] == '[') {
        if (size < 3 || host[size - 1] != ']') return BMB_BAD_ARG;
        host++;
        size -= 2;
        out->family = 6;
    }
    char copy[64];
    if (size >= sizeof copy) return BMB_BAD_ARG;
    memcpy(copy, host, size);
    copy[size] = '\0';
    return inet_pton(out->family == 6 ? AF_INET6 : AF_INET, copy, out->ip) == 1 ? BMB_OK : BMB_BAD_ARG;
}
