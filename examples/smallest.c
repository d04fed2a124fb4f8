/* The smallest camera server: one simulated camera, served as http://ADDRESS:PORT/yard.mjpeg and yard.jpg.
 *
 *     example_smallest [PORT [SECONDS]]        port 8080, until stopped
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    const bmb_sim_camera camera = { .name = "yard", .kind = BMB_SIM_DRAWN, .view = BMB_VIEW_YARD };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK)
        return 1;

    const bmb_feed_config feed = { .name = "yard",
                                   .camera = "yard",
                                   .mode = { BMB_CODEC_JPEG, 640, 480, 15000 },
                                   .frame_max = 96 * 1024,
                                   .reel_bytes = 512 * 1024 };
    const bmb_outlet_config http = { .kind = BMB_OUTLET_HTTP,
                                     .listen = { .family = 4, .port = (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080) } };
    bmb_config config;
    bmb_config_init(&config);
    config.port = &port;
    config.feeds = &feed;
    config.feed_count = 1;
    config.outlets = &http;
    config.outlet_count = 1;

    static unsigned char memory[1024 * 1024]; /* all that the device will ever use */
    bmb_device *device;
    bmb_fault fault;
    bmb_addr bound;
    if (bmb_open(&config, memory, sizeof memory, &device, &fault) != BMB_OK) {
        char why[256];
        bmb_fault_text(&fault, why, sizeof why);
        fprintf(stderr, "%s\n", why);
        return 1;
    }
    (void)bmb_outlet_addr(device, 0, &bound);
    printf("http://127.0.0.1:%u/yard.mjpeg\nCtrl-C stops.\n", bound.port);
    fflush(stdout);

    uint64_t end = argc > 2 ? port.now_us(port.ctx) + strtoull(argv[2], NULL, 10) * 1000000 : UINT64_MAX;
    while (port.now_us(port.ctx) < end) {
        uint64_t next = bmb_step(device);
        port.wait(port.ctx, next < end ? next : end);
    }
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
