/* Frames that are lent to the port until they are acknowledged. The port in memory keeps a sum of everything that it
 * was lent, and fails when it has changed.
 */
#include "support/check.h"
#include "support/fake_port.h"

static uint8_t jpeg[20000];
static size_t jpeg_size;
static fake_device t;

static int open_lending(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 3000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    fake_lends(t.f);
    return 0;
}

static int close_lending(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

/* Each picture differs, and so does what a reel holds of it. */
static void picture(void)
{
    static uint8_t pictures[32][4000];
    static unsigned next;
    uint8_t *p = pictures[next++ % 32];
    memcpy(p, jpeg, jpeg_size);
    p[jpeg_size - 10] = (uint8_t)(next % 200);
    fake_frame(t.f, 0, p, jpeg_size, true);
    fake_settle(t.f, t.device);
}

static bmb_sock viewer(void)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    return s;
}

static bmb_feed_stats feed(void)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    return s;
}

static size_t frames_got(bmb_sock s)
{
    size_t size, n = 0;
    const char *text = fake_take(t.f, s, &size);
    for (size_t i = 0; i + 14 < size; i++) n += memcmp(text + i, "Frame-Number: ", 14) == 0; /* pictures have NULs */
    return n;
}

static void a_frame_stays_until_it_is_acknowledged(void **state)
{
    (void)state;
    t.feeds[0].storage = BMB_BORROWED;
    fake_device_open(&t);
    bmb_sock s = viewer();
    picture();
    picture();
    assert_int_equal(feed().reel_pinned, 2); /* both are sent */
    assert_int_equal(t.f->cameras[0].out, 2);
    fake_acknowledge(t.f, s, jpeg_size + 500); /* the head of the answer, and the first of them */
    picture();
    assert_int_equal(feed().reel_pinned, 2);
    assert_int_equal(t.f->cameras[0].lent & 1, 0); /* it went back to the driver */
    fake_acknowledge(t.f, s, SIZE_MAX);
    picture();
    assert_int_equal(feed().reel_pinned, 1);
    assert_int_equal(feed().sent, 4);
}

static void whoever_has_acknowledged_nothing_gets_no_third_frame(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = viewer(), good = viewer();
    for (int i = 0; i < 5; i++) {
        picture();
        fake_acknowledge(t.f, good, SIZE_MAX);
    }
    assert_int_equal(frames_got(s), 2);
    assert_int_equal(frames_got(good), 5);
    fake_acknowledge(t.f, s, SIZE_MAX);
    picture();
    size_t size;
    assert_non_null(strstr(fake_take(t.f, s, &size), "Frame-Number: 6\r\n")); /* the newest, not the third */
    assert_int_equal(feed().skipped, 3);
}

static void a_peer_that_never_acknowledges_is_closed(void **state)
{
    (void)state;
    t.config.stall_ms = 1000;
    fake_device_open(&t);
    bmb_sock s = viewer();
    for (int i = 0; i < 30 && t.f->socks[s].open; i++) {
        picture();
        fake_run(t.f, t.device, 100000);
    }
    assert_false(t.f->socks[s].open);
    assert_int_equal(feed().stalled, 1);
    assert_int_equal(feed().reel_pinned, 0);
}

/* The camera is silent meanwhile: nobody looks at the connection but for its time limit. */
static void one_that_acknowledges_late_stays(void **state)
{
    (void)state;
    t.config.stall_ms = 1000;
    fake_device_open(&t);
    bmb_sock s = viewer();
    for (int i = 0; i < 3; i++) picture();
    fake_run(t.f, t.device, 500000);
    fake_acknowledge(t.f, s, SIZE_MAX);
    fake_run(t.f, t.device, 1500000);
    assert_true(t.f->socks[s].open);
    assert_int_equal(frames_got(s), 3); /* the third was still the newest */
}

static void capture_goes_on_with_three_buffers(void **state)
{
    (void)state;
    t.feeds[0].storage = BMB_BORROWED;
    t.f->cameras[0].info.buffers = 3;
    fake_device_open(&t);
    bmb_sock s = viewer();
    for (int i = 0; i < 20; i++) {
        picture();
        assert_true(t.f->cameras[0].out <= 2);
        fake_acknowledge(t.f, s, SIZE_MAX);
    }
    assert_int_equal(feed().sent, 20);
    assert_int_equal(feed().shed, 0);
}

static void room_is_made_by_putting_out_who_holds_it(void **state)
{
    (void)state;
    t.feeds[0].frame_max = 4000;
    t.feeds[0].reel_bytes = 8000; /* two frames, and a bit */
    fake_device_open(&t);
    bmb_sock a = viewer();
    picture();
    picture();             /* as long as it holds the first, it may not hold a second one */
    bmb_sock b = viewer(); /* nothing is known of this one yet */
    picture();
    assert_int_equal(feed().frames, 3); /* capture never waits */
    assert_int_equal(feed().shed, 1);
    assert_false(t.f->socks[a].open);
    assert_true(t.f->socks[b].open);
}

static void what_is_half_sent_is_lent_as_well(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = viewer();
    t.f->socks[s].room = 1000;
    picture();
    for (int i = 0; i < 40; i++) picture(); /* many times around the reel */
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device); /* the rest of the same frame */
    fake_acknowledge(t.f, s, SIZE_MAX);
    picture();
    fake_acknowledge(t.f, s, SIZE_MAX);
    assert_true(feed().sent >= 2);
}

static void stills_are_copied(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_int_equal(t.f->socks[s].lent_count, 0); /* their connection goes on without a viewer */
    assert_int_equal(feed().reel_pinned, 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_frame_stays_until_it_is_acknowledged, open_lending, close_lending),
        cmocka_unit_test_setup_teardown(whoever_has_acknowledged_nothing_gets_no_third_frame, open_lending,
                                        close_lending),
        cmocka_unit_test_setup_teardown(a_peer_that_never_acknowledges_is_closed, open_lending, close_lending),
        cmocka_unit_test_setup_teardown(one_that_acknowledges_late_stays, open_lending, close_lending),
        cmocka_unit_test_setup_teardown(capture_goes_on_with_three_buffers, open_lending, close_lending),
        cmocka_unit_test_setup_teardown(room_is_made_by_putting_out_who_holds_it, open_lending, close_lending),
        cmocka_unit_test_setup_teardown(what_is_half_sent_is_lent_as_well, open_lending, close_lending),
        cmocka_unit_test_setup_teardown(stills_are_copied, open_lending, close_lending),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
