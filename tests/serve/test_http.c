#include "support/check.h"

#include "serve/http_route.h"
#include "serve/status.h"

static bmb_http_parse parsed(const char *text, size_t size, size_t *used)
{
    bmb_http_parse p;
    bmb_http_parse_reset(&p);
    *used = bmb_http_parse_feed(&p, (const uint8_t *)text, size);
    return p;
}

static const char whole[] = "GET /yard.mjpeg?t=1 HTTP/1.1\r\nHost: 192.0.2.1\r\nAccept: */*\r\n\r\nGET";

static void a_request_ends_where_it_ends(void **state)
{
    (void)state;
    size_t used;
    bmb_http_parse p = parsed(whole, sizeof whole - 1, &used);
    assert_true(p.complete);
    assert_int_equal(used, sizeof whole - 1 - 3);
    assert_int_equal(p.method, BMB_HTTP_GET);
    assert_true(bmb_path_is(&p.path, "/yard.mjpeg"));
    assert_true(p.keep_alive);
}

static void a_request_may_be_cut_at_every_byte(void **state)
{
    (void)state;
    for (size_t cut = 1; cut < sizeof whole - 4; cut++) {
        bmb_http_parse p;
        bmb_http_parse_reset(&p);
        assert_int_equal(bmb_http_parse_feed(&p, (const uint8_t *)whole, cut), cut);
        assert_false(p.complete);
        assert_true(p.begun);
        bmb_http_parse_feed(&p, (const uint8_t *)whole + cut, sizeof whole - 1 - cut);
        assert_true(p.complete);
        assert_true(p.host);
        assert_int_equal(p.error, 0);
        assert_true(bmb_path_is(&p.path, "/yard.mjpeg"));
    }
}

typedef struct wrong {
    const char *text;
    uint16_t status;
} wrong;

static void wrong_requests_have_their_status(void **state)
{
    (void)state;
    const bmb_feed_config feed = { .name = "yard", .mode = { .codec = BMB_CODEC_JPEG } };
    const bmb_config config = { .feeds = &feed, .feed_count = 1 };
    const wrong rows[] = {
        { "\x01\x02\x03\x04 rubbish\r\n\r\n", 400 },
        { "GET / HTTP/1.1\r\n\r\n", 400 }, /* no Host */
        /* What two readers would take for two different requests (RFC 9112 2.2, 5.1, 5.2). */
        { "GET / HTTP/1.1\nHost: a\n\n", 400 },
        { "GET / HTTP/1.1\r\nHost: a\n\r\n", 400 },
        { "GET / HTTP/1.1\r\nHost: a\r\n\n", 400 },
        { "GET / HTTP/1.1\r\nHost: a\rX: b\r\n\r\n", 400 },
        { "GET / HTTP/1.1\r\nHost: a\r\nX: b\r\n c\r\n\r\n", 400 },
        { "GET / HTTP/1.1\r\nHost: a\r\n\tX: b\r\n\r\n", 400 },
        { "GET / HTTP/1.1\r\n Host: a\r\n\r\n", 400 },
        { "GET / HTTP/1.1\r\nHost : a\r\n\r\n", 400 },
        { "GET / HTTP/1.1\r\nHost: a\r\nX\t: b\r\n\r\n", 400 },
        { "GET / HTTP/2.7\r\nHost: a\r\n\r\n", 505 },
        { "GET /nothing HTTP/1.1\r\nHost: a\r\n\r\n", 404 },
        { "GET /other.jpg HTTP/1.1\r\nHost: a\r\n\r\n", 404 },
        { "GET /yard.sdp HTTP/1.1\r\nHost: a\r\n\r\n", 404 }, /* no multicast group */
        { "GET /.jpg HTTP/1.1\r\nHost: a\r\n\r\n", 404 },
        { "GET /a-name-that-is-far-longer-than-any-feed-may-have.jpg HTTP/1.1\r\nHost: a\r\n\r\n", 404 },
        { "DELETE /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n", 405 },
        { "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\n", 413 },
        { "GET / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n", 413 },
        { "GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 99999999999999999999999\r\n\r\n", 400 },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        size_t used;
        bmb_http_parse p = parsed(rows[i].text, strlen(rows[i].text), &used);
        bmb_route r = bmb_http_route(&config, &p);
        assert_int_equal(r.kind, BMB_ROUTE_ERROR);
        if (r.status != rows[i].status) fail_msg("%s gave %u", rows[i].text, r.status);
    }
}

static void long_requests_are_bounded(void **state)
{
    (void)state;
    char *text = malloc(200000);
    size_t used, n = (size_t)sprintf(text, "GET /");
    memset(text + n, 'a', 5000);
    bmb_http_parse p = parsed(text, n + 5000, &used);
    assert_int_equal(p.error, 414);

    n = (size_t)sprintf(text, "GET / HTTP/1.1\r\nHost: a\r\nX: ");
    memset(text + n, 'a', 100000);
    bmb_http_parse_reset(&p);
    size_t fed = 0;
    while (p.error == 0 && fed < n + 100000) fed += bmb_http_parse_feed(&p, (const uint8_t *)text + fed, 1000);
    assert_int_equal(p.error, 431);
    assert_true(fed <= BMB_HTTP_HEADER_MAX + 1000);
    free(text);
}

static void feeds_and_pages_are_found(void **state)
{
    (void)state;
    const bmb_feed_config feeds[] = { { .name = "yard", .mode = { .codec = BMB_CODEC_JPEG } },
                                      { .name = "station", .mode = { .codec = BMB_CODEC_H264 } } };
    const bmb_asset page = { .path = "/", .type = "text/html", .data = "x", .size = 1 };
    const bmb_config config = { .feeds = feeds, .feed_count = 2, .assets = &page, .asset_count = 1 };
    size_t used;
    bmb_http_parse p = parsed("GET /yard.jpg HTTP/1.0\r\n\r\n", 26, &used);
    bmb_route r = bmb_http_route(&config, &p);
    assert_int_equal(r.kind, BMB_ROUTE_FEED);
    assert_true(r.format->info.picture);
    assert_false(p.keep_alive);
    assert_true(p.old);
    p = parsed("HEAD / HTTP/1.0\r\n\r\n", 19, &used);
    r = bmb_http_route(&config, &p);
    assert_ptr_equal(r.asset, &page);
    assert_int_equal(p.method, BMB_HTTP_HEAD);
    p = parsed("GET /station.jpg HTTP/1.0\r\n\r\n", 29, &used); /* of another stream of its camera, if it has one */
    r = bmb_http_route(&config, &p);
    assert_int_equal(r.kind, BMB_ROUTE_STILL);
    assert_int_equal(r.feed, 1);
    assert_int_equal(r.width, 0);
    p = parsed("GET /station.mjpeg HTTP/1.0\r\n\r\n", 31, &used);
    assert_int_equal(bmb_http_route(&config, &p).status, 404);
}

static void errors_say_how_long_they_are(void **state)
{
    (void)state;
    char out[600];
    bmb_writer w = bmb_writer_of(out, sizeof out - 1);
    const bmb_http_terms terms = { 0 };
    bmb_http_error(&w, 503, &terms, NULL, 0, false);
    out[bmb_written(&w)] = '\0';
    assert_string_equal(out, "HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\n"
                             "Content-Length: 24\r\nCache-Control: no-store\r\nRetry-After: 5\r\n"
                             "X-Content-Type-Options: nosniff\r\nCross-Origin-Resource-Policy: same-origin\r\n"
                             "Connection: close\r\n\r\n503 Service Unavailable\n");
}

static void the_largest_status_objects_fit(void **state)
{
    (void)state;
    uint8_t memory[BMB_STATUS_MEMORY];
    char out[1024 - 32 - 12]; /* the least request buffer's share for answers, less a chunk's frame */
    bmb_feed_stats feed;
    memset(&feed, 0xFF, sizeof feed);
    char name[] = "a-name-of-23-characters", title[64];
    memset(title, 'W', 63);
    title[63] = '\0';
    feed.name = feed.camera = feed.preview = name;
    feed.title = title;
    feed.codec = BMB_CODEC_H264;
    feed.snapshot = true;
    feed.camera_state = BMB_CAMERA_STARTING;
    feed.camera_err = BMB_UNSUPPORTED;
    /* Four years at 30/s, with all bounds reached. */
    feed.sent = feed.skipped = 999999999999;
    feed.bytes_sent = 999999999999999;
    feed.frames = feed.dropped = feed.dropped_for_rate = feed.bad = feed.too_large = feed.newest_ms = 4000000000;
    feed.width = feed.height = 8192;
    feed.asked = (bmb_mode){ BMB_CODEC_H264, 8191, 8191, 238999 };
    feed.mfps_set = feed.mfps = 239999;
    feed.kbps = feed.kbps_set = feed.follows_kbps = feed.held_by.is = feed.held_by.of = 10000000;
    feed.reel_frames = feed.reel_pinned = 64;
    assert_true(bmb_status_feed(&feed, memory, sizeof memory, out, sizeof out) > 900);
    assert_null(strstr(out, "camera_dropped")); /* there is no room for the last ones, and the rest is whole */
    assert_non_null(strstr(out, "\"follows_kbps\":10000000}"));
    feed.title = "W";
    assert_true(bmb_status_feed(&feed, memory, sizeof memory, out, sizeof out) > 900);
    assert_non_null(strstr(out, "\"camera_dropped\":4294967295,\"repaired\":4294967295}"));
    feed.title = title;
    assert_int_equal(bmb_status_feed(&feed, memory, 600, out, sizeof out), 0);
    assert_int_equal(bmb_status_feed(&feed, memory, sizeof memory, out, 100), 0);

    bmb_viewer_stats viewer;
    memset(&viewer, 0xFF, sizeof viewer);
    viewer.transport = BMB_VIA_RTP_MULTICAST;
    viewer.peer.family = 6;
    viewer.sent = viewer.skipped = viewer.bytes = 999999999999999;
    viewer.waiting = viewer.reports = true;
    assert_true(bmb_status_viewer(name, name, &viewer, true, memory, sizeof memory, out, sizeof out) > 200);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_request_ends_where_it_ends),     cmocka_unit_test(a_request_may_be_cut_at_every_byte),
        cmocka_unit_test(wrong_requests_have_their_status), cmocka_unit_test(long_requests_are_bounded),
        cmocka_unit_test(feeds_and_pages_are_found),        cmocka_unit_test(errors_say_how_long_they_are),
        cmocka_unit_test(the_largest_status_objects_fit),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
