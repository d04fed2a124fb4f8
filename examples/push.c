/* Pushing: a feed is sent to a listener by itself, as a transport stream in UDP datagrams or over TCP, and nobody has
 * to ask for it. A listener: ffplay udp://127.0.0.1:5000
 *
 *     example_push udp://127.0.0.1:5000 [SECONDS]        or tcp://…; until stopped
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

int main(int argc, char **argv)
{
    bmb_push_config push = { .format = BMB_FORMAT_TS };
    bmb_destination_fault fault =
        argc > 1 ? bmb_linux_destination(argv[1], &push.tcp, &push.to) : BMB_DESTINATION_SCHEME;
    if (fault != BMB_DESTINATION_FINE) {
        fprintf(stderr, "usage: %s udp://HOST:PORT|tcp://HOST:PORT [SECONDS]\n", argv[0]);
        return 2;
    }
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    const bmb_sim_camera camera = { .name = "station", .view = BMB_VIEW_STATION, .codec = BMB_CODEC_H264 };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK)
        return 1;

    const bmb_feed_config feed = bmb_feed_of("station", BMB_CODEC_H264, 640, 360, 15000);
    bmb_config config = bmb_config_of(&port, &feed, 1, NULL, 0); /* no outlet: nothing listens */
    config.pushes = &push;
    config.push_count = 1;
    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);

    bmb_push_stats stats;
    (void)bmb_push_stats_get(device, 0, &stats);
    printf("%llu frames, %llu bytes\n", (unsigned long long)stats.out.frames, (unsigned long long)stats.out.bytes);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return stats.out.frames > 0 ? 0 : 1;
}
