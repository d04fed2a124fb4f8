/* A core from which nearly everything was left out when it was compiled: what is there works, and what is not is
 * refused by name.
 */
#include "support/check.h"
#include "support/fake_port.h"

#include "bambino/options.h"

static uint8_t jpeg[20000];
static size_t jpeg_size;
static fake_device t;

static int prepare(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.outlets[0] = bmb_outlet_of(BMB_OUTLET_HTTP, 8080);
    t.config.outlet_count = 1;
    return 0;
}

static int clean_up(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static const char *ask(const char *path, size_t *size)
{
    char request[200];
    bmb_sock s = fake_connect(t.f, 0);
    snprintf(request, sizeof request, "GET %s HTTP/1.1\r\nHost: a\r\n\r\n", path);
    fake_say_text(t.f, s, request);
    fake_settle(t.f, t.device);
    fake_frame(t.f, 0, jpeg, jpeg_size, true);
    fake_settle(t.f, t.device);
    return fake_take(t.f, s, size);
}

static void what_is_there_works(void **state)
{
    (void)state;
    size_t size;
    fake_device_open(&t);
    const char *text = ask("/yard.mjpeg", &size);
    assert_non_null(strstr(text, "Frame-Number: 1\r\n"));
    assert_true(size > jpeg_size);
    text = ask("/yard.jpg", &size);
    assert_non_null(strstr(text, "Content-Type: image/jpeg\r\n"));
    assert_true(size > jpeg_size);
    fake_run(t.f, t.device, 3000000);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_REPORT), 0);
}

static void what_is_not_there_has_no_address(void **state)
{
    (void)state;
    static const char *const paths[] = { "/status.json", "/", "/yard-320x240.jpg", "/yard.sdp", "/yard.ts" };
    size_t size;
    fake_device_open(&t);
    for (size_t i = 0; i < sizeof paths / sizeof paths[0]; i++) {
        const char *text = ask(paths[i], &size);
        assert_non_null(strstr(text, "HTTP/1.1 404 Not Found\r\n"));
        assert_non_null(strstr(text, "There are:\n/yard.mjpeg\n/yard.jpg\n")); /* and no other */
    }
    int32_t effective;
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_QUALITY, 50, &effective), BMB_UNSUPPORTED);
    assert_null(bmb_stream_format_name(BMB_FORMAT_TS));
}

static void refused(const char *option)
{
    bmb_budget budget;
    bmb_fault fault;
    char text[200];
    assert_int_equal(bmb_budget_of(&t.config, &budget, &fault), BMB_UNSUPPORTED);
    assert_string_equal(fault.part, "build");
    assert_string_equal(fault.key, option);
    bmb_fault_text(&fault, text, sizeof text);
    assert_non_null(strstr(text, option));
    assert_non_null(strstr(text, "built without"));
}

static void what_is_asked_for_and_was_left_out_is_named(void **state)
{
    (void)state;
    static const bmb_asset page = { .path = "/", .type = "text/html", .data = "x", .size = 1 };
    static const bmb_setting setting = { BMB_CONTROL_QUALITY, 50 };
    static const bmb_access access = { .realm = "a" };
    static const bmb_push_config push = { .to = { .family = 4, .ip = { 192, 0, 2, 1 }, .port = 5000 } };
    t.outlets[0].kind = BMB_OUTLET_RTSP;
    refused("BMB_WITH_RTSP");
    t.outlets[0].kind = BMB_OUTLET_TCP;
    refused("BMB_WITH_PLAIN");
    t.outlets[0].kind = BMB_OUTLET_HTTP;
    t.config.assets = &page;
    t.config.asset_count = 1;
    refused("BMB_WITH_PAGE");
    t.config.asset_count = 0;
    t.config.pushes = &push;
    t.config.push_count = 1;
    refused("BMB_WITH_PUSH");
    t.config.push_count = 0;
    t.feeds[0].mode.codec = BMB_CODEC_H264;
    refused("BMB_WITH_H264");
    t.feeds[0].mode.codec = BMB_CODEC_JPEG;
    t.feeds[0].multicast.group = (bmb_addr){ .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 };
    refused("BMB_WITH_MULTICAST");
    t.feeds[0].multicast.group.family = 0;
    t.feeds[0].kbps = 500;
    refused("BMB_WITH_RATE");
    t.feeds[0].kbps = 0;
    t.feeds[0].camera_rests = true;
    refused("BMB_WITH_RESTING");
    t.feeds[0].camera_rests = false;
    t.feeds[0].settings = &setting;
    t.feeds[0].setting_count = 1;
    refused("BMB_WITH_CONTROLS");
    t.feeds[0].setting_count = 0;
    t.config.access = &access;
    refused("BMB_WITH_ACCESS");
    t.config.access = NULL;
    fake_device_open(&t); /* and nothing else stands in the way */
}

static void it_takes_less(void **state)
{
    (void)state;
    fake_device_open(&t);
    assert_true(t.budget.device < 5000); /* with everything over 7000 */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_is_there_works, prepare, clean_up),
        cmocka_unit_test_setup_teardown(what_is_not_there_has_no_address, prepare, clean_up),
        cmocka_unit_test_setup_teardown(what_is_asked_for_and_was_left_out_is_named, prepare, clean_up),
        cmocka_unit_test_setup_teardown(it_takes_less, prepare, clean_up),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
