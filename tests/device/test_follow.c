/* Streams follow their links: steps of a feed, the bit rate of an encoder, and shares of the uplink. */
#include "media/follow.h"
#include "support/check.h"
#include "support/fake_port.h"

#define TICK_US 40000u /* 25 pictures a second */

static uint8_t large[20000], small[8000];
static size_t large_size, small_size;
static fake_device t;

/* "yard" has pictures of 8000 bytes (1600 kbit/s), "station", its step, of 2000 (400). */
static void prepare(void)
{
    large_size = fake_jpeg(large, 640, 480, 8000);
    small_size = fake_jpeg(small, 320, 240, 2000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    (void)fake_camera_add(t.f, "station", BMB_CODEC_JPEG);
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = t.feeds[1].camera = "station";
    t.config.feed_count = 2;
    t.feeds[0].step = "station";
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.outlet_count = 2;
    t.config.viewers = 8;
}

static int open_steps(void **state)
{
    (void)state;
    prepare();
    fake_device_open(&t);
    return 0;
}

static int close_all(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

/* Links carry so many kbit/s each; 0: all. */
static unsigned links[FAKE_SOCKS];

static void tick(void)
{
    for (size_t s = 0; s < FAKE_SOCKS; s++) {
        if (!t.f->socks[s].open || t.f->socks[s].listening || t.f->socks[s].udp) continue;
        t.f->socks[s].room = links[s] > 0 ? links[s] * TICK_US / 8000 : FAKE_OUT;
        if (t.f->socks[s].out_size > FAKE_OUT / 2) (void)fake_take(t.f, (bmb_sock)s, NULL);
    }
    fake_run(t.f, t.device, TICK_US);
}

static void seconds(unsigned count)
{
    for (unsigned i = 0; i < count * 25; i++) {
        if (t.f->cameras[0].running) fake_frame(t.f, 0, large, large_size, true);
        if (t.f->cameras[1].running) fake_frame(t.f, 1, small, small_size, true);
        tick();
    }
}

static bmb_sock watch(const char *feed, unsigned kbps)
{
    char text[100];
    bmb_sock s = fake_connect(t.f, 0);
    snprintf(text, sizeof text, "GET /%s.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n", feed);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    links[s] = kbps;
    return s;
}

static bmb_viewer_stats viewer(size_t index)
{
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, index, &v), BMB_OK);
    return v;
}

static void down_soon_and_up_slowly(void **state)
{
    (void)state;
    bmb_follower f = { 0 };
    unsigned since = 99, up_after[4] = { 0 }, ups = 0;
    assert_int_equal(bmb_follow_look(&f, true), BMB_STAY);
    assert_int_equal(bmb_follow_look(&f, false), BMB_STAY); /* one bad look in a while is nothing */
    assert_int_equal(bmb_follow_look(&f, true), BMB_STAY);
    assert_int_equal(bmb_follow_look(&f, true), BMB_DOWN);
    bmb_follow_done(&f, BMB_DOWN);
    since = 0;
    /* Each attempt to go up fails: the pause before the next one doubles, up to two minutes. */
    bool up = false;
    for (unsigned i = 0; i < 600 && ups < 4; i++) {
        since++;
        bmb_advice a = bmb_follow_look(&f, up);
        if (a == BMB_STAY) continue;
        assert_true(since >= 5); /* not more often */
        bmb_follow_done(&f, a);
        if (a == BMB_UP) up_after[ups++] = since;
        up = a == BMB_UP;
        since = 0;
    }
    assert_int_equal(up_after[0], 15);
    assert_int_equal(up_after[1], 30);
    assert_int_equal(up_after[2], 60);
    assert_int_equal(up_after[3], 120);
    /* One that holds is forgiven for. */
    for (unsigned i = 0; i < 20; i++) (void)bmb_follow_look(&f, false);
    assert_int_equal(f.patience, 2);
    assert_int_equal(f.tried, 0);
}

static void a_viewer_gets_the_step_that_its_link_carries(void **state)
{
    (void)state;
    memset(links, 0, sizeof links);
    bmb_sock s = watch("yard", 600);
    seconds(2);
    assert_int_equal(viewer(0).given, 0);
    seconds(6);
    bmb_viewer_stats v = viewer(0);
    assert_int_equal(v.feed, 0); /* it watches what it asked for … */
    assert_int_equal(v.given, 1);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_STEPPED), 1);
    (void)fake_take(t.f, s, NULL);
    seconds(2);
    assert_in_range(viewer(0).mfps, 24000, 26000); /* … all of the smaller pictures */
    assert_non_null(strstr(fake_take(t.f, s, NULL), "Content-Length: 20"));
    bmb_feed_stats yard, station;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &yard), BMB_OK);
    assert_int_equal(bmb_feed_stats_get(t.device, 1, &station), BMB_OK);
    assert_int_equal(yard.viewers, 1);
    assert_int_equal(station.viewers, 0);
    links[s] = 0;
    seconds(20);
    assert_int_equal(viewer(0).given, 0);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_STEPPED), 2);
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &yard), BMB_OK);
    assert_int_equal(yard.viewers, 0);
}

static void others_keep_what_they_have(void **state)
{
    (void)state;
    memset(links, 0, sizeof links);
    (void)watch("yard", 600);
    (void)watch("yard", 0);
    (void)watch("station", 0);
    seconds(10);
    unsigned of[4] = { 0 };
    for (size_t i = 0; i < 3; i++) {
        bmb_viewer_stats v = viewer(i);
        of[v.feed * 2 + v.given]++;
    }
    assert_int_equal(of[0], 1);
    assert_int_equal(of[1], 1);
    bmb_viewer_stats past;
    assert_int_equal(bmb_viewer_stats_get(t.device, 3, &past), BMB_NOT_FOUND);
}

static void a_step_that_goes_gives_its_viewers_back(void **state)
{
    (void)state;
    memset(links, 0, sizeof links);
    bmb_sock s = watch("yard", 600);
    seconds(10);
    assert_int_equal(viewer(0).given, 1);
    links[s] = 0;
    seconds(1);
    assert_int_equal(bmb_feed_remove(t.device, 1), BMB_OK);
    assert_int_equal(viewer(0).given, 0);
    seconds(2);
    assert_false(t.f->socks[s].gone);
    assert_in_range(viewer(0).mfps, 20000, 26000);
    links[s] = 600;
    seconds(10);
    assert_int_equal(viewer(0).given, 0); /* there is none any more */
}

static void who_has_a_step_of_a_feed_that_goes_is_put_out(void **state)
{
    (void)state;
    memset(links, 0, sizeof links);
    bmb_sock s = watch("yard", 600);
    seconds(10);
    assert_int_equal(viewer(0).given, 1);
    assert_int_equal(bmb_feed_remove(t.device, 0), BMB_OK);
    fake_settle(t.f, t.device);
    assert_true(t.f->socks[s].gone);
    bmb_viewer_stats past;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &past), BMB_NOT_FOUND);
}

static void steps_are_checked(void **state)
{
    (void)state;
    bmb_fault fault;
    bmb_budget budget;
    char text[200];
    prepare();
    t.feeds[0].step = "bridge";
    assert_int_equal(bmb_budget_of(&t.config, &budget, &fault), BMB_NOT_FOUND);
    assert_string_equal(fault.key, "step");
    (void)bmb_fault_text(&fault, text, sizeof text);
    assert_non_null(strstr(text, "none of the other feeds"));
    t.feeds[0].step = "yard"; /* itself */
    assert_int_equal(bmb_budget_of(&t.config, &budget, &fault), BMB_NOT_FOUND);
    t.feeds[0].step = "station";
    t.feeds[1].mode.codec = BMB_CODEC_H264;
    assert_int_equal(bmb_budget_of(&t.config, &budget, &fault), BMB_UNSUPPORTED);
    (void)bmb_fault_text(&fault, text, sizeof text);
    assert_non_null(strstr(text, "another codec"));
    t.feeds[1].mode.codec = BMB_CODEC_JPEG;
    t.feeds[0].follow = (bmb_follow)3;
    assert_int_equal(bmb_budget_of(&t.config, &budget, &fault), BMB_BAD_ARG);
    t.feeds[0].follow = BMB_FOLLOW_MEDIAN;
    t.feeds[1].step = "yard"; /* a ring: whatever is looked for in it ends */
    fake_device_open(&t);
    memset(links, 0, sizeof links);
    (void)watch("yard", 100);
    seconds(30);
    fake_device_close(&t);
}

/* The encoder of "yard": its bit rate is a control, 1600 kbit/s at first. */
static const uint8_t key_frame[] = {
    0, 0, 0,    1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x40, 0,    0,
    0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65, 0x88, 0x84, 0x21, 0xA0
};

static int open_encoder(void **state)
{
    (void)state;
    fake_device_prepare(&t, BMB_CODEC_H264);
    t.f->cameras[0].controls[BMB_CONTROL_KBPS] = 1600;
    t.feeds[0].follow = BMB_FOLLOW_MEDIAN;
    memset(links, 0, sizeof links);
    return 0;
}

/* Frames as large as the encoder's bit rate makes them. */
static void encoded_seconds(unsigned count)
{
    static uint8_t frame[16000];
    for (unsigned i = 0; i < count * 25; i++) {
        size_t size = (size_t)t.f->cameras[0].controls[BMB_CONTROL_KBPS] * TICK_US / 8000;
        bool key = i % 25 == 0;
        memset(frame, 0xA5, sizeof frame);
        if (key) {
            memcpy(frame, key_frame, sizeof key_frame);
        } else {
            memcpy(frame, (const uint8_t[]){ 0, 0, 0, 1, 0x41 }, 5);
        }
        fake_frame(t.f, 0, frame, size, key);
        tick();
    }
}

static void join(unsigned kbps)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /yard.ts HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    links[s] = kbps;
}

static uint32_t follows(void)
{
    bmb_feed_stats feed;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &feed), BMB_OK);
    return feed.follows_kbps;
}

static void an_encoder_follows_the_link_and_returns(void **state)
{
    (void)state;
    int32_t value;
    fake_device_open(&t);
    join(800);
    encoded_seconds(12);
    assert_in_range(follows(), 400, 800);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_KBPS], follows());
    assert_int_equal(bmb_control_get(t.device, 0, BMB_CONTROL_KBPS, &value), BMB_OK);
    assert_int_equal(value, 1600); /* what is set */
    encoded_seconds(5);
    assert_int_equal(viewer(0).held_by.cause, BMB_CAUSE_NOTHING);
    for (size_t s = 0; s < FAKE_SOCKS; s++) links[s] = 0;
    encoded_seconds(150);
    assert_int_equal(follows(), 0);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_KBPS], 1600);
}

static void most_of_them_decide(void **state)
{
    (void)state;
    fake_device_open(&t);
    join(800);
    join(0);
    encoded_seconds(15);
    assert_int_equal(follows(), 0); /* half of them are not most */
    join(700);
    encoded_seconds(15);
    assert_in_range(follows(), 300, 1300);
}

static void the_slowest_decides_where_it_shall(void **state)
{
    (void)state;
    int32_t effective;
    t.feeds[0].follow = BMB_FOLLOW_SLOWEST;
    t.feeds[0].follow_kbps = 1000;
    fake_device_open(&t);
    join(400);
    join(0);
    join(0);
    encoded_seconds(30);
    assert_int_equal(follows(), 1000); /* no further down */
    /* Whoever sets it anew has what he sets. */
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_KBPS, 1200, &effective), BMB_OK);
    assert_int_equal(follows(), 0);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_KBPS], 1200);
}

static void of_two_slow_ones_the_slower_counts(void **state)
{
    (void)state;
    t.feeds[0].follow = BMB_FOLLOW_SLOWEST;
    fake_device_open(&t);
    join(400);
    join(900);
    join(0);
    encoded_seconds(8); /* one change */
    assert_in_range(follows(), 250, 330);
}

static void it_is_as_set_when_nobody_watches(void **state)
{
    (void)state;
    fake_device_open(&t);
    join(800);
    encoded_seconds(12);
    assert_true(follows() > 0);
    for (size_t s = 0; s < FAKE_SOCKS; s++)
        if (links[s] > 0) fake_hang_up(t.f, (bmb_sock)s);
    encoded_seconds(2);
    assert_int_equal(follows(), 0);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_KBPS], 1600);
}

static void the_uplink_is_shared(void **state)
{
    (void)state;
    prepare();
    t.feeds[0].step = NULL;
    t.config.uplink_kbps = 2000;
    fake_device_open(&t);
    memset(links, 0, sizeof links);
    (void)watch("yard", 0);
    seconds(4);
    assert_int_equal(viewer(0).carries_kbps, 0); /* alone it fits */
    (void)watch("station", 0);
    (void)watch("yard", 0);
    seconds(10);
    uint32_t sum = 0;
    for (size_t i = 0; i < 3; i++) {
        bmb_viewer_stats v = viewer(i);
        sum += v.kbps;
        if (v.feed == 1) assert_in_range(v.kbps, 380, 440); /* needs less than an even share, and has it … */
        if (v.feed == 0) assert_in_range(v.kbps, 680, 820); /* … and the rest is halved */
        if (v.feed == 0) assert_int_equal(v.held_by.cause, BMB_CAUSE_LIMIT);
    }
    assert_in_range(sum, 1700, 2060);
    for (size_t s = 0, left = 0; s < FAKE_SOCKS; s++) { /* all but the first leave */
        fake_sock *k = &t.f->socks[s];
        if (k->open && !k->listening && !k->udp && left++ > 0) fake_hang_up(t.f, (bmb_sock)s);
    }
    seconds(5);
    assert_int_equal(viewer(0).carries_kbps, 0);
    assert_int_equal(viewer(0).held_by.cause, BMB_CAUSE_NOTHING);
    fake_device_close(&t);
}

/* A radio that loses a quarter of everything, however little is sent: less would not help. */
static void loss_by_chance_costs_no_step(void **state)
{
    (void)state;
    static const char set_up[] = "SETUP rtsp://a/yard/video RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP;unicast;"
                                 "client_port=5000-5001\r\n\r\n";
    const bmb_addr rtcp = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 5001 };
    char play[200];
    uint8_t rr[32] = { 0x81, 201, 0, 7, 0, 0, 0, 5 };
    memset(links, 0, sizeof links);
    bmb_sock s = fake_connect(t.f, 1);
    fake_say_text(t.f, s, set_up);
    fake_settle(t.f, t.device);
    const char *session = strstr(fake_take(t.f, s, NULL), "Session: ");
    assert_non_null(session);
    snprintf(play, sizeof play, "PLAY rtsp://a/yard RTSP/1.0\r\nCSeq: 2\r\n%.*s\r\n\r\n", (int)strcspn(session, ";\r"),
             session);
    fake_say_text(t.f, s, play);
    seconds(1);
    memcpy(rr + 8, t.f->datagrams[0].data + 8, 4);
    rr[12] = 64;
    for (unsigned i = 0; i < 50; i++) {
        t.f->datagram_count = 0;
        fake_datagram_in(t.f, t.f->next_bound, &rtcp, rr, sizeof rr);
        seconds(1);
    }
    bmb_viewer_stats v = viewer(0);
    assert_int_equal(v.held_by.cause, BMB_CAUSE_LOSS);
    assert_int_equal(v.given, 0); /* at most for a while, until it was known */
    assert_in_range(v.mfps, 24000, 26000);
}

static void who_would_spoil_it_for_all_is_refused(void **state)
{
    (void)state;
    prepare();
    t.feeds[0].step = NULL;
    t.config.uplink_kbps = 800;
    fake_device_open(&t);
    memset(links, 0, sizeof links);
    seconds(2);
    (void)watch("yard", 0); /* five pictures a second are 320 kbit/s */
    (void)watch("yard", 0);
    bmb_sock third = watch("yard", 0);
    assert_non_null(strstr(fake_take(t.f, third, NULL), "The uplink has no room for one more viewer."));
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_UPLINK_FULL), 1);
    bmb_sock fourth = watch("station", 0); /* 80 */
    assert_non_null(strstr(fake_take(t.f, fourth, NULL), " 200 "));
    seconds(5);
    uint32_t sum = 0;
    for (size_t i = 0; i < 3; i++) sum += viewer(i).kbps;
    assert_in_range(sum, 600, 840);
    fake_device_close(&t);
}

static bmb_push_config push;

/* A device that sends "yard" by RTP, by itself. */
static void open_with_push(uint32_t reserve_kbps, uint32_t uplink_kbps)
{
    prepare();
    t.feeds[0].step = NULL;
    push = (bmb_push_config){ .feed = 0,
                              .format = BMB_FORMAT_RTP,
                              .to = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 5004 },
                              .reserve_kbps = reserve_kbps };
    t.config.pushes = &push;
    t.config.push_count = 1;
    t.config.uplink_kbps = uplink_kbps;
    fake_device_open(&t);
    memset(links, 0, sizeof links);
}

static void a_push_has_what_is_kept_for_it(void **state)
{
    (void)state;
    open_with_push(1200, 2000);
    (void)watch("yard", 0);
    for (unsigned i = 0; i < 10; i++) { /* the test has room for some datagrams only */
        t.f->datagram_count = 0;
        seconds(1);
    }
    bmb_push_stats p;
    assert_int_equal(bmb_push_stats_get(t.device, 0, &p), BMB_OK);
    assert_in_range(p.kbps, 1200, 1700); /* its 1200, and half of the rest, in whole pictures */
    assert_in_range(viewer(0).kbps, 280, 500);
    fake_device_close(&t);
}

/* Its receiver may report: nobody has to read it out of a session. */
static void a_push_follows_its_receivers_reports(void **state)
{
    (void)state;
    open_with_push(0, 0);
    bmb_addr from = push.to;
    from.port = 5005;
    bmb_push_stats p;
    uint8_t rr[32] = { 0x81, 201, 0, 7, 0, 0, 0, 5 };
    for (unsigned i = 0; i < 4; i++) {
        seconds(1);
        memcpy(rr + 8, t.f->datagrams[0].data + 8, 4);
        t.f->datagram_count = 0;
    }
    rr[12] = 128;      /* half of it is lost */
    bmb_sock rtcp = 0; /* the one for this port of the peer's */
    while (!t.f->socks[rtcp].udp || t.f->socks[rtcp].peer.port != 5005) rtcp++;
    const bmb_addr other = { .family = 4, .ip = { 192, 0, 2, 8 }, .port = 5005 };
    fake_datagram_in(t.f, t.f->socks[rtcp].addr.port, &other, rr, sizeof rr); /* not its own: nothing comes of it */
    for (unsigned i = 0; i < 3; i++) {
        seconds(1);
        t.f->datagram_count = 0;
    }
    assert_int_equal(bmb_push_stats_get(t.device, 0, &p), BMB_OK);
    assert_true(p.kbps > 1400);
    fake_datagram_in(t.f, t.f->socks[rtcp].addr.port, &from, rr, sizeof rr);
    for (unsigned i = 0; i < 4; i++) {
        seconds(1);
        t.f->datagram_count = 0;
    }
    assert_int_equal(bmb_push_stats_get(t.device, 0, &p), BMB_OK);
    assert_in_range(p.kbps, 500, 900);
    fake_device_close(&t);
}

#define STEPS(name) cmocka_unit_test_setup_teardown(name, open_steps, close_all)
#define ENCODER(name) cmocka_unit_test_setup_teardown(name, open_encoder, close_all)

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(down_soon_and_up_slowly),
        STEPS(a_viewer_gets_the_step_that_its_link_carries),
        STEPS(others_keep_what_they_have),
        STEPS(loss_by_chance_costs_no_step),
        STEPS(a_step_that_goes_gives_its_viewers_back),
        STEPS(who_has_a_step_of_a_feed_that_goes_is_put_out),
        cmocka_unit_test(steps_are_checked),
        ENCODER(an_encoder_follows_the_link_and_returns),
        ENCODER(most_of_them_decide),
        ENCODER(the_slowest_decides_where_it_shall),
        ENCODER(of_two_slow_ones_the_slower_counts),
        ENCODER(it_is_as_set_when_nobody_watches),
        cmocka_unit_test(the_uplink_is_shared),
        cmocka_unit_test(who_would_spoil_it_for_all_is_refused),
        cmocka_unit_test(a_push_has_what_is_kept_for_it),
        cmocka_unit_test(a_push_follows_its_receivers_reports),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
