/* Settings over HTTP without a file: what a microcontroller offers of its feeds. */
#include "support/check.h"
#include "support/fake_port.h"

#include <cjson/cJSON.h>

static fake_device t;
static bmb_settings settings;
static char memory[6000];
static const bmb_mode_row modes[] = { { BMB_CODEC_JPEG, 640, 480, 30000 }, { BMB_CODEC_JPEG, 320, 240, 60000 } };

static int prepare(void **state)
{
    (void)state;
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    fake_camera *c = &t.f->cameras[0];
    c->info.modes = modes;
    c->info.mode_count = 2;
    memset(c->info.controls, 0, sizeof c->info.controls);
    c->info.controls[BMB_CONTROL_BRIGHTNESS] = (bmb_range){ -100, 100, 1, 0 };
    c->info.controls[BMB_CONTROL_QUALITY] = (bmb_range){ 1, 100, 1, 75 };
    c->info.controls[BMB_CONTROL_ROTATE] = (bmb_range){ 0, 180, 180, 0 };
    c->info.controls[BMB_CONTROL_KEY_MS] = (bmb_range){ 0, 0, 0, 0 };
    c->controls[BMB_CONTROL_QUALITY] = 75;
    t.feeds[0].keep_controls = true;
    bmb_settings_prepare(&settings, &t.config, memory, sizeof memory);
    fake_device_open(&t);
    bmb_settings_begin(&settings, t.device);
    return 0;
}

static int clean_up(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static const char *asks(const char *method, const char *path, const char *body, const char *lines)
{
    char text[1200];
    if (body != NULL) {
        snprintf(text, sizeof text, "%s %s HTTP/1.1\r\nHost: a\r\nContent-Length: %zu\r\n%s\r\n%s", method, path,
                 strlen(body), lines, body);
    } else {
        snprintf(text, sizeof text, "%s %s HTTP/1.1\r\nHost: a\r\n%s\r\n", method, path, lines);
    }
    bmb_sock s = fake_connect(t.f, 0);
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    const char *answer = fake_take(t.f, s, NULL);
    const char *document = strstr(answer, "\r\n\r\n");
    if (document != NULL && document[4] == '{') { /* whatever comes is JSON */
        cJSON *json = cJSON_Parse(document + 4);
        assert_non_null(json);
        cJSON_Delete(json);
    }
    return answer;
}

static void assert_says(const char *text, const char *what)
{
    if (strstr(text, what) == NULL) fail_msg("no %s in %s", what, text);
}

static const char *patch(const char *body)
{
    return asks("PATCH", "/settings", body, "");
}

static void they_are_read(void **state)
{
    (void)state;
    const char *text = asks("GET", "/settings", NULL, "");
    assert_says(text, " 200 OK");
    assert_says(
        text, "{\"feed\":{\"yard\":{\"quality\":75,\"brightness\":0,\"rotate\":0,\"size\":\"640x480\",\"rate\":15}}}");
    char etag[40], lines[80];
    snprintf(etag, sizeof etag, "%.10s", strstr(text, "ETag: ") + 6);
    snprintf(lines, sizeof lines, "If-None-Match: %s\r\n", etag);
    assert_says(asks("GET", "/settings", NULL, lines), " 304 ");
    text = asks("GET", "/settings/details", NULL, "");
    assert_says(text, "{\"section\":\"feed\",\"name\":\"yard\",\"key\":\"brightness\",\"value\":0,\"preset\":0,"
                      "\"least\":-100,\"most\":100,\"step\":1,");
    assert_says(text, "\"key\":\"size\",\"value\":\"640x480\",\"preset\":\"\",\"choices\":[\"640x480\",\"320x240\"],");
    assert_says(text, "\"key\":\"rate\",\"value\":15,\"preset\":15,\"least\":1,\"most\":30,");
    assert_null(strstr(text, "contrast"));
    assert_says(text, "\"kept\":true");
    assert_says(asks("GET", "/settings/trial", NULL, ""), "{\"trial\":null}");
    assert_says(asks("POST", "/settings", "{}", ""), " 405 ");
    assert_says(asks("DELETE", "/settings/details", NULL, ""), " 405 ");
}

static void they_are_changed_as_a_whole(void **state)
{
    (void)state;
    const char *text = patch("{\"feed\": {\"yard\": {\"size\": \"320x240\", \"rate\": 7.5, \"brightness\": -20}}}");
    assert_says(text, " 200 OK");
    assert_says(text, "\"settings\":3,\"in_force\":\"now\",\"kept\":true");
    assert_says(text, "\"key\":\"rate\",\"value\":7.5,");
    assert_int_equal(t.f->cameras[0].mode.width, 320);
    assert_int_equal(t.f->cameras[0].mode.mfps, 7500);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_BRIGHTNESS], -20);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_SETTINGS_CHANGED), 1);
    assert_says(patch("{\"feed\":{\"yard\":{\"brightness\":null}}}"), "\"value\":0,");
    assert_says(patch("{}"), "\"settings\":0,");
    assert_says(patch("{\"feed\":{\"yard\":{}}}"), "\"settings\":0,");
    /* The last of them cannot be: none is. */
    t.f->cameras[0].set_err = BMB_DENIED;
    text = patch("{\"feed\":{\"yard\":{\"size\":\"640x480\",\"brightness\":5}}}");
    assert_says(text, " 422 ");
    t.f->cameras[0].set_err = BMB_OK;
    assert_int_equal(t.f->cameras[0].mode.width, 320);
    fake_run(t.f, t.device, 20000);
    assert_says(asks("GET", "/settings", NULL, ""), "\"size\":\"320x240\"");
    assert_says(asks("PATCH", "/settings", "{}", "If-Match: \"other\"\r\n"), " 412 ");
    assert_says(asks("PATCH", "/settings", "{}", "If-Match: *\r\n"), " 200 ");
}

static void what_cannot_be_is_told(void **state)
{
    (void)state;
    static const struct {
        const char *body, *says;
    } rows[] = {
        { "", " 400 " },
        { "[]", " 400 " },
        { "{\"feed\":", " 400 " },
        { "{\"feed\":{}} x", " 400 " },
        { "{\"feed\":{\"yard\":{\"brightness\":5}}", " 400 " },
        { "{\"device\":{}}", "settings of feeds only" },
        { "{\"feed\":{\"loft\":{\"brightness\":5}}}", "\"at\":\"/feed/loft\"" },
        { "{\"feed\":{\"yard\":{\"contrast\":5}}}", "\"at\":\"/feed/yard/contrast\"" },
        { "{\"feed\":{\"yard\":{\"brightness\":101}}}", "another range" },
        { "{\"feed\":{\"yard\":{\"brightness\":-101}}}", "another range" },
        { "{\"feed\":{\"yard\":{\"brightness\":1.5}}}", "a whole number" },
        { "{\"feed\":{\"yard\":{\"rotate\":90}}}", "another range" },
        { "{\"feed\":{\"yard\":{\"brightness\":\"x\"}}}", "a number is expected" },
        { "{\"feed\":{\"yard\":{\"brightness\":99999999999999999999}}}", " 422 " },
        { "{\"feed\":{\"yard\":{\"size\":\"640\"}}}", "WIDTHxHEIGHT" },
        { "{\"feed\":{\"yard\":{\"size\":640}}}", "WIDTHxHEIGHT" },
        { "{\"feed\":{\"yard\":{\"size\":\"800x600\"}}}", "cannot" },
        { "{\"feed\":{\"yard\":{\"size\":null}}}", "no preset" },
        { "{\"feed\":{\"yard\":{\"rate\":31}}}", "cannot" },
        { "{\"feed\":{\"yard\":{\"rate\":0.5}}}", "cannot" },
        { "{\"feed\":{\"yard\":{\"rate\":-3}}}", "cannot" },
        { "{\"feed\":{\"y\\u0061rd\":{}}}", " 400 " },
        { "{\"feed\":{\"yard\":{\"b\xFFy\":1}}}", " 422 " },
        { "{\"feed\":{\"yard\":{\"brightness\":1,\"brightness\":2,\"brightness\":3,\"brightness\":4,\"brightness\":5,"
          "\"brightness\":6,\"brightness\":7,\"brightness\":8,\"brightness\":9}}}",
          "too many" },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        const char *text = patch(rows[i].body);
        if (strstr(text, rows[i].says) == NULL) fail_msg("%s: %s", rows[i].body, text);
        assert_says(text, strlen(rows[i].body) > 0 ? "application/problem+json" : "");
    }
    assert_int_equal(t.f->cameras[0].mode.width, 640);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_BRIGHTNESS], 0);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_SETTINGS_CHANGED), 0);
}

static void a_size_is_kept_over_a_restart(void **state)
{
    (void)state;
    (void)patch("{\"feed\":{\"yard\":{\"size\":\"320x240\",\"rate\":5}}}");
    assert_string_equal(t.f->record_name, "mode-yard");
    bmb_close(t.device);
    free(t.memory);
    bmb_settings_prepare(&settings, &t.config, memory, sizeof memory);
    fake_device_open(&t);
    assert_says(asks("GET", "/settings", NULL, ""), " 503 "); /* it has not begun */
    bmb_settings_begin(&settings, t.device);
    fake_run(t.f, t.device, 20000);
    assert_int_equal(t.f->cameras[0].mode.width, 320);
    assert_int_equal(t.f->cameras[0].mode.mfps, 5000);
    t.f->record[1] = 77; /* what the camera does not have, or garbage, changes nothing */
    bmb_settings_begin(&settings, t.device);
    assert_int_equal(t.f->cameras[0].mode.width, 320);
}

static void one_document_at_a_time(void **state)
{
    (void)state;
    bmb_sock s = fake_connect(t.f, 0);
    fake_settle(t.f, t.device);
    t.f->socks[s].room = 300;
    fake_say_text(t.f, s, "GET /settings/details HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_says(asks("GET", "/settings", NULL, ""), " 503 ");
    t.f->socks[s].room = SIZE_MAX;
    fake_run(t.f, t.device, 20000);
    assert_says(asks("GET", "/settings", NULL, ""), " 200 ");
    settings.room = 60; /* too little for the document */
    assert_says(asks("GET", "/settings", NULL, ""), " 500 ");
    settings.room = sizeof memory;
    assert_says(asks("GET", "/settings", NULL, ""), " 200 ");
}

#define TEST(function) cmocka_unit_test_setup_teardown(function, prepare, clean_up)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(they_are_read),          TEST(they_are_changed_as_a_whole),
        TEST(what_cannot_be_is_told), TEST(a_size_is_kept_over_a_restart),
        TEST(one_document_at_a_time),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
