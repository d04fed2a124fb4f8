/* `bambino send`: one feed to one listener, for a quick try. */
#include <stdlib.h>
#include <string.h>

#include "cli.h"

typedef struct send_options {
    char *fingerprint, *config, *format, *interface, *sdp;
    int ttl, keep_all;
    double seconds;
} send_options;

/* Leaves nothing of the configuration but the feed and its camera. */
static bool keep_feed(cli_config *c, const char *name)
{
    const char *names[CLI_FEEDS_MOST];
    for (size_t i = 0; i < c->feed_count; i++) names[i] = c->feeds[i].name;
    for (size_t i = 0; i < c->feed_count; i++) {
        if (strcmp(names[i], name) != 0) continue;
        c->feeds[0] = c->feeds[i];
        c->feeds[0].multicast = (bmb_addr){ .family = 0 };
        c->feeds[0].multicast_auto = false;
        c->feeds[0].preview[0] = '\0';
        c->feed_count = 1;
        for (size_t k = 0; k < c->camera_count; k++)
            if (strcmp(c->cameras[k].name, c->feeds[0].camera) == 0) c->cameras[0] = c->cameras[k];
        if (c->camera_count > 0) c->camera_count = 1;
        c->http = c->rtsp = c->https = c->rtsps = (bmb_addr){ .family = 0 };
        c->http_plain[0] = c->rtsp_plain[0] = '\0';
        c->tcp_count = c->push_count = 0;
        return true;
    }
    const char *near = cli_nearest(name, names, c->feed_count);
    char list[400] = "";
    for (size_t i = 0; i < c->feed_count; i++) {
        size_t at = strlen(list);
        snprintf(list + at, sizeof list - at, "%s%s", i > 0 ? ", " : "", names[i]);
    }
    cli_error("%s has no feed \"%s\"; there are %s%s%s%s", c->path, name, list, near != NULL ? ". Did you mean " : "",
              near != NULL ? near : "", near != NULL ? "?" : "");
    return false;
}

static bool choose_format(const char *text, int *out)
{
    const char *const *names = cli_format_names(true);
    char list[128] = "";
    size_t count = 1; /* behind "auto", which is said by leaving it out */
    if (text == NULL) return true;
    for (; names[count] != NULL; count++) {
        size_t at = strlen(list);
        snprintf(list + at, sizeof list - at, "%s%s", count > 1 ? ", " : "", names[count]);
        if (strcmp(names[count], text) != 0) continue;
        *out = (int)count;
        return true;
    }
    const char *near = cli_nearest(text, names + 1, count - 1);
    cli_error("--format %s: use one of %s%s%s%s", text, list, near != NULL ? "; did you mean " : "",
              near != NULL ? near : "", near != NULL ? "?" : "");
    return false;
}

static bool set_push(cli_config *c, const char *to, const send_options *o)
{
    cli_plain *p = &c->pushes[0];
    memset(p, 0, sizeof *p);
    snprintf(p->name, sizeof p->name, "%s", c->feeds[0].name);
    snprintf(p->to, sizeof p->to, "%s", to);
    p->ttl = o->ttl;
    p->keep_all = o->keep_all;
    p->controls = 1;
    if (o->fingerprint != NULL) snprintf(p->pin, sizeof p->pin, "%s", o->fingerprint);
    if (o->sdp != NULL) snprintf(p->sdp, sizeof p->sdp, "%s", o->sdp);
    c->push_count = 1;
    c->log = BMB_LEVEL_DEBUG; /* what goes out, each second */
    if (!choose_format(o->format, &p->format)) return false;
    if (o->ttl < 1 || o->ttl > 255) {
        cli_error("--ttl %d: use 1 to 255", o->ttl);
        return false;
    }
    char text[64];
    if (o->interface == NULL) return true;
    snprintf(text, sizeof text, "%s:0", o->interface);
    if (bmb_addr_parse(text, &p->interface) == BMB_OK && p->interface.family == 4) return true;
    cli_error("--interface %s: the IPv4 address of an interface is expected, such as 192.0.2.7", o->interface);
    return false;
}

static void print_start(const cli_device *d, const char *to)
{
    static const char *const formats[BMB_FORMAT_COUNT] = { "without any wrapping", "as MPEG transport stream",
                                                           "in the framed protocol of docs/framed.md", "as RTP" };
    char mode[64];
    bmb_feed_stats stats;
    (void)bmb_feed_stats_get(d->device, 0, &stats);
    const bmb_mode m = { stats.codec, stats.width, stats.height, stats.mfps_set };
    cli_say("%s (%s) goes to %s %s.", stats.name, cli_mode_text(&m, mode, sizeof mode), to,
            formats[d->pushes[0].format]);
    if (!d->pushes[0].tcp && d->pushes[0].format != BMB_FORMAT_RTP)
        cli_say("Nothing confirms that datagrams arrive; where an answer says that they do not, it is told.");
    cli_say("\nCtrl-C stops.");
}

/* Nothing that ever arrived is a failure. */
static int print_result(const cli_device *d)
{
    bmb_push_stats s;
    bmb_device_stats device;
    (void)bmb_push_stats_get(d->device, 0, &s);
    bmb_device_stats_get(d->device, &device);
    cli_say("Stopped after %.1f s: %llu frames and %.1f KiB sent, %llu skipped, the network took no more for %.1f s.",
            (double)device.uptime_us / 1e6, (unsigned long long)s.out.frames, (double)s.out.bytes / 1024.0,
            (unsigned long long)s.skipped, (double)s.out.blocked_us / 1e6);
    return s.out.frames > 0 && s.err != BMB_REFUSED && s.err != BMB_NO_ROUTE ? EXIT_OK : EXIT_FAILED;
}

static int run(const char *config, const char *feed, const char *to, const send_options *o)
{
    cli_device *d = calloc(1, sizeof *d);
    if (d == NULL) return cli_error("there is not enough memory");
    int status = EXIT_FAILED;
    bmb_push_config parsed;
    d->light_fd = -1;
    bool invented;
    if (!cli_config_or_invented(config, &d->file, &invented) || !keep_feed(&d->file, feed) ||
        !set_push(&d->file, to, o)) {
        status = EXIT_USAGE;
    } else if (!cli_destination("", to, false, &parsed)) {
        status = EXIT_USAGE;
    } else if (cli_attach(d) && cli_prepare(d)) {
        if (cli_open(d)) {
            cli_catch_signals(&d->port);
            print_start(d, to);
            cli_serve(d, o->seconds);
            status = print_result(d);
        }
    }
    cli_close(d);
    free(d);
    return status;
}

int cli_send(int argc, const char **argv)
{
    send_options o = { .ttl = 1 };
    const struct poptOption options[] = {
        { "config", '\0', POPT_ARG_STRING, &o.config, 0,
          "whose feed (this machine's cameras, if not given; else the demo's)", "FILE" },
        { "format", '\0', POPT_ARG_STRING, &o.format, 0, "as in [push]; else by codec and way", "FORMAT" },
        { "sdp", '\0', POPT_ARG_STRING, &o.sdp, 0, "rtp: write the description for the receiver here", "FILE" },
        { "ttl", '\0', POPT_ARG_INT, &o.ttl, 0, "routers that multicast may pass; else 1", "HOPS" },
        { "interface", '\0', POPT_ARG_STRING, &o.interface, 0, "multicast leaves by the one with this address", "IP" },
        { "fingerprint", '\0', POPT_ARG_STRING, &o.fingerprint, 0, "tls: SHA-256 of the receiver's certificate, or any",
          "HEX" },
        { "keep-all", '\0', POPT_ARG_NONE, &o.keep_all, 0, "for a recorder: every frame, instead of the newest", NULL },
        { "for", '\0', POPT_ARG_DOUBLE, &o.seconds, 0, "stop by itself after so long", "SECONDS" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[2] = { NULL, NULL };
    bool help = false;
    if (!cli_options(argc, argv, options, "send FEED udp://HOST:PORT|tcp://HOST:PORT|tls://HOST:PORT", rest, 2, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    if (rest[0] == NULL || rest[1] == NULL) {
        cli_error("send needs a feed and where to: bambino send station udp://192.0.2.20:5000");
        return EXIT_USAGE;
    }
    int status = run(o.config, rest[0], rest[1], &o);
    free(o.config);
    free(o.fingerprint);
    free(o.format);
    free(o.interface);
    free(o.sdp);
    return status;
}
