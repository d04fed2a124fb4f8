/* Hours of coming and going on a turned clock: viewers of all kinds come, go, vanish and stall, links change, cameras
 * are unplugged. In the end nothing is left over, and a picture is as fresh as at the beginning. One hour; or
 * BAMBINO_HOURS. */
#include <stdlib.h>

#include "support/check.h"
#include "support/fake_port.h"

#define TICK_US 100000u /* ten pictures a second */

static uint8_t large[20000], small[8000];
static size_t large_size, small_size;
static fake_device t;
static unsigned links[FAKE_SOCKS]; /* kbit/s; 0: all */
static bool stalled[FAKE_SOCKS];
static uint32_t dice = 1;

static unsigned roll(unsigned sides)
{
    dice = dice * 1664525u + 1013904223u;
    return (dice >> 8) % sides;
}

static bool is_client(const fake_sock *s)
{
    return s->open && !s->listening && !s->udp && !s->peer_gone;
}

static unsigned clients(void)
{
    unsigned count = 0;
    for (size_t s = 0; s < FAKE_SOCKS; s++) count += is_client(&t.f->socks[s]) && !t.f->socks[s].gone;
    return count;
}

static unsigned sockets(void)
{
    unsigned count = 0;
    for (size_t s = 0; s < FAKE_SOCKS; s++) count += t.f->socks[s].open;
    return count;
}

static void come(void)
{
    static const char *const requests[] = {
        "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /station.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /status.json HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /events HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /yard.mjp",
        "\x16\x03\x01",
    };
    unsigned kind = roll(10);
    bmb_sock s = fake_connect(t.f, kind < 7 ? 0 : 1);
    links[s] = roll(2) != 0 ? 0 : 200 + roll(2000);
    stalled[s] = false;
    if (kind < 7) {
        fake_say_text(t.f, s, requests[kind]);
        return;
    }
    char text[300];
    fake_say_text(t.f, s,
                  kind == 7 ? "SETUP rtsp://a/yard/video RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;unicast;"
                              "interleaved=0-1\r\n\r\n"
                            : "SETUP rtsp://a/yard.avpf/video RTSP/1.0\r\nCSeq: 1\r\nTransport: "
                              "RTP/AVPF;unicast;client_port=5000-5001\r\n\r\n");
    fake_settle(t.f, t.device);
    const char *session = strstr(fake_take(t.f, s, NULL), "Session: ");
    if (session == NULL || kind == 9) return; /* refused; or it goes no further */
    snprintf(text, sizeof text, "PLAY rtsp://a/yard%s RTSP/1.0\r\nCSeq: 2\r\n%.*s\r\n\r\n", kind == 7 ? "" : ".avpf",
             (int)strcspn(session, ";\r"), session);
    fake_say_text(t.f, s, text);
}

static void happen(void)
{
    bmb_sock s = (bmb_sock)roll(FAKE_SOCKS);
    bool one = is_client(&t.f->socks[s]) && !t.f->socks[s].gone && s != t.f->sock_end;
    switch (roll(12)) {
    case 0:
    case 1:
    case 2:
        if (clients() < 30) come();
        break;
    case 3:
    case 4:
        if (one) fake_hang_up(t.f, s);
        break;
    case 5:
        if (one) stalled[s] = !stalled[s];
        break;
    case 6:
    case 7:
        if (one) links[s] = roll(3) == 0 ? 0 : 100 + roll(3000);
        break;
    case 8:
        if (roll(40) == 0) t.f->cameras[roll(2)].take_err = BMB_GONE; /* unplugged … */
        break;
    case 9:
        t.f->cameras[0].take_err = t.f->cameras[1].take_err = BMB_OK; /* … and back */
        break;
    default:
        break;
    }
}

static void tick(void)
{
    if (t.f->cameras[0].running) fake_frame(t.f, 0, large, large_size, true);
    if (t.f->cameras[1].running) fake_frame(t.f, 1, small, small_size, true);
    for (size_t s = 0; s < FAKE_SOCKS; s++) {
        fake_sock *k = &t.f->socks[s];
        if (!is_client(k)) continue;
        k->room = stalled[s] ? 0 : links[s] > 0 ? links[s] * (TICK_US / 8000) : FAKE_OUT;
        if (k->out_size > FAKE_OUT / 2) (void)fake_take(t.f, (bmb_sock)s, NULL);
    }
    t.f->datagram_count = 0;
    fake_run(t.f, t.device, TICK_US);
}

/* How old a picture is that somebody with all the room gets, at the most, in so many seconds. */
static uint32_t age_of_a_picture(void)
{
    uint32_t most = 0;
    bmb_sock s = fake_connect(t.f, 0);
    const uint16_t port = t.f->socks[s].peer.port;
    links[s] = 0;
    stalled[s] = false;
    fake_say_text(t.f, s, "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n");
    for (unsigned i = 0; i < 100; i++) {
        bmb_viewer_stats v;
        tick();
        for (size_t k = 0; bmb_viewer_stats_get(t.device, k, &v) == BMB_OK; k++)
            if (v.peer.port == port && v.age_ms > most) most = v.age_ms;
    }
    fake_hang_up(t.f, s);
    tick();
    return most;
}

/* All leave, and what they leave behind has time to end. */
static void empty(void)
{
    t.f->cameras[0].take_err = t.f->cameras[1].take_err = BMB_OK;
    for (size_t s = 0; s < FAKE_SOCKS; s++)
        if (is_client(&t.f->socks[s])) fake_hang_up(t.f, (bmb_sock)s);
    for (unsigned i = 0; i < 700; i++) tick();
}

static void nothing_is_left_over(void **state)
{
    (void)state;
    const char *asked = getenv("BAMBINO_HOURS");
    const unsigned hours = asked != NULL ? (unsigned)atoi(asked) : 1;
    large_size = fake_jpeg(large, 640, 480, 8000);
    small_size = fake_jpeg(small, 320, 240, 2000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    (void)fake_camera_add(t.f, "station", BMB_CODEC_JPEG);
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = t.feeds[1].camera = "station";
    t.feeds[0].step = "station";
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.feed_count = 2;
    t.config.outlet_count = 2;
    t.config.viewers = 20;
    t.config.repeats = true;
    t.config.uplink_kbps = 20000;
    t.config.events = 64;
    fake_device_open(&t);
    empty();
    const uint32_t young = age_of_a_picture();
    empty();
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    const size_t memory = d.memory;
    const unsigned open = sockets();
    for (unsigned hour = 0; hour < hours; hour++) {
        for (unsigned i = 0; i < 36000; i++) {
            if (roll(4) == 0) happen();
            tick();
        }
        empty();
        bmb_device_stats_get(t.device, &d);
        assert_int_equal(d.viewers, 0);
        assert_int_equal(d.sessions, 0);
        assert_int_equal(d.connections, 0);
        assert_int_equal(d.memory, memory);
        assert_in_range(sockets(), open, open + 2); /* a pair for RTP, once it is asked for */
        bmb_feed_stats feed;
        for (size_t i = 0; i < 2; i++) {
            assert_int_equal(bmb_feed_stats_get(t.device, i, &feed), BMB_OK);
            assert_int_equal(feed.viewers, 0);
            assert_int_equal(feed.reel_pinned, 0);
        }
        const uint32_t age = age_of_a_picture();
        assert_in_range(age, 0, young + 10);
        if (asked != NULL && hour % 6 == 5)
            printf("%u h: %u requests, %u refused, %u connections now, %u sockets, %zu bytes, a picture %u ms old at "
                   "most\n",
                   hour + 1, d.requests, d.refused, d.connections, sockets(), d.memory, age);
        empty();
    }
    bmb_feed_stats yard;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &yard), BMB_OK);
    assert_true(d.requests > 1000 && yard.stalled > 0 && yard.restarts > 0 && yard.skipped > 1000);
    fake_device_close(&t);
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(nothing_is_left_over) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
