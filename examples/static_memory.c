/* Static memory: the block's size is known when the program is compiled, and what is needed of it is told before
 * anything starts. On a board the block lies in RAM that the linker placed; no heap is used.
 *
 *     example_static_memory [PORT [SECONDS]]        port 8080, until stopped
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

#define REEL (64 * 1024)
#define VIEWERS 2
#define SPARE 1
#define BUFFER 1536

/* One feed, one outlet, nothing pushed. */
static uint8_t memory[BMB_MEMORY_MOST(1, REEL, 1, 0, VIEWERS + SPARE, BUFFER)];
_Static_assert(sizeof memory <= 128 * 1024, "a module with 256 KiB has other things to do as well");

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    const bmb_sim_camera camera = { .name = "cab", .view = BMB_VIEW_CAB };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK)
        return 1;

    bmb_feed_config feed = bmb_feed_of("cab", BMB_CODEC_JPEG, 320, 240, 10000);
    feed.frame_max = REEL / 4;
    feed.reel_bytes = REEL;
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);
    config.viewers = VIEWERS;
    config.spare = SPARE;
    config.request_buffer = BUFFER;

    bmb_budget budget;
    bmb_fault fault;
    bmb_device *device;
    char why[256];
    if (bmb_budget_of(&config, &budget, &fault) != BMB_OK ||
        bmb_open(&config, memory, sizeof memory, &device, &fault) != BMB_OK) {
        bmb_fault_text(&fault, why, sizeof why);
        fprintf(stderr, "%s\n", why);
        return 1;
    }
    printf("%zu of %zu bytes: device %zu, feeds %zu, reels %zu, viewers %zu, their buffers %zu\n", budget.total,
           sizeof memory, budget.device, budget.feeds, budget.reels, budget.viewers, budget.request_buffers);
    bmb_linux_print_addresses(&config, device);
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
