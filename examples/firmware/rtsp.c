/* A camera server with both: a page and MJPEG in a browser; RTSP for players, over UDP, the connection, and a group. */
#include "bambino/pages.h"
#include "mps2/board.h"

int main(void)
{
    static uint64_t memory[40 * 1024 / 8];
    mps2_start("rtsp");
    static bmb_port port; /* these are static: stack is what a board has least of */
    port = mps2_port();

    static bmb_feed_config feed;
    feed = bmb_feed_of("loco", BMB_CODEC_JPEG, 320, 240, 10000);
    feed.storage = BMB_BORROWED;
    feed.multicast.group = bmb_multicast_choose("rtsp", "loco");
    const bmb_outlet_config outlets[] = { bmb_outlet_of(BMB_OUTLET_HTTP, 80), bmb_outlet_of(BMB_OUTLET_RTSP, 554) };
    static bmb_config config;
    config = bmb_config_of(&port, &feed, 1, outlets, 2);
    config.viewers = 8;
    config.spare = 4;
    config.request_buffer = 1536;
    config.name = "Driver's cab";
    config.assets = bmb_pages;
    config.asset_count = bmb_page_count;

    bmb_device *device = bmb_bare_open(&config, memory, sizeof memory);
    bmb_bare_run(device, &port, &config);
}
