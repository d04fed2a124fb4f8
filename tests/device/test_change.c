/* Feeds, outlets and pushes that change, come and go while the device runs, on a port in memory. */
#include "support/check.h"
#include "base/block.h"
#include "support/fake_port.h"

static uint8_t jpeg[20000], small[20000], large[40000];
static size_t jpeg_size, small_size, large_size;
static fake_device t;
static bmb_push_config pushes[2];
static bmb_fault fault;
static const uint8_t key_frame[] = { 0, 0, 0, 1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x40, 0,
                                     0, 0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65, 0x88, 0x84 };

static int prepare(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    small_size = fake_jpeg(small, 320, 240, 3000);
    large_size = fake_jpeg(large, 1280, 960, 30000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.config.reserve = (bmb_reserve){ .changes = true, .feeds = 1, .outlets = 1, .pushes = 1, .bytes = 400000 };
    fault = (bmb_fault){ .err = BMB_OK };
    return 0;
}

static int clean_up(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void picture(size_t camera, const uint8_t *data, size_t size)
{
    fake_frame(t.f, camera, data, size, true);
    fake_settle(t.f, t.device);
}

static bmb_sock watch(size_t listener, const char *path)
{
    char text[100];
    snprintf(text, sizeof text, "GET %s HTTP/1.1\r\nHost: yard\r\n\r\n", path);
    bmb_sock s = fake_connect(t.f, listener);
    fake_settle(t.f, t.device);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    return s;
}

/* Does what was sent hold this picture, whole? */
static bool got(bmb_sock s, const uint8_t *data, size_t size)
{
    size_t n;
    const char *out = fake_take(t.f, s, &n);
    for (size_t i = 0; i + size <= n; i++)
        if (memcmp(out + i, data, size) == 0) return true;
    return false;
}

static bool answered(bmb_sock s, const char *what)
{
    return strstr(fake_take(t.f, s, NULL), what) != NULL;
}

static bmb_feed_config in_size(uint16_t width, uint16_t height, uint32_t frame_max)
{
    bmb_feed_config to = t.feeds[0];
    to.mode.width = width;
    to.mode.height = height;
    to.frame_max = frame_max;
    to.reel_bytes = frame_max * 8;
    return to;
}

static bmb_feed_stats stats_of(size_t feed)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, feed, &s), BMB_OK);
    return s;
}

static void a_jpeg_viewer_goes_on_in_another_size(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg");
    picture(0, jpeg, jpeg_size);
    assert_true(got(s, jpeg, jpeg_size));
    const bmb_feed_config less = in_size(320, 240, 20000), more = in_size(1280, 960, 40000);
    assert_int_equal(bmb_feed_change(t.device, 0, &less, &fault), BMB_OK);
    assert_int_equal(t.f->cameras[0].mode.width, 320);
    picture(0, small, small_size);
    assert_true(got(s, small, small_size));
    assert_int_equal(stats_of(0).width, 320);
    assert_int_equal(bmb_feed_change(t.device, 0, &more, &fault), BMB_OK); /* moves to where there is room */
    picture(0, large, large_size);
    assert_true(got(s, large, large_size));
    assert_int_equal(stats_of(0).viewers, 1);
    assert_int_equal(stats_of(0).reel_bytes, 320000);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_FEED_CHANGED), 2);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_LEFT), 0);
    /* The same row again changes nothing. */
    uint32_t starts = t.f->cameras[0].starts;
    assert_int_equal(bmb_feed_change(t.device, 0, &more, &fault), BMB_OK);
    assert_int_equal(t.f->cameras[0].starts, starts);
}

/* Who is in the middle of a picture finishes it, where its memory can stay; where it cannot, is put out. */
static void a_slow_viewer_gets_its_picture_to_the_end(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg");
    (void)fake_take(t.f, s, NULL);
    t.f->socks[s].room = 3000;
    picture(0, jpeg, jpeg_size);
    const bmb_feed_config less = in_size(320, 240, 20000), more = in_size(1280, 960, 40000);
    assert_int_equal(bmb_feed_change(t.device, 0, &less, &fault), BMB_OK);
    picture(0, small, small_size);
    t.f->socks[s].room = SIZE_MAX;
    fake_run(t.f, t.device, 50000);
    size_t n;
    const char *out = fake_take(t.f, s, &n);
    bool whole = false, next = false;
    for (size_t i = 0; i + small_size <= n; i++) {
        if (i + jpeg_size <= n && memcmp(out + i, jpeg, jpeg_size) == 0) whole = true;
        if (memcmp(out + i, small, small_size) == 0) next = true;
    }
    assert_true(whole && next);
    t.f->socks[s].room = 1000;
    picture(0, small, small_size);
    assert_int_equal(bmb_feed_change(t.device, 0, &more, &fault), BMB_OK);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_SHED), 1);
    assert_int_equal(stats_of(0).viewers, 0);
    picture(0, large, large_size);
    assert_int_equal(stats_of(0).reel_pinned, 0);
}

static void another_codec_ends_who_watches(void **state)
{
    (void)state;
    pushes[0] =
        (bmb_push_config){ .format = BMB_FORMAT_RTP, .to = { .family = 4, .ip = { 192, 0, 2, 9 }, .port = 5000 } };
    t.config.pushes = pushes;
    t.config.push_count = 1;
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.outlet_count = 2;
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg"), r = fake_connect(t.f, 1);
    fake_say_text(t.f, r,
                  "SETUP rtsp://h/yard/video RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;interleaved=0-1\r\n\r\n");
    fake_settle(t.f, t.device);
    picture(0, jpeg, jpeg_size);
    assert_true(t.f->datagram_count > 0);
    bmb_feed_config to = in_size(640, 480, 20000);
    to.mode.codec = BMB_CODEC_H264;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    fake_settle(t.f, t.device);
    assert_true(!t.f->socks[s].open || t.f->socks[s].finished);
    assert_false(t.f->socks[r].open);
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.sessions, 0);
    assert_int_equal(stats_of(0).codec, BMB_CODEC_H264);
    s = watch(0, "/yard.mjpeg");
    assert_true(answered(s, "404"));
    size_t before = t.f->datagram_count;
    s = watch(0, "/yard.ts");
    picture(0, key_frame, sizeof key_frame);
    assert_true(answered(s, "200 OK"));
    assert_true(t.f->datagram_count > before); /* the push goes on, as H.264 */
    assert_int_equal(bmb_feed_change(t.device, 0, &t.feeds[0], &fault), BMB_OK);
    s = watch(0, "/yard.mjpeg");
    picture(0, jpeg, jpeg_size);
    assert_true(got(s, jpeg, jpeg_size));
}

static bmb_err not_together(void *ctx, const size_t *indices, const bmb_mode *modes, size_t count, size_t *culprit)
{
    (void)ctx, (void)indices;
    *culprit = 0;
    for (size_t i = 0; i < count; i++)
        if (modes[i].width == 1280) return BMB_UNSUPPORTED;
    return BMB_OK;
}

static void what_cannot_be_is_refused_before_anything_stops(void **state)
{
    (void)state;
    t.f->port.cameras.together = not_together;
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg");
    picture(0, jpeg, jpeg_size);
    (void)fake_take(t.f, s, NULL);
    uint32_t starts = t.f->cameras[0].starts;
    bmb_feed_config to = in_size(1280, 960, 40000);
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_UNSUPPORTED);
    assert_string_equal(fault.key, "together");
    to = in_size(320, 240, 90000); /* eight of them are more than there is */
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_NO_MEMORY);
    assert_string_equal(fault.key, "reserve");
    assert_true(fault.asked > fault.have && fault.have > 400000);
    to = in_size(8, 240, 20000);
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_BAD_ARG);
    assert_string_equal(fault.key, "width");
    to = t.feeds[0];
    to.name = "other";
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_UNSUPPORTED);
    to = t.feeds[0];
    to.multicast.group = (bmb_addr){ .family = 4, .ip = { 239, 255, 1, 1 }, .port = 5004 };
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_NO_MEMORY); /* no group was reserved */
    assert_int_equal(bmb_feed_change(t.device, 1, &to, &fault), BMB_NOT_FOUND);
    assert_int_equal(t.f->cameras[0].starts, starts);
    /* The driver itself refuses: what was before goes on. */
    to = in_size(320, 240, 20000);
    t.f->cameras[0].effective = (bmb_mode){ BMB_CODEC_H264, 320, 240, 15000 };
    assert_int_not_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    assert_string_equal(fault.part, "camera");
    t.f->cameras[0].effective = (bmb_mode){ .width = 0 };
    fake_run(t.f, t.device, 1000000);
    assert_int_equal(t.f->cameras[0].mode.width, 640);
    picture(0, jpeg, jpeg_size);
    assert_true(got(s, jpeg, jpeg_size));
}

/* A camera that waits may be given other modes; but not one that it says it has not. */
static void what_the_camera_cannot_do_is_refused_while_it_waits(void **state)
{
    (void)state;
    fake_device_open(&t);
    picture(0, jpeg, jpeg_size);
    t.f->cameras[0].start_err = BMB_FAILED;
    fake_run(t.f, t.device, 4000000);
    assert_int_equal(stats_of(0).camera_state, BMB_CAMERA_WAITING);
    bmb_feed_config to = in_size(320, 240, 20000);
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    t.f->cameras[0].start_err = BMB_UNSUPPORTED;
    to = in_size(1280, 960, 40000);
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_UNSUPPORTED);
    assert_string_equal(fault.part, "camera");
    t.f->cameras[0].start_err = BMB_OK;
    fake_run(t.f, t.device, 20000000);
    picture(0, small, small_size);
    assert_int_equal(stats_of(0).width, 320);
}

static void limits_change_under_who_watches(void **state)
{
    (void)state;
    static const char *const names[] = { "halt" };
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg");
    bmb_config to = t.config;
    to.stall_ms = 50;
    assert_int_equal(bmb_limits_change(t.device, &to, &fault), BMB_BAD_ARG);
    assert_string_equal(fault.key, "stall_ms");
    to.stall_ms = 500;
    to.names = names;
    to.name_count = 1;
    assert_int_equal(bmb_limits_change(t.device, &to, &fault), BMB_OK);
    assert_true(answered(watch(0, "/yard.jpg"), "421")); /* Host: yard */
    static const char *const hosts[][2] = { { "halt", "200" },
                                            { "192.0.2.1:80", "200" },
                                            { "[2001:db8::1]:80", "200" },
                                            { "[::1]", "200" },
                                            { "[x].evil.example", "421" },
                                            { "[::1].evil.example", "421" },
                                            { "[evil]", "421" },
                                            { "[]", "421" },
                                            { "192.0.2.1.evil", "421" } };
    for (size_t i = 0; i < sizeof hosts / sizeof hosts[0]; i++) {
        char text[100];
        snprintf(text, sizeof text, "GET /status.json HTTP/1.1\r\nHost: %s\r\n\r\n", hosts[i][0]);
        bmb_sock one = fake_connect(t.f, 0);
        fake_settle(t.f, t.device);
        fake_say_text(t.f, one, text);
        fake_settle(t.f, t.device);
        if (!answered(one, hosts[i][1])) fail_msg("Host: %s", hosts[i][0]);
    }
    picture(0, jpeg, jpeg_size);
    assert_true(got(s, jpeg, jpeg_size));
    t.f->socks[s].room = 100; /* it takes nothing any more */
    picture(0, jpeg, jpeg_size);
    for (int i = 0; i < 12; i++) {
        fake_run(t.f, t.device, 100000);
        picture(0, jpeg, jpeg_size);
    }
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_STALLED), 1);
}

/* Of a group, whether it is sent unasked and to whom changes while it runs; where it is and what it needs does not. */
static void a_group_begins_and_ends_to_be_sent_always(void **state)
{
    (void)state;
    t.feeds[0].multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 } };
    fake_device_open(&t);
    picture(0, jpeg, jpeg_size);
    assert_int_equal(t.f->datagram_count, 0);
    bmb_feed_config to = t.feeds[0];
    to.multicast.always = true;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    picture(0, jpeg, jpeg_size);
    assert_true(t.f->datagram_count > 0);
    assert_int_equal(t.f->datagrams[0].to.ip[0], 239);
    to.multicast.always = false;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    t.f->datagram_count = 0; /* its goodbye was among them */
    picture(0, jpeg, jpeg_size);
    assert_int_equal(t.f->datagram_count, 0);
    to.multicast.parity = 4; /* for which nothing was reserved */
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_NO_MEMORY);
    assert_string_equal(fault.key, "reserve");
}

/* Which groups were sent to since the last look: of the first and of the second. */
static void groups_sent(size_t *first, size_t *second)
{
    t.f->datagram_count = 0;
    picture(0, jpeg, jpeg_size);
    *first = *second = 0;
    for (size_t i = 0; i < t.f->datagram_count; i++) {
        *first += t.f->datagrams[i].to.ip[3] == 3;
        *second += t.f->datagrams[i].to.ip[3] == 4;
    }
}

static void a_group_comes_moves_and_goes(void **state)
{
    (void)state;
    size_t first, second;
    t.feeds[0].multicast.group.port = 1; /* none yet */
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg");
    bmb_feed_config to = t.feeds[0];
    to.multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 }, .always = true };
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    groups_sent(&first, &second);
    assert_true(first > 0 && second == 0);
    to.multicast.group.ip[3] = 4;
    to.multicast.parity = 4;
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    groups_sent(&first, &second);
    assert_true(first == 0 && second > 0);
    size_t parity = 0;
    for (size_t i = 0; i < t.f->datagram_count; i++) parity += t.f->datagrams[i].to.port == 5006;
    assert_true(parity > 0);
    /* The one place is taken: another feed has none. */
    bmb_feed_config other = t.feeds[0];
    size_t index;
    fake_camera_add(t.f, "loco", BMB_CODEC_JPEG);
    other.name = other.camera = "loco";
    other.multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 5 }, .port = 5004 }, .always = true };
    assert_int_equal(bmb_feed_add(t.device, &other, &index, &fault), BMB_NO_MEMORY);
    to.multicast = (bmb_multicast){ .always = false };
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    groups_sent(&first, &second);
    assert_true(first == 0 && second == 0);
    assert_int_equal(bmb_feed_add(t.device, &other, &index, &fault), BMB_OK);
    assert_int_equal(bmb_feed_remove(t.device, index), BMB_OK);
    to.multicast = other.multicast; /* its place is free again */
    assert_int_equal(bmb_feed_change(t.device, 0, &to, &fault), BMB_OK);
    assert_true(got(s, jpeg, jpeg_size)); /* who watches by another way noticed nothing */
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_LEFT), 0);
}

static void feeds_come_and_go(void **state)
{
    (void)state;
    fake_camera_add(t.f, "station", BMB_CODEC_JPEG);
    fake_device_open(&t);
    bmb_feed_config second = bmb_feed_of("station", BMB_CODEC_JPEG, 320, 240, 10000);
    size_t index, other;
    bmb_sock s = watch(0, "/station.mjpeg");
    assert_true(answered(s, "404"));
    for (int round = 0; round < 3; round++) {
        assert_int_equal(bmb_feed_add(t.device, &second, &index, &fault), BMB_OK);
        assert_int_equal(index, 1);
        s = watch(0, "/station.mjpeg");
        picture(1, small, small_size);
        assert_true(got(s, small, small_size));
        assert_int_equal(bmb_feed_add(t.device, &second, &other, &fault), BMB_LIMIT); /* one more has no place */
        assert_int_equal(bmb_feed_remove(t.device, index), BMB_OK);
        assert_int_equal(bmb_feed_remove(t.device, index), BMB_NOT_FOUND);
        fake_settle(t.f, t.device);
        assert_true(!t.f->socks[s].open || t.f->socks[s].finished);
        assert_false(t.f->cameras[1].running);
    }
    int32_t value; /* the place that is free has no camera */
    assert_int_equal(bmb_control_set(t.device, 1, BMB_CONTROL_QUALITY, 50, &value), BMB_NOT_FOUND);
    assert_int_equal(bmb_control_get(t.device, 1, BMB_CONTROL_QUALITY, &value), BMB_NOT_FOUND);
    s = watch(0, "/status.json");
    assert_null(strstr(fake_take(t.f, s, NULL), "station"));
    second.name = "yard";
    assert_int_equal(bmb_feed_add(t.device, &second, &index, &fault), BMB_IN_USE);
    second = bmb_feed_of("attic", BMB_CODEC_JPEG, 320, 240, 10000);
    assert_int_equal(bmb_feed_add(t.device, &second, &index, &fault), BMB_NOT_FOUND);
    second = bmb_feed_of("station", BMB_CODEC_JPEG, 2560, 1920, 10000);
    assert_int_equal(bmb_feed_add(t.device, &second, &index, &fault), BMB_NO_MEMORY);
    /* The memory that the first one leaves is another's. */
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    size_t spare = d.spare;
    assert_int_equal(bmb_feed_remove(t.device, 0), BMB_OK);
    bmb_device_stats_get(t.device, &d);
    assert_true(d.spare > spare + 160000);
    second = bmb_feed_of("station", BMB_CODEC_JPEG, 640, 320, 10000);
    second.reel_bytes = 500000;
    assert_int_equal(bmb_feed_add(t.device, &second, &index, &fault), BMB_OK);
    assert_int_equal(index, 0);
}

static void a_feed_pauses_and_starts_again(void **state)
{
    (void)state;
    pushes[0] =
        (bmb_push_config){ .format = BMB_FORMAT_RTP, .to = { .family = 4, .ip = { 192, 0, 2, 9 }, .port = 5000 } };
    t.config.pushes = pushes;
    t.config.push_count = 1;
    fake_device_open(&t);
    bmb_sock s = watch(0, "/yard.mjpeg");
    picture(0, jpeg, jpeg_size);
    assert_int_equal(bmb_feed_pause(t.device, 0, true), BMB_OK);
    assert_int_equal(bmb_feed_pause(t.device, 0, true), BMB_OK);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_FEED_PAUSED), 1);
    assert_false(t.f->cameras[0].running);
    assert_true(!t.f->socks[s].open || t.f->socks[s].finished);
    assert_true(answered(watch(0, "/yard.mjpeg"), "404"));
    assert_int_equal(stats_of(0).camera_state, BMB_CAMERA_OFF);
    fake_run(t.f, t.device, 3000000);
    assert_false(t.f->cameras[0].running);
    size_t before = t.f->datagram_count;
    assert_int_equal(bmb_feed_pause(t.device, 0, false), BMB_OK);
    s = watch(0, "/yard.mjpeg");
    picture(0, jpeg, jpeg_size);
    assert_true(got(s, jpeg, jpeg_size));
    assert_true(t.f->datagram_count > before);
    assert_int_equal(bmb_feed_pause(t.device, 0, true), BMB_OK);
    assert_int_equal(bmb_feed_remove(t.device, 0), BMB_OK);
    assert_int_equal(bmb_feed_pause(t.device, 0, false), BMB_NOT_FOUND);
    assert_int_equal(bmb_feed_pause(t.device, 5, false), BMB_NOT_FOUND);
}

static void outlets_come_and_go(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_outlet_config tcp = { .kind = BMB_OUTLET_TCP, .listen = { .family = 4, .port = 8600 } };
    bmb_outlet_stats o;
    size_t index;
    bmb_addr addr;
    assert_int_equal(bmb_outlet_addr(t.device, 1, &addr), BMB_NOT_FOUND);
    assert_int_equal(bmb_outlet_stats_get(t.device, 1, &o), BMB_OK);
    assert_int_equal(o.addr.family, 0);
    tcp.format = BMB_FORMAT_TS; /* which JPEG has not */
    assert_int_equal(bmb_outlet_add(t.device, &tcp, &index, &fault), BMB_UNSUPPORTED);
    tcp.format = BMB_FORMAT_RAW;
    for (int round = 0; round < 3; round++) {
        assert_int_equal(bmb_outlet_add(t.device, &tcp, &index, &fault), BMB_OK);
        assert_int_equal(index, 1);
        bmb_sock s = fake_connect(t.f, 1);
        fake_settle(t.f, t.device);
        picture(0, jpeg, jpeg_size);
        assert_true(got(s, jpeg, jpeg_size));
        assert_int_equal(bmb_outlet_add(t.device, &tcp, &index, &fault), BMB_LIMIT);
        assert_int_equal(bmb_outlet_remove(t.device, 1), BMB_OK);
        assert_int_equal(bmb_outlet_remove(t.device, 1), BMB_NOT_FOUND);
        assert_false(t.f->socks[s].open);
    }
    bmb_outlet_config rtsp = { .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    assert_int_equal(bmb_outlet_add(t.device, &rtsp, &index, &fault), BMB_NO_MEMORY); /* no sessions were laid out */
    assert_int_equal(stats_of(0).viewers, 0);
}

static void pushes_come_and_go(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_push_config to = { .format = BMB_FORMAT_RAW,
                           .tcp = true,
                           .to = { .family = 4, .ip = { 192, 0, 2, 9 }, .port = 5000 } };
    size_t index;
    bmb_push_stats p;
    for (int round = 0; round < 3; round++) {
        assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_OK);
        assert_int_equal(index, 0);
        fake_run(t.f, t.device, 20000);
        picture(0, jpeg, jpeg_size);
        assert_int_equal(bmb_push_stats_get(t.device, 0, &p), BMB_OK);
        assert_int_equal(p.state, BMB_PUSH_SENDING);
        assert_true(got(t.f->dialled, jpeg, jpeg_size));
        assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_LIMIT);
        assert_int_equal(bmb_push_remove(t.device, 0), BMB_OK);
        assert_int_equal(bmb_push_remove(t.device, 0), BMB_NOT_FOUND);
        assert_int_equal(bmb_push_stats_get(t.device, 0, &p), BMB_OK);
        assert_null(p.config);
    }
    to.secure = true; /* nothing for it was laid out */
    assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_NO_MEMORY);
    assert_string_equal(fault.key, "secure");
    to.secure = false;
    to.to.family = 0;
    assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_BAD_ARG);
    to.to.family = 4;
    to.feed = 1;
    assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_NOT_FOUND);
}

static void each_push_has_a_connection_of_its_own(void **state)
{
    (void)state;
    t.config.reserve.pushes = 3;
    fake_device_open(&t);
    bmb_push_config to = { .format = BMB_FORMAT_RAW, .tcp = true, .to = { .family = 4, .ip = { 192, 0, 2, 9 } } };
    bmb_sock dialled[4];
    size_t index;
    for (uint16_t i = 0; i < 3; i++) {
        to.to.port = (uint16_t)(5000 + i);
        assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_OK);
        fake_run(t.f, t.device, 20000);
        dialled[i] = t.f->dialled;
    }
    picture(0, jpeg, jpeg_size);
    for (int i = 0; i < 3; i++) assert_true(got(dialled[i], jpeg, jpeg_size));
    /* The one in the middle goes: who comes takes its place, and nobody else's. */
    assert_int_equal(bmb_push_remove(t.device, 1), BMB_OK);
    to.to.port = 5003;
    assert_int_equal(bmb_push_add(t.device, &to, &index, &fault), BMB_OK);
    fake_run(t.f, t.device, 20000);
    dialled[1] = t.f->dialled;
    picture(0, jpeg, jpeg_size);
    for (int i = 0; i < 3; i++) assert_true(got(dialled[i], jpeg, jpeg_size));
}

static void without_a_reserve_nothing_changes(void **state)
{
    (void)state;
    t.config.reserve = (bmb_reserve){ .changes = false };
    fake_device_open(&t);
    bmb_outlet_config tcp = { .kind = BMB_OUTLET_TCP, .listen = { .family = 4, .port = 8600 } };
    bmb_push_config to = { .feed = 0 };
    size_t index;
    assert_int_equal(bmb_feed_change(t.device, 0, &t.feeds[0], &fault), BMB_UNSUPPORTED);
    assert_int_equal(bmb_feed_add(t.device, &t.feeds[0], &index, NULL), BMB_UNSUPPORTED);
    assert_int_equal(bmb_feed_pause(t.device, 0, true), BMB_UNSUPPORTED);
    assert_int_equal(bmb_outlet_add(t.device, &tcp, &index, NULL), BMB_UNSUPPORTED);
    assert_int_equal(bmb_outlet_remove(t.device, 0), BMB_UNSUPPORTED);
    assert_int_equal(bmb_push_add(t.device, &to, &index, NULL), BMB_UNSUPPORTED);
    assert_int_equal(bmb_push_remove(t.device, 0), BMB_UNSUPPORTED);
    assert_int_equal(bmb_feed_remove(t.device, 0), BMB_OK);
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.spare, 0);
}

/* The counted cost is what is laid out, and the parts add up. */
static void the_reserve_is_in_the_budget(void **state)
{
    (void)state;
    bmb_budget with, without;
    assert_int_equal(bmb_budget_of(&t.config, &with, NULL), BMB_OK);
    t.config.reserve = (bmb_reserve){ .changes = false };
    assert_int_equal(bmb_budget_of(&t.config, &without, NULL), BMB_OK);
    assert_int_equal(without.reserve, 0);
    assert_true(with.reserve >= 400000 && with.reserve < 410000);
    assert_true(with.reels >= without.reels && with.reels <= without.reels + 2 * BMB_BLOCK_GAP);
    t.config.reserve = (bmb_reserve){ .changes = true, .feeds = 64 };
    assert_int_equal(bmb_budget_of(&t.config, &with, &fault), BMB_BAD_ARG);
    assert_string_equal(fault.key, "feeds");
    t.config.reserve = (bmb_reserve){ .changes = true, .outlets = 10 };
    assert_int_equal(bmb_budget_of(&t.config, &with, &fault), BMB_BAD_ARG);
    t.config.reserve = (bmb_reserve){ .changes = true, .pushes = 17 };
    assert_int_equal(bmb_budget_of(&t.config, &with, &fault), BMB_BAD_ARG);
    t.config.reserve = (bmb_reserve){ .changes = true, .bytes = 1 };
    fake_device_open(&t);
}

#define TEST(function) cmocka_unit_test_setup_teardown(function, prepare, clean_up)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(a_jpeg_viewer_goes_on_in_another_size),
        TEST(a_slow_viewer_gets_its_picture_to_the_end),
        TEST(another_codec_ends_who_watches),
        TEST(what_cannot_be_is_refused_before_anything_stops),
        TEST(what_the_camera_cannot_do_is_refused_while_it_waits),
        TEST(limits_change_under_who_watches),
        TEST(a_group_begins_and_ends_to_be_sent_always),
        TEST(a_group_comes_moves_and_goes),
        TEST(feeds_come_and_go),
        TEST(a_feed_pauses_and_starts_again),
        TEST(outlets_come_and_go),
        TEST(pushes_come_and_go),
        TEST(each_push_has_a_connection_of_its_own),
        TEST(without_a_reserve_nothing_changes),
        TEST(the_reserve_is_in_the_budget),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
