#include "support/scene.h"

#include <limits.h>
#include <stdlib.h>
#include <assert.h>
#include <string.h>

#include "device/parts.h"
#include "talk/session.h"
#include "support/fake_port.h"

#define PEERS 4u
#define STEPS_MOST 200u /* operations of a program */
#define FRAME_MOST 6000u

typedef struct input {
    const uint8_t *at, *end;
} input;

typedef struct peer {
    bmb_sock sock;
    uint16_t port; /* 0: it never connected */
} peer;

static fake_device t;
static peer peers[PEERS];
static bmb_push_config pushes[3];
static bmb_setting setting = { BMB_CONTROL_BRIGHTNESS, 10 };
static uint8_t frames[8][FRAME_MOST + 2000];
static unsigned next_frame;
static _Alignas(16) uint8_t memory[1u << 20];

static unsigned byte(input *in)
{
    return in->at < in->end ? *in->at++ : 0;
}

static size_t make_unit(uint8_t *out, uint8_t header, size_t size)
{
    memcpy(out, "\0\0\0\1", 4);
    memset(out + 4, 0x55, size);
    out[4] = header;
    return 4 + size;
}

/* kind 0: decodable alone; 1: not (H.264); 2: cut off; 3: a key frame without its sets (H.264) */
static void push_frame(size_t camera, unsigned kind, size_t size)
{
    static const uint8_t sps[] = { 0, 0, 0, 1, 0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80 };
    fake_camera *c = &t.f->cameras[camera];
    uint8_t *data = frames[next_frame++ % 8];
    size_t n = 0;
    if (c->queued == 16) return;
    if (size > FRAME_MOST) size = FRAME_MOST;
    if (c->info.modes[0].codec == BMB_CODEC_JPEG) {
        n = fake_jpeg(data, c->mode.width != 0 ? c->mode.width : 640, c->mode.height != 0 ? c->mode.height : 480, size);
    } else {
        if (kind == 0) {
            memcpy(data, sps, n = sizeof sps);
            n += make_unit(data + n, 0x68, 4);
        }
        if (kind != 2 || size % 3 != 0) n += make_unit(data + n, kind == 1 ? 0x41 : 0x65, size + 2);
        if (kind == 2) data[size % 4] = (uint8_t)size; /* no start code, or parameter sets alone */
        if (n == 0) n = make_unit(data, 0x68, 4);
    }
    fake_frame(t.f, camera, data, kind == 2 ? n / 2 : n, kind != 1);
}

/* Every word of everybody is right, so that drawn ones get behind the door, too. */
static void no_hash(void *ctx, bmb_hash which, const bmb_slice *slices, size_t count, uint8_t *out)
{
    (void)ctx;
    (void)slices;
    (void)count;
    memset(out, 0, which == BMB_HASH_MD5 ? BMB_MD5_SIZE : BMB_SHA256_SIZE);
}

static const bmb_account accounts[] = {
    { .name = "a", .role = BMB_ROLE_ADMINISTER, .feeds = UINT64_MAX },
    { .name = "w", .role = BMB_ROLE_WATCH, .feeds = 1 },
    { .name = "p", .role = BMB_ROLE_ADJUST, .feeds = UINT64_MAX, .program = true },
};
static bmb_access closed;

static void guard(unsigned more)
{
    static const char *const names[] = { "a" }, *const origins[] = { "http://o" };
    static const uint8_t key[BMB_LINK_KEY_SIZE];
    closed = (bmb_access){ .realm = "r",
                           .accounts = accounts,
                           .account_count = more & 2 ? 3 : 0,
                           .anybody = more & 4 ? BMB_ROLE_NONE : BMB_ROLE_WATCH,
                           .link_key = more & 8 ? key : NULL };
    t.f->port.hash = no_hash;
    t.config.access = &closed;
    t.config.names = names;
    t.config.origins = origins;
    t.config.name_count = t.config.origin_count = 1;
    t.config.embed = (more & 16) != 0;
    t.feeds[1].open = (more & 32) != 0;
}

/* A service of the program's own: it answers with what was asked. */
static unsigned answers_out;

static bool find(void *ctx, bmb_method method, const char *path, size_t size, bmb_role *needs)
{
    (void)ctx;
    *needs = method == BMB_METHOD_GET ? BMB_ROLE_NONE : BMB_ROLE_ADJUST;
    return size >= 2 && path[1] == 'q';
}

static void ask(void *ctx, const bmb_request *r, bmb_answer *a)
{
    static uint8_t body[64];
    (void)ctx;
    assert(r->body_size <= sizeof body);
    if (r->body_size > 0) memcpy(body, r->body, r->body_size);
    a->body = body;
    a->size = r->body_size;
    a->status = r->method == BMB_METHOD_DELETE ? 204 : r->if_none_match_size > 0 ? 304 : 200;
    a->etag = r->method == BMB_METHOD_GET ? "\"q\"" : NULL;
    answers_out++;
}

static void done(void *ctx, void *token)
{
    (void)ctx, (void)token;
    assert(answers_out > 0);
    answers_out--;
}

static const bmb_service service = { .find = find, .ask = ask, .done = done, .body_most = 64 };

static void set_up(input *in)
{
    unsigned what = byte(in), more = byte(in), outlets = byte(in);
    bmb_codec codec = what & 1 ? BMB_CODEC_H264 : BMB_CODEC_JPEG;
    if (t.f == NULL) {
        fake_device_prepare(&t, codec);
    } else {
        fake_port *f = t.f;
        fake_reset(f);
        f->camera_count = 0;
        fake_device_again(&t, f, codec);
    }
    fake_camera_add(t.f, "station", codec);
    t.f->cameras[0].info.buffers = (uint8_t)(3 + (outlets >> 6));
    t.feeds[0].frame_max = 4000;
    t.feeds[0].reel_bytes = more & 64 ? 12000 : 17000;
    t.feeds[0].storage = what & 2 && (more & 128) == 0 ? BMB_BORROWED : BMB_KEPT; /* the frames here are used again */
    t.feeds[0].kbps = what & 4 ? 200 : 0;
    t.feeds[0].keep_controls = (what & 8) != 0;
    t.feeds[0].settings = &setting;
    t.feeds[0].setting_count = 1;
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = t.feeds[1].camera = "station";
    if (what & 16)
        t.feeds[0].multicast =
            (bmb_multicast){ { .family = 4, .ip = { 239, 1, 2, 3 }, .port = 5004 }, .ttl = 1, .always = more & 1 };
    t.config.feed_count = what & 32 ? 2 : 1;
    t.config.viewers = 2 + (more >> 1 & 1);
    t.config.spare = 2;
    t.config.events = 6;
    t.config.request_buffer = (uint16_t)((more & 4 ? 3072 : 1536) + (outlets >> 6) * 13);
    t.config.stall_ms = 1000;
    t.config.request_ms = 2000;
    t.config.idle_ms = 3000;
    t.config.session_ms = more & 32 ? 30000 : 5000;
    t.config.rtp_packet = more & 8 ? 1400 : 300;
    for (unsigned i = 0; i < 3; i++) {
        unsigned kind = outlets >> 2 * i & 3;
        t.outlets[i] = (bmb_outlet_config){ .kind = (bmb_outlet_kind)(kind < 3 ? kind : BMB_OUTLET_TCP),
                                            .listen = { .family = 4, .port = (uint16_t)(8080 + i) },
                                            .format = kind == 3                 ? BMB_FORMAT_FRAMED
                                                      : codec == BMB_CODEC_H264 ? BMB_FORMAT_TS
                                                                                : BMB_FORMAT_RAW,
                                            .feed = kind == 3 ? BMB_NO_FEED : 0,
                                            .keep_all = (more & 16) != 0,
                                            .controls = true };
    }
    t.config.outlet_count = 3;
    pushes[0] =
        (bmb_push_config){ .format = BMB_FORMAT_RTP, .to = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 5000 } };
    pushes[1] =
        (bmb_push_config){ .format = BMB_FORMAT_TS, .to = { .family = 4, .ip = { 192, 0, 2, 8 }, .port = 5002 } };
    pushes[2] = (bmb_push_config){ .tcp = true,
                                   .format = BMB_FORMAT_FRAMED,
                                   .controls = true,
                                   .to = { .family = 4, .ip = { 192, 0, 2, 9 }, .port = 5004 } };
    if (codec == BMB_CODEC_JPEG) pushes[1] = pushes[0];
    t.config.pushes = pushes;
    t.config.push_count = what & 64 ? 3 : 0;
    static const bmb_asset page = { .path = "/", .type = "text/html", .data = frames, .size = 3000 };
    t.config.assets = &page;
    t.config.asset_count = 1;
    memset(peers, 0, sizeof peers);
    if (outlets >> 6 == 3) {
        t.config.reserve = (bmb_reserve){ .changes = true, .feeds = 1, .outlets = 1, .pushes = 1, .bytes = 30000 };
        t.config.service = &service;
        t.feeds[0].daylight =
            (bmb_daylight_config){ .dark = codec == BMB_CODEC_JPEG ? 90 : 0, .bright = 200, .seconds = 1 };
    }
    if (outlets >> 6 == 2) { /* weak links */
        t.feeds[0].step = what & 32 ? "station" : NULL;
        t.feeds[0].follow = BMB_FOLLOW_SLOWEST;
        t.feeds[0].multicast.parity = 3;
        t.config.uplink_kbps = more & 1 ? 400 : 0;
        t.config.repeats = true;
    }
    if (more & 128) fake_lends(t.f);
    if (what & 128) guard(more);
}

static bool open_device(void)
{
    bmb_budget budget;
    if (bmb_budget_of(&t.config, &budget, NULL) != BMB_OK || budget.total > sizeof memory) return false;
    memset(memory, 0xA5, budget.total); /* whoever reads behind what is his finds nonsense */
    return bmb_open(&t.config, memory, budget.total, &t.device, NULL) == BMB_OK;
}

static bool is_there(const peer *p)
{
    const fake_sock *s = &t.f->socks[p->sock]; /* which may be somebody else's by now */
    return p->port != 0 && s->open && s->peer.port == p->port && !s->udp;
}

/* The cookie of a sign-in at the page. */
static size_t put_cookie(char *out, size_t room, unsigned number)
{
    bmb_writer w = bmb_writer_of(out, room);
    bmb_put_hex(&w, number, 4);
    bmb_put_hex_bytes(&w, t.device->talk.guard.kept->sign_ins[number].secret, 16);
    return bmb_written(&w);
}

/* A length, and so many bytes; 1 and a digit stands for that session's identifier, 2 and one for that sign-in. */
static void say(input *in, const peer *p)
{
    size_t n = byte(in);
    n = n < 240 ? n : (n - 240) * 256 + byte(in);
    if (n > (size_t)(in->end - in->at)) n = (size_t)(in->end - in->at);
    if (is_there(p) && t.f->socks[p->sock].in_size + 37 * n + 37 < FAKE_IN) {
        for (size_t i = 0; i < n; i++) {
            char id[BMB_COOKIE_SIZE + 1];
            unsigned number = i + 1 < n ? (unsigned)in->at[i + 1] - '0' : UINT_MAX;
            if (in->at[i] == 2 && number < 10 && t.device->talk.guard.kept != NULL) {
                fake_say(t.f, p->sock, id, put_cookie(id, sizeof id, number));
                i++;
                continue;
            }
            if (in->at[i] != 1 || number >= t.device->talk.session_most) {
                fake_say(t.f, p->sock, in->at + i, 1);
                continue;
            }
            bmb_writer w = bmb_writer_of(id, sizeof id);
            bmb_put_hex(&w, t.device->talk.sessions[in->at[++i] - '0'].id, 16);
            fake_say(t.f, p->sock, id, 16);
        }
    }
    in->at += n;
}

/* A datagram to the sockets of all sessions, from the first peer's host, with what follows as its payload; or an answer
 * that nobody listens. */
static void datagram(input *in, unsigned kind)
{
    const bmb_udp_pair *pair = &t.device->talk.udp[kind >> 4 & 1];
    bmb_addr from = { .family = kind & 16 ? 6 : 4, .ip = { 192, 0, 2, 99 }, .port = (uint16_t)(6000 + (kind & 1)) };
    size_t n = byte(in);
    if (n > (size_t)(in->end - in->at)) n = (size_t)(in->end - in->at);
    if ((kind & 2) != 0) {
        if (t.f->unreachable_count < 4) t.f->unreachable[t.f->unreachable_count++] = from;
    } else if (pair->port != 0) {
        uint8_t data[256];
        memcpy(data, in->at, n);
        if (n >= 12 && (kind & 4) != 0) bmb_store_u32(data + 8, t.device->talk.sessions[0].viewer.state.ssrc);
        if (n >= 14 && data[1] == 205) /* a packet that it may have missed */
            bmb_store_u16(data + 12, (uint16_t)(t.device->talk.sessions[0].viewer.state.next_seq - data[13]));
        fake_datagram_in(t.f, (uint16_t)(pair->port + (kind >> 3 & 1)), &from, data, n);
    }
    in->at += n;
}

static void fail(unsigned what)
{
    static const bmb_err errors[] = { BMB_OK,      BMB_AGAIN,    BMB_GONE,    BMB_LIMIT,
                                      BMB_REFUSED, BMB_NO_ROUTE, BMB_NO_ROOM, BMB_FAILED };
    bmb_err err = errors[what >> 3 & 7];
    fake_camera *c = &t.f->cameras[0];
    int32_t effective;
    switch (what & 7) {
    case 0:
        c->start_err = err == BMB_AGAIN ? BMB_FAILED : err;
        break;
    case 1:
        c->take_err = err;
        break;
    case 2:
        t.f->dial_err = err;
        break;
    case 3:
        t.f->store_err = err;
        break;
    case 4:
        t.f->accept_err = t.f->udp_open_err = err == BMB_AGAIN ? BMB_FAILED : err; /* AGAIN: nobody is there */
        break;
    case 5:
        for (int i = 0; i < FAKE_SOCKS; i++)
            if (t.f->socks[i].udp) t.f->socks[i].udp_err = err;
        break;
    case 6:
        c->effective =
            (bmb_mode){ (bmb_codec)(what >> 3 & 1), (uint16_t)(what & 16 ? 0 : 320), 240, what & 32 ? 0 : 10000 };
        break;
    default:
        (void)bmb_control_set(t.device, what >> 3 & 1, (bmb_control)(what >> 4), (int32_t)what, &effective);
        break;
    }
}

static void tell_viewers(void)
{
    bmb_viewer_stats v;
    for (size_t i = 0; t.f->trace != NULL && bmb_viewer_stats_get(t.device, i, &v) == BMB_OK; i++)
        fake_tell(t.f, "%u %d %u: %llu %llu %llu %u %u %u %u %u %d %d %u %u %u %u", v.feed, v.transport, v.peer.port,
                  (unsigned long long)v.sent, (unsigned long long)v.skipped, (unsigned long long)v.bytes, v.mfps,
                  v.kbps, v.age_ms, v.watching_ms, v.blocked_ms, v.waiting, v.reports, v.lost, v.lost_256, v.jitter_us,
                  v.round_trip_us);
}

/* In few steps: one at each end, and as many between as time limits are looked at. */
static void pass(uint64_t us)
{
    for (uint64_t end = t.f->now + us; t.f->now < end;) {
        t.f->now += end - t.f->now < 250000 ? end - t.f->now : 250000;
        fake_settle(t.f, t.device);
    }
}

/* What changes while the device runs. */
static void change(unsigned which)
{
    bmb_feed_config to = t.feeds[0];
    const bmb_outlet_config tcp = { .kind = BMB_OUTLET_TCP, .listen = { .family = 4, .port = 8700 } };
    const bmb_push_config push = { .tcp = true, .to = { .family = 4, .ip = { 192, 0, 2, 9 }, .port = 5004 } };
    static size_t feed, outlet, pushed;
    switch (which) {
    case 0:
        to.mode.width = 320;
        to.mode.height = 240;
        to.frame_max = 3000;
        (void)bmb_feed_change(t.device, 0, &to, NULL);
        break;
    case 1:
        to.mode.codec = to.mode.codec == BMB_CODEC_JPEG ? BMB_CODEC_H264 : BMB_CODEC_JPEG;
        to.daylight.dark = 0;
        (void)bmb_feed_change(t.device, 0, &to, NULL);
        break;
    case 2:
        to.frame_max = 5000;
        to.reel_bytes = 30000;
        (void)bmb_feed_change(t.device, 0, &to, NULL);
        break;
    case 3:
        if (bmb_feed_pause(t.device, 0, true) == BMB_OK) fake_settle(t.f, t.device);
        (void)bmb_feed_pause(t.device, 0, false);
        break;
    case 4:
        to.name = "attic";
        to.camera = "station";
        to.multicast.group.family = 0;
        if (bmb_feed_add(t.device, &to, &feed, NULL) != BMB_OK && feed != 0) (void)bmb_feed_remove(t.device, feed);
        break;
    case 5:
        if (bmb_outlet_add(t.device, &tcp, &outlet, NULL) != BMB_OK) (void)bmb_outlet_remove(t.device, 3);
        break;
    default:
        if (bmb_push_add(t.device, &push, &pushed, NULL) != BMB_OK)
            (void)bmb_push_remove(t.device, t.config.push_count);
        break;
    }
}

static void run_one(input *in)
{
    static const uint32_t times_ms[] = { 1, 15, 66, 250, 1100, 2200, 5500, 11000 };
    static const size_t rooms[] = { 0, 1, 40, 300, 1500, 5000, 40000, FAKE_OUT / 2 };
    unsigned op = byte(in), param = op >> 3;
    peer *p = &peers[param & 3];
    switch (op & 7) {
    case 0:
        say(in, p);
        break;
    case 1:
        push_frame(param & 1 && t.config.feed_count > 1 ? 1 : 0, param >> 1 & 3, byte(in) * 20u);
        break;
    case 2: {
        unsigned room = byte(in);
        if (!is_there(p)) break;
        t.f->socks[p->sock].room = rooms[room & 7];
        if (t.config.repeats) t.f->socks[p->sock].path = (bmb_net_path){ .waiting = room * 60, .kbps = room * 4 };
        fake_acknowledge(t.f, p->sock, (room >> 3) * 1000u);
        break;
    }
    case 3:
        for (unsigned i = 0; param & 8 && i < PEERS; i++)
            if (is_there(&peers[i])) fake_acknowledge(t.f, peers[i].sock, SIZE_MAX);
        pass(times_ms[param & 7] * 1000u);
        tell_viewers();
        break;
    case 4:
        if (is_there(p)) break;
        p->sock = fake_connect(t.f, (param >> 2 & 3) % 3);
        p->port = t.f->socks[p->sock].peer.port;
        t.f->socks[p->sock].peer.ip[3] = (uint8_t)(99 - (param >> 4 & 1));
        if (p >= &peers[2]) t.f->socks[p->sock].peer.family = t.f->socks[p->sock].addr.family = 6;
        break;
    case 5:
        if (!is_there(p)) break;
        if (param & 4) t.f->socks[p->sock].broken = true;
        fake_hang_up(t.f, p->sock);
        break;
    case 6:
        datagram(in, param);
        break;
    default:
        if (param == 31) {
            (void)bmb_feed_remove(t.device, 0);
        } else if (param >= 24) {
            change(param - 24);
        } else {
            fail(byte(in));
        }
        break;
    }
    fake_settle(t.f, t.device);
    fake_tell_sent(t.f);
    t.f->datagram_count = 0;
    for (unsigned i = 0; i < PEERS; i++)
        if (is_there(&peers[i])) fake_take(t.f, peers[i].sock, NULL);
}

/* Nothing of anybody may stay. */
static void end(void)
{
    bmb_device_stats stats;
    for (unsigned i = 0; i < PEERS; i++)
        if (is_there(&peers[i])) fake_hang_up(t.f, peers[i].sock);
    t.f->dial_err = BMB_REFUSED;
    t.f->accept_err = BMB_OK;
    for (int i = 0; i < 70; i++) { /* no step is needed in between: nothing but time limits is left */
        t.f->now += 500000;
        fake_settle(t.f, t.device);
    }
    for (size_t i = 0; i < t.config.feed_count && t.f->trace != NULL; i++) {
        bmb_feed_stats f;
        (void)bmb_feed_stats_get(t.device, i, &f);
        fake_tell(t.f,
                  "frames %llu sent %llu skipped %llu dropped %llu bad %llu large %llu bytes %llu stalled %u shed %u",
                  (unsigned long long)f.frames, (unsigned long long)f.sent, (unsigned long long)f.skipped,
                  (unsigned long long)f.dropped, (unsigned long long)f.bad, (unsigned long long)f.too_large,
                  (unsigned long long)f.bytes_sent, f.stalled, f.shed);
    }
    bmb_device_stats_get(t.device, &stats);
    for (size_t i = 0; i < t.device->pushes.count; i++) {
        const bmb_push *push = &t.device->pushes.pushes[i];
        if (push->config != NULL && push->state == BMB_PUSH_SENDING && push->config->tcp) stats.connections--;
    }
    if (stats.connections != 0 || stats.sessions != 0 || stats.viewers != 0) {
        fprintf(stderr, "left: %u connections, %u sessions, %u viewers\n", stats.connections, stats.sessions,
                stats.viewers);
        abort();
    }
    bmb_close(t.device);
    if (t.f->cameras[0].out != 0 || t.f->cameras[1].out != 0) {
        fprintf(stderr, "left: %d and %d frames\n", (int)t.f->cameras[0].out, (int)t.f->cameras[1].out);
        abort();
    }
    for (int i = 0; i < FAKE_SOCKS; i++)
        if (t.f->socks[i].open && t.f->socks[i].listener == BMB_NO_SOCK) abort();
}

void scene_run(const uint8_t *data, size_t size, FILE *trace)
{
    input in = { data, data + size };
    set_up(&in);
    t.f->trace = trace;
    if (!open_device()) return;
    for (unsigned i = 0; i < STEPS_MOST && in.at < in.end; i++) run_one(&in);
    end();
    fake_tell_sent(t.f);
}
