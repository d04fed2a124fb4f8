/* The smallest camera server: one simulated camera in a browser.
 *
 *     example_smallest [PORT [SECONDS]]        port 8080, until stopped
 */
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

    const bmb_feed_config feed = bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000);
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    const bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);

    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
