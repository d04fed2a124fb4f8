/* What the page is given: /events, which tells what happened lately and what happens to those who may know; and its own
 * files, which browsers keep. */
#include "support/check.h"
#include "support/fake_port.h"

#include "bambino/tls.h"
#include "base/history.h"
#include "device/parts.h"
#include "serve/happened.h"
#include "serve/status.h"

static fake_device t;
static uint8_t jpeg[20000];
static size_t jpeg_size;
static bmb_account accounts[3];
static bmb_access access_of;

static void program(const char *name, bmb_role role, uint64_t feeds)
{
    bmb_account *a = &accounts[access_of.account_count++];
    const bmb_slice token = { name, strlen(name) }; /* it is called like its token */
    *a = (bmb_account){ .role = role, .feeds = feeds, .program = true };
    snprintf(a->name, sizeof a->name, "%s", name);
    bmb_mbedtls_hash(NULL, BMB_HASH_SHA256, &token, 1, a->sha256);
}

static int prepare(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 3000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    fake_camera_add(t.f, "loco", BMB_CODEC_JPEG);
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = t.feeds[1].camera = "loco";
    t.config.feed_count = 2;
    t.config.events = 4;
    return 0;
}

static int clean_up(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void begin(void)
{
    fake_device_open(&t);
    fake_run(t.f, t.device, 100000);
}

static void guarded(void)
{
    access_of = (bmb_access){ .realm = "railway", .accounts = accounts };
    program("chief", BMB_ROLE_ADMINISTER, UINT64_MAX);
    program("guest", BMB_ROLE_WATCH, 1);
    t.config.access = &access_of;
}

static bmb_sock ask(const char *method, const char *path, const char *headers)
{
    char text[300];
    bmb_sock s = fake_connect(t.f, 0);
    snprintf(text, sizeof text, "%s %s HTTP/1.1\r\nHost: a\r\n%s\r\n", method, path, headers);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    return s;
}

static const char *said(bmb_sock s)
{
    static char out[20000];
    size_t size;
    const char *got = fake_take(t.f, s, &size);
    size = size < sizeof out ? size : sizeof out - 1;
    memcpy(out, got, size);
    out[size] = '\0';
    return out;
}

static void has(const char *text, const char *wanted)
{
    if (strstr(text, wanted) == NULL) fail_msg("no \"%s\" in:\n%s", wanted, text);
}

static void has_not(const char *text, const char *unwanted)
{
    if (strstr(text, unwanted) != NULL) fail_msg("\"%s\" in:\n%s", unwanted, text);
}

/* A viewer comes and goes: two events. */
static void visit(const char *headers)
{
    bmb_sock s = ask("GET", "/yard.mjpeg", headers);
    fake_frame(t.f, 0, jpeg, jpeg_size, true);
    fake_run(t.f, t.device, 50000);
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
}

static void what_happened_is_told_and_what_happens(void **state)
{
    (void)state;
    t.f->wall_offset = 1790000000000000;
    begin();
    bmb_sock s = ask("GET", "/events", "");
    const char *text = said(s);
    has(text, "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n");
    has(text, "Cache-Control: no-store\r\n");
    has_not(text, "chunked");
    has(text, "id: 1\ndata: {\"event\":\"camera-started\",\"level\":\"info\",\"uptime_s\":0,\"unix_s\":17900000");
    has(text, "\"feed\":\"yard\",\"width\":640,\"height\":480,\"fps\":15}\n\nid: 2\n");
    has(text, "\"feed\":\"loco\"");
    visit("");
    text = said(s);
    has(text, "id: 3\ndata: {\"event\":\"viewer-came\"");
    has(text, "\"feed\":\"yard\",\"value\":1,\"extra\":0}\n\n");
    has(text, "id: 4\ndata: {\"event\":\"viewer-left\"");
    has_not(text, "192.0.2"); /* from where is for administrators, and there are none */
    /* Whoever comes again goes on where he was; what he cannot have heard is from before a restart. */
    bmb_sock again = ask("GET", "/events", "Last-Event-ID: 3\r\n");
    text = said(again);
    has_not(text, "id: 3\n");
    has(text, "id: 4\n");
    static const char *const odd[] = { "Last-Event-ID: 900\r\n", "Last-Event-ID: x\r\n", "Last-Event-ID: \r\n",
                                       "Last-Event-ID: 99999999999\r\n" };
    for (size_t i = 0; i < 4; i++) has(said(ask("GET", "/events", odd[i])), "id: 1\n");
    /* No more are kept than was said. */
    visit("");
    text = said(ask("GET", "/events", ""));
    has_not(text, "id: 2\n");
    has(text, "id: 3\n");
    has(text, "id: 6\n");
}

/* Time passes, and nothing happens. */
static void figures_come_as_events_of_their_own(void **state)
{
    (void)state;
    begin();
    bmb_sock s = ask("GET", "/events/figures", "");
    fake_run(t.f, t.device, 3000000);
    const char *text = said(s);
    has(text, "event: figures\ndata: {\"device\":{");
    has(text, "event: figures\ndata: {\"feed\":{");
    has(text, "\"name\":\"loco\"");
    has_not(said(ask("GET", "/events", "")), "event: figures");
}

static void quiet(uint64_t us)
{
    for (uint64_t end = t.f->now + us; t.f->now < end;) {
        for (size_t i = 0; i < 2; i++) fake_frame(t.f, i, jpeg, jpeg_size, true);
        fake_run(t.f, t.device, 66667);
    }
}

static void a_listener_is_kept_alive_and_waited_for_no_longer_than_others(void **state)
{
    (void)state;
    t.config.stall_ms = 5000;
    begin();
    bmb_sock s = ask("GET", "/events", "");
    (void)said(s);
    quiet(14000000);
    assert_string_equal(said(s), "");
    quiet(2000000);
    assert_string_equal(said(s), ":\n\n");
    quiet(15000000);
    assert_string_equal(said(s), ":\n\n");
    /* Who takes nothing misses what is not kept any more, and is closed after a while. */
    t.f->socks[s].room = 0;
    for (int i = 0; i < 4; i++) visit("");
    t.f->socks[s].room = FAKE_OUT;
    quiet(100000);
    const char *text = said(s);
    has(text, "id: 3\n"); /* was being sent */
    has_not(text, "id: 4\n");
    has(text, "id: 10\n");
    t.f->socks[s].room = 0;
    visit("");
    quiet(6000000);
    assert_true(t.f->socks[s].gone);
}

static void addresses_and_methods(void **state)
{
    (void)state;
    begin();
    bmb_sock s = ask("HEAD", "/events", "");
    const char *text = said(s);
    has(text, "200 OK");
    has_not(text, "id:");
    has(said(ask("POST", "/events", "Content-Length: 0\r\n")), "405");
    has(said(ask("GET", "/events/", "")), "404");
    fake_device_close(&t);
    prepare(NULL);
    t.config.events = 0;
    begin();
    has(said(ask("GET", "/events", "")), "404");
}

static void files_are_kept_and_asked_about(void **state)
{
    (void)state;
    static const bmb_asset assets[] = {
        { "/", "text/html", "packed", 6, "gzip", "\"tag-1\"" },
        { "/plain.txt", "text/plain", "plain", 5, NULL, NULL },
    };
    t.config.assets = assets;
    t.config.asset_count = 2;
    begin();
    const char *text = said(ask("GET", "/", ""));
    has(text, "200 OK");
    has(text, "Content-Encoding: gzip\r\nVary: Accept-Encoding\r\nCache-Control: no-cache\r\nETag: \"tag-1\"\r\n");
    has(text, "\r\n\r\npacked");
    static const char *const had[] = { "\"tag-1\"", "W/\"tag-1\"", "\"other\", \"tag-1\"" };
    for (size_t i = 0; i < 3; i++) {
        char line[100];
        snprintf(line, sizeof line, "If-None-Match: %s\r\n", had[i]);
        text = said(ask("GET", "/", line));
        has(text, "304 Not Modified\r\n");
        has(text, "ETag: \"tag-1\"\r\n");
        has_not(text, "packed");
        has_not(text, "Content-Length");
        assert_non_null(strstr(text, "\r\n\r\n"));
        assert_string_equal(strstr(text, "\r\n\r\n") + 4, "");
    }
    has(said(ask("GET", "/", "If-None-Match: \"tag-2\"\r\n")), "200 OK");
    has(said(ask("GET", "/", "If-None-Match: \r\n")), "200 OK");
    text = said(ask("GET", "/plain.txt", "If-None-Match: \"tag-1\"\r\n"));
    has(text, "200 OK");
    has(text, "Cache-Control: no-store\r\n");
    has_not(text, "Encoding");
    text = said(ask("HEAD", "/", ""));
    has(text, "Content-Length: 6\r\n");
    has_not(text, "packed");
}

static void everybody_sees_his_own(void **state)
{
    (void)state;
    t.config.events = 40;
    guarded();
    begin();
    has(said(ask("GET", "/events", "")), "401");
    bmb_sock chief = ask("GET", "/events", "Authorization: Bearer chief\r\n"),
             guest = ask("GET", "/events", "Authorization: Bearer guest\r\n");
    const char *text = said(chief);
    has(text, "\"feed\":\"loco\"");
    text = said(guest);
    has(text, "\"feed\":\"yard\"");
    has_not(text, "loco");
    visit("Authorization: Bearer guest\r\n");
    (void)ask("GET", "/yard.jpg", "Authorization: Bearer nobody\r\n");
    (void)ask("GET", "/nothing", "Authorization: Bearer guest\r\n");
    fake_run(t.f, t.device, 10000);
    text = said(chief);
    has(text, "viewer-came");
    has(text, "\"peer\":\"192.0.2.99\"");
    has(text, "{\"event\":\"sign-in-failed\",\"level\":\"warning\"");
    has(text, "\"event\":\"not-found\"");
    has(text, "\"text\":\"HTTP /nothing\"");
    text = said(guest);
    has(text, "viewer-came");
    has_not(text, "192.0.2");
    has_not(text, "sign-in-failed");
    has_not(text, "not-found");
    /* Who may not watch any longer hears nothing more. */
    static bmb_access fewer;
    fewer = access_of;
    fewer.account_count = 1;
    assert_int_equal(bmb_access_change(t.device, &fewer), BMB_OK);
    visit("Authorization: Bearer chief\r\n");
    has(said(chief), "viewer-left");
    assert_string_equal(said(guest), "");
    fake_run(t.f, t.device, 2000000);
    assert_true(t.f->socks[guest].gone);
}

static void listeners_give_way_to_newcomers(void **state)
{
    (void)state;
    t.config.viewers = 2;
    t.config.spare = 1;
    begin();
    for (int i = 0; i < 3; i++) (void)ask("GET", "/events", "");
    fake_frame(t.f, 0, jpeg, jpeg_size, true);
    has(said(ask("GET", "/yard.jpg", "")), "200 OK");
}

static void the_history_keeps_what_it_can(void **state)
{
    (void)state;
    static bmb_moment moments[3];
    const bmb_feed_config feeds[] = { { .name = "yard" }, { .name = "loco" } };
    const bmb_config config = { .feeds = feeds, .feed_count = 2 };
    bmb_history h = { .moments = moments, .next = 1, .most = 3 };
    uint32_t number = 1;
    assert_null(bmb_history_from(&h, &number));
    const bmb_addr peer = { .family = 4, .ip = { 192, 0, 2, 9 } };
    bmb_event e = { .code = BMB_EVENT_CAMERA_SAYS, .feed = "loco", .peer = &peer, .value = -5, .extra = 6 };
    e.text = "0123456789012345678901234567890123456789";
    bmb_history_note(&h, &config, 77, &e);
    const bmb_moment *m = bmb_history_from(&h, &number);
    assert_true(m->feed == 1 && m->value == -5 && m->extra == 6 && m->at_us == 77 && m->peer.ip[3] == 9);
    assert_string_equal(m->text, "0123456789012345678901234567890");
    number = 0; /* from before all */
    assert_ptr_equal(bmb_history_from(&h, &number), m);
    assert_int_equal(number, 1);
    e = (bmb_event){ .code = BMB_EVENT_REPORT };
    bmb_history_note(&h, &config, 78, &e); /* each second: they would push out all else */
    assert_int_equal(h.next, 2);
    e = (bmb_event){ .code = BMB_EVENT_ACCEPT_PAUSED, .feed = "no such" };
    for (int i = 0; i < 9; i++) bmb_history_note(&h, &config, 80 + i, &e);
    m = bmb_history_from(&h, &number);
    assert_true(number == 8 && m->at_us == 86 && m->feed == BMB_NO_FEED && m->text[0] == '\0' && m->peer.family == 0);
    number = 10;
    assert_int_equal(bmb_history_from(&h, &number)->at_us, 88);
    number = 11;
    assert_null(bmb_history_from(&h, &number));
    h.most = 0;
    bmb_history_note(&h, &config, 99, &e);
    assert_int_equal(h.next, 11);
    for (int code = 0; code < BMB_EVENT_COUNT; code++) assert_non_null(bmb_event_name((bmb_event_code)code));
    assert_null(bmb_event_name((bmb_event_code)BMB_EVENT_COUNT));
    assert_string_equal(bmb_event_name(BMB_EVENT_HANDSHAKE_FAILED), "handshake-failed");
    assert_string_equal(bmb_event_name(BMB_EVENT_VIEWER_CAME), "viewer-came");
}

/* Who and what was said is for administrators, whatever it is about. */
static void an_event_as_an_object(void **state)
{
    (void)state;
    static uint8_t memory[BMB_STATUS_MEMORY] __attribute__((aligned(16)));
    char out[600];
    bmb_moment m = { .code = BMB_EVENT_CHANGED_BY,
                     .level = BMB_LEVEL_INFO,
                     .err = BMB_DENIED,
                     .feed = 0,
                     .value = BMB_CONTROL_BRIGHTNESS,
                     .extra = (int64_t)((uint64_t)(uint32_t)-3 << 32 | 40u),
                     .peer = { .family = 4, .ip = { 192, 0, 2, 9 } },
                     .text = "an\"na" };
    out[bmb_happened(&m, "yard", 1500000, 1790000000000000, true, memory, sizeof memory, out, sizeof out)] = '\0';
    assert_string_equal(out, "{\"event\":\"changed-by\",\"level\":\"info\",\"uptime_s\":1.5,\"unix_s\":1790000000,"
                             "\"feed\":\"yard\",\"error\":\"denied\",\"control\":\"brightness\",\"from\":-3,\"to\":40,"
                             "\"peer\":\"192.0.2.9\",\"text\":\"an\\\"na\"}");
    out[bmb_happened(&m, NULL, 0, 0, false, memory, sizeof memory, out, sizeof out)] = '\0';
    assert_string_equal(out, "{\"event\":\"changed-by\",\"level\":\"info\",\"uptime_s\":0,\"error\":\"denied\","
                             "\"control\":\"brightness\",\"from\":-3,\"to\":40}");
    m = (bmb_moment){ .code = BMB_EVENT_CONTROL_LOWERED, .value = BMB_CONTROL_QUALITY, .extra = 55, .level = 1 };
    out[bmb_happened(&m, NULL, 0, 0, true, memory, sizeof memory, out, sizeof out)] = '\0';
    assert_string_equal(out, "{\"event\":\"control-lowered\",\"level\":\"warning\",\"uptime_s\":0,"
                             "\"control\":\"quality\",\"to\":55}");
    assert_int_equal(bmb_happened(&m, NULL, 0, 0, true, memory, sizeof memory, out, 40), 0);
}

/* What is described is what there is. */
static void every_event_is_described(void **state)
{
    (void)state;
    static char text[20000], name[64];
    FILE *f = fopen(BAMBINO_SOURCE "/docs/events.md", "r");
    assert_non_null(f);
    text[fread(text, 1, sizeof text - 1, f)] = '\0';
    fclose(f);
    for (int code = 0; code < BMB_EVENT_COUNT; code++) {
        snprintf(name, sizeof name, "`%s`", bmb_event_name((bmb_event_code)code));
        if (code != BMB_EVENT_REPORT) has(text, name);
    }
}

#define TEST(function) cmocka_unit_test_setup_teardown(function, prepare, clean_up)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(what_happened_is_told_and_what_happens),
        TEST(figures_come_as_events_of_their_own),
        TEST(a_listener_is_kept_alive_and_waited_for_no_longer_than_others),
        TEST(addresses_and_methods),
        TEST(files_are_kept_and_asked_about),
        TEST(everybody_sees_his_own),
        TEST(listeners_give_way_to_newcomers),
        cmocka_unit_test(the_history_keeps_what_it_can),
        cmocka_unit_test(an_event_as_an_object),
        cmocka_unit_test(every_event_is_described),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
