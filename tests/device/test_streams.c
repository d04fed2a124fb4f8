/* One camera with several streams: who gets which, what cannot be together, encoders that rest, stills beside a stream,
 * and cameras that are absent. */
#include "support/check.h"
#include "support/fake_port.h"

static uint8_t jpeg[20000], small[20000];
static size_t jpeg_size, small_size;
static fake_device t;

/* What the port was told, and what it answers. */
static bool wanted[4], rests, is_there;
static unsigned want_calls, together_calls;
static size_t together_count, refuses;
static bmb_mode together_modes[4];

static bool want(void *ctx, size_t index, bool on)
{
    (void)ctx;
    want_calls++;
    wanted[index] = on;
    return rests;
}

static bool present(void *ctx, size_t index)
{
    (void)ctx;
    (void)index;
    return is_there;
}

static bmb_err together(void *ctx, const size_t *indices, const bmb_mode *modes, size_t count, size_t *culprit)
{
    (void)ctx;
    together_calls++;
    together_count = count;
    for (size_t i = 0; i < count; i++) {
        assert_true(i == 0 || indices[i] > indices[i - 1]);
        together_modes[i] = modes[i];
    }
    *culprit = refuses;
    return refuses < count ? BMB_UNSUPPORTED : BMB_OK;
}

static const char *trouble(void *ctx, size_t index)
{
    (void)ctx;
    return index == 0 ? "somebody has it" : NULL;
}

/* A camera "yard" with three streams, and a feed of it. */
static int open_three(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    small_size = fake_jpeg(small, 320, 240, 3000);
    memset(wanted, 0, sizeof wanted);
    rests = true;
    is_there = false;
    want_calls = together_calls = 0;
    refuses = SIZE_MAX;
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    for (uint8_t i = 1; i < 3; i++) fake_camera_add(t.f, "yard", BMB_CODEC_JPEG)->info.stream = i;
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = "small";
    t.feeds[1].mode.width = 320;
    t.feeds[1].mode.height = 240;
    return 0;
}

static int close_three(void **state)
{
    (void)state;
    if (t.device != NULL) {
        fake_device_close(&t);
    } else {
        fake_destroy(t.f);
    }
    return 0;
}

static bmb_sock ask(const char *request)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, request);
    fake_settle(t.f, t.device);
    return s;
}

static bmb_feed_stats stats(size_t feed)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, feed, &s), BMB_OK);
    return s;
}

static void picture(size_t camera, const uint8_t *data, size_t size)
{
    fake_frame(t.f, camera, data, size, true);
    fake_settle(t.f, t.device);
}

static void feeds_of_one_camera_get_a_stream_each(void **state)
{
    (void)state;
    t.config.feed_count = 2;
    fake_device_open(&t);
    assert_true(t.f->cameras[0].running && t.f->cameras[1].running && !t.f->cameras[2].running);
    assert_int_equal(t.f->cameras[0].mode.width, 640);
    assert_int_equal(t.f->cameras[1].mode.width, 320);
    picture(0, jpeg, jpeg_size);
    picture(1, small, small_size);
    assert_int_equal(stats(0).frames, 1);
    assert_int_equal(stats(1).frames, 1);
    assert_int_equal(stats(1).width, 320);
}

static void a_stream_with_the_feeds_codec_is_chosen(void **state)
{
    (void)state;
    static const bmb_mode_row h264 = { BMB_CODEC_H264, 640, 480, 60000 };
    t.f->cameras[2].info.modes = &h264;
    t.f->cameras[2].info.mode_count = 1;
    t.feeds[0].mode.codec = BMB_CODEC_H264;
    t.config.feed_count = 2;
    fake_device_open(&t);
    assert_true(t.f->cameras[2].running && t.f->cameras[0].running && !t.f->cameras[1].running);
}

static void there_is_a_feed_too_many(void **state)
{
    (void)state;
    bmb_fault fault;
    t.config.feed_count = 2;
    t.f->camera_count = 1;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, &fault), BMB_IN_USE);
    assert_string_equal(fault.key, "camera");
    assert_string_equal(fault.name, "yard");
}

static void what_cannot_be_together_is_refused(void **state)
{
    (void)state;
    bmb_fault fault;
    t.config.feed_count = 2;
    t.f->port.cameras.together = together;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, &fault), BMB_OK);
    assert_int_equal(together_calls, 1); /* once for the camera, not once a feed */
    assert_int_equal(together_count, 2);
    assert_int_equal(together_modes[1].width, 320);
    refuses = 1;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, &fault), BMB_UNSUPPORTED);
    assert_string_equal(fault.key, "together");
    assert_string_equal(fault.name, "small");
    refuses = 0;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, &fault), BMB_UNSUPPORTED);
    assert_string_equal(fault.name, "yard");
}

static void an_encoder_rests_while_nobody_watches(void **state)
{
    (void)state;
    t.f->port.cameras.want = want;
    fake_device_open(&t);
    fake_run(t.f, t.device, 1000000);
    assert_int_equal(want_calls, 0); /* it is not known yet what it delivers */
    for (unsigned i = 0; i < 30 && want_calls == 0; i++) {
        picture(0, jpeg, jpeg_size);
        fake_run(t.f, t.device, 100000);
    }
    assert_in_range(stats(0).frames, 19, 22); /* two seconds */
    assert_int_equal(want_calls, 1);
    assert_false(wanted[0]);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RESTING);
    picture(0, jpeg, jpeg_size); /* that was on its way */
    fake_run(t.f, t.device, 20000000);
    assert_true(bmb_step(t.device) > t.f->now + 100000);         /* nor does it keep the device awake */
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RESTING); /* its silence is none */
    fake_frame(t.f, 0, jpeg, jpeg_size, true);                   /* waits in a buffer */
    t.f->now += 5000000;
    assert_int_equal(stats(0).restarts, 0);
    bmb_sock s = ask("GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    size_t size;
    (void)fake_take(t.f, s, &size);
    assert_int_equal(size, 0); /* not the old picture */
    assert_true(wanted[0]);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RUNNING);
    picture(0, jpeg, jpeg_size);
    (void)fake_take(t.f, s, &size);
    assert_true(size > jpeg_size);
    assert_true(stats(0).gap_ms_most < 1000); /* the rest is no gap */
}

static void a_camera_that_does_not_rest_is_asked_once(void **state)
{
    (void)state;
    rests = false;
    t.f->port.cameras.want = want;
    fake_device_open(&t);
    for (unsigned i = 0; i < 100; i++) {
        picture(0, jpeg, jpeg_size);
        fake_run(t.f, t.device, 100000);
    }
    assert_int_equal(want_calls, 1);
    assert_int_equal(stats(0).frames, 100);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RUNNING);
}

static void a_resting_camera_that_fails_is_started_again(void **state)
{
    (void)state;
    t.f->port.cameras.want = want;
    fake_device_open(&t);
    picture(0, jpeg, jpeg_size);
    fake_run(t.f, t.device, 3000000);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RESTING);
    t.f->cameras[0].take_err = BMB_TIMED_OUT;
    for (unsigned i = 0; i < 30 && stats(0).camera_state == BMB_CAMERA_RESTING; i++)
        fake_run(t.f, t.device, 100000); /* it is looked at all the same */
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_WAITING);
    t.f->cameras[0].take_err = BMB_OK;
    fake_run(t.f, t.device, 1000000);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_STARTING); /* and is wanted again */
    assert_int_equal(stats(0).restarts, 1);
}

/* A picture each 100 ms until it is off. */
static void let_rest(void)
{
    for (unsigned i = 0; i < 40 && t.f->cameras[0].running; i++) {
        picture(0, jpeg, jpeg_size);
        fake_run(t.f, t.device, 100000);
    }
    assert_false(t.f->cameras[0].running);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RESTING);
}

static void a_camera_is_off_while_nobody_watches(void **state)
{
    (void)state;
    size_t size;
    t.feeds[0].camera_rests = true;
    fake_device_open(&t);
    fake_run(t.f, t.device, 1000000);
    assert_true(t.f->cameras[0].running); /* it is not known yet what it delivers */
    let_rest();
    assert_in_range(stats(0).frames, 19, 22); /* two seconds */
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CAMERA_RESTS), 1);
    fake_run(t.f, t.device, 60000000);
    assert_true(bmb_step(t.device) > t.f->now + 100000); /* it does not keep the device awake */
    assert_int_equal(t.f->cameras[0].starts, 1);         /* its silence is none */
    assert_int_equal(stats(0).restarts, 0);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CAMERA_BACK), 0);
    bmb_sock s = ask("GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_int_equal(t.f->cameras[0].starts, 2);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_STARTING);
    picture(0, jpeg, jpeg_size);
    (void)fake_take(t.f, s, &size);
    assert_true(size > jpeg_size);
    assert_true(stats(0).gap_ms_most < 1000); /* the rest is no gap */
    for (unsigned i = 0; i < 50; i++) {
        picture(0, jpeg, jpeg_size);
        (void)fake_take(t.f, s, &size);
        fake_run(t.f, t.device, 100000);
    }
    assert_int_equal(t.f->cameras[0].starts, 2); /* it stays on */
    fake_hang_up(t.f, s);
    let_rest();
}

static void a_still_waits_for_the_start_of_a_camera_that_was_off(void **state)
{
    (void)state;
    size_t size;
    t.feeds[0].camera_rests = true;
    fake_device_open(&t);
    let_rest();
    bmb_sock s = ask("GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_run(t.f, t.device, 6000000);
    (void)fake_take(t.f, s, &size);
    assert_int_equal(size, 0);
    picture(0, jpeg, jpeg_size);
    (void)fake_take(t.f, s, &size);
    assert_true(size > jpeg_size);
    let_rest();
    s = ask("GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_run(t.f, t.device, 9000000); /* but not for ever */
    assert_non_null(strstr(fake_take(t.f, s, &size), " 503 "));
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CAMERA_STALLED), 1);
}

static void a_still_of_another_size_is_taken_while_the_camera_is_off(void **state)
{
    (void)state;
    size_t size;
    t.feeds[0].camera_rests = true;
    fake_device_open(&t);
    let_rest();
    bmb_sock s = ask("GET /yard-320x240.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(t.f->cameras[1].running && !t.f->cameras[0].running); /* a stream of its own */
    picture(1, small, small_size);
    (void)fake_take(t.f, s, &size);
    assert_true(size > small_size);
    t.f->camera_count = 1; /* and without one the feed's is lent */
    fake_run(t.f, t.device, 5000000);
    s = ask("GET /yard-320x240.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(t.f->cameras[0].running);
    assert_int_equal(t.f->cameras[0].mode.width, 320);
    for (unsigned i = 0; i < 20 && t.f->cameras[0].mode.width == 320; i++) picture(0, small, small_size);
    (void)fake_take(t.f, s, &size);
    assert_true(size > small_size);
    let_rest();
}

static void a_camera_that_goes_while_it_is_off_is_seen_and_comes_again(void **state)
{
    (void)state;
    t.feeds[0].camera_rests = true;
    t.f->port.cameras.present = present;
    is_there = true;
    fake_device_open(&t);
    let_rest();
    fake_run(t.f, t.device, 10000000);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_RESTING);
    is_there = false;
    t.f->cameras[0].start_err = BMB_NOT_FOUND;
    fake_run(t.f, t.device, 3000000);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_WAITING);
    assert_true(fake_event_count(t.f, BMB_EVENT_CAMERA_FAILED) >= 1);
    is_there = true;
    t.f->cameras[0].start_err = BMB_OK;
    fake_run(t.f, t.device, 60000000);
    assert_true(t.f->cameras[0].starts > 1);
}

static void whether_a_camera_rests_can_be_changed_while_it_does(void **state)
{
    (void)state;
    bmb_fault fault;
    t.f->port.cameras.want = want;
    t.feeds[0].camera_rests = true;
    t.config.reserve.changes = true;
    fake_device_open(&t);
    let_rest();
    bmb_feed_config to = t.feeds[0];
    to.camera_rests = false;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    fake_settle(t.f, t.device);
    assert_true(t.f->cameras[0].running);
    for (unsigned i = 0; i < 30 && want_calls == 0; i++) { /* its encoder rests then */
        picture(0, jpeg, jpeg_size);
        fake_run(t.f, t.device, 100000);
    }
    assert_true(t.f->cameras[0].running && !wanted[0]);
    to.camera_rests = true;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    fake_settle(t.f, t.device);
    assert_true(wanted[0]);
    let_rest();
}

static void a_still_is_taken_beside_the_stream(void **state)
{
    (void)state;
    size_t size;
    fake_device_open(&t);
    picture(0, jpeg, jpeg_size);
    bmb_sock s = ask("GET /yard-320x240.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(t.f->cameras[0].running && t.f->cameras[1].running);
    assert_int_equal(t.f->cameras[1].mode.width, 320);
    picture(0, jpeg, jpeg_size);
    assert_int_equal(stats(0).frames, 2); /* the stream goes on */
    picture(1, small, small_size);
    const char *answer = fake_take(t.f, s, &size);
    assert_true(size > small_size);
    assert_memory_equal(answer + size - small_size, small, small_size);
    assert_false(t.f->cameras[1].running);
    fake_run(t.f, t.device, 100000);
    assert_int_equal(t.f->cameras[1].out, 0); /* the buffer went back to its own stream */
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_STILL_GAP), 0);
    s = ask("GET /yard-320x240.jpg HTTP/1.1\r\nHost: a\r\n\r\n"); /* and at once again: nobody notices */
    assert_true(t.f->cameras[1].running);
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    picture(1, small, small_size);
    assert_false(t.f->cameras[1].running); /* nobody waits for it any more */
}

static void two_stills_at_a_time_have_a_stream_each(void **state)
{
    (void)state;
    t.config.feed_count = 2;
    fake_device_open(&t);
    picture(0, jpeg, jpeg_size);
    picture(1, small, small_size);
    (void)ask("GET /yard-320x240.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(t.f->cameras[2].running);
    /* No stream is left: the other feed's own is lent, as that of a sensor with one stream is. */
    (void)ask("GET /small-640x480.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_int_equal(t.f->cameras[1].mode.width, 640);
    assert_int_equal(t.f->cameras[2].mode.width, 320);
}

static void a_still_that_does_not_come_is_given_up(void **state)
{
    (void)state;
    size_t size;
    fake_device_open(&t);
    picture(0, jpeg, jpeg_size);
    bmb_sock s = ask("GET /yard-320x240.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    for (unsigned i = 0; i < 50; i++) {
        picture(0, jpeg, jpeg_size);
        fake_run(t.f, t.device, 100000);
    }
    const char *answer = fake_take(t.f, s, &size);
    assert_non_null(memmem(answer, size, " 503 ", 5));
    assert_false(t.f->cameras[1].running);
    assert_int_equal(stats(0).frames, 51); /* and the stream had no gap */
}

static void an_h264_feed_gives_stills_of_another_stream(void **state)
{
    (void)state;
    static const bmb_mode_row h264 = { BMB_CODEC_H264, 640, 480, 60000 };
    static const uint8_t unit[] = { 0, 0, 0,    1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80, 0,   0,
                                    0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65, 0x88, 0x84, 0x21 };
    size_t size;
    t.f->cameras[0].info.modes = &h264;
    t.f->cameras[0].info.mode_count = 1;
    t.feeds[0].mode.codec = BMB_CODEC_H264;
    fake_device_open(&t);
    fake_frame(t.f, 0, unit, sizeof unit, true);
    fake_settle(t.f, t.device);
    bmb_sock s = ask("GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_int_equal(t.f->cameras[1].mode.width, 640);
    picture(1, jpeg, jpeg_size);
    const char *answer = fake_take(t.f, s, &size);
    assert_true(size > jpeg_size);
    assert_memory_equal(answer + size - jpeg_size, jpeg, jpeg_size);
    assert_true(t.f->cameras[0].running);
}

static void an_absent_camera_is_tried_as_soon_as_it_is_there(void **state)
{
    (void)state;
    t.f->port.cameras.present = present;
    t.f->port.cameras.trouble = trouble;
    t.f->cameras[0].start_err = BMB_NOT_FOUND;
    fake_device_open(&t);
    fake_run(t.f, t.device, 40000000); /* pauses have grown to many seconds */
    uint32_t before = stats(0).restarts;
    fake_run(t.f, t.device, 5000000);
    assert_true(stats(0).restarts <= before + 1);
    t.f->cameras[0].start_err = BMB_OK;
    is_there = true;
    (void)bmb_step(t.device); /* as after a wake */
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_STARTING);
    assert_true(fake_event_count(t.f, BMB_EVENT_CAMERA_FAILED) > 0);
}

/* It fails while its node is still there, which goes an instant later. */
static void one_that_fails_before_it_is_gone_is_tried_when_it_is_back(void **state)
{
    (void)state;
    t.f->port.cameras.present = present;
    is_there = true;
    t.f->cameras[0].start_err = BMB_FAILED;
    fake_device_open(&t);
    fake_run(t.f, t.device, 40000000); /* pauses have grown to many seconds */
    uint32_t before = stats(0).restarts;
    fake_run(t.f, t.device, 5000000);
    assert_true(stats(0).restarts <= before + 1); /* while it is there and fails, it has its pauses */
    is_there = false;
    (void)bmb_step(t.device);
    t.f->cameras[0].start_err = BMB_OK;
    is_there = true;
    (void)bmb_step(t.device);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_STARTING);
}

static void a_camera_that_fails_soon_again_has_growing_pauses(void **state)
{
    (void)state;
    fake_device_open(&t);
    uint32_t before = 0;
    for (unsigned i = 0; i < 40; i++) { /* one picture, and it is gone */
        if (stats(0).camera_state != BMB_CAMERA_WAITING) {
            picture(0, jpeg, jpeg_size);
            t.f->cameras[0].take_err = BMB_GONE;
            fake_settle(t.f, t.device);
            t.f->cameras[0].take_err = BMB_OK;
        }
        fake_run(t.f, t.device, 500000);
    }
    before = stats(0).restarts;
    assert_in_range(before, 4, 7); /* 0.5, 1, 2, 4, 8 s in 20 s; not forty times */
    while (stats(0).camera_state == BMB_CAMERA_WAITING) fake_run(t.f, t.device, 500000);
    for (unsigned i = 0; i < 60; i++) { /* it has recovered … */
        picture(0, jpeg, jpeg_size);
        fake_run(t.f, t.device, 100000);
    }
    t.f->cameras[0].take_err = BMB_GONE;
    fake_settle(t.f, t.device);
    t.f->cameras[0].take_err = BMB_OK;
    before = stats(0).restarts;
    fake_run(t.f, t.device, 600000);
    assert_int_equal(stats(0).restarts, before + 1); /* … and begins with the first pause */
}

static void a_camera_that_begins_slowly_is_waited_for(void **state)
{
    (void)state;
    fake_device_open(&t);
    fake_run(t.f, t.device, 7000000);
    assert_int_equal(stats(0).camera_state, BMB_CAMERA_STARTING);
    picture(0, jpeg, jpeg_size);
    fake_run(t.f, t.device, 3000000);
    assert_int_equal(stats(0).restarts, 1); /* but not one that has begun */
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, open_three, close_three)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(feeds_of_one_camera_get_a_stream_each),
        TEST(a_stream_with_the_feeds_codec_is_chosen),
        TEST(there_is_a_feed_too_many),
        TEST(what_cannot_be_together_is_refused),
        TEST(an_encoder_rests_while_nobody_watches),
        TEST(a_camera_that_does_not_rest_is_asked_once),
        TEST(a_resting_camera_that_fails_is_started_again),
        TEST(a_camera_is_off_while_nobody_watches),
        TEST(a_still_waits_for_the_start_of_a_camera_that_was_off),
        TEST(a_still_of_another_size_is_taken_while_the_camera_is_off),
        TEST(a_camera_that_goes_while_it_is_off_is_seen_and_comes_again),
        TEST(whether_a_camera_rests_can_be_changed_while_it_does),
        TEST(a_still_is_taken_beside_the_stream),
        TEST(two_stills_at_a_time_have_a_stream_each),
        TEST(a_still_that_does_not_come_is_given_up),
        TEST(an_h264_feed_gives_stills_of_another_stream),
        TEST(an_absent_camera_is_tried_as_soon_as_it_is_there),
        TEST(one_that_fails_before_it_is_gone_is_tried_when_it_is_back),
        TEST(a_camera_that_fails_soon_again_has_growing_pauses),
        TEST(a_camera_that_begins_slowly_is_waited_for),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
