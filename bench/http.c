/* JPEG over HTTP: CPU per byte for fifty viewers, delay for ten, and memory. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include "rig.h"
#include "support/fake_port.h"

#define VIEWERS 50
#define FRAME 30000u
#define FRAMES_A_ROUND 6
#define ROUNDS 100

static uint8_t jpeg[FRAME + 64];
static size_t jpeg_size;

static void watch(rig *r, drain *d, int *fds, int count)
{
    static const char request[] = "GET /feed.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n";
    for (int i = 0; i < count; i++) {
        fds[i] = dial(r->http);
        if (send(fds[i], request, sizeof request - 1, 0) < 0) abort();
        drain_add(d, fds[i]);
        rig_run(r, 2000);
    }
    rig_run(r, 50000);
}

static double floor_of(const int *out, drain *d)
{
    static char head[128] = "Content-Type: image/jpeg\r\nContent-Length: 30000\r\nFrame-Number: 100\r\n"
                            "Frame-Captured-Us: 1790000000000000 unix\r\n\r\n";
    static char tail[] = "\r\n--next-picture\r\n";
    struct iovec parts[3] = { { head, strlen(head) }, { jpeg, jpeg_size }, { tail, sizeof tail - 1 } };
    return bare_parts(out, VIEWERS, d, parts, 3, FRAMES_A_ROUND);
}

static void cpu_per_byte(void)
{
    static rig r, bare;
    drain d;
    int fds[VIEWERS];
    double mine[ROUNDS], least[ROUNDS];
    rig_open(&r, BMB_CODEC_JPEG, VIEWERS, 40000);
    drain_start(&d);
    watch(&r, &d, fds, VIEWERS);
    rig_open(&bare, BMB_CODEC_JPEG, VIEWERS, 40000);
    watch(&bare, &d, fds, VIEWERS);
    (void)rig_cost(&r, &d, jpeg, jpeg_size, true, FRAMES_A_ROUND);
    (void)floor_of(bare.accepted, &d);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = rig_cost(&r, &d, jpeg, jpeg_size, true, FRAMES_A_ROUND);
        least[i] = floor_of(bare.accepted, &d);
    }
    result_of_turns("MJPEG over HTTP, 50 viewers: CPU, ns a byte", "ns/byte", mine, least, ROUNDS, 1.15);
    result("RAM of one more HTTP viewer in the core", "bytes", (double)r.budget.per_viewer_http, 0, 512);
    result("RAM of the device with one feed, without its reel", "bytes", (double)(r.budget.device + r.budget.per_feed),
           0, 8192);
    drain_stop(&d);
    rig_close(&r);
    rig_close(&bare);
}

static void *publish(void *arg)
{
    rig *r = (rig *)arg;
    for (int i = 0; i < 500; i++) {
        rig_frame(r, jpeg, jpeg_size, true);
        usleep(6000);
    }
    return NULL;
}

/* From the moment that a camera's thread hands a frame in until the kernel has taken its last byte for ten viewers. */
static void delay(void)
{
    rig r;
    drain d;
    int fds[10];
    pthread_t thread;
    static double ms[600];
    size_t count = 0;
    rig_open(&r, BMB_CODEC_JPEG, 10, 40000);
    drain_start(&d);
    watch(&r, &d, fds, 10);
    pthread_create(&thread, NULL, publish, &r);
    uint64_t sent = rig_sent(&r), end = r.port.now_us(r.port.ctx) + 4000000;
    while (r.port.now_us(r.port.ctx) < end && count < 500) {
        (void)bmb_step(r.device);
        uint64_t now = rig_sent(&r);
        if (now >= sent + 10) {
            ms[count++] = (double)(r.port.now_us(r.port.ctx) - r.camera.next.capture_us) / 1000.0;
            sent = now;
        }
        r.port.wait(r.port.ctx, end);
    }
    pthread_join(thread, NULL);
    qsort(ms, count, sizeof *ms, by_value);
    result("Frame handed in to last byte in the kernel, 10 viewers: 99 %", "ms", ms[count * 99 / 100], 0, 1.0);
    drain_stop(&d);
    rig_close(&r);
}

void bench_http(void)
{
    jpeg_size = fake_jpeg(jpeg, 640, 480, FRAME);
    cpu_per_byte();
    delay();
}

/* Starts the command, reads its address, asks for a still at once. */
static double first_picture(const char *command)
{
    static char answer[65536];
    double begin = now_s();
    demo d;
    demo_start(&d, command);
    int fd = dial(d.http);
    static const char request[] = "GET /yard.jpg HTTP/1.0\r\n\r\n";
    if (send(fd, request, sizeof request - 1, 0) < 0) abort();
    while (recv(fd, answer, sizeof answer, 0) > 0) continue;
    double took = now_s() - begin;
    close(fd);
    demo_stop(&d);
    return took;
}

void bench_start(const char *command)
{
    double s[7];
    for (int i = 0; i < 7; i++) s[i] = first_picture(command);
    result("Start of `bambino demo` to the first picture served", "s", median(s, 7), 0, 0.5);
}
