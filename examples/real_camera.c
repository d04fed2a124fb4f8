/* A camera of this machine in two feeds: JPEG, and the same scene as H.264 for players.
 *
 *     example_real_camera [PORT [SECONDS [DEVICE]]]        port 8080, until stopped, the first camera that there is
 *
 * It may be plugged in later, unplugged, and plugged in again.
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/v4l2.h"

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port port;
    bmb_v4l2 *cameras;
    bmb_v4l2_state state;
    const bmb_v4l2_camera front = { .name = "front", .device = argc > 3 ? argv[3] : NULL };
    if (bmb_linux_create(&linux_port, &port) != BMB_OK ||
        bmb_v4l2_create(linux_port, &port, &front, 1, &cameras) != BMB_OK)
        return 1;
    port.cameras = bmb_v4l2_cameras(cameras);
    (void)bmb_v4l2_state_get(cameras, 0, &state);
    fprintf(stderr, "%s\n", state.there ? state.card : port.cameras.trouble(port.cameras.ctx, 0));

    bmb_feed_config feeds[] = { bmb_feed_of("front", BMB_CODEC_JPEG, 640, 480, 15000),
                                bmb_feed_of("moving", BMB_CODEC_H264, 640, 480, 15000) };
    feeds[0].storage = BMB_BORROWED; /* pictures stay in the driver's own buffers */
    feeds[1].camera = "front";
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    const bmb_config config = bmb_config_of(&port, feeds, 2, &http, 1);

    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);
    bmb_close(device);
    bmb_v4l2_destroy(cameras);
    bmb_linux_destroy(linux_port);
    return 0;
}
