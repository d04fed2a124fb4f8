/* `bambino budget`: what a configuration needs, what the board has, and which single change makes it fit. The memory is
 * what opening computes, byte for byte. */
#include <cjson/cJSON.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "cli.h"
#include "figures.h"

/* A guess for what nobody measured: a board with speed-percent = 100 is the first one of docs/figures.jsonl. What a
 * byte costs on its way out, by RTP, the dearest; a frame for each viewer; and a byte into the reel. A sensor or
 * encoder in hardware encodes for nothing. */
#define SEND_NS_PER_BYTE 1.2
#define FRAME_NS 14000.0
#define TAKE_NS_PER_BYTE 0.5
/* A JPEG image at quality 75 has about so many bytes for each pixel. */
#define JPEG_BYTES_PER_PIXEL 0.09

static double setting_of(const bmb_feed_config *feed, bmb_control control, double preset)
{
    for (size_t i = 0; i < feed->setting_count; i++)
        if (feed->settings[i].control == control) preset = feed->settings[i].value;
    return preset;
}

double cli_feed_kbps(const cli_device *d, const bmb_feed_config *feed)
{
    (void)d;
    if (feed->kbps > 0) return feed->kbps;
    if (feed->mode.codec == BMB_CODEC_H264) return setting_of(feed, BMB_CONTROL_KBPS, 2000);
    double pixels = (double)feed->mode.width * feed->mode.height, quality = setting_of(feed, BMB_CONTROL_QUALITY, 75);
    return pixels * JPEG_BYTES_PER_PIXEL * bmb_quality_size((uint8_t)quality) / 1000.0 * feed->mode.mfps / 1000.0 * 8 /
           1000.0;
}

/* What goes out at worst: every viewer on the feed that costs most; each group once; each push. */
static double traffic(const cli_device *d, double *frames)
{
    double most = 0, fastest = 0, sum = 0;
    for (size_t i = 0; i < d->config.feed_count; i++) {
        double kbps = cli_feed_kbps(d, &d->feeds[i]), fps = d->feeds[i].mode.mfps / 1000.0;
        if (kbps > most) most = kbps;
        if (fps > fastest) fastest = fps;
        if (d->feeds[i].multicast.always) sum += kbps;
    }
    for (size_t i = 0; i < d->config.push_count; i++) {
        sum += cli_feed_kbps(d, &d->feeds[d->pushes[i].feed]);
        *frames += d->feeds[d->pushes[i].feed].mode.mfps / 1000.0;
    }
    *frames += fastest * d->config.viewers;
    return sum + most * d->config.viewers;
}

/* What the processor makes of pictures itself, a second. */
static double encoding_ns(const cli_device *d, const cli_figures *f)
{
    double ns = 0;
    for (size_t i = 0; i < d->config.feed_count; i++) {
        const bmb_mode *m = &d->feeds[i].mode;
        size_t index;
        bmb_camera_info info;
        if (!cli_find_camera(d, d->feeds[i].camera, &index, &info) || (info.encodes >> m->codec & 1) == 0) continue;
        ns += (double)m->width * m->height * m->mfps / 1000.0 *
              (m->codec == BMB_CODEC_JPEG ? f->jpeg_pixel : f->h264_pixel);
    }
    return ns;
}

/* Of the ways that the configuration opens, the one that costs most. */
static double sending_ns(const cli_device *d, const cli_figures *f, double bytes, double frames)
{
    double http = bytes * f->http_byte + frames * f->http_frame, rtp = bytes * f->rtp_byte + frames * f->rtp_frame;
    bool by_rtp = d->config.push_count > 0;
    for (size_t i = 0; i < d->config.outlet_count; i++) by_rtp = by_rtp || d->config.outlets[i].kind == BMB_OUTLET_RTSP;
    return by_rtp && rtp > http ? rtp : http;
}

cli_plan cli_plan_of(const cli_device *d)
{
    cli_plan p = { .ram_have = SIZE_MAX, .cpu_have = (double)d->file.cpu_percent };
    bmb_fault why;
    p.possible = bmb_budget_of(&d->config, &p.ram, &why) == BMB_OK;
    if (d->board != NULL) p.ram_have = bmb_board_ram(d->board);
    if (d->file.memory > 0) p.ram_have = (size_t)d->file.memory;
    p.net_have = d->file.uplink_kbps > 0 ? (double)d->file.uplink_kbps : d->has_board ? d->board_data.link.kbps : 0;
    double frames = 0, taken = 0, speed = d->has_board ? d->board_data.cpu_percent / 100.0 : 1;
    p.net_kbps = traffic(d, &frames);
    double pictures = 0;
    for (size_t i = 0; i < d->config.feed_count; i++) {
        taken += cli_feed_kbps(d, &d->feeds[i]);
        pictures += d->feeds[i].mode.mfps / 1000.0;
    }
    double ns = p.net_kbps * 125 * SEND_NS_PER_BYTE + taken * 125 * TAKE_NS_PER_BYTE + frames * FRAME_NS;
    if (d->figures != NULL) {
        const cli_figures *f = d->figures;
        p.cpu_encoding = encoding_ns(d, f) / 1e7;
        ns = encoding_ns(d, f) + sending_ns(d, f, p.net_kbps * 125, frames) + taken * 125 * f->take_byte +
             pictures * f->take_frame;
        speed = 1;
    }
    p.cpu = ns / 1e9 * 100 / speed;
    p.fits_ram = p.possible && p.ram.total <= p.ram_have;
    p.fits_net = p.net_have == 0 || p.net_kbps <= p.net_have;
    p.fits_cpu = p.cpu <= p.cpu_have;
    p.flash = cli_flash_of(d);
    p.flash_have = d->has_board ? d->board_data.flash : 0;
    p.fits_flash = p.flash_have == 0 || p.flash.total <= p.flash_have;
    return p;
}

static bool fits(const cli_plan *p)
{
    return p->fits_ram && p->fits_net && p->fits_cpu && p->fits_flash;
}

void cli_plan_warn(const cli_device *d)
{
    cli_plan p = cli_plan_of(d);
    if (!p.fits_net)
        cli_error(
            "%u viewers would take %.0f kbit/s, the network carries %.0f: they will get fewer frames. `bambino budget "
            "%s` tells what fits",
            d->config.viewers, p.net_kbps, p.net_have, d->file.path);
    if (!p.fits_cpu)
        cli_error("%.0f %% of the processor are expected, %.0f %% are allowed; `bambino budget %s` tells what fits",
                  p.cpu, p.cpu_have, d->file.path);
}

/* The configuration with one thing changed: prepared again, judged, and put back. */
static bool would_fit(cli_device *d, const cli_config *changed)
{
    cli_config *kept = malloc(sizeof *kept);
    if (kept == NULL) return false;
    *kept = d->file;
    d->file = *changed;
    d->quiet = true;
    cli_plan p = { .possible = false };
    if (cli_prepare(d)) p = cli_plan_of(d);
    d->file = *kept;
    (void)cli_prepare(d);
    d->quiet = false;
    free(kept);
    return p.possible && fits(&p);
}

/* The largest of each kind, the rest as it is. 0: none fits. */
typedef struct largest {
    uint16_t viewers;
    uint16_t width, height;
    double rate;
    double kbps;
} largest;

static uint16_t most_viewers(cli_device *d, cli_config *c)
{
    int64_t low = 0, high = 4000, kept = c->viewers;
    while (low < high) {
        int64_t middle = (low + high + 1) / 2;
        c->viewers = middle;
        if (would_fit(d, c)) {
            low = middle;
        } else {
            high = middle - 1;
        }
    }
    c->viewers = kept;
    return (uint16_t)low;
}

/* Of the feed that is largest. */
static size_t heaviest(const cli_device *d)
{
    size_t found = 0;
    for (size_t i = 1; i < d->config.feed_count; i++)
        if (cli_feed_kbps(d, &d->feeds[i]) > cli_feed_kbps(d, &d->feeds[found])) found = i;
    return found;
}

static void most_size(cli_device *d, cli_config *c, size_t feed, const bmb_camera_info *info, largest *out)
{
    cli_feed *f = &c->feeds[feed], kept = *f;
    uint32_t best = 0;
    f->frame_max = f->reel = 0; /* they go with the size */
    for (size_t i = 0; i < info->mode_count; i++) {
        const bmb_mode_row *m = &info->modes[i];
        if (m->mfps_most < d->feeds[feed].mode.mfps || (uint32_t)m->width * m->height <= best) continue;
        f->width = m->width;
        f->height = m->height;
        f->mfps = d->feeds[feed].mode.mfps;
        if (!would_fit(d, c)) continue;
        best = (uint32_t)m->width * m->height;
        out->width = m->width;
        out->height = m->height;
    }
    *f = kept;
}

static double most_rate(cli_device *d, cli_config *c, size_t feed, const bmb_camera_info *info)
{
    cli_feed *f = &c->feeds[feed], kept = *f;
    uint32_t top = 0, best = 0;
    for (size_t i = 0; i < info->mode_count; i++)
        if (info->modes[i].width == d->feeds[feed].mode.width && info->modes[i].height == d->feeds[feed].mode.height)
            top = info->modes[i].mfps_most;
    for (uint32_t mfps = 1000; mfps <= top; mfps += 1000) {
        f->mfps = mfps;
        if (would_fit(d, c)) best = mfps;
    }
    *f = kept;
    return best / 1000.0;
}

static double most_kbps(cli_device *d, cli_config *c, size_t feed)
{
    cli_feed *f = &c->feeds[feed], kept = *f;
    double best = 0;
    int64_t top = (int64_t)cli_feed_kbps(d, &d->feeds[feed]);
    f->control_set[BMB_CONTROL_KBPS] = true;
    for (int64_t kbps = top; kbps >= 50 && best == 0; kbps = kbps * 9 / 10) {
        f->control[BMB_CONTROL_KBPS] = kbps;
        if (would_fit(d, c)) best = (double)kbps;
    }
    *f = kept;
    return best;
}

static largest look_for_largest(cli_device *d)
{
    largest most = { 0 };
    cli_config *c = malloc(sizeof *c);
    bmb_camera_info info;
    size_t feed = heaviest(d), camera;
    if (c == NULL) return most;
    *c = d->file;
    if (cli_find_camera(d, d->feeds[feed].camera, &camera, &info)) {
        most.viewers = most_viewers(d, c);
        most_size(d, c, feed, &info, &most);
        most.rate = most_rate(d, c, feed, &info);
        most.kbps = most_kbps(d, c, feed);
    }
    free(c);
    return most;
}

/* 1234567 as "1,234,567". */
static const char *grouped(size_t value, char *out, size_t room)
{
    char digits[32];
    int n = snprintf(digits, sizeof digits, "%zu", value), at = 0;
    for (int i = 0; i < n && (size_t)at + 2 < room; i++) {
        if (i > 0 && (n - i) % 3 == 0) out[at++] = ',';
        out[at++] = digits[i];
    }
    out[at] = '\0';
    return out;
}

static void print_amount(const char *what, size_t amount)
{
    char text[32];
    printf("  %-34s %14s\n", what, grouped(amount, text, sizeof text));
}

static void print_verdict(const char *what, double need, double have, const char *unit, bool ok)
{
    char a[32], b[32];
    printf("  %-34s %14s  of %s %s: %s\n", what, grouped((size_t)need, a, sizeof a), grouped((size_t)have, b, sizeof b),
           unit, ok ? "fits" : "DOES NOT FIT");
}

static void print_memory(const cli_device *d, const cli_plan *p)
{
    char text[80];
    printf("\nMemory%45s\n", "bytes");
    print_amount("the device", p->ram.device);
    snprintf(text, sizeof text, "%zu feed%s, %zu each", d->config.feed_count, d->config.feed_count == 1 ? "" : "s",
             p->ram.per_feed);
    print_amount(text, p->ram.feeds);
    print_amount("reels", p->ram.reels);
    for (size_t i = 0; i < d->config.feed_count; i++) {
        snprintf(text, sizeof text, "%s: reel %u, frame-max %u", d->feeds[i].name, d->feeds[i].reel_bytes,
                 d->feeds[i].frame_max);
        printf("    %s\n", text);
    }
    snprintf(text, sizeof text, "%u viewers and %u spare", d->config.viewers, d->config.spare);
    print_amount(text, p->ram.viewers);
    if (p->ram.pushes > 0) print_amount("pushes", p->ram.pushes);
    print_amount("request buffers", p->ram.request_buffers);
    if (p->ram.reserve > 0) print_amount("for changes while it runs", p->ram.reserve);
    if (p->ram.encryption > 0) {
        snprintf(text, sizeof text, "encryption, %zu of it each viewer", p->ram.per_viewer_tls);
        print_amount(text, p->ram.encryption);
    }
    if (p->ram_have == SIZE_MAX) {
        print_amount("in all", p->ram.total);
    } else {
        print_verdict("in all", (double)p->ram.total, (double)p->ram_have, "bytes", p->fits_ram);
    }
    if (d->board == NULL || d->board_data.ram_external == 0) return;
    size_t inside = bmb_board_ram(d->board) - d->board_data.ram_external, rest = p->ram.total - p->ram.reels;
    printf("    internal: %zu of %zu KiB without the reels, which %s\n", (rest + 1023) / 1024, inside / 1024,
           p->ram.total <= inside ? "fit there, too" : "need the external RAM");
}

/* Where the program's place is bounded. */
static void print_flash(const cli_plan *p)
{
    const cli_flash *f = &p->flash;
    if (p->flash_have == 0) return;
    printf("\nFlash%46s\n", "bytes");
    print_amount("the core, with what is asked for", f->core);
    if (f->libraries > 0) print_amount("http-parser and cJSON", f->libraries);
    if (f->page > 0) print_amount("the page", f->page);
    print_amount("network stack, C library, drivers", f->system);
    print_verdict("in all, about", (double)f->total, (double)p->flash_have, "bytes", p->fits_flash);
}

static void print_network(const cli_device *d, const cli_plan *p)
{
    char text[80];
    printf("\nNetwork%44s\n", "kbit/s");
    for (size_t i = 0; i < d->config.feed_count; i++) {
        const bmb_feed_config *f = &d->feeds[i];
        snprintf(text, sizeof text, "%s, a viewer%s", f->name,
                 f->multicast.group.family != 0 ? "; its group once" : "");
        print_amount(text, (size_t)cli_feed_kbps(d, f));
    }
    if (d->config.push_count > 0) printf("  %zu pushes beside the viewers\n", d->config.push_count);
    snprintf(text, sizeof text, "%u viewers of the largest feed", d->config.viewers);
    if (p->net_have == 0) {
        printf("  %-34s %14.0f  (set uplink-kbps in [network] to judge it)\n", text, p->net_kbps);
    } else {
        print_verdict(text, p->net_kbps, p->net_have, "kbit/s", p->fits_net);
    }
}

static void print_delay(const cli_device *d, const cli_plan *p)
{
    const bmb_feed_config *f = &d->feeds[heaviest(d)];
    double interval = 1e6 / f->mode.mfps, bits = cli_feed_kbps(d, f) * 1000 / (f->mode.mfps / 1000.0);
    double link = p->net_have > 0 ? bits / p->net_have : 0, way = d->has_board ? d->board_data.link.delay_ms : 0;
    double jitter = d->has_board ? d->board_data.link.jitter_ms : 0;
    printf("\nDelay of %s%*s\n", f->name, (int)(42 - strlen(f->name)), "ms");
    printf("  %-34s %14.0f  one frame interval\n", "exposure and encoding, up to", interval);
    printf("  %-34s %14.0f  a frame is never queued\n", "in the reel", 0.0);
    if (p->net_have > 0) {
        printf("  %-34s %14.0f  a frame of %.0f KiB\n", "on the link", link, bits / 8192);
        printf("  %-34s %14.0f  to %.0f\n", "on the way", way, way + jitter);
    }
    printf("  %-34s %14u  when the network is slower than the feed\n", "waiting in the system, up to",
           d->config.unsent_ms);
}

static void print_largest(const cli_device *d, const cli_plan *p, const largest *m)
{
    const bmb_feed_config *f = &d->feeds[heaviest(d)];
    bool ok = fits(p);
    printf("\n%s\n", ok ? "The largest that would fit, the rest as it is" : "Any one of these makes it fit");
    if (m->viewers > 0) printf("  viewers = %u\n", m->viewers);
    if (m->width > 0)
        printf("  [feed %s] size = %ux%u, with reel and frame-max as preset\n", f->name, m->width, m->height);
    if (m->rate > 0) printf("  [feed %s] rate = %g\n", f->name, m->rate);
    if (m->kbps > 0 && !ok) printf("  [feed %s] kbps = %.0f\n", f->name, m->kbps);
    if (m->viewers == 0 && m->width == 0 && m->rate == 0 && m->kbps == 0)
        printf("  no single change: lower size and viewers together\n");
}

static void print_table(cli_device *d)
{
    cli_plan p = cli_plan_of(d);
    largest most = look_for_largest(d);
    if (d->has_board) {
        printf("%s on %s, a %s\n", d->config.name, d->board_data.name, d->board_data.title);
    } else {
        printf("%s\n", d->config.name);
    }
    print_memory(d, &p);
    print_flash(&p);
    print_network(d, &p);
    printf("\nProcessor%42s\n", d->figures != NULL ? "per cent of one core" : "per cent");
    if (d->figures != NULL) {
        printf("  %-34s %s\n", "measured on", d->figures->name);
        printf("  %-34s %14.1f\n", "of that for encoding", p.cpu_encoding);
    }
    printf("  %-34s %14.1f  of %.0f: %s\n", "expected, all watching", p.cpu, p.cpu_have,
           p.fits_cpu ? "fits" : "DOES NOT FIT");
    print_delay(d, &p);
    print_largest(d, &p, &most);
}

static void print_json(cli_device *d)
{
    cli_plan p = cli_plan_of(d);
    largest most = look_for_largest(d);
    cJSON *o = cJSON_CreateObject(), *ram = cJSON_AddObjectToObject(o, "memory");
    cJSON_AddNumberToObject(ram, "device", (double)p.ram.device);
    cJSON_AddNumberToObject(ram, "feeds", (double)p.ram.feeds);
    cJSON_AddNumberToObject(ram, "reels", (double)p.ram.reels);
    cJSON_AddNumberToObject(ram, "viewers", (double)p.ram.viewers);
    cJSON_AddNumberToObject(ram, "pushes", (double)p.ram.pushes);
    cJSON_AddNumberToObject(ram, "request_buffers", (double)p.ram.request_buffers);
    cJSON_AddNumberToObject(ram, "reserve", (double)p.ram.reserve);
    if (p.ram.encryption > 0) cJSON_AddNumberToObject(ram, "encryption", (double)p.ram.encryption);
    if (p.ram.per_viewer_tls > 0) cJSON_AddNumberToObject(ram, "per_viewer_tls", (double)p.ram.per_viewer_tls);
    cJSON_AddNumberToObject(ram, "total", (double)p.ram.total);
    if (p.ram_have != SIZE_MAX) cJSON_AddNumberToObject(ram, "have", (double)p.ram_have);
    cJSON_AddBoolToObject(ram, "fits", p.fits_ram);
    if (p.flash_have > 0) {
        cJSON *flash = cJSON_AddObjectToObject(o, "flash");
        cJSON_AddNumberToObject(flash, "core", (double)p.flash.core);
        cJSON_AddNumberToObject(flash, "libraries", (double)p.flash.libraries);
        cJSON_AddNumberToObject(flash, "page", (double)p.flash.page);
        cJSON_AddNumberToObject(flash, "system", (double)p.flash.system);
        cJSON_AddNumberToObject(flash, "total", (double)p.flash.total);
        cJSON_AddNumberToObject(flash, "have", (double)p.flash_have);
        cJSON_AddBoolToObject(flash, "fits", p.fits_flash);
    }
    cJSON *net = cJSON_AddObjectToObject(o, "network");
    cJSON_AddNumberToObject(net, "kbps", round(p.net_kbps));
    if (p.net_have > 0) cJSON_AddNumberToObject(net, "have", p.net_have);
    cJSON_AddBoolToObject(net, "fits", p.fits_net);
    cJSON *cpu = cJSON_AddObjectToObject(o, "processor");
    cJSON_AddNumberToObject(cpu, "percent", round(p.cpu * 10) / 10);
    cJSON_AddNumberToObject(cpu, "have", p.cpu_have);
    if (d->figures != NULL) {
        cJSON_AddStringToObject(cpu, "measured_on", d->figures->name);
        cJSON_AddNumberToObject(cpu, "encoding_percent", round(p.cpu_encoding * 10) / 10);
    }
    cJSON_AddBoolToObject(cpu, "fits", p.fits_cpu);
    cJSON *l = cJSON_AddObjectToObject(o, "largest");
    cJSON_AddNumberToObject(l, "viewers", most.viewers);
    cJSON_AddNumberToObject(l, "width", most.width);
    cJSON_AddNumberToObject(l, "height", most.height);
    cJSON_AddNumberToObject(l, "rate", most.rate);
    cJSON_AddBoolToObject(o, "fits", fits(&p));
    char *text = cJSON_Print(o);
    puts(text != NULL ? text : "{}");
    free(text);
    cJSON_Delete(o);
}

int cli_budget(int argc, const char **argv)
{
    char *board = NULL, *preview = NULL, *out = NULL, *figures = NULL;
    int json = 0;
    const struct poptOption options[] = {
        { "board", '\0', POPT_ARG_STRING, &board, 0, "judge it for this board, see `bambino boards`", "NAME" },
        { "figures", '\0', POPT_ARG_STRING, &figures, 0, "what `bambino measure` wrote on the board", "FILE" },
        { "json", '\0', POPT_ARG_NONE, &json, 0, "for programs", NULL },
        { "preview", '\0', POPT_ARG_STRING, &preview, 0, "what qualities cost on the present scene", "CAMERA" },
        { "out", 'o', POPT_ARG_STRING, &out, 0, "preview: the contact sheet, a PNG; else CAMERA-qualities.png",
          "FILE" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[1] = { NULL };
    char demo[1024];
    bool help = false;
    if (!cli_options(argc, argv, options, "budget CONFIG", rest, 1, &help)) return help ? EXIT_OK : EXIT_USAGE;
    if (rest[0] == NULL && cli_demo_file("railway.ini", demo, sizeof demo)) rest[0] = demo;
    if (rest[0] == NULL) return cli_error("budget needs a configuration: bambino budget FILE");
    cli_device *d = calloc(1, sizeof *d);
    int status = EXIT_USAGE;
    if (d != NULL && cli_config_read(rest[0], &d->file)) {
        if (board != NULL) snprintf(d->file.board, sizeof d->file.board, "%s", board);
        status = EXIT_FAILED;
        d->console_off = true;
        if ((figures == NULL || cli_figures_load(d, figures)) && cli_attach(d) && (preview != NULL || cli_prepare(d))) {
            if (preview != NULL) {
                status = cli_preview(d, preview, out);
            } else {
                (json ? print_json : print_table)(d);
                cli_plan p = cli_plan_of(d);
                status = fits(&p) ? EXIT_OK : EXIT_FAILED;
            }
        }
    }
    if (d != NULL) cli_close(d);
    free(d);
    free(board);
    free(preview);
    free(out);
    free(figures);
    return status;
}
