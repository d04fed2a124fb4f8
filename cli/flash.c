/* What an image for a microcontroller needs in flash, for what a configuration asks: the core with what it needs and no
 * more (bambino/options.h), and what is linked beside it. Measured on the emulated board, by `make size` and
 * scripts/option-costs. */
#include "cli.h"

typedef struct need {
    bool http, rtsp, groups, plain, framed, push, h264, ts, controls, rate, users, tls;
} need;

static need need_of(const cli_device *d)
{
    const bmb_config *c = &d->config;
    need n = { .push = c->push_count > 0, .users = c->access != NULL && c->access->account_count > 0 };
    for (size_t i = 0; i < c->outlet_count; i++) {
        const bmb_outlet_config *o = &c->outlets[i];
        n.tls = n.tls || o->secure;
        n.http = n.http || o->kind == BMB_OUTLET_HTTP;
        n.rtsp = n.rtsp || o->kind == BMB_OUTLET_RTSP;
        n.plain = n.plain || o->kind == BMB_OUTLET_TCP;
        n.framed = n.framed || (o->kind == BMB_OUTLET_TCP && o->format == BMB_FORMAT_FRAMED);
        n.ts = n.ts || (o->kind == BMB_OUTLET_TCP && o->format == BMB_FORMAT_TS);
    }
    for (size_t i = 0; i < c->push_count; i++) {
        n.tls = n.tls || c->pushes[i].secure;
        n.framed = n.framed || c->pushes[i].format == BMB_FORMAT_FRAMED;
        n.ts = n.ts || c->pushes[i].format == BMB_FORMAT_TS;
    }
    for (size_t i = 0; i < c->feed_count; i++) {
        const bmb_feed_config *f = &c->feeds[i];
        n.groups = n.groups || f->multicast.group.family != 0;
        n.h264 = n.h264 || f->mode.codec == BMB_CODEC_H264;
        n.rate = n.rate || f->kbps > 0;
        n.controls = n.controls || f->setting_count > 0 || f->keep_controls;
    }
    n.controls = n.controls || n.rate;
    return n;
}

cli_flash cli_flash_of(const cli_device *d)
{
    const need n = need_of(d);
    bool rtp = n.rtsp || n.groups || n.push;
    const struct {
        bool asked;
        size_t bytes;
    } parts[] = {
        { true, 17200 },   /* cameras, feeds, connections, the configuration's check */
        { n.http, 10400 }, /* with its status */
        { n.rtsp, 11000 },    { rtp, 4000 },      { n.groups, 1200 }, { n.plain || n.push, 2200 },
        { n.push, 2000 },     { n.framed, 2700 }, { n.h264, 2200 },   { n.ts, 2100 },
        { n.controls, 1100 }, { n.rate, 1100 },   { n.users, 16500 }, { n.tls, 900 },
    };
    /* Of Mbed TLS the hashes, or all that ports/tls needs. */
    cli_flash f = { .libraries = (n.http ? 12400u : 0u) + (n.tls ? 102000u : n.users ? 4000u : 0u), .system = 56000 };
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++)
        if (parts[i].asked) f.core += parts[i].bytes;
    for (size_t i = 0; i < d->config.asset_count; i++) f.page += d->config.assets[i].size;
    f.total = f.core + f.libraries + f.page + f.system;
    return f;
}
