/* Controls that are kept, stills of another size, the status light, and exact budgets, on a port in memory. */
#include "support/check.h"
#include "base/block.h"
#include "device/parts.h"
#include "support/fake_port.h"

#include "bambino/light.h"

static uint8_t jpeg[20000], large[20000];
static size_t jpeg_size, large_size;
static fake_device t;
static bmb_setting settings[1];
static const bmb_mode_row rows[] = { { BMB_CODEC_JPEG, 1600, 1200, 12000 }, { BMB_CODEC_JPEG, 640, 480, 30000 } };

static int setup(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    large_size = fake_jpeg(large, 1600, 1200, 18000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.f->cameras[0].info.modes = rows;
    t.f->cameras[0].info.mode_count = 2;
    t.feeds[0].keep_controls = true;
    settings[0] = (bmb_setting){ BMB_CONTROL_BRIGHTNESS, 10 };
    t.feeds[0].settings = settings;
    t.feeds[0].setting_count = 1;
    return 0;
}

static int teardown(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void picture(const uint8_t *data, size_t size)
{
    fake_frame(t.f, 0, data, size, true);
    fake_settle(t.f, t.device);
}

/* The device goes and comes again, as with the power switch; the storage stays. */
static void restart(void)
{
    bmb_close(t.device);
    free(t.memory);
    memset(t.f->cameras[0].controls, 0, sizeof t.f->cameras[0].controls);
    fake_device_open(&t);
}

static int32_t in_force(bmb_control control)
{
    int32_t value = -1;
    assert_int_equal(bmb_control_get(t.device, 0, control, &value), BMB_OK);
    return value;
}

static void controls_are_as_they_were_set_last(void **state)
{
    (void)state;
    int32_t effective;
    fake_device_open(&t);
    assert_int_equal(in_force(BMB_CONTROL_BRIGHTNESS), 10);
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_BRIGHTNESS, 40, &effective), BMB_OK);
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_FLIP_V, 1, &effective), BMB_OK);
    restart();
    assert_int_equal(in_force(BMB_CONTROL_BRIGHTNESS), 40);
    assert_int_equal(in_force(BMB_CONTROL_FLIP_V), 1);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CONTROLS_RESTORED), 1);
    settings[0].value = -20; /* somebody edits the configuration: that counts */
    restart();
    assert_int_equal(in_force(BMB_CONTROL_BRIGHTNESS), -20);
    assert_int_equal(in_force(BMB_CONTROL_FLIP_V), 1);
}

static void all_controls_are_kept_at_once(void **state)
{
    (void)state;
    bool kept[BMB_CONTROL_COUNT] = { false };
    fake_device_open(&t);
    for (int pass = 0; pass < 2; pass++) {
        for (int i = 0; i < BMB_CONTROL_COUNT; i++) {
            int32_t effective;
            if (pass == 0) kept[i] = bmb_control_set(t.device, 0, (bmb_control)i, i + 1, &effective) == BMB_OK;
            if (kept[i]) assert_int_equal(in_force((bmb_control)i), i + 1);
        }
        restart();
    }
    assert_true(kept[BMB_CONTROL_BRIGHTNESS] && kept[BMB_CONTROL_FLIP_V]);
}

static void a_broken_record_changes_nothing(void **state)
{
    (void)state;
    int32_t effective;
    fake_device_open(&t);
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_FLIP_V, 1, &effective), BMB_OK);
    restart();
    for (size_t cut = 0; cut < t.f->record_size; cut++) {
        size_t whole = t.f->record_size;
        t.f->record_size = cut;
        restart();
        t.f->record_size = whole;
        assert_int_equal(in_force(BMB_CONTROL_BRIGHTNESS), 10);
    }
    t.f->record[0] = 99; /* of another version */
    restart();
    assert_int_equal(in_force(BMB_CONTROL_FLIP_V), 0);
    t.f->store_err = BMB_NO_ROOM; /* cannot be kept: set all the same, and told */
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_FLIP_V, 1, &effective), BMB_OK);
    fake_run(t.f, t.device, 2100000);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CONTROLS_NOT_KEPT), 1);
    t.f->store_err = BMB_OK; /* there is room again: nothing is lost */
    fake_run(t.f, t.device, 30100000);
    restart();
    assert_int_equal(in_force(BMB_CONTROL_FLIP_V), 1);
}

static void a_held_bit_rate_decides_the_quality(void **state)
{
    (void)state;
    int32_t effective;
    t.feeds[0].kbps = 500;
    settings[0] = (bmb_setting){ BMB_CONTROL_QUALITY, 75 };
    fake_device_open(&t);
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_QUALITY, 90, &effective), BMB_IN_USE);
    for (int i = 0; i < 40; i++) { /* 8 KB at 15/s are 960 kbit/s */
        picture(jpeg, jpeg_size);
        fake_run(t.f, t.device, 66666);
    }
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    assert_int_equal(s.kbps_set, 500);
    assert_true(s.quality < 75 && s.quality == in_force(BMB_CONTROL_QUALITY));
    assert_true(s.dropped_for_rate > 0 && s.dropped_for_rate == s.dropped);
    assert_in_range(s.kbps, 400, 600);
}

static size_t fetch(bmb_sock *s, const char *path)
{
    char text[80];
    *s = fake_connect(t.f, 0);
    snprintf(text, sizeof text, "GET %s HTTP/1.1\r\nHost: a\r\n\r\n", path);
    fake_say_text(t.f, *s, text);
    fake_settle(t.f, t.device);
    size_t size;
    (void)fake_take(t.f, *s, &size);
    return size;
}

static void a_larger_still_is_taken_between_the_frames(void **state)
{
    (void)state;
    bmb_sock s;
    size_t size;
    fake_device_open(&t);
    picture(jpeg, jpeg_size);
    assert_int_equal(fetch(&s, "/yard-1600x1200.jpg"), 0); /* it takes a moment */
    assert_int_equal(t.f->cameras[0].mode.width, 1600);
    bmb_sock other;
    (void)fetch(&other, "/yard-1600x1200.jpg"); /* one at a time */
    int32_t effective;                          /* its controls can be set again in a moment */
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_QUALITY, 60, &effective), BMB_AGAIN);
    for (int i = 0; i < 3; i++) picture(large, large_size);
    const char *answer = fake_take(t.f, s, &size);
    assert_non_null(strstr(answer, "200 OK"));
    assert_memory_equal(answer + size - large_size, large, large_size);
    assert_int_equal(t.f->cameras[0].mode.width, 640); /* the stream goes on */
    fake_run(t.f, t.device, 200000);
    picture(jpeg, jpeg_size);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_STILL_GAP), 1);
    assert_int_equal(t.f->cameras[0].out, 0); /* no buffer was kept */
    bmb_feed_stats f;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &f), BMB_OK);
    assert_int_equal(f.frames, 2); /* and no viewer of the stream saw it */
    fake_run(t.f, t.device, 1100000);
    picture(jpeg, jpeg_size);
    assert_int_equal(fetch(&s, "/yard-1600x1200.jpg"), 0);
    assert_int_equal(t.f->cameras[0].mode.width, 1600);
    t.f->cameras[0].take_err = BMB_FAILED;
    picture(large, large_size);
    assert_non_null(strstr(fake_take(t.f, s, &size), " 503 ")); /* and the first one's buffer is given back once */
}

static void stills_that_cannot_be_are_refused(void **state)
{
    (void)state;
    bmb_sock s;
    size_t size;
    fake_device_open(&t);
    picture(jpeg, jpeg_size);
    static const char *const paths[] = { "/yard-1601x1200.jpg", "/yard-x.jpg", "/yard-99999x1.jpg",
                                         "/attic-640x480.jpg", "/-640x480.jpg" };
    for (size_t i = 0; i < sizeof paths / sizeof paths[0]; i++) {
        s = fake_connect(t.f, 0);
        char text[80];
        snprintf(text, sizeof text, "GET %s HTTP/1.1\r\nHost: a\r\n\r\n", paths[i]);
        fake_say_text(t.f, s, text);
        fake_settle(t.f, t.device);
        assert_non_null(strstr(fake_take(t.f, s, &size), " 404 "));
    }
    (void)fetch(&s, "/yard-1600x1200.jpg"); /* who asked leaves before the picture is there */
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    for (int i = 0; i < 4; i++) picture(large, large_size);
    assert_int_equal(t.f->cameras[0].mode.width, 640);
    assert_int_equal(t.f->cameras[0].out, 0);
    (void)fetch(&s, "/yard-1600x1200.jpg"); /* not so soon */
    assert_int_equal(t.f->cameras[0].mode.width, 640);
    fake_run(t.f, t.device, 1100000);
    picture(jpeg, jpeg_size);
    (void)fetch(&s, "/yard-1600x1200.jpg"); /* and a camera that gives none */
    fake_run(t.f, t.device, 4500000);
    assert_non_null(strstr(fake_take(t.f, s, &size), " 503 "));
    assert_int_equal(t.f->cameras[0].mode.width, 640);
}

static void the_light_tells_the_state(void **state)
{
    (void)state;
    fake_device_open(&t);
    assert_int_equal(t.f->light, BMB_LIGHT_STARTING);
    picture(jpeg, jpeg_size);
    assert_int_equal(t.f->light, BMB_LIGHT_READY);
    t.f->offline = true;
    picture(jpeg, jpeg_size);
    assert_int_equal(t.f->light, BMB_LIGHT_NO_NETWORK);
    t.f->offline = false;
    bmb_sock s;
    (void)fetch(&s, "/yard.mjpeg");
    picture(jpeg, jpeg_size);
    assert_int_equal(t.f->light, BMB_LIGHT_WATCHED);
    t.f->cameras[0].take_err = BMB_GONE;
    fake_settle(t.f, t.device);
    assert_int_equal(t.f->light, BMB_LIGHT_NO_CAMERA);
}

/* How often a lamp is lit anew within ten seconds, and for how long altogether. */
static void watch_lamp(bmb_light_style style, bmb_light light, unsigned *flashes, unsigned *lit_ms)
{
    bool was = true;
    *flashes = *lit_ms = 0;
    for (uint64_t ms = 0; ms < 10000; ms += 10) {
        bool lit = bmb_light_lit(style, light, ms * 1000, ms / 66);
        *flashes += lit && !was;
        *lit_ms += lit ? 10 : 0;
        was = lit;
    }
}

static void each_state_has_a_pattern_of_its_own(void **state)
{
    (void)state;
    unsigned flashes[5], lit;
    for (int i = 0; i < 5; i++) {
        watch_lamp(BMB_LIGHT_STATES, (bmb_light)i, &flashes[i], &lit);
        assert_non_null(bmb_light_name((bmb_light)i));
        for (int k = 0; k < i; k++) assert_true(flashes[i] != flashes[k]);
    }
    watch_lamp(BMB_LIGHT_STATES, BMB_LIGHT_WATCHED, &flashes[0], &lit);
    assert_int_equal(lit, 10000);
    watch_lamp(BMB_LIGHT_OFF, BMB_LIGHT_STARTING, &flashes[0], &lit);
    assert_int_equal(lit, 0);
    watch_lamp(BMB_LIGHT_VIEWED, BMB_LIGHT_READY, &flashes[0], &lit);
    assert_int_equal(lit, 0);
    watch_lamp(BMB_LIGHT_VIEWED, BMB_LIGHT_WATCHED, &flashes[0], &lit);
    assert_int_equal(lit, 10000);
    watch_lamp(BMB_LIGHT_FRAMES, BMB_LIGHT_WATCHED, &flashes[0], &lit);
    assert_in_range(flashes[0], 70, 80); /* half of 150 frames */
}

/* Exactly the predicted bytes, and one less. */
static void the_budget_is_exact(void **state)
{
    (void)state;
    bmb_fault fault;
    bmb_device *device;
    static const bmb_push_config push = { .tcp = true,
                                          .format = BMB_FORMAT_RAW,
                                          .to = { .family = 4, .ip = { 192, 0, 2, 9 }, .port = 1 } };
    t.config.pushes = &push;
    t.config.push_count = 1;
    t.feeds[0].kbps = 1000;
    fake_device_open(&t);
    assert_true(t.budget.total - 60 * BMB_BLOCK_GAP <= /* one push over TCP */
                BMB_MEMORY_MOST(t.config.feed_count, t.feeds[0].reel_bytes, t.config.outlet_count, 1,
                                t.config.viewers + t.config.spare + 1, t.config.request_buffer));
    uint8_t *block = malloc(t.budget.total);
    assert_int_equal(t.budget.device + t.budget.feeds + t.budget.reels + t.budget.viewers + t.budget.pushes +
                         t.budget.request_buffers,
                     t.budget.total);
    assert_int_equal(bmb_open(&t.config, block, t.budget.total - 1, &device, &fault), BMB_NO_MEMORY);
    assert_int_equal(fault.asked - fault.have, 1);
    t.outlets[0].listen.port = 0;
    free(block);
    for (size_t skew = 0; skew < 17; skew++) { /* it may begin anywhere, and is kept to */
        block = malloc(t.budget.total + skew);
        assert_int_equal(bmb_open(&t.config, block + skew, t.budget.total, &device, &fault), BMB_OK);
        const bmb_conn *last = &device->talk.conns[device->talk.conn_most - 1];
        assert_true(last->tx + device->talk.tx_room <= block + skew + t.budget.total);
        bmb_close(device);
        free(block);
    }
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, setup, teardown)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(controls_are_as_they_were_set_last),
        CASE(all_controls_are_kept_at_once),
        CASE(a_broken_record_changes_nothing),
        CASE(a_held_bit_rate_decides_the_quality),
        CASE(a_larger_still_is_taken_between_the_frames),
        CASE(stills_that_cannot_be_are_refused),
        CASE(the_light_tells_the_state),
        cmocka_unit_test(each_state_has_a_pattern_of_its_own),
        CASE(the_budget_is_exact),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
