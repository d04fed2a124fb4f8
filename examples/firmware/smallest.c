/* The smallest camera server of a board: MJPEG, stills and the status, over HTTP. */
#include "mps2/board.h"

int main(void)
{
    static uint64_t memory[20 * 1024 / 8];
    mps2_start("smallest");
    static bmb_port port; /* these are static: stack is what a board has least of */
    port = mps2_port();

    static bmb_feed_config feed;
    feed = bmb_feed_of("loco", BMB_CODEC_JPEG, 320, 240, 10000);
    feed.storage = BMB_BORROWED; /* frames stay in the sensor's buffers */
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, 80);
    static bmb_config config;
    config = bmb_config_of(&port, &feed, 1, &http, 1);
    config.viewers = 4;
    config.spare = 2;
    config.request_buffer = 1536;
    config.name = "Driver's cab";

    bmb_device *device = bmb_bare_open(&config, memory, sizeof memory);
    bmb_bare_run(device, &port, &config);
}
