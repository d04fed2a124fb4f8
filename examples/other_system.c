/* A camera server on poll(2) and BSD sockets alone, as on a board with an RTOS, or another Unix.
 *
 *     example_other_system CLIP [PORT [SECONDS]]        a file of JPEG images one behind the other; port 8080
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/poll.h"

static uint8_t clip[2 * 1024 * 1024];
static uint64_t memory[256 * 1024 / 8];
static bmb_poll net;

int main(int argc, char **argv)
{
    bmb_port port;
    FILE *file = argc > 1 ? fopen(argv[1], "rb") : NULL;
    size_t size = file != NULL ? fread(clip, 1, sizeof clip, file) : 0;
    if (bmb_poll_open(&net, &port) != BMB_OK) return 1;
    if (bmb_poll_camera(&net, "loco", clip, size, 30000, 320, 240, &port.cameras) != BMB_OK) {
        fprintf(stderr, "Name a file of JPEG images, such as demo/loco.mjpeg\n");
        return 1;
    }

    bmb_feed_config feed = bmb_feed_of("loco", BMB_CODEC_JPEG, 320, 240, 10000);
    feed.storage = BMB_BORROWED;
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 2 ? atoi(argv[2]) : 8080));
    const bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);

    bmb_device *device;
    bmb_fault fault;
    char text[200];
    if (bmb_open(&config, memory, sizeof memory, &device, &fault) != BMB_OK) {
        bmb_fault_text(&fault, text, sizeof text);
        fprintf(stderr, "%s\n", text);
        return 1;
    }
    bmb_addr at;
    (void)bmb_outlet_addr(device, 0, &at);
    printf("http://127.0.0.1:%u/loco.mjpeg\n", at.port);
    fflush(stdout);
    uint64_t end = argc > 3 ? port.now_us(port.ctx) + (uint64_t)atoi(argv[3]) * 1000000 : UINT64_MAX;
    while (port.now_us(port.ctx) < end) {
        uint64_t next = bmb_step(device);
        port.wait(port.ctx, next < end ? next : end);
    }
    bmb_close(device);
    bmb_poll_close(&net);
    return 0;
}
