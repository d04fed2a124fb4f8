/* Ports are not trusted blindly: what is missing is named, and odd returns do no harm. */
#include "support/check.h"
#include "support/fake_port.h"

static fake_device t;
static uint8_t jpeg[20000];

static int prepare(void **state)
{
    (void)state;
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.outlet_count = 2;
    return 0;
}

static int done(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

/* Each function taken away alone: refused by its name, or not needed. */
static void a_missing_function_is_named(void **state)
{
    (void)state;
    static bmb_push_config pushes[2] = { { .tcp = true, .to = { .family = 4, .port = 1 } },
                                         { .format = BMB_FORMAT_RTP, .to = { .family = 4, .port = 2 } } };
    bmb_port *p = &t.f->port;
    const bmb_port whole = *p;
    t.config.pushes = pushes;
    t.config.push_count = 2;
    t.feeds[0].multicast.group = (bmb_addr){ .family = 4, .ip = { 239, 1, 1, 1 }, .port = 5004 };
#define FUNCTION(member, name, needed)                                                                                 \
    {                                                                                                                  \
        offsetof(bmb_port, member), name, needed                                                                       \
    }
    const struct {
        size_t at;
        const char *name;
        bool needed;
    } functions[] = {
        FUNCTION(now_us, "now_us", true),
        FUNCTION(random, "random", true),
        FUNCTION(wall_us, "wall_us", false),
        FUNCTION(log, "log", false),
        FUNCTION(wait, "wait", false),
        FUNCTION(wake, "wake", false),
        FUNCTION(light, "light", false),
        FUNCTION(online, "online", false),
        FUNCTION(net.listen, "net.listen", true),
        FUNCTION(net.accept, "net.accept", true),
        FUNCTION(net.dial, "net.dial", true),
        FUNCTION(net.dialled, "net.dialled", true),
        FUNCTION(net.local, "net.local", true),
        FUNCTION(net.send, "net.send", true),
        FUNCTION(net.recv, "net.recv", true),
        FUNCTION(net.finish, "net.finish", false),
        FUNCTION(net.bound_unsent, "net.bound_unsent", false),
        FUNCTION(net.bound_buffer, "net.bound_buffer", false),
        FUNCTION(net.path, "net.path", false),
        FUNCTION(net.udp_open, "net.udp_open", true),
        FUNCTION(net.udp_send, "net.udp_send", true),
        FUNCTION(net.udp_recv, "net.udp_recv", true),
        FUNCTION(net.udp_unreachable, "net.udp_unreachable", false),
        FUNCTION(net.close, "net.close", true),
        FUNCTION(net.watch, "net.watch", true),
        FUNCTION(net.ready, "net.ready", true),
        FUNCTION(cameras.count, "cameras.count", true),
        FUNCTION(cameras.info, "cameras.info", true),
        FUNCTION(cameras.start, "cameras.start", true),
        FUNCTION(cameras.stop, "cameras.stop", true),
        FUNCTION(cameras.take, "cameras.take", true),
        FUNCTION(cameras.release, "cameras.release", true),
        FUNCTION(cameras.key_frame, "cameras.key_frame", false),
        FUNCTION(cameras.set, "cameras.set", false),
        FUNCTION(cameras.get, "cameras.get", false),
        FUNCTION(cameras.fault, "cameras.fault", false),
        FUNCTION(storage.load, "storage.load", true),
        FUNCTION(storage.store, "storage.store", true),
    };
    for (size_t i = 0; i < sizeof functions / sizeof functions[0]; i++) {
        bmb_fault fault = { 0 };
        char text[200];
        void (*none)(void) = NULL;
        memcpy((uint8_t *)p + functions[i].at, &none, sizeof none);
        bmb_err err = bmb_budget_of(&t.config, &t.budget, &fault);
        if ((err == BMB_UNSUPPORTED) != functions[i].needed)
            fail_msg("without %s: %s", functions[i].name, bmb_err_name(err));
        if (functions[i].needed) {
            bmb_fault_text(&fault, text, sizeof text);
            assert_string_equal(fault.part, "port");
            assert_string_equal(fault.key, functions[i].name);
            assert_non_null(strstr(text, functions[i].name));
        }
        *p = whole;
    }
    /* Nothing of UDP is fine where nothing needs it; HTTP alone needs no local address. */
    t.config.push_count = 0;
    t.feeds[0].multicast.group.family = 0;
    p->net.udp_open = NULL;
    p->net.udp_send = NULL;
    p->net.udp_recv = NULL;
    p->net.dial = NULL;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), BMB_OK);
    p->net.local = NULL;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), BMB_UNSUPPORTED);
    t.config.outlet_count = 1;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), BMB_OK);
    p->storage = (bmb_storage){ 0 };
    fake_device_open(&t);
    t.config.port = NULL;
    bmb_fault fault;
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, &fault), BMB_UNSUPPORTED);
    t.config.port = p;
}

static bmb_err send_too_much(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    (void)ctx;
    (void)sock;
    *taken = 1000000;
    for (size_t i = 0; i < count; i++) *taken += slices[i].size;
    return BMB_OK;
}

static bmb_err send_nothing(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    (void)ctx;
    (void)sock;
    (void)slices;
    (void)count;
    (void)taken; /* and does not even say so */
    return BMB_OK;
}

static bmb_err receive_too_much(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got)
{
    (void)ctx;
    (void)sock;
    (void)out;
    *got = room + 100000;
    return BMB_OK;
}

static bmb_err packets_too_many(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                                size_t *taken)
{
    (void)ctx;
    (void)sock;
    (void)to;
    (void)packets;
    *taken = count + 1000;
    return BMB_OK;
}

static size_t wild_events(void *ctx, bmb_ready *out, size_t room)
{
    static uint32_t turn;
    (void)ctx;
    for (size_t i = 0; i < room; i++) out[i] = (bmb_ready){ .token = (turn += 0x01000193), .events = 7 };
    for (size_t i = 0; i < room && i < 20; i++) out[i].token = (uint32_t)i;
    return room + 100;
}

static void odd_returns_do_no_harm(void **state)
{
    (void)state;
    bmb_net *net = &t.f->port.net;
    const bmb_net whole = *net;
    size_t size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_open(&t);
    for (int round = 0; round < 5; round++) {
        bmb_sock http = fake_connect(t.f, 0), rtsp = fake_connect(t.f, 1);
        fake_say_text(t.f, http, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
        fake_say_text(t.f, rtsp,
                      "SETUP rtsp://h/yard RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP;unicast;client_port=6000\r\n\r\n");
        fake_frame(t.f, 0, jpeg, size, true);
        fake_settle(t.f, t.device);
        char play[200];
        const char *answer = fake_take(t.f, rtsp, NULL);
        snprintf(play, sizeof play, "PLAY rtsp://h/yard RTSP/1.0\r\nCSeq: 2\r\nSession: %.16s\r\n\r\n",
                 strstr(answer, "Session: ") + 9);
        fake_say_text(t.f, rtsp, play);
        fake_settle(t.f, t.device);
        if (round == 0) net->send = send_too_much;
        if (round == 1) net->send = send_nothing;
        if (round == 2) net->recv = receive_too_much;
        if (round == 3) net->udp_send = packets_too_many;
        if (round == 4) net->ready = wild_events;
        fake_say_text(t.f, rtsp, "OPTIONS * RTSP/1.0\r\nCSeq: 3\r\n\r\n");
        for (int i = 0; i < 120; i++) {
            if (t.f->cameras[0].queued < 4) fake_frame(t.f, 0, jpeg, size, true);
            t.f->now += 100000;
            for (int k = 0; k < 3; k++) (void)bmb_step(t.device);
        }
        *net = whole;
        for (bmb_sock s = 0; s < FAKE_SOCKS; s++)
            if (t.f->socks[s].open && !t.f->socks[s].listening && !t.f->socks[s].udp) fake_hang_up(t.f, s);
        fake_run(t.f, t.device, 1000000);
    }
    bmb_device_stats stats;
    bmb_device_stats_get(t.device, &stats);
    assert_int_equal(stats.connections, 0);
}

/* A frame without data, one from the future, an effective rate of nothing. */
static void odd_frames_do_no_harm(void **state)
{
    (void)state;
    bmb_feed_stats s;
    size_t size = fake_jpeg(jpeg, 640, 480, 8000);
    t.f->cameras[0].effective = (bmb_mode){ BMB_CODEC_JPEG, 640, 480, 0 };
    fake_device_open(&t);
    fake_frame(t.f, 0, NULL, 100, true);
    fake_settle(t.f, t.device);
    fake_frame(t.f, 0, jpeg, size, true);
    t.f->cameras[0].queue[0].capture_us += 5000000;
    fake_settle(t.f, t.device);
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    assert_int_equal(s.bad, 1);
    assert_int_equal(s.frames, 1);
    assert_int_equal(s.newest_ms, 0);
    assert_int_equal(s.mfps_set, 15000);
}

/* Slots of JPEG are smaller than those of H.264: another codec than was asked for must not be written into them. */
static void another_codec_is_refused(void **state)
{
    (void)state;
    static const uint8_t key[] = { 0, 0, 0, 1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80, 0,
                                   0, 0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65, 1,    2 };
    bmb_feed_stats s;
    t.f->cameras[0].effective = (bmb_mode){ BMB_CODEC_H264, 640, 480, 15000 };
    fake_device_open(&t);
    for (int i = 0; i < 20; i++) {
        if (t.f->cameras[0].queued < 8) fake_frame(t.f, 0, key, sizeof key, true);
        fake_run(t.f, t.device, 100000);
    }
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    assert_int_equal(s.codec, BMB_CODEC_JPEG);
    assert_int_equal(s.frames, 0);
    assert_int_equal(s.camera_state, BMB_CAMERA_WAITING);
    assert_int_equal(s.camera_err, BMB_UNSUPPORTED);
}

static void names_are_letters_digits_and_two_signs(void **state)
{
    (void)state;
    char name[30] = "a";
    t.feeds[0].name = name;
    for (int c = 1; c < 256; c++) {
        name[0] = (char)c;
        bool good = strchr("abcdefghijklmnopqrstuvwxyz0123456789-_", c) != NULL;
        assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), good ? BMB_OK : BMB_BAD_ARG);
    }
    memset(name, 'a', 23);
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), BMB_OK);
    name[23] = 'a';
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), BMB_BAD_ARG);
    name[0] = '\0';
    assert_int_equal(bmb_budget_of(&t.config, &t.budget, NULL), BMB_BAD_ARG);
    t.feeds[0].name = "yard";
    fake_device_open(&t);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, prepare, done)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(a_missing_function_is_named),
        CASE(odd_returns_do_no_harm),
        CASE(odd_frames_do_no_harm),
        CASE(another_codec_is_refused),
        CASE(names_are_letters_digits_and_two_signs),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
