/* Changes that nobody meant: a hundred scenes that are drawn, and documents with changes that are drawn, each as a sum
 * over everything that came of it. Whether it is right, the traces and the other tests say; that it is what it was,
 * these do.
 *
 * tests/scenes.sums has the sums. After a change that is meant, `BAMBINO_TRACES=write test_scenes` writes it anew; with
 * `BAMBINO_SCENE=N` it prints what happens in scene N, to be compared with what happened there before.
 */
#include "support/check.h"
#include "support/fake_port.h"
#include "support/scene.h"

#include <stdarg.h>

#include "bambino/light.h"
#include "base/bytes.h"
#include "base/http_text.h"
#include "base/log.h"
#include "base/rate.h"
#include "media/governor.h"
#include "base/pace.h"
#include "serve/framed_request.h"
#include "serve/http_route.h"
#include "serve/rtsp_answer.h"
#include "wire/framed.h"
#include "wire/h264.h"
#include "wire/jpeg.h"
#include "wire/rtcp.h"
#include "wire/rtp.h"
#include "wire/sdp.h"

#define SCENES 400u
#define GUARDED 80u /* and so many whose devices ask who comes */

static uint64_t random_state;

static uint32_t draw(uint32_t below)
{
    random_state = random_state * 6364136223846793005u + 1442695040888963407u;
    return (uint32_t)(random_state >> 33) % below;
}

static uint32_t sum_of(const char *text, size_t size)
{
    uint32_t sum = 2166136261u;
    for (size_t i = 0; i < size; i++) sum = (sum ^ (uint8_t)text[i]) * 16777619u;
    return sum;
}

#define H " HTTP/1.1\r\nHost: a\r\n\r\n"
#define R " RTSP/1.0\r\nCSeq: 7\r\n"
#define ID "Session: \1"

static const char *const sayings[] = {
    "GET /" H,
    "GET /yard.mjpeg" H,
    "GET /yard.jpg" H,
    "GET /station.jpg" H,
    "GET /yard.ts" H,
    "GET /status.json" H,
    "GET /yard.sdp" H,
    "HEAD /yard.jpg" H,
    "GET /yard-320x240.jpg" H,
    "GET /yard-640x480.jpg" H,
    "GET /attic.jpg" H,
    "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\n\r\nabc",
    "GET /yard.jpg HTTP/1.0\r\nConnection: keep-alive\r\n\r\n",
    "GET /yard HTTP/1.0\r\nx-sessioncookie: k\r\n\r\n",
    "GET / HT",
    "TP/1.1\r\nHost: a\r\n\r\n",
    "POST /yard HTTP/1.0\r\nx-sessioncookie: k\r\n\r\nT1BUSU9OUyAqIFJUU1AvMS4wDQpDU2VxOiA0DQoNCg==",
    "OPTIONS *" R "\r\n",
    "DESCRIBE rtsp://h/yard" R "\r\n",
    "DESCRIBE rtsp://h/station" R "\r\n",
    "DESCRIBE rtsp://h/x" R "\r\n",
    "SETUP rtsp://h/yard/video" R "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n",
    "SETUP rtsp://h/station" R "Transport: RTP/AVP/TCP;interleaved=1-2\r\n\r\n",
    "SETUP rtsp://h/yard" R "Transport: RTP/AVP;unicast;client_port=6000-6001\r\n\r\n",
    "SETUP rtsp://h/yard" R "Transport: RTP/AVP;multicast\r\n\r\n",
    "SETUP rtsp://h/station" R "Transport: RTP/AVP/TCP\r\n\r\n",
    "PLAY rtsp://h/yard" R ID "0\r\n\r\n",
    "PLAY rtsp://h/yard" R ID "1\r\n\r\n",
    "PLAY rtsp://h/station" R ID "1\r\n\r\n",
    "PAUSE rtsp://h/yard" R ID "0\r\n\r\n",
    "TEARDOWN rtsp://h/yard" R ID "0\r\n\r\n",
    "TEARDOWN *" R ID "1\r\n\r\n",
    "GET_PARAMETER *" R ID "0\r\n\r\n",
    "OPTIONS *" R "Connection: close\r\n\r\n",
    "OPTIONS * RT",
    "SP/1.0\r\nCSeq: 1\r\n\r\n",
    "\x8F"
    "bmb\1\x42\0\x9A\0\0\0\1\0\0\0\2\0\0",
    "$\1\0\x08\x80\xC9\0\1\0\0\0\x09",
};
/* To a device with accounts, where every word of everybody is right (tests/support/scene.c). */
#define ZEROS "00000000000000000000000000000000"
#define SIGNED(path)                                                                                                   \
    "Authorization: Digest username=\"a\", realm=\"r\", nonce=\"00000000000F424000000001" ZEROS "\", uri=\"" path      \
    "\", algorithm=MD5, response=\"" ZEROS "\""
#define COUNTED(path) SIGNED(path) ", qop=auth, nc=00000001, cnonce=\"c\"\r\n"
#define A " HTTP/1.1\r\nHost: a\r\n"
static const char *const guarded[] = {
    "GET /yard.mjpeg" A COUNTED("/yard.mjpeg") "\r\n",
    "GET /yard.jpg" A COUNTED("/yard.jpg") "\r\n",
    "GET /status.json" A SIGNED("/status.json") "\r\n\r\n",
    "GET /status.json" A "Authorization: Bearer x\r\n\r\n",
    "POST /sign-in" A COUNTED("/sign-in") "\r\n",
    "GET /yard.jpg" A "Cookie: x=1; bambino=0000" ZEROS "\r\n\r\n",
    "POST /sign-out" A "Cookie: bambino=0000" ZEROS "\r\n\r\n",
    "POST /lend/yard/0/2" A COUNTED("/lend/yard/0/2") "\r\n",
    "POST /end-link/1" A COUNTED("/end-link/1") "\r\n",
    "POST /end-sign-in/0" A COUNTED("/end-sign-in/0") "\r\n",
    "GET /lent/AAAAAQAAAAAAAgAAAAAAAAAAAAAAAAAAAAAA/yard.mjpeg" H,
    "GET /lent/AAAAAQAAAAAAAgAAAAAAAAAAAAAAAAAAAAAA/yard.jpg" H,
    "GET /who.json" H,
    "GET /yard.jpg" A "Origin: http://o\r\n\r\n",
    "GET /yard.jpg" A "Origin: http://x\r\n\r\n",
    "GET / HTTP/1.1\r\nHost: other\r\n\r\n",
    "GET /yard.sdp" A "User-Agent: Mozilla/5.0\r\n\r\n",
    "token x\n",
    "DESCRIBE rtsp://h/yard" R SIGNED("rtsp://h/yard") "\r\n\r\n",
    "SETUP rtsp://h/yard/video" R SIGNED("x") "\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n",
    "SETUP rtsp://h/lent/AAAAAQAAAAAAAgAAAAAAAAAAAAAAAAAAAAAA/yard" R "Transport: RTP/AVP/TCP\r\n\r\n",
    "PLAY rtsp://h/lent/AAAAAQAAAAAAAgAAAAAAAAAAAAAAAAAAAAAA/yard" R ID "0\r\n\r\n",
    "DESCRIBE rtsp://h/yard" R "Authorization: Basic YTpi\r\n\r\n",
};
static bool guards;

static const uint8_t framed[][10] = {
    { 65, 0 },       { 66, 2, 0, 0 },     { 66, 2, 0, 1 }, { 66, 2, 255, 255 },
    { 67, 0 },       { 68, 1, 1 },        { 68, 1, 0 },    { 69, 8, 0, 0, 5, 0, 0, 0, 0, 20 },
    { 70, 2, 0, 0 }, { 70, 2, 255, 255 }, { 71, 0 },       { 90, 3, 1, 2, 3 },
};

/* A peer does what peers do, mostly in the protocol of the outlet that it is connected to. */
static size_t draw_saying(uint8_t *out, unsigned peer)
{
    uint8_t text[2400];
    size_t size = 0;
    if (draw(4) == 0) {
        for (unsigned n = draw(5) == 0 ? 40 : 1; n > 0; n--) {
            static const uint8_t sign_in[2 + 34] = { 72, 34, [2 + 32] = 1, 'a' };
            bool signs = guards && draw(3) == 0;
            const uint8_t *m = signs ? sign_in : framed[draw(sizeof framed / sizeof framed[0])];
            bmb_framed_write(text + size, &(bmb_framed_message){ .type = m[0], .number = draw(100), .length = m[1] });
            memcpy(text + size + BMB_FRAMED_HEADER, m + 2, m[1]);
            size += BMB_FRAMED_HEADER + m[1];
        }
    } else {
        bool knows = guards && draw(2) == 0;
        const char *saying = knows ? guarded[draw(sizeof guarded / sizeof guarded[0])]
                                   : sayings[draw(sizeof sayings / sizeof sayings[0])];
        size = strlen(saying);
        memcpy(text, saying, size);
    }
    size_t n = 0;
    out[n++] = (uint8_t)(peer << 3);
    if (size >= 240) out[n++] = (uint8_t)(240 + size / 256);
    out[n++] = (uint8_t)size;
    memcpy(out + n, text, size);
    return n + size;
}

static size_t draw_scene(uint8_t *out)
{
    static const uint8_t outlets[] = { 0x34, 0x34, 0x34, 0x15, 0x38, 0x2C, 0x31 };
    size_t n = 0;
    out[n++] = (uint8_t)(draw(128) | (guards ? 128 : 0));
    out[n++] = (uint8_t)draw(128);
    uint8_t outlet = outlets[draw(sizeof outlets)]; /* one draw after the other: sums are the same with any compiler */
    out[n++] = (uint8_t)(outlet | draw(4) << 6);
    for (unsigned i = 0, count = 20 + draw(100); i < count; i++) {
        unsigned peer = draw(4), what = draw(100);
        if (what < 34) {
            n += draw_saying(out + n, peer);
        } else if (what < 62) {
            out[n++] = (uint8_t)(1 | (draw(4) == 0 ? draw(32) : draw(2) << 1) << 3);
            out[n++] = (uint8_t)(draw(8) == 0 ? draw(256) : 10 + draw(150));
        } else if (what < 69) {
            out[n++] = (uint8_t)(2 | peer << 3);
            out[n++] = (uint8_t)draw(8);
        } else if (what < 83) {
            out[n++] = (uint8_t)(3 | (draw(3) == 0 ? draw(8) : draw(4)) << 3);
        } else if (what < 92) {
            out[n++] = (uint8_t)(4 | (peer | draw(3) << 2) << 3);
        } else if (what < 94) {
            out[n++] = (uint8_t)(5 | (peer | draw(2) << 2) << 3);
        } else if (what < 97) {
            static const uint8_t report[] = { 0x81, 201, 0, 7, 0, 0, 0, 9,  1, 2, 3, 4, 64, 0, 0, 5,
                                              0,    0,   1, 0, 0, 0, 0, 90, 0, 0, 0, 0, 0,  0, 0, 0 };
            out[n++] = (uint8_t)(6 | draw(32) << 3);
            out[n++] = sizeof report;
            memcpy(out + n, report, sizeof report);
            n += sizeof report;
        } else {
            unsigned param = draw(12) == 0 ? 31 : 0;
            out[n++] = (uint8_t)(7 | param << 3);
            if (param == 0) out[n++] = (uint8_t)draw(256);
        }
    }
    return n;
}

/* Documents: what a parser makes of many that differ in a few bytes. */
typedef struct document {
    const char *name;
    const uint8_t *data;
    size_t size;
    void (*read)(FILE *out, uint8_t *data, size_t size);
} document;

/* Every piece that a framer makes of a frame, in gathers of any size; then what the stream says between frames. */
static void write_frame(FILE *out, const bmb_framer *framer, const uint8_t *data, size_t size, void *facts,
                        bmb_stream_state *state)
{
    static bmb_gather g;
    bmb_cursor cursor = { 0 };
    bmb_frame frame = { .data = data, .size = (uint32_t)size, .seq = 7, .facts = facts };
    frame.capture_us = 1000000 + draw(50000);
    frame.key = draw(2) == 0;
    frame.wall_us = draw(3) == 0 ? 0 : 1790000000000000;
    if (framer->begin != NULL) framer->begin(state, &frame, frame.capture_us + draw(500000));
    while (!cursor.end) {
        bmb_gather_clear(&g);
        framer->fill(state, &frame, &cursor, &g, 1 + draw(BMB_GATHER_PIECES));
        fprintf(out, "%s %zu pieces %zu bytes %u %u %u %d\n", framer->name, g.piece_count, g.bytes, cursor.at,
                cursor.unit, cursor.pieces, cursor.end);
        for (size_t i = 0; i < g.piece_count; i++) {
            fprintf(out, "%u %u of %u:", g.packets[i].size, g.starts[i].at, g.starts[i].unit);
            for (uint32_t k = 0; k < g.packets[i].count; k++)
                fwrite(g.packets[i].slices[k].data, 1, g.packets[i].slices[k].size, out);
        }
    }
    if (framer->done != NULL) framer->done(state, &frame, &cursor);
    bool rtp = strncmp(framer->name, "rtp", 3) == 0; /* for others that place holds something else */
    fprintf(out, "%u %u %u %u %d\n", state->next_seq, rtp ? state->packets : 0, state->ts_counter,
            state->ts_psi_counter, state->ts_begun);
    uint8_t piece[BMB_IDLE_MAX];
    if (framer->idle == NULL) return;
    uint64_t due = framer->idle_due(state);
    fprintf(out, "due %llu\n", (unsigned long long)due);
    if (due != UINT64_MAX) fwrite(piece, 1, framer->idle(state, due + draw(100000), piece), out);
}

static bmb_stream_state draw_rtp(void)
{
    bmb_stream_state s = { .ssrc = 0x01020304, .payload_type = 96 };
    s.time_offset = draw(1000);
    s.next_seq = (uint16_t)(65530 + draw(10));
    s.payload_max = (uint16_t)(256 + draw(1200));
    s.interleaved = draw(2) == 0;
    s.channel = (uint8_t)draw(4);
    return s;
}

static void read_jpeg(FILE *out, uint8_t *data, size_t size)
{
    bmb_jpeg j;
    bmb_jpeg_facts f = { 0 };
    bmb_err err = bmb_jpeg_parse(data, size, &j);
    fprintf(out, "%d\n", err);
    if (err != BMB_OK) return;
    bmb_jpeg_facts_of(data, &j, &f);
    bmb_stream_state s = draw_rtp(), single = { 0 }, plain = { .feed = 3 };
    single.keep_alive = draw(2) == 0;
    single.old = draw(2) == 0;
    single.head_only = draw(3) == 0;
    if (f.refusal == BMB_JPEG_RTP_OK) write_frame(out, &bmb_framer_rtp_jpeg, data, j.size, &f, &s);
    write_frame(out, &bmb_framer_still, data, j.size, &f, &single);
    if (draw(4) == 0) write_frame(out, &bmb_framer_framed, data, j.size, &f, &plain);
    if (draw(8) == 0) write_frame(out, &bmb_framer_multipart, data, j.size, &f, &plain);
    fprintf(out, "%u %u %zu %d %u %u %u %u %u %u %u %u\n", j.width, j.height, j.size, f.refusal, f.type, f.width_8,
            f.height_8, f.restart_interval, f.quant_at[0], f.quant_at[1], f.scan_at, f.scan_size);
}

static void read_h264(FILE *out, uint8_t *data, size_t size)
{
    bmb_h264_facts f;
    bmb_h264_sets sets = { 0 };
    bmb_err err = bmb_h264_parse(data, size, &f);
    fprintf(out, "%d\n", err);
    if (err != BMB_OK) return;
    bool changed = bmb_h264_keep_sets(data, &f, &sets), again = bmb_h264_keep_sets(data, &f, &sets);
    fprintf(out, "%u %d %d %d %d %d %u %u\n", f.count, f.key, f.picture, f.sets, changed, again, sets.sps_size,
            sets.pps_size);
    for (unsigned i = 0; i < f.count; i++) fprintf(out, "%u %u\n", f.unit[i].at, f.unit[i].size);
    bmb_stream_state s = draw_rtp(), stream = { .payload_max = 1316 };
    if (draw(2)) s.payload_max = (uint16_t)(12 + 12 + draw(40)); /* so small that units only just fit together */
    write_frame(out, &bmb_framer_rtp_h264, data, size, &f, &s);
    for (int i = 0; i < 2; i++) write_frame(out, &bmb_framer_ts, data, size, &f, &stream);
}

static void read_sps(FILE *out, uint8_t *data, size_t size)
{
    bmb_sps s;
    bmb_err err = bmb_sps_parse(data, size, &s);
    fprintf(out, "%d %u %u %u %u %u %u %u %u\n", err, s.profile, s.constraints, s.level, s.width, s.height, s.mfps,
            s.vui_at, s.timing_at);
}

static void read_rtcp(FILE *out, uint8_t *data, size_t size)
{
    bmb_rtcp_walk walk = { 0 };
    bmb_rtcp_block b;
    while (bmb_rtcp_next(&walk, data, size, &b))
        fprintf(out, "%u %u %d %u %u %u %u\n", b.ssrc, b.lost_256, b.lost, b.highest, b.jitter, b.last_report, b.delay);
    fprintf(out, "bye %d\n", walk.bye);
}

static void read_http(FILE *out, uint8_t *data, size_t size)
{
    static const bmb_feed_config feeds[] = {
        { .name = "yard", .mode = { .codec = BMB_CODEC_JPEG } },
        { .name = "station", .mode = { .codec = BMB_CODEC_H264 }, .multicast = { .group = { .family = 4 } } },
        { .name = "a", .mode = { .codec = BMB_CODEC_JPEG } }
    };
    const bmb_config config = { .feeds = feeds, .feed_count = 3 };
    bmb_http_parse p;
    bmb_http_parse_reset(&p);
    size_t first = draw((uint32_t)size), used = bmb_http_parse_feed(&p, data, first);
    if (used == first) used += bmb_http_parse_feed(&p, data + first, size - first);
    bmb_route r = bmb_http_route(&config, &p);
    fprintf(out, "%zu %u %u %u %u %d %d %d %d %u %d %u %u %u %u %u\n", used, p.error, p.method, p.target_size,
            p.header_size, p.host, p.begun, p.complete, p.keep_alive, p.old, p.cookie != 0, r.kind, r.feed, r.status,
            r.width, r.height);
    fprintf(out, "%.*s\n", (int)p.path.size, p.path.text);
}

static void read_rtsp(FILE *out, uint8_t *data, size_t size)
{
    bmb_rtsp_parse p;
    bmb_rtsp_data d;
    bmb_rtsp_parse_reset(&p);
    for (size_t at = 0; at < size && !p.complete;) {
        size_t used = bmb_rtsp_parse_feed(&p, data + at, size - at, 512, &d);
        if (d.data != NULL) fprintf(out, "data %u of %u\n", d.size, d.channel);
        if (used == 0) break;
        at += used;
    }
    fprintf(out, "%u %u %u %u %u %d %d %d %d %d %d %d %d %d %d %d %u\n", p.part, p.method, p.error, p.header_size,
            p.skip, p.complete, p.broken, p.long_line, p.has_cseq, p.has_session, p.has_transport, p.required, p.close,
            p.http, p.track, p.wildcard, p.transport_count);
    fprintf(out, "%s|%s|%s|%s|%s|%s|%d\n", p.cseq, p.feed, p.track_name, p.host, p.session, p.require, p.body);
    for (unsigned i = 0; i < p.transport_count; i++)
        fprintf(out, "%u %d %u %u\n", p.transport[i].kind, p.transport[i].ports, p.transport[i].rtp,
                p.transport[i].rtcp);
    uint8_t text[600];
    bmb_writer w = bmb_writer_of(text, sizeof text);
    bmb_rtsp_status(&w, p.error != 0 ? p.error : 200, &p);
    fwrite(text, 1, bmb_written(&w), out);
}

static void read_framed(FILE *out, uint8_t *data, size_t size)
{
    bmb_framed_request r = { 0 };
    size_t used;
    uint32_t skip;
    bmb_err err = bmb_framed_request_read(data, size, &r, &used, &skip);
    fprintf(out, "%d %zu %u %u %u %u %u %d\n", err, used, skip, r.type, r.number, r.feed, r.control, r.value);
}

static void read_sdp(FILE *out, uint8_t *data, size_t size)
{
    char text[1500];
    bmb_h264_sets sets = { 0 };
    sets.sps_size = data[0] & 31;
    sets.pps_size = data[1] & 15;
    memcpy(sets.sps, data, 32);
    data[size - 1] = '\0';
    bmb_sdp s = { .id = data[2],
                  .version = data[3],
                  .title = (const char *)data + 20,
                  .origin = { .family = data[5] & 1 ? 4 : 6, .ip = { 192, 0, data[6] } },
                  .group = { .family = data[7] & 1   ? 4
                                       : data[7] & 2 ? 6
                                                     : 0,
                             .ip = { data[8], 1, 2 },
                             .port = data[9] },
                  .ttl = data[10],
                  .control = (data[13] & 1) != 0,
                  .media_count = 1 };
    s.media[0] = (bmb_sdp_media){ .kind = "video",
                                  .payload_type = (data[4] & 1) != 0 ? BMB_RTP_TYPE_H264 : BMB_RTP_TYPE_JPEG,
                                  .mfps = data[11] * 100u,
                                  .kbps = data[12],
                                  .describe = (data[4] & 1) != 0 ? bmb_sdp_h264 : bmb_sdp_jpeg,
                                  .codec = &sets };
    bmb_writer w = bmb_writer_of(text, sizeof text);
    bmb_sdp_write(&w, &s);
    fwrite(text, 1, bmb_written(&w), out);
}

static const uint8_t access_unit[] = { 0, 0,    0,    1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 2, 0x80, 0xF6, 0x80, 0, 0,
                                       1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    9, 0xF0, 0,    0,    1, 0x65,
                                       1, 2,    3,    0,    0,    3,    1,    0,    0,    1, 0x41, 5,    6,    0, 0 };
static const uint8_t high_sps[] = { 0x67, 0x64, 0x00, 0x1E, 0xAC, 0xD9, 0x40, 0xA0, 0x3D, 0xA1, 0,    0,
                                    3,    0,    1,    0,    0,    3,    0,    0x3C, 0x0F, 0x16, 0x2D, 0x96 };
static const uint8_t report[] = { 0x82, 200, 0, 18, 0,  0, 0, 9, 1, 1, 1, 1,  2,   2,    2,   2, 3, 3, 3, 3, 4,
                                  4,    4,   4, 5,  5,  5, 5, 9, 9, 9, 9, 64, 255, 255,  250, 0, 1, 2, 3, 0, 0,
                                  0,    90,  7, 7,  7,  7, 8, 8, 8, 8, 9, 9,  9,   8,    32,  0, 0, 5, 0, 1, 2,
                                  4,    0,   0, 0,  91, 7, 7, 7, 6, 8, 8, 8,  5,   0x81, 203, 0, 1, 0, 0, 0, 9 };
static const char http_text[] = "GET http://h:80//y%61rd-640x480.jpg?a=b HTTP/1.1\r\nHost: h\r\nX: "
                                "y\r\nX-SessionCookie: abc\r\nConnection: close\r\n\r\nGET";
static const char rtsp_text[] =
    "$\1\0\4abcdSETUP rtsp://h:8554//Y%41rd/video/?x=1 RTSP/1.0\r\nCSeq: 12\r\nSession: 0123456789ABCDEF ;timeout=3\r\n"
    "Transport: RTP/AVP/TCP;unicast;interleaved= 4-5;mode=\"PLAY\", RTP/AVP;multicast;ttl=3 "
    ",RTP/AVP/UDP;client_port=6000\r\n"
    "Connection: close\r\nContent-Length: 3\r\nRequire: none.such\r\n\r\nabc";
static const uint8_t request[] = { 0x8F, 'b', 'm', 'b', 1, 69, 0, 0x9E, 0,   0,   0,   1,
                                   0,    0,   0,   8,   0, 1,  5, 0,    255, 255, 255, 236 };
static uint8_t full_request[BMB_FRAMED_HEADER + BMB_FRAMED_REQUEST_MAX];

static void read_path(FILE *out, uint8_t *data, size_t size)
{
    bmb_path p;
    bmb_path_reset(&p);
    size_t first = draw((uint32_t)size);
    bmb_path_feed(&p, (const char *)data, first);
    bmb_path_feed(&p, (const char *)data + first, size - first);
    fprintf(out, "%u %u %u %.*s %d\n", p.size, p.part, p.escape, p.size, p.text, bmb_path_is(&p, "/yard.jpg"));
    bmb_path_of(&p, (const char *)data, size);
    fprintf(out, "%u %.*s\n", p.size, p.size, p.text);
}

/* One whose first quantisation table has 16 bits an entry. */
static size_t make_wide(const uint8_t *jpeg, size_t size, uint8_t *out)
{
    memcpy(out, jpeg, 7);
    memcpy(out + 4, "\0\x83\x10", 3);
    for (int i = 0; i < 64; i++) bmb_store_u16(out + 7 + 2 * i, jpeg[7 + i]);
    memcpy(out + 7 + 128, jpeg + 7 + 64, size - 7 - 64);
    return size + 64;
}

/* One whose components use the last of all tables. */
static size_t make_last(const uint8_t *jpeg, size_t size, uint8_t *out)
{
    memcpy(out, jpeg, size);
    for (size_t at = 2; out[at + 1] != 0xDA; at += 2u + (size_t)(out[at + 2] << 8 | out[at + 3])) {
        uint8_t *body = out + at + 4;
        if (out[at + 1] == 0xDB || out[at + 1] == 0xC4) body[0] = (uint8_t)((body[0] & 0xF0) | 3);
        for (int i = 0; i < 3 && out[at + 1] == 0xC0; i++) body[6 + 3 * i + 2] = 3;
    }
    uint8_t *sos = memmem(out, size, "\xFF\xDA\x00\x0C\x03", 5);
    for (int i = 0; i < 3; i++) sos[6 + 2 * i] = 0x33;
    return size;
}

/* An image with restart markers, and a grey one. */
static size_t make_variant(const uint8_t *jpeg, size_t size, bool grey, uint8_t *out)
{
    static const uint8_t restarts[] = { 0xFF, 0xDD, 0, 4, 0, 9 };
    memcpy(out, jpeg, 2);
    memcpy(out + 2, restarts, sizeof restarts);
    memcpy(out + 2 + sizeof restarts, jpeg + 2, size - 2);
    size += sizeof restarts;
    if (!grey) return size;
    uint8_t *sof = out + 8 + 2 * 69, *tables = sof + 19;
    memmove(sof + 13, tables, size - (size_t)(tables - out));
    sof[3] = 11;
    sof[9] = 1;
    size -= 6;
    uint8_t *sos = memmem(out, size, "\xFF\xDA\x00\x0C\x03", 5);
    memmove(sos + 10, sos + 14, size - (size_t)(sos - out) - 14);
    memcpy(sos, "\xFF\xDA\x00\x08\x01\x01\x00\x00\x3F\x00", 10);
    return size - 4;
}

static const char other_rtsp[] = "SETUP rtsp://h/yard RTSP/1.0\r\nCSeq: 3\r\nTransport: "
                                 "RTP/AVP;unicast,RTP/AVP;multicast;client_port=7000-7003,RTP/AVP\r\n"
                                 "Proxy-Require: x\r\nSession: \t0123456789ABCDEF0 \t\r\n\r\n";
static const char long_rtsp[] =
    "DESCRIBE rtsp://h/a-name-of-23-characters/video67890123456789 RTSP/1.0\r\nCSeq: 4\r\n\r\n";
static const char plain_http[] =
    "HEAD /station.sdp#x HTTP/1.0\r\nConnection: keep-alive\r\nhos: a\r\nhost: b\r\nhostx: c\r\n\r\n";
static const char least_http[] = "GET /a-1x1.jpg HTTP/1.0\r\n\r\n";
static const char short_http[] = "GET /a.jpg HTTP/1.0\r\n\r\n";
static const char address[] = "HTTP://h:80//%79aR%64/.%6Apg/x?y#z";

static void sum_documents(FILE *sums)
{
    static uint8_t jpeg[2000], restarts[2000], grey[2000], wide[2000], last[2000], changed[2000];
    const size_t jpeg_size = fake_jpeg(jpeg, 640, 480, 1100);
    bmb_framed_write(full_request, &(bmb_framed_message){ .type = 66, .length = BMB_FRAMED_REQUEST_MAX });
    const document documents[] = {
        { "jpeg", jpeg, jpeg_size, read_jpeg },
        { "restarts", restarts, make_variant(jpeg, jpeg_size, false, restarts), read_jpeg },
        { "grey", grey, make_variant(jpeg, jpeg_size, true, grey), read_jpeg },
        { "wide", wide, make_wide(jpeg, jpeg_size, wide), read_jpeg },
        { "last", last, make_last(jpeg, jpeg_size, last), read_jpeg },
        { "other-rtsp", (const uint8_t *)other_rtsp, sizeof other_rtsp - 1, read_rtsp },
        { "long-rtsp", (const uint8_t *)long_rtsp, sizeof long_rtsp - 1, read_rtsp },
        { "plain-http", (const uint8_t *)plain_http, sizeof plain_http - 1, read_http },
        { "least-http", (const uint8_t *)least_http, sizeof least_http - 1, read_http },
        { "short-http", (const uint8_t *)short_http, sizeof short_http - 1, read_http },
        { "address", (const uint8_t *)address, sizeof address - 1, read_path },
        { "h264", access_unit, sizeof access_unit, read_h264 },
        { "sps", access_unit + 4, 9, read_sps },
        { "high-sps", high_sps, sizeof high_sps, read_sps },
        { "rtcp", report, sizeof report, read_rtcp },
        { "http", (const uint8_t *)http_text, sizeof http_text - 1, read_http },
        { "rtsp", (const uint8_t *)rtsp_text, sizeof rtsp_text - 1, read_rtsp },
        { "framed", request, sizeof request, read_framed },
        { "full-framed", full_request, sizeof full_request, read_framed },
        { "sdp", jpeg + 20, 90, read_sdp },
    };
    for (size_t i = 0; i < sizeof documents / sizeof documents[0]; i++) {
        const document *d = &documents[i];
        char *text = NULL;
        size_t size = 0;
        FILE *out = open_memstream(&text, &size);
        const uint8_t *sos = memmem(d->data, d->size, "\xFF\xDA", 2);
        size_t scan = sos != NULL ? (size_t)(sos - d->data) : 0;
        random_state = 1000 + i;
        for (unsigned n = 0; n < 800; n++) {
            size_t length = draw(6) == 0 ? 1 + draw((uint32_t)d->size) : d->size,
                   from = draw(12) == 0 ? draw((uint32_t)length) : 0;
            if (d->read == read_sdp) length = d->size, from = 0;
            memcpy(changed, d->data, d->size);
            for (unsigned k = draw(4); k > 0; k--) {
                size_t at = draw((uint32_t)d->size);
                if (d->read == read_jpeg && draw(2)) at = draw(2) ? draw(180) : scan + draw(14);
                changed[at] = (uint8_t)(draw(3) == 0   ? draw(256)
                                        : draw(2) == 0 ? changed[at] ^ 1u << draw(8)
                                                       : changed[at] + draw(3) - 1);
            }
            uint8_t *exact = malloc(length - from); /* so that a sanitizer notices a read behind it */
            memcpy(exact, changed + from, length - from);
            d->read(out, exact, length - from);
            free(exact);
        }
        fclose(out);
        fprintf(sums, "%s %08X\n", d->name, sum_of(text, size));
        free(text);
    }
}

static void told(void *ctx, const bmb_event *e)
{
    fprintf((FILE *)ctx, "%d %lld\n", e->code, (long long)e->value);
}

/* Small machines that count and keep time. */
static void run_machines(FILE *out)
{
    bmb_governor g = { 0 };
    bmb_rate rate = { 0 };
    bmb_pace pace = { 0 };
    bmb_log_gate gate = { 0 };
    const bmb_port port = { .ctx = out, .log = told };
    uint64_t now = 1000000, capture = now;
    uint8_t quality = 75;
    /* One draw a statement: compilers differ in which argument they work out first. */
    uint32_t mfps_drawn = 5000 + draw(30000), kbps_drawn = 300 + draw(2000);
    bmb_governor_start(&g, kbps_drawn, mfps_drawn, 20, 90, quality, now);
    bmb_rate_start(&rate, now);
    bmb_log_start(&gate, now);
    for (unsigned i = 0; i < 400; i++) {
        uint32_t mfps, kbps, detail = draw(50) == 0 ? 30000 : 6000 + draw(4000);
        now += draw(20) == 0 ? draw(3000000) : 20000 + draw(60000);
        capture = now - draw(40000);
        bool fits = bmb_governor_take(&g, detail * bmb_quality_size(quality) / 1000 + 1, capture, now, &quality);
        if (draw(3) != 0) bmb_rate_frame(&rate, now, detail);
        bmb_rate_read(&rate, now + draw(700000), &mfps, &kbps);
        fprintf(out, "%d %u %u %u %lld %u %u\n", fits, quality, g.state, g.dropped_for_rate, (long long)g.debt, mfps,
                kbps);
        bmb_pace_begin(&pace, now, 1000000);
        for (uint64_t at = now; draw(4) != 0;) {
            bmb_doing doing = (bmb_doing)draw(BMB_DOING_COUNT);
            at += draw(9000);
            fprintf(out, "%d ", bmb_pace_turn(&pace, at, doing));
        }
        uint64_t next = draw(3) == 0 ? UINT64_MAX : now + draw(60000);
        uint64_t end = now + draw(30000);
        bmb_pace_end(&pace, end, 1000000, next);
        fprintf(out, "%u %d %llu %u %llu\n", pace.most.step_us, pace.most.doing,
                (unsigned long long)pace.most.step_at_us, pace.most.late_us, (unsigned long long)pace.most.late_at_us);
        for (unsigned k = draw(3) == 0 ? draw(30) : draw(2); k > 0; k--)
            bmb_log(&gate, &port, now, &(bmb_event){ .code = (bmb_event_code)draw(BMB_EVENT_REPORT + 1), .value = i });
        bmb_log_tend(&gate, &port, now);
        fprintf(out, "%u %u\n", gate.suppressed, gate.tokens);
        for (int style = 0; style <= BMB_LIGHT_FRAMES; style++)
            for (int state = 0; state <= BMB_LIGHT_WATCHED; state++)
                fputc('0' + bmb_light_lit((bmb_light_style)style, (bmb_light)state, now, i), out);
    }
    for (unsigned q = 0; q < 256; q++) fprintf(out, "%u ", bmb_quality_size((uint8_t)q));
}

static void write_names(FILE *out)
{
#define NAMES(function, type)                                                                                          \
    for (int i = 0; i < 40; i++) fprintf(out, "%s ", function((type)i) != NULL ? function((type)i) : "none")
    NAMES(bmb_control_name, bmb_control);
    NAMES(bmb_codec_name, bmb_codec);
    NAMES(bmb_stream_format_name, bmb_stream_format);
    NAMES(bmb_camera_state_name, bmb_camera_state);
    NAMES(bmb_keeping_name, bmb_keeping);
    NAMES(bmb_transport_name, bmb_transport);
    NAMES(bmb_doing_name, bmb_doing);
    NAMES(bmb_push_state_name, bmb_push_state);
    NAMES(bmb_err_name, bmb_err);
    NAMES(bmb_light_name, bmb_light);
    for (int c = 0; c < 256; c++)
        fprintf(out, "%d%d", bmb_same_nocase(&(char){ (char)c }, 1, "z"), bmb_same_nocase(&(char){ (char)c }, 1, "a"));
    for (unsigned i = 0; i < 300; i++) {
        char text[200], digits[12];
        bmb_writer w = bmb_writer_of(text, draw(4) == 0 ? draw(sizeof text) : sizeof text);
        bmb_addr a = { .family = draw(2) == 0 ? 4 : 6 };
        for (int k = 0; k < 16; k++) a.ip[k] = draw(3) == 0 ? (uint8_t)draw(256) : 0;
        uint32_t value = draw(3) == 0 ? draw(70000) : draw(1u << 31), read = 0;
        bmb_put_ip(&w, &a);
        bmb_put_milli(&w, value);
        bmb_put_dec(&w, (uint64_t)value * draw(1u << 31));
        bmb_put_hex(&w, value, 1 + draw(8));
        bmb_put_base64(&w, a.ip, draw(17));
        bmb_put_http_date(&w, i == 0 ? 951782400000000 : (int64_t)value * 2000000 - 5); /* a day in 400 years */
        fwrite(text, 1, bmb_written(&w), out);
        snprintf(digits, sizeof digits, "%u", value);
        bool ok = bmb_read_dec(digits, strlen(digits), value + draw(3) - 1, &read);
        size_t sum = bmb_add(SIZE_MAX - 5, draw(12)); /* as it is on 32 bits and on 64 */
        fprintf(out, " %d %u %zu %zu %d\n", ok, read, bmb_align(value), SIZE_MAX - sum,
                bmb_mul(value, SIZE_MAX / (value / 2 + 1)) == SIZE_MAX);
    }
}

/* Answers that name feeds, with more of them than there is room for. */
static void write_answers(FILE *out)
{
    static char names[24][24];
    bmb_feed_config feeds[24] = { 0 };
    for (unsigned i = 0; i < 400; i++) {
        uint8_t text[1024];
        const bmb_config config = { .feeds = feeds, .feed_count = 1 + draw(24) };
        bmb_http_terms terms = { .wall_us = draw(2) == 0 ? 0 : 1790000000000000 };
        terms.keep_alive = draw(2) == 0;
        terms.old = draw(2) == 0;
        terms.head_only = draw(8) == 0;
        bmb_rtsp_parse asked = { .cseq = "8", .require = "x" };
        asked.has_cseq = draw(2) == 0;
        asked.close = draw(2) == 0;
        for (size_t k = 0; k < config.feed_count; k++) {
            size_t length = 1 + draw(23);
            memset(names[k], 'a' + (int)k, length);
            names[k][length] = '\0';
            feeds[k].name = names[k];
            feeds[k].mode.codec = (bmb_codec)draw(2);
        }
        memset(asked.host, 'h', draw(40));
        bmb_writer w = bmb_writer_of(text, sizeof text);
        bool rtsp = draw(2) == 0; /* one draw a statement, as above */
        uint64_t removed = draw(3);
        unsigned status = draw(2) == 0 ? 404 : 398 + draw(120);
        bmb_http_error(&w, status, &terms, &config, removed, rtsp);
        fwrite(text, 1, bmb_written(&w), out);
        w = bmb_writer_of(text, draw(600));
        bmb_rtsp_addresses(&w, &asked, &config, draw(3), false);
        fwrite(text, 1, bmb_written(&w), out);
        w = bmb_writer_of(text, sizeof text);
        bmb_rtsp_status(&w, draw(2) == 0 ? 398 + draw(160) : 551, &asked);
        fwrite(text, 1, bmb_written(&w), out);
    }
}

static void sum_one(FILE *sums, const char *name, void (*write)(FILE *out))
{
    char *text = NULL;
    size_t size = 0;
    FILE *out = open_memstream(&text, &size);
    random_state = 77;
    write(out);
    fclose(out);
    fprintf(sums, "%s %08X\n", name, sum_of(text, size));
    free(text);
}

static void sum_scenes(FILE *sums)
{
    static uint8_t program[150000];
    const char *shown = getenv("BAMBINO_SCENE");
    for (unsigned n = 0; n < SCENES + GUARDED; n++) {
        char *text = NULL;
        size_t size = 0;
        FILE *out = open_memstream(&text, &size);
        random_state = n;
        guards = n >= SCENES;

        scene_run(program, draw_scene(program), out);
        fclose(out);
        if (shown != NULL && (unsigned)atoi(shown) == n) fputs(text, stderr); /* cmocka cuts what it prints */
        fprintf(sums, "scene %u %zu %08X\n", n, size, sum_of(text, size));
        free(text);
    }
    guards = false;
}

static void nothing_is_other_than_it_was(void **state)
{
    (void)state;
    static const char path[] = BAMBINO_SOURCE "/tests/scenes.sums";
    const char *mode = getenv("BAMBINO_TRACES");
    char *made = NULL, line[100];
    size_t size = 0;
    FILE *sums = open_memstream(&made, &size);
    sum_documents(sums);
    sum_one(sums, "machines", run_machines);
    sum_one(sums, "names", write_names);
    sum_one(sums, "answers", write_answers);
    sum_scenes(sums);
    fclose(sums);
    FILE *f = fopen(path, mode != NULL ? "w" : "r");
    assert_non_null(f);
    if (mode != NULL) {
        fputs(made, f);
    } else {
        const char *at = made;
        while (fgets(line, sizeof line, f) != NULL) {
            size_t n = strcspn(at, "\n") + 1;
            if (strncmp(line, at, n) != 0)
                fail_msg("it was %.*s and is %.*s", (int)strcspn(line, "\n"), line, (int)n - 1, at);
            at += n;
        }
        assert_int_equal(*at, '\0');
    }
    fclose(f);
    free(made);
}

/* The same with a port that refers to frames until they are acknowledged: it fails when one has changed by then. */
static void what_is_lent_stays_as_it_is(void **state)
{
    (void)state;
    static uint8_t scene[150000];
    for (unsigned i = 0; i < 150; i++) {
        random_state = 7000 + i;
        size_t size = draw_scene(scene);
        scene[1] |= 128;
        for (size_t k = 3; k + 1 < size; k++) /* some of what a peer takes is acknowledged with it */
            if ((scene[k] & 7) == 2 && scene[k + 1] < 8) scene[k + 1] |= (uint8_t)(draw(32) << 3);
        scene_run(scene, size, NULL);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(nothing_is_other_than_it_was),
                                        cmocka_unit_test(what_is_lent_stays_as_it_is) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
