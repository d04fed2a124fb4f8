/* The page's sign-ins and links that are shared: how they begin, and what ends them. */
#include "device/parts.h"

#include "support/check.h"
#include "support/guarded.h"

static void the_page_stays_signed_in(void **state)
{
    (void)state;
    begin();
    assert_int_equal(post("/sign-in", ""), 401);
    assert_non_null(strstr(answer, "WWW-Authenticate: Bearer")); /* no window of the browser's own */
    assert_null(strstr(answer, "Digest"));
    assert_int_equal(post("/sign-in", bearer("token-of-the-recorder")), 401); /* programs have no page */
    sign_in("ben", "the green one");
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_SIGNED_IN), 1);
    assert_int_equal(get("/yard.jpg", cookie), 200);
    assert_int_equal(get("/loco.jpg", cookie), 404);
    assert_int_equal(get("/who.json", cookie), 200);
    assert_non_null(strstr(answer, "{\"name\":\"ben\",\"role\":\"watch\",\"anybody\":\"none\""));
    char guest[80], wrong[80];
    memcpy(guest, cookie, sizeof guest);
    memcpy(wrong, cookie, sizeof wrong);
    wrong[30] = wrong[30] == '0' ? '1' : '0';
    assert_int_equal(get("/yard.jpg", wrong), 401);
    assert_null(strstr(answer, "Digest"));
    sign_in("anna", "the red signal");
    assert_int_equal(get("/status.json", cookie), 200);
    assert_non_null(strstr(answer, "\"sign_ins\":[{\"number\":0,\"name\":\"ben\",\"peer\":\"192.0.2.99\""));
    assert_int_equal(post("/end-sign-in/0", guest), 403);
    assert_int_equal(post("/end-sign-in/0", cookie), 204);
    assert_int_equal(post("/end-sign-in/0", cookie), 404);
    assert_int_equal(post("/end-sign-in/99", cookie), 404);
    assert_int_equal(get("/yard.jpg", guest), 401);
    assert_int_equal(post("/sign-out", cookie), 204);
    assert_int_equal(get("/yard.jpg", cookie), 401);
    sign_in("anna", "the red signal");
    fake_run(t.f, t.device, 60000000);
    picture();
    assert_int_equal(get("/yard.jpg", cookie), 200);
    t.f->now += 43300000000; /* half a day without a request */
    picture();
    assert_int_equal(get("/yard.jpg", cookie), 401);
    /* No more than there is room for: the one that was not used for longest goes. */
    char first[80];
    sign_in("anna", "the red signal");
    memcpy(first, cookie, sizeof first);
    char second[80];
    for (int i = 0; i < 16; i++) { /* one alone takes no more than a few */
        fake_run(t.f, t.device, 10000);
        t.f->random_next += 3; /* or they would come again after sixteen */
        sign_in("ben", "the green one");
        if (i == 12) memcpy(second, cookie, sizeof second);
    }
    assert_int_equal(get("/yard.jpg", first), 200);
    assert_int_equal(get("/yard.jpg", cookie), 200);
    assert_int_equal(get("/yard.jpg", second), 200);
    t.f->random_next += 3;
    fake_run(t.f, t.device, 10000);
    sign_in("ben", "the green one");
    assert_int_equal(get("/yard.jpg", first), 200);
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    unsigned signed_in = 0;
    for (int i = 0; i < (int)BMB_GUARD_SIGN_INS; i++) signed_in += t.device->talk.guard.kept->sign_ins[i].account == 2;
    assert_int_equal(signed_in, BMB_GUARD_OWN_SIGN_INS);
}

static void pages_of_others_get_nothing(void **state)
{
    (void)state;
    static const char *const names[] = { "yard.example", "yard" }, *const origins[] = { "http://club.example" };
    t.config.names = names;
    t.config.name_count = 2;
    t.config.origins = origins;
    t.config.origin_count = 1;
    access_of.anybody = BMB_ROLE_WATCH;
    begin();
    static const struct {
        const char *head;
        unsigned status;
    } rows[] = {
        { "GET /yard.jpg HTTP/1.1\r\nHost: rebound.example\r\n\r\n", 421 },
        { "GET / HTTP/1.1\r\nHost: yard.example.evil.example\r\n\r\n", 421 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: 192.0.2.1.evil.example\r\n\r\n", 421 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: YARD.example:8080\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: yard.\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: 192.0.2.1\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: [2001:db8::7]:80\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: localhost:8080\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.0\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: yard\r\nOrigin: http://yard\r\n\r\n", 200 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: yard:8080\r\nOrigin: http://yard\r\n\r\n", 403 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: yard\r\nOrigin: http://evil.example\r\n\r\n", 403 },
        { "GET /yard.jpg HTTP/1.1\r\nHost: yard\r\nOrigin: null\r\n\r\n", 403 },
        { "POST /sign-out HTTP/1.1\r\nHost: yard\r\nOrigin: http://club.example\r\n\r\n", 403 },
        { "POST /sign-out HTTP/1.1\r\nHost: yard\r\nOrigin: http://yard\r\n\r\n", 204 },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        bmb_sock s = fake_connect(t.f, 0);
        fake_say_text(t.f, s, rows[i].head);
        fake_settle(t.f, t.device);
        const char *text = fake_take(t.f, s, NULL);
        if ((unsigned)atoi(text + 9) != rows[i].status) fail_msg("%s gave %s", rows[i].head, text);
        assert_non_null(strstr(text, "X-Content-Type-Options: nosniff\r\n"));
        if (rows[i].status != 204) assert_non_null(strstr(text, "Cross-Origin-Resource-Policy: same-origin\r\n"));
        fake_hang_up(t.f, s);
        fake_settle(t.f, t.device);
    }
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_NAME_REFUSED), 3);
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /status.json HTTP/1.1\r\nHost: yard\r\nOrigin: http://club.example\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_non_null(
        strstr(fake_take(t.f, s, NULL), "Access-Control-Allow-Origin: http://club.example\r\nVary: Origin\r\n"));
}

/* Shown in a page: of ours, of one that may, of a third one, or nobody says where. */
static void a_page_that_may_not_show_a_feed_is_told(void **state)
{
    (void)state;
    static const char *const origins[] = { "http://club.example" };
    static const struct {
        const char *fields;
        unsigned told;
    } rows[] = {
        { "User-Agent: Mozilla/5.0\r\nReferer: http://yard:8080/\r\n", 0 },
        { "User-Agent: Mozilla/5.0\r\nReferer: http://club.example/cams.html\r\n", 0 },
        { "User-Agent: Mozilla/5.0\r\n", 0 },
        { "User-Agent: Mozilla/5.0\r\nReferer: about:blank\r\n", 0 },
        { "User-Agent: tool\r\nReferer: http://other.example/\r\n", 0 },
        { "User-Agent: Mozilla/5.0\r\nReferer: http://other.example/cams.html?a=b\r\n", 1 },
        { "User-Agent: Mozilla/5.0\r\nReferer: https://other.example\r\n", 2 },
    };
    t.config.origins = origins;
    t.config.origin_count = 1;
    access_of.anybody = BMB_ROLE_WATCH;
    begin();
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char text[400];
        snprintf(text, sizeof text, "GET /yard.jpg HTTP/1.1\r\nHost: yard:8080\r\n%s\r\n", rows[i].fields);
        bmb_sock s = fake_connect(t.f, 0);
        fake_say_text(t.f, s, text);
        fake_settle(t.f, t.device);
        assert_non_null(strstr(fake_take(t.f, s, NULL), " 200 "));
        assert_int_equal(fake_event_count(t.f, BMB_EVENT_FRAMING_REFUSED), rows[i].told);
        fake_hang_up(t.f, s);
        fake_settle(t.f, t.device);
    }
}

static void links_end_by_themselves(void **state)
{
    (void)state;
    char path[160], headers[300];
    t.f->wall_offset = 1790000000000000;
    begin();
    bmb_link_terms terms = { .number = 7, .until_s = 1790000060 };
    snprintf(path, sizeof path, "%s.jpg?whatever=1", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 200);
    snprintf(path, sizeof path, "%s-320x240.jpg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 401); /* watching alone */
    snprintf(path, sizeof path, "%s-640x480.jpg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 401);
    terms.viewers = BMB_LINK_OWNERS; /* but for the owner's programs */
    snprintf(path, sizeof path, "%s-640x480.jpg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 200);
    terms.viewers = 0;
    bmb_sock s = fake_connect(t.f, 1);
    snprintf(path, sizeof path, "%s", link_to("yard", &terms) + 1);
    assert_int_equal(status_of(rtsp(s, "DESCRIBE", path, "")), 200);
    assert_non_null(strstr(answer, "Content-Base: rtsp://h/lent/"));
    fake_run(t.f, t.device, 61000000);
    picture();
    snprintf(path, sizeof path, "%s.jpg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 401);
    t.f->wall_offset -= 3600000000; /* a clock that is set back brings nothing back, also after a restart */
    assert_int_equal(get(path, ""), 401);
    fake_run(t.f, t.device, 3000000);
    bmb_close(t.device);
    free(t.memory);
    begin();
    assert_int_equal(get(path, ""), 401);
    t.f->wall_offset += 3600000000;
    /* After so many viewers, by whatever way; stills are none. */
    terms = (bmb_link_terms){ .number = 8, .viewers = 2 };
    snprintf(path, sizeof path, "%s.mjpeg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 200);
    s = fake_connect(t.f, 1);
    snprintf(path, sizeof path, "%s/video", link_to("yard", &terms) + 1);
    assert_int_equal(status_of(rtsp(s, "SETUP", path, TCP)), 200);
    snprintf(headers, sizeof headers, "Session: %.16s\r\n", strstr(answer, "Session: ") + 9);
    snprintf(path, sizeof path, "%s", link_to("yard", &terms) + 1);
    assert_int_equal(status_of(rtsp(s, "PLAY", path, headers)), 200);
    assert_int_equal(status_of(rtsp(s, "PAUSE", path, headers)), 200);
    picture();
    assert_int_equal(status_of(rtsp(s, "TEARDOWN", path, headers)), 200);
    snprintf(path, sizeof path, "%s.mjpeg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 403);
    snprintf(path, sizeof path, "%s.jpg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 403); /* nor a still, once it is used up */
    /* What was counted outlives a restart. */
    fake_run(t.f, t.device, 3000000);
    bmb_close(t.device);
    free(t.memory);
    begin();
    snprintf(path, sizeof path, "%s.mjpeg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 403);
    /* Called back by the configuration, and by an administrator. */
    terms = (bmb_link_terms){ .number = 9 };
    const uint32_t ended[] = { 9 };
    snprintf(path, sizeof path, "%s.jpg", link_to("yard", &terms));
    assert_int_equal(get(path, ""), 200);
    access_of.links_ended = ended;
    access_of.links_ended_count = 1;
    assert_int_equal(get(path, ""), 401);
    sign_in("ben", "the green one");
    assert_int_equal(post("/lend/yard/60/3", cookie), 403);
    sign_in("anna", "the red signal");
    assert_int_equal(post("/lend/yard/60/3", cookie), 200);
    const char *made = strstr(answer, "/lent/");
    snprintf(path, sizeof path, "%.*s.jpg", (int)strcspn(made, "\""), made);
    unsigned number = (unsigned)strtoul(strstr(answer, "\"number\":") + 9, NULL, 10);
    assert_int_equal(get(path, ""), 200);
    char end[40];
    snprintf(end, sizeof end, "/end-link/%u", number);
    assert_int_equal(post(end, ""), 401);
    assert_int_equal(post(end, cookie), 204);
    assert_int_equal(get(path, ""), 401);
    assert_int_equal(post("/lend/nothing/60", cookie), 404);
    assert_int_equal(post("/lend/yard/x", cookie), 404);
    assert_int_equal(post("/lend/yard/60/3/4", cookie), 404);
    assert_int_equal(post("/lend/yard/60/65535", cookie), 404);
    assert_int_equal(post("/end-link/0", cookie), 404);
    /* Those that would have ended by now need no memory any more. */
    char many[60];
    for (unsigned i = 0; i < 14; i++) {
        snprintf(many, sizeof many, "/end-link/%u/%u", 100 + i, 1790000000 + 100 + i);
        assert_int_equal(post(many, cookie), 204);
    }
    assert_int_equal(post("/end-link/300", cookie), 409);
    fake_run(t.f, t.device, 60000000);
    assert_int_equal(post("/end-link/300", cookie), 204);
    t.f->wall_offset = 0; /* nobody knows when it would end */
    assert_int_equal(post("/lend/yard/60", cookie), 409);
    assert_int_equal(post("/lend/yard/0", cookie), 200);
}

/* By a link over HTTP and over RTSP, and by a sign-in of the page: all three end while they are watched by. */
static void who_watches_by_what_ends_is_put_out(void **state)
{
    (void)state;
    char text[900], path[200];
    size_t size;
    t.f->wall_offset = 1790000000000000;
    begin();
    bmb_link_terms timed = { .number = 7, .until_s = 1790000030 }, called = { .number = 8 };
    bmb_sock s = fake_connect(t.f, 0), r = fake_connect(t.f, 1), w = fake_connect(t.f, 0);
    snprintf(text, sizeof text, "GET %s.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n", link_to("yard", &timed));
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    snprintf(path, sizeof path, "%s", link_to("yard", &called) + 1);
    assert_int_equal(status_of(rtsp(r, "SETUP", path, "Transport: RTP/AVP;unicast;client_port=6000-6001\r\n")), 200);
    snprintf(text, sizeof text, "Session: %.16s\r\n", strstr(answer, "Session: ") + 9);
    assert_int_equal(status_of(rtsp(r, "PLAY", path, text)), 200);
    sign_in("ben", "the green one");
    snprintf(text, sizeof text, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n%s\r\n", cookie);
    fake_say_text(t.f, w, text);
    fake_settle(t.f, t.device);
    picture();
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.viewers, 3);
    fake_run(t.f, t.device, 5000000);
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.viewers, 3);
    assert_int_equal(post("/sign-out", cookie), 204);
    fake_run(t.f, t.device, 1100000);
    assert_false(t.f->socks[w].open);
    sign_in("anna", "the red signal");
    assert_int_equal(post("/end-link/8", cookie), 204);
    fake_run(t.f, t.device, 1100000);
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.viewers, 1);
    picture();
    fake_take(t.f, s, &size);
    assert_true(size > 0);
    fake_run(t.f, t.device, 30000000);
    assert_false(t.f->socks[s].open);
    assert_int_equal(t.device->talk.guard.look_us, 0); /* and nobody looks any more */
}

static void other_accounts_put_out_who_may_not_stay(void **state)
{
    (void)state;
    static bmb_account fewer[8];
    begin();
    bmb_sock s = fake_connect(t.f, 0), kept = fake_connect(t.f, 0), r = fake_connect(t.f, 1);
    char text[900];
    (void)get("/who.json", "");
    take_nonce();
    snprintf(text, sizeof text, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n%s\r\n",
             digest(false, "ben", "the green one", "GET", "/yard.mjpeg", 1));
    fake_say_text(t.f, s, text);
    snprintf(text, sizeof text, "GET /loco.mjpeg HTTP/1.1\r\nHost: a\r\n%s\r\n", bearer("token-of-the-recorder"));
    fake_say_text(t.f, kept, text);
    fake_settle(t.f, t.device);
    (void)rtsp(r, "DESCRIBE", "yard", "");
    take_nonce();
    snprintf(text, sizeof text, TCP "%s", digest(true, "ben", "the green one", "SETUP", "rtsp://h/yard/video", 0));
    assert_int_equal(status_of(rtsp(r, "SETUP", "yard/video", text)), 200);
    snprintf(text, sizeof text, "Session: %.16s\r\n", strstr(answer, "Session: ") + 9);
    assert_int_equal(status_of(rtsp(r, "PLAY", "yard", text)), 200);
    sign_in("ben", "the green one");
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.viewers, 3);
    /* Ben is gone; the recorder stands elsewhere in the list. */
    fewer[0] = accounts[3];
    fewer[1] = accounts[0];
    const bmb_access next = { .realm = "railway", .accounts = fewer, .account_count = 2 };
    assert_int_equal(bmb_access_change(t.device, &next), BMB_OK);
    fake_settle(t.f, t.device);
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.viewers, 1);
    assert_false(t.f->socks[s].open);
    assert_true(t.f->socks[kept].open);
    assert_int_equal(get("/yard.jpg", cookie), 401);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_SESSION_ENDED), 1);
    fake_take(t.f, kept, NULL);
    picture();
    size_t size;
    fake_take(t.f, kept, &size);
    assert_true(size > jpeg_size);
    bmb_access bad = next;
    bad.realm = "\"";
    assert_int_equal(bmb_access_change(t.device, &bad), BMB_BAD_ARG);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(the_page_stays_signed_in),
        TEST(pages_of_others_get_nothing),
        TEST(a_page_that_may_not_show_a_feed_is_told),
        TEST(links_end_by_themselves),
        TEST(who_watches_by_what_ends_is_put_out),
        TEST(other_accounts_put_out_who_may_not_stay),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
