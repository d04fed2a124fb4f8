/* A device on ports/poll over lwIP's sockets, on a tap interface: as firmware with an RTOS has it. Serves for so many
 * seconds, or asks the port the questions of the port check from across that network.
 *     device SECONDS | device check CLIP
 */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <time.h>

#include "bambino/bambino.h"
#include "bambino/poll.h"
#include "bambino/port_check.h"
#include "bambino/text.h"

/* The stack's side stands in a file of its own: its sockets' names are the machine's, too. */
void stack_begin(void);

static const bmb_addr own = { .family = 4, .ip = { 192, 0, 2, 2 } }, host = { .family = 4, .ip = { 192, 0, 2, 1 } };
static uint8_t clip[800000];
static size_t clip_size;
static bmb_poll net;
static bmb_port port;

static volatile sig_atomic_t stop;

static void on_signal(int number)
{
    (void)number;
    stop = 1;
}

static uint64_t now_us(void *ctx)
{
    struct timespec t;
    (void)ctx;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

static void random_bytes(void *ctx, void *out, size_t size)
{
    (void)ctx;
    if (getrandom(out, size, 0) != (ssize_t)size) abort();
}

static const bmb_poll_system of_board = { .now_us = now_us, .random = random_bytes, .wake_ms = 5 };

static bmb_port *open_port(void)
{
    if (bmb_poll_open_on(&net, &of_board, &port) != BMB_OK ||
        bmb_poll_camera(&net, "loco", clip, clip_size, 60000, 320, 240, &port.cameras) != BMB_OK)
        return NULL;
    return &port;
}

static void close_port(bmb_port *p)
{
    (void)p;
    bmb_poll_close(&net);
}

static void tell(void *ctx, const bmb_event *event)
{
    char text[300];
    (void)ctx;
    if (bmb_event_text(event, text, sizeof text) > 0) fprintf(stderr, "%s\n", text);
}

static int serve(double seconds)
{
    char refused[120];
    bmb_config config;
    bmb_budget budget;
    bmb_fault fault;
    bmb_device *device = NULL;
    bmb_err err;
    bmb_feed_config feed = { .name = "loco", .camera = "loco", .mode = { BMB_CODEC_JPEG, 320, 240, 10000 } };
    const bmb_outlet_config outlets[] = { { .kind = BMB_OUTLET_HTTP, .listen = { .family = 4, .port = 8080 } },
                                          { .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } } };
    if (open_port() == NULL) return 1;
    port.log = tell;
    bmb_config_init(&config);
    feed.frame_max = 40000;
    feed.reel_bytes = 160000;
    config.port = &port;
    config.feeds = &feed;
    config.feed_count = 1;
    config.outlets = outlets;
    config.outlet_count = 2;
    config.viewers = 8;
    err = bmb_budget_of(&config, &budget, &fault);
    void *memory = err == BMB_OK ? malloc(budget.total) : NULL;
    if (err != BMB_OK || bmb_open(&config, memory, budget.total, &device, &fault) != BMB_OK) {
        bmb_fault_text(&fault, refused, sizeof refused);
        fprintf(stderr, "%s\n", refused);
        return 1;
    }
    signal(SIGTERM, on_signal);
    puts("serves");
    fflush(stdout);
    const uint64_t end = port.now_us(port.ctx) + (uint64_t)(seconds * 1e6);
    while (stop == 0 && port.now_us(port.ctx) < end) port.wait(port.ctx, bmb_step(device));
    bmb_close(device);
    bmb_poll_refused(&net, refused, sizeof refused);
    printf("refused options: %s\n", refused);
    close_port(&port);
    free(memory);
    return 0;
}

int main(int argc, char **argv)
{
    const bool checks = argc > 2 && strcmp(argv[1], "check") == 0;
    FILE *f = argc > 2 ? fopen(argv[2], "rb") : NULL;
    if (f == NULL) return 2;
    clip_size = fread(clip, 1, sizeof clip, f);
    fclose(f);
    stack_begin();
    /* Without a loopback interface a socket cannot wake itself, which must be told at once. */
    bmb_poll_system by_socket = of_board;
    by_socket.wake_ms = 0;
    bmb_err err = bmb_poll_open_on(&net, &by_socket, &port);
    printf("a wake by a socket: %s\n", bmb_err_name(err));
    err = bmb_poll_open(&net, &port);
    printf("without a clock: %s\n", bmb_err_name(err));
    fflush(stdout);
    if (!checks) return serve(atof(argv[1]));
    bmb_host_peers_use(&host);
    const bmb_port_check check = {
        .name = "poll on lwIP's sockets", .open = open_port, .close = close_port, .peers = &bmb_host_peers, .host = own
    };
    return bmb_port_check_run(&check);
}
