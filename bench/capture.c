/* A camera of the kernel, on a driver in memory: what passing its pictures on costs beside a bare loop, and what
 * encoding them costs beside the encoders alone. */
#include <poll.h>
#include <semaphore.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/eventfd.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

#include <turbojpeg.h>

#include "codec/encoder.h"
#include "codec/streams.h"
#include "rig.h"
#include "support/fake_port.h"
#include "support/script_v4l2.h"
#include "v4l2/camera.h"

#define ROUNDS 100
#define FRAMES_A_ROUND 6
#define VIEWERS_MOST 10
#define FRAME 30000u

static uint8_t jpeg[FRAME + 64];
static size_t jpeg_size;

typedef struct passing {
    rig r;
    script_driver *driver;
    script_node *node;
    bmb_v4l2 *cameras;
    int fds[VIEWERS_MOST];
} passing;

static void open_passing(passing *p, drain *d, int viewers)
{
    static const char request[] = "GET /feed.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n";
    const bmb_v4l2_camera spec = { .name = "script" };
    memset(p, 0, sizeof *p);
    p->driver = script_create();
    p->node = script_add(p->driver, "/dev/video0", "bench", V4L2_CAP_VIDEO_CAPTURE);
    script_format(p->node, V4L2_PIX_FMT_MJPEG, 640, 480, 30);
    rig_prepare(&p->r, BMB_CODEC_JPEG, VIEWERS_MOST, 40000);
    if (v4l2_create_on(&p->driver->table, &p->r.port, &spec, 1, &p->cameras) != BMB_OK) abort();
    p->r.port.cameras = bmb_v4l2_cameras(p->cameras);
    p->r.feed.storage = BMB_BORROWED;
    rig_start(&p->r);
    for (int i = 0; i < viewers; i++) {
        p->fds[i] = dial(p->r.http);
        if (send(p->fds[i], request, sizeof request - 1, 0) < 0) abort();
        drain_add(d, p->fds[i]);
        rig_run(&p->r, 2000);
    }
    rig_run(&p->r, 50000);
}

static void close_passing(passing *p)
{
    bmb_close(p->r.device);
    bmb_v4l2_destroy(p->cameras);
    p->r.device = NULL;
    rig_close(&p->r);
    script_destroy(p->driver);
}

/* The picture is in the driver's buffer before the time is taken: hardware put it there. */
static double ours(passing *p, const drain *d)
{
    uint64_t cpu = 0;
    unsigned long long start = atomic_load(&d->bytes), bytes = 0;
    for (int i = 0; i < FRAMES_A_ROUND; i++) {
        bmb_feed_stats before, after;
        (void)bmb_feed_stats_get(p->r.device, 0, &before);
        p->driver->now = p->r.port.now_us(p->r.port.ctx);
        if (!script_picture(p->driver, p->node, jpeg, jpeg_size, 0)) abort();
        p->r.port.wake(p->r.port.ctx);
        uint64_t begin = thread_cpu_ns();
        p->r.port.wait(p->r.port.ctx, UINT64_MAX);
        (void)bmb_step(p->r.device);
        cpu += thread_cpu_ns() - begin;
        (void)bmb_feed_stats_get(p->r.device, 0, &after);
        bytes += after.bytes_sent - before.bytes_sent;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / FRAMES_A_ROUND / 1000.0;
}

/* Waits, dequeues, writes to each socket, queues again. */
static double bare(passing *p, const drain *d, int viewers, int fd, int alarm)
{
    static char head[160] = "Content-Type: image/jpeg\r\nContent-Length: 30000\r\nFrame-Number: 100\r\n"
                            "Frame-Captured-Us: 1790000000000000 unix\r\n\r\n";
    static char tail[] = "\r\n--next-picture\r\n";
    const v4l2_system *s = &p->driver->table;
    uint64_t cpu = 0;
    unsigned long long start = atomic_load(&d->bytes), bytes = 0;
    for (int i = 0; i < FRAMES_A_ROUND; i++) {
        uint64_t one = 1;
        p->driver->now = p->r.port.now_us(p->r.port.ctx);
        if (!script_picture(p->driver, p->node, jpeg, jpeg_size, 0)) abort();
        if (write(alarm, &one, sizeof one) < 0) abort();
        uint64_t begin = thread_cpu_ns();
        struct pollfd wait = { .fd = alarm, .events = POLLIN };
        if (poll(&wait, 1, 1000) != 1 || read(alarm, &one, sizeof one) < 0) abort();
        struct v4l2_buffer b = { .type = V4L2_BUF_TYPE_VIDEO_CAPTURE, .memory = V4L2_MEMORY_MMAP };
        if (s->ioctl(s->ctx, fd, VIDIOC_DQBUF, &b) < 0) abort();
        struct iovec parts[3] = { { head, strlen(head) },
                                  { p->node->capture.buffers[b.index].memory, b.bytesused },
                                  { tail, sizeof tail - 1 } };
        for (int v = 0; v < viewers; v++) {
            ssize_t n = writev(p->r.accepted[v], parts, 3);
            if (n > 0) bytes += (unsigned long long)n;
        }
        if (s->ioctl(s->ctx, fd, VIDIOC_QBUF, &b) < 0) abort();
        cpu += thread_cpu_ns() - begin;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / FRAMES_A_ROUND / 1000.0;
}

static void pass_through(int viewers)
{
    static passing mine, other;
    double ours_us[ROUNDS], bare_us[ROUNDS];
    char name[100];
    drain d;
    int alarm = eventfd(0, EFD_NONBLOCK);
    drain_start(&d);
    open_passing(&mine, &d, viewers);
    open_passing(&other, &d, viewers); /* whose node and sockets the bare loop uses */
    int fd = 0;
    while (other.driver->files[fd] < 0) fd++;
    (void)ours(&mine, &d);
    (void)bare(&other, &d, viewers, fd, alarm);
    for (int i = 0; i < ROUNDS; i++) {
        ours_us[i] = ours(&mine, &d);
        bare_us[i] = bare(&other, &d, viewers, fd, alarm);
    }
    snprintf(name, sizeof name, "JPEG camera passed on to %d viewer%s: CPU, us a frame", viewers,
             viewers > 1 ? "s" : "");
    result_of_turns(name, "us", ours_us, bare_us, ROUNDS, 1.2);
    bmb_v4l2_state state;
    (void)bmb_v4l2_state_get(mine.cameras, 0, &state);
    if (viewers == 1) result("… bytes of pictures that were copied in user space", "bytes", (double)state.copied, 0, 0);
    drain_stop(&d);
    close_passing(&mine);
    close_passing(&other);
    close(alarm);
}

/* Encoding. */

static uint64_t process_cpu_ns(void)
{
    struct timespec t;
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

/* Shapes that move over a texture: about as hard to encode as a street. */
static void paint(uint8_t *yuyv, uint32_t width, uint32_t height, unsigned number)
{
    uint32_t seed = 1;
    for (uint32_t y = 0; y < height; y++) {
        for (uint32_t x = 0; x < width; x++) {
            seed = seed * 1664525u + 1013904223u;
            bool car = (x + 6 * number) % 320 < 90 && y % 240 > 120;
            uint8_t *at = yuyv + 2 * ((size_t)y * width + x);
            at[0] = (uint8_t)((car ? 160 : 60 + (x / 16 + y / 16) % 2 * 40) + (seed >> 29));
            at[1] = (uint8_t)(car ? 100 + x % 2 * 60 : 120 + y % 16);
        }
    }
}

static sem_t made;

static void tell_made(void *ctx)
{
    (void)ctx;
    sem_post(&made);
}

static uint64_t clock_us(void *ctx)
{
    (void)ctx;
    return process_cpu_ns() / 1000;
}

/* Puts pictures through the room, one at a time, as its streams; us of CPU of the whole process a picture. */
static double through_room(codec_streams *s, unsigned streams, const codec_picture *pictures, unsigned count,
                           uint64_t *at)
{
    uint64_t begin = process_cpu_ns();
    for (unsigned i = 0; i < count; i++) {
        bmb_camera_frame f;
        codec_input in = { .raw = &pictures[i % 8], .capture_us = *at += 100000 };
        codec_streams_put(s, &in);
        sem_wait(&made);
        for (unsigned n = 0; n < streams; n++)
            while (codec_stream_take(s, n, &f) == BMB_OK) codec_stream_release(s, n, f.cookie);
    }
    return (double)(process_cpu_ns() - begin) / count / 1000.0;
}

static void paint_all(codec_picture *pictures, uint8_t *memory, uint16_t width, uint16_t height)
{
    size_t bytes = (size_t)width * height * 2;
    for (unsigned i = 0; i < 8; i++) {
        paint(memory + i * bytes, width, height, i);
        pictures[i] = codec_picture_in(CODEC_YUYV, width, height, memory + i * bytes, 0);
    }
}

/* libjpeg-turbo alone, with planes laid out for it beforehand. */
static void jpeg_of_yuyv(const bmb_port *port)
{
    static uint8_t memory[8 * 640 * 480 * 2], planes[8][640 * 480 * 2];
    codec_picture pictures[8];
    double mine[ROUNDS], floor[ROUNDS];
    uint64_t at = 1000000;
    const bmb_mode mode = { BMB_CODEC_JPEG, 640, 480, 10000 };
    tjhandle lib = tjInitCompress();
    unsigned char *out = NULL;
    unsigned long size = 0;
    paint_all(pictures, memory, 640, 480);
    for (unsigned i = 0; i < 8; i++) {
        uint8_t *y = planes[i], *u = y + 640 * 480, *v = u + 320 * 480;
        for (uint32_t row = 0; row < 480; row++) {
            uint8_t scratch[640];
            memcpy(y + row * 640, codec_row(&pictures[i], 0, row, scratch), 640);
            memcpy(u + row * 320, codec_row(&pictures[i], 1, row, scratch), 320);
            memcpy(v + row * 320, codec_row(&pictures[i], 2, row, scratch), 320);
        }
    }
    codec_streams *s = codec_streams_open(port, 1);
    (void)codec_stream_start(s, 0, &mode);
    (void)through_room(s, 1, pictures, 8, &at);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = through_room(s, 1, pictures, 8, &at);
        uint64_t begin = process_cpu_ns();
        for (unsigned k = 0; k < 8; k++) {
            const unsigned char *of[3] = { planes[k], planes[k] + 640 * 480, planes[k] + 640 * 480 + 320 * 480 };
            (void)tjCompressFromYUVPlanes(lib, of, 640, NULL, 480, TJSAMP_422, &out, &size, 75, TJFLAG_FASTDCT);
        }
        floor[i] = (double)(process_cpu_ns() - begin) / 8 / 1000.0;
    }
    result_of_turns("YUYV 640x480 to JPEG: CPU, us a picture, to libjpeg-turbo's own", "us", mine, floor, ROUNDS, 1.1);
    codec_streams_close(s);
    tjFree(out);
    (void)tjDestroy(lib);
}

/* The two encoders alone, on pictures that have their layout and size already. */
static void two_streams(const bmb_port *port)
{
    static uint8_t memory[8 * 1280 * 720 * 2], out[1 << 21];
    codec_picture pictures[8];
    codec_canvas large[8] = { { 0 } }, small[8] = { { 0 } };
    enum { TURNS = 30 };
    double mine[TURNS], floor[TURNS];
    uint64_t at = 1000000;
    const bmb_mode h264 = { BMB_CODEC_H264, 1280, 720, 10000 }, jpeg_mode = { BMB_CODEC_JPEG, 640, 360, 10000 };
    codec_request r = { .quality = 75, .kbps = 2000, .key_ms = 2000, .capture_us = 1000000 };
    bool key;
    paint_all(pictures, memory, 1280, 720);
    for (unsigned i = 0; i < 8; i++)
        if (!codec_scale(&large[i], &pictures[i], 1280, 720) || !codec_scale(&small[i], &pictures[i], 640, 360))
            abort();
    const codec_encoder *a = codec_encoder_for(BMB_CODEC_H264), *b = codec_encoder_for(BMB_CODEC_JPEG);
    if (a == NULL || b == NULL) return;
    void *first = a->open(NULL, &h264, &r), *second = b->open(NULL, &jpeg_mode, &r);
    codec_streams *s = codec_streams_open(port, 2);
    (void)codec_stream_start(s, 0, &h264);
    (void)codec_stream_start(s, 1, &jpeg_mode);
    (void)through_room(s, 2, pictures, 8, &at);
    for (int i = 0; i < TURNS; i++) {
        mine[i] = through_room(s, 2, pictures, 8, &at);
        uint64_t begin = process_cpu_ns();
        for (unsigned k = 0; k < 8; k++) {
            r.capture_us += 100000; /* rate control goes by it */
            (void)a->encode(first, &large[k].view, &r, out, sizeof out, &key);
            (void)b->encode(second, &small[k].view, &r, out, sizeof out, &key);
        }
        floor[i] = (double)(process_cpu_ns() - begin) / 8 / 1000.0;
    }
    result_of_turns("YUYV 1280x720 to H.264, and 640x360 JPEG: CPU, us a picture, to the encoders' own", "us", mine,
                    floor, TURNS, 1.1);
    codec_streams_close(s);
    a->close(first);
    b->close(second);
    for (unsigned i = 0; i < 8; i++) {
        codec_canvas_free(&large[i]);
        codec_canvas_free(&small[i]);
    }
}

void bench_capture(void)
{
    const bmb_port port = { .now_us = clock_us, .wake = tell_made };
    sem_init(&made, 0, 0);
    jpeg_size = fake_jpeg(jpeg, 640, 480, FRAME);
    pass_through(1);
    pass_through(10);
    jpeg_of_yuyv(&port);
    two_streams(&port);
}
