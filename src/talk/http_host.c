#include "talk/http_host.h"

#include <string.h>

#if BMB_WITH_ACCESS

/* "192.0.2.1", or "[2001:db8::1]", and nothing behind (RFC 3986 3.2.2). */
static bool is_address(bmb_text name)
{
    unsigned dots = 0;
    bool six = name.size > 2 && name.at[0] == '[' && name.at[name.size - 1] == ']';
    for (size_t i = six; i < name.size - six; i++) {
        char c = name.at[i], low = (char)(c | 0x20);
        bool digit = c >= '0' && c <= '9';
        dots += c == '.';
        if (!digit && c != '.' && !(six && (c == ':' || (low >= 'a' && low <= 'f')))) return false;
    }
    return six || dots == 3;
}

bmb_text bmb_host_alone(bmb_text host)
{
    size_t size = host.size;
    while (size > 0 && host.at[size - 1] >= '0' && host.at[size - 1] <= '9') size--;
    if (size > 0 && size <= host.size && host.at[size - 1] == ':') host.size = size - 1;
    if (host.size > 0 && host.at[host.size - 1] == '.') host.size--; /* as it is written in full */
    return host;
}

bool bmb_host_is_ours(const bmb_config *config, bmb_text host)
{
    bmb_text name = bmb_host_alone(host);
    if (config->names == NULL || host.size == 0 || is_address(name)) return true;
    if (bmb_same_nocase(name.at, name.size, "localhost")) return true;
    for (size_t i = 0; i < config->name_count; i++)
        if (bmb_same_nocase(name.at, name.size, config->names[i])) return true;
    return false;
}

static bool is_host_by(bmb_text origin, const char *scheme, bmb_text host)
{
    size_t size = strlen(scheme);
    return origin.size == size + host.size && memcmp(origin.at, scheme, size) == 0 &&
           memcmp(origin.at + size, host.at, host.size) == 0;
}

bmb_text bmb_host_framer(const bmb_config *config, bmb_text referer, bmb_text host)
{
    const bmb_text none = { NULL, 0 };
    size_t end = 0, slashes = 0;
    for (; end < referer.size && slashes < 3; end++) slashes += referer.at[end] == '/';
    const bmb_text origin = { referer.at, end - (slashes == 3) };
    if (config->embed || slashes < 2) return none;
    if (is_host_by(origin, "https://", host) || is_host_by(origin, "http://", host)) return none;
    for (size_t i = 0; i < config->origin_count; i++)
        if (bmb_same_nocase(origin.at, origin.size, config->origins[i])) return none;
    return origin;
}

uint8_t bmb_origin_of(const bmb_talk *t, const bmb_conn *c)
{
    const bmb_config *config = t->x->config;
    bmb_text origin = bmb_http_parse_value(&c->http, BMB_FIELD_ORIGIN),
             host = bmb_http_parse_value(&c->http, BMB_FIELD_HOST);
    if (origin.size == 0) return UINT8_MAX;
    for (size_t i = 0; i < config->origin_count && i < UINT8_MAX - 1; i++)
        if (bmb_same_nocase(origin.at, origin.size, config->origins[i])) return (uint8_t)(i + 1);
    /* Without encryption the page may be ours all the same: of a reverse proxy that encrypts. */
    bool ours = is_host_by(origin, "https://", host) || (!bmb_conn_secure(c) && is_host_by(origin, "http://", host));
    return ours ? UINT8_MAX : 0;
}

#endif
