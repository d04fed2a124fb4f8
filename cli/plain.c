/* Plain TCP outlets and pushes: from what the configuration says to what the device takes. */
#include <string.h>

#include "settings.h"

bool cli_destination(const char *where, const char *text, bool judge, bmb_push_config *out)
{
    char as_tcp[CLI_TEXT_MAX + 8];
    out->secure = strncmp(text, "tls://", 6) == 0;
    snprintf(as_tcp, sizeof as_tcp, "%s%s", out->secure ? "tcp://" : "", out->secure ? text + 6 : text);
    switch (bmb_linux_destination(as_tcp, &out->tcp, &out->to)) {
    case BMB_DESTINATION_SCHEME:
        cli_error("%s%s: udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT is expected, such as "
                  "udp://192.0.2.20:5000",
                  where, text);
        return false;
    case BMB_DESTINATION_NO_PORT:
        cli_error("%s%s: a port of 1 to 65535 is missing behind the host, as in %s://192.0.2.20:5000", where, text,
                  out->secure ? "tls"
                  : out->tcp  ? "tcp"
                              : "udp");
        return false;
    case BMB_DESTINATION_UNKNOWN_HOST:
        cli_error("%s%s: no host of that name is known. Check its spelling, and this board's name server; or give the "
                  "IP address",
                  where, text);
        return false;
    case BMB_DESTINATION_FINE:
        break;
    default:
        cli_error("%s%s: that is not an address. Give a host name, four numbers such as 192.0.2.20, or an IPv6 address "
                  "in brackets",
                  where, text);
        return false;
    }
    if (!judge) return true;
    switch (bmb_linux_judge(&out->to)) {
    case BMB_DESTINATION_NO_ROUTE:
        cli_error("%s%s: no network leads there just now. Check the address, and this board's cable or radio link; it "
                  "is tried again and again",
                  where, text);
        break;
    case BMB_DESTINATION_OWN:
        cli_error("%s%s: that is this machine itself; only a receiver that runs here will get it", where, text);
        break;
    case BMB_DESTINATION_OTHER_NETWORK:
        cli_error("%s%s: that host is on none of this machine's networks; it is reached through a router, if at all. "
                  "Check the address when the receiver is near by",
                  where, text);
        break;
    default:
        break;
    }
    return true;
}

static uint16_t find_feed(const cli_device *d, const char *name)
{
    for (size_t i = 0; i < d->file.feed_count; i++)
        if (strcmp(d->file.feeds[i].name, name) == 0) return (uint16_t)i;
    return BMB_NO_FEED;
}

/* The feed that a section names, or that has the section's name. */
static bool choose_feed(const cli_device *d, const cli_plain *p, const char *kind, uint16_t *out)
{
    const char *name = p->feed[0] != '\0' ? p->feed : p->name, *names[CLI_FEEDS_MOST];
    *out = find_feed(d, name);
    if (*out != BMB_NO_FEED) return true;
    for (size_t i = 0; i < d->file.feed_count; i++) names[i] = d->file.feeds[i].name;
    const char *near = cli_nearest(name, names, d->file.feed_count);
    cli_error("%s:%d: [%s %s]: there is no feed \"%s\"%s%s%s", d->file.path, p->line, kind, p->name, name,
              near != NULL ? "; did you mean feed = " : "; set feed = to one that is there", near != NULL ? near : "",
              near != NULL ? "?" : "");
    return false;
}

/* Addresses that need no token. */
static bool prepare_hosts(cli_device *d, const cli_plain *p, bmb_outlet_config *o)
{
    char text[CLI_TEXT_MAX], host[CLI_TEXT_MAX + 4];
    bmb_addr *hosts = d->hosts[p - d->file.tcp];
    snprintf(text, sizeof text, "%s", p->hosts);
    for (char *word = strtok(text, ", \t"); word != NULL; word = strtok(NULL, ", \t")) {
        snprintf(host, sizeof host, strchr(word, ':') != NULL ? "[%s]:0" : "%s:0", word);
        if (o->host_count == CLI_HOSTS_MOST || bmb_addr_parse(host, &hosts[o->host_count]) != BMB_OK) {
            cli_error("%s:%d: [tcp %s]: hosts: \"%s\": up to %d IP addresses are expected, such as 192.0.2.7",
                      d->file.path, p->line, p->name, word, CLI_HOSTS_MOST);
            return false;
        }
        o->host_count++;
    }
    o->hosts = hosts;
    return true;
}

static bool prepare_tcp(cli_device *d, const cli_plain *p)
{
    bmb_outlet_config *o = &d->outlets[d->config.outlet_count];
    *o = (bmb_outlet_config){ .kind = BMB_OUTLET_TCP, .listen = p->listen, .feed = BMB_NO_FEED };
    o->format = p->format > 0 ? cli_format_chosen(false, p->format) : BMB_FORMAT_RAW;
    o->keep_all = p->keep_all != 0;
    o->controls = p->controls != 0;
    o->secure = p->secure != 0;
    if (!prepare_hosts(d, p, o)) return false;
    if (p->listen.family == 0) {
        cli_error("%s:%d: [tcp %s]: listen is missing; add listen = :8600", d->file.path, p->line, p->name);
        return false;
    }
    if (o->format != BMB_FORMAT_FRAMED || p->feed[0] != '\0')
        if (!choose_feed(d, p, "tcp", &o->feed)) return d->tolerant;
    d->config.outlet_count++;
    return true;
}

/* The certificate that a receiver has to have. */
static bool prepare_pin(cli_device *d, const cli_plain *p, bmb_push_config *out)
{
    uint8_t *pin = d->pins[d->config.push_count];
    const char *at = p->pin;
    size_t n = 0;
    if (!out->secure || strcmp(p->pin, "any") == 0) return true;
    unsigned byte;
    for (int used; n < 32 && sscanf(at, "%2x%n", &byte, &used) == 1 && used == 2; n++) {
        pin[n] = (uint8_t)byte;
        at += used;
        if (*at == ':') at++;
    }
    out->pin = pin;
    if (n == 32 && *at == '\0') return true;
    char where[CLI_TEXT_MAX + 80] = "--fingerprint";
    if (p->line > 0) snprintf(where, sizeof where, "%s:%d: [push %s]: fingerprint", d->file.path, p->line, p->name);
    cli_error(
        "%s: 64 hexadecimal digits are expected, the SHA-256 of the receiver's certificate, as `openssl x509 -noout "
        "-sha256 -fingerprint` prints it; or any, if anybody may be the receiver",
        where);
    return false;
}

static bool prepare_push(cli_device *d, const cli_plain *p)
{
    bmb_push_config *out = &d->pushes[d->config.push_count];
    char where[CLI_TEXT_MAX + 64];
    where[0] = '\0';
    if (p->line > 0) snprintf(where, sizeof where, "%s:%d: to = ", d->file.path, p->line);
    *out = (bmb_push_config){ .ttl = (uint8_t)p->ttl, .keep_all = p->keep_all != 0, .controls = p->controls != 0 };
    out->reserve_kbps = (uint32_t)p->reserve_kbps;
    if (p->to[0] == '\0') {
        cli_error("%s:%d: [push %s]: to is missing; add to = udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT",
                  d->file.path, p->line, p->name);
        return false;
    }
    if (!choose_feed(d, p, "push", &out->feed) || !cli_destination(where, p->to, !d->quiet, out)) return false;
    if (!prepare_pin(d, p, out)) return false;
    bool h264 = d->feeds[out->feed].mode.codec == BMB_CODEC_H264;
    out->format = p->format > 0 ? cli_format_chosen(true, p->format)
                  : h264        ? BMB_FORMAT_TS
                  : out->tcp    ? BMB_FORMAT_RAW
                                : BMB_FORMAT_RTP;
    if (p->interface.family == 4) {
        const uint8_t *ip = p->interface.ip;
        out->interface_ipv4 = (uint32_t)ip[0] << 24 | (uint32_t)ip[1] << 16 | (uint32_t)ip[2] << 8 | ip[3];
    }
    d->config.push_count++;
    return true;
}

bool cli_prepare_plain(cli_device *d)
{
    for (size_t i = 0; i < d->file.tcp_count; i++)
        if (d->file.tcp[i].paused == 0 && !prepare_tcp(d, &d->file.tcp[i])) return false;
    for (size_t i = 0; i < d->file.push_count; i++)
        if (d->file.pushes[i].paused == 0 && !prepare_push(d, &d->file.pushes[i])) return false;
    d->config.pushes = d->pushes;
    return true;
}

/* The place of a push of the file in the device; SIZE_MAX: it has none. */
static size_t push_place(const cli_device *d, size_t push)
{
    const cli_settings *s = d->layers;
    if (s == NULL) return push; /* nothing is paused, and nothing changes */
    for (size_t i = 0; i < s->way_count; i++)
        if (s->ways[i].section == SECTION_PUSH && strcmp(s->ways[i].name, d->file.pushes[push].name) == 0)
            return s->ways[i].place;
    return SIZE_MAX;
}

void cli_write_descriptions(cli_device *d)
{
    char text[1024];
    size_t size;
    for (size_t i = 0; i < d->file.push_count; i++) {
        const char *path = d->file.pushes[i].sdp;
        size_t place = push_place(d, i);
        if (place == SIZE_MAX) continue;
        if (path[0] == '\0' || d->described[i]) continue;
        bmb_err err = bmb_push_describe(d->device, place, text, sizeof text, &size);
        if (err == BMB_AGAIN) continue;
        d->described[i] = true;
        if (err != BMB_OK) {
            cli_error("%s is not written: only a push with format = rtp has a description", path);
            continue;
        }
        err = bmb_linux_write_whole(path, text, size, true);
        if (err != BMB_OK) {
            cli_error("%s cannot be written: %s; check the folder and its permissions", path, bmb_err_text(err));
        } else {
            cli_say("Wrote %s: open it in the player at the receiving host.", path);
        }
    }
}
