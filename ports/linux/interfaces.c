/* Addresses: reading those that people write, and finding those under which this machine can be reached. */
#include <arpa/inet.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/bytes.h"
#include "linux/state.h"

static bool is_wildcard(const bmb_addr *addr)
{
    static const uint8_t zero[16];
    return memcmp(addr->ip, zero, addr->family == 6 ? 16 : 4) == 0;
}

static bool is_link_local(const bmb_addr *addr)
{
    return addr->family == 6 && addr->ip[0] == 0xFE && (addr->ip[1] & 0xC0) == 0x80;
}

static bool address_of(const struct ifaddrs *i, bmb_addr *out)
{
    int family = i->ifa_addr != NULL ? i->ifa_addr->sa_family : AF_UNSPEC;
    struct sockaddr_storage ss = { 0 };
    if (family != AF_INET && family != AF_INET6) return false;
    memcpy(&ss, i->ifa_addr, family == AF_INET ? sizeof(struct sockaddr_in) : sizeof(struct sockaddr_in6));
    bmb_linux_from_sockaddr(&ss, out);
    return true;
}

unsigned bmb_linux_interface_of(const bmb_addr *addr)
{
    struct ifaddrs *list;
    unsigned found = 0;
    bmb_addr has;
    if (is_wildcard(addr) || getifaddrs(&list) != 0) return 0;
    for (const struct ifaddrs *i = list; i != NULL && found == 0; i = i->ifa_next)
        if (address_of(i, &has) && bmb_same_host(&has, addr)) found = if_nametoindex(i->ifa_name);
    freeifaddrs(list);
    return found;
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
            bmb_addr addr;
            if ((i->ifa_flags & IFF_UP) == 0 || !address_of(i, &addr)) continue;
            /* A listener for IPv6 also takes IPv4, as the system is set up by default. */
            if (addr.family == 6 && bound->family != 6) continue;
            addr.port = bound->port;
            if (is_link_local(&addr) || bmb_is_loopback(&addr) != (loopback != 0)) continue;
            out[n++] = addr;
        }
    }
    freeifaddrs(list);
    return n;
}

/* Does this system have IPv6 at all? */
static bool has_ipv6(void)
{
    int fd = socket(AF_INET6, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (fd >= 0) close(fd);
    return fd >= 0;
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
    if (size == 0 && has_ipv6()) out->family = 6;
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
