/* From a configuration that was read to a device that runs. */
#include <errno.h>
#include <libgen.h>
#include <limits.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bambino/pages.h"
#include "cli.h"

#define RESERVE 8388608 /* bytes: a feed of 1920x1080, and more */
#define BODY 65536u     /* bytes that a request may bring, such as a whole file of settings … */
#define BODY_OF_BOARD 4096u
#define PLACES 4u   /* for feeds and pushes that come */
#define MAY_COME 1u /* as a port, without an address: memory for a group is kept (bmb_multicast.group) */

static volatile sig_atomic_t interrupted;
static bmb_port *waiting_port;

static void on_signal(int number)
{
    (void)number;
    interrupted = 1;
    if (waiting_port != NULL) waiting_port->wake(waiting_port->ctx); /* one write, allowed here */
}

void cli_catch_signals(bmb_port *port)
{
    const struct sigaction action = { .sa_handler = on_signal };
    waiting_port = port;
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    signal(SIGPIPE, SIG_IGN); /* a reader of what is printed that goes away is no reason to stop serving */
}

bool cli_interrupted(void)
{
    return interrupted != 0;
}

/* A board has so many connectors; clips need none. */
static bool fits_connectors(const cli_device *d)
{
    char list[CLI_CAMERAS_MOST * (BMB_NAME_MAX + 2)] = "";
    size_t drawn = 0;
    for (size_t i = 0; i < d->file.camera_count; i++) {
        if (d->file.cameras[i].kind != CLI_DRAWN) continue;
        size_t at = strlen(list);
        snprintf(list + at, sizeof list - at, "%s%s", drawn++ > 0 ? ", " : "", d->file.cameras[i].name);
    }
    if (!d->has_board || drawn <= d->board_data.connectors) return true;
    cli_error("the board \"%s\" takes %u camera%s at a time, the configuration has %zu: %s", d->board_data.name,
              d->board_data.connectors, d->board_data.connectors == 1 ? "" : "s", drawn, list);
    return false;
}

static bool attach_storage(cli_device *d)
{
    char path[2 * CLI_TEXT_MAX + 2];
    if (d->file.state[0] == '\0') return true;
    cli_beside(&d->file, d->file.state, path, sizeof path);
    bmb_err err = bmb_linux_storage(d->linux_port, path, &d->port.storage);
    if (err == BMB_OK) return true;
    /* Serving goes first: a card that became read-only is no reason to be dark. */
    cli_error("%s: state = %s: nothing can be stored there: %s. What is changed lasts until the next start only",
              d->file.path, d->file.state, bmb_err_text(err));
    return true;
}

bool cli_attach(cli_device *d)
{
    char paths[CLI_CAMERAS_MOST][2 * CLI_TEXT_MAX + 2];
    bmb_sim_camera specs[CLI_CAMERAS_MOST];
    size_t origin[CLI_CAMERAS_MOST], count = 0, missing = 0;
    if (bmb_linux_create(&d->linux_port, &d->port) != BMB_OK) {
        cli_error("the system has no file left for the device; raise the open-files limit");
        return false;
    }
    if (d->figures == NULL) (void)cli_figures_load(d, NULL); /* without them the budget guesses, that is all */
    if (!cli_board_load(d) || !attach_storage(d)) return false;
    for (size_t i = 0; i < d->file.camera_count; i++) {
        const cli_camera *c = &d->file.cameras[i];
        if (c->kind >= CLI_DEVICE) continue;
        cli_beside(&d->file, c->clip, paths[i], sizeof paths[i]);
        specs[count] = (bmb_sim_camera){ .name = c->name,
                                         .kind = (bmb_sim_kind)c->kind,
                                         .view = (bmb_sim_view)c->view,
                                         .codec = (bmb_codec)c->codec,
                                         .clip = paths[i],
                                         .clip_mfps = c->clip_mfps,
                                         .streams = d->has_board ? (uint8_t)d->board_data.streams : UINT8_MAX,
                                         .sensor = d->has_board ? &d->board_data.sensor : NULL };
        if (specs[count].codec == BMB_CODEC_H264 && d->has_board && !d->board_data.h264 && c->kind == BMB_SIM_DRAWN) {
            d->camera_err[i] = BMB_UNSUPPORTED;
            continue;
        }
        origin[count++] = i;
    }
    if (!fits_connectors(d)) return false;
    for (;;) { /* a camera that cannot be had is missing, and the rest attached */
        bmb_err err = bmb_sim_create(specs, count, &d->port, &d->sim, &missing);
        if (err == BMB_OK) return cli_board_attach(d) && cli_attach_intakes(d) && cli_attach_devices(d);
        if (err == BMB_NO_MEMORY || count == 0) {
            cli_error("there is not enough memory for the cameras");
            return false;
        }
        d->camera_err[origin[missing]] = err;
        memmove(specs + missing, specs + missing + 1, (count - missing - 1) * sizeof *specs);
        memmove(origin + missing, origin + missing + 1, (count - missing - 1) * sizeof *origin);
        count--;
    }
}

const char *cli_missing_text(const cli_device *d, size_t camera, char *out, size_t room)
{
    const cli_camera *c = &d->file.cameras[camera];
    char path[2 * CLI_TEXT_MAX + 2];
    cli_beside(&d->file, c->clip, path, sizeof path);
    if (c->kind < CLI_DEVICE && !bmb_sim_there()) {
        snprintf(out, room,
                 "this build has no simulated cameras; use device = PATH, program or input (line %d ff. of %s)",
                 c->line, d->file.path);
    } else if (c->kind == BMB_SIM_DRAWN && d->has_board && c->codec == BMB_CODEC_H264 && !d->board_data.h264) {
        snprintf(out, room, "the board \"%s\" has no H.264 encoder; use codec = jpeg", d->board_data.name);
    } else if (c->kind == BMB_SIM_DRAWN) {
        snprintf(out, room, "this build has no %s encoder; install it and build again, or use source = clip",
                 c->codec == BMB_CODEC_H264 ? "H.264" : "JPEG");
    } else if (c->clip[0] == '\0') {
        snprintf(out, room, "source = clip needs a key clip = FILE");
    } else if (d->camera_err[camera] == BMB_NOT_FOUND) {
        snprintf(out, room, "the clip %s cannot be read; check clip in line %d ff. of %s", path, c->line, d->file.path);
    } else {
        snprintf(out, room, "the clip %s is neither a sequence of JPEG images nor an H.264 stream", path);
    }
    return out;
}

static bool find_camera(const cli_device *d, const char *name, bmb_camera_info *out)
{
    size_t count = d->port.cameras.count(d->port.cameras.ctx);
    for (size_t i = 0; i < count; i++)
        if (d->port.cameras.info(d->port.cameras.ctx, i, out) == BMB_OK && strcmp(out->name, name) == 0) return true;
    return false;
}

const bmb_mode_row *cli_first_mode(const bmb_camera_info *info, bmb_codec codec)
{
    for (size_t i = 0; i < info->mode_count; i++)
        if (info->modes[i].codec == codec) return &info->modes[i];
    return NULL;
}

const bmb_mode_row *cli_nearest_mode(const bmb_camera_info *info, const bmb_mode *asked)
{
    const bmb_mode_row *best = &info->modes[0];
    uint64_t best_apart = UINT64_MAX;
    for (size_t i = 0; i < info->mode_count; i++) {
        const bmb_mode_row *m = &info->modes[i];
        if (m->codec != asked->codec) continue;
        uint64_t x = (uint64_t)(m->width > asked->width ? m->width - asked->width : asked->width - m->width);
        uint64_t y = (uint64_t)(m->height > asked->height ? m->height - asked->height : asked->height - m->height);
        uint64_t apart = (x + y) * 1000 + (m->mfps_most < asked->mfps);
        if (apart >= best_apart) continue;
        best = m;
        best_apart = apart;
    }
    return best;
}

/* The fastest mode of that rate, in the list, or NULL. */
static const bmb_mode_row *at_rate(const bmb_camera_info *info, const bmb_mode *asked)
{
    for (size_t i = 0; i < info->mode_count; i++)
        if (info->modes[i].codec == asked->codec && info->modes[i].mfps_most >= asked->mfps)
            return &info->modes[i]; /* the largest first */
    return NULL;
}

/* A drawn camera has more sizes than it lists, but not all. */
static bool is_drawable(const cli_device *d, const cli_feed *f, const bmb_mode *asked)
{
    char text[64], near_text[64];
    const bmb_mode near = bmb_sim_nearest(asked);
    if (near.width == asked->width && near.height == asked->height && near.mfps == asked->mfps) return true;
    cli_error("%s:%d: feed \"%s\": camera \"%s\" cannot do %s; nearest: %s", d->file.path, f->line, f->name, f->camera,
              cli_mode_text(asked, text, sizeof text), cli_mode_text(&near, near_text, sizeof near_text));
    return false;
}

/* A size or rate that the camera does not have is refused with the nearest that it has. */
static bool choose_mode(const cli_device *d, const cli_feed *f, const bmb_camera_info *info, bmb_mode *out)
{
    if (info->mode_count == 0) { /* it is absent: seen when it comes */
        *out = (bmb_mode){ f->codec > 0 ? (bmb_codec)(f->codec - 1) : BMB_CODEC_JPEG, 640, 480, 15000 };
        if (f->width != 0) out->width = f->width;
        if (f->width != 0) out->height = f->height;
        if (f->mfps != 0) out->mfps = f->mfps;
        return true;
    }
    const bmb_mode_row *first = f->codec > 0 ? cli_first_mode(info, (bmb_codec)(f->codec - 1)) : &info->modes[0];
    if (first == NULL) {
        cli_error("%s:%d: feed \"%s\": camera \"%s\" has no %s", d->file.path, f->line, f->name, f->camera,
                  f->codec - 1 == BMB_CODEC_H264 ? "H.264" : "JPEG");
        return false;
    }
    bool device = cli_device_number(d, info->name) != SIZE_MAX, intake = cli_is_intake(d, info->name);
    bool clip = info->mode_count == 1 && !device, listed = clip || device || intake || d->has_board;
    *out = (bmb_mode){ .codec = first->codec, .width = f->width, .height = f->height, .mfps = f->mfps };
    if (out->width == 0) {
        out->width = clip || intake ? first->width : 640;
        out->height = clip || intake ? first->height : 480;
    }
    const bmb_mode_row *near = cli_nearest_mode(info, out);
    if (device && f->width == 0) {
        out->width = near->width;
        out->height = near->height;
    }
    bool size_ok = near->width == out->width && near->height == out->height;
    if (out->mfps == 0) out->mfps = clip || near->mfps_most < 15000 ? near->mfps_most : 15000;
    bool rate_ok = clip ? out->mfps == first->mfps_most : out->mfps <= near->mfps_most;
    char text[64];
    if (!listed) return is_drawable(d, f, out);
    if (size_ok && rate_ok) return true;
    const bmb_mode there = { near->codec, near->width, near->height, near->mfps_most };
    if (!size_ok) {
        cli_error("%s:%d: feed \"%s\": camera \"%s\" has no size %ux%u; the nearest is %s", d->file.path, f->line,
                  f->name, f->camera, out->width, out->height, cli_mode_text(&there, text, sizeof text));
        return false;
    }
    const bmb_mode_row *fast = clip ? NULL : at_rate(info, out);
    cli_error("%s:%d: feed \"%s\": camera \"%s\" gives %s%g/s at %ux%u%s", d->file.path, f->line, f->name, f->camera,
              clip ? "" : "at most ", (double)near->mfps_most / 1000.0, near->width, near->height,
              fast == NULL ? "; lower rate" : "");
    if (fast != NULL)
        cli_error("%g/s is possible at %ux%u: lower rate, or size", (double)out->mfps / 1000.0, fast->width,
                  fast->height);
    return false;
}

/* Encoders have controls for their codec. */
static bool suits(bmb_codec codec, bmb_control control)
{
    if (control == BMB_CONTROL_QUALITY) return codec == BMB_CODEC_JPEG;
    bool of_h264 = control == BMB_CONTROL_KBPS || control == BMB_CONTROL_KEY_MS || control == BMB_CONTROL_PROFILE;
    return !of_h264 || codec == BMB_CODEC_H264;
}

static bool prepare_settings(cli_device *d, size_t index, const bmb_camera_info *info)
{
    const cli_feed *f = &d->file.feeds[index];
    bmb_feed_config *out = &d->feeds[index];
    out->settings = d->settings[index];
    for (size_t c = 0; c < BMB_CONTROL_COUNT; c++) {
        if (!f->control_set[c]) continue;
        const bmb_range *r = &info->controls[c];
        if (c == BMB_CONTROL_KBPS && out->mode.codec == BMB_CODEC_JPEG) { /* held by the device */
            out->kbps = (uint32_t)f->control[c];
            continue;
        }
        if (info->mode_count == 0 && suits(out->mode.codec, (bmb_control)c)) { /* seen when the camera comes */
            d->settings[index][out->setting_count++] = (bmb_setting){ (bmb_control)c, (int32_t)f->control[c] };
            continue;
        }
        if (f->changed && !suits(out->mode.codec, (bmb_control)c)) continue; /* it counts again with the other codec */
        if (r->step == 0 || !suits(out->mode.codec, (bmb_control)c)) {
            cli_error("%s:%d: feed \"%s\": camera \"%s\" has no control \"%s\"; `bambino cameras` lists those it has",
                      d->file.path, f->line, f->name, f->camera, bmb_control_name((bmb_control)c));
            return false;
        }
        if (f->control[c] < r->least || f->control[c] > r->most) {
            cli_error("%s:%d: feed \"%s\": %s = %lld: camera \"%s\" has %d to %d", d->file.path, f->line, f->name,
                      bmb_control_name((bmb_control)c), (long long)f->control[c], f->camera, r->least, r->most);
            return false;
        }
        if ((f->control[c] - r->least) % r->step != 0) {
            cli_error("%s:%d: feed \"%s\": %s = %lld: camera \"%s\" has %d to %d in steps of %d; the nearest is %lld",
                      d->file.path, f->line, f->name, bmb_control_name((bmb_control)c), (long long)f->control[c],
                      f->camera, r->least, r->most, r->step,
                      (long long)(r->least + (f->control[c] - r->least + r->step / 2) / r->step * r->step));
            return false;
        }
        d->settings[index][out->setting_count++] = (bmb_setting){ (bmb_control)c, (int32_t)f->control[c] };
    }
    return true;
}

static bool prepare_feed(cli_device *d, size_t index)
{
    const cli_feed *f = &d->file.feeds[index];
    bmb_feed_config *out = &d->feeds[index];
    bmb_camera_info info;
    char why[700];
    if (!find_camera(d, f->camera, &info)) {
        for (size_t i = 0; i < d->file.camera_count; i++) {
            if (strcmp(d->file.cameras[i].name, f->camera) != 0) continue;
            cli_error("camera \"%s\" is missing: %s", f->camera, cli_missing_text(d, i, why, sizeof why));
            return false;
        }
        cli_error("%s:%d: feed \"%s\": camera \"%s\" is not attached; `bambino cameras %s` lists those that are",
                  d->file.path, f->line, f->name, f->camera, d->file.path);
        return false;
    }
    *out = (bmb_feed_config){ .name = f->name, .title = f->title, .camera = f->camera };
    out->preview = f->preview[0] != '\0' ? f->preview : NULL;
    if (!choose_mode(d, f, &info, &out->mode) || !prepare_settings(d, index, &info)) return false;
    int64_t bright = f->day_above > 0 ? f->day_above : f->night_below + 60;
    if (out->mode.codec == BMB_CODEC_JPEG)
        out->daylight = (bmb_daylight_config){ .dark = (uint8_t)f->night_below,
                                               .bright = (uint8_t)(bright < 254 ? bright : 254),
                                               .seconds = (uint16_t)f->night_after,
                                               .light = (uint8_t)f->night_light };
    out->quality_least = (uint8_t)f->quality_least;
    out->quality_most = (uint8_t)f->quality_most;
    out->keep_controls = d->file.state[0] != '\0';
    if ((f->quality_least > 0 ? f->quality_least : 20) > (f->quality_most > 0 ? f->quality_most : 90)) {
        cli_error("%s:%d: feed \"%s\": quality-least is above quality-most; exchange them", d->file.path, f->line,
                  f->name);
        return false;
    }
    bool lend = cli_device_number(d, info.name) != SIZE_MAX && out->mode.codec == BMB_CODEC_JPEG;
    out->storage = f->storage > 0 ? (bmb_storage_kind)(f->storage - 1) : lend ? BMB_BORROWED : BMB_KEPT;
    const bmb_mode *m = &out->mode;
    uint32_t preset = bmb_feed_of(out->name, m->codec, m->width, m->height, m->mfps).frame_max;
    out->frame_max = f->frame_max > 0 ? (uint32_t)f->frame_max : preset;
    out->reel_bytes = f->reel > 0 ? (uint32_t)f->reel : out->frame_max * 8;
    bmb_addr group = f->multicast_auto ? bmb_multicast_choose(d->file.device_name, f->name) : f->multicast;
    if (group.family == 0 && d->config.reserve.bytes > 0) group.port = MAY_COME;
    out->multicast = (bmb_multicast){ .group = group,
                                      .ttl = (uint8_t)f->multicast_ttl,
                                      .parity = (uint8_t)f->multicast_parity,
                                      .open = f->multicast_open != 0,
                                      .always = f->multicast_always != 0 };
    out->open = f->open != 0;
    out->camera_rests = f->camera_rests != 0;
    out->step = f->step[0] != '\0' ? f->step : NULL;
    out->follow = (bmb_follow)f->follow;
    out->follow_kbps = (uint32_t)f->follow_least;
    return true;
}

/* The demo goes on with what the build can show. */
static void drop_missing(cli_device *d)
{
    cli_config *f = &d->file;
    char why[700];
    for (size_t i = 0; i < f->camera_count; i++) {
        if (d->camera_err[i] == BMB_OK) continue;
        cli_error("camera \"%s\" is not served: %s", f->cameras[i].name, cli_missing_text(d, i, why, sizeof why));
        size_t kept = 0;
        for (size_t k = 0; k < f->feed_count; k++)
            if (strcmp(f->feeds[k].camera, f->cameras[i].name) != 0) f->feeds[kept++] = f->feeds[k];
        f->feed_count = kept;
    }
}

/* Places, and frame memory, for what may come. A board has its memory for other things, unless it is told to. */
static void reserve(cli_device *d)
{
    bool small = d->file.board[0] != '\0';
    int64_t bytes = d->file.reserve >= 0 ? d->file.reserve : small ? 0 : RESERVE;
    size_t feeds = CLI_FEEDS_MOST - d->file.feed_count, pushes = CLI_PUSHES_MOST - d->file.push_count;
    bmb_reserve *r = &d->config.reserve;
    *r = (bmb_reserve){ .changes = true, .bytes = (uint32_t)bytes };
    if (bytes == 0) return;
    r->feeds = (uint16_t)(feeds < PLACES ? feeds : PLACES);
    r->pushes = (uint16_t)(pushes < PLACES ? pushes : PLACES);
}

bool cli_prepare_rows(cli_device *d)
{
    bmb_config *c = &d->config;
    c->feeds = d->feeds;
    c->outlets = d->outlets;
    if (!cli_prepare_web(d)) return false;
    c->feed_count = d->file.feed_count;
    for (size_t i = 0; i < d->file.feed_count; i++)
        if (!prepare_feed(d, i)) return false;
    return cli_prepare_plain(d);
}

void cli_limits_of(const cli_config *f, bmb_config *c)
{
    c->host_viewers = (uint16_t)f->host_viewers;
    c->stall_ms = (uint32_t)f->stall_ms;
    c->request_ms = (uint32_t)f->request_ms;
    c->idle_ms = (uint32_t)f->idle_ms;
    c->unsent_ms = (uint32_t)f->unsent_ms;
    c->uplink_kbps = (uint32_t)f->uplink_kbps;
}

bool cli_prepare(cli_device *d)
{
    const cli_config *f = &d->file;
    bmb_config *c = &d->config;
    bmb_config_init(c);
    c->port = &d->port;
    c->service = &d->service;
    d->service.body_most = d->file.board[0] != '\0' ? BODY_OF_BOARD : BODY;
    c->name = f->device_name;
    c->assets = bmb_pages;
    c->asset_count = bmb_page_count;
    c->viewers = (uint16_t)f->viewers;
    cli_limits_of(f, c);
    c->spare = (uint16_t)f->spare;
    c->events = (uint16_t)f->events;
    c->request_buffer = (uint16_t)f->request_buffer;
    c->rtp_packet = (uint16_t)f->rtp_packet;
    c->session_ms = (uint32_t)f->session_ms;
    c->repeats = f->repeats != 0 && (f->rtsp.family != 0 || f->rtsps.family != 0);
    reserve(d);
    if (d->tolerant) drop_missing(d);
    if (!cli_prepare_rows(d) || !cli_access_open(d) || !cli_secure_open(d)) return false;
    if (c->reserve.bytes > 0) c->reserve.outlets = (uint16_t)(c->outlet_count < 10 ? 10 - c->outlet_count : 0);
    return true;
}

/* Modes that a feed could have beside the others of its camera, as text; "": none. */
static void possible_beside(const cli_device *d, const char *feed, char *out, size_t room)
{
    const bmb_cameras *cameras = &d->port.cameras;
    size_t indices[CLI_FEEDS_MOST], count = 0, own = 0, first = 0, culprit;
    bmb_mode modes[CLI_FEEDS_MOST];
    const char *camera = NULL;
    bmb_camera_info info;
    out[0] = '\0';
    for (size_t i = 0; i < d->config.feed_count; i++)
        if (strcmp(d->feeds[i].name, feed) == 0) camera = d->feeds[i].camera;
    while (camera != NULL && cameras->info(cameras->ctx, first, &info) == BMB_OK && strcmp(info.name, camera) != 0)
        first++;
    if (camera == NULL || cameras->together == NULL || cameras->info(cameras->ctx, first, &info) != BMB_OK) return;
    for (size_t i = 0; i < d->config.feed_count; i++) {
        if (strcmp(d->feeds[i].camera, camera) != 0) continue;
        if (strcmp(d->feeds[i].name, feed) == 0) own = count;
        indices[count] = first + count;
        modes[count++] = d->feeds[i].mode;
    }
    for (size_t i = 0; i < info.mode_count; i++) {
        const bmb_mode_row *r = &info.modes[i];
        size_t at = strlen(out);
        char text[64];
        modes[own] = (bmb_mode){ r->codec, r->width, r->height, r->mfps_most };
        if (cameras->together(cameras->ctx, indices, modes, count, &culprit) == BMB_OK)
            snprintf(out + at, room - at, "%s%s", at > 0 ? "; " : "", cli_mode_text(&modes[own], text, sizeof text));
    }
}

bool cli_fault(const cli_device *d, const bmb_fault *why)
{
    char text[400], possible[300];
    bmb_fault_text(why, text, sizeof text);
    cli_error("%s: %s", d->file.path, text);
    if (why->key != NULL && strcmp(why->key, "encryption") == 0 && cli_secure_trouble(d) != NULL)
        cli_error("[tls]: %s", cli_secure_trouble(d));
    if (why->key == NULL || strcmp(why->key, "together") != 0) return false;
    possible_beside(d, why->name, possible, sizeof possible);
    cli_error("beside the other feeds of its camera it can have %s", possible[0] != '\0' ? possible : "nothing");
    return false;
}

bool cli_open(cli_device *d)
{
    bmb_fault why;
    if (d->layers == NULL) d->config.service = NULL; /* nothing is changed while it runs */
    if (bmb_budget_of(&d->config, &d->budget, &why) != BMB_OK) return cli_fault(d, &why);
    size_t allowed = d->file.memory > 0 ? (size_t)d->file.memory : d->budget.total;
    if (d->board != NULL && d->file.memory == 0) allowed = bmb_board_ram(d->board);
    bmb_linux_log_level(d->linux_port, (bmb_level)d->file.log);
    d->memory = malloc(d->budget.total);
    if (d->memory == NULL) {
        cli_error("%zu bytes of memory cannot be had; lower viewers, reel or size", d->budget.total);
        return false;
    }
    size_t size = allowed < d->budget.total ? allowed : d->budget.total;
    if (bmb_open(&d->config, d->memory, size, &d->device, &why) == BMB_OK) {
        for (size_t i = 0; i < d->file.feed_count; i++)
            if (d->file.feeds[i].paused != 0) (void)bmb_feed_pause(d->device, i, true);
        return true;
    }
    bool ram = why.err == BMB_NO_MEMORY && d->board != NULL;
    if (ram && bmb_board_has(d->board, BMB_BOARD_NO_EXTERNAL_RAM))
        cli_error(
            "the board's external RAM does not answer; enable it in the firmware, or choose what fits without it");
    (void)cli_fault(d, &why);
    if (ram) cli_error("`bambino budget %s` tells what fits the board \"%s\"", d->file.path, d->board_data.name);
    return false;
}

void cli_close(cli_device *d)
{
    waiting_port = NULL;
    cli_light_close(d);
    bmb_close(d->device);
    bmb_v4l2_destroy(d->v4l2);
    bmb_intake_destroy(d->intake);
    bmb_sim_destroy(d->sim); /* its threads call the port, and with it the board */
    bmb_board_detach(d->board);
    bmb_linux_destroy(d->linux_port);
    cli_access_close(d);
    cli_secure_close(d);
    free(d->memory);
    free(d->figures);
}

const char *cli_mode_text(const bmb_mode *mode, char *out, size_t room)
{
    snprintf(out, room, "%ux%u at %g/s, %s", mode->width, mode->height, (double)mode->mfps / 1000.0,
             mode->codec == BMB_CODEC_H264 ? "H.264" : "JPEG");
    return out;
}
