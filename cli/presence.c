/* Which services are announced: the page, and each feed's RTSP, where others can reach them. */
#include <string.h>

#include "announce.h"
#include "bambino/linux.h"

#define LOOK_US 1000000u

static bool is_own(const bmb_addr *a) /* only this machine reaches it */
{
    static const uint8_t six[16] = { [15] = 1 };
    return a->family == 4 ? a->ip[0] == 127 : memcmp(a->ip, six, sizeof six) == 0;
}

static void add(cli_announcement *a, const char *type, const bmb_addr *at, const char *title, const char *path)
{
    if (a->count == sizeof a->service / sizeof a->service[0]) return;
    cli_announced *s = &a->service[a->count];
    for (size_t i = 0; i < a->count; i++) /* one way to each: of two outlets the first */
        if (strcmp(a->service[i].type, type) == 0 && strcmp(a->service[i].path, path) == 0) return;
    snprintf(s->title, sizeof s->title, "%s", title);
    snprintf(s->type, sizeof s->type, "%s", type);
    snprintf(s->path, sizeof s->path, "%s", path);
    s->port = at->port;
    s->interface = (int)bmb_linux_interface_of(at); /* 0: all of them */
    s->ipv4 = at->family == 4;
    a->count++;
}

static void add_outlet(cli_announcement *a, const cli_device *d, size_t number)
{
    const bmb_outlet_config *o = &d->config.outlets[number];
    bmb_addr bound;
    char path[BMB_NAME_MAX + 2];
    if ((o->elsewhere > 0 && o->only == 0) || bmb_outlet_addr(d->device, number, &bound) != BMB_OK || is_own(&bound))
        return;
    if (o->kind == BMB_OUTLET_HTTP && o->only == 0) add(a, o->secure ? "_https._tcp" : "_http._tcp", &bound, "", "/");
    bmb_feed_stats f;
    for (size_t i = 0; o->kind == BMB_OUTLET_RTSP && bmb_feed_stats_get(d->device, i, &f) == BMB_OK; i++) {
        if (f.name[0] == '\0' || (o->only != 0 && (o->only >> i & 1) == 0)) continue;
        snprintf(path, sizeof path, "/%s", f.name);
        add(a, o->secure ? "_rtsps._tcp" : "_rtsp._tcp", &bound, f.name, path);
    }
}

static uint64_t due;
static bool begun; /* of the process, which may open its device anew */

bool cli_presence_open(const cli_device *d)
{
    if (d->file.announce == 0 || cli_announce_there()) return true;
    return cli_error("%s: announce = 1, and this build announces nothing: it was built without Avahi's library "
                     "(libavahi-client-dev)",
                     d->file.path) == 0;
}

void cli_presence_tend(cli_device *d)
{
    const uint64_t now = d->port.now_us(d->port.ctx);
    char text[200];
    bool trouble;
    if (!cli_announce_there() || (d->file.announce == 0 && !begun) || now < due) return;
    due = now + LOOK_US;
    cli_announcement a;
    memset(&a, 0, sizeof a); /* compared as bytes */
    if (d->file.announce != 0) {
        snprintf(a.device, sizeof a.device, "%s", d->config.name);
        for (size_t i = 0; i < d->config.outlet_count; i++) add_outlet(&a, d, i);
        if (a.count == 0 && !begun)
            cli_error(
                "announce = 1, and no other machine could reach what is served: HTTP and RTSP listen on addresses of "
                "this machine alone, or not at all");
    }
    begun = true;
    cli_announce(&a);
    if (!cli_announce_news(text, sizeof text, &trouble)) return;
    if (trouble) {
        cli_error("%s", text);
    } else {
        cli_say("%s", text);
    }
}
