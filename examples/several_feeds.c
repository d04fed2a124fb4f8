/* Several feeds, and stills: two cameras in one browser page's worth of addresses, and a picture of another size that
 * is taken while its feed streams.
 *
 *     example_several_feeds [PORT [SECONDS]]        port 8080, until stopped
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
    const bmb_sim_camera cameras[] = { { .name = "yard", .view = BMB_VIEW_YARD },
                                       { .name = "cab", .view = BMB_VIEW_CAB } };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(cameras, 2, &port, &sim, NULL) != BMB_OK)
        return 1;

    bmb_feed_config feeds[] = { bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000),
                                bmb_feed_of("cab", BMB_CODEC_JPEG, 320, 240, 10000) };
    feeds[0].title = "Sidings"; /* what people read; addresses have the name */
    feeds[1].kbps = 800;        /* kept by its JPEG quality, and by leaving frames out where that is not enough */
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    bmb_config config = bmb_config_of(&port, feeds, 2, &http, 1);
    config.viewers = 8; /* one more is answered with 503 */

    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    printf("And a larger picture, for which the stream pauses: the address of yard.jpg with yard-1280x720.jpg\n");
    fflush(stdout);
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
