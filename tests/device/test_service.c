/* Requests that the program answers itself: methods, bodies, conditions, who asks, and what is given back. */
#include "support/check.h"
#include "support/fake_port.h"

static fake_device t;
static char path[100], body[200], type[60], match[60], document[20000];
static bmb_method method;
static bmb_role role;
static bool secure;
static unsigned asked, out;
static const void *token_out;
static bmb_service service;

static bool find(void *ctx, bmb_method m, const char *at, size_t size, bmb_role *needs)
{
    assert_ptr_equal(ctx, &t);
    assert_int_equal(*needs, BMB_ROLE_NONE);
    (void)m;
    return size >= 4 && memcmp(at, "/own", 4) == 0;
}

static void ask(void *ctx, const bmb_request *r, bmb_answer *a)
{
    assert_ptr_equal(ctx, &t);
    asked++;
    out++;
    method = r->method;
    role = r->role;
    secure = r->secure;
    snprintf(path, sizeof path, "%.*s", (int)r->path_size, r->path);
    snprintf(body, sizeof body, "%.*s", (int)r->body_size, r->body != NULL ? (const char *)r->body : "");
    snprintf(type, sizeof type, "%.*s", (int)r->type_size, r->type_size > 0 ? r->type : "");
    snprintf(match, sizeof match, "%.*s|%.*s", (int)r->if_match_size, r->if_match_size > 0 ? r->if_match : "",
             (int)r->if_none_match_size, r->if_none_match_size > 0 ? r->if_none_match : "");
    assert_int_equal(r->peer.family, 4);
    a->body = document;
    a->size = strcmp(path, "/own/large") == 0 ? sizeof document - 1 : 5;
    a->etag = "\"five\"";
    a->lines = "X-Own: yes\r\n";
    a->token = document;
    if (strcmp(path, "/own/none") == 0) a->status = 204;
    if (strcmp(path, "/own/same") == 0) a->status = 304;
    if (strcmp(path, "/own/not") == 0) a->status = 422;
}

static void done(void *ctx, void *token)
{
    assert_ptr_equal(ctx, &t);
    assert_true(out > 0);
    out--;
    token_out = token;
}

static int prepare(void **state)
{
    (void)state;
    memset(document, 'd', sizeof document - 1);
    memcpy(document, "hello", 5);
    asked = out = 0;
    token_out = NULL;
    service = (bmb_service){ .ctx = &t, .find = find, .ask = ask, .done = done, .body_most = 100 };
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.config.service = &service;
    return 0;
}

static int clean_up(void **state)
{
    (void)state;
    fake_device_close(&t);
    assert_int_equal(out, 0); /* whatever became of it, it was given back */
    return 0;
}

static bmb_sock begin(const char *text)
{
    bmb_sock s = fake_connect(t.f, 0);
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    return s;
}

static void more(bmb_sock s, const char *text)
{
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
}

static bool says(bmb_sock s, const char *what)
{
    return strstr(fake_take(t.f, s, NULL), what) != NULL;
}

static void what_is_asked_and_answered(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = begin(
        "GET /own/%61?x=1 HTTP/1.1\r\nHost: a\r\nIf-None-Match: \"x\"\r\nIf-Match: *\r\nContent-Type: a/b \r\n\r\n");
    const char *answer = fake_take(t.f, s, NULL);
    assert_non_null(strstr(answer, "HTTP/1.1 200 OK\r\n"));
    assert_non_null(strstr(answer, "\r\nContent-Length: 5\r\n"));
    assert_non_null(strstr(answer, "\r\nETag: \"five\"\r\n"));
    assert_non_null(strstr(answer, "\r\nCache-Control: no-cache\r\n"));
    assert_non_null(strstr(answer, "\r\nX-Own: yes\r\n"));
    assert_string_equal(strstr(answer, "\r\n\r\n"), "\r\n\r\nhello");
    assert_string_equal(path, "/own/a");
    assert_string_equal(match, "*|\"x\"");
    assert_string_equal(type, "a/b");
    assert_int_equal(method, BMB_METHOD_GET);
    assert_int_equal(role, BMB_ROLE_ADMINISTER); /* there are no accounts */
    assert_false(secure);
    assert_ptr_equal(token_out, document);
    assert_int_equal(out, 0);
    more(s, "HEAD /own HTTP/1.1\r\nHost: a\r\n\r\n"); /* on the same connection */
    answer = fake_take(t.f, s, NULL);
    assert_non_null(strstr(answer, "Content-Length: 5\r\n"));
    assert_string_equal(strstr(answer, "\r\n\r\n"), "\r\n\r\n");
    more(s, "GET /own/none HTTP/1.1\r\nHost: a\r\n\r\n");
    answer = fake_take(t.f, s, NULL);
    assert_non_null(strstr(answer, " 204 No Content\r\n"));
    assert_null(strstr(answer, "Content-Length"));
    more(s, "GET /own/same HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(s, " 304 Not Modified\r\n"));
    more(s, "GET /own/not HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(s, " 422 Unprocessable Content\r\n"));
    assert_int_equal(asked, 5);
    more(s, "GET /other HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(s, " 404 "));
    more(s, "GET /status.json HTTP/1.1\r\nHost: a\r\n\r\n"); /* what is the device's stays so */
    assert_true(says(s, "\"device\""));
    assert_int_equal(asked, 5);
}

static void methods_and_bodies(void **state)
{
    (void)state;
    fake_device_open(&t);
    static const struct {
        const char *text;
        bmb_method method;
        const char *body;
    } rows[] = {
        { "PATCH /own HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\n\r\nabc", BMB_METHOD_PATCH, "abc" },
        { "PUT /own HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nde\r\n1\r\nf\r\n0\r\n\r\n",
          BMB_METHOD_PUT, "def" },
        { "POST /own HTTP/1.1\r\nHost: a\r\n\r\n", BMB_METHOD_POST, "" },
        { "DELETE /own HTTP/1.1\r\nHost: a\r\n\r\n", BMB_METHOD_DELETE, "" },
        { "POST /own HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\n\r\nx", BMB_METHOD_POST, "x" },
    };
    bmb_sock s = begin("");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        more(s, rows[i].text);
        assert_true(says(s, " 200 OK"));
        assert_int_equal(method, rows[i].method);
        assert_string_equal(body, rows[i].body);
    }
    /* Byte by byte, and another one behind it in one piece. */
    for (const char *at = rows[1].text; *at != '\0'; at++) {
        char one[2] = { *at, '\0' };
        more(s, one);
    }
    assert_true(says(s, " 200 OK"));
    assert_string_equal(body, "def");
    char both[400];
    snprintf(both, sizeof both, "%s%s", rows[0].text, rows[4].text);
    more(s, both);
    assert_int_equal(asked, sizeof rows / sizeof rows[0] + 3);
    assert_string_equal(body, "x");
    (void)fake_take(t.f, s, NULL);
    more(s, "PATCH /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(s, " 405 "));
    s = begin("PATCH /nothing HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\n\r\n");
    assert_true(says(s, " 404 "));
    s = begin("BREW /own HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(s, " 40"));
}

static void too_large_is_not_taken(void **state)
{
    (void)state;
    char text[400];
    fake_device_open(&t);
    bmb_sock s = begin("PUT /own HTTP/1.1\r\nHost: a\r\nContent-Length: 101\r\n\r\n");
    assert_true(says(s, " 413 Content Too Large")); /* before it comes */
    snprintf(text, sizeof text,
             "PUT /own HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n65\r\n%0101d\r\n0\r\n\r\n", 7);
    s = begin(text);
    assert_true(says(s, " 413 "));
    assert_int_equal(asked, 0);
    snprintf(text, sizeof text, "PUT /own HTTP/1.1\r\nHost: a\r\nContent-Length: 100\r\n\r\n%0100d", 7);
    s = begin(text);
    assert_true(says(s, " 200 "));
    assert_int_equal(strlen(body), 100);
}

static void one_body_at_a_time(void **state)
{
    (void)state;
    static const char half[] = "PATCH /own HTTP/1.1\r\nHost: a\r\nContent-Length: 4\r\n\r\nab";
    fake_device_open(&t);
    bmb_sock first = begin(half), second = begin(half);
    assert_true(says(second, " 503 "));
    bmb_sock third = begin("GET /own HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(third, " 200 ")); /* without one, anybody */
    more(first, "cd");
    assert_true(says(first, " 200 "));
    assert_string_equal(body, "abcd");
    first = begin(half);
    fake_hang_up(t.f, first);
    fake_settle(t.f, t.device);
    first = begin(half); /* the place is free again */
    assert_false(says(first, " 503 "));
    fake_run(t.f, t.device, 11000000); /* and again when its time is over */
    assert_true(says(first, " 408 "));
    second = begin("PATCH /own HTTP/1.1\r\nHost: a\r\nExpect: 100-continue\r\nContent-Length: 2\r\n\r\n");
    assert_string_equal(fake_take(t.f, second, NULL), "HTTP/1.1 100 Continue\r\n\r\n");
    more(second, "ok");
    assert_true(says(second, " 200 "));
    assert_string_equal(body, "ok");
}

static void what_is_sent_stays_until_it_is_out(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = fake_connect(t.f, 0);
    fake_settle(t.f, t.device);
    t.f->socks[s].room = 1000;
    more(s, "GET /own/large HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_int_equal(out, 1);
    t.f->socks[s].room = SIZE_MAX;
    fake_run(t.f, t.device, 20000);
    assert_int_equal(out, 0);
    size_t n;
    (void)fake_take(t.f, s, &n);
    assert_true(n > sizeof document);
    s = fake_connect(t.f, 0);
    fake_settle(t.f, t.device);
    t.f->socks[s].room = 1000;
    more(s, "GET /own/large HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_int_equal(out, 1);
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    assert_int_equal(out, 0);
}

static void without_bodies_and_without_an_end(void **state)
{
    (void)state;
    service.body_most = 0;
    service.done = NULL;
    out = 0;
    fake_device_open(&t);
    bmb_sock s = begin("PATCH /own HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\n\r\n");
    assert_true(says(s, " 413 "));
    s = begin("PATCH /own HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_true(says(s, " 200 "));
    out = 0; /* nobody is told */
}

/* Whoever sends a body byte by byte gives up the place for it as soon as somebody else wants it; who sends faster than
 * others wait keeps it. */
static void a_slow_writer_does_not_hold_the_place_for_bodies(void **state)
{
    (void)state;
    static const char patch[] = "PATCH /own HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}";
    fake_device_open(&t);
    bmb_sock slow = begin("PATCH /own HTTP/1.1\r\nHost: a\r\nContent-Length: 90\r\n\r\n{");
    bmb_sock s = begin(patch);
    assert_non_null(strstr(fake_take(t.f, s, NULL), "HTTP/1.1 503")); /* it has only begun */
    for (int i = 0; i < 5; i++) {
        fake_run(t.f, t.device, 100000);
        fake_say_text(t.f, slow, " ");
        fake_settle(t.f, t.device);
    }
    s = begin(patch);
    assert_non_null(strstr(fake_take(t.f, s, NULL), "HTTP/1.1 200"));
    assert_true(t.f->socks[slow].gone || !t.f->socks[slow].open);
    assert_int_equal(asked, 1);
}

#define TEST(function) cmocka_unit_test_setup_teardown(function, prepare, clean_up)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(a_slow_writer_does_not_hold_the_place_for_bodies),
        TEST(what_is_asked_and_answered),
        TEST(methods_and_bodies),
        TEST(too_large_is_not_taken),
        TEST(one_body_at_a_time),
        TEST(what_is_sent_stays_until_it_is_out),
        TEST(without_bodies_and_without_an_end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
