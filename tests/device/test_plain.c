/* Plain TCP outlets, pushes, and the framed protocol, on a port in memory. */
#include "support/check.h"
#include "support/fake_port.h"

#include "wire/framed.h"

static uint8_t jpeg[20000], received[1 << 18];
static size_t jpeg_size;
static fake_device t;
static bmb_push_config pushes[2];
static const bmb_addr far = { .family = 4, .ip = { 192, 0, 2, 20 }, .port = 5000 };
/* Parameter sets and a key picture; a picture that needs it. */
static const uint8_t key_frame[] = { 0, 0, 0, 1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x40, 0,
                                     0, 0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65, 0x88, 0x84 },
                     next_frame[] = { 0, 0, 0, 1, 0x41, 0x9A, 0x02 };

static void prepare(bmb_codec codec, bmb_stream_format format)
{
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_prepare(&t, codec);
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_TCP,
                                        .listen = { .family = 4, .port = 8600 },
                                        .format = format,
                                        .feed = format == BMB_FORMAT_FRAMED ? BMB_NO_FEED : 0,
                                        .controls = true };
    t.config.outlet_count = 2;
}

static int setup(void **state)
{
    (void)state;
    memset(pushes, 0, sizeof pushes);
    return 0;
}

static int teardown(void **state)
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

static void h264(bool key)
{
    if (key) {
        fake_frame(t.f, 0, key_frame, sizeof key_frame, true);
    } else {
        fake_frame(t.f, 0, next_frame, sizeof next_frame, false);
    }
    fake_settle(t.f, t.device);
}

static size_t take(bmb_sock s)
{
    size_t size;
    const char *data = fake_take(t.f, s, &size);
    assert_true(size <= sizeof received);
    memcpy(received, data, size);
    return size;
}

static bmb_sock join(void)
{
    bmb_sock s = fake_connect(t.f, 1);
    fake_settle(t.f, t.device);
    return s;
}

static void a_raw_stream_is_the_frames_and_nothing_else(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_RAW);
    fake_device_open(&t);
    bmb_sock s = join();
    picture();
    picture();
    assert_int_equal(take(s), 2 * jpeg_size);
    assert_memory_equal(received, jpeg, jpeg_size);
    assert_memory_equal(received + jpeg_size, jpeg, jpeg_size);
    fake_say_text(t.f, s, "GET / HTTP/1.1\r\n\r\n"); /* whatever it says */
    picture();
    assert_int_equal(take(s), jpeg_size);
    bmb_outlet_stats o;
    assert_int_equal(bmb_outlet_stats_get(t.device, 1, &o), BMB_OK);
    assert_int_equal(o.viewers, 1);
    assert_int_equal(o.out.frames, 3);
    assert_int_equal(o.out.bytes, 3 * jpeg_size);
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    assert_int_equal(bmb_outlet_stats_get(t.device, 1, &o), BMB_OK);
    assert_int_equal(o.viewers, 0);
    assert_int_equal(o.out.frames, 3); /* stays counted */
}

static void raw_h264_begins_with_parameter_sets_and_a_key_frame(void **state)
{
    (void)state;
    prepare(BMB_CODEC_H264, BMB_FORMAT_RAW);
    fake_device_open(&t);
    h264(true);
    h264(false);
    bmb_sock s = join();
    h264(false);
    assert_int_equal(take(s), 0); /* nothing that it could not decode */
    fake_run(t.f, t.device, 600000);
    assert_true(t.f->cameras[0].key_requests > 0);
    h264(true);
    h264(false);
    assert_int_equal(take(s), sizeof key_frame + sizeof next_frame);
    assert_memory_equal(received, key_frame, sizeof key_frame);
}

static void viewers_beyond_the_limit_are_refused(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_RAW);
    t.config.viewers = 1;
    fake_device_open(&t);
    bmb_sock a = join(), b = join();
    assert_true(t.f->socks[a].open);
    assert_false(t.f->socks[b].open);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_REFUSED), 1);
}

static void one_who_takes_nothing_is_closed(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_RAW);
    fake_device_open(&t);
    bmb_sock s = join();
    t.f->socks[s].room = 100;
    for (int i = 0; i < 70; i++) {
        picture();
        fake_run(t.f, t.device, 100000);
    }
    assert_false(t.f->socks[s].open);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_STALLED), 1);
    bmb_outlet_stats o;
    assert_int_equal(bmb_outlet_stats_get(t.device, 1, &o), BMB_OK);
    assert_true(o.out.blocked_us >= 4900000); /* and how long it waited is told */
    bool told = false;
    for (size_t i = 0; i < t.f->event_count; i++)
        told = told || (t.f->events[i].code == BMB_EVENT_REPORT && t.f->events[i].value == 1);
    assert_true(told);
}

/* The newest picture for a slow viewer; every picture, as far as the reel has it, for one that keeps all. */
static void behind(bool keep_all)
{
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_RAW);
    t.outlets[1].keep_all = keep_all;
    t.feeds[0].reel_bytes = 400000;
    fake_device_open(&t);
    bmb_sock s = join();
    picture();
    t.f->socks[s].room = 0;
    for (int i = 0; i < 8; i++) {
        picture();
        fake_run(t.f, t.device, 66666);
    }
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
}

static void a_slow_viewer_gets_the_newest(void **state)
{
    (void)state;
    behind(false);
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_int_equal(v.transport, BMB_VIA_TCP);
    assert_int_equal(v.sent, 3); /* the first, the one it was in, the newest */
    assert_int_equal(v.skipped, 6);
}

static void a_recorder_gets_every_one(void **state)
{
    (void)state;
    behind(true);
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_int_equal(v.sent, 9);
    assert_int_equal(v.skipped, 0);
    t.f->socks[0].room = t.f->socks[1].room = 0;
    for (bmb_sock s = 0; s < FAKE_SOCKS; s++)
        if (t.f->socks[s].open) t.f->socks[s].room = 0;
    for (int i = 0; i < 60; i++) { /* more than the reel holds */
        picture();
        fake_run(t.f, t.device, 66666);
    }
    for (bmb_sock s = 0; s < FAKE_SOCKS; s++) t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
    assert_true(fake_event_count(t.f, BMB_EVENT_VIEWER_BEHIND) >= 1);
}

/* Pushes. */

static void push(bmb_codec codec, bool tcp, bmb_stream_format format)
{
    prepare(codec, BMB_FORMAT_RAW);
    pushes[0] = (bmb_push_config){ .tcp = tcp, .format = format, .to = far, .controls = true };
    t.config.pushes = pushes;
    t.config.push_count = 1;
}

static bmb_push_stats figures(void)
{
    bmb_push_stats s;
    assert_int_equal(bmb_push_stats_get(t.device, 0, &s), BMB_OK);
    return s;
}

static void datagrams_of_a_transport_stream_hold_whole_packets(void **state)
{
    (void)state;
    push(BMB_CODEC_H264, false, BMB_FORMAT_TS);
    fake_device_open(&t);
    h264(true);
    fake_run(t.f, t.device, 30000);
    assert_true(t.f->datagram_count > 0);
    const fake_datagram *first = &t.f->datagrams[0];
    assert_memory_equal(&first->to, &far, sizeof far);
    assert_int_equal(first->size % 188, 0);
    assert_int_equal(first->data[0], 0x47);
    size_t before = t.f->datagram_count;
    fake_run(t.f, t.device, 1000000); /* the camera is silent: the clock goes on all the same */
    assert_in_range(t.f->datagram_count - before, 25, 30);
    for (size_t i = 1; i < t.f->datagram_count; i++)
        assert_true(t.f->datagrams[i].at_us - t.f->datagrams[i - 1].at_us <= 40000);
}

static void rtp_goes_with_its_description(void **state)
{
    (void)state;
    char sdp[1024];
    size_t size;
    push(BMB_CODEC_H264, false, BMB_FORMAT_RTP);
    fake_device_open(&t);
    assert_int_equal(bmb_push_describe(t.device, 0, sdp, sizeof sdp, &size), BMB_AGAIN);
    h264(true);
    assert_int_equal(bmb_push_describe(t.device, 0, sdp, sizeof sdp, &size), BMB_OK);
    sdp[size] = '\0';
    assert_non_null(strstr(sdp, "c=IN IP4 192.0.2.20\r\n"));
    assert_non_null(strstr(sdp, "m=video 5000 RTP/AVP 96\r\n"));
    assert_non_null(strstr(sdp, "sprop-parameter-sets="));
    assert_int_equal(bmb_push_describe(t.device, 0, sdp, 40, &size), BMB_NO_ROOM);
    assert_int_equal(bmb_push_describe(t.device, 1, sdp, sizeof sdp, &size), BMB_NOT_FOUND);
    bool report = false;
    for (size_t i = 0; i < t.f->datagram_count; i++) report = report || t.f->datagrams[i].to.port == 5001;
    assert_true(report); /* RTCP on the next port */
}

static void a_refusal_is_told_once_and_sending_goes_on(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, false, BMB_FORMAT_RTP);
    fake_device_open(&t);
    picture();
    bmb_sock s = t.f->datagrams[0].from;
    for (int i = 0; i < 20; i++) {
        t.f->socks[s].udp_err = BMB_REFUSED;
        size_t before = t.f->datagram_count;
        picture();
        fake_run(t.f, t.device, 66666);
        assert_true(t.f->datagram_count > before);
    }
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_PUSH_FAILED), 1);
    assert_int_equal(figures().err, BMB_REFUSED);
    assert_int_equal(figures().skipped, 0);
    /* Hosts answer once a second: a second of silence means nothing. */
    for (int i = 0; i < 60; i++) {
        if (i % 30 == 29) t.f->socks[s].udp_err = BMB_REFUSED;
        picture();
        fake_run(t.f, t.device, 66666);
    }
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_PUSH_HEARD), 0);
    for (int i = 0; i < 90; i++) {
        picture();
        fake_run(t.f, t.device, 66666);
    }
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_PUSH_HEARD), 1);
    assert_int_equal(figures().err, BMB_OK);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_PUSH_FAILED), 1);
}

/* An hour without a receiver: the log tells it at growing intervals, and by each trouble anew. */
static void trouble_that_goes_on_is_told_more_and_more_seldom(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, true, BMB_FORMAT_RAW);
    t.f->dial_err = BMB_REFUSED;
    fake_device_open(&t);
    fake_run(t.f, t.device, 3600000000);
    assert_true(t.f->dials > 300);
    assert_in_range(fake_event_count(t.f, BMB_EVENT_PUSH_FAILED), 6, 8); /* at 0, 30, 90, 210, 450, 930, 1890 s */
    t.f->event_count = 0;                                                /* the list has an end */
    t.f->dial_err = BMB_NO_ROUTE;
    fake_run(t.f, t.device, 20000000);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_PUSH_FAILED), 1);
}

static void a_push_waits_for_its_network(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, false, BMB_FORMAT_RTP);
    t.f->udp_open_err = BMB_NO_ROUTE;
    fake_device_open(&t);
    assert_int_equal(figures().state, BMB_PUSH_WAITING);
    assert_int_equal(figures().err, BMB_NO_ROUTE);
    t.f->udp_open_err = BMB_OK;
    fake_run(t.f, t.device, 600000);
    assert_int_equal(figures().state, BMB_PUSH_SENDING);
    picture();
    assert_true(figures().out.frames == 1);
}

/* Twenty times the listener goes away and comes back: each time within the pause, and with a key frame first. */
static void a_listener_may_come_and_go(void **state)
{
    (void)state;
    push(BMB_CODEC_H264, true, BMB_FORMAT_RAW);
    fake_device_open(&t);
    for (uint32_t round = 1; round <= 20; round++) {
        fake_run(t.f, t.device, 100000);
        assert_int_equal(figures().state, BMB_PUSH_SENDING);
        assert_int_equal(figures().starts, round);
        h264(false);
        h264(true);
        h264(false);
        h264(false);
        bmb_sock s = t.f->dialled;
        assert_int_equal(take(s), sizeof key_frame + 2 * sizeof next_frame);
        assert_memory_equal(received, key_frame, sizeof key_frame);
        for (int i = 0; i < 32; i++) {
            fake_run(t.f, t.device, 100000);
            h264(false);
        }
        fake_hang_up(t.f, s);
        fake_settle(t.f, t.device);
        assert_int_equal(figures().state, BMB_PUSH_WAITING);
        t.f->dial_err = BMB_REFUSED;
        fake_run(t.f, t.device, 510000);
        assert_int_equal(figures().err, BMB_REFUSED);
        t.f->dial_err = BMB_OK;
        h264(false);
        fake_run(t.f, t.device, 1010000); /* the second pause is twice the first */
        t.f->event_count = 0;
    }
    assert_int_equal(figures().out.frames, 20 * (3 + 32));
}

static void pauses_between_tries_grow_up_to_a_bound(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, true, BMB_FORMAT_RAW);
    t.f->dial_err = BMB_NO_ROUTE;
    fake_device_open(&t);
    fake_run(t.f, t.device, 60000000);
    assert_in_range(t.f->dials, 8, 12); /* 0.5 + 1 + 2 + 4 + 8 + 10 + 10 + 10 s … */
    t.f->dial_err = BMB_AGAIN;          /* no answer at all */
    fake_run(t.f, t.device, 10100000);
    assert_int_equal(figures().state, BMB_PUSH_DIALLING);
    fake_run(t.f, t.device, 5200000);
    assert_int_equal(figures().err, BMB_TIMED_OUT);
}

static void a_listener_that_never_reads_is_named(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, true, BMB_FORMAT_RAW);
    fake_device_open(&t);
    fake_run(t.f, t.device, 10000);
    t.f->socks[t.f->dialled].room = 5000;
    for (int i = 0; i < 95; i++) {
        picture();
        fake_run(t.f, t.device, 66666);
    }
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_PUSH_UNREAD), 1);
    assert_true(t.f->dials >= 2); /* and tried again */
}

static void a_feed_may_be_removed_while_it_is_pushed(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, true, BMB_FORMAT_RAW);
    pushes[1] = (bmb_push_config){ .format = BMB_FORMAT_RTP, .to = far };
    t.config.push_count = 2;
    fake_device_open(&t);
    bmb_sock s = join();
    fake_run(t.f, t.device, 10000);
    t.f->socks[t.f->dialled].room = 3000; /* in the middle of a frame */
    picture();
    assert_int_equal(bmb_feed_remove(t.device, 0), BMB_OK);
    assert_int_equal(bmb_feed_remove(t.device, 0), BMB_NOT_FOUND);
    fake_settle(t.f, t.device);
    assert_false(t.f->socks[s].open);
    assert_false(t.f->cameras[0].running);
    assert_int_equal(figures().state, BMB_PUSH_OFF);
    fake_run(t.f, t.device, 20000000);
    assert_int_equal(t.f->dials, 1);
    assert_int_equal(t.f->cameras[0].out, 0);
    bmb_sock late = fake_connect(t.f, 0);
    fake_say_text(t.f, late, "GET /yard.jpg HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    (void)take(late);
    assert_memory_equal(received, "HTTP/1.1 404", 12);
    late = join();
    assert_false(t.f->socks[late].open);
}

static void frames_of_one_byte_and_of_many_pass(void **state)
{
    (void)state;
    static uint8_t large[150000];
    size_t size = fake_jpeg(large, 640, 480, 140000);
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    t.outlets[1].feed = 0;
    t.feeds[0].frame_max = 150000;
    t.feeds[0].reel_bytes = 600000;
    fake_device_open(&t);
    bmb_sock s = join();
    (void)take(s);
    fake_frame(t.f, 0, (const uint8_t *)"x", 1, true); /* no picture: dropped before any viewer */
    fake_settle(t.f, t.device);
    assert_int_equal(take(s), 0);
    fake_frame(t.f, 0, large, size, true);
    fake_settle(t.f, t.device);
    assert_int_equal(take(s), BMB_FRAMED_HEADER + BMB_FRAMED_FRAME_HEAD + size);
    assert_memory_equal(received + BMB_FRAMED_HEADER + BMB_FRAMED_FRAME_HEAD, large, size);
    /* The framers themselves carry a single byte. */
    bmb_gather g;
    const bmb_framer *const framers[] = { &bmb_framer_raw, &bmb_framer_framed };
    for (size_t i = 0; i < 2; i++) {
        const bmb_stream_state state_of = { 0 };
        const bmb_frame one = { .data = large, .size = 1, .seq = 1 };
        bmb_cursor cursor = { 0 };
        bmb_gather_clear(&g);
        framers[i]->fill(&state_of, &one, &cursor, &g, 64);
        assert_true(cursor.end && g.bytes == (i == 0 ? 1 : BMB_FRAMED_HEADER + BMB_FRAMED_FRAME_HEAD + 1));
    }
}

/* The framed protocol. */

typedef struct heard {
    bmb_framed_message m;
    const uint8_t *body;
} heard;

static heard messages[64];

/* Takes what came, message by message; every byte must belong to one. */
static size_t hear(bmb_sock s)
{
    size_t size = take(s), at = 0, n = 0;
    while (at < size) {
        heard *h = &messages[n++];
        assert_true(n < 64);
        assert_int_equal(bmb_framed_read(received + at, size - at, &h->m), BMB_OK);
        h->body = received + at + BMB_FRAMED_HEADER;
        at += BMB_FRAMED_HEADER + h->m.length;
    }
    assert_int_equal(at, size);
    return n;
}

static void ask_as(bmb_sock s, uint8_t version, uint8_t type, uint32_t number, const void *body, uint32_t length)
{
    uint8_t out[BMB_FRAMED_HEADER];
    bmb_framed_write(out, &(bmb_framed_message){ .type = type, .number = number, .length = length });
    out[7] ^= out[4] ^ version; /* the check goes over the version, too */
    out[4] = version;
    fake_say(t.f, s, out, sizeof out);
    if (body != NULL) fake_say(t.f, s, body, length);
    fake_settle(t.f, t.device);
}

static void ask(bmb_sock s, uint8_t type, uint32_t number, const void *body, uint32_t length)
{
    ask_as(s, BMB_FRAMED_VERSION, type, number, body, length);
}

static bmb_sock meet(void)
{
    fake_device_open(&t);
    bmb_sock s = join();
    assert_int_equal(hear(s), 2);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_HELLO);
    assert_memory_equal(messages[0].body, "\1\1\0\1\7bambino", 12);
    assert_int_equal(messages[1].m.type, BMB_FRAMED_FEED);
    assert_memory_equal(messages[1].body, "\0\0\0\0\2\x80\1\xE0\0\0\x3A\x98\4yard\7Sidings\0\0\0\0", 29);
    return s;
}

/* One answer: to that request, for that reason, with that value in force. */
static void answers(bmb_sock s, uint8_t type, uint32_t number, bmb_err why, int32_t value)
{
    assert_int_equal(hear(s), 1);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_ANSWER);
    assert_int_equal(messages[0].m.number, number);
    const uint8_t *b = messages[0].body;
    assert_int_equal(b[0], type);
    assert_int_equal(b[1], why);
    assert_int_equal((int32_t)((uint32_t)b[4] << 24 | (uint32_t)b[5] << 16 | (uint32_t)b[6] << 8 | b[7]), value);
}

static void every_request_has_an_answer(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    ask(s, BMB_FRAMED_ASK_KEY, 1, NULL, 0);
    answers(s, BMB_FRAMED_ASK_KEY, 1, BMB_NOT_FOUND, 0); /* no feed chosen yet */
    ask(s, BMB_FRAMED_ASK_FEED, 2, "\0\7", 2);
    answers(s, BMB_FRAMED_ASK_FEED, 2, BMB_NOT_FOUND, BMB_FRAMED_NO_FEED);
    ask(s, BMB_FRAMED_ASK_FEED, 3, "\0\0", 2);
    answers(s, BMB_FRAMED_ASK_FEED, 3, BMB_OK, 0);
    ask(s, BMB_FRAMED_ASK_KEY, 4, NULL, 0);
    answers(s, BMB_FRAMED_ASK_KEY, 4, BMB_OK, 1);
    picture();
    assert_int_equal(hear(s), 1);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_FRAME);
    assert_int_equal(messages[0].m.flags, BMB_FRAMED_KEY);
    assert_memory_equal(messages[0].body + BMB_FRAMED_FRAME_HEAD, jpeg, jpeg_size);
    ask(s, BMB_FRAMED_ASK_PAUSE, 5, "\1", 1);
    answers(s, BMB_FRAMED_ASK_PAUSE, 5, BMB_OK, 1);
    picture();
    assert_int_equal(hear(s), 0);
    ask(s, BMB_FRAMED_ASK_PAUSE, 6, "\2", 1);
    answers(s, BMB_FRAMED_ASK_PAUSE, 6, BMB_BAD_ARG, 1);
    ask(s, BMB_FRAMED_ASK_PAUSE, 7, "\0", 1);
    assert_int_equal(hear(s), 2); /* the answer, and the newest picture at once */
    ask(s, BMB_FRAMED_ASK_CONTROL, 8, "\0\0\0\0\0\0\0\x28", 8);
    answers(s, BMB_FRAMED_ASK_CONTROL, 8, BMB_OK, 40);
    ask(s, BMB_FRAMED_ASK_CONTROL, 9, "\0\0\xC8\0\0\0\0\1", 8);
    answers(s, BMB_FRAMED_ASK_CONTROL, 9, BMB_UNSUPPORTED, 0);
    ask(s, BMB_FRAMED_ASK_STATUS, 10, "\0\0", 2);
    assert_int_equal(hear(s), 1);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_STATUS);
    assert_memory_equal(messages[0].body, "{\"name\":\"yard\"", 14);
    ask(s, BMB_FRAMED_ASK_STATUS, 11, "\xFF\xFF", 2);
    assert_int_equal(hear(s), 1);
    assert_memory_equal(messages[0].body, "{\"name\":\"bambino\"", 17);
    ask(s, BMB_FRAMED_ASK_ALIVE, 12, NULL, 0);
    answers(s, BMB_FRAMED_ASK_ALIVE, 12, BMB_OK, 0);
    ask(s, BMB_FRAMED_ASK_HELLO, 13, NULL, 0);
    assert_int_equal(hear(s), 2); /* answer, and the list of feeds again */
    assert_int_equal(messages[1].m.type, BMB_FRAMED_FEED);
    ask(s, BMB_FRAMED_ASK_FEED, 14, "\xFF\xFF", 2);
    answers(s, BMB_FRAMED_ASK_FEED, 14, BMB_OK, BMB_FRAMED_NO_FEED);
}

static void controls_can_be_denied(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    t.outlets[1].controls = false;
    bmb_sock s = meet();
    int32_t before = t.f->cameras[0].controls[BMB_CONTROL_QUALITY];
    ask(s, BMB_FRAMED_ASK_CONTROL, 8, "\0\0\0\0\0\0\0\x28", 8);
    answers(s, BMB_FRAMED_ASK_CONTROL, 8, BMB_DENIED, before);
}

static void nothing_to_say_is_said(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    fake_run(t.f, t.device, 5000000);
    assert_int_equal(hear(s), 2);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_ALIVE);
}

static void unknown_requests_are_passed_over(void **state)
{
    (void)state;
    static uint8_t junk[20000];
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    ask(s, 200, 1, NULL, 0); /* of length 0 */
    ask(s, 201, 2, junk, 10000);
    for (size_t i = 0; i < 10; i++) fake_settle(t.f, t.device);
    ask(s, BMB_FRAMED_ASK_ALIVE, 3, NULL, 0);
    answers(s, BMB_FRAMED_ASK_ALIVE, 3, BMB_OK, 0);
}

static void says_goodbye(bmb_sock s, bmb_err why)
{
    size_t n = hear(s);
    assert_true(n >= 1);
    assert_int_equal(messages[n - 1].m.type, BMB_FRAMED_BYE);
    assert_int_equal(messages[n - 1].body[0], why);
    assert_int_equal(messages[n - 1].body[1], BMB_FRAMED_VERSION);
    assert_true(t.f->socks[s].finished);
    fake_run(t.f, t.device, 1200000);
    assert_false(t.f->socks[s].open);
}

static void another_version_is_told_which_ones_there_are(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    ask_as(s, 2, BMB_FRAMED_ASK_HELLO, 1, NULL, 0);
    says_goodbye(s, BMB_UNSUPPORTED);
}

static void what_is_no_message_ends_the_connection(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    fake_say_text(t.f, s, "GET / HTTP/1.1\r\n\r\n");
    fake_settle(t.f, t.device);
    says_goodbye(s, BMB_BAD_DATA);

    s = join();
    uint8_t damaged[BMB_FRAMED_HEADER];
    bmb_framed_write(damaged, &(bmb_framed_message){ .type = BMB_FRAMED_ASK_ALIVE });
    damaged[11] ^= 1;
    fake_say(t.f, s, damaged, sizeof damaged);
    fake_settle(t.f, t.device);
    says_goodbye(s, BMB_BAD_DATA);

    const uint32_t lengths[] = { 0, 1, 3, 65, 0xFFFFFFFF };
    for (size_t i = 0; i < sizeof lengths / sizeof lengths[0]; i++) { /* of a control, which is 8 */
        s = join();
        ask(s, BMB_FRAMED_ASK_CONTROL, 1, NULL, lengths[i]);
        says_goodbye(s, BMB_BAD_DATA);
    }
    s = join();
    ask(s, 222, 1, NULL, 0xFFFFFFFF);
    says_goodbye(s, BMB_BAD_DATA);
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.bad_requests, 8);
    assert_int_equal(d.connections, 0);
}

static void half_a_message_is_not_waited_for_forever(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    uint8_t half[BMB_FRAMED_HEADER];
    bmb_framed_write(half, &(bmb_framed_message){ .type = BMB_FRAMED_ASK_FEED, .length = 2 });
    for (size_t i = 0; i < 9; i++) { /* byte by byte is fine */
        fake_say(t.f, s, half + i, 1);
        fake_settle(t.f, t.device);
    }
    fake_run(t.f, t.device, 9000000);
    assert_true(t.f->socks[s].open);
    fake_run(t.f, t.device, 1500000);
    says_goodbye(s, BMB_TIMED_OUT);
}

static void a_flood_is_answered_at_the_pace_it_is_read(void **state)
{
    (void)state;
    static uint8_t flood[16000];
    for (size_t at = 0; at + BMB_FRAMED_HEADER <= sizeof flood; at += BMB_FRAMED_HEADER)
        bmb_framed_write(flood + at, &(bmb_framed_message){ .type = BMB_FRAMED_ASK_ALIVE, .number = (uint32_t)at });
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    bmb_sock s = meet();
    t.f->socks[s].room = 24;
    fake_say(t.f, s, flood, sizeof flood);
    fake_settle(t.f, t.device);
    assert_int_equal(hear(s), 1); /* no more than it takes */
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
    size_t n = 0, size = take(s);
    for (size_t at = 0; at < size; at += 24, n++) {
        bmb_framed_message m;
        assert_int_equal(bmb_framed_read(received + at, size - at, &m), BMB_OK);
        assert_int_equal(m.number, (n + 1) * BMB_FRAMED_HEADER); /* in order, none left out */
    }
    assert_int_equal(n, sizeof flood / BMB_FRAMED_HEADER - 1);
    t.f->socks[s].room = 0; /* and one that never reads is closed */
    fake_say(t.f, s, flood, sizeof flood);
    fake_run(t.f, t.device, 6000000);
    assert_false(t.f->socks[s].open);
}

/* An answer stands between frames, never in one. */
static void answers_wait_for_the_end_of_a_frame(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    t.outlets[1].feed = 0;
    bmb_sock s = meet();
    t.f->socks[s].room = 1000;
    picture();
    ask(s, BMB_FRAMED_ASK_ALIVE, 9, NULL, 0);
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
    assert_int_equal(hear(s), 2);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_FRAME);
    assert_int_equal(messages[1].m.type, BMB_FRAMED_ANSWER);
}

static void the_full_house_is_told(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG, BMB_FORMAT_FRAMED);
    t.config.viewers = 1;
    bmb_sock a = meet();
    ask(a, BMB_FRAMED_ASK_FEED, 1, "\0\0", 2);
    answers(a, BMB_FRAMED_ASK_FEED, 1, BMB_OK, 0);
    bmb_sock b = join();
    (void)hear(b);
    ask(b, BMB_FRAMED_ASK_FEED, 1, "\0\0", 2);
    answers(b, BMB_FRAMED_ASK_FEED, 1, BMB_LIMIT, BMB_FRAMED_NO_FEED);
    bmb_sock last = b;
    for (int i = 0; i < 20 && t.f->socks[last].open;
         i++) { /* until there is no connection left either, nor an idle one */
        fake_say(t.f, last, "\x8F", 1);
        fake_settle(t.f, t.device);
        last = join();
    }
    assert_int_equal(hear(last), 1);
    assert_int_equal(messages[0].m.type, BMB_FRAMED_BYE);
    assert_int_equal(messages[0].body[0], BMB_LIMIT);
}

static void a_pushed_connection_speaks_the_same_protocol(void **state)
{
    (void)state;
    push(BMB_CODEC_JPEG, true, BMB_FORMAT_FRAMED);
    fake_device_open(&t);
    fake_run(t.f, t.device, 10000);
    bmb_sock s = t.f->dialled;
    assert_int_equal(hear(s), 2);
    picture();
    assert_int_equal(hear(s), 1);
    ask(s, BMB_FRAMED_ASK_ALIVE, 3, NULL, 0);
    answers(s, BMB_FRAMED_ASK_ALIVE, 3, BMB_OK, 0);
    bmb_device_stats d;
    bmb_device_stats_get(t.device, &d);
    assert_int_equal(d.viewers, 0); /* takes no viewer's place */
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, setup, teardown)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(a_raw_stream_is_the_frames_and_nothing_else),
        CASE(raw_h264_begins_with_parameter_sets_and_a_key_frame),
        CASE(viewers_beyond_the_limit_are_refused),
        CASE(one_who_takes_nothing_is_closed),
        CASE(a_slow_viewer_gets_the_newest),
        CASE(a_recorder_gets_every_one),
        CASE(datagrams_of_a_transport_stream_hold_whole_packets),
        CASE(rtp_goes_with_its_description),
        CASE(a_refusal_is_told_once_and_sending_goes_on),
        CASE(trouble_that_goes_on_is_told_more_and_more_seldom),
        CASE(a_push_waits_for_its_network),
        CASE(a_listener_may_come_and_go),
        CASE(pauses_between_tries_grow_up_to_a_bound),
        CASE(a_listener_that_never_reads_is_named),
        CASE(a_feed_may_be_removed_while_it_is_pushed),
        CASE(frames_of_one_byte_and_of_many_pass),
        CASE(every_request_has_an_answer),
        CASE(controls_can_be_denied),
        CASE(nothing_to_say_is_said),
        CASE(unknown_requests_are_passed_over),
        CASE(another_version_is_told_which_ones_there_are),
        CASE(what_is_no_message_ends_the_connection),
        CASE(half_a_message_is_not_waited_for_forever),
        CASE(a_flood_is_answered_at_the_pace_it_is_read),
        CASE(answers_wait_for_the_end_of_a_frame),
        CASE(the_full_house_is_told),
        CASE(a_pushed_connection_speaks_the_same_protocol),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
