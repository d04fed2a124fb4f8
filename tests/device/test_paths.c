/* Behind a path that is narrower than the stream: a picture begins when those before it have nearly arrived, and is the
 * newest one then. */
#include "support/check.h"
#include "support/fake_port.h"

static uint8_t jpeg[20000];
static size_t jpeg_size;
static fake_device t;

static int open_yard(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.outlet_count = 2;
    t.config.stall_ms = 3000;
    fake_device_open(&t);
    return 0;
}

static int close_yard(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void pictures(unsigned count)
{
    for (unsigned i = 0; i < count; i++) {
        fake_frame(t.f, 0, jpeg, jpeg_size, true);
        fake_run(t.f, t.device, 40000);
    }
}

/* How many began since it was last asked; *last: the number of the newest. */
static unsigned arrived(bmb_sock s, unsigned *last)
{
    size_t size;
    unsigned count = 0;
    const char *text = fake_take(t.f, s, &size);
    for (const char *at = text; (at = memmem(at, size - (size_t)(at - text), "Frame-Number: ", 14)) != NULL; count++) {
        *last = (unsigned)atoi(at + 14);
        at += 14;
    }
    return count;
}

/* A viewer whose connection was full once. */
static bmb_sock slow_viewer(void)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    pictures(2);
    t.f->socks[s].room = 3000;
    pictures(1);
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
    (void)fake_take(t.f, s, NULL);
    return s;
}

static void nothing_begins_before_the_path_is_free(void **state)
{
    (void)state;
    unsigned last = 0, before = 0;
    bmb_sock s = slow_viewer();
    t.f->socks[s].path = (bmb_net_path){ .waiting = 9000, .kbps = 3000, .round_trip_us = 1000 };
    pictures(1);
    (void)arrived(s, &before);
    pictures(5);
    assert_int_equal(arrived(s, &last), 0);
    t.f->socks[s].path.waiting = 2000; /* what is under way for 5 ms */
    fake_run(t.f, t.device, 21000);    /* nobody tells: it is looked at */
    assert_int_equal(arrived(s, &last), 1);
    bmb_feed_stats feed;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &feed), BMB_OK);
    assert_int_equal(last, feed.frames); /* the newest one */
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_in_range(v.blocked_ms, 200, 320);
    assert_in_range(v.age_ms, 0, 60);
}

static void what_the_way_itself_holds_is_no_queue(void **state)
{
    (void)state;
    unsigned last;
    bmb_sock s = slow_viewer();
    /* 20 Mbit/s over 100 ms are 250 KB. */
    t.f->socks[s].path = (bmb_net_path){ .waiting = 240000, .kbps = 20000, .round_trip_us = 100000 };
    pictures(5);
    assert_int_equal(arrived(s, &last), 5);
    t.f->socks[s].path.waiting = 270000;
    pictures(5);
    assert_int_equal(arrived(s, &last), 0);
}

static void a_path_that_never_frees_ends_in_a_stall(void **state)
{
    (void)state;
    bmb_sock s = slow_viewer();
    t.f->socks[s].path = (bmb_net_path){ .waiting = 9000 };
    pictures(60);
    assert_false(t.f->socks[s].gone);
    pictures(20);
    assert_true(t.f->socks[s].gone);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_STALLED), 1);
}

static void a_wide_path_is_not_looked_at(void **state)
{
    (void)state;
    unsigned last;
    bmb_sock s = slow_viewer();
    pictures(70); /* all of them found room */
    (void)arrived(s, &last);
    t.f->socks[s].path = (bmb_net_path){ .waiting = 900000, .kbps = 1 };
    pictures(3);
    assert_int_equal(arrived(s, &last), 3);
}

static void interleaved_pictures_wait_likewise(void **state)
{
    (void)state;
    static const char set_up[] = "SETUP rtsp://a/yard/video RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;unicast;"
                                 "interleaved=0-1\r\n\r\n";
    char play[200];
    bmb_sock s = fake_connect(t.f, 1);
    size_t size;
    fake_say_text(t.f, s, set_up);
    fake_settle(t.f, t.device);
    const char *session = strstr(fake_take(t.f, s, NULL), "Session: ");
    assert_non_null(session);
    snprintf(play, sizeof play, "PLAY rtsp://a/yard RTSP/1.0\r\nCSeq: 2\r\n%.*s\r\n\r\n", (int)strcspn(session, ";\r"),
             session);
    fake_say_text(t.f, s, play);
    pictures(2);
    t.f->socks[s].room = 3000;
    pictures(1);
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
    t.f->socks[s].path = (bmb_net_path){ .waiting = 9000, .kbps = 3000 };
    pictures(1);
    (void)fake_take(t.f, s, NULL);
    pictures(5);
    (void)fake_take(t.f, s, &size);
    assert_in_range(size, 0, 200); /* a report at most */
    t.f->socks[s].path.waiting = 1;
    fake_run(t.f, t.device, 21000);
    (void)fake_take(t.f, s, &size);
    assert_in_range(size, 7000, 12000);
    t.f->socks[s].path.waiting = 9000;
    pictures(90);
    assert_true(t.f->socks[s].gone); /* the same stall */
}

/* Over UDP: a receiver that says how much of 256 packets was lost; returns the bytes that went out in a second. */
static const bmb_addr rtcp = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 5001 };

static uint8_t ssrc[4];

static size_t second_with(uint8_t lost)
{
    uint8_t rr[32] = { 0x81, 201, 0, 7, 0, 0, 0, 5 };
    size_t bytes = 0;
    memcpy(rr + 8, ssrc, sizeof ssrc);
    t.f->datagram_count = 0;
    rr[12] = lost;
    fake_datagram_in(t.f, t.f->next_bound, &rtcp, rr, sizeof rr);
    fake_settle(t.f, t.device);
    pictures(25);
    for (size_t i = 0; i < t.f->datagram_count; i++) bytes += t.f->datagrams[i].size;
    return bytes;
}

static void play_by_udp(void)
{
    static const char set_up[] = "SETUP rtsp://a/yard/video RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP;unicast;"
                                 "client_port=5000-5001\r\n\r\n";
    char play[200];
    bmb_sock s = fake_connect(t.f, 1);
    fake_say_text(t.f, s, set_up);
    fake_settle(t.f, t.device);
    const char *session = strstr(fake_take(t.f, s, NULL), "Session: ");
    snprintf(play, sizeof play, "PLAY rtsp://a/yard RTSP/1.0\r\nCSeq: 2\r\n%.*s\r\n\r\n", (int)strcspn(session, ";\r"),
             session);
    fake_say_text(t.f, s, play);
    pictures(1);
    memcpy(ssrc, t.f->datagrams[0].data + 8, sizeof ssrc);
    for (unsigned i = 0; i < 3; i++) {
        t.f->datagram_count = 0;
        pictures(25);
    }
}

static void pictures_are_left_out_for_a_receiver_that_loses_them(void **state)
{
    (void)state;
    play_by_udp();
    size_t full = second_with(0), cut = second_with(128), more;
    assert_true(full > 180000);
    assert_in_range(cut, full * 35 / 100, full * 50 / 100); /* what arrived, and a tenth less */
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_int_equal(v.held_by.cause, BMB_CAUSE_LOSS);
    assert_int_equal(v.held_by.is, 128);
    more = second_with(0);
    for (unsigned i = 0; i < 8; i++) more = second_with(0);
    assert_in_range(more, cut * 11 / 10, full); /* and slowly up again */
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_true(v.skipped > 50);
    assert_int_equal(v.held_by.cause, BMB_CAUSE_LINK); /* which is narrow, as its reports have shown */
    for (unsigned i = 0; i < 30; i++) more = second_with(0);
    assert_in_range(more, full * 9 / 10, full * 11 / 10);
}

static void reports_by_the_dozen_count_once(void **state)
{
    (void)state;
    uint8_t rr[32] = { 0x81, 201, 0, 7, 0, 0, 0, 5, 0, 0, 0, 0, 128 };
    play_by_udp();
    size_t full = second_with(0);
    (void)second_with(128);
    memcpy(rr + 8, ssrc, sizeof ssrc);
    for (unsigned i = 0; i < 12; i++) {
        fake_datagram_in(t.f, t.f->next_bound, &rtcp, rr, sizeof rr);
        fake_run(t.f, t.device, 20000);
    }
    assert_in_range(second_with(0), full * 18 / 100, full * 35 / 100); /* two cuts, not thirteen */
}

static void loss_that_does_not_go_is_not_for_want_of_room(void **state)
{
    (void)state;
    size_t full, now = 0, least = SIZE_MAX;
    play_by_udp();
    full = second_with(0);
    for (unsigned i = 0; i < 8; i++) {
        now = second_with(20); /* 8 per cent, whatever is sent */
        if (now < least) least = now;
    }
    assert_true(least < full * 9 / 10);
    assert_in_range(now, full * 9 / 10, full * 11 / 10);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, open_yard, close_yard)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(nothing_begins_before_the_path_is_free),  CASE(what_the_way_itself_holds_is_no_queue),
        CASE(a_path_that_never_frees_ends_in_a_stall), CASE(a_wide_path_is_not_looked_at),
        CASE(interleaved_pictures_wait_likewise),      CASE(pictures_are_left_out_for_a_receiver_that_loses_them),
        CASE(reports_by_the_dozen_count_once),         CASE(loss_that_does_not_go_is_not_for_want_of_room),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
