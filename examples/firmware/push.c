/* A board that sends its pictures to a receiver by itself, over UDP: no viewer has to know where it is. The receiver's
 * address is kept in the board's storage under "receiver", as text; until somebody puts it there it is the first host
 * of the network that is emulated. */
#include <string.h>

#include "mps2/board.h"

/* "192.0.2.7:5004" */
static bool read_address(const char *text, bmb_addr *out)
{
    unsigned part = 0, value = 0;
    *out = (bmb_addr){ .family = 4 };
    for (; *text != '\0' && *text != ':'; text++) {
        if (*text == '.' && part < 3) {
            out->ip[part++] = (uint8_t)value;
            value = 0;
        } else if (*text >= '0' && *text <= '9' && value < 256) {
            value = value * 10 + (unsigned)(*text - '0');
        } else {
            return false;
        }
    }
    out->ip[3] = (uint8_t)value;
    if (part != 3 || value > 255 || *text++ != ':') return false;
    for (value = 0; *text >= '0' && *text <= '9' && value < 65536; text++) value = value * 10 + (unsigned)(*text - '0');
    out->port = (uint16_t)value;
    return *text == '\0' && value > 0 && value < 65536;
}

int main(void)
{
    static uint64_t memory[12 * 1024 / 8];
    static char receiver[32] = "10.0.2.2:5004", sdp[512];
    size_t size = 0;
    bmb_addr to;
    mps2_start("push");
    static bmb_port port; /* these are static: stack is what a board has least of */
    port = mps2_port();
    if (port.storage.load(port.storage.ctx, "receiver", receiver, sizeof receiver - 1, &size) == BMB_OK)
        receiver[size] = '\0';
    if (!read_address(receiver, &to)) bmb_bare_stop("the receiver's address is not like 192.0.2.7:5004");
    bmb_bare_say("sends to %s", receiver);

    static bmb_feed_config feed;
    feed = bmb_feed_of("loco", BMB_CODEC_JPEG, 320, 240, 10000);
    feed.storage = BMB_BORROWED;
    static bmb_push_config push;
    push = (bmb_push_config){ .feed = 0, .format = BMB_FORMAT_RTP, .to = to };
    static bmb_config config;
    config = bmb_config_of(&port, &feed, 1, NULL, 0);
    config.pushes = &push;
    config.push_count = 1;
    config.viewers = config.spare = 1;
    config.request_buffer = 1536;
    config.name = "Driver's cab";

    bmb_device *device = bmb_bare_open(&config, memory, sizeof memory);
    while (bmb_push_describe(device, 0, sdp, sizeof sdp - 1, &size) == BMB_AGAIN) bmb_bare_step(device, &port, &config);
    sdp[size] = '\0';
    for (char *line = sdp, *end; (end = strchr(line, '\r')) != NULL; line = end + 2) { /* what the receiver is given */
        *end = '\0';
        bmb_bare_say("sdp: %s", line);
    }
    bmb_bare_run(device, &port, &config);
}
