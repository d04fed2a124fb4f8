/* What the RTP framers send, put together again as a receiver does. */
#include "support/check.h"
#include "support/fake_port.h"

#include "base/bytes.h"
#include "wire/h264.h"
#include "wire/rtcp.h"
#include "wire/rtp.h"
#include "wire/sdp.h"

static bmb_gather g;

/* One packet as it is on the wire. */
static size_t packet_of(size_t i, uint8_t *out)
{
    size_t n = 0;
    for (size_t k = 0; k < g.packets[i].count; k++) {
        memcpy(out + n, g.packets[i].slices[k].data, g.packets[i].slices[k].size);
        n += g.packets[i].slices[k].size;
    }
    assert_int_equal(n, g.packets[i].size);
    return n;
}

typedef struct received {
    uint8_t bytes[200000]; /* H.264: units with three-byte start codes; JPEG: the scan */
    size_t size, packets, markers;
    uint16_t last_seq;
    uint32_t time, ssrc;
} received;

static void take_h264(received *r, const uint8_t *p, size_t size)
{
    uint8_t type = p[0] & 31;
    if (type == 24) {
        for (size_t at = 1; at < size;) {
            size_t n = (size_t)(p[at] << 8 | p[at + 1]);
            memcpy(r->bytes + r->size, "\0\0\1", 3);
            memcpy(r->bytes + r->size + 3, p + at + 2, n);
            r->size += 3 + n;
            at += 2 + n;
        }
    } else if (type == 28) {
        if (p[1] & 0x80) {
            memcpy(r->bytes + r->size, "\0\0\1", 3);
            r->bytes[r->size + 3] = (uint8_t)((p[0] & 0x60) | (p[1] & 31));
            r->size += 4;
        }
        memcpy(r->bytes + r->size, p + 2, size - 2);
        r->size += size - 2;
    } else {
        memcpy(r->bytes + r->size, "\0\0\1", 3);
        memcpy(r->bytes + r->size + 3, p, size);
        r->size += 3 + size;
    }
}

static void take_jpeg(received *r, const uint8_t *p, size_t size, const bmb_jpeg_facts *f, const uint8_t *image)
{
    size_t at = 8 + (p[4] >= 64 ? 4 : 0), offset = (size_t)(p[1] << 16 | p[2] << 8 | p[3]);
    assert_int_equal(offset, r->size);
    assert_int_equal(p[4], f->type);
    assert_int_equal(p[5], 255);
    assert_int_equal(p[6] * 8, 640);
    assert_int_equal(p[7] * 8, 480);
    if (offset == 0) {
        assert_int_equal(p[at + 2] << 8 | p[at + 3], 128);
        assert_memory_equal(p + at + 4, image + f->quant_at[0], 64);
        assert_memory_equal(p + at + 68, image + f->quant_at[1], 64);
        at += 4 + 128;
    }
    memcpy(r->bytes + r->size, p + at, size - at);
    r->size += size - at;
}

/* Frames the whole frame and receives it. */
static void transmit(const bmb_framer *framer, bmb_stream_state *s, const bmb_frame *frame, received *r,
                     const uint8_t *image)
{
    bmb_cursor cursor = { 0 };
    uint8_t p[2048];
    memset(r, 0, sizeof *r);
    while (!cursor.end) {
        bmb_gather_clear(&g);
        framer->fill(s, frame, &cursor, &g, BMB_GATHER_PIECES);
        assert_true(g.piece_count > 0);
        for (size_t i = 0; i < g.piece_count; i++) {
            size_t size = packet_of(i, p), at = s->interleaved ? 4 : 0;
            if (s->interleaved) {
                assert_int_equal(p[0], '$');
                assert_int_equal(p[1], s->channel);
                assert_int_equal(p[2] << 8 | p[3], size - 4);
            }
            const uint8_t *rtp = p + at;
            assert_true(size - at <= s->payload_max);
            assert_int_equal(rtp[0], 0x80);
            assert_int_equal(rtp[1] & 0x7F, s->payload_type);
            r->markers += rtp[1] >> 7;
            r->last_seq = (uint16_t)(rtp[2] << 8 | rtp[3]);
            assert_int_equal(r->last_seq, (uint16_t)(s->next_seq + r->packets));
            r->packets++;
            r->time = (uint32_t)rtp[4] << 24 | (uint32_t)rtp[5] << 16 | (uint32_t)rtp[6] << 8 | rtp[7];
            if (image == NULL) take_h264(r, rtp + 12, size - at - 12);
            if (image != NULL) take_jpeg(r, rtp + 12, size - at - 12, (const bmb_jpeg_facts *)frame->facts, image);
            if (r->markers > 0) assert_true(cursor.end && i + 1 == g.piece_count); /* the last packet alone */
        }
    }
    assert_int_equal(r->markers, 1);
    framer->done(s, frame, &cursor);
    assert_int_equal(s->next_seq, (uint16_t)(r->last_seq + 1));
}

static size_t add_unit(uint8_t *out, size_t at, uint8_t header, size_t size, uint8_t fill)
{
    memcpy(out + at, "\0\0\1", 3);
    out[at + 3] = header;
    for (size_t i = 1; i < size; i++)
        out[at + 3 + i] = (uint8_t)(fill + i % 251) | 1; /* no start code, no zero at the end */
    return at + 3 + size;
}

static void h264_comes_back_whole(void **state)
{
    (void)state;
    static uint8_t au[160000];
    static received r;
    const size_t slices[] = { 1, 2, 100, 1387, 1388, 1389, 1390, 2774, 2775, 60000, 150000 };
    for (size_t i = 0; i < sizeof slices / sizeof slices[0]; i++) {
        for (int interleaved = 0; interleaved < 2; interleaved++) {
            size_t size = add_unit(au, 0, 0x67, 12, 3);
            size = add_unit(au, size, 0x68, 5, 5);
            size = add_unit(au, size, 0x65, slices[i] + 1, 7);
            bmb_h264_facts facts;
            assert_int_equal(bmb_h264_parse(au, size, &facts), BMB_OK);
            const bmb_frame f = { .data = au, .size = (uint32_t)size, .facts = &facts, .capture_us = 1000000 };
            bmb_stream_state s = { .payload_max = 1400,
                                   .payload_type = 96,
                                   .next_seq = 65530,
                                   .time_offset = 5,
                                   .interleaved = interleaved != 0,
                                   .channel = 4 };
            transmit(&bmb_framer_rtp_h264, &s, &f, &r, NULL);
            assert_int_equal(r.size, size);
            assert_memory_equal(r.bytes, au, size);
            assert_int_equal(r.time, 90005);
        }
    }
}

static void parameter_sets_share_a_packet(void **state)
{
    (void)state;
    uint8_t au[400];
    static received r;
    size_t size = add_unit(au, 0, 0x67, 12, 3);
    size = add_unit(au, size, 0x28, 5, 5);
    size = add_unit(au, size, 0x65, 300, 7);
    bmb_h264_facts facts;
    assert_int_equal(bmb_h264_parse(au, size, &facts), BMB_OK);
    const bmb_frame f = { .data = au, .size = (uint32_t)size, .facts = &facts };
    bmb_stream_state s = { .payload_max = 1400, .payload_type = 96 };
    transmit(&bmb_framer_rtp_h264, &s, &f, &r, NULL);
    assert_int_equal(r.packets, 2);
    uint8_t p[100];
    bmb_cursor cursor = { 0 };
    bmb_gather_clear(&g);
    bmb_framer_rtp_h264.fill(&s, &f, &cursor, &g, 1);
    assert_int_equal(g.piece_count, 1);
    packet_of(0, p);
    assert_int_equal(p[12], 0x60 | 24); /* the higher importance of the two, STAP-A */
}

/* 20 packets of the same size but the last: what segmentation offload wants. */
static void fragments_have_one_size(void **state)
{
    (void)state;
    static uint8_t au[30000];
    size_t size = add_unit(au, 0, 0x41, 28000, 7);
    bmb_h264_facts facts;
    assert_int_equal(bmb_h264_parse(au, size, &facts), BMB_OK);
    const bmb_frame f = { .data = au, .size = (uint32_t)size, .facts = &facts };
    const bmb_stream_state s = { .payload_max = 1400, .payload_type = 96 };
    bmb_cursor cursor = { 0 };
    bmb_gather_clear(&g);
    bmb_framer_rtp_h264.fill(&s, &f, &cursor, &g, BMB_GATHER_PIECES);
    assert_true(cursor.end);
    for (size_t i = 0; i + 1 < g.piece_count; i++) assert_int_equal(g.packets[i].size, 1400);
    for (size_t i = 0; i < g.slice_count; i++) /* the payload is the frame's own memory */
        if (g.slices[i].size > 100)
            assert_true((const uint8_t *)g.slices[i].data > au && (const uint8_t *)g.slices[i].data < au + size);
}

static void jpeg_comes_back_whole(void **state)
{
    (void)state;
    static uint8_t data[60000];
    static received r;
    const size_t sizes[] = { 700, 1500, 3000, 50000 };
    for (size_t i = 0; i < 4; i++) {
        bmb_jpeg jpeg;
        bmb_jpeg_facts facts;
        size_t size = fake_jpeg(data, 640, 480, sizes[i]);
        assert_int_equal(bmb_jpeg_parse(data, size, &jpeg), BMB_OK);
        bmb_jpeg_facts_of(data, &jpeg, &facts);
        assert_int_equal(facts.refusal, BMB_JPEG_RTP_OK);
        assert_int_equal(facts.type, 1);
        const bmb_frame f = { .data = data, .size = (uint32_t)size, .facts = &facts, .capture_us = 1000000 };
        bmb_stream_state s = { .payload_max = i % 2 == 0 ? 1400 : 256, .payload_type = 26, .next_seq = 1 };
        transmit(&bmb_framer_rtp_jpeg, &s, &f, &r, data);
        assert_int_equal(r.size, jpeg.scan_end - jpeg.scan_at);
        assert_memory_equal(r.bytes, data + jpeg.scan_at, r.size);
    }
}

static uint8_t *find(uint8_t *data, const char *marker)
{
    return (uint8_t *)memmem(data, 2000, marker, 2);
}

static bmb_jpeg_rtp refusal(const uint8_t *data, size_t size)
{
    bmb_jpeg jpeg;
    bmb_jpeg_facts facts;
    assert_int_equal(bmb_jpeg_parse(data, size, &jpeg), BMB_OK);
    bmb_jpeg_facts_of(data, &jpeg, &facts);
    return facts.refusal;
}

static void a_jpeg_that_rtp_cannot_carry_is_told(void **state)
{
    (void)state;
    uint8_t good[4000], data[4000];
    size_t size = fake_jpeg(good, 640, 480, 3000);
#define FRESH memcpy(data, good, size)
    FRESH;
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_OK);
    find(data, "\xFF\xC0")[1] = 0xC2;
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_NOT_BASELINE);
    FRESH;
    find(data, "\xFF\xC0")[11] = 0x11; /* 4:4:4 */
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_SAMPLING);
    FRESH;
    find(data, "\xFF\xC0")[11] = 0x21; /* 4:2:2 is type 0 */
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_OK);
    FRESH;
    find(data, "\xFF\xC4")[21 + 3] ^= 1; /* a value of the first Huffman table */
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_HUFFMAN);
    FRESH;
    find(data, "\xFF\xC0")[12 + 6] = 0; /* the second chroma component with another table */
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_QUANT);
    FRESH;
    find(data, "\xFF\xC0")[6] = 0xE4; /* 484 lines */
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_SIZE);
    FRESH;
    find(data, "\xFF\xC0")[7] = 0x08; /* 2176 columns */
    assert_int_equal(refusal(data, size), BMB_JPEG_RTP_SIZE);
}

static void the_90_khz_clock_does_not_drift(void **state)
{
    (void)state;
    assert_int_equal(bmb_rtp_time(1000000), 90000);
    const uint64_t year_us = 31557600000000u;
    assert_int_equal(bmb_rtp_time(year_us + 1000000), (uint32_t)(bmb_rtp_time(year_us) + 90000));
    assert_int_equal(bmb_rtp_time(UINT64_C(47721858844)), 0xFFFFFFFF); /* the last tick before it wraps */
    assert_int_equal(bmb_rtp_time(UINT64_C(47721858845)), 0);
}

static void a_report_has_its_bytes(void **state)
{
    (void)state;
    uint8_t p[BMB_RTCP_MAX];
    bmb_writer w = bmb_writer_of(p, sizeof p);
    const bmb_rtcp_sender s = {
        .ssrc = 0x01020304, .wall_us = 1500000, .rtp_time = 0x0A0B0C0D, .packets = 7, .octets = 900, .cname = "bambino"
    };
    bmb_rtcp_report(&w, &s, true);
    const uint8_t expected[] = { 0x80, 200, 0,    6,    1,    2,    3,    4,   0x83, 0xAA, 0x7E, 0x81, 0x80, 0,
                                 0,    0,   0x0A, 0x0B, 0x0C, 0x0D, 0,    0,   0,    7,    0,    0,    3,    0x84,
                                 0x81, 202, 0,    4,    1,    2,    3,    4,   1,    7,    'b',  'a',  'm',  'b',
                                 'i',  'n', 'o',  0,    0,    0,    0x81, 203, 0,    1,    1,    2,    3,    4 };
    assert_int_equal(bmb_written(&w), sizeof expected);
    assert_memory_equal(p, expected, sizeof expected);
}

static void reports_of_receivers_are_read(void **state)
{
    (void)state;
    const uint8_t rr[] = { 0x81, 201, 0, 7,  9, 9, 9, 9, 1, 2, 3, 4, 64,   0xFF, 0xFF, 0xFE, 0, 1, 0, 5,
                           0,    0,   0, 90, 0, 0, 0, 1, 0, 0, 0, 2, 0x81, 203,  0,    1,    9, 9, 9, 9 };
    bmb_rtcp_walk walk = { 0 };
    bmb_rtcp_block b;
    assert_true(bmb_rtcp_next(&walk, rr, sizeof rr, &b));
    assert_int_equal(b.ssrc, 0x01020304);
    assert_int_equal(b.lost_256, 64);
    assert_int_equal(b.lost, -2);
    assert_int_equal(b.highest, 0x10005);
    assert_int_equal(b.jitter, 90);
    assert_int_equal(b.from, 0x09090909);
    assert_false(walk.bye);
    assert_false(bmb_rtcp_next(&walk, rr, sizeof rr, &b));
    assert_true(walk.bye);
    assert_int_equal(walk.left, 0x09090909);
    for (size_t n = 0; n < sizeof rr; n++) { /* cut anywhere */
        uint8_t *exact = malloc(n + 1);
        memcpy(exact, rr, n);
        walk = (bmb_rtcp_walk){ 0 };
        int blocks = 0;
        while (bmb_rtcp_next(&walk, exact, n, &b)) blocks++;
        assert_int_equal(blocks, n >= 32 ? 1 : 0);
        free(exact);
    }
}

/* RFC 4585 6.2.1: a packet's number, and a bit for each of the 16 behind it. */
static void missed_packets_are_read(void **state)
{
    (void)state;
    /* Two entries; behind them another message, which is none of them. */
    const uint8_t nack[] = { 0x81, 205, 0, 4, 0, 0, 0,    5,   1, 2, 3, 4, 0xFF, 0xFF,
                             0x80, 1,   0, 9, 0, 0, 0x80, 201, 0, 1, 0, 0, 0,    5 };
    uint16_t missed[8] = { 0 };
    assert_int_equal(bmb_rtcp_missed(nack, sizeof nack, 0x01020304, missed, 8), 4);
    const uint16_t expected[] = { 65535, 0, 15, 9 };
    assert_memory_equal(missed, expected, sizeof expected);
    assert_int_equal(bmb_rtcp_missed(nack, sizeof nack, 0x01020305, missed, 8), 0);
    memset(missed, 0, sizeof missed);
    assert_int_equal(bmb_rtcp_missed(nack, sizeof nack, 0x01020304, missed, 2), 2);
    assert_int_equal(missed[2], 0);
    for (size_t n = 0; n < 20; n++) { /* cut anywhere: what is not there whole is not read */
        uint8_t *exact = malloc(n + 1);
        memcpy(exact, nack, n);
        assert_int_equal(bmb_rtcp_missed(exact, n, 0x01020304, missed, 8), 0);
        free(exact);
    }
}

static void a_description_names_everything(void **state)
{
    (void)state;
    char out[1024];
    const bmb_h264_sets sets = { 4, 2, { 0x67, 0x42, 0xC0, 0x1F }, { 0x68, 0xCE } };
    bmb_sdp s = { .id = 7,
                  .version = 3,
                  .title = "Sta\r\ntion\x01",
                  .origin = { .family = 4, .ip = { 192, 0, 2, 1 } },
                  .control = true,
                  .media_count = 1,
                  .media = { { "video", 96, 30000, 2000, bmb_sdp_h264, &sets, 0, false, 0 } } };
    bmb_writer w = bmb_writer_of(out, sizeof out - 1);
    bmb_sdp_write(&w, &s);
    out[bmb_written(&w)] = '\0';
    assert_string_equal(out,
                        "v=0\r\no=- 7 3 IN IP4 192.0.2.1\r\ns=Station\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\n"
                        "a=range:npt=now-\r\nm=video 0 RTP/AVP 96\r\nb=AS:2000\r\na=rtpmap:96 H264/90000\r\n"
                        "a=fmtp:96 profile-level-id=42C01F;sprop-parameter-sets=Z0LAHw==,aM4=;packetization-mode=1\r\n"
                        "a=framerate:30\r\na=control:video\r\n");
    s.title = "\r\n";
    s.origin = (bmb_addr){ .family = 6, .ip = { [15] = 1 } };
    s.group = (bmb_addr){ .family = 6, .ip = { 0xFF, 0x15, [15] = 9 }, .port = 5004 };
    s.control = false;
    s.media[0] = (bmb_sdp_media){ "video", 26, 7500, 2000, bmb_sdp_jpeg, NULL, 0, false, 0 };
    s.media[1] = (bmb_sdp_media){ "audio", 96, 0, 0, bmb_sdp_h264, &sets, 0, false, 0 };
    s.media_count = 2;
    w = bmb_writer_of(out, sizeof out - 1);
    bmb_sdp_write(&w, &s);
    out[bmb_written(&w)] = '\0';
    assert_string_equal(
        out, "v=0\r\no=- 7 3 IN IP6 ::1\r\ns=-\r\nc=IN IP6 ff15::9\r\nt=0 0\r\nm=video 5004 RTP/AVP 26\r\n"
             "b=AS:2000\r\na=rtpmap:26 JPEG/90000\r\na=framerate:7.5\r\nm=audio 5006 RTP/AVP 96\r\n"
             "a=rtpmap:96 H264/90000\r\n"
             "a=fmtp:96 profile-level-id=42C01F;sprop-parameter-sets=Z0LAHw==,aM4=;packetization-mode=1\r\n");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(h264_comes_back_whole),
        cmocka_unit_test(parameter_sets_share_a_packet),
        cmocka_unit_test(fragments_have_one_size),
        cmocka_unit_test(jpeg_comes_back_whole),
        cmocka_unit_test(a_jpeg_that_rtp_cannot_carry_is_told),
        cmocka_unit_test(the_90_khz_clock_does_not_drift),
        cmocka_unit_test(a_report_has_its_bytes),
        cmocka_unit_test(reports_of_receivers_are_read),
        cmocka_unit_test(a_description_names_everything),
        cmocka_unit_test(missed_packets_are_read),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
