/* Packets that a receiver misses: asked for by NACK (RFC 4585), sent again in a stream of their own (RFC 4588), or as
 * they were. */
#include "support/check.h"
#include "support/fake_port.h"

#define MOST 64

static uint8_t jpeg[20000];
static size_t jpeg_size;
static fake_device t;
static uint8_t ssrc[4];
static const bmb_addr rtcp = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 5001 };

static void prepare(bool repeats)
{
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    t.outlets[0] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.repeats = repeats;
    fake_device_open(&t);
}

static int open_with(void **state)
{
    (void)state;
    prepare(true);
    return 0;
}

static int close_all(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void pictures(unsigned count)
{
    for (unsigned i = 0; i < count; i++) {
        fake_frame(t.f, 0, jpeg, jpeg_size, true);
        fake_run(t.f, t.device, 40000);
    }
}

static const char *ask(bmb_sock s, const char *text)
{
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    return fake_take(t.f, s, NULL);
}

static void play(const char *profile)
{
    char text[300];
    bmb_sock s = fake_connect(t.f, 0);
    pictures(1);
    snprintf(
        text, sizeof text,
        "SETUP rtsp://a/yard.avpf/video RTSP/1.0\r\nCSeq: 1\r\nTransport: %s;unicast;client_port=5000-5001\r\n\r\n",
        profile);
    const char *answer = ask(s, text), *session = strstr(answer, "Session: ");
    assert_non_null(session);
    snprintf(text, sizeof text, "Transport: %s;unicast", profile);
    assert_non_null(strstr(answer, text));
    snprintf(text, sizeof text, "PLAY rtsp://a/yard.avpf RTSP/1.0\r\nCSeq: 2\r\n%.*s\r\n\r\n",
             (int)strcspn(session, ";\r"), session);
    assert_non_null(strstr(ask(s, text), "url=rtsp://a/yard.avpf/video;"));
    t.f->datagram_count = 0;
    pictures(1);
    memcpy(ssrc, t.f->datagrams[0].data + 8, sizeof ssrc);
}

/* Those of RTP that went out since `from`. */
static size_t packets(const fake_datagram **out, size_t from)
{
    size_t count = 0;
    for (size_t i = from; i < t.f->datagram_count && count < MOST; i++)
        if (t.f->datagrams[i].to.port == 5000) out[count++] = &t.f->datagrams[i];
    return count;
}

static unsigned number_of(const fake_datagram *d)
{
    return d->data[2] << 8 | d->data[3];
}

static void miss(unsigned first, unsigned more)
{
    uint8_t nack[24] = { 0x80, 201, 0, 1, 0, 0, 0, 5, 0x81, 205, 0, 3, 0, 0, 0, 5 };
    memcpy(nack + 16, ssrc, 4);
    nack[20] = (uint8_t)(first >> 8);
    nack[21] = (uint8_t)first;
    nack[22] = (uint8_t)(more >> 8);
    nack[23] = (uint8_t)more;
    fake_datagram_in(t.f, t.f->next_bound, &rtcp, nack, sizeof nack);
    fake_settle(t.f, t.device);
}

static void the_description_offers_it(void **state)
{
    (void)state;
    bmb_sock s = fake_connect(t.f, 0);
    pictures(1);
    const char *text = ask(s, "DESCRIBE rtsp://a/yard.avpf RTSP/1.0\r\nCSeq: 1\r\n\r\n");
    assert_non_null(strstr(text, "Content-Base: rtsp://a/yard.avpf/\r\n"));
    assert_non_null(strstr(text, "m=video 0 RTP/AVPF 26 97\r\n"));
    assert_non_null(strstr(text, "a=rtcp-fb:26 nack\r\n"));
    assert_null(strstr(text, "nack pli")); /* every picture of JPEG is whole by itself */
    assert_non_null(strstr(text, "a=rtpmap:97 rtx/90000\r\na=fmtp:97 apt=26;rtx-time=1000\r\n"));
    text = ask(s, "DESCRIBE rtsp://a/yard RTSP/1.0\r\nCSeq: 2\r\n\r\n");
    assert_non_null(strstr(text, "m=video 0 RTP/AVP 26\r\n")); /* for everybody else all is as it was */
    assert_null(strstr(text, "rtx"));
}

static void what_was_missed_comes_in_a_stream_of_its_own(void **state)
{
    (void)state;
    const fake_datagram *was[MOST], *again[MOST];
    play("RTP/AVPF");
    size_t from = t.f->datagram_count;
    pictures(2);
    size_t count = packets(was, from);
    assert_in_range(count, 10, 16);
    from = t.f->datagram_count;
    miss(number_of(was[2]), 1u << 2); /* and the third behind it */
    assert_int_equal(packets(again, from), 2);
    for (size_t i = 0; i < 2; i++) {
        const fake_datagram *a = again[i], *w = was[i == 0 ? 2 : 5];
        assert_int_equal(a->size, w->size + 2);
        assert_int_equal(a->data[1] & 0x7F, 97);
        assert_int_equal(a->data[1] & 0x80, w->data[1] & 0x80);
        assert_memory_equal(a->data + 4, w->data + 4, 4); /* its time */
        assert_memory_not_equal(a->data + 8, ssrc, 4);
        assert_memory_equal(a->data + 12, w->data + 2, 2); /* its number */
        assert_memory_equal(a->data + 14, w->data + 12, w->size - 12);
    }
    assert_int_equal((number_of(again[0]) + 1) & 0xFFFF, number_of(again[1]));
    /* A later picture counts on where it was. */
    from = t.f->datagram_count;
    pictures(1);
    assert_true(packets(again, from) > 0);
    assert_int_equal(number_of(again[0]), (number_of(was[count - 1]) + 1) & 0xFFFF);
}

static void or_as_it_was(void **state)
{
    (void)state;
    const fake_datagram *was[MOST], *again[MOST];
    play("RTP/AVP");
    size_t from = t.f->datagram_count;
    pictures(1);
    size_t count = packets(was, from);
    from = t.f->datagram_count;
    miss(number_of(was[count - 1]), 0);
    assert_int_equal(packets(again, from), 1);
    assert_int_equal(again[0]->size, was[count - 1]->size);
    assert_memory_equal(again[0]->data, was[count - 1]->data, again[0]->size);
}

static void what_cannot_be_known_is_not_answered(void **state)
{
    (void)state;
    const fake_datagram *was[MOST], *again[MOST];
    play("RTP/AVPF");
    size_t from = t.f->datagram_count;
    pictures(1);
    size_t count = packets(was, from);
    unsigned last = number_of(was[count - 1]);
    from = t.f->datagram_count;
    miss((last + 1) & 0xFFFF, 0); /* was never sent */
    miss((last + 30000) & 0xFFFF, 0xFFFF);
    ssrc[0] ^= 1;
    miss(last, 0); /* of another stream */
    ssrc[0] ^= 1;
    const bmb_addr other = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 5001 };
    uint8_t nack[16] = { 0x81, 205, 0, 3, 0, 0, 0, 5 };
    memcpy(nack + 8, ssrc, 4);
    nack[12] = (uint8_t)(last >> 8);
    nack[13] = (uint8_t)last;
    fake_datagram_in(t.f, t.f->next_bound, &other, nack, sizeof nack); /* from somebody else */
    fake_settle(t.f, t.device);
    nack[3] = 4; /* longer than it is */
    fake_datagram_in(t.f, t.f->next_bound, &rtcp, nack, sizeof nack);
    fake_settle(t.f, t.device);
    assert_int_equal(packets(again, from), 0);
    fake_run(t.f, t.device, 1100000); /* too old */
    from = t.f->datagram_count;
    miss(last, 0);
    assert_int_equal(packets(again, from), 0);
}

static void there_is_a_bound_for_all_that_is_repeated(void **state)
{
    (void)state;
    const fake_datagram *was[MOST], *again[MOST];
    play("RTP/AVPF");
    for (unsigned i = 0; i < 3; i++) { /* its bit rate is known then */
        t.f->datagram_count = 0;
        pictures(25);
    }
    t.f->datagram_count = 0;
    pictures(1);
    size_t count = packets(was, 0), bytes = 0;
    const unsigned first = number_of(was[0]);
    for (unsigned i = 0; i < 100; i++) { /* somebody asks for all of it, again and again */
        size_t from = t.f->datagram_count;
        miss(first, (1u << (count - 1)) - 1);
        size_t n = packets(again, from);
        for (size_t k = 0; k < n; k++) bytes += again[k]->size;
        t.f->datagram_count = from;
    }
    assert_in_range(bytes, 60000, 70000); /* at once … */
    for (unsigned i = 0; i < 25; i++) {
        pictures(1);
        size_t from = t.f->datagram_count;
        miss((first + (unsigned)count * (i + 1)) & 0xFFFF, 0xFFFF);
        size_t n = packets(again, from);
        for (size_t k = 0; k < n; k++) bytes += again[k]->size;
        t.f->datagram_count = 0;
    }
    assert_in_range(bytes, 90000, 130000); /* … and a quarter of the bit rate, 50 KB, in a second */
}

static void nobody_offers_it_where_it_is_not_asked_for(void **state)
{
    (void)state;
    prepare(false);
    bmb_sock s = fake_connect(t.f, 0);
    pictures(1);
    assert_non_null(strstr(ask(s, "DESCRIBE rtsp://a/yard.avpf RTSP/1.0\r\nCSeq: 1\r\n\r\n"), " 404 "));
    size_t without = t.budget.per_viewer_rtsp;
    fake_device_close(&t);
    prepare(true);
    assert_in_range(t.budget.per_viewer_rtsp - without, 100, 160);
    fake_device_close(&t);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, open_with, close_all)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(the_description_offers_it),
        CASE(what_was_missed_comes_in_a_stream_of_its_own),
        CASE(or_as_it_was),
        CASE(what_cannot_be_known_is_not_answered),
        CASE(there_is_a_bound_for_all_that_is_repeated),
        cmocka_unit_test(nobody_offers_it_where_it_is_not_asked_for),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
