/* A transport stream pushed over UDP, and the framed protocol over TCP, against bare loops. */
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include "rig.h"
#include "support/fake_port.h"

#define RECEIVERS 10
#define VIEWERS 50
#define DATAGRAM 1316u
#define ROUNDS 100
#define FRAMES_A_ROUND 6

/* 4 Mbit/s at 30/s, which fill whole datagrams: 13 of them, 91 packets less their headers. */
#define DATAGRAMS 13u
static uint8_t key_frame[18000], frame[18000], jpeg[30064];

static double bare_datagrams(const int *out, const drain *d)
{
    static uint8_t datagram[DATAGRAM];
    uint64_t cpu = 0;
    unsigned long long bytes = 0, start = atomic_load(&d->bytes);
    for (int i = 0; i < FRAMES_A_ROUND; i++) {
        uint64_t begin = thread_cpu_ns();
        for (int v = 0; v < RECEIVERS; v++)
            for (unsigned p = 0; p < DATAGRAMS; p++) {
                ssize_t n = send(out[v], datagram, DATAGRAM, 0);
                if (n > 0) bytes += (unsigned long long)n;
            }
        cpu += thread_cpu_ns() - begin;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}

void bench_ts(void)
{
    static const uint8_t sets[] = { 0,    0,    0, 1, 0x67, 0x42, 0xC0, 0x1E, 0xDA, 2,   0x80,
                                    0xF6, 0x80, 0, 0, 0,    1,    0x68, 0xCE, 0x3C, 0x80 };
    static rig r;
    drain d;
    int out[RECEIVERS];
    double mine[ROUNDS], least[ROUNDS];
    memset(key_frame, 0x55, sizeof key_frame);
    memcpy(key_frame, sets, sizeof sets);
    memcpy(key_frame + sizeof sets, "\0\0\0\1\x65", 5);
    memset(frame, 0x55, sizeof frame);
    memcpy(frame, "\0\0\0\1\x41", 5);
    drain_start(&d);
    rig_prepare(&r, BMB_CODEC_H264, 1, 20000);
    for (int i = 0; i < RECEIVERS; i++) {
        uint16_t port;
        (void)receiver(&port, &d);
        out[i] = sender_to(port);
        r.pushes[i] = (bmb_push_config){ .format = BMB_FORMAT_TS, .to = { .family = 4, .ip = { 127, 0, 0, 1 } } };
        r.pushes[i].to.port = port;
    }
    r.config.push_count = RECEIVERS;
    rig_start(&r);
    rig_frame(&r, key_frame, 16000, true);
    rig_run(&r, 100000);
    size_t size = 7 * DATAGRAMS * 184 - 8 - 20; /* less the clock's field, PES header and delimiter */
    (void)rig_cost(&r, &d, frame, size, false, FRAMES_A_ROUND);
    (void)bare_datagrams(out, &d);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = rig_cost(&r, &d, frame, size, false, FRAMES_A_ROUND);
        least[i] = bare_datagrams(out, &d);
    }
    result_of_turns("MPEG-TS over UDP, 10 receivers: CPU to one send a datagram", "ns/byte", mine, least, ROUNDS, 0.6);
    drain_stop(&d);
    rig_close(&r);
}

static void join(rig *r, drain *d)
{
    for (int i = 0; i < VIEWERS; i++) {
        drain_add(d, dial(r->tcp));
        rig_run(r, 2000);
    }
    rig_run(r, 50000);
}

static double floor_of(const int *out, const drain *d, size_t jpeg_size)
{
    static char head[36];
    const struct iovec parts[2] = { { head, sizeof head }, { jpeg, jpeg_size } };
    return bare_parts(out, VIEWERS, d, parts, 2, FRAMES_A_ROUND);
}

void bench_framed(void)
{
    static rig r, bare;
    drain d;
    double mine[ROUNDS], least[ROUNDS];
    size_t size = fake_jpeg(jpeg, 640, 480, 30000);
    drain_start(&d);
    rig_open(&r, BMB_CODEC_JPEG, VIEWERS, 40000);
    join(&r, &d);
    rig_open(&bare, BMB_CODEC_JPEG, VIEWERS, 40000);
    join(&bare, &d);
    (void)rig_cost(&r, &d, jpeg, size, true, FRAMES_A_ROUND);
    (void)floor_of(bare.accepted, &d, size);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = rig_cost(&r, &d, jpeg, size, true, FRAMES_A_ROUND);
        least[i] = floor_of(bare.accepted, &d, size);
    }
    result_of_turns("Framed protocol, 50 viewers: CPU, ns a byte", "ns/byte", mine, least, ROUNDS, 1.15);
    result("RAM of one more plain TCP viewer in the core", "bytes", (double)r.budget.per_viewer_tcp, 0, 384);
    drain_stop(&d);
    rig_close(&r);
    rig_close(&bare);
}
