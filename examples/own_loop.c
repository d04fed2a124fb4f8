/* The device inside a loop of one's own: beside the camera the program waits for lines on its standard input, with one
 * poll(2) for both. "?" tells who is watching; the end of the input ends it.
 *
 *     example_own_loop [PORT]        port 8080
 */
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

/* For how long poll may wait: in ms, rounded up; -1: without an end. */
static int wait_ms(const bmb_port *port, uint64_t next_us)
{
    uint64_t now = port->now_us(port->ctx);
    if (next_us == UINT64_MAX) return -1;
    return next_us > now ? (int)((next_us - now + 999) / 1000 % 60000) : 0;
}

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    const bmb_sim_camera camera = { .name = "yard", .view = BMB_VIEW_YARD };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK)
        return 1;
    const bmb_feed_config feed = bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000);
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    const bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);
    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);

    struct pollfd waited[] = { { .fd = bmb_linux_fd(linux_port), .events = POLLIN },
                               { .fd = STDIN_FILENO, .events = POLLIN } };
    char line[64] = "?";
    for (ssize_t size = 1; size > 0;) {
        uint64_t next = bmb_step(device); /* does what is due, and says when it wants to be called again */
        if (poll(waited, 2, wait_ms(&port, next)) < 0) break;
        if (waited[1].revents == 0) continue;
        size = read(STDIN_FILENO, line, sizeof line);
        bmb_feed_stats stats;
        (void)bmb_feed_stats_get(device, 0, &stats);
        if (size > 0 && line[0] == '?')
            printf("%u watching, %llu frames sent\n", stats.viewers, (unsigned long long)stats.sent);
        fflush(stdout);
    }
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
