#include "support/check.h"
#include "base/block.h"
#include "support/fake_port.h"

#include "base/bytes.h"

static uint8_t jpeg[20000];
static size_t jpeg_size;
static fake_device t;

static int open_yard(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    return 0;
}

static int close_yard(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void picture(void)
{
    fake_frame(t.f, 0, jpeg, jpeg_size, true);
    fake_settle(t.f, t.device);
}

static void pictures(unsigned count, uint64_t interval_us)
{
    for (unsigned i = 0; i < count; i++) {
        picture();
        fake_run(t.f, t.device, interval_us);
    }
}

static bmb_sock ask(const char *request)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, request);
    fake_settle(t.f, t.device);
    return s;
}

static bmb_sock viewer(void)
{
    return ask("GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
}

static bmb_feed_stats feed(void)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    return s;
}

static bmb_device_stats device(void)
{
    bmb_device_stats s;
    bmb_device_stats_get(t.device, &s);
    return s;
}

static unsigned count_text(const char *text, size_t size, const char *what)
{
    unsigned n = 0;
    for (const char *at = text; (at = memmem(at, size - (size_t)(at - text), what, strlen(what))) != NULL; at++) n++;
    return n;
}

static void the_budget_is_exact(void **state)
{
    (void)state;
    bmb_fault fault;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, &fault), BMB_OK);
    const bmb_budget *b = &t.budget;
    assert_int_equal(b->total, b->device + b->feeds + b->reels + b->viewers + b->request_buffers);
    uint8_t *exact = malloc(b->total);
    bmb_device *d;
    assert_int_equal(bmb_open(&t.config, exact, b->total - 1, &d, &fault), BMB_NO_MEMORY);
    assert_int_equal(fault.asked - fault.have, 1);
    assert_string_equal(fault.key, "reels");
    assert_int_equal(bmb_open(&t.config, exact, b->total, &d, &fault), BMB_OK);
    t.device = d;
    t.memory = exact;
    (void)viewer();
    pictures(30, 66000);
    assert_int_equal(feed().frames, 30);
}

static void memory_stays_within_its_bounds(void **state)
{
    (void)state;
    fake_device_open(&t);
    assert_true(t.budget.per_viewer_http <= 512);
    assert_true(t.budget.device - 2 * BMB_BLOCK_GAP + t.budget.per_feed <= 8192);
}

static void bad_configurations_are_named(void **state)
{
    (void)state;
    bmb_fault fault;
    bmb_budget b;
    t.config.viewers = 0;
    assert_int_equal(bmb_budget_of(&t.config, &b, &fault), BMB_BAD_ARG);
    assert_string_equal(fault.key, "viewers");
    assert_int_equal(fault.have, 1);
    t.config.viewers = 4;
    t.feeds[0].camera = "attic";
    assert_int_equal(bmb_budget_of(&t.config, &b, &fault), BMB_NOT_FOUND);
    assert_string_equal(fault.name, "attic");
    t.feeds[0].camera = "yard";
    t.feeds[0].name = "Yard/1";
    assert_int_equal(bmb_budget_of(&t.config, &b, &fault), BMB_BAD_ARG);
    assert_string_equal(fault.key, "name");
    t.feeds[0].name = "yard";
    t.feeds[0].reel_bytes = 100;
    assert_int_equal(bmb_budget_of(&t.config, &b, &fault), BMB_BAD_ARG);
    assert_string_equal(fault.key, "reel_bytes");
    t.feeds[0].reel_bytes = 100000;
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = "yard2";
    t.config.feed_count = 2;
    assert_int_equal(bmb_budget_of(&t.config, &b, &fault), BMB_IN_USE);
    t.config.feed_count = 1;
    fake_device_open(&t);
}

static void a_viewer_gets_every_picture(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = viewer();
    pictures(20, 66000);
    size_t size;
    const char *text = fake_take(t.f, s, &size);
    assert_non_null(strstr(text, "multipart/x-mixed-replace; boundary=next-picture\r\n"));
    assert_int_equal(count_text(text, size, "Frame-Number: "), 20);
    assert_int_equal(count_text(text, size, "\r\n--next-picture\r\n"), 21);
    assert_int_equal(feed().skipped, 0);
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_int_equal(v.sent, 20);
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    assert_int_equal(device().viewers, 0);
    assert_int_equal(device().connections, 0);
    assert_int_equal(feed().viewers, 0);
}

static void ten_viewers_that_stop_reading_disturb_nobody(void **state)
{
    (void)state;
    bmb_sock stopped[10], good[3];
    fake_device_open(&t);
    for (int i = 0; i < 10; i++) {
        stopped[i] = viewer();
        t.f->socks[stopped[i]].room = 3000 + 1500 * (size_t)i;
    }
    for (int i = 0; i < 3; i++) good[i] = viewer();
    for (int i = 0; i < 3; i++) fake_take(t.f, good[i], NULL);
    unsigned sent = 0;
    for (; sent < 90; sent++) { /* six seconds at 15/s; the stall time is five */
        picture();
        assert_int_equal(t.f->cameras[0].queued, 0); /* capture does not wait */
        for (int i = 0; i < 3; i++) {
            size_t size;
            const char *text = fake_take(t.f, good[i], &size);
            assert_int_equal(count_text(text, size, "Frame-Number: "), 1);
        }
        fake_run(t.f, t.device, 66667);
    }
    assert_int_equal(feed().stalled, 10);
    assert_int_equal(feed().shed, 0);
    assert_int_equal(feed().viewers, 3);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_STALLED), 10);
    for (int i = 0; i < 10; i++) assert_true(t.f->socks[stopped[i]].gone);
    assert_int_equal(feed().reel_pinned, 0);
}

static void a_small_reel_sheds_rather_than_waits(void **state)
{
    (void)state;
    t.feeds[0].frame_max = 9000;
    t.feeds[0].reel_bytes = 18000; /* room for two frames */
    fake_device_open(&t);
    for (size_t i = 0; i < 4; i++) {
        bmb_sock s = viewer();
        t.f->socks[s].room = 1000;
        picture(); /* each stops in a frame of its own */
    }
    for (int i = 0; i < 10; i++) picture();
    assert_int_equal(feed().frames, 14);
    assert_int_equal(feed().dropped, 0);
    assert_true(feed().shed > 0);
}

/* A path of a tenth of the feed's rate: what is begun is never older than the newest frame. */
static void a_slow_viewer_gets_fewer_pictures_never_older_ones(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = viewer();
    fake_take(t.f, s, NULL);
    t.f->socks[s].room = 0;
    const uint64_t interval = 66667, transmission = 666667;
    uint64_t worst = 0, next_picture = 0;
    for (int i = 0; i < 6000; i++) { /* 60 s in steps of 10 ms */
        if (t.f->now >= next_picture) {
            picture();
            next_picture = t.f->now + interval;
        }
        t.f->socks[s].room += jpeg_size / (transmission / 10000);
        fake_run(t.f, t.device, 10000);
        fake_take(t.f, s, NULL);
        bmb_viewer_stats v;
        assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
        if (v.age_ms * 1000u > worst) worst = v.age_ms * 1000u;
    }
    bmb_viewer_stats v;
    (void)bmb_viewer_stats_get(t.device, 0, &v);
    assert_in_range(v.sent, 80, 95);
    assert_in_range(v.sent + v.skipped, 840, 870); /* a picture each 70 ms */
    assert_true(worst <= interval + transmission + 30000);
    assert_int_equal(feed().stalled, 0);
}

static void a_silent_camera_is_started_again(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = viewer();
    pictures(5, 66000);
    assert_int_equal(t.f->light, BMB_LIGHT_WATCHED);
    fake_run(t.f, t.device, 2100000);
    assert_int_equal(feed().camera_state, BMB_CAMERA_WAITING);
    assert_int_equal(feed().camera_err, BMB_TIMED_OUT);
    assert_int_equal(t.f->light, BMB_LIGHT_NO_CAMERA);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CAMERA_STALLED), 1);
    t.f->cameras[0].start_err = BMB_NOT_FOUND; /* unplugged */
    fake_run(t.f, t.device, 20000000);
    uint32_t tries = t.f->cameras[0].starts;
    assert_in_range(tries, 4, 7); /* it backs off */
    t.f->cameras[0].start_err = BMB_OK;
    while (feed().camera_state == BMB_CAMERA_WAITING) fake_run(t.f, t.device, 100000);
    picture();
    assert_int_equal(feed().camera_state, BMB_CAMERA_RUNNING);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CAMERA_BACK), 1);
    size_t size;
    const char *text = fake_take(t.f, s, &size);
    assert_int_equal(count_text(text, size, "Frame-Number: "), 6); /* the viewer stayed and goes on */
}

static void a_camera_that_stops_by_itself_is_started_again(void **state)
{
    (void)state;
    fake_device_open(&t);
    pictures(2, 66000);
    t.f->cameras[0].take_err = BMB_GONE;
    fake_settle(t.f, t.device);
    assert_int_equal(feed().camera_state, BMB_CAMERA_WAITING);
    assert_false(t.f->cameras[0].running);
    t.f->cameras[0].take_err = BMB_OK;
    fake_run(t.f, t.device, 600000);
    pictures(1, 1000);
    assert_int_equal(feed().camera_state, BMB_CAMERA_RUNNING);
    assert_int_equal(feed().restarts, 1);
}

static void bad_frames_are_counted_and_never_sent(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = viewer();
    fake_take(t.f, s, NULL);
    static uint8_t large[30000], garbled[8000];
    size_t large_size = fake_jpeg(large, 640, 480, 25000);
    memcpy(garbled, jpeg, jpeg_size);
    garbled[4000] = 0xFF;
    garbled[4001] = 0x42;
    fake_frame(t.f, 0, jpeg, jpeg_size / 2, true);
    fake_frame(t.f, 0, garbled, jpeg_size, true);
    fake_frame(t.f, 0, large, large_size, true);
    fake_frame(t.f, 0, jpeg, 0, true);
    fake_settle(t.f, t.device);
    size_t size;
    fake_take(t.f, s, &size);
    assert_int_equal(size, 0);
    assert_int_equal(feed().bad, 3);
    assert_int_equal(feed().too_large, 1);
    assert_int_equal(feed().dropped, 4);
    assert_int_equal(t.f->cameras[0].out, 0); /* every buffer went back */
    picture();
    fake_take(t.f, s, &size);
    assert_true(size > jpeg_size);
}

static void borrowed_frames_go_back_to_the_driver(void **state)
{
    (void)state;
    t.feeds[0].storage = BMB_BORROWED;
    fake_device_open(&t);
    bmb_sock s = viewer(), slow = viewer();
    t.f->socks[slow].room = 1000;
    for (int i = 0; i < 40; i++) {
        picture();
        assert_true(t.f->cameras[0].out <= 3); /* of four: one is always free */
    }
    size_t size;
    const char *text = fake_take(t.f, s, &size);
    assert_int_equal(count_text(text, size, "Frame-Number: "), 40);
    bmb_close(t.device);
    assert_int_equal(t.f->cameras[0].out, 0);
    t.device = NULL;
}

static void a_still_is_the_newest_picture(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = ask("GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    size_t size;
    fake_take(t.f, s, &size);
    assert_int_equal(size, 0); /* none yet: it waits for the first */
    picture();
    assert_non_null(strstr(fake_take(t.f, s, &size), "Frame-Number: 1\r\n"));
    picture();
    fake_say_text(t.f, s, "GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\nHEAD /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    const char *text = fake_take(t.f, s, &size);
    assert_int_equal(count_text(text, size, "Frame-Number: 2\r\n"), 2);
    assert_in_range(size, jpeg_size, jpeg_size + 700); /* only one of the two has its body */
    assert_int_equal(device().viewers, 0);
}

static void a_still_that_never_comes_is_refused(void **state)
{
    (void)state;
    t.f->cameras[0].start_err = BMB_NOT_FOUND;
    fake_device_open(&t);
    bmb_sock s = ask("GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_run(t.f, t.device, 3200000);
    assert_non_null(strstr(fake_take(t.f, s, NULL), "503 Service Unavailable\r\n"));
}

static void pipelined_requests_are_answered_in_order(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = ask("GET /a HTTP/1.1\r\nHost: a\r\n\r\nGET /status.json HTTP/1.1\r\nHost: a\r\n\r\n"
                     "GET /b HTTP/1.1\r\nHost: a\r\n\r\nGET /status.json HTTP/1.1\r\nHost: a\r\n\r\n");
    size_t size;
    const char *text = fake_take(t.f, s, &size);
    assert_int_equal(count_text(text, size, "404 Not Found\r\n"), 2);
    assert_int_equal(count_text(text, size, "\r\n0\r\n\r\n"), 2);
    assert_int_equal(count_text(text, size, "]}\n"), 2);
    assert_int_equal(device().requests, 4);
}

static void an_answer_may_leave_one_byte_at_a_time(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    bmb_sock whole = ask("GET /status.json HTTP/1.0\r\n\r\n"), s = fake_connect(t.f, 0);
    size_t size, whole_size;
    fake_take(t.f, whole, &whole_size);
    t.f->socks[s].room = 0;
    fake_say_text(t.f, s, "GET /status.json HTTP/1.0\r\n\r\n");
    fake_settle(t.f, t.device);
    for (int i = 0; i < 4000 && !t.f->socks[s].finished; i++) {
        t.f->socks[s].room = 1;
        fake_settle(t.f, t.device);
    }
    const char *text = fake_take(t.f, s, &size);
    assert_in_range(size, whole_size - 8, whole_size + 8);
    assert_string_equal(text + size - 3, "]}\n");
    assert_true(t.f->socks[s].finished);
}

static void slow_requests_and_idle_connections_end(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock slow = ask("GET / HTTP/1.1\r\nX: "), idle = fake_connect(t.f, 0);
    for (int i = 0; i < 11; i++) {
        fake_say_text(t.f, slow, "a");
        fake_run(t.f, t.device, 1000000);
    }
    assert_non_null(strstr(fake_take(t.f, slow, NULL), "408 Request Timeout\r\n"));
    fake_run(t.f, t.device, 1200000);
    assert_true(t.f->socks[slow].gone);
    assert_false(t.f->socks[idle].gone);
    fake_run(t.f, t.device, 20000000);
    assert_true(t.f->socks[idle].gone);
    assert_int_equal(device().connections, 0);
}

static void viewers_beyond_the_limit_are_told_when_to_retry(void **state)
{
    (void)state;
    t.config.viewers = 2;
    t.config.spare = 2;
    fake_device_open(&t);
    (void)viewer();
    (void)viewer();
    bmb_sock third = viewer();
    const char *text = fake_take(t.f, third, NULL);
    assert_non_null(strstr(text, "503 Service Unavailable\r\n"));
    assert_non_null(strstr(text, "Retry-After: "));
    assert_int_equal(device().refused, 1);
    assert_int_equal(device().viewers, 2);
    bmb_sock s = BMB_NO_SOCK;
    for (int i = 0; i < 6; i++) s = ask("GET /"); /* unfinished requests fill the connections */
    assert_non_null(strstr(fake_take(t.f, s, NULL), "503"));
    assert_true(t.f->socks[s].gone);
    assert_true(fake_event_count(t.f, BMB_EVENT_CONNECTIONS_FULL) > 0);
}

static void a_broken_connection_ends_though_its_buffer_is_full(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    bmb_sock s = fake_connect(t.f, 0);
    t.f->socks[s].room = 100; /* the answer stays under way … */
    char text[3000] = "GET /status.json HTTP/1.1\r\nHost: a\r\n\r\n";
    size_t size = strlen(text);
    memset(text + size, 'G', sizeof text - size);
    fake_say(t.f, s, text, sizeof text); /* … and more than the buffer takes is behind it */
    fake_settle(t.f, t.device);
    assert_false(t.f->socks[s].gone);
    t.f->socks[s].broken = true;
    fake_settle(t.f, t.device);
    assert_true(t.f->socks[s].gone);
    assert_int_equal(device().connections, 0);
}

static void an_idle_connection_makes_room(void **state)
{
    (void)state;
    t.config.viewers = 1;
    t.config.spare = 1;
    fake_device_open(&t);
    bmb_sock a = ask("GET /x HTTP/1.1\r\nHost: a\r\n\r\n"), b = ask("GET /x HTTP/1.1\r\nHost: a\r\n\r\n");
    bmb_sock c = ask("GET /x HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(t.f->socks[a].gone);
    assert_false(t.f->socks[b].gone);
    assert_non_null(strstr(fake_take(t.f, c, NULL), "404"));
}

static void no_files_left_pauses_accepting(void **state)
{
    (void)state;
    fake_device_open(&t);
    t.f->accept_err = BMB_LIMIT;
    bmb_sock s = viewer();
    assert_int_equal(device().accept_failed, 1);
    fake_run(t.f, t.device, 300000);
    assert_int_equal(device().accept_failed, 1); /* no busy loop */
    t.f->accept_err = BMB_OK;
    fake_run(t.f, t.device, 400000);
    assert_non_null(strstr(fake_take(t.f, s, NULL), "200 OK"));
}

static void what_waits_unsent_follows_the_bit_rate(void **state)
{
    (void)state;
    t.config.unsent_ms = 150;
    fake_device_open(&t);
    pictures(45, 66667); /* 8000 bytes, 15 a second: 960 kbit/s */
    bmb_sock s = viewer();
    assert_in_range(t.f->socks[s].unsent, 16384, 20000); /* 150 ms, or the least */

    static uint8_t large[19000];
    size_t large_size = fake_jpeg(large, 640, 480, 18000);
    for (int i = 0; i < 150; i++) { /* 60 pictures of 18000 bytes a second */
        fake_frame(t.f, 0, large, large_size, true);
        fake_run(t.f, t.device, 16667);
        fake_take(t.f, s, NULL);
    }
    bmb_sock fast = viewer(), slow = viewer();
    assert_in_range(t.f->socks[fast].unsent, 100000, 170000);
    fake_take(t.f, slow, NULL);
    t.f->socks[slow].room = 0;
    for (int i = 0; i < 300; i++) { /* the slow one's link carries 240 KB a second */
        t.f->socks[slow].room += 4000;
        fake_frame(t.f, 0, large, large_size, true);
        fake_run(t.f, t.device, 16667);
        fake_take(t.f, s, NULL);
        fake_take(t.f, fast, NULL);
        fake_take(t.f, slow, NULL);
        t.f->socks[s].room = t.f->socks[fast].room = FAKE_OUT / 2;
    }
    assert_in_range(t.f->socks[fast].unsent, 100000, 170000);
    assert_in_range(t.f->socks[slow].unsent, 30000, 40000); /* 150 ms of that */
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, open_yard, close_yard)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(the_budget_is_exact),
        CASE(memory_stays_within_its_bounds),
        CASE(bad_configurations_are_named),
        CASE(a_viewer_gets_every_picture),
        CASE(ten_viewers_that_stop_reading_disturb_nobody),
        CASE(a_small_reel_sheds_rather_than_waits),
        CASE(a_slow_viewer_gets_fewer_pictures_never_older_ones),
        CASE(a_silent_camera_is_started_again),
        CASE(a_camera_that_stops_by_itself_is_started_again),
        CASE(bad_frames_are_counted_and_never_sent),
        CASE(borrowed_frames_go_back_to_the_driver),
        CASE(a_still_is_the_newest_picture),
        CASE(a_still_that_never_comes_is_refused),
        CASE(pipelined_requests_are_answered_in_order),
        CASE(an_answer_may_leave_one_byte_at_a_time),
        CASE(slow_requests_and_idle_connections_end),
        CASE(viewers_beyond_the_limit_are_told_when_to_retry),
        CASE(a_broken_connection_ends_though_its_buffer_is_full),
        CASE(an_idle_connection_makes_room),
        CASE(no_files_left_pauses_accepting),
        CASE(what_waits_unsent_follows_the_bit_rate),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
