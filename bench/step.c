/* What a step costs beside connections that are idle: with four thousand of them as much as with four. The network is a
 * table of numbers, so that nothing but the core is measured. */
#include <stdlib.h>
#include <time.h>

#include "rig.h"

#define TURNS 100
#define STEPS 2000

typedef struct quiet {
    uint64_t now;
    bmb_sock next;
    unsigned left; /* connections that wait to be accepted */
} quiet;

static uint64_t now_us(void *ctx)
{
    return ((quiet *)ctx)->now;
}

static void draw(void *ctx, void *out, size_t size)
{
    (void)ctx;
    for (size_t i = 0; i < size; i++) ((uint8_t *)out)[i] = (uint8_t)i;
}

static bmb_err listening(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    *bound = *addr;
    *out = ((quiet *)ctx)->next++;
    return BMB_OK;
}

static bmb_err accepting(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    quiet *q = ctx;
    (void)listener;
    if (q->left == 0) return BMB_AGAIN;
    q->left--;
    *out = q->next++;
    *peer = (bmb_addr){ .family = 4, .ip = { 192, 0, 2, 1 } };
    return BMB_OK;
}

static bmb_err sending(void *ctx, bmb_sock s, const bmb_slice *slices, size_t count, size_t *taken)
{
    (void)ctx;
    (void)s;
    for (size_t i = 0; i < count; i++) *taken += slices[i].size;
    return BMB_OK;
}

static bmb_err receiving(void *ctx, bmb_sock s, void *out, size_t room, size_t *got)
{
    (void)ctx;
    (void)s;
    (void)out;
    (void)room;
    (void)got;
    return BMB_AGAIN;
}

static bmb_err watching(void *ctx, bmb_sock s, uint32_t events, uint32_t token)
{
    (void)ctx;
    (void)s;
    (void)events;
    (void)token;
    return BMB_OK;
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    (void)room;
    out[0] = (bmb_ready){ .token = 0, .events = BMB_READABLE };
    return ((quiet *)ctx)->left > 0 ? 1 : 0;
}

static void closing(void *ctx, bmb_sock s)
{
    (void)ctx;
    (void)s;
}

/* A device with so many idle connections; without a camera that has anything. */
static bmb_device *open_with(quiet *q, bmb_port *port, script *camera, unsigned connections)
{
    static bmb_feed_config feeds[2];
    static bmb_outlet_config outlet;
    static bmb_config configs[2];
    static unsigned opened;
    bmb_config *c = &configs[opened];
    bmb_budget budget;
    bmb_device *d = NULL;
    *port = (bmb_port){ .ctx = q, .now_us = now_us, .random = draw };
    port->net = (bmb_net){ .listen = listening,
                           .accept = accepting,
                           .send = sending,
                           .recv = receiving,
                           .watch = watching,
                           .ready = ready,
                           .close = closing };
    rig_script(camera, &port->cameras);
    feeds[opened] = (bmb_feed_config){ .name = "yard",
                                       .camera = "script",
                                       .mode = { BMB_CODEC_JPEG, 640, 480, 30000 },
                                       .frame_max = 4096,
                                       .reel_bytes = 16384 };
    outlet = (bmb_outlet_config){ .kind = BMB_OUTLET_HTTP, .listen = { .family = 4, .port = 80 } };
    bmb_config_init(c);
    c->port = port;
    c->feeds = &feeds[opened++];
    c->feed_count = 1;
    c->outlets = &outlet;
    c->outlet_count = 1;
    c->viewers = 4000;
    c->idle_ms = 600000;
    if (bmb_budget_of(c, &budget, NULL) != BMB_OK ||
        bmb_open(c, malloc(budget.total), budget.total, &d, NULL) != BMB_OK)
        abort();
    q->left = connections;
    while (q->left > 0) bmb_step(d);
    return d;
}

static double cost(quiet *q, bmb_device *d)
{
    struct timespec from, to;
    clock_gettime(CLOCK_MONOTONIC, &from);
    for (unsigned i = 0; i < STEPS; i++) {
        q->now += 1000;
        bmb_step(d);
    }
    clock_gettime(CLOCK_MONOTONIC, &to);
    return ((double)(to.tv_sec - from.tv_sec) * 1e9 + (double)(to.tv_nsec - from.tv_nsec)) / STEPS;
}

void bench_step(void)
{
    static quiet many, few;
    static bmb_port ports[2];
    static script cameras[2];
    double ours[TURNS], floor[TURNS];
    many.now = few.now = 1000000;
    bmb_device *with_many = open_with(&many, &ports[0], &cameras[0], 4000);
    bmb_device *with_few = open_with(&few, &ports[1], &cameras[1], 4);
    for (unsigned i = 0; i < TURNS; i++) {
        ours[i] = cost(&many, with_many);
        floor[i] = cost(&few, with_few);
    }
    result_of_turns("a step beside 4000 idle connections, to beside four", "ns", ours, floor, TURNS, 1.1);
    free(with_many); /* at the beginning of their blocks, which are aligned */
    free(with_few);
}
