/* What sending costs on the board: instructions of the core for each byte, by format. The network takes everything at
 * once and does nothing with it, so checksums and lwIP are not in it. Run with -icount shift=0, where the emulator's
 * clock is the count of instructions: one is a nanosecond.
 */
#include <stdio.h>
#include <string.h>

#include "bambino/settings.h"
#include "mps2/board.h"

#define FRAME (12u * 1024)
#define FRAMES 50u
#define SYST_CVR mps2_at(0xE000E018u)

typedef struct way {
    const char *name;
    bmb_codec codec;
    bmb_outlet_config outlet;
    bool push;
    bmb_push_config to;
    const char *requests[3]; /* each one after the answer to the one before; %s: the session */
} way;

static uint8_t jpeg[FRAME], h264[FRAME];
static const uint8_t *frame;
static uint64_t memory[48 * 1024 / 8];
static uint32_t watched[8], tokens[8];
static bmb_sock accepted; /* 0: nobody waits */
static char said[600], heard[400];
static size_t said_at, heard_size;
static uint64_t now, sent;
static unsigned waiting; /* frames */

/* The port: sockets 1 (an outlet), 2 (a connection), 3 and 4 (datagrams). */
static uint64_t now_us(void *ctx)
{
    (void)ctx;
    return now;
}

static void random_bytes(void *ctx, void *out, size_t size)
{
    (void)ctx;
    memset(out, 5, size);
}

static bmb_err listen_at(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    (void)ctx;
    *out = 1;
    *bound = *addr;
    return BMB_OK;
}

static bmb_err accept_one(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    (void)ctx;
    (void)listener;
    if (accepted == 0) return BMB_AGAIN;
    *out = accepted;
    accepted = 0;
    *peer = (bmb_addr){ .family = 4, .ip = { 192, 0, 2, 9 }, .port = 5000 };
    return BMB_OK;
}

static bmb_err local(void *ctx, bmb_sock sock, bmb_addr *out)
{
    (void)ctx;
    (void)sock;
    *out = (bmb_addr){ .family = 4, .ip = { 192, 0, 2, 1 }, .port = 80 };
    return BMB_OK;
}

static bmb_err send_slices(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    (void)ctx;
    (void)sock;
    *taken = 0;
    for (size_t i = 0; i < count; i++) *taken += slices[i].size;
    heard_size = slices[0].size < sizeof heard - 1 ? slices[0].size : sizeof heard - 1;
    if (sent == 0) memcpy(heard, slices[0].data, heard_size); /* an answer, before anything is counted */
    sent += *taken;
    return BMB_OK;
}

static bmb_err send_lent(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, const bmb_slice *lent,
                         size_t *taken)
{
    (void)lent;
    return send_slices(ctx, sock, slices, count, taken);
}

static uint32_t unacked(void *ctx, bmb_sock sock)
{
    (void)ctx;
    (void)sock;
    return 0;
}

static bmb_err receive(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got)
{
    (void)ctx;
    (void)sock;
    size_t left = strlen(said) - said_at;
    *got = left < room ? left : room;
    memcpy(out, said + said_at, *got);
    said_at += *got;
    return *got > 0 ? BMB_OK : BMB_AGAIN;
}

static bmb_err udp_open(void *ctx, const bmb_addr *addr, const bmb_udp_options *options, bmb_sock *out, bmb_addr *bound)
{
    static bmb_sock next = 3;
    (void)ctx;
    (void)options;
    *out = next;
    next = next == 3 ? 4 : 3;
    *bound = *addr;
    bound->port = (uint16_t)(addr->port != 0 ? addr->port : 5000 + *out);
    return BMB_OK;
}

static bmb_err udp_send(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                        size_t *taken)
{
    (void)ctx;
    (void)sock;
    (void)to;
    for (size_t i = 0; i < count; i++) sent += packets[i].size;
    *taken = count;
    return BMB_OK;
}

static bmb_err udp_receive(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got, bmb_addr *from)
{
    (void)ctx;
    (void)sock;
    (void)out;
    (void)room;
    (void)got;
    (void)from;
    return BMB_AGAIN;
}

static void close_sock(void *ctx, bmb_sock sock)
{
    (void)ctx;
    watched[sock] = 0;
}

static bmb_err watch(void *ctx, bmb_sock sock, uint32_t events, uint32_t token)
{
    (void)ctx;
    watched[sock] = events;
    tokens[sock] = token;
    return BMB_OK;
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    size_t n = 0;
    (void)ctx;
    (void)room;
    if (accepted != 0) out[n++] = (bmb_ready){ tokens[1], BMB_READABLE };
    if (said[said_at] != '\0') out[n++] = (bmb_ready){ tokens[2], BMB_READABLE };
    return n;
}

static size_t count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    static const bmb_mode_row modes[] = { { BMB_CODEC_JPEG, 320, 240, 30000 }, { BMB_CODEC_H264, 320, 240, 30000 } };
    (void)ctx;
    if (index > 0) return BMB_NOT_FOUND;
    *out = (bmb_camera_info){ .name = "loco", .modes = modes, .mode_count = 2, .buffers = 4 };
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    (void)ctx;
    (void)index;
    *effective = *asked;
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    (void)ctx;
    (void)index;
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    (void)ctx;
    (void)index;
    if (waiting == 0) return BMB_AGAIN;
    waiting--;
    *out = (bmb_camera_frame){ .data = frame, .size = FRAME, .capture_us = now, .key = true };
    return BMB_OK;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)ctx;
    (void)index;
    (void)cookie;
}

static const bmb_port port = {
    .now_us = now_us,
    .random = random_bytes,
    .net = { .listen = listen_at,
             .accept = accept_one,
             .local = local,
             .send = send_slices,
             .send_lent = send_lent,
             .unacked = unacked,
             .recv = receive,
             .udp_open = udp_open,
             .udp_send = udp_send,
             .udp_recv = udp_receive,
             .close = close_sock,
             .watch = watch,
             .ready = ready },
    .cameras = { .count = count, .info = info, .start = start, .stop = stop, .take = take, .release = release },
};

/* An image of that size: the tables of a real one, and a scan of noise with as many stuffed bytes as noise has. */
static void make_frames(void)
{
    extern const uint8_t clip_begin[];
    static const uint8_t sets[] = { 0, 0, 0, 1, 0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80,
                                    0, 0, 0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65 };
    size_t head = 0;
    uint32_t noise = 1;
    while (clip_begin[head] != 0xFF || clip_begin[head + 1] != 0xDA) head++;
    head += 14;
    memcpy(jpeg, clip_begin, head);
    for (size_t i = head; i < FRAME - 2; i++) {
        noise = noise * 1664525u + 1013904223u;
        jpeg[i] = jpeg[i - 1] == 0xFF ? 0 : (uint8_t)(noise >> 24);
    }
    jpeg[FRAME - 3] = 1;
    jpeg[FRAME - 2] = 0xFF;
    jpeg[FRAME - 1] = 0xD9;
    memcpy(h264, sets, sizeof sets);
    for (size_t i = sizeof sets; i < FRAME; i++) {
        noise = noise * 1664525u + 1013904223u;
        h264[i] = (uint8_t)((noise >> 24) | 1);
    }
}

/* Instructions since some start, in steps of 40: the clock has 25 MHz. */
static uint64_t instructions(void)
{
    static uint32_t before;
    static uint64_t sum;
    uint32_t left = *SYST_CVR, at = MPS2_HZ / 1000 - 1 - left;
    sum += at >= before ? at - before : at + MPS2_HZ / 1000 - before; /* asked more often than once a millisecond */
    before = at;
    return sum * 40;
}

/* So many frames; returns the instructions of the steps that they took. */
static uint64_t run(bmb_device *device)
{
    uint64_t spent = 0;
    for (unsigned i = 0; i < FRAMES; i++) {
        waiting = 1;
        now += 100000;
        uint64_t next = now, end = now + 60000;
        while (next <= end) { /* bursts of the frame come later */
            now = next > now ? next : now;
            uint64_t begin = instructions();
            next = bmb_step(device);
            spent += instructions() - begin;
            if (next <= now) next = now + 1000;
        }
    }
    return spent;
}

static void ask(bmb_device *device, const char *const *requests)
{
    char session[24] = "";
    for (unsigned i = 0; i < 3 && requests[i] != NULL; i++) {
        const char *id = strstr(heard, "Session: ");
        if (id != NULL) {
            size_t size = strcspn(id + 9, ";\r");
            memcpy(session, id + 9, size);
            session[size] = '\0';
        }
        said_at = 0;
        snprintf(said, sizeof said, requests[i], session);
        sent = 0;
        memset(heard, 0, sizeof heard);
        for (unsigned k = 0; k < 20; k++) {
            now += 1000;
            (void)bmb_step(device);
        }
    }
}

static void measure(const way *w)
{
    static bmb_feed_config feed;
    static bmb_config config;
    frame = w->codec == BMB_CODEC_JPEG ? jpeg : h264;
    feed = bmb_feed_of("loco", w->codec, 320, 240, 10000);
    feed.storage = BMB_BORROWED;
    config = bmb_config_of(&port, &feed, 1, &w->outlet, w->push ? 0 : 1);
    config.pushes = &w->to;
    config.push_count = w->push ? 1 : 0;
    config.viewers = config.spare = 2;
    memset(said, 0, sizeof said);
    said_at = 0;

    /* Without anybody: what taking a frame over costs. A push is its own viewer, and another codec's outlet none. */
    bmb_device *device = bmb_bare_open(&config, memory, sizeof memory);
    waiting = 1;
    (void)bmb_step(device);
    uint64_t intake = w->push ? 0 : run(device);
    if (!w->push) {
        accepted = 2;
        for (unsigned i = 0; i < 5; i++) (void)bmb_step(device);
        ask(device, w->requests);
    }
    (void)run(device);
    sent = 1; /* nothing is an answer any more */
    uint64_t all = run(device);
    uint64_t bytes = sent - 1;
    bmb_bare_say("cost %s: %u bytes a frame, %u instructions to take it over, %u in all, %u per 1000 bytes", w->name,
                 (unsigned)(bytes / FRAMES), (unsigned)(intake / FRAMES), (unsigned)(all / FRAMES),
                 bytes > 0 ? (unsigned)(all * 1000 / bytes) : 0);
    bmb_close(device);
}

/* What a device takes that has all ways in that were not left out. */
static void say_memory(void)
{
    static bmb_outlet_config outlets[3];
    static bmb_feed_config feed;
    static bmb_config config;
    bmb_budget b;
    size_t n = 0;
    if (BMB_WITH_HTTP) outlets[n++] = bmb_outlet_of(BMB_OUTLET_HTTP, 80);
    if (BMB_WITH_RTSP) outlets[n++] = bmb_outlet_of(BMB_OUTLET_RTSP, 554);
    if (BMB_WITH_PLAIN) outlets[n++] = bmb_outlet_of(BMB_OUTLET_TCP, 5000);
    feed = bmb_feed_of("loco", BMB_CODEC_JPEG, 320, 240, 10000);
    feed.storage = BMB_BORROWED;
    config = bmb_config_of(&port, &feed, 1, outlets, n);
    /* Kept in the image by being named, and never called. */
    if (config.name == NULL) {
        size_t i;
        (void)bmb_feed_change(NULL, 0, &feed, NULL);
        (void)bmb_feed_add(NULL, &feed, &i, NULL);
        (void)bmb_feed_pause(NULL, 0, true);
        (void)bmb_outlet_add(NULL, &outlets[0], &i, NULL);
        (void)bmb_outlet_remove(NULL, 0);
        (void)bmb_push_add(NULL, config.pushes, &i, NULL);
        (void)bmb_push_remove(NULL, 0);
        bmb_settings_prepare(NULL, &config, NULL, 0);
        bmb_settings_begin(NULL, NULL);
    }
    if (bmb_budget_of(&config, &b, NULL) == BMB_OK)
        bmb_bare_say("all ways in: device %u, feeds %u, viewer %u, of RTSP %u", (unsigned)b.device, (unsigned)b.feeds,
                     (unsigned)b.per_viewer_http, (unsigned)b.per_viewer_rtsp);
}

int main(void)
{
    static const way ways[] = {
        { .name = "mjpeg over HTTP",
          .outlet = { .kind = BMB_OUTLET_HTTP },
          .requests = { "GET /loco.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n" } },
        { .name = "jpeg, raw over TCP", .outlet = { .kind = BMB_OUTLET_TCP, .format = BMB_FORMAT_RAW } },
        { .name = "jpeg, framed over TCP", .outlet = { .kind = BMB_OUTLET_TCP, .format = BMB_FORMAT_FRAMED } },
        { .name = "jpeg, RTP over RTSP",
          .outlet = { .kind = BMB_OUTLET_RTSP },
          .requests = { "SETUP rtsp://a/loco/video RTSP/1.0\r\nCSeq: 1\r\nTransport: "
                        "RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n",
                        "PLAY rtsp://a/loco RTSP/1.0\r\nCSeq: 2\r\nSession: %s\r\n\r\n" } },
        { .name = "jpeg, RTP over UDP",
          .push = true,
          .to = { .format = BMB_FORMAT_RTP, .to = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 5000 } } },
        { .name = "h264, raw over TCP",
          .codec = BMB_CODEC_H264,
          .outlet = { .kind = BMB_OUTLET_TCP, .format = BMB_FORMAT_RAW } },
        { .name = "h264, RTP over UDP",
          .codec = BMB_CODEC_H264,
          .push = true,
          .to = { .format = BMB_FORMAT_RTP, .to = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 5000 } } },
        { .name = "h264, TS over UDP",
          .codec = BMB_CODEC_H264,
          .push = true,
          .to = { .format = BMB_FORMAT_TS, .to = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 5000 } } },
    };
    mps2_start("cost");
    say_memory();
    make_frames();
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++) measure(&ways[i]);
    bmb_bare_say("cost: all told");
    for (;;) mps2_sleep(NULL, UINT64_MAX, &(volatile bool){ false });
}
