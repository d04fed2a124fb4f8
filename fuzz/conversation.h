/* Feeds a device on the port in memory with what one peer may say: the input's first byte picks how large the pieces
 * are that it arrives in, and how much the peer reads between them. */
#ifndef BMB_FUZZ_CONVERSATION_H
#define BMB_FUZZ_CONVERSATION_H

#include <stdlib.h>

#include "support/fake_port.h"

static inline void converse(size_t listener, bmb_codec codec, const uint8_t *frame, size_t frame_size,
                            const uint8_t *data, size_t size)
{
    fake_device t;
    if (size < 1 || size > 8000) return;
    fake_device_prepare(&t, codec);
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.outlets[2] = (bmb_outlet_config){ .kind = BMB_OUTLET_TCP,
                                        .listen = { .family = 4, .port = 8600 },
                                        .format = BMB_FORMAT_FRAMED,
                                        .feed = BMB_NO_FEED,
                                        .controls = true };
    t.config.outlet_count = 3;
    fake_device_open(&t);
    size_t piece = 1 + (data[0] & 63u) * 16, room = (data[0] >> 6) * 700 + 50;
    data++;
    size--;
    bmb_sock s = fake_connect(t.f, listener);
    fake_settle(t.f, t.device);
    while (size > 0 && t.f->socks[s].open) {
        size_t n = size < piece ? size : piece;
        fake_say(t.f, s, data, n);
        data += n;
        size -= n;
        fake_frame(t.f, 0, frame, frame_size, true);
        t.f->socks[s].room = room;
        t.f->datagram_count = 0;
        t.f->now += 20000;
        fake_settle(t.f, t.device);
        fake_take(t.f, s, NULL);
    }
    if (t.f->socks[s].open) fake_hang_up(t.f, s);
    for (int i = 0; i < 4; i++) {
        t.f->now += 600000;
        fake_settle(t.f, t.device);
    }
    bmb_device_stats stats;
    bmb_device_stats_get(t.device, &stats);
    if (stats.connections != 0) abort(); /* nothing of a peer stays */
    fake_device_close(&t);
}

#endif
