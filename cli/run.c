/* `bambino run` and `bambino demo`: serve until stopped. */
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "settings.h"

#define HOSTS_MOST 16
#define HANGING_MS 10000u /* a camera that was silent so long, and is started again in vain, hangs */

/* Where an outlet of HTTP or RTSP is reached. */
typedef struct web {
    char host[BMB_ADDR_TEXT_MAX];
    const char *scheme;
    uint64_t only; /* feeds; 0: all, and the page */
} web;

typedef struct webs {
    web web[2 * HOSTS_MOST];
    size_t count;
} webs;

/* Of this machine itself one address is enough: that of IPv4, where there are both. */
static size_t without_second_loopback(bmb_addr *list, size_t count)
{
    static const uint8_t six[16] = { [15] = 1 };
    bool has_four = false;
    size_t kept = 0;
    for (size_t i = 0; i < count; i++) has_four = has_four || (list[i].family == 4 && list[i].ip[0] == 127);
    for (size_t i = 0; i < count; i++)
        if (!has_four || list[i].family != 6 || memcmp(list[i].ip, six, sizeof six) != 0) list[kept++] = list[i];
    return kept;
}

/* Those that only send people elsewhere are none. */
static webs webs_of(const cli_device *d, bmb_outlet_kind kind)
{
    webs out = { .count = 0 };
    bmb_addr bound, reachable[HOSTS_MOST];
    for (size_t i = 0; i < d->config.outlet_count; i++) {
        const bmb_outlet_config *o = &d->config.outlets[i];
        if (o->kind != kind || (o->elsewhere > 0 && o->only == 0)) continue;
        if (bmb_outlet_addr(d->device, i, &bound) != BMB_OK) continue;
        size_t n = without_second_loopback(reachable, bmb_linux_reachable(&bound, reachable, HOSTS_MOST));
        for (size_t k = 0; k < n && out.count < sizeof out.web / sizeof out.web[0]; k++) {
            web *w = &out.web[out.count++];
            *w = (web){ .scheme = bmb_outlet_scheme(kind, o->secure), .only = o->only };
            bmb_addr_text(&reachable[k], true, w->host, sizeof w->host);
        }
    }
    return out;
}

static bool has(const web *w, size_t feed)
{
    return w->only == 0 || (w->only >> feed & 1) != 0;
}

/* A stream's address a line, and behind the first one that of the single picture. */
static void print_http(const bmb_feed_config *feed, bmb_codec codec, bool snapshot, const web *w)
{
    const bmb_format_info *f, *picture = NULL;
    for (size_t i = 0; (f = bmb_format_at(i)) != NULL; i++)
        if (f->picture && (f->codecs >> codec & 1) != 0) picture = f;
    for (size_t i = 0; (f = bmb_format_at(i)) != NULL; i++) {
        if (f->suffix == NULL || f->picture || (f->codecs >> codec & 1) == 0) continue;
        if (picture != NULL) {
            cli_say("      %s://%s/%s%s   still: %s://%s/%s%s", w->scheme, w->host, feed->name, f->suffix, w->scheme,
                    w->host, feed->name, picture->suffix);
        } else {
            cli_say("      %s://%s/%s%s   for players without RTSP", w->scheme, w->host, feed->name, f->suffix);
        }
    }
    if (picture == NULL && snapshot) cli_say("      %s://%s/%s.jpg   snapshot", w->scheme, w->host, feed->name);
}

/* RFC 2435 3.1.5, 3.1.6 */
static bool by_rtp(const bmb_mode *mode)
{
    bool sized = mode->width % 8 == 0 && mode->height % 8 == 0 && mode->width <= 2040 && mode->height <= 2040;
    return mode->codec != BMB_CODEC_JPEG || sized;
}

static void print_feed(const cli_device *d, size_t number, const bmb_mode *mode, bool snapshot, const webs *http,
                       const webs *rtsp)
{
    const bmb_feed_config *feed = &d->config.feeds[number];
    char text[64], group[BMB_ADDR_TEXT_MAX];
    bmb_addr_text(&feed->multicast.group, true, group, sizeof group);
    cli_say("  %s  %s, %s", feed->name, feed->title, cli_mode_text(mode, text, sizeof text));
    const bool carried = by_rtp(mode);
    for (const web *w = rtsp->web; carried && w < rtsp->web + rtsp->count; w++)
        if (has(w, number)) cli_say("      %s://%s/%s", w->scheme, w->host, feed->name);
    if (!carried && rtsp->count > 0)
        cli_say("      no rtsp:// address: by RTP, JPEG images have sides that 8 divides, up to 2040 (RFC 2435)");
    for (const web *w = http->web; w < http->web + http->count; w++)
        if (has(w, number)) print_http(feed, mode->codec, snapshot, w);
    for (const web *w = http->web; w < http->web + http->count && feed->multicast.group.family != 0; w++)
        if (has(w, number))
            cli_say("      %s://%s/%s.sdp   its multicast group, %s", w->scheme, w->host, feed->name, group);
}

/* Addresses of plain outlets: of one feed, or (feed BMB_NO_FEED) of those for all. */
static void print_tcp(const cli_device *d, uint16_t feed, const char *before, const char *behind)
{
    bmb_outlet_stats s;
    bmb_addr reachable[HOSTS_MOST];
    char text[BMB_ADDR_TEXT_MAX];
    for (size_t i = 0; bmb_outlet_stats_get(d->device, i, &s) == BMB_OK; i++) {
        if (s.kind != BMB_OUTLET_TCP || s.feed != feed) continue;
        const char *format = bmb_format_text(s.format), *scheme = bmb_outlet_scheme(s.kind, s.secure);
        size_t n = without_second_loopback(reachable, bmb_linux_reachable(&s.addr, reachable, HOSTS_MOST));
        for (size_t k = 0; k < n; k++) {
            bmb_addr_text(&reachable[k], true, text, sizeof text);
            cli_say("%s%s://%s   %s%s", before, scheme, text, format, behind);
        }
    }
}

static void print_pushes(const cli_device *d, uint16_t feed)
{
    char text[BMB_ADDR_TEXT_MAX];
    for (size_t i = 0; i < d->config.push_count; i++) {
        const bmb_push_config *p = &d->config.pushes[i];
        if (p->feed != feed) continue;
        bmb_addr_text(&p->to, true, text, sizeof text);
        cli_say("      sent to %s://%s as %s",
                p->secure ? "tls"
                : p->tcp  ? "tcp"
                          : "udp",
                text, bmb_stream_format_name(p->format));
    }
}

void cli_print_addresses(cli_device *d)
{
    d->told = true;
    const webs http = webs_of(d, BMB_OUTLET_HTTP), rtsp = webs_of(d, BMB_OUTLET_RTSP);
    const char *before = "All feeds in a browser:";
    char reserve[48] = "";
    const size_t spare = d->config.reserve.bytes;
    if (spare > 0) snprintf(reserve, sizeof reserve, ", %zu KiB more for changes", spare / 1024);
    cli_say("%s: %zu feed%s, up to %u viewers, %zu KiB of memory%s\n", d->config.name, d->config.feed_count,
            d->config.feed_count == 1 ? "" : "s", d->config.viewers, (d->budget.total - spare + 1023) / 1024, reserve);
    for (size_t i = 0; i < d->config.feed_count; i++) {
        bmb_feed_stats stats;
        (void)bmb_feed_stats_get(d->device, i, &stats);
        const bmb_mode mode = { stats.codec, stats.width, stats.height, stats.mfps_set };
        print_feed(d, i, &mode, stats.snapshot, &http, &rtsp);
        print_tcp(d, (uint16_t)i, "      ", "");
        print_pushes(d, (uint16_t)i);
        cli_say("%s", "");
    }
    for (const web *w = http.web; w < http.web + http.count; w++) {
        if (w->only != 0) continue;
        cli_say("%s %s://%s/", before, w->scheme, w->host);
        before = "                       ";
    }
    print_tcp(d, BMB_NO_FEED, "All feeds for programs:  ", " protocol, docs/framed.md");
    cli_say("%s", "");
    cli_secure_say(d);
    cli_access_say(d);
    if (http.count > 0 && !d->config.embed && d->config.origin_count == 0)
        cli_say("To show a feed in a web page of your own, name the page's host: origins = http://HOST in [device].");
    cli_say("Ctrl-C stops.");
}

static void print_summary(const cli_device *d)
{
    bmb_device_stats device;
    bmb_device_stats_get(d->device, &device);
    cli_say("Stopped after %.1f s.", (double)device.uptime_us / 1e6);
    bmb_feed_stats s;
    for (size_t i = 0; bmb_feed_stats_get(d->device, i, &s) == BMB_OK; i++) {
        if (s.name[0] == '\0') continue;
        cli_say("  %s: %llu frames taken, %llu sent, %llu skipped, %llu dropped", s.name, (unsigned long long)s.frames,
                (unsigned long long)s.sent, (unsigned long long)s.skipped, (unsigned long long)s.dropped);
    }
    bmb_v4l2_state state;
    for (size_t i = 0; bmb_v4l2_state_get(d->v4l2, i, &state) == BMB_OK; i++)
        cli_say("  %s: %llu pictures from the driver, %llu lost by it, %llu damaged, started %u times",
                state.card[0] != '\0' ? state.card : "absent camera", (unsigned long long)state.frames,
                (unsigned long long)state.lost, (unsigned long long)state.bad, state.starts);
}

/* Faults of a simulated board come and go by the clock. */
static uint64_t tend_board(cli_device *d, uint64_t next)
{
    bmb_device_stats stats;
    bmb_device_stats_get(d->device, &stats);
    bmb_board_light(d->board, (bmb_light_style)d->file.light_style);
    bmb_board_tend(d->board, stats.viewers > 0);
    bool online = d->port.online == NULL || d->port.online(d->port.ctx);
    if (online && !d->told) cli_print_addresses(d);
    uint64_t soon = d->port.now_us(d->port.ctx) + 50000;
    return next < soon ? next : soon;
}

/* A camera that hangs, and cannot be started again: the service manager shall begin anew. */
static bool healthy(const cli_device *d)
{
    bmb_feed_stats s;
    for (size_t i = 0; bmb_feed_stats_get(d->device, i, &s) == BMB_OK; i++)
        if (s.camera_err == BMB_TIMED_OUT && s.newest_ms > HANGING_MS) return false;
    return true;
}

/* Signs of life for the service manager, twice as often as it wants them. Returns when the next is due. */
static uint64_t show_life(const cli_device *d, uint64_t *due, uint64_t next)
{
    uint64_t period = bmb_linux_watchdog_us(), now = d->port.now_us(d->port.ctx);
    if (period == 0) return next;
    if (now >= *due) {
        *due = now + period / 2;
        if (healthy(d)) (void)bmb_linux_notify("WATCHDOG=1");
    }
    return next < *due ? next : *due;
}

void cli_serve(cli_device *d, double seconds)
{
    uint64_t life = 0;
    (void)bmb_linux_notify("READY=1\nSTATUS=Serving");
    uint64_t end = UINT64_MAX;
    if (seconds > 0) end = d->port.now_us(d->port.ctx) + (uint64_t)(seconds * 1e6);
    while (!cli_interrupted() && !d->again) {
        uint64_t next = bmb_step(d->device);
        cli_write_descriptions(d);
        cli_presence_tend(d);
        if (d->board != NULL) next = tend_board(d, next);
        if (d->layers != NULL) next = cli_settings_tend(d, next);
        next = cli_access_tend(d, cli_secure_tend(d, cli_light_tend(d, show_life(d, &life, next))));
        if (d->port.now_us(d->port.ctx) >= end) break;
        d->port.wait(d->port.ctx, next < end ? next : end);
    }
    (void)bmb_linux_notify("STOPPING=1");
}

typedef struct run_options {
    char *http, *rtsp, *https, *rtsps, *tcp, *board, *faults;
    int check;
    double seconds;
} run_options;

static bool override_addr(const char *option, const char *text, bmb_addr *addr)
{
    if (text == NULL || bmb_addr_parse(text, addr) == BMB_OK) return true;
    cli_error("%s %s: ADDRESS:PORT is expected, such as 127.0.0.1:8080 or :8080; port 0 picks a free one", option,
              text);
    return false;
}

static bool override_tcp(const char *text, cli_config *file)
{
    if (text == NULL) return true;
    if (file->tcp_count > 0) return override_addr("--tcp", text, &file->tcp[0].listen);
    cli_error("--tcp %s: %s has no section [tcp NAME]", text, file->path);
    return false;
}

/* --board takes the place of the file's. */
static bool cli_attach_as(cli_device *d, const char *board)
{
    if (board != NULL) snprintf(d->file.board, sizeof d->file.board, "%s", board);
    for (size_t i = 0; board != NULL && i < d->file.camera_count; i++)
        if (d->file.cameras[i].unsaid && d->file.cameras[i].kind == CLI_DEVICE) d->file.cameras[i].kind = CLI_DRAWN;
    return cli_attach(d);
}

/* Everything but starting. */
static bool check(cli_device *d)
{
    bmb_fault why;
    if (bmb_budget_of(&d->config, &d->budget, &why) != BMB_OK) return cli_fault(d, &why);
    size_t allowed = d->file.memory > 0 ? (size_t)d->file.memory
                     : d->board != NULL ? bmb_board_ram(d->board)
                                        : SIZE_MAX;
    if (d->budget.total > allowed) {
        cli_error("%s: %zu bytes of memory are needed, %zu are there; `bambino budget %s` tells what fits",
                  d->file.path, d->budget.total, allowed, d->file.path);
        return false;
    }
    printf("%s is fine: %zu feed%s, %zu KiB of memory.\n", d->file.path, d->config.feed_count,
           d->config.feed_count == 1 ? "" : "s", (d->budget.total + 1023) / 1024);
    return true;
}

/* Which camera "the first that is there" is. */
static void tell_devices(const cli_device *d)
{
    bmb_v4l2_state state;
    for (size_t i = 0; i < d->file.camera_count; i++) {
        const cli_camera *c = &d->file.cameras[i];
        if (c->kind != CLI_DEVICE || c->device[0] != '\0') continue;
        if (bmb_v4l2_state_get(d->v4l2, cli_device_number(d, c->name), &state) == BMB_OK && state.there)
            cli_say("camera \"%s\" is %s, %s at %s", c->name, state.card, state.path, state.bus);
    }
}

static bool start(cli_device *d)
{
    if (d->board != NULL) (void)bmb_board_boot(d->board);
    cli_plan_warn(d);
    tell_devices(d);
    return cli_presence_open(d) && cli_light_open(d) && cli_open(d);
}

/* The file and what was changed over it; without a file, what it would say for the cameras of this machine. */
static cli_settings *open_settings(cli_device *d, const char *path)
{
    char text[4096];
    if (path != NULL) return cli_settings_open(path, NULL, &d->file);
    if (!cli_invent_config(&d->file, text, sizeof text)) {
        (void)cli_no_camera("name a configuration, or try `bambino demo`");
        return NULL;
    }
    d->invented = true;
    cli_say("No configuration was named; the cameras of this machine are served as if this one had been:\n\n%s", text);
    return cli_settings_open(NULL, text, &d->file);
}

static bool override_all(cli_device *d, const run_options *o)
{
    cli_settings *s = d->layers;
    cli_config *f = &d->file;
    const char *const texts[] = { o->http, o->rtsp, o->https, o->rtsps, o->tcp };
    bool good = override_addr("--http", o->http, &f->http) && override_addr("--rtsp", o->rtsp, &f->rtsp) &&
                override_addr("--https", o->https, &f->https) && override_addr("--rtsps", o->rtsps, &f->rtsps) &&
                override_tcp(o->tcp, f);
    for (size_t i = 0; good && i < sizeof texts / sizeof texts[0]; i++) {
        s->said[i] = texts[i] != NULL;
        if (texts[i] != NULL) (void)bmb_addr_parse(texts[i], &s->say[i]);
    }
    return good;
}

/* Opens what the settings say now, and serves. *again: it is to be done once more, with other settings. */
static int serve_once(cli_device *d, const run_options *options, double seconds, bool first, bool *again)
{
    if (!override_all(d, options) || !cli_secrets_read(&d->file)) return EXIT_USAGE;
    if (options->board != NULL && strlen(options->board) >= sizeof d->file.board) return EXIT_USAGE;
    if (!cli_attach_as(d, options->board) || !cli_prepare(d)) return EXIT_FAILED;
    cli_api_begin(d);
    if (first) cli_own_check(d);
    if (options->check) return cli_presence_open(d) && check(d) ? EXIT_OK : EXIT_FAILED;
    if (!start(d) || !cli_draft_begin(d)) return EXIT_FAILED;
    cli_access_resume(d);
    cli_catch_signals(&d->port);
    if (d->board == NULL) {
        cli_print_addresses(d);
    } else {
        if (first)
            bmb_board_say(d->board, "memory: %zu of %u KiB are used", (d->budget.total + 1023) / 1024,
                          bmb_board_ram(d->board) / 1024);
        (void)tend_board(d, 0);
    }
    cli_settings_arrived(d);
    cli_serve(d, seconds);
    *again = d->again && !cli_interrupted();
    if (!*again) print_summary(d);
    return EXIT_OK;
}

static int run(const char *path, const run_options *options, bool demo)
{
    cli_settings *settings = NULL;
    cli_carried carried = { .users = NULL };
    int status = EXIT_USAGE;
    struct timespec began, now;
    clock_gettime(CLOCK_MONOTONIC, &began);
    for (bool again = true, first = true; again; first = false) {
        cli_device *d = calloc(1, sizeof *d);
        again = false;
        if (d == NULL) return cli_error("there is not enough memory");
        d->tolerant = demo;
        d->carried = &carried;
        d->faults = options->faults;
        if (first) settings = open_settings(d, path);
        d->layers = settings;
        bool good = settings != NULL && (first || cli_settings_parse(settings, &d->file));
        clock_gettime(CLOCK_MONOTONIC, &now);
        double left = options->seconds - (double)(now.tv_sec - began.tv_sec); /* of --for, however often it is opened */
        if (options->seconds > 0 && left <= 0) left = 0.001;
        status = good ? serve_once(d, options, options->seconds > 0 ? left : 0, first, &again) : EXIT_USAGE;
        /* What was to be tried cannot be opened: what was before it can. */
        bool fell = settings != NULL && status != EXIT_OK && !options->check && cli_settings_fall_back(settings, first);
        if (fell)
            cli_error(first ? "what was changed over the file may be the reason; starting without it"
                            : "what was changed cannot be; opening again with what was before");
        cli_access_leave(d);
        cli_close(d);
        free(d);
        if (again && settings->restart) cli_settings_reread(settings);
        if (settings != NULL) cli_drafts_end(settings);
        if (settings != NULL) settings->restart = settings->due = false;
        again = again || fell;
    }
    cli_settings_close(settings);
    cli_carried_forget(&carried);
    return status;
}

static int run_command(int argc, const char **argv, bool demo)
{
    run_options o = { 0 };
    const struct poptOption options[] = {
        { "http", '\0', POPT_ARG_STRING, &o.http, 0, "serve HTTP here; port 0 picks a free one", "ADDR:PORT" },
        { "rtsp", '\0', POPT_ARG_STRING, &o.rtsp, 0, "serve RTSP here; port 0 picks a free one", "ADDR:PORT" },
        { "https", '\0', POPT_ARG_STRING, &o.https, 0, "serve HTTP over TLS here, too", "ADDR:PORT" },
        { "rtsps", '\0', POPT_ARG_STRING, &o.rtsps, 0, "serve RTSP over TLS here, too", "ADDR:PORT" },
        { "tcp", '\0', POPT_ARG_STRING, &o.tcp, 0, "the first [tcp] outlet listens here", "ADDR:PORT" },
        { "board", '\0', POPT_ARG_STRING, &o.board, 0, "simulate this board, see `bambino boards`", "NAME" },
        { "fault", '\0', POPT_ARG_STRING, &o.faults, 0, "of the board, from and to seconds; several with commas",
          "NAME[@FROM[-TO]]" },
        { "check", '\0', POPT_ARG_NONE, &o.check, 0, "judge the configuration, start nothing", NULL },
        { "for", '\0', POPT_ARG_DOUBLE, &o.seconds, 0, "stop by itself after so long", "SECONDS" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[1] = { NULL };
    char path[1024] = "";
    bool help = false;
    if (!cli_options(argc, argv, options, demo ? "demo" : "run [CONFIG]", rest, demo ? 0 : 1, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    if (o.seconds < 0) {
        cli_error("--for %g: a number of seconds above 0 is expected", o.seconds);
        return EXIT_USAGE;
    }
    if (demo && !bmb_sim_there())
        return cli_error(
            "this build has no simulated cameras, and so no demo; `bambino cameras` lists those of this machine");
    if (demo && !cli_demo_file("railway.ini", path, sizeof path))
        return cli_error("demo/railway.ini is not beside this command; install the demo data (package bambino-demo) or "
                         "run it from its build");
    if (demo) rest[0] = path;
    int status = run(rest[0], &o, demo);
    free(o.http);
    free(o.rtsp);
    free(o.https);
    free(o.rtsps);
    free(o.tcp);
    free(o.board);
    free(o.faults);
    return status;
}

int cli_run(int argc, const char **argv)
{
    return run_command(argc, argv, false);
}

int cli_demo(int argc, const char **argv)
{
    return run_command(argc, argv, true);
}
