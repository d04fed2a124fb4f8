/* A simulated board at work: start-up as its console shows it, and faults that come and go. */
#include "bambino/board.h"

#include "bambino/light.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "layer/layer.h"
#include "sim/radio.h"

#define FAULTS_MOST 8
#define LOAD_US 1500000u       /* a weak supply holds so long under load … */
#define RESET_US 1200000u      /* … and a board needs so long to start again */
#define INSIDE_RESERVED 65536u /* of the internal RAM: stacks, drivers, the radio */

typedef struct failing {
    bmb_board_fault fault;
    uint64_t from_us, to_us; /* to_us 0: for good */
    bool was;
} failing;

struct bmb_board_run {
    bmb_layer layer;
    bmb_storage storage; /* what was there before */
    const bmb_board *board;
    bmb_board_options options;
    bmb_port *port; /* that is wrapped */
    bmb_sim *sim;
    sim_radio *radio;
    uint64_t start_us;
    failing faults[FAULTS_MOST];
    size_t fault_count;
    uint64_t loaded_us;     /* a weak supply: under load since */
    uint64_t reset_us;      /* down until */
    bool down, stopped;     /* after a reset; at start-up, for a reason that was told */
    bmb_light light, state; /* state: that the lamp shows */
    bmb_light_style style;
};

static bmb_board_run *of(void *ctx)
{
    return (bmb_board_run *)((bmb_layer *)ctx)->owner;
}

const char *bmb_board_fault_name(bmb_board_fault fault)
{
    static const char *const names[BMB_BOARD_FAULTS] = { "none",         "ribbon",        "wiring",
                                                         "other-sensor", "weak-supply",   "no-external-ram",
                                                         "no-ssid",      "no-passphrase", "wrong-passphrase",
                                                         "storage-full", "clock-unset",   "hanging-camera",
                                                         "unknown-ssid" };
    return (size_t)fault < BMB_BOARD_FAULTS ? names[fault] : NULL;
}

static uint64_t now_us(const bmb_board_run *run)
{
    return run->layer.under.now_us(run->layer.under.ctx);
}

void bmb_board_say(bmb_board_run *run, const char *format, ...)
{
    va_list args;
    if (run->options.console == NULL) return;
    char line[400];
    int n = snprintf(line, sizeof line, "[%8.3f] ", (double)(now_us(run) - run->start_us) / 1e6);
    va_start(args, format);
    vsnprintf(line + n, sizeof line - (size_t)n, format, args);
    va_end(args);
    run->options.console(run->options.console_ctx, line);
}

static bool holds(const failing *f, uint64_t at)
{
    return at >= f->from_us && (f->to_us == 0 || at < f->to_us);
}

bool bmb_board_has(const bmb_board_run *run, bmb_board_fault fault)
{
    uint64_t at = now_us(run) - run->start_us;
    const bmb_board_options *o = &run->options;
    bool radio = run->board->link.radio;
    bool named = o->ssid != NULL, phrased = o->passphrase != NULL;
    for (size_t i = 0; i < run->fault_count; i++)
        if (run->faults[i].fault == fault && holds(&run->faults[i], at)) return true;
    switch (fault) { /* and what the configuration itself brings */
    case BMB_BOARD_WIRING:
        return o->wiring != NULL && strcmp(o->wiring, run->board->wiring) != 0;
    case BMB_BOARD_NO_SSID:
        return radio && !named;
    case BMB_BOARD_UNKNOWN_SSID:
        return radio && named && run->board->ssid[0] != '\0' && strcmp(o->ssid, run->board->ssid) != 0;
    case BMB_BOARD_NO_PASSPHRASE:
        return radio && named && !phrased;
    case BMB_BOARD_WRONG_PASSPHRASE:
        return radio && phrased && strcmp(o->passphrase, run->board->passphrase) != 0;
    default:
        return false;
    }
}

/* The first of the faults that keep the network away, or BMB_BOARD_FINE. */
static bmb_board_fault network_fault(const bmb_board_run *run)
{
    static const bmb_board_fault all[] = { BMB_BOARD_NO_SSID, BMB_BOARD_UNKNOWN_SSID, BMB_BOARD_NO_PASSPHRASE,
                                           BMB_BOARD_WRONG_PASSPHRASE };
    for (size_t i = 0; i < sizeof all / sizeof all[0]; i++)
        if (bmb_board_has(run, all[i])) return all[i];
    return BMB_BOARD_FINE;
}

static bool is_online(const bmb_board_run *run)
{
    return !run->down && network_fault(run) == BMB_BOARD_FINE;
}

static bool online(void *ctx)
{
    return is_online(of(ctx));
}

static bmb_err wall_us(void *ctx, int64_t *out)
{
    const bmb_port *under = &of(ctx)->layer.under;
    if (under->wall_us == NULL || bmb_board_has(of(ctx), BMB_BOARD_CLOCK_UNSET)) return BMB_UNKNOWN;
    return under->wall_us(under->ctx, out);
}

static bmb_err load(void *ctx, const char *name, void *out, size_t room, size_t *got)
{
    const bmb_storage *s = &((const bmb_board_run *)ctx)->storage;
    return s->load(s->ctx, name, out, room, got);
}

static bmb_err store(void *ctx, const char *name, const void *data, size_t size)
{
    const bmb_board_run *run = (const bmb_board_run *)ctx;
    if (bmb_board_has(run, BMB_BOARD_STORAGE_FULL)) return BMB_NO_ROOM;
    return run->storage.store(run->storage.ctx, name, data, size);
}

static void light(void *ctx, bmb_light state)
{
    static const char *const looks[] = { "blinks quickly", "flashes twice", "flashes three times", "flashes every 2 s",
                                         "is steady" };
    bmb_board_run *run = of(ctx);
    const bmb_port *under = &run->layer.under;
    bool watched = state == BMB_LIGHT_WATCHED, was = run->state == BMB_LIGHT_WATCHED;
    run->state = state;
    if (run->board->status_light && (size_t)state < sizeof looks / sizeof looks[0] && run->style != BMB_LIGHT_OFF &&
        (run->style != BMB_LIGHT_VIEWED || watched || was))
        bmb_board_say(run, "light: %s (%s)",
                      run->style == BMB_LIGHT_FRAMES && watched    ? "changes with every frame"
                      : run->style == BMB_LIGHT_VIEWED && !watched ? "is dark"
                                                                   : looks[state],
                      bmb_light_name(state));
    if (under->light != NULL) under->light(under->ctx, state);
}

void bmb_board_light(bmb_board_run *run, bmb_light_style style)
{
    if (style == run->style) return;
    run->style = style;
    if (style == BMB_LIGHT_OFF && run->board->status_light) bmb_board_say(run, "light: is dark (off)");
}

uint32_t bmb_board_ram(const bmb_board_run *run)
{
    uint32_t inside = run->board->ram_internal > INSIDE_RESERVED ? run->board->ram_internal - INSIDE_RESERVED : 0;
    return inside + (bmb_board_has(run, BMB_BOARD_NO_EXTERNAL_RAM) ? 0 : run->board->ram_external);
}

bmb_err bmb_board_attach(const bmb_board *board, const bmb_board_options *options, bmb_port *port, bmb_sim *sim,
                         bmb_board_run **out)
{
    bmb_board_run *run = calloc(1, sizeof *run);
    if (run == NULL) return BMB_NO_MEMORY;
    run->board = board;
    run->options = *options;
    run->port = port;
    run->sim = sim;
    run->start_us = port->now_us(port->ctx);
    run->light = run->state = BMB_LIGHT_STARTING;
    run->style = BMB_LIGHT_STATES;
    run->layer.owner = run;
    bmb_layer_put(&run->layer, port);
    run->storage = port->storage;
    port->wall_us = wall_us;
    port->online = online;
    port->light = light;
    if (port->storage.store != NULL) port->storage = (bmb_storage){ .ctx = run, .load = load, .store = store };
    run->radio = sim_radio_create(&board->link, port);
    if (run->radio == NULL) {
        bmb_board_detach(run);
        return BMB_NO_MEMORY;
    }
    *out = run;
    return BMB_OK;
}

void bmb_board_detach(bmb_board_run *run)
{
    if (run == NULL) return;
    if (run->radio != NULL) sim_radio_destroy(run->radio, run->port);
    bmb_layer_remove(&run->layer, run->port);
    free(run);
}

/* What a fault does to the camera's driver. */
static bmb_sim_fault camera_fault(const bmb_board_run *run)
{
    return run->down                                      ? BMB_FAULT_SUPPLY
           : bmb_board_has(run, BMB_BOARD_RIBBON)         ? BMB_FAULT_UNPLUGGED
           : bmb_board_has(run, BMB_BOARD_WIRING)         ? BMB_FAULT_WIRING
           : bmb_board_has(run, BMB_BOARD_OTHER_SENSOR)   ? BMB_FAULT_OTHER
           : bmb_board_has(run, BMB_BOARD_HANGING_CAMERA) ? BMB_FAULT_STALL
                                                          : BMB_FAULT_NONE;
}

static void apply(bmb_board_run *run)
{
    size_t count = run->port->cameras.count(run->port->cameras.ctx);
    for (size_t i = 0; i < count; i++) (void)bmb_sim_break(run->sim, i, camera_fault(run));
    sim_radio_down(run->radio, !is_online(run));
}

bmb_err bmb_board_fail(bmb_board_run *run, bmb_board_fault fault, double from_s, double to_s)
{
    if (run->fault_count == FAULTS_MOST) return BMB_LIMIT;
    run->faults[run->fault_count++] =
        (failing){ .fault = fault, .from_us = (uint64_t)(from_s * 1e6), .to_us = (uint64_t)(to_s * 1e6) };
    apply(run);
    return BMB_OK;
}

/* The one sentence for each fault: what is wrong, and what to do. */
static void say_fault(bmb_board_run *run, bmb_board_fault fault)
{
    const bmb_board *b = run->board;
    const char *network = run->options.ssid != NULL ? run->options.ssid : "";
    switch (fault) {
    case BMB_BOARD_RIBBON:
        bmb_board_say(
            run, "camera: nothing answers on its I2C bus. Seat the ribbon with its contacts towards the connector's, "
                 "and close the latch");
        break;
    case BMB_BOARD_WIRING:
        bmb_board_say(
            run,
            "camera: I2C gives no sense with the wiring \"%s\". This board is wired as \"%s\" (%s): set wiring "
            "so, or not at all",
            run->options.wiring != NULL ? run->options.wiring : "of another board", b->wiring, b->pins);
        break;
    case BMB_BOARD_OTHER_SENSOR:
        bmb_board_say(run,
                      "camera: a sensor answers with the ID 0x%04X, expected is 0x%04X (%s). Plug that one in, "
                      "or choose the "
                      "board description for the other",
                      (unsigned)(b->sensor.identity ^ 0x0F0Fu), (unsigned)b->sensor.identity, b->sensor.model);
        break;
    case BMB_BOARD_WEAK_SUPPLY:
        bmb_board_say(run, "supply: it will not hold under load");
        break;
    case BMB_BOARD_NO_EXTERNAL_RAM:
        bmb_board_say(
            run,
            "RAM: the external %u KiB do not answer. Enable them in the board's firmware, or choose a smaller size: "
            "`bambino budget` tells which",
            (unsigned)(b->ram_external / 1024));
        break;
    case BMB_BOARD_NO_SSID:
        bmb_board_say(run, "network: no SSID is set, so no network is looked for. Set ssid in [network]");
        break;
    case BMB_BOARD_UNKNOWN_SSID:
        bmb_board_say(run,
                      "network \"%s\": no network of this name is in reach, there is \"%s\". Correct ssid in [network]",
                      network, b->ssid);
        break;
    case BMB_BOARD_NO_PASSPHRASE:
        bmb_board_say(run, "network \"%s\": no passphrase is set. Set passphrase in the secrets file", network);
        break;
    case BMB_BOARD_WRONG_PASSPHRASE:
        bmb_board_say(run,
                      "network \"%s\": the access point refuses the passphrase. Correct passphrase in the secrets file",
                      network);
        break;
    case BMB_BOARD_STORAGE_FULL:
        bmb_board_say(run, "storage: full. Settings and pictures cannot be kept; delete some");
        break;
    case BMB_BOARD_HANGING_CAMERA:
        bmb_board_say(
            run, "camera: it hangs, no picture comes. It is started again by itself; if that does not help, switch it "
                 "off and on");
        break;
    case BMB_BOARD_CLOCK_UNSET:
        bmb_board_say(run,
                      "clock: never set. Pictures carry no date, and times count from the start; let the board reach a "
                      "time server");
        break;
    default:
        break;
    }
}

static const char *gone_text(bmb_board_fault fault)
{
    switch (fault) {
    case BMB_BOARD_RIBBON:
    case BMB_BOARD_WIRING:
    case BMB_BOARD_OTHER_SENSOR:
    case BMB_BOARD_HANGING_CAMERA:
        return "camera: answers again";
    case BMB_BOARD_WEAK_SUPPLY:
        return "supply: steady again";
    case BMB_BOARD_NO_EXTERNAL_RAM:
        return "RAM: the external RAM answers again; it is used from the next start on";
    case BMB_BOARD_STORAGE_FULL:
        return "storage: there is room again";
    case BMB_BOARD_CLOCK_UNSET:
        return "clock: set";
    default:
        return "network: up again";
    }
}

static void say_clock(bmb_board_run *run)
{
    int64_t wall;
    char text[40];
    struct tm tm;
    if (run->port->wall_us == NULL || run->port->wall_us(run->port->ctx, &wall) != BMB_OK) {
        say_fault(run, BMB_BOARD_CLOCK_UNSET);
        return;
    }
    time_t seconds = (time_t)(wall / 1000000);
    strftime(text, sizeof text, "%Y-%m-%d %H:%M:%S", gmtime_r(&seconds, &tm));
    bmb_board_say(run, "clock: set from the network, %s UTC", text);
}

static void say_camera(bmb_board_run *run)
{
    const bmb_board *b = run->board;
    static const bmb_board_fault all[] = { BMB_BOARD_RIBBON, BMB_BOARD_WIRING, BMB_BOARD_OTHER_SENSOR };
    for (size_t i = 0; i < sizeof all / sizeof all[0]; i++) {
        if (!bmb_board_has(run, all[i])) continue;
        say_fault(run, all[i]);
        return;
    }
    bmb_board_say(run, "camera: wiring \"%s\": %s", b->wiring, b->pins);
    bmb_board_say(run, "camera: sensor %s answers, ID 0x%04X", b->sensor.model, (unsigned)b->sensor.identity);
    if (bmb_board_has(run, BMB_BOARD_HANGING_CAMERA)) say_fault(run, BMB_BOARD_HANGING_CAMERA);
}

static bool say_network(bmb_board_run *run)
{
    const bmb_board_link *l = &run->board->link;
    bmb_board_fault fault = network_fault(run);
    if (fault != BMB_BOARD_FINE) {
        say_fault(run, fault);
        return false;
    }
    if (l->radio) {
        bmb_board_say(run, "network \"%s\": joined; the link carries %u kbit/s, %u to %u ms, %u in 1000 packets lost",
                      run->options.ssid, l->kbps, l->delay_ms, l->delay_ms + l->jitter_ms, l->loss_1000);
    } else {
        bmb_board_say(run, "network: cable, %u Mbit/s", l->kbps / 1000);
    }
    return true;
}

bool bmb_board_boot(bmb_board_run *run)
{
    const bmb_board *b = run->board;
    bmb_board_say(run, "%s: %s, %s", b->name, b->title, b->processor);
    bmb_board_say(run, "start: %s", run->stopped ? "after a reset" : "power on");
    bool external = b->ram_external > 0 && !bmb_board_has(run, BMB_BOARD_NO_EXTERNAL_RAM);
    bmb_board_say(run, "RAM: %u KiB inside%s", (unsigned)(b->ram_internal / 1024),
                  b->ram_external == 0 ? ", none outside" : "");
    if (external) bmb_board_say(run, "RAM: %u KiB outside, tested", (unsigned)(b->ram_external / 1024));
    if (b->ram_external > 0 && !external) say_fault(run, BMB_BOARD_NO_EXTERNAL_RAM);
    if (b->storage > 0) bmb_board_say(run, "storage: %u KiB", (unsigned)(b->storage / 1024));
    if (bmb_board_has(run, BMB_BOARD_STORAGE_FULL)) say_fault(run, BMB_BOARD_STORAGE_FULL);
    say_camera(run);
    bool network = say_network(run);
    if (network) say_clock(run);
    for (size_t i = 0; i < run->fault_count; i++)
        run->faults[i].was = holds(&run->faults[i], now_us(run) - run->start_us);
    apply(run);
    return network;
}

/* A weak supply gives way some time after somebody began to watch; the board then starts from the beginning. */
static void load_supply(bmb_board_run *run, bool watched)
{
    uint64_t now = now_us(run);
    if (run->down && now >= run->reset_us) {
        run->down = false;
        run->stopped = true;
        (void)bmb_board_boot(run);
    }
    if (!bmb_board_has(run, BMB_BOARD_WEAK_SUPPLY) || !watched || run->down) {
        run->loaded_us = 0;
        return;
    }
    if (run->loaded_us == 0) run->loaded_us = now;
    if (now - run->loaded_us < LOAD_US) return;
    run->loaded_us = 0;
    run->down = true;
    run->reset_us = now + RESET_US;
    bmb_board_say(run,
                  "supply: fell below its least voltage under load, the board resets. Use a supply that gives more "
                  "current, and a short, thick cable");
    apply(run);
}

void bmb_board_tend(bmb_board_run *run, bool watched)
{
    uint64_t at = now_us(run) - run->start_us;
    bool changed = false;
    for (size_t i = 0; i < run->fault_count; i++) {
        failing *f = &run->faults[i];
        bool is = holds(f, at);
        if (is == f->was) continue;
        f->was = is;
        changed = true;
        if (is) {
            say_fault(run, f->fault);
        } else {
            bmb_board_say(run, "%s", gone_text(f->fault));
        }
    }
    load_supply(run, watched);
    if (changed) apply(run);
}
