/* Where people want a feed to be sent: read, resolved, and judged before anything is sent into the void. */
#include <errno.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <netdb.h>
#include <netinet/in.h>
#include <string.h>
#include <unistd.h>

#include "base/bytes.h"
#include "linux/state.h"

/* HOST:PORT or [HOST]:PORT behind the scheme; host gets its own ending. */
static bmb_destination_fault split(const char *text, char *host, size_t room, uint16_t *port)
{
    const char *end = text + strcspn(text, "/?");
    bool slash = end[0] == '/' && end[1] == '\0'; /* at the end it does no harm */
    if (end[0] != '\0' && !slash) return BMB_DESTINATION_NOT_AN_ADDRESS;
    const char *from = text, *to = text;
    if (text[0] == '[') {
        from = text + 1;
        to = memchr(from, ']', (size_t)(end - from));
        if (to == NULL) return BMB_DESTINATION_NOT_AN_ADDRESS;
        text = to + 1;
    } else {
        while (text < end && *text != ':') text++;
        to = text;
    }
    if (text == end) return BMB_DESTINATION_NO_PORT;
    uint32_t number;
    if (*text != ':' || !bmb_read_dec(text + 1, (size_t)(end - text - 1), 65535, &number) || number == 0)
        return BMB_DESTINATION_NO_PORT;
    *port = (uint16_t)number;
    size_t size = (size_t)(to - from);
    if (size == 0 || size >= room) return BMB_DESTINATION_NOT_AN_ADDRESS;
    memcpy(host, from, size);
    host[size] = '\0';
    return BMB_DESTINATION_FINE;
}

/* Digits and dots alone are no name: the resolver would take "10.5" for 10.0.0.5. */
static bool is_short_number(const char *host)
{
    size_t dots = 0, n = strspn(host, "0123456789.");
    if (host[n] != '\0') return false;
    for (size_t i = 0; i < n; i++) dots += host[i] == '.';
    return dots != 3;
}

bmb_destination_fault bmb_linux_destination(const char *text, bool *tcp, bmb_addr *out)
{
    char host[256];
    uint16_t port = 0;
    *tcp = strncmp(text, "tcp://", 6) == 0;
    if (!*tcp && strncmp(text, "udp://", 6) != 0) return BMB_DESTINATION_SCHEME;
    bmb_destination_fault fault = split(text + 6, host, sizeof host, &port);
    if (fault != BMB_DESTINATION_FINE) return fault;
    if (is_short_number(host)) return BMB_DESTINATION_NOT_AN_ADDRESS;

    const struct addrinfo hints = { .ai_family = AF_UNSPEC, .ai_socktype = *tcp ? SOCK_STREAM : SOCK_DGRAM };
    struct addrinfo *list = NULL;
    int err = getaddrinfo(host, NULL, &hints, &list);
    if (err != 0 || list == NULL) {
        bool numeric = strspn(host, "0123456789.") == strlen(host) || strchr(host, ':') != NULL;
        return numeric ? BMB_DESTINATION_NOT_AN_ADDRESS : BMB_DESTINATION_UNKNOWN_HOST;
    }
    struct sockaddr_storage ss = { 0 };
    memcpy(&ss, list->ai_addr, list->ai_addrlen);
    freeaddrinfo(list);
    bmb_linux_from_sockaddr(&ss, out);
    out->port = port;
    return BMB_DESTINATION_FINE;
}

static bool is_multicast(const bmb_addr *a)
{
    return a->family == 6 ? a->ip[0] == 0xFF : a->ip[0] >= 224 && a->ip[0] <= 239;
}

/* The network that an interface is attached to, from its own address and mask. */
static bool shares_network(const bmb_addr *own, const struct sockaddr *mask, const bmb_addr *to)
{
    struct sockaddr_storage ss = { 0 };
    bmb_addr bits;
    if (mask == NULL || own->family != to->family) return false;
    memcpy(&ss, mask, own->family == 4 ? sizeof(struct sockaddr_in) : sizeof(struct sockaddr_in6));
    ss.ss_family = own->family == 4 ? AF_INET : AF_INET6; /* some kernels leave it out of masks */
    bmb_linux_from_sockaddr(&ss, &bits);
    for (size_t i = 0; i < (own->family == 4 ? 4u : 16u); i++)
        if (((own->ip[i] ^ to->ip[i]) & bits.ip[i]) != 0) return false;
    return true;
}

static bool has_route(const bmb_addr *to)
{
    struct sockaddr_storage ss;
    const int on = 1;
    socklen_t size = bmb_linux_to_sockaddr(to, &ss);
    int fd = socket(to->family == 6 ? AF_INET6 : AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (fd < 0) return true; /* cannot be told */
    setsockopt(fd, SOL_SOCKET, SO_BROADCAST, &on, sizeof on);
    bool ok = connect(fd, (struct sockaddr *)&ss, size) == 0 || (errno != ENETUNREACH && errno != EHOSTUNREACH);
    close(fd);
    return ok;
}

bmb_destination_fault bmb_linux_judge(const bmb_addr *to)
{
    struct ifaddrs *list;
    bool own = bmb_is_loopback(to), near = own;
    if (!has_route(to)) return BMB_DESTINATION_NO_ROUTE;
    if (is_multicast(to) || (to->family == 4 && to->ip[0] == 255)) return BMB_DESTINATION_FINE;
    if (getifaddrs(&list) != 0) return BMB_DESTINATION_FINE;
    for (const struct ifaddrs *i = list; i != NULL; i = i->ifa_next) {
        if (i->ifa_addr == NULL || (i->ifa_flags & IFF_UP) == 0) continue;
        int family = i->ifa_addr->sa_family;
        if (family != AF_INET && family != AF_INET6) continue;
        struct sockaddr_storage ss = { 0 };
        bmb_addr addr;
        memcpy(&ss, i->ifa_addr, family == AF_INET ? sizeof(struct sockaddr_in) : sizeof(struct sockaddr_in6));
        bmb_linux_from_sockaddr(&ss, &addr);
        own = own || bmb_same_host(&addr, to);
        near = near || shares_network(&addr, i->ifa_netmask, to);
    }
    freeifaddrs(list);
    return own ? BMB_DESTINATION_OWN : near ? BMB_DESTINATION_FINE : BMB_DESTINATION_OTHER_NETWORK;
}
