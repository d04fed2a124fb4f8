/* Bytes over TCP: the framed protocol (docs/framed.md), a transport stream, or frames as they are, by what comes. */
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/tls.h"
#include "base/hmac.h"
#include "codec/split.h"
#include "receive/line.h"
#include "receive/session.h"
#include "wire/framed.h"

typedef enum plain_kind { PLAIN_UNKNOWN = 0, PLAIN_FRAMED, PLAIN_TS, PLAIN_RAW } plain_kind;

typedef struct plain {
    receive *r;
    line l;
    plain_kind kind;
    bytes_in in;
    session media;
    splitter split;
    uint64_t at_us;
    unsigned feeds, told; /* framed: rows that are said to come, and that came */
    char names[600];
    bool greeted, asked, challenged, signing;
    uint8_t challenge[32];
    char realm[64];
} plain;

static bool send_request(plain *t, bmb_framed_type type, const uint8_t *body, uint32_t size)
{
    uint8_t out[BMB_FRAMED_HEADER + 160];
    const bmb_framed_message m = { .version = BMB_FRAMED_VERSION, .type = (uint8_t)type, .number = 1, .length = size };
    bmb_framed_write(out, &m);
    if (size > 0) memcpy(out + BMB_FRAMED_HEADER, body, size);
    return line_send(&t->l, out, BMB_FRAMED_HEADER + size);
}

static bool ask_feed(plain *t, uint16_t number)
{
    uint8_t body[2];
    bmb_store_u16(body, number);
    t->asked = true;
    return send_request(t, BMB_FRAMED_ASK_FEED, body, sizeof body);
}

/* Section 5 of docs/framed.md */
static bool sign_in(plain *t)
{
    static const bmb_port port = { .hash = bmb_mbedtls_hash };
    const receive_address *a = &t->r->to;
    uint8_t key[BMB_SHA256_SIZE], body[BMB_SHA256_SIZE + 1 + 64];
    const bmb_slice colon = { ":", 1 }, name = { a->user, strlen(a->user) };
    const bmb_slice who[] = {
        name, colon, { t->realm, strlen(t->realm) }, colon, { a->password, strlen(a->password) }
    };
    const bmb_slice said[] = { { t->challenge, sizeof t->challenge }, name };
    bmb_mbedtls_hash(NULL, BMB_HASH_SHA256, who, 5, key);
    bmb_hmac(&port, key, sizeof key, said, 2, body);
    body[BMB_SHA256_SIZE] = (uint8_t)name.size;
    memcpy(body + BMB_SHA256_SIZE + 1, a->user, name.size);
    t->signing = true;
    t->feeds = UINT_MAX; /* how many there are for him is known when they were told */
    t->told = 0;
    t->names[0] = '\0';
    return send_request(t, BMB_FRAMED_ASK_SIGN_IN, body, (uint32_t)(BMB_SHA256_SIZE + 1 + name.size));
}

static void take_text(bmb_reader *r, char *out, size_t room)
{
    uint8_t size = bmb_get_u8(r);
    const uint8_t *text = bmb_get_bytes(r, size);
    snprintf(out, room, "%.*s", text != NULL ? size : 0, text != NULL ? (const char *)text : "");
}

static bool take_row(plain *t, bmb_reader *r)
{
    char name[64];
    uint16_t number = bmb_get_u16(r);
    uint8_t codec = bmb_get_u8(r), removed = bmb_get_u8(r);
    uint16_t width = bmb_get_u16(r), height = bmb_get_u16(r);
    uint32_t mfps = bmb_get_u32(r);
    take_text(r, name, sizeof name);
    if (r->failed) return false;
    t->told++;
    size_t n = strlen(t->names);
    snprintf(t->names + n, sizeof t->names - n, "%s%s", n > 0 ? ", " : "", name);
    if (t->asked || removed != 0 || (t->r->to.path[0] != '\0' && strcmp(t->r->to.path, name) != 0)) return true;
    pthread_mutex_lock(&t->r->lock);
    t->r->m.mfps = mfps;
    pthread_mutex_unlock(&t->r->lock);
    receive_tell(t->r, RECEIVE_DESCRIBED, "%s: %s %ux%u at %g/s", name, codec == 0 ? "JPEG" : "H.264", width, height,
                 mfps / 1000.0);
    return ask_feed(t, number);
}

static void take_frame(plain *t, const bmb_framed_message *m, const uint8_t *body)
{
    bmb_reader r = bmb_reader_of(body, m->length);
    (void)bmb_get_u16(&r);
    uint8_t codec = bmb_get_u8(&r), track = bmb_get_u8(&r);
    uint64_t uptime = (uint64_t)bmb_get_u32(&r) << 32;
    uptime |= bmb_get_u32(&r);
    uint64_t wall = (uint64_t)bmb_get_u32(&r) << 32;
    wall |= bmb_get_u32(&r);
    if (r.failed || track != 0 || codec > 1) return;
    const receive_came came = { .codec = codec == 0 ? BMB_CODEC_JPEG : BMB_CODEC_H264,
                                .data = r.at,
                                .size = bmb_left(&r),
                                .has_number = true,
                                .number = m->number,
                                .has_media = true,
                                .media_us = (int64_t)uptime,
                                .capture_us = (int64_t)wall,
                                .clock = MEASURE_STATED,
                                .at_us = t->at_us };
    t->asked = true;
    receive_picture(t->r, &came);
}

/* false: it is over. */
static bool take_message(plain *t, const bmb_framed_message *m, const uint8_t *body)
{
    bmb_reader r = bmb_reader_of(body, m->length);
    switch (m->type) {
    case BMB_FRAMED_HELLO:
        (void)bmb_get_u16(&r);
        t->feeds = bmb_get_u16(&r);
        t->greeted = true;
        break;
    case BMB_FRAMED_FEED:
        if (!take_row(t, &r)) return false;
        break;
    case BMB_FRAMED_CHALLENGE: {
        const uint8_t *challenge = bmb_get_bytes(&r, sizeof t->challenge);
        if (challenge != NULL) memcpy(t->challenge, challenge, sizeof t->challenge);
        take_text(&r, t->realm, sizeof t->realm);
        if (challenge != NULL && t->r->to.user[0] != '\0' && !t->signing) return sign_in(t);
        t->challenged = true;
        break;
    }
    case BMB_FRAMED_ANSWER: {
        uint8_t asked = bmb_get_u8(&r), reason = bmb_get_u8(&r);
        if (asked == BMB_FRAMED_ASK_SIGN_IN && reason != 0) {
            receive_tell(t->r, RECEIVE_FAILED, "name or password are wrong for \"%s\"", t->realm);
            return false;
        }
        if (asked == BMB_FRAMED_ASK_SIGN_IN) {
            receive_tell(t->r, RECEIVE_SIGNED_IN, "as %s", t->r->to.user);
            return send_request(t, BMB_FRAMED_ASK_ALIVE, NULL, 0); /* which is answered behind the list */
        }
        if (asked == BMB_FRAMED_ASK_ALIVE && t->signing && t->feeds == UINT_MAX) t->feeds = t->told;
        if (asked == BMB_FRAMED_ASK_FEED && reason == 7)
            receive_tell(t->r, RECEIVE_FAILED, "as many watch as may: raise the limit of viewers there, or end one");
        if (asked == BMB_FRAMED_ASK_FEED && reason != 0) return false;
        break;
    }
    case BMB_FRAMED_FRAME:
        take_frame(t, m, body);
        break;
    case BMB_FRAMED_BYE:
        receive_tell(t->r, RECEIVE_ENDED, "the device says goodbye");
        return false;
    default:
        break;
    }
    return true;
}

static bool take_framed(plain *t)
{
    for (;;) {
        bmb_framed_message m;
        bmb_err err = t->in.size == 0 ? BMB_AGAIN : bmb_framed_read(t->in.data, t->in.size, &m);
        if (err == BMB_AGAIN) break;
        if (err != BMB_OK || m.length > BYTES_IN_MOST - BMB_FRAMED_HEADER) {
            receive_tell(t->r, RECEIVE_FAILED, "the framed protocol is broken off in its middle");
            return false;
        }
        if (t->in.size < BMB_FRAMED_HEADER + m.length) break;
        bool more = take_message(t, &m, t->in.data + BMB_FRAMED_HEADER);
        bytes_in_drop(&t->in, BMB_FRAMED_HEADER + m.length);
        if (!more) return false;
    }
    bool waits = t->r->to.user[0] != '\0' && t->r->step_us[RECEIVE_SIGNED_IN] == 0 && t->challenged;
    if (t->asked || waits || t->told < t->feeds || !t->greeted) return true;
    if (t->told == 0 && !t->challenged) return true; /* it may still be said who may see more */
    receive_tell(t->r, RECEIVE_FAILED, "there is no feed \"%s\"%s", t->r->to.path,
                 t->challenged ? " for whoever has not signed in" : "");
    if (t->told > 0) receive_tell(t->r, RECEIVE_HINT, "there is: %s", t->names);
    if (t->challenged)
        receive_tell(t->r, RECEIVE_HINT,
                     "give a name in the address (tcp://NAME@HOST…), and a password with --password-file");
    return false;
}

static bool take_raw(plain *t)
{
    const uint8_t *data;
    size_t size;
    if (!splitter_add(&t->split, t->in.data, t->in.size)) {
        receive_tell(t->r, RECEIVE_FAILED,
                     "what comes is no picture: neither JPEG, H.264, a transport stream nor framed");
        return false;
    }
    t->in.size = 0;
    while (splitter_next(&t->split, false, &data, &size)) {
        const receive_came came = { .codec = t->split.kind == SPLIT_JPEG ? BMB_CODEC_JPEG : BMB_CODEC_H264,
                                    .data = data,
                                    .size = size,
                                    .at_us = t->at_us };
        receive_picture(t->r, &came);
    }
    return true;
}

static bool take(plain *t)
{
    static const uint8_t framed[] = { 0x8F, 0x62, 0x6D, 0x62 };
    if (t->kind == PLAIN_UNKNOWN) {
        if (t->in.size < sizeof framed) return true;
        bool is_framed = memcmp(t->in.data, framed, sizeof framed) == 0;
        t->kind = is_framed ? PLAIN_FRAMED : t->in.data[0] == 0x47 ? PLAIN_TS : PLAIN_RAW;
        receive_set_way(t->r, is_framed ? "framed over TCP" : t->kind == PLAIN_TS ? "TS over TCP" : "raw over TCP");
        if (!is_framed)
            receive_tell(t->r, RECEIVE_DESCRIBED, "%s",
                         t->kind == PLAIN_TS ? "a transport stream" : "frames as they are");
    }
    if (t->kind == PLAIN_FRAMED) return take_framed(t);
    receive_first_bytes(t->r);
    if (t->kind == PLAIN_RAW) return take_raw(t);
    session_stream(&t->media, t->in.data, t->in.size, t->at_us);
    t->in.size = 0;
    return true;
}

static void watch(plain *t)
{
    uint8_t data[65536];
    uint64_t heard = line_now_us(), alive = heard + 2000000u;
    bool told = false;
    while (receive_goes_on(t->r)) {
        int n = line_recv(&t->l, data, sizeof data, 100);
        t->at_us = line_now_us();
        if (n > 0) heard = t->at_us;
        if (n > 0 && (!bytes_in_add(&t->in, data, (size_t)n) || !take(t))) return;
        if (n == 0 || n == -1) {
            receive_tell(t->r, t->r->m.all.pictures > 0 ? RECEIVE_ENDED : RECEIVE_FAILED,
                         "the other side closed the connection");
            return;
        }
        if (t->kind == PLAIN_FRAMED && t->at_us > alive) {
            (void)send_request(t, BMB_FRAMED_ASK_ALIVE, NULL, 0);
            alive = t->at_us + 2000000u;
        }
        if (told || t->at_us - heard < 4000000u) continue;
        told = true;
        receive_tell(
            t->r, RECEIVE_NOTE, "%s",
            t->kind == PLAIN_UNKNOWN
                ? "connected, but nothing comes: what listens there may wait to be spoken to, as RTSP and HTTP do"
                : "nothing has come for 4 s: is its camera there?");
    }
}

void receive_plain(receive *r)
{
    plain *t = calloc(1, sizeof *t);
    const sdp_media ts = { .codec = "MP2T", .clock = 90000 };
    if (t == NULL) return;
    t->r = r;
    (void)session_begin(&t->media, r, &ts);
    splitter_begin(&t->split, SPLIT_UNKNOWN, 0);
    if (receive_connect(r, &t->l, r->to.scheme == RECEIVE_TLS)) watch(t);
    line_close(&t->l);
    session_free(&t->media);
    splitter_free(&t->split);
    bytes_in_free(&t->in);
    free(t);
}
