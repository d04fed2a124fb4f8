/* What holds a feed or a viewer back: each cause made on purpose, and told from the others. */
#include "support/check.h"
#include "support/fake_port.h"

#include "bambino/text.h"

static uint8_t jpeg[60000];
static size_t jpeg_size;
static fake_device t;
static uint16_t load;

static uint16_t busy(void *ctx, size_t index)
{
    (void)ctx, (void)index;
    return load;
}

static int open_yard(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    load = 0;
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.f->port.cameras.busy = busy;
    t.feeds[0].mode.mfps = 25000;
    fake_device_open(&t);
    return 0;
}

static int close_yard(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void pictures(unsigned count, uint64_t interval_us)
{
    for (unsigned i = 0; i < count; i++) {
        fake_frame(t.f, 0, jpeg, jpeg_size, true);
        fake_run(t.f, t.device, interval_us);
    }
}

static bmb_verdict feed(void)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    return s.held_by;
}

static bmb_verdict viewer(void)
{
    bmb_viewer_stats s;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &s), BMB_OK);
    return s.held_by;
}

static bmb_sock watch(void)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    return s;
}

/* The last one that was told; NULL: none was. */
static const bmb_event *told(void)
{
    for (size_t i = t.f->event_count; i-- > 0;)
        if (t.f->events[i % FAKE_EVENTS].code == BMB_EVENT_HELD_BACK) return &t.f->events[i % FAKE_EVENTS];
    return NULL;
}

static void nothing_holds_back_what_runs_as_it_is_set(void **state)
{
    (void)state;
    bmb_sock s = watch();
    for (unsigned i = 0; i < 20; i++) {
        t.f->socks[s].room = FAKE_OUT;
        pictures(10, 40000);
        (void)fake_take(t.f, s, NULL);
        assert_int_equal(feed().cause, BMB_CAUSE_NOTHING);
        assert_int_equal(viewer().cause, BMB_CAUSE_NOTHING);
    }
    assert_null(told());
}

static void a_slow_camera_is_told_from_a_busy_processor(void **state)
{
    (void)state;
    pictures(20, 100000);                              /* 10 of 25 */
    assert_int_equal(feed().cause, BMB_CAUSE_NOTHING); /* it has hardly begun */
    pictures(35, 100000);
    assert_int_equal(feed().cause, BMB_CAUSE_CAMERA);
    assert_in_range(feed().is, 9500, 10500);
    assert_int_equal(feed().of, 25000);
    assert_int_equal(told()->value, feed().is);
    load = 960;
    assert_int_equal(feed().cause, BMB_CAUSE_PROCESSOR);
    pictures(30, 100000);
    assert_string_equal(told()->text, "camera"); /* what is told does not change with every look */
    pictures(100, 100000);
    assert_string_equal(told()->text, "processor");
    assert_true(told()->extra == 25000);
    pictures(100, 40000);
    assert_int_equal(feed().cause, BMB_CAUSE_NOTHING);
    assert_string_equal(told()->text, "processor"); /* its end neither */
    pictures(250, 40000);
    assert_string_equal(told()->text, "nothing"); /* but that is told, too */
    assert_true(told()->extra == 0);
    t.f->cameras[0].take_err = BMB_GONE;
    fake_run(t.f, t.device, 100000);
    assert_int_equal(feed().cause, BMB_CAUSE_CAMERA);
    assert_int_equal(feed().is, 0);
}

static void frames_without_room_are_a_matter_of_memory(void **state)
{
    (void)state;
    (void)watch();
    pictures(100, 40000);
    jpeg_size = fake_jpeg(jpeg, 640, 480, 50000);
    pictures(10, 40000);
    assert_int_equal(feed().cause, BMB_CAUSE_MEMORY);
    assert_int_equal(feed().is, t.feeds[0].frame_max);
    assert_int_equal(feed().of, jpeg_size);
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    pictures(100, 40000);
    assert_int_equal(feed().cause, BMB_CAUSE_NOTHING);
}

static void a_rate_that_is_held_is_a_limit(void **state)
{
    (void)state;
    fake_device_close(&t);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.feeds[0].mode.mfps = 25000;
    t.feeds[0].kbps = 800; /* of 1600, whatever quality is asked for */
    t.config.reserve.changes = true;
    fake_device_open(&t);
    pictures(150, 40000);
    assert_int_equal(feed().cause, BMB_CAUSE_LIMIT);
    assert_int_equal(feed().is, 800);
    assert_string_equal(told()->text, "limit");
    bmb_feed_config to = t.feeds[0]; /* what is not held any more leaves nothing out */
    to.kbps = 0;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, NULL), BMB_OK);
    pictures(350, 40000);
    assert_int_equal(feed().cause, BMB_CAUSE_NOTHING);
    assert_string_equal(told()->text, "nothing");
}

/* So many bytes a second are taken for some seconds. */
static void narrow(bmb_sock s, unsigned rate, unsigned seconds)
{
    t.f->socks[s].room = 0;
    for (unsigned i = 0; i < seconds * 25; i++) {
        t.f->socks[s].room += rate / 25;
        pictures(1, 40000);
        (void)fake_take(t.f, s, NULL);
    }
}

static void a_narrow_link_is_told_from_who_does_not_read(void **state)
{
    (void)state;
    bmb_sock s = watch();
    pictures(100, 40000);
    narrow(s, 100000, 5); /* of 200 KB a second */
    assert_int_equal(viewer().cause, BMB_CAUSE_LINK);
    assert_in_range(viewer().is, 600, 900);
    assert_in_range(viewer().of, 1500, 1700);
    assert_int_equal(feed().cause, BMB_CAUSE_NOTHING); /* one slow viewer is nothing of the feed's */
    assert_string_equal(told()->text, "link");
    t.f->socks[s].path = (bmb_net_path){ .waiting = 1, .kbps = 800, .unread = true };
    assert_int_equal(viewer().cause, BMB_CAUSE_READER);
    t.f->socks[s].path = (bmb_net_path){ .waiting = 0 };
    for (unsigned i = 0; i < 15; i++) {
        t.f->socks[s].room = FAKE_OUT;
        pictures(25, 40000);
        (void)fake_take(t.f, s, NULL);
    }
    assert_int_equal(viewer().cause, BMB_CAUSE_NOTHING);
    assert_string_equal(told()->text, "nothing");
}

static void sentences_say_it(void **state)
{
    (void)state;
    const bmb_addr peer = { .family = 4, .ip = { 192, 0, 2, 9 } };
    char text[200];
    static const struct {
        const char *cause;
        int64_t is, of;
        const char *expected;
    } rows[] = {
        { "camera", 22000, 30000, "delivers 22.0 of 30 pictures" },
        { "processor", 22000, 30000, "processor makes 22.0 of 30" },
        { "memory", 40000, 50000, "frames of 50000 bytes find no room, for 40000" },
        { "limit", 1000, 2000, "192.0.2.9:0 gets its share of the uplink, 1.0 of 2.0 Mbit/s" },
        { "link", 2100, 6000, "carries 2.1 of 6.0 Mbit/s" },
        { "reader", 2100, 6000, "reads 2.1 of 6.0 Mbit/s" },
        { "loss", 64, 256, "25 % of the packets" },
        { "nothing", 0, 0, "nothing holds 192.0.2.9" },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        const bmb_event e = { .code = BMB_EVENT_HELD_BACK,
                              .feed = "yard",
                              .peer = &peer,
                              .text = rows[i].cause,
                              .value = rows[i].is,
                              .extra = rows[i].of };
        assert_true(bmb_event_text(&e, text, sizeof text) > 0);
        if (strstr(text, rows[i].expected) == NULL) fail_msg("\"%s\" is not in \"%s\"", rows[i].expected, text);
    }
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, open_yard, close_yard)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(nothing_holds_back_what_runs_as_it_is_set),    CASE(a_slow_camera_is_told_from_a_busy_processor),
        CASE(frames_without_room_are_a_matter_of_memory),   CASE(a_rate_that_is_held_is_a_limit),
        CASE(a_narrow_link_is_told_from_who_does_not_read), cmocka_unit_test(sentences_say_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
