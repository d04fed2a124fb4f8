/* HTTP requests, in pieces of any size, and what they ask for. */
#include <stdlib.h>

#include "serve/http_route.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static const bmb_feed_config feeds[] = {
        { .name = "yard", .mode = { .codec = BMB_CODEC_JPEG } },
        { .name = "station", .mode = { .codec = BMB_CODEC_H264 }, .multicast = { .group = { .family = 4 } } },
    };
    static const bmb_asset page = { .path = "/", .type = "text/html", .data = "x", .size = 1 };
    const bmb_config config = { .feeds = feeds, .feed_count = 2, .assets = &page, .asset_count = 1 };
    bmb_http_parse p;
    if (size < 1) return 0;
    size_t piece = 1 + data[0];
    data++;
    size--;
    bmb_http_parse_reset(&p);
    p.serves = (piece & 1) != 0; /* requests may have bodies then */
    while (size > 0) {
        size_t n = size < piece ? size : piece, used = bmb_http_parse_feed(&p, data, n);
        static uint8_t body[40];
        if (used > n) abort();
        if (p.asks_for_room && p.error == 0) {
            bmb_http_parse_body(&p, body, sizeof body);
            data += used;
            size -= used;
            continue;
        }
        if (p.body_size > sizeof body) abort();
        if (p.complete || p.error != 0) {
            uint8_t out[1024];
            bmb_writer w = bmb_writer_of(out, sizeof out);
            const bmb_http_terms terms = { .keep_alive = p.keep_alive, .old = p.old };
            bmb_route r = bmb_http_route(&config, &p);
            if (r.kind == BMB_ROUTE_FEED && r.feed >= 2) abort();
            if (r.kind == BMB_ROUTE_ERROR) bmb_http_error(&w, r.status, &terms, &config, 0, (data[0] & 1) != 0);
            if (w.failed) abort();
            if (p.error != 0) return 0;
            bmb_http_parse_reset(&p);
            p.serves = (piece & 1) != 0;
        } else if (used < n) {
            abort(); /* it would be offered again for ever */
        }
        data += used;
        size -= used;
    }
    return 0;
}
