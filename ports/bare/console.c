/* The console, the lamp and the loop of a board without an operating system. */
#include "bambino/bare.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#include "bambino/light.h"
#include "bambino/text.h"
#include "bare/board.h"

#define CONSOLE_ROOM 2048u
#define LINE_MOST 240u
#define LAMP_US 50000u
#define MEMORY_US 5000000u /* between two looks at how deep the stack has been */

const bmb_bare_board *bmb_bare_board_now;
static char console[CONSOLE_ROOM];
static char line[LINE_MOST + 24]; /* one at a time, and not on the stack, which is what boards have least of */
static size_t console_at, console_size, lines_lost;
static bmb_light state;

static void pump(void)
{
    while (console_size > 0 && bmb_bare_board_now->put((uint8_t)console[console_at])) {
        console_at = (console_at + 1) % CONSOLE_ROOM;
        console_size--;
    }
}

static void queue(const char *text, size_t size)
{
    if (size > CONSOLE_ROOM - console_size) {
        lines_lost++;
        return;
    }
    for (size_t i = 0; i < size; i++) console[(console_at + console_size++) % CONSOLE_ROOM] = text[i];
    pump();
}

/* The time, as every line begins. */
static size_t begin_line(void)
{
    uint64_t ms = bmb_bare_board_now->now_us() / 1000;
    if (lines_lost > 0 && console_size < CONSOLE_ROOM / 2) {
        int n = snprintf(line, sizeof line, "%u lines are missing here\r\n", (unsigned)lines_lost);
        lines_lost = 0;
        queue(line, (size_t)n);
    }
    return (size_t)snprintf(line, sizeof line, "[%4u.%03u] ", (unsigned)(ms / 1000), (unsigned)(ms % 1000));
}

static void end_line(size_t size)
{
    if (size > sizeof line - 3) size = sizeof line - 3;
    memcpy(line + size, "\r\n", 3);
    queue(line, size + 2);
}

void bmb_bare_say(const char *format, ...)
{
    va_list args;
    size_t size = begin_line();
    va_start(args, format);
    size += (size_t)vsnprintf(line + size, sizeof line - size, format, args);
    va_end(args);
    end_line(size);
}

static void log_event(void *ctx, const bmb_event *event)
{
    (void)ctx;
    if (event->level > BMB_LEVEL_INFO) return;
    size_t size = begin_line();
    end_line(size + bmb_event_text(event, line + size, sizeof line - size));
}

static void show_light(void *ctx, bmb_light light)
{
    (void)ctx;
    state = light;
}

void bmb_bare_start(const bmb_bare_board *board)
{
    bmb_bare_board_now = board;
}

void bmb_bare_port(bmb_port *port)
{
    port->log = log_event;
    port->light = show_light;
}

void bmb_bare_taken(void *ctx, const uint8_t mac[6])
{
    (void)ctx;
    bmb_bare_say(
        "network: another host (%02x:%02x:%02x:%02x:%02x:%02x) has this board's address, too: viewers may reach "
        "that one. Give one of them another address",
        mac[0], mac[1], mac[2], mac[3], mac[4], mac[5]);
}

void bmb_bare_stop(const char *why)
{
    bmb_bare_say("stopped: %s; starts again", why);
    for (uint32_t patience = 0; console_size > 0 && patience < 1000000; patience++) pump();
    bmb_bare_board_now->restart();
    for (;;) continue;
}

bmb_device *bmb_bare_open(const bmb_config *config, void *memory, size_t size)
{
    bmb_device *device;
    bmb_fault fault;
    bmb_budget b;
    if (bmb_budget_of(config, &b, NULL) == BMB_OK) {
        bmb_bare_say("memory: device %u, feeds %u, reels %u, viewers %u, request buffers %u: %u of %u bytes",
                     (unsigned)b.device, (unsigned)b.feeds, (unsigned)b.reels, (unsigned)(b.viewers + b.pushes),
                     (unsigned)b.request_buffers, (unsigned)b.total, (unsigned)size);
        bmb_bare_say("memory: a viewer takes %u bytes, over RTSP %u, and a request buffer", (unsigned)b.per_viewer_http,
                     (unsigned)b.per_viewer_rtsp);
    }
    if (bmb_open(config, memory, size, &device, &fault) == BMB_OK) return device;
    size_t length = begin_line();
    end_line(length + bmb_fault_text(&fault, line + length, sizeof line - length));
    for (;;) pump();
}

static void say_address(const char *scheme, const bmb_addr *at, const char *feed, const char *suffix)
{
    char host[BMB_ADDR_TEXT_MAX];
    bmb_addr_text(at, true, host, sizeof host);
    bmb_bare_say("%s://%s/%s%s", scheme, host, feed, suffix);
}

/* Of one feed at one outlet. */
static void say_outlet(const bmb_outlet_config *o, const bmb_feed_config *feed, const bmb_addr *at)
{
    const bmb_format_info *format;
    for (size_t k = 0; o->kind == BMB_OUTLET_HTTP && (format = bmb_format_at(k)) != NULL; k++)
        if (format->suffix != NULL && (format->codecs >> feed->mode.codec & 1) != 0)
            say_address("http", at, feed->name, format->suffix);
    if (o->kind == BMB_OUTLET_RTSP) say_address("rtsp", at, feed->name, "");
    if (o->kind == BMB_OUTLET_TCP && o->feed < BMB_NO_FEED) say_address("tcp", at, "", "");
}

/* These are not inlined: their memory is not held while the device steps. */
/* Once the network has given an address, and whenever it gives another. */
__attribute__((noinline)) static void say_addresses(const bmb_config *config)
{
    static uint32_t told;
    uint32_t ip = bmb_bare_board_now->ipv4();
    if (ip == told) return;
    told = ip;
    if (ip == 0) bmb_bare_say("network: the address is gone");
    for (size_t i = 0; ip != 0 && i < config->outlet_count; i++) {
        const bmb_outlet_config *o = &config->outlets[i];
        const bmb_addr at = { .family = 4,
                              .ip = { (uint8_t)(ip >> 24), (uint8_t)(ip >> 16), (uint8_t)(ip >> 8), (uint8_t)ip },
                              .port = o->listen.port };
        if (o->kind == BMB_OUTLET_HTTP && config->asset_count > 0) say_address("http", &at, "", "");
        for (size_t k = 0; k < config->feed_count; k++) say_outlet(o, &config->feeds[k], &at);
    }
}

__attribute__((noinline)) static void say_memory(const bmb_device *device)
{
    static uint64_t next_us;
    static uint32_t stack_told;
    uint64_t now = bmb_bare_board_now->now_us();
    if (now < next_us || bmb_bare_board_now->stack_most == NULL) return;
    next_us = now + MEMORY_US;
    uint32_t stack = bmb_bare_board_now->stack_most();
    if (stack <= stack_told) return;
    stack_told = stack;
    bmb_device_stats stats;
    bmb_device_stats_get(device, &stats);
    bmb_bare_say("memory: %u bytes of stack at most, %u for the device; heap: asked for %u times", (unsigned)stack,
                 (unsigned)stats.memory, bmb_bare_board_now->heap_asked != NULL ? *bmb_bare_board_now->heap_asked : 0);
}

__attribute__((noinline)) static void show_lamp(const bmb_device *device, uint64_t now)
{
    bmb_feed_stats stats;
    if (bmb_bare_board_now->lamp == NULL) return;
    (void)bmb_feed_stats_get(device, 0, &stats);
    bmb_bare_board_now->lamp(bmb_light_lit(BMB_LIGHT_STATES, state, now, stats.frames));
}

void bmb_bare_step(bmb_device *device, const bmb_port *port, const bmb_config *config)
{
    if (bmb_bare_board_now->feed != NULL) bmb_bare_board_now->feed();
    uint64_t next = bmb_step(device), now = port->now_us(port->ctx);
    say_addresses(config);
    say_memory(device);
    show_lamp(device, now);
    pump();
    port->wait(port->ctx, next < now + LAMP_US ? next : now + LAMP_US);
}

void bmb_bare_run(bmb_device *device, const bmb_port *port, const bmb_config *config)
{
    for (;;) bmb_bare_step(device, port, config);
}
