/* Controls and events: a camera is turned over and dimmed while it streams; what happens is printed in one's own words.
 *
 *     example_controls [PORT [SECONDS]]        port 8080; for 6 seconds
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

/* Instead of the port's own log. It must not block: a terminal is good enough for an example. */
static void on_event(void *ctx, const bmb_event *event)
{
    char text[320];
    (void)ctx;
    if (event->code == BMB_EVENT_VIEWER_CAME) printf("%lld watching\n", (long long)event->value);
    bmb_event_text(event, text, sizeof text);
    printf("event: %s\n", text);
    fflush(stdout);
}

static void turn(bmb_device *device, bmb_control control, int32_t value)
{
    int32_t effective = 0;
    bmb_err err = bmb_control_set(device, 0, control, value, &effective);
    printf("%s: %d asked, %d in force, %s\n", bmb_control_name(control), (int)value, (int)effective, bmb_err_name(err));
    fflush(stdout);
}

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    const bmb_sim_camera camera = { .name = "yard", .view = BMB_VIEW_YARD };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK)
        return 1;
    port.log = on_event;

    const bmb_setting from_the_start = { BMB_CONTROL_QUALITY, 60 };
    bmb_feed_config feed = bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000);
    feed.settings = &from_the_start;
    feed.setting_count = 1;
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    const bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);

    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    uint32_t seconds = argc > 2 ? (uint32_t)atoi(argv[2]) : 6;
    bmb_linux_serve(device, &port, seconds / 3 + 1);
    turn(device, BMB_CONTROL_FLIP_V, 1);
    bmb_linux_serve(device, &port, seconds / 3 + 1);
    turn(device, BMB_CONTROL_BRIGHTNESS, -40);
    turn(device, BMB_CONTROL_BRIGHTNESS, 4000); /* outside its range: refused, and the old one stays */
    bmb_linux_serve(device, &port, seconds / 3 + 1);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
