/* What hostile hosts do, and what becomes of everybody else. */
#include "support/check.h"
#include "support/fake_port.h"

#include "media/tame.h"
#include "wire/framed.h"

static fake_device t;
static uint8_t jpeg[20000];
static size_t jpeg_size;

static int prepare(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 3000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.outlets[2] = (bmb_outlet_config){ .kind = BMB_OUTLET_TCP,
                                        .listen = { .family = 4, .port = 8600 },
                                        .format = BMB_FORMAT_FRAMED,
                                        .feed = BMB_NO_FEED,
                                        .controls = true };
    t.config.outlet_count = 3;
    t.config.viewers = 8;
    t.config.spare = 4;
    return 0;
}

static int clean_up(void **state)
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

static bmb_sock connect_from(uint8_t host, size_t outlet, const char *words)
{
    bmb_sock s = fake_connect(t.f, outlet);
    t.f->socks[s].peer.ip[3] = host;
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, words);
    fake_settle(t.f, t.device);
    return s;
}

static bool got_picture(bmb_sock s)
{
    size_t size;
    picture();
    const char *text = fake_take(t.f, s, &size);
    return size > jpeg_size && strncmp(text, "HTTP/1.1 200", 12) == 0;
}

#define STILL "GET /yard.jpg HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n"
#define STREAM "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n"

static bmb_device_stats device(void)
{
    bmb_device_stats s;
    bmb_device_stats_get(t.device, &s);
    return s;
}

static bmb_sock connect_six(uint8_t network, unsigned host, size_t outlet, const char *words)
{
    bmb_sock s = fake_connect(t.f, outlet);
    t.f->socks[s].peer =
        (bmb_addr){ .family = 6,
                    .ip = { 0x20, 1, 0x0d, 0xb8, [7] = network, [14] = (uint8_t)(host >> 8), [15] = (uint8_t)host },
                    .port = 40000 };
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, words);
    fake_settle(t.f, t.device);
    return s;
}

/* By one address or a new one each time: who shares a network with a host that floods still gets a picture, and so does
 * who is elsewhere. */
static void a_host_of_ipv6_keeps_nobody_of_its_network_out(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    for (int many = 0; many < 2; many++) {
        for (unsigned i = 0; i < 40; i++) (void)connect_six(1, many ? 100 + i : 7, 0, "GET /yard.jpg HT");
        assert_true(got_picture(connect_six(1, 5000, 0, STILL)));
        for (unsigned i = 0; i < 40; i++) (void)connect_six(1, many ? 200 + i : 7, 0, "GET /yard.jpg HT");
        assert_true(got_picture(connect_six(2, 1, 0, STILL)));
    }
}

/* Whatever one host opens and says, another one gets its picture, and who watches is left alone. */
static void one_host_keeps_nobody_out(void **state)
{
    (void)state;
    static const struct {
        size_t outlet;
        const char *words;
    } ways[] = { { 0, "" },
                 { 0, "GET /yard.jpg HT" },
                 { 1, "" },
                 { 1, "DESCRIBE rtsp://h/ya" },
                 { 1, "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n" },
                 { 2, "" },
                 { 2, "\x8F\x62" } };
    fake_device_open(&t);
    picture();
    bmb_sock watches = connect_from(7, 0, STREAM);
    for (size_t w = 0; w < sizeof ways / sizeof ways[0]; w++) {
        bmb_sock held[30];
        for (int i = 0; i < 30; i++) held[i] = connect_from(66, ways[w].outlet, ways[w].words);
        for (int k = 0; k < 3; k++) {
            bmb_sock s = connect_from((uint8_t)(20 + k), 0, STILL);
            if (!got_picture(s)) fail_msg("newcomer %d beside way %zu", k, w);
            fake_hang_up(t.f, s);
            fake_settle(t.f, t.device);
        }
        for (int i = 0; i < 30; i++)
            if (t.f->socks[held[i]].open) fake_hang_up(t.f, held[i]);
        fake_settle(t.f, t.device);
    }
    assert_true(t.f->socks[watches].open);
    assert_int_equal(device().viewers, 1);
    fake_take(t.f, watches, NULL);
    picture();
    size_t size;
    fake_take(t.f, watches, &size);
    assert_true(size > jpeg_size);
}

/* Two newcomers at a time: what the first has begun is not taken from him by the host that floods. */
static void a_flood_does_not_displace_who_just_came(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    for (int i = 0; i < 40; i++) (void)connect_from(66, 0, "");
    bmb_sock s = connect_from(20, 0, ""); /* has yet to say what he wants */
    for (int i = 0; i < 40; i++) (void)connect_from(66, 0, i % 2 == 0 ? "" : "GET / HT");
    assert_true(t.f->socks[s].open);
    fake_say_text(t.f, s, STILL);
    fake_settle(t.f, t.device);
    assert_true(got_picture(s));
}

/* A still that its host asks for and does not read. */
static void still_unread(void)
{
    bmb_sock s = fake_connect(t.f, 0);
    t.f->socks[s].peer.ip[3] = 66;
    t.f->socks[s].room = 200;
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, STILL);
    fake_settle(t.f, t.device);
}

static void stills_that_are_not_read_keep_nobody_out(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    for (int i = 0; i < 12; i++) still_unread();
    assert_true(got_picture(connect_from(20, 0, STILL)));
}

static void one_host_is_not_all_the_viewers(void **state)
{
    (void)state;
    t.config.host_viewers = 0; /* three quarters */
    fake_device_open(&t);
    picture();
    for (int i = 0; i < 6; i++) assert_true(got_picture(connect_from(66, 0, STREAM)));
    bmb_sock s = connect_from(66, 0, STREAM);
    assert_non_null(strstr(fake_take(t.f, s, NULL), "HTTP/1.1 503"));
    for (int i = 0; i < 2; i++) assert_true(got_picture(connect_from((uint8_t)(20 + i), 0, STREAM)));
    s = connect_from(30, 0, STREAM);
    assert_non_null(strstr(fake_take(t.f, s, NULL), "HTTP/1.1 503"));
    assert_int_equal(device().viewers, 8);
}

/* Stills and pushes are no viewers, also where they go to the same host. */
static void what_is_no_viewer_does_not_count_for_its_host(void **state)
{
    (void)state;
    static bmb_push_config push;
    push = (bmb_push_config){ .format = BMB_FORMAT_RAW,
                              .tcp = true,
                              .to = { .family = 4, .ip = { 192, 0, 2, 66 }, .port = 5000 } };
    t.config.host_viewers = 0;
    t.config.pushes = &push;
    t.config.push_count = 1;
    fake_device_open(&t);
    fake_run(t.f, t.device, 20000);
    picture();
    for (int i = 0; i < 2; i++) still_unread();
    for (int i = 0; i < 6; i++) assert_true(got_picture(connect_from(66, 0, STREAM)));
    assert_non_null(strstr(fake_take(t.f, connect_from(66, 0, STREAM), NULL), "HTTP/1.1 503"));
}

static unsigned set_up(bmb_sock s, const char *more)
{
    char text[400];
    static unsigned cseq;
    fake_take(t.f, s, NULL);
    snprintf(text, sizeof text, "SETUP rtsp://h/yard/video RTSP/1.0\r\nCSeq: %u\r\n%s\r\n", ++cseq, more);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    const char *answer = fake_take(t.f, s, NULL);
    return strncmp(answer, "RTSP/1.0 ", 9) == 0 ? (unsigned)atoi(answer + 9) : 0;
}

#define UDP "Transport: RTP/AVP;unicast;client_port=6000-6001\r\n"

static void sessions_that_nobody_plays_give_way(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    bmb_sock s = connect_from(66, 1, "");
    for (int i = 0; i < 8; i++) assert_int_equal(set_up(s, UDP), 200);
    assert_int_equal(set_up(s, UDP), 453); /* his own are young yet */
    bmb_sock other = connect_from(20, 1, "");
    assert_int_equal(set_up(other, UDP), 200);
    for (int i = 0; i < 7; i++) (void)set_up(s, UDP);
    fake_run(t.f, t.device, 3100000);
    assert_int_equal(set_up(s, UDP), 200); /* and have had their time now */
    assert_int_equal(device().sessions, 8);
}

static void a_strangers_session_is_not_known(void **state)
{
    (void)state;
    char text[100];
    fake_device_open(&t);
    picture();
    bmb_sock s = connect_from(20, 1, "SETUP rtsp://h/yard/video RTSP/1.0\r\nCSeq: 1\r\n" UDP "\r\n");
    const char *id = strstr(fake_take(t.f, s, NULL), "Session: ");
    assert_non_null(id);
    snprintf(text, sizeof text, UDP "Session: %.16s\r\n", id + 9);
    assert_int_equal(set_up(connect_from(66, 1, ""), text), 454);
    assert_int_equal(set_up(connect_from(66, 1, ""), UDP "Session: 0000000000000000\r\n"), 454);
}

static void a_stream_is_not_sent_to_ourselves(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture();
    bmb_sock s = connect_from(20, 1, "SETUP rtsp://h/yard/video RTSP/1.0\r\nCSeq: 1\r\n" UDP "\r\n");
    unsigned port = (unsigned)atoi(strstr(fake_take(t.f, s, NULL), "server_port=") + 12);
    char text[100];
    bmb_addr here;
    s = fake_connect(t.f, 1);
    fake_settle(t.f, t.device);
    assert_int_equal(t.f->port.net.local(t.f->port.ctx, s, &here), BMB_OK);
    for (int by = -1; by < 3; by++) {
        s = fake_connect(t.f, 1);
        memcpy(t.f->socks[s].peer.ip, here.ip, 4);
        fake_settle(t.f, t.device);
        snprintf(text, sizeof text, "Transport: RTP/AVP;unicast;client_port=%u-%u\r\n", port + (unsigned)by,
                 port + (unsigned)by + 1);
        assert_int_equal(set_up(s, text), by < 2 ? 461 : 200);
        snprintf(text, sizeof text, "Transport: RTP/AVP;unicast;client_port=%u-%u\r\n", port, port + 1);
        assert_int_equal(set_up(connect_from(21, 1, ""), text), 200); /* elsewhere these are anybody's */
    }
}

static uint16_t rtcp_port(void)
{
    for (int i = 0; i < FAKE_SOCKS; i++)
        if (t.f->socks[i].open && t.f->socks[i].udp && t.f->socks[i].addr.port % 2 == 1) return t.f->socks[i].addr.port;
    return 0;
}

static void a_goodbye_must_come_from_the_receiver(void **state)
{
    (void)state;
    char text[200];
    fake_device_open(&t);
    picture();
    bmb_sock s = connect_from(99, 1, "SETUP rtsp://h/yard/video RTSP/1.0\r\nCSeq: 1\r\n" UDP "\r\n");
    snprintf(text, sizeof text, "PLAY rtsp://h/yard RTSP/1.0\r\nCSeq: 2\r\nSession: %.16s\r\n\r\n",
             strstr(fake_take(t.f, s, NULL), "Session: ") + 9);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    picture();
    const bmb_addr from = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 6001 };
    const uint8_t forged[] = { 0x80, 201, 0, 1, 5, 5, 5, 5, 0x81, 203, 0, 1, 5, 5, 5, 5 };
    fake_datagram_in(t.f, rtcp_port(), &from, forged, sizeof forged);
    fake_settle(t.f, t.device);
    assert_int_equal(device().viewers, 1);
    uint8_t rr[40] = { 0x81, 201, 0, 7, 9, 9, 9, 9 };
    for (size_t i = 0; i < t.f->datagram_count; i++)
        if (t.f->datagrams[i].to.port == 6000) memcpy(rr + 8, t.f->datagrams[i].data + 8, 4); /* our SSRC */
    fake_datagram_in(t.f, rtcp_port(), &from, rr, 32);
    fake_settle(t.f, t.device);
    const uint8_t other[] = { 0x81, 203, 0, 1, 9, 9, 9, 8 }, bye[] = { 0x81, 203, 0, 1, 9, 9, 9, 9 };
    fake_datagram_in(t.f, rtcp_port(), &from, other, sizeof other);
    fake_settle(t.f, t.device);
    assert_int_equal(device().viewers, 1);
    fake_datagram_in(t.f, rtcp_port(), &from, bye, sizeof bye);
    fake_settle(t.f, t.device);
    assert_int_equal(device().viewers, 0);
}

/* Answers "port unreachable" as a test makes them up: what they quote. */
static uint8_t answer_quoted[12];
static size_t answer_size;
static unsigned answers_left;

static bmb_err answer_of(void *ctx, bmb_sock sock, bmb_addr *to, void *quoted, size_t room, size_t *got)
{
    (void)ctx, (void)sock;
    assert_true(room >= sizeof answer_quoted);
    if (answers_left == 0) return BMB_AGAIN;
    answers_left--;
    *to = (bmb_addr){ .family = 4, .ip = { 192, 0, 2, 99 }, .port = 6000 };
    memcpy(quoted, answer_quoted, answer_size);
    *got = answer_size;
    return BMB_OK;
}

/* So many of them over ten seconds; with them a picture each time. */
static void answers_come(unsigned count)
{
    for (unsigned i = 0; i < count; i++) {
        const bmb_addr any = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 7000 };
        answers_left = 1;
        fake_datagram_in(t.f, rtcp_port(), &any, "x", 1); /* makes the socket readable */
        fake_settle(t.f, t.device);
        fake_run(t.f, t.device, 500000);
        picture();
    }
}

static void a_forged_answer_ends_no_session(void **state)
{
    (void)state;
    char text[200], session[17];
    t.f->port.udp_answer = answer_of;
    answers_left = 0;
    fake_device_open(&t);
    picture();
    bmb_sock s = connect_from(99, 1, "SETUP rtsp://h/yard/video RTSP/1.0\r\nCSeq: 1\r\n" UDP "\r\n");
    snprintf(session, sizeof session, "%s", strstr(fake_take(t.f, s, NULL), "Session: ") + 9);
    snprintf(text, sizeof text, "PLAY rtsp://h/yard RTSP/1.0\r\nCSeq: 2\r\nSession: %.16s\r\n\r\n", session);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    picture();
    uint8_t sent[12] = { 0 };
    for (size_t i = 0; i < t.f->datagram_count; i++)
        if (t.f->datagrams[i].to.port == 6000) memcpy(sent, t.f->datagrams[i].data, sizeof sent);
    answer_size = 0; /* nothing is quoted */
    answers_come(20);
    assert_int_equal(device().viewers, 1);
    answer_size = sizeof sent; /* another stream's packet, one of this stream that was never sent, no RTP at all */
    for (unsigned byte = 0; byte < 3; byte++) {
        memcpy(answer_quoted, sent, sizeof sent);
        answer_quoted[(const uint8_t[]){ 8, 2, 0 }[byte]] ^= 0x40;
        answers_come(20);
        assert_int_equal(device().viewers, 1);
    }
    /* A true one counts; but whoever still asks over RTSP is there. */
    memcpy(answer_quoted, sent, sizeof sent);
    for (unsigned i = 0; i < 10; i++) {
        answers_come(3);
        snprintf(text, sizeof text, "GET_PARAMETER rtsp://h/yard RTSP/1.0\r\nCSeq: 3\r\nSession: %.16s\r\n\r\n",
                 session);
        fake_say_text(t.f, s, text);
        fake_settle(t.f, t.device);
    }
    assert_int_equal(device().viewers, 1);
    answers_come(12);
    assert_int_equal(device().viewers, 0);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_SESSION_ENDED), 1);
}

static void a_browser_starts_no_group(void **state)
{
    (void)state;
    t.feeds[0].multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 } };
    fake_device_open(&t);
    picture();
    bmb_sock s = connect_from(20, 0, "GET /yard.sdp HTTP/1.1\r\nHost: a\r\nUser-Agent: Mozilla/5.0 (X11)\r\n\r\n");
    assert_non_null(strstr(fake_take(t.f, s, NULL), "m=video 5004"));
    picture();
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_MULTICAST_STARTED), 0);
    s = connect_from(20, 0, "GET /yard.sdp HTTP/1.1\r\nHost: a\r\nUser-Agent: player/1\r\n\r\n");
    picture();
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_MULTICAST_STARTED), 1);
}

/* A camera whose pictures grow with their quality. */
static void take_picture(void)
{
    static uint8_t large[200000];
    int32_t quality = t.f->cameras[0].controls[BMB_CONTROL_QUALITY];
    size_t size = fake_jpeg(large, 640, 480, 4000 + (size_t)quality * quality * 4);
    fake_frame(t.f, 0, large, size, true);
    fake_settle(t.f, t.device);
    fake_run(t.f, t.device, 66000);
}

static uint64_t frames(void)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    return s.frames;
}

static void no_control_makes_a_feed_useless(void **state)
{
    (void)state;
    int32_t effective;
    fake_device_open(&t);
    t.f->cameras[0].controls[BMB_CONTROL_QUALITY] = 50;
    for (int i = 0; i < 3; i++) take_picture();
    assert_int_equal(frames(), 3);
    /* What is likely not to fit is brought down at once, and said so. */
    assert_int_equal(bmb_control_set(t.device, 0, BMB_CONTROL_QUALITY, 100, &effective), BMB_OK);
    assert_in_range(effective, 51, 90);
    /* What does not fit all the same is brought down step by step. */
    t.f->cameras[0].controls[BMB_CONTROL_QUALITY] = 100;
    for (int i = 0; i < 40; i++) take_picture();
    uint64_t before = frames();
    for (int i = 0; i < 10; i++) take_picture();
    assert_int_equal(frames(), before + 10);
    assert_true(fake_event_count(t.f, BMB_EVENT_CONTROL_LOWERED) >= 3);
    assert_in_range(t.f->cameras[0].controls[BMB_CONTROL_QUALITY], 45, 70);
}

static void one_picture_too_large_changes_nothing(void **state)
{
    (void)state;
    bmb_tame tame = { 0 };
    int32_t less = -1;
    assert_false(bmb_tame_lower(&tame, 1000, 80, &less));
    assert_true(bmb_tame_lower(&tame, 2000, 80, &less));
    assert_int_equal(less, 69);
    assert_false(bmb_tame_lower(&tame, 3000, 69, &less)); /* those that are under way */
    assert_true(bmb_tame_lower(&tame, 400000, 69, &less));
    assert_false(bmb_tame_lower(&tame, 900000, 1, &less)); /* no less than that */
    assert_int_equal(bmb_tame_quality(40, 50, 10000, 20000), 40);
    assert_int_equal(bmb_tame_quality(51, 50, 19900, 20000), 50);
    assert_int_equal(bmb_tame_quality(101, 50, 19900, 20000), 101);
    assert_int_equal(bmb_tame_quality(90, 0, 19900, 20000), 90);
}

#define TEST(f) cmocka_unit_test_setup_teardown(f, prepare, clean_up)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(one_host_keeps_nobody_out),
        TEST(a_host_of_ipv6_keeps_nobody_of_its_network_out),
        TEST(a_flood_does_not_displace_who_just_came),
        TEST(stills_that_are_not_read_keep_nobody_out),
        TEST(one_host_is_not_all_the_viewers),
        TEST(what_is_no_viewer_does_not_count_for_its_host),
        TEST(sessions_that_nobody_plays_give_way),
        TEST(a_strangers_session_is_not_known),
        TEST(a_stream_is_not_sent_to_ourselves),
        TEST(a_goodbye_must_come_from_the_receiver),
        TEST(a_forged_answer_ends_no_session),
        TEST(a_browser_starts_no_group),
        TEST(no_control_makes_a_feed_useless),
        cmocka_unit_test(one_picture_too_large_changes_nothing),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
