/* RTSP sessions from a client's side, on the port in memory. */
#include "support/check.h"
#include "base/block.h"
#include "support/fake_port.h"

#include "base/bytes.h"
#include "wire/rtp.h"

static fake_device t;
static uint8_t key_frame[40000], other_frame[40000], jpeg[20000];
static size_t key_size, other_size, jpeg_size;
static unsigned cseq;

static size_t make_unit(uint8_t *out, size_t at, uint8_t header, size_t size)
{
    memcpy(out + at, "\0\0\0\1", 4);
    memset(out + at + 4, 0x55, size);
    out[at + 4] = header;
    return at + 4 + size;
}

static size_t make_key(uint8_t *out, size_t slice)
{
    /* 640x480, baseline, level 3.0 */
    static const uint8_t sps[] = { 0, 0, 0, 1, 0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80 };
    memcpy(out, sps, sizeof sps);
    return make_unit(out, make_unit(out, sizeof sps, 0x68, 4), 0x65, slice);
}

static void prepare(bmb_codec codec)
{
    key_size = make_key(key_frame, 6000);
    other_size = make_unit(other_frame, 0, 0x41, 3000);
    jpeg_size = fake_jpeg(jpeg, 640, 480, 8000);
    fake_device_prepare(&t, codec);
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.config.outlet_count = 2;
    cseq = 0;
}

static int with_h264(void **state)
{
    (void)state;
    prepare(BMB_CODEC_H264);
    return 0;
}

static int with_jpeg(void **state)
{
    (void)state;
    prepare(BMB_CODEC_JPEG);
    return 0;
}

static int done(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static void frame(bool key)
{
    bool h264 = t.feeds[0].mode.codec == BMB_CODEC_H264;
    fake_frame(t.f, 0, h264 ? (key ? key_frame : other_frame) : jpeg, h264 ? (key ? key_size : other_size) : jpeg_size,
               key);
    fake_settle(t.f, t.device);
    fake_run(t.f, t.device, 33333);
}

/* Says a request and returns the answer. The answer is the last thing that came. */
static const char *ask(bmb_sock s, const char *request, ...)
{
    char text[1200], headers[900];
    va_list args;
    va_start(args, request);
    vsnprintf(headers, sizeof headers, request, args);
    va_end(args);
    char *end = strstr(headers, "|");
    if (end != NULL) *end = '\0';
    snprintf(text, sizeof text, "%s RTSP/1.0\r\nCSeq: %u\r\n%s\r\n", headers, ++cseq, end != NULL ? end + 1 : "");
    fake_take(t.f, s, NULL);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    return fake_take(t.f, s, NULL);
}

static unsigned status_of(const char *answer)
{
    return strncmp(answer, "RTSP/1.0 ", 9) == 0 ? (unsigned)atoi(answer + 9) : 0;
}

#define YARD "rtsp://192.0.2.1:8554/yard"
#define TCP "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n"
#define UDP "Transport: RTP/AVP;unicast;client_port=6000-6001\r\n"
#define MULTICAST "Transport: RTP/AVP;multicast\r\n"

static char session[17];

static bmb_sock set_up(const char *transport)
{
    bmb_sock s = fake_connect(t.f, 1);
    const char *answer = ask(s, "SETUP " YARD "/video|%s", transport);
    assert_int_equal(status_of(answer), 200);
    memcpy(session, strstr(answer, "Session: ") + 9, 16);
    return s;
}

static bmb_sock play(const char *transport)
{
    bmb_sock s = set_up(transport);
    const char *answer = ask(s, "PLAY " YARD "|Session: %s\r\nRange: npt=now-\r\n", session);
    assert_int_equal(status_of(answer), 200);
    return s;
}

static bmb_device_stats device(void)
{
    bmb_device_stats s;
    bmb_device_stats_get(t.device, &s);
    return s;
}

static bmb_feed_stats feed(void)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    return s;
}

/* Counts frames by their marker bits in an interleaved stream; checks that it is one, and sequence numbers. */
static unsigned frames_in(const uint8_t *data, size_t size, uint16_t *seq, uint32_t *time)
{
    unsigned frames = 0;
    for (size_t at = 0; at + 4 <= size;) {
        if (data[at] == 'R') { /* an answer between the packets */
            const char *end = strstr((const char *)data + at, "\r\n\r\n");
            at = (size_t)((const uint8_t *)end - data) + 4;
            continue;
        }
        assert_int_equal(data[at], '$');
        size_t length = (size_t)(data[at + 2] << 8 | data[at + 3]);
        const uint8_t *rtp = data + at + 4;
        if (data[at + 1] == 0) {
            uint16_t now = (uint16_t)(rtp[2] << 8 | rtp[3]);
            if (seq != NULL && *seq != 0) assert_int_equal(now, (uint16_t)(*seq + 1));
            if (seq != NULL) *seq = now;
            if (time != NULL) *time = (uint32_t)rtp[4] << 24 | (uint32_t)rtp[5] << 16 | (uint32_t)rtp[6] << 8 | rtp[7];
            frames += rtp[1] >> 7;
        }
        at += 4 + length;
    }
    return frames;
}

static void a_session_from_describe_to_teardown(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = fake_connect(t.f, 1);
    const char *answer = ask(s, "OPTIONS *");
    assert_int_equal(status_of(answer), 200);
    assert_non_null(strstr(answer, "CSeq: 1\r\n"));
    assert_non_null(strstr(answer, "Public: OPTIONS, DESCRIBE"));
    answer = ask(s, "DESCRIBE " YARD "|Accept: application/sdp\r\n");
    assert_int_equal(status_of(answer), 200);
    assert_non_null(strstr(answer, "Content-Base: " YARD "/\r\n"));
    assert_non_null(strstr(answer, "sprop-parameter-sets=Z0LAHtoCgPaA,aFVVVQ=="));
    assert_non_null(strstr(answer, "profile-level-id=42C01E"));
    answer = ask(s, "SETUP " YARD "/video|" TCP);
    assert_int_equal(status_of(answer), 200);
    assert_non_null(strstr(answer, "Transport: RTP/AVP/TCP;unicast;interleaved=0-1;ssrc="));
    assert_non_null(strstr(answer, ";timeout=60\r\n"));
    memcpy(session, strstr(answer, "Session: ") + 9, 16);
    frame(false);
    answer = ask(s, "PLAY " YARD "|Session: %s\r\n", session);
    assert_int_equal(status_of(answer), 200);
    assert_non_null(strstr(answer, "Range: npt=now-\r\n"));
    uint16_t promised = (uint16_t)atoi(strstr(answer, ";seq=") + 5), seq = 0;
    uint32_t time;
    assert_null(strstr(answer, "rtptime")); /* its frame is still to come */
    assert_int_equal(t.f->cameras[0].key_requests, 1);

    frame(false); /* cannot be decoded by a newcomer */
    size_t size;
    fake_take(t.f, s, &size);
    assert_int_equal(size, 0);
    frame(true);
    frame(false);
    const uint8_t *data = (const uint8_t *)fake_take(t.f, s, &size);
    assert_int_equal(data[6] << 8 | data[7], promised);
    assert_int_equal(frames_in(data, size, &seq, &time), 2);

    answer = ask(s, "PAUSE " YARD "|Session: %s\r\n", session);
    assert_int_equal(status_of(answer), 200);
    frame(true);
    fake_take(t.f, s, &size);
    assert_int_equal(size, 0);
    answer = ask(s, "PLAY " YARD "|Session: %s\r\n", session);
    assert_int_equal(atoi(strstr(answer, ";seq=") + 5), (uint16_t)(seq + 1)); /* the stream goes on */
    uint32_t promised_time = (uint32_t)strtoul(strstr(answer, ";rtptime=") + 9, NULL, 10);
    data = (const uint8_t *)strstr(answer, "\r\n\r\n") + 4;
    assert_int_equal(frames_in(data, 4u + (size_t)(data[2] << 8 | data[3]), &seq, &time), 0);
    assert_int_equal(time, promised_time); /* of the first packet, not of this instant */
    answer = ask(s, "GET_PARAMETER " YARD "|Session: %s\r\n", session);
    assert_non_null(strstr(answer, "RTSP/1.0 200 OK"));
    answer = ask(s, "TEARDOWN " YARD "|Session: %s\r\n", session);
    assert_non_null(strstr(answer, "RTSP/1.0 200 OK"));
    assert_int_equal(device().sessions, 0);
    assert_int_equal(device().viewers, 0);
    assert_int_equal(status_of(ask(s, "PLAY " YARD "|Session: %s\r\n", session)), 454);
}

typedef struct wrong {
    const char *request;
    unsigned status;
} wrong;

static void wrong_requests_have_their_status(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = fake_connect(t.f, 1);
    const wrong rows[] = {
        { "DESCRIBE rtsp://h/attic", 404 },
        { "DESCRIBE rtsp://h/", 404 },
        { "DESCRIBE rtsp://h/yard/track2", 404 },
        { "DESCRIBE http://h/yard", 400 },
        { "SETUP " YARD "/track2|" TCP, 404 },
        { "SETUP " YARD "/video", 400 },
        { "SETUP " YARD "/video|Transport: RTP/AVP;unicast;client_port=0-1\r\n", 461 },
        { "SETUP " YARD "/video|Transport: RTP/AVP;unicast;client_port=65535\r\n", 461 },
        { "SETUP " YARD "/video|Transport: RTP/AVP;unicast;client_port=65535-65536\r\n", 461 },
        { "SETUP " YARD "/video|Transport: RTP/AVP;unicast\r\n", 461 },
        { "SETUP " YARD "/video|Transport: RTP/AVP/TCP;interleaved=300-301\r\n", 461 },
        { "SETUP " YARD "/video|Transport: RTP/SAVP;unicast;client_port=6000\r\n", 461 },
        { "SETUP " YARD "/video|Transport: RTP/AVP;unicast;client_port=6000;mode=record\r\n", 461 },
        { "SETUP " YARD "/video|" MULTICAST, 461 },
        { "SETUP " YARD "/video|Session: 0123456789ABCDEF\r\n" TCP, 454 },
        { "PLAY " YARD, 454 },
        { "PLAY " YARD "|Session: nonsense-that-is-longer-than-ours\r\n", 454 },
        { "TEARDOWN " YARD "|Session: 0000000000000000\r\n", 454 },
        { "GET_PARAMETER " YARD "|Session: 0000000000000000\r\n", 454 },
        { "ANNOUNCE " YARD, 405 },
        { "RECORD " YARD, 405 },
        { "FETCH " YARD, 501 },
        { "OPTIONS *|Require: telepathy\r\n", 551 },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        const char *answer = ask(s, "%s", rows[i].request);
        if (status_of(answer) != rows[i].status) fail_msg("%s gave %s", rows[i].request, answer);
        char expected[32];
        snprintf(expected, sizeof expected, "CSeq: %u\r\n", cseq);
        assert_non_null(strstr(answer, expected));
    }
    assert_non_null(strstr(ask(s, "OPTIONS *|Require: telepathy\r\n"), "Unsupported: telepathy\r\n"));
    assert_int_equal(device().sessions, 0);
    fake_take(t.f, s, NULL);
    fake_say_text(t.f, s, "OPTIONS * RTSP/2.0\r\nCSeq: 9\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 505);
    fake_say_text(t.f, s, "OPTIONS * RTSP/1.0\r\nCSeq: 99999999999999999999\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 400);
}

static void a_request_without_a_number_ends_the_connection(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = fake_connect(t.f, 1);
    fake_say_text(t.f, s, "OPTIONS * RTSP/1.0\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 400);
    assert_true(t.f->socks[s].finished);
}

static void endless_headers_are_refused(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = fake_connect(t.f, 1);
    fake_say_text(t.f, s, "OPTIONS * RTSP/1.0\r\n");
    for (int i = 0; i < 10000 && !t.f->socks[s].finished; i++) {
        fake_say_text(t.f, s, "X-Nothing: at all\r\n");
        fake_settle(t.f, t.device);
    }
    assert_true(t.f->socks[s].finished);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 400);
    s = fake_connect(t.f, 1); /* one line that fills any buffer, and a header that is too long but not needed */
    char *text = malloc(4000);
    memset(text, 'a', 3999);
    text[3999] = '\0';
    fake_say_text(t.f, s, "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nX: ");
    fake_say_text(t.f, s, text);
    fake_say_text(t.f, s, "\r\n\r\n");
    fake_settle(t.f, t.device);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 200);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 414);
    free(text);
}

static void requests_may_be_cut_at_every_byte(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    static const char text[] = "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n$\x01\x00\x04zzzz"
                               "GET_PARAMETER " YARD " RTSP/1.0\r\nCSeq: 2\r\nContent-Length: 3\r\n\r\nabc"
                               "SETUP " YARD "/video RTSP/1.0\r\nCSeq: 3\r\n" TCP "\r\n";
    for (size_t cut = 1; cut < sizeof text - 1; cut++) {
        bmb_sock s = fake_connect(t.f, 1);
        fake_say(t.f, s, text, cut);
        fake_settle(t.f, t.device);
        fake_say(t.f, s, text + cut, sizeof text - 1 - cut);
        fake_settle(t.f, t.device);
        const char *answer = fake_take(t.f, s, NULL);
        assert_non_null(strstr(answer, "200 OK\r\nCSeq: 1\r\n"));
        assert_non_null(strstr(answer, "451 Parameter Not Understood\r\nCSeq: 2\r\n"));
        assert_non_null(strstr(answer, "200 OK\r\nCSeq: 3\r\n"));
        fake_hang_up(t.f, s);
        fake_settle(t.f, t.device);
    }
    assert_int_equal(device().sessions, 0);
    assert_int_equal(device().connections, 0);
}

static void a_playing_session_cannot_be_set_up(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = play(TCP);
    const char *answer = ask(s, "SETUP " YARD "/video|Session: %s\r\n" UDP, session);
    assert_int_equal(status_of(strstr(answer, "RTSP")), 455);
    answer = ask(s, "SETUP " YARD "|" TCP); /* a second session, on channels that are in use: the next ones */
    assert_non_null(strstr(answer, "interleaved=2-3;ssrc="));
    assert_int_equal(device().sessions, 2);
}

static void the_clients_preference_decides(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = fake_connect(t.f, 1);
    const char *answer = ask(s, "SETUP " YARD "/video|Transport: RTP/SAVP;unicast;client_port=1-2,RTP/AVP;multicast,"
                                "RTP/AVP/UDP;unicast;destination=203.0.113.5;client_port=7000-7001,RTP/AVP/TCP\r\n");
    assert_non_null(strstr(answer, "Transport: RTP/AVP;unicast;client_port=7000-7001;server_port="));
}

static void datagrams_go_to_who_asked(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = play("Transport: RTP/AVP;unicast;destination=203.0.113.5;client_port=6000-6001\r\n");
    assert_int_equal(t.f->datagram_count, 6 + 1); /* the frame that is there, and its report */
    frame(true);
    frame(false);
    unsigned rtp = 0, rtcp = 0;
    for (size_t i = 0; i < t.f->datagram_count; i++) {
        const fake_datagram *d = &t.f->datagrams[i];
        assert_int_equal(d->to.ip[3], 99); /* the peer of the connection */
        assert_int_equal(d->to.ip[0], 192);
        rtp += d->to.port == 6000;
        rtcp += d->to.port == 6001;
        if (d->to.port == 6001) assert_int_equal(d->data[1], 200);
        assert_true(d->size <= 1400);
    }
    assert_int_equal(rtp, 6 + 6 + 3);
    assert_int_equal(rtcp, 1);
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_int_equal(v.transport, BMB_VIA_RTP_UDP);
    assert_int_equal(v.sent, 3);
    t.f->datagram_count = 0;
    ask(s, "TEARDOWN " YARD "|Session: %s\r\n", session);
    assert_int_equal(t.f->datagram_count, 1);
    assert_int_equal(t.f->datagrams[0].data[t.f->datagrams[0].size - 7], 203); /* BYE */
    /* Nobody at another address can use the session. */
    s = play(UDP);
    bmb_sock thief = fake_connect(t.f, 1);
    t.f->socks[thief].peer.ip[3] = 66;
    assert_int_equal(status_of(ask(thief, "TEARDOWN " YARD "|Session: %s\r\n", session)), 454);
    assert_int_equal(device().sessions, 1);
}

static uint16_t rtcp_port(void)
{
    for (int i = 0; i < FAKE_SOCKS; i++)
        if (t.f->socks[i].open && t.f->socks[i].udp && t.f->socks[i].addr.port % 2 == 1) return t.f->socks[i].addr.port;
    return 0;
}

static void receivers_reports_are_shown(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    (void)play(UDP);
    const fake_datagram *rtp = &t.f->datagrams[0];
    const fake_datagram *sr = NULL;
    for (size_t i = 0; i < t.f->datagram_count; i++)
        if (t.f->datagrams[i].to.port == 6001) sr = &t.f->datagrams[i];
    assert_non_null(sr);
    uint8_t rr[32] = { 0x81, 201, 0, 7, 9, 9, 9, 9, 0, 0, 0, 0, 128, 0, 0, 12, 0, 0, 0, 9, 0, 0, 0, 90 };
    memcpy(rr + 8, rtp->data + 8, 4);  /* our SSRC */
    memcpy(rr + 24, sr->data + 10, 4); /* the middle of the report's NTP time */
    fake_run(t.f, t.device, 40000);
    const bmb_addr from = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 6001 };
    fake_datagram_in(t.f, rtcp_port(), &from, rr, sizeof rr);
    fake_settle(t.f, t.device);
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_true(v.reports);
    assert_int_equal(v.lost, 12);
    assert_int_equal(v.lost_256, 128);
    assert_int_equal(v.jitter_us, 1000);
    assert_in_range(v.round_trip_us, 39000, 110000);
}

static void a_receiver_may_ask_for_a_key_frame(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    (void)play(UDP);
    const bmb_addr from = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 6001 };
    uint8_t pli[12] = { 0x81, 206, 0, 2, 9, 9, 9, 9 }, fir[20] = { 0x84, 206, 0, 4, 9, 9, 9, 9 };
    memcpy(fir + 12, t.f->datagrams[0].data + 8, 4); /* our SSRC */
    frame(true);                                     /* which whoever came has asked for */
    fake_run(t.f, t.device, 1000000);
    uint32_t before = t.f->cameras[0].key_requests;
    fake_datagram_in(t.f, rtcp_port(), &from, pli, sizeof pli); /* of somebody else's stream */
    fake_run(t.f, t.device, 20000);
    assert_int_equal(t.f->cameras[0].key_requests, before);
    memcpy(pli + 8, fir + 12, 4);
    fake_datagram_in(t.f, rtcp_port(), &from, pli, sizeof pli);
    fake_run(t.f, t.device, 20000);
    assert_int_equal(t.f->cameras[0].key_requests, before + 1);
    for (unsigned i = 0; i < 20; i++) { /* as often as it likes */
        fake_datagram_in(t.f, rtcp_port(), &from, fir, sizeof fir);
        fake_run(t.f, t.device, 20000);
    }
    assert_in_range(t.f->cameras[0].key_requests, before + 1, before + 2);
}

static void a_session_over_udp_lives_by_signs_of_life(void **state)
{
    (void)state;
    t.config.session_ms = 10000;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = play(UDP);
    const bmb_addr from = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 6001 };
    uint8_t rr[32] = { 0x81, 201, 0, 7, 9, 9, 9, 9 };
    const uint8_t nothing[8] = { 0x80, 201, 0, 1, 9, 9, 9, 9 };
    memcpy(rr + 8, t.f->datagrams[0].data + 8, 4); /* our SSRC */
    for (int i = 0; i < 40; i++) {                 /* by RTCP about its stream */
        t.f->datagram_count = 0;
        for (int k = 0; k < 15; k++) frame(true);
        if (i % 10 == 0) fake_datagram_in(t.f, rtcp_port(), &from, rr, sizeof rr);
    }
    assert_int_equal(device().sessions, 1);
    fake_hang_up(t.f, s); /* the connection may go */
    fake_settle(t.f, t.device);
    assert_int_equal(device().sessions, 1);
    for (int i = 0; i < 24; i++) { /* and by nothing else: this could be said by who never saw the stream */
        t.f->datagram_count = 0;
        for (int k = 0; k < 15; k++) frame(true);
        fake_datagram_in(t.f, rtcp_port(), &from, nothing, 1 + (size_t)i % sizeof nothing);
    }
    assert_int_equal(device().sessions, 0);
    assert_int_equal(device().viewers, 0);
    assert_int_equal(feed().reel_pinned, 0);
}

static void a_session_without_its_connection_must_report(void **state)
{
    (void)state;
    fake_device_open(&t); /* the session's own time is 60 s */
    frame(true);
    bmb_sock s = play(UDP);
    const bmb_addr from = { .family = 4, .ip = { 192, 0, 2, 99 }, .port = 6001 };
    uint8_t rr[32] = { 0x81, 201, 0, 7, 9, 9, 9, 9 };
    memcpy(rr + 8, t.f->datagrams[0].data + 8, 4); /* our SSRC */
    fake_run(t.f, t.device, 20000000);
    assert_int_equal(device().sessions, 1); /* its connection is there: it may be silent */
    fake_hang_up(t.f, s);
    fake_run(t.f, t.device, 9000000);
    fake_datagram_in(t.f, rtcp_port(), &from, rr, sizeof rr);
    fake_run(t.f, t.device, 9000000);
    assert_int_equal(device().sessions, 1);
    fake_run(t.f, t.device, 2000000);
    assert_int_equal(device().sessions, 0);
}

static void one_sender_serves_a_whole_group(void **state)
{
    (void)state;
    t.feeds[0].multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 }, .ttl = 3 };
    fake_device_open(&t);
    frame(true);
    t.f->datagram_count = 0;
    frame(true);
    assert_int_equal(t.f->datagram_count, 0); /* nobody watches */
    bmb_sock s[3];
    char ids[3][17];
    for (int i = 0; i < 3; i++) {
        s[i] = play(MULTICAST);
        memcpy(ids[i], session, 17);
    }
    /* They share a sender; since when one watches is their own. */
    fake_run(t.f, t.device, 2000000);
    bmb_sock late = play(MULTICAST);
    fake_run(t.f, t.device, 1000000);
    bmb_viewer_stats early_one, late_one;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &early_one), BMB_OK);
    assert_int_equal(bmb_viewer_stats_get(t.device, 3, &late_one), BMB_OK);
    assert_in_range(early_one.watching_ms + late_one.watching_ms, 4000, 5000);
    assert_in_range(early_one.watching_ms > late_one.watching_ms ? late_one.watching_ms : early_one.watching_ms, 1000,
                    1500);
    (void)ask(late, "TEARDOWN " YARD "|Session: %s\r\n", session);
    t.f->datagram_count = 0;
    frame(true);
    assert_int_equal(t.f->datagram_count, 6 + 1); /* once, and a report */
    assert_int_equal(t.f->datagrams[0].to.ip[0], 239);
    assert_int_equal(t.f->datagrams[0].to.port, 5004);
    assert_int_equal(t.f->datagrams[6].to.port, 5005);
    assert_int_equal(feed().viewers, 3);
    for (int i = 0; i < 3; i++) {
        t.f->datagram_count = 0;
        frame(true);
        assert_int_equal(t.f->datagram_count, 6);
        assert_non_null(strstr(ask(s[i], "TEARDOWN " YARD "|Session: %s\r\n", ids[i]), "200 OK"));
    }
    t.f->datagram_count = 0;
    frame(true);
    assert_int_equal(t.f->datagram_count, 0);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_MULTICAST_STARTED), 1);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_MULTICAST_STOPPED), 1);
    bmb_sock h = fake_connect(t.f, 0);
    fake_say_text(t.f, h, "GET /yard.sdp HTTP/1.1\r\nHost: a\r\n\r\n");
    fake_settle(t.f, t.device);
    const char *sdp = fake_take(t.f, h, NULL);
    assert_non_null(strstr(sdp, "application/sdp"));
    assert_non_null(strstr(sdp, "c=IN IP4 239.1.2.3/3\r\n"));
    assert_non_null(strstr(sdp, "m=video 5004 RTP/AVP 96\r\n"));
    assert_null(strstr(sdp, "a=control"));
    t.f->datagram_count = 0;
    frame(true); /* whoever fetched it is sent to for a while */
    assert_true(t.f->datagram_count >= 6);
    for (int i = 0; i < 62; i++) {
        frame(true);
        fake_run(t.f, t.device, 1000000);
    }
    t.f->datagram_count = 0;
    frame(true);
    assert_int_equal(t.f->datagram_count, 0);
}

/* What a group takes of the uplink is counted once: with its first viewer. */
static void the_first_of_a_group_needs_room_on_the_uplink(void **state)
{
    (void)state;
    t.feeds[0].multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 } };
    t.config.uplink_kbps = 500;
    fake_device_open(&t);
    for (int i = 0; i < 60; i++) frame(true);
    bmb_sock s = set_up(MULTICAST);
    assert_int_equal(status_of(ask(s, "PLAY " YARD "|Session: %s\r\n", session)), 453);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_UPLINK_FULL), 1);
    t.f->datagram_count = 0;
    frame(true);
    assert_int_equal(t.f->datagram_count, 0);
}

/* A player that was told a password once may go on saying it where none is asked for. */
static void a_password_that_nobody_asks_for_is_passed_over(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = fake_connect(t.f, 1);
    assert_int_equal(status_of(ask(s, "DESCRIBE " YARD "|Authorization: Basic YW5uYTp4\r\n")), 200);
    assert_int_equal(
        status_of(ask(s, "DESCRIBE " YARD "|Authorization: Digest username=\"anna\", realm=\"x\", nonce=\"0\", "
                         "uri=\"" YARD "\", response=\"0\"\r\n")),
        200);
}

static void a_thousand_sessions_leave_nothing(void **state)
{
    (void)state;
    t.feeds[0].multicast = (bmb_multicast){ .group = { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 } };
    fake_device_open(&t);
    frame(true);
    static const char *const transports[] = { TCP, UDP, MULTICAST };
    size_t open_before = 0, open_after = 0;
    (void)ask(play(UDP), "TEARDOWN " YARD "|Session: %s\r\n", session); /* the pair of UDP sockets stays */
    fake_run(t.f, t.device, 100000);
    for (int i = 0; i < FAKE_SOCKS; i++) open_before += t.f->socks[i].open && t.f->socks[i].udp;
    for (int i = 0; i < 1000; i++) {
        const char *transport = transports[i % 3];
        bmb_sock s = BMB_NO_SOCK;
        t.f->datagram_count = 0;
        t.f->event_count = 0;
        switch (i / 3 % 5) {
        case 0:
            s = fake_connect(t.f, 1);
            ask(s, "DESCRIBE " YARD);
            break;
        case 1:
            s = set_up(transport);
            break;
        case 2:
            s = play(transport);
            break;
        case 3: /* in the middle of a frame */
            s = play(transport);
            t.f->socks[s].room = 2000;
            frame(true);
            break;
        default:
            s = play(transport);
            frame(true);
            ask(s, "TEARDOWN " YARD "|Session: %s\r\n", session);
            break;
        }
        fake_hang_up(t.f, s);
        fake_settle(t.f, t.device);
        if (device().sessions > 10) fake_run(t.f, t.device, 61000000); /* those over UDP end by time */
    }
    t.f->datagram_count = 0;
    t.f->cameras[0].queued = 0;
    fake_run(t.f, t.device, 61000000);
    assert_int_equal(device().sessions, 0);
    assert_int_equal(device().viewers, 0);
    assert_int_equal(device().connections, 0);
    assert_int_equal(feed().viewers, 0);
    assert_int_equal(feed().reel_pinned, 0);
    assert_int_equal(feed().stalled, 0);
    for (int i = 0; i < FAKE_SOCKS; i++) open_after += t.f->socks[i].open && t.f->socks[i].udp;
    assert_int_equal(open_after, open_before);
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_VIEWER_REFUSED), 0);
}

static void key_frames_are_asked_for_at_a_bounded_rate(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    for (int i = 0; i < 10; i++) (void)play(UDP);
    assert_int_equal(t.f->cameras[0].key_requests, 1);
    for (int i = 0; i < 15; i++) frame(false); /* 500 ms */
    assert_int_equal(t.f->cameras[0].key_requests, 1);
    fake_run(t.f, t.device, 50000);
    assert_int_equal(t.f->cameras[0].key_requests, 2);
    frame(true);
    for (int i = 0; i < 30; i++) {
        t.f->datagram_count = 0;
        frame(false);
    }
    assert_int_equal(t.f->cameras[0].key_requests, 2); /* everybody has what he needs */
}

static void a_viewer_that_falls_behind_goes_on_at_a_key_frame(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = play(TCP), good = play(TCP);
    frame(true);
    fake_take(t.f, s, NULL);
    t.f->socks[s].room = 1500;
    uint16_t seq = 0;
    size_t size;
    for (int i = 0; i < 40; i++) { /* 1.3 s */
        frame(i % 30 == 29);
        const uint8_t *data = (const uint8_t *)fake_take(t.f, good, &size);
        unsigned frames = frames_in(data, size, i == 0 ? NULL : &seq, NULL);
        if (i > 0) assert_int_equal(frames, 1); /* the other one misses nothing */
    }
    t.f->socks[s].room = FAKE_OUT;
    fake_settle(t.f, t.device);
    frame(false);
    bmb_viewer_stats v;
    assert_int_equal(bmb_viewer_stats_get(t.device, 0, &v), BMB_OK);
    assert_true(v.skipped >= 20);
    assert_true(v.age_ms < 500);
}

static void an_answer_never_splits_a_packet(void **state)
{
    (void)state;
    static const char *const requests[] = { "TEARDOWN", "PAUSE", "GET_PARAMETER" };
    fake_device_open(&t);
    frame(true);
    for (size_t i = 0; i < 3; i++) {
        for (size_t room = 1; room < 3100; room += 311) {
            bmb_sock s = play(TCP);
            t.f->socks[s].room = room; /* the key frame stops in its middle */
            frame(true);
            char text[200];
            snprintf(text, sizeof text, "%s " YARD " RTSP/1.0\r\nCSeq: 9\r\nSession: %s\r\n\r\n", requests[i], session);
            fake_say_text(t.f, s, text);
            frame(false);
            frame(false);
            size_t begun, rest;
            const char *first = fake_take(t.f, s, &begun);
            uint8_t *all = malloc(FAKE_OUT);
            memcpy(all, first, begun);
            t.f->socks[s].room = FAKE_OUT / 2;
            fake_settle(t.f, t.device);
            const char *second = fake_take(t.f, s, &rest);
            memcpy(all + begun, second, rest);
            all[begun + rest] = '\0';
            assert_int_equal(begun, room);
            /* One frame whole, then the answer; after that the frames go on if the session does. */
            unsigned frames = frames_in(all, begun + rest, NULL, NULL);
            assert_true(i == 2 ? frames >= 1 : frames == 1);
            assert_non_null(memmem(all, begun + rest, "RTSP/1.0 200 OK\r\nCSeq: 9\r\n", 26));
            free(all);
            fake_hang_up(t.f, s);
            fake_settle(t.f, t.device);
        }
    }
    assert_int_equal(device().sessions, 0);
    assert_int_equal(feed().reel_pinned, 0);
}

static void a_viewer_that_reads_nothing_is_closed(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = play(TCP);
    t.f->socks[s].room = 1000;
    for (int i = 0; i < 170; i++) frame(true); /* over 5 s */
    assert_true(t.f->socks[s].gone);
    assert_int_equal(feed().stalled, 1);
    assert_int_equal(device().sessions, 0);
}

static void a_large_frame_leaves_in_bursts(void **state)
{
    (void)state;
    t.feeds[0].frame_max = 40000;
    fake_device_open(&t);
    frame(true);
    (void)play(UDP);
    key_size = make_key(key_frame, 38000);
    t.f->datagram_count = 0;
    uint64_t begin = t.f->now;
    frame(true);
    size_t at_once = 0;
    for (size_t i = 0; i < t.f->datagram_count; i++) {
        at_once += t.f->datagrams[i].at_us == begin;
        assert_true(t.f->datagrams[i].at_us <= begin + 33333);
    }
    assert_true(t.f->datagram_count >= 28);
    assert_in_range(at_once, 10, 17);
}

static void a_description_waits_for_the_first_frame(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = fake_connect(t.f, 1);
    assert_string_equal(ask(s, "DESCRIBE " YARD), "");
    fake_say_text(t.f, s, "OPTIONS * RTSP/1.0\r\nCSeq: 77\r\n\r\n");
    frame(false); /* tells nothing */
    assert_string_equal(fake_take(t.f, s, NULL), "");
    frame(true);
    const char *answer = fake_take(t.f, s, NULL);
    assert_int_equal(status_of(answer), 200);
    assert_non_null(strstr(answer, "sprop-parameter-sets"));
    assert_non_null(strstr(answer, "CSeq: 77\r\n"));
}

static void a_description_that_never_comes_is_refused(void **state)
{
    (void)state;
    fake_device_open(&t);
    bmb_sock s = fake_connect(t.f, 1);
    assert_string_equal(ask(s, "DESCRIBE " YARD), "");
    fake_run(t.f, t.device, 3200000);
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 503);
}

static void smears_are_not_sent(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(false); /* before the first key frame */
    assert_int_equal(feed().dropped, 1);
    frame(true);
    static const uint8_t garbage[] = { 0, 0, 0, 1, 0xFF };
    fake_frame(t.f, 0, garbage, sizeof garbage, false);
    fake_settle(t.f, t.device);
    frame(false); /* refers to what was lost */
    assert_int_equal(feed().frames, 1);
    assert_int_equal(feed().dropped, 3);
    frame(true);
    frame(false);
    assert_int_equal(feed().frames, 3);
}

static void a_key_frame_gets_its_parameter_sets(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = play(TCP);
    frame(true);
    fake_take(t.f, s, NULL);
    static uint8_t bare[200];
    size_t size = make_unit(bare, 0, 0x65, 100);
    fake_frame(t.f, 0, bare, size, true);
    fake_settle(t.f, t.device);
    const uint8_t *data = (const uint8_t *)fake_take(t.f, s, &size);
    assert_int_equal(data[16] & 31, 24); /* STAP-A */
    assert_int_equal(data[19], 0x67);
}

/* Two hours of a camera whose clock starts just before both counters wrap. */
static void times_agree_for_hours(void **state)
{
    (void)state;
    fake_device_open(&t);
    t.f->now = UINT64_C(47721858844) * 3 - 60000000; /* the 90 kHz time wraps a minute from here */
    frame(true);
    bmb_sock s = play(TCP);
    fake_take(t.f, s, NULL);
    uint32_t reports = 0, stream_offset = 0;
    bool known = false;
    uint64_t end = t.f->now + UINT64_C(7200000000);
    while (t.f->now < end) {
        uint64_t captured = t.f->now;
        t.f->socks[s].room = FAKE_OUT;
        size_t size;
        fake_frame(t.f, 0, key_frame, key_size, true);
        fake_settle(t.f, t.device);
        const uint8_t *data = (const uint8_t *)fake_take(t.f, s, &size);
        for (size_t at = 0; at + 4 <= size; at += 4u + (size_t)(data[at + 2] << 8 | data[at + 3])) {
            const uint8_t *p = data + at + 4;
            if (data[at + 1] == 0) {
                uint32_t time = (uint32_t)p[4] << 24 | (uint32_t)p[5] << 16 | (uint32_t)p[6] << 8 | p[7];
                uint32_t offset = time - bmb_rtp_time(captured);
                if (known) assert_int_equal(offset, stream_offset); /* not one tick of drift */
                stream_offset = offset;
                known = true;
                continue;
            }
            bmb_reader r = bmb_reader_of(p + 8, 12);
            uint64_t s_1900 = bmb_get_u32(&r), fraction = bmb_get_u32(&r);
            uint32_t rtp = bmb_get_u32(&r);
            int64_t wall = (int64_t)((s_1900 - 2208988800u) * 1000000 + (fraction * 1000000 >> 32));
            int64_t port_time = wall - t.f->wall_offset;
            int32_t ticks = (int32_t)(rtp - stream_offset - bmb_rtp_time((uint64_t)port_time));
            assert_in_range(ticks + 90, 0, 180); /* 1 ms */
            reports++;
        }
        t.f->now += 990000;
        fake_settle(t.f, t.device);
    }
    assert_in_range(reports, 1150, 1460);
    assert_int_equal(device().sessions, 1);
}

static void jpeg_feeds_are_carried_or_refused(void **state)
{
    (void)state;
    fake_device_open(&t);
    frame(true);
    bmb_sock s = fake_connect(t.f, 1);
    const char *answer = ask(s, "DESCRIBE " YARD);
    assert_non_null(strstr(answer, "m=video 0 RTP/AVP 26\r\n"));
    bmb_sock v = play(TCP);
    size_t size;
    fake_take(t.f, v, NULL);
    frame(true);
    const uint8_t *data = (const uint8_t *)fake_take(t.f, v, &size);
    assert_int_equal(frames_in(data, size, NULL, NULL), 1);
    uint8_t *sof = memmem(jpeg, jpeg_size, "\xFF\xC0", 2);
    sof[1] = 0xC2; /* progressive */
    frame(true);
    fake_take(t.f, v, &size);
    assert_int_equal(size, 0); /* not sent as what it is not */
    assert_int_equal(fake_event_count(t.f, BMB_EVENT_CODEC_REFUSED), 1);
    assert_int_equal(status_of(ask(s, "DESCRIBE " YARD)), 415);
    assert_int_equal(status_of(ask(s, "SETUP " YARD "/video|" TCP)), 415);
    sof[1] = 0xC0;
}

static void viewers_beyond_the_limit_are_refused(void **state)
{
    (void)state;
    t.config.viewers = 2;
    fake_device_open(&t);
    frame(true);
    (void)play(UDP);
    (void)play(TCP);
    bmb_sock s = fake_connect(t.f, 1);
    assert_int_equal(status_of(ask(s, "SETUP " YARD "/video|" UDP)), 453);
    assert_int_equal(device().refused, 1);
}

static void connections_beyond_all_are_turned_away_in_rtsp(void **state)
{
    (void)state;
    t.config.viewers = 1;
    t.config.spare = 1;
    fake_device_open(&t);
    bmb_sock s = BMB_NO_SOCK;
    for (int i = 0; i < 3; i++) {
        s = fake_connect(t.f, 1);
        fake_say_text(t.f, s, "OPTIONS");
        fake_say_text(t.f, s, " * RTSP/1.0\r\n"); /* unfinished, so nobody makes room */
        fake_settle(t.f, t.device);
    }
    assert_int_equal(status_of(fake_take(t.f, s, NULL)), 503);
    assert_true(t.f->socks[s].gone);
}

static void memory_stays_within_its_bounds(void **state)
{
    (void)state;
    fake_device_open(&t);
    assert_true(t.budget.per_viewer_rtsp <= 768);
    assert_true(t.budget.per_viewer_http <= 512);
    assert_true(t.budget.device - 2 * BMB_BLOCK_GAP + t.budget.per_feed <= 8192);
}

#define H264(name) cmocka_unit_test_setup_teardown(name, with_h264, done)
#define JPEG(name) cmocka_unit_test_setup_teardown(name, with_jpeg, done)

int main(void)
{
    const struct CMUnitTest tests[] = {
        H264(a_session_from_describe_to_teardown),
        H264(wrong_requests_have_their_status),
        H264(a_request_without_a_number_ends_the_connection),
        H264(endless_headers_are_refused),
        H264(requests_may_be_cut_at_every_byte),
        H264(a_playing_session_cannot_be_set_up),
        H264(the_clients_preference_decides),
        H264(datagrams_go_to_who_asked),
        H264(receivers_reports_are_shown),
        H264(a_receiver_may_ask_for_a_key_frame),
        H264(a_session_over_udp_lives_by_signs_of_life),
        H264(a_session_without_its_connection_must_report),
        H264(one_sender_serves_a_whole_group),
        H264(a_thousand_sessions_leave_nothing),
        H264(the_first_of_a_group_needs_room_on_the_uplink),
        H264(a_password_that_nobody_asks_for_is_passed_over),
        H264(key_frames_are_asked_for_at_a_bounded_rate),
        H264(a_viewer_that_falls_behind_goes_on_at_a_key_frame),
        H264(an_answer_never_splits_a_packet),
        H264(a_viewer_that_reads_nothing_is_closed),
        H264(a_large_frame_leaves_in_bursts),
        H264(a_description_waits_for_the_first_frame),
        H264(a_description_that_never_comes_is_refused),
        H264(smears_are_not_sent),
        H264(a_key_frame_gets_its_parameter_sets),
        H264(times_agree_for_hours),
        JPEG(jpeg_feeds_are_carried_or_refused),
        JPEG(viewers_beyond_the_limit_are_refused),
        H264(connections_beyond_all_are_turned_away_in_rtsp),
        H264(memory_stays_within_its_bounds),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
