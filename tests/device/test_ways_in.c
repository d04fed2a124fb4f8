/* Who may what by every way in: RTSP, framed, plain connections, groups; and that nothing tells what is hidden. */
#include "base/bytes.h"
#include "base/hmac.h"
#include "device/parts.h"
#include "wire/framed.h"

#include "support/check.h"
#include "support/guarded.h"

static void rtsp_asks_and_never_hangs_up(void **state)
{
    (void)state;
    begin();
    bmb_sock s = fake_connect(t.f, 1);
    char both[900];
    assert_int_equal(status_of(rtsp(s, "OPTIONS", "yard", "")), 200);
    assert_int_equal(status_of(rtsp(s, "DESCRIBE", "nothing", "")), 401); /* nor which feeds there are */
    assert_int_equal(status_of(rtsp(s, "DESCRIBE", "yard", "")), 401);
    assert_non_null(strstr(answer, "algorithm=SHA-256"));
    assert_non_null(strstr(answer, "algorithm=MD5"));
    take_nonce();
    assert_int_equal(
        status_of(rtsp(s, "DESCRIBE", "yard", digest(true, "ben", "wrong", "DESCRIBE", "rtsp://h/yard", 0))), 401);
    assert_null(strstr(answer, "stale"));
    assert_int_equal(
        status_of(rtsp(s, "DESCRIBE", "yard", digest(true, "ben", "the green one", "DESCRIBE", "rtsp://h/yard", 0))),
        200);
    assert_int_equal(
        status_of(rtsp(s, "DESCRIBE", "loco", digest(false, "ben", "the green one", "DESCRIBE", "rtsp://h/loco", 0))),
        404);
    snprintf(both, sizeof both, TCP "%s", digest(true, "ben", "the green one", "SETUP", "rtsp://h/yard/video", 0));
    assert_int_equal(status_of(rtsp(s, "SETUP", "yard/video", both)), 200);
    /* The same words over another connection, where they were never asked for. */
    bmb_sock other = fake_connect(t.f, 1);
    assert_int_equal(status_of(rtsp(other, "DESCRIBE", "yard",
                                    digest(true, "ben", "the green one", "DESCRIBE", "rtsp://h/yard", 0))),
                     401);
    assert_non_null(strstr(answer, "stale=true"));
    take_nonce();
    assert_int_equal(status_of(rtsp(other, "DESCRIBE", "yard",
                                    digest(false, "ben", "the green one", "DESCRIBE", "rtsp://h/yard", 0))),
                     200);
    for (int i = 0; i < 5; i++)
        (void)rtsp(other, "DESCRIBE", "yard", digest(false, "ben", "wrong", "DESCRIBE", "rtsp://h/yard", 0));
    assert_int_equal(
        status_of(rtsp(other, "DESCRIBE", "yard", digest(false, "ben", "wrong", "DESCRIBE", "rtsp://h/yard", 0))), 503);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_SIGNED_IN), 2);
}

/* The framed protocol: the last message of a type that came. */
static uint8_t heard[4000];

static bool hear(bmb_sock s, uint8_t type, bmb_framed_message *out)
{
    static uint8_t all[60000];
    size_t size;
    const char *got = fake_take(t.f, s, &size);
    bool found = false;
    memcpy(all, got, size);
    for (size_t at = 0; at + BMB_FRAMED_HEADER <= size;) {
        bmb_framed_message m;
        assert_int_equal(bmb_framed_read(all + at, size - at, &m), BMB_OK);
        if (m.type == type) {
            *out = m;
            memcpy(heard, all + at + BMB_FRAMED_HEADER, m.length < sizeof heard ? m.length : sizeof heard);
            found = true;
        }
        at += BMB_FRAMED_HEADER + m.length;
    }
    return found;
}

static void say(bmb_sock s, uint8_t type, const void *body, uint32_t length)
{
    uint8_t head[BMB_FRAMED_HEADER];
    bmb_framed_write(head, &(bmb_framed_message){ .type = type, .number = 1, .length = length });
    fake_say(t.f, s, head, sizeof head);
    if (length > 0) fake_say(t.f, s, body, length);
    fake_settle(t.f, t.device);
}

static bmb_err framed_sign_in(bmb_sock s, const char *name, const uint8_t *key, const uint8_t *challenge)
{
    uint8_t body[33 + 24];
    bmb_framed_message m;
    const bmb_slice slices[] = { { challenge, 32 }, { name, strlen(name) } };
    bmb_hmac(&t.f->port, key, 32, slices, 2, body);
    body[32] = (uint8_t)strlen(name);
    memcpy(body + 33, name, strlen(name));
    say(s, BMB_FRAMED_ASK_SIGN_IN, body, (uint32_t)(33 + strlen(name)));
    uint8_t kept[4000];
    bool more = false;
    size_t size;
    const char *got = fake_take(t.f, s, &size);
    bmb_err err = BMB_FAILED;
    memcpy(kept, got, size);
    for (size_t at = 0; at + BMB_FRAMED_HEADER <= size; at += BMB_FRAMED_HEADER + m.length) {
        assert_int_equal(bmb_framed_read(kept + at, size - at, &m), BMB_OK);
        const uint8_t *b = kept + at + BMB_FRAMED_HEADER;
        if (m.type == BMB_FRAMED_ANSWER) err = (bmb_err)b[1];
        if (m.type == BMB_FRAMED_CHALLENGE) memcpy(heard, b, m.length);
        more = more || m.type == BMB_FRAMED_FEED;
    }
    assert_int_equal(more, err == BMB_OK);
    return err;
}

static void framed_peers_answer_a_challenge(void **state)
{
    (void)state;
    static const uint8_t yard[] = { 0, 0 }, loco[] = { 0, 1 },
                         brighter[] = { 0, 0, BMB_CONTROL_BRIGHTNESS, 0, 0, 0, 0, 9 };
    bmb_framed_message m;
    begin();
    bmb_sock s = connect_from(99, 2);
    assert_true(hear(s, BMB_FRAMED_CHALLENGE, &m));
    assert_int_equal(m.length, 32 + 1 + 7);
    assert_memory_equal(heard + 32, "\7railway", 8);
    uint8_t challenge[32];
    memcpy(challenge, heard, 32);
    say(s, BMB_FRAMED_ASK_FEED, yard, 2);
    assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
    assert_int_equal(heard[1], BMB_DENIED);
    say(s, BMB_FRAMED_ASK_STATUS, "\xFF\xFF", 2);
    assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
    assert_int_equal(heard[1], BMB_DENIED);
    assert_int_equal(framed_sign_in(s, "cleo", accounts[0].sha256, challenge), BMB_DENIED);
    assert_memory_not_equal(challenge, heard, 32); /* another one: the first was used */
    uint8_t second[32];
    memcpy(second, heard, 32);
    assert_int_equal(framed_sign_in(s, "cleo", accounts[2].sha256, challenge), BMB_DENIED);
    memcpy(second, heard, 32);
    assert_int_equal(framed_sign_in(s, "cleo", accounts[2].sha256, second), BMB_OK);
    say(s, BMB_FRAMED_ASK_FEED, loco, 2);
    assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
    assert_int_equal(heard[1], BMB_NOT_FOUND); /* not hers, and so not there */
    say(s, BMB_FRAMED_ASK_CONTROL, brighter, 8);
    assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
    assert_int_equal(heard[1], BMB_OK);
    assert_int_equal(t.f->cameras[0].controls[BMB_CONTROL_BRIGHTNESS], 9);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CHANGED_BY), 1);
    /* A program, by its token's digest; it may watch, and change nothing. */
    s = connect_from(98, 2);
    assert_true(hear(s, BMB_FRAMED_CHALLENGE, &m));
    memcpy(second, heard, 32);
    assert_int_equal(framed_sign_in(s, "recorder", accounts[3].sha256, second), BMB_OK);
    say(s, BMB_FRAMED_ASK_CONTROL, brighter, 8);
    assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
    assert_int_equal(heard[1], BMB_NOT_FOUND); /* yard is none of its feeds */
    say(s, BMB_FRAMED_ASK_FEED, loco, 2);
    picture();
    assert_true(hear(s, BMB_FRAMED_FRAME, &m));
    say(s, BMB_FRAMED_ASK_KEY, NULL, 0);
    assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
    assert_int_equal(heard[1], BMB_DENIED);
}

/* The answers to what is not his and to what is not there, but for the name that was asked for and the time. */
static void assert_alike(const char *method, const char *his_not, const char *not_there, const char *headers)
{
    static char first[sizeof answer];
    unsigned one = http_from(99, method, his_not, headers);
    memcpy(first, answer, sizeof first);
    unsigned other = http_from(99, method, not_there, headers);
    if (one != other) fail_msg("%s %s: %u, %s: %u", method, his_not, one, not_there, other);
    char *a = strstr(first, "nonce="), *b = strstr(answer, "nonce=");
    if (a == NULL && b == NULL) assert_string_equal(first, answer);
}

static void what_is_not_his_cannot_be_told_from_what_is_not_there(void **state)
{
    (void)state;
    static const char *const tails[] = { ".jpg", ".mjpeg", ".ts", ".sdp", "-320x240.jpg", "" };
    static const char *const methods[] = { "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE" };
    char his_not[60], not_there[60];
    begin();
    /* HTTP: by every method and address, before signing in and after. */
    sign_in("ben", "the green one");
    for (size_t m = 0; m < sizeof methods / sizeof methods[0]; m++)
        for (size_t i = 0; i < sizeof tails / sizeof tails[0]; i++) {
            snprintf(his_not, sizeof his_not, "/loco%s", tails[i]);
            snprintf(not_there, sizeof not_there, "/nono%s", tails[i]);
            assert_alike(methods[m], his_not, not_there, "");
            assert_alike(methods[m], his_not, not_there, cookie);
        }
    static const char *const lending[][2] = { { "/lend/loco/5", "/lend/nono/5" },
                                              { "/lend/loco/5/1", "/lend/nono/5/1" } };
    for (size_t i = 0; i < 2; i++)
        for (size_t m = 0; m < 3; m++) {
            assert_alike(methods[m], lending[i][0], lending[i][1], "");
            assert_alike(methods[m], lending[i][0], lending[i][1], cookie);
        }
    assert_int_equal(get("/loco.jpg", ""), 401);
    assert_int_equal(get("/loco.jpg", cookie), 404);
    assert_int_equal(http_from(99, "POST", "/yard.jpg", cookie), 405); /* his own */
    assert_non_null(strstr(answer, "Allow: GET, HEAD\r\n"));
    /* RTSP: by every method that names one. */
    static const char *const asks[] = { "DESCRIBE", "SETUP", "PLAY", "PAUSE", "TEARDOWN" };
    bmb_sock s = fake_connect(t.f, 1);
    for (size_t i = 0; i < sizeof asks / sizeof asks[0]; i++) {
        unsigned one = status_of(rtsp(s, asks[i], "loco", TCP)), other = status_of(rtsp(s, asks[i], "nono", TCP));
        if (one != other || one != 401) fail_msg("%s, nobody: %u and %u", asks[i], one, other);
    }
    (void)rtsp(s, "DESCRIBE", "yard", "");
    take_nonce();
    for (size_t i = 0; i < 2; i++) { /* of the others a session is needed first */
        char both[900], uri[2][30] = { "rtsp://h/loco", "rtsp://h/nono" };
        unsigned status[2];
        for (size_t k = 0; k < 2; k++) {
            snprintf(both, sizeof both, TCP "%s", digest(true, "ben", "the green one", asks[i], uri[k], 0));
            status[k] = status_of(rtsp(s, asks[i], uri[k] + 9, both));
        }
        if (status[0] != status[1] || status[0] != 404) fail_msg("%s, ben: %u and %u", asks[i], status[0], status[1]);
    }
    /* Framed: watch, set, ask; and no value of a control is told. */
    static const uint8_t places[2][8] = { { 0, 1, BMB_CONTROL_BRIGHTNESS, 0, 0, 0, 0, 9 },
                                          { 0, 40, BMB_CONTROL_BRIGHTNESS, 0, 0, 0, 0, 9 } };
    static const struct {
        uint8_t type;
        uint32_t size;
    } requests[] = { { BMB_FRAMED_ASK_FEED, 2 }, { BMB_FRAMED_ASK_CONTROL, 8 }, { BMB_FRAMED_ASK_STATUS, 2 } };
    t.f->cameras[1].controls[BMB_CONTROL_BRIGHTNESS] = 33;
    s = connect_from(99, 2);
    bmb_framed_message m;
    assert_true(hear(s, BMB_FRAMED_CHALLENGE, &m));
    uint8_t challenge[32];
    memcpy(challenge, heard, 32);
    for (int signed_in = 0; signed_in < 2; signed_in++) {
        for (size_t i = 0; i < 3; i++)
            for (size_t k = 0; k < 2; k++) {
                say(s, requests[i].type, places[k], requests[i].size);
                assert_true(hear(s, BMB_FRAMED_ANSWER, &m));
                assert_int_equal(heard[1], signed_in ? BMB_NOT_FOUND : BMB_DENIED);
                if (requests[i].type == BMB_FRAMED_ASK_CONTROL) assert_int_equal(heard[7], 0);
            }
        if (!signed_in) assert_int_equal(framed_sign_in(s, "ben", accounts[1].sha256, challenge), BMB_OK);
    }
}

static void plain_connections_go_by_host_or_token(void **state)
{
    (void)state;
    const bmb_addr hosts[] = { { .family = 4, .ip = { 192, 0, 2, 50 } } };
    t.outlets[2] = (bmb_outlet_config){ .kind = BMB_OUTLET_TCP,
                                        .listen = { .family = 4, .port = 8600 },
                                        .format = BMB_FORMAT_RAW,
                                        .feed = 1,
                                        .hosts = hosts,
                                        .host_count = 1 };
    begin();
    size_t size;
    bmb_sock s = connect_from(50, 2);
    picture();
    fake_take(t.f, s, &size);
    assert_true(size >= jpeg_size);
    s = connect_from(51, 2);
    picture();
    fake_take(t.f, s, &size);
    assert_int_equal(size, 0);
    fake_say_text(t.f, s, "token token-of-the-");
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, "recorder\r\n");
    fake_settle(t.f, t.device);
    picture();
    fake_take(t.f, s, &size);
    assert_true(size >= jpeg_size);
    static const char *const wrong[] = { "token nobody's\n", "GET / HTTP/1.1\r\n", "\n" };
    for (int i = 0; i < 3; i++) {
        s = connect_from(52, 2);
        fake_say_text(t.f, s, wrong[i]);
        fake_settle(t.f, t.device);
        assert_false(t.f->socks[s].open);
    }
    /* A line is at most what the buffer for requests holds. */
    static char line[4096];
    const size_t room = t.device->talk.rx_room;
    assert_true(room < sizeof line);
    memset(line, 'x', room);
    line[room - 1] = '\0';
    s = connect_from(54, 2);
    fake_say_text(t.f, s, line);
    fake_settle(t.f, t.device);
    assert_true(t.f->socks[s].open); /* its end may still come */
    fake_say_text(t.f, s, "x");
    fake_settle(t.f, t.device);
    assert_false(t.f->socks[s].open);
    s = connect_from(53, 2); /* and who says nothing is not waited for for ever */
    fake_run(t.f, t.device, 11000000);
    assert_false(t.f->socks[s].open);
}

static void an_administrator_finds_a_place(void **state)
{
    (void)state;
    char text[900];
    t.config.viewers = 3;
    t.config.spare = 3;
    begin();
    for (int i = 0; i < 3; i++) {
        bmb_sock s = connect_from((uint8_t)(20 + i), 0);
        snprintf(text, sizeof text, "GET /loco.mjpeg HTTP/1.1\r\nHost: a\r\n%s\r\n", bearer("token-of-the-recorder"));
        fake_say_text(t.f, s, text);
        fake_settle(t.f, t.device);
    }
    assert_int_equal(get("/loco.mjpeg", bearer("token-of-the-recorder")), 503);
    bmb_sock r = fake_connect(t.f, 1);
    (void)rtsp(r, "DESCRIBE", "yard", "");
    take_nonce();
    for (int i = 0; i < 3; i++) { /* places for sessions, too, are all held by somebody */
        snprintf(text, sizeof text, "Transport: RTP/AVP;unicast;client_port=6000-6001\r\n%s",
                 digest(true, "ben", "the green one", "SETUP", "rtsp://h/yard/video", 0));
        assert_int_equal(status_of(rtsp(r, "SETUP", "yard/video", text)), 200);
    }
    assert_int_equal(status_of(rtsp(r, "SETUP", "yard/video", text)), 453);
    r = fake_connect(t.f, 1);
    (void)rtsp(r, "DESCRIBE", "yard", "");
    take_nonce();
    snprintf(text, sizeof text, TCP "%s", digest(true, "anna", "the red signal", "SETUP", "rtsp://h/yard/video", 0));
    assert_int_equal(status_of(rtsp(r, "SETUP", "yard/video", text)), 200);
    snprintf(text, sizeof text, "Session: %.16s\r\n", strstr(answer, "Session: ") + 9);
    assert_int_equal(status_of(rtsp(r, "PLAY", "yard", text)), 200);
    (void)get("/who.json", "");
    take_nonce();
    assert_int_equal(get("/yard.mjpeg", digest(false, "anna", "the red signal", "GET", "/yard.mjpeg", 1)),
                     503); /* one place */
}

static void a_group_has_no_list_of_readers(void **state)
{
    (void)state;
    t.feeds[0].multicast =
        (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 }, .always = true };
    begin();
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_GROUP_WITHHELD), 1);
    for (size_t i = 0; i < t.f->datagram_count; i++) assert_int_not_equal(t.f->datagrams[i].to.ip[0], 239);
    bmb_sock s = fake_connect(t.f, 1);
    char text[900];
    (void)rtsp(s, "DESCRIBE", "yard", "");
    take_nonce();
    snprintf(text, sizeof text, "Transport: RTP/AVP;multicast\r\n%s",
             digest(true, "anna", "the red signal", "SETUP", "rtsp://h/yard/video", 0));
    assert_int_equal(status_of(rtsp(s, "SETUP", "yard/video", text)), 461);
    /* Everybody may see it from now on: it is sent. */
    bmb_access next = access_of;
    next.anybody = BMB_ROLE_WATCH;
    assert_int_equal(bmb_access_change(t.device, &next), BMB_OK);
    picture();
    size_t sent = 0;
    for (size_t i = 0; i < t.f->datagram_count; i++) sent += t.f->datagrams[i].to.ip[0] == 239;
    assert_true(sent > 0);
    assert_int_equal(bmb_access_change(t.device, &access_of), BMB_OK);
    t.f->datagram_count = 0;
    picture();
    for (size_t i = 0; i < t.f->datagram_count; i++) assert_int_not_equal(t.f->datagrams[i].to.port, 5004);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(rtsp_asks_and_never_hangs_up),
        TEST(framed_peers_answer_a_challenge),
        TEST(what_is_not_his_cannot_be_told_from_what_is_not_there),
        TEST(plain_connections_go_by_host_or_token),
        TEST(an_administrator_finds_a_place),
        TEST(a_group_has_no_list_of_readers),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
