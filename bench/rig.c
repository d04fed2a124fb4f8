#include "rig.h"

#include <arpa/inet.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

/* Waits on all sockets as receivers do. */
static void *drain_run(void *arg)
{
    drain *d = (drain *)arg;
    static _Thread_local uint8_t sink[1 << 18];
    struct epoll_event events[RIG_SOCKS];
    while (!atomic_load(&d->stop)) {
        int n = epoll_wait(d->epoll, events, RIG_SOCKS, 20);
        for (int i = 0; i < n; i++) {
            ssize_t got;
            while ((got = recv(events[i].data.fd, sink, sizeof sink, MSG_DONTWAIT)) > 0)
                atomic_fetch_add(&d->bytes, (unsigned long long)got);
        }
    }
    return NULL;
}

void drain_start(drain *d)
{
    memset(d, 0, sizeof *d);
    d->epoll = epoll_create1(EPOLL_CLOEXEC);
    pthread_create(&d->thread, NULL, drain_run, d);
}

void drain_add(drain *d, int fd)
{
    struct epoll_event e = { .events = EPOLLIN, .data.fd = fd };
    if (epoll_ctl(d->epoll, EPOLL_CTL_ADD, fd, &e) != 0) abort();
}

void drain_stop(drain *d)
{
    atomic_store(&d->stop, true);
    pthread_join(d->thread, NULL);
    close(d->epoll);
}

void drain_wait(const drain *d, unsigned long long bytes)
{
    unsigned long long before = 0;
    for (int idle = 0; idle < 1000 && atomic_load(&d->bytes) < bytes; idle++) {
        unsigned long long now = atomic_load(&d->bytes);
        if (now != before) idle = 0;
        before = now;
        usleep(100);
    }
}

static size_t camera_count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err camera_info(void *ctx, size_t index, bmb_camera_info *out)
{
    static const bmb_mode_row row = { BMB_CODEC_JPEG, 640, 480, 60000 };
    (void)ctx;
    (void)index;
    memset(out, 0, sizeof *out);
    strcpy(out->name, "script");
    out->modes = &row;
    out->mode_count = 1;
    out->buffers = 4;
    return BMB_OK;
}

static bmb_err camera_start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    (void)ctx;
    (void)index;
    *effective = *asked;
    return BMB_OK;
}

static void camera_stop(void *ctx, size_t index)
{
    (void)ctx;
    (void)index;
}

static bmb_err camera_take(void *ctx, size_t index, bmb_camera_frame *out)
{
    script *s = (script *)ctx;
    (void)index;
    pthread_mutex_lock(&s->lock);
    bool waiting = s->waiting;
    *out = s->next;
    s->waiting = false;
    pthread_mutex_unlock(&s->lock);
    return waiting ? BMB_OK : BMB_AGAIN;
}

static void camera_release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)ctx;
    (void)index;
    (void)cookie;
}

void rig_script(script *s, bmb_cameras *out)
{
    pthread_mutex_init(&s->lock, NULL);
    *out = (bmb_cameras){ .ctx = s,
                          .count = camera_count,
                          .info = camera_info,
                          .start = camera_start,
                          .stop = camera_stop,
                          .take = camera_take,
                          .release = camera_release };
}

static rig *opened; /* whose connections are being accepted */
static bmb_err (*real_accept)(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer);

static bmb_err note_accepted(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    bmb_err err = real_accept(ctx, listener, out, peer);
    if (err == BMB_OK && opened->accepted_count < RIG_SOCKS) opened->accepted[opened->accepted_count++] = *out;
    return err;
}

void rig_open(rig *r, bmb_codec codec, uint16_t viewers, uint32_t frame_max)
{
    rig_prepare(r, codec, viewers, frame_max);
    rig_start(r);
}

void rig_open_group(rig *r, bmb_codec codec, uint16_t viewers, uint32_t frame_max, bmb_addr group)
{
    rig_prepare(r, codec, viewers, frame_max);
    r->feed.multicast.group = group;
    rig_start(r);
}

void rig_prepare(rig *r, bmb_codec codec, uint16_t viewers, uint32_t frame_max)
{
    memset(r, 0, sizeof *r);
    r->camera.codec = codec;
    if (bmb_linux_create(&r->linux_port, &r->port) != BMB_OK) abort();
    opened = r; /* the rig opened last is the one that is dialled */
    real_accept = r->port.net.accept;
    r->port.net.accept = note_accepted;
    r->port.log = NULL;
    rig_script(&r->camera, &r->port.cameras);
    r->feed = (bmb_feed_config){ .name = "feed",
                                 .camera = "script",
                                 .mode = { codec, 640, 480, 15000 },
                                 .frame_max = frame_max,
                                 .reel_bytes = frame_max * 8 };
    const bmb_addr loopback = { .family = 4, .ip = { 127, 0, 0, 1 } };
    r->outlets[0] = (bmb_outlet_config){ .kind = BMB_OUTLET_HTTP, .listen = loopback };
    r->outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = loopback };
    r->outlets[2] =
        (bmb_outlet_config){ .kind = BMB_OUTLET_TCP, .listen = loopback, .format = BMB_FORMAT_FRAMED, .feed = 0 };
    bmb_config_init(&r->config);
    r->config.port = &r->port;
    r->config.feeds = &r->feed;
    r->config.feed_count = 1;
    r->config.outlets = r->outlets;
    r->config.outlet_count = 3;
    r->config.pushes = r->pushes;
    r->config.viewers = viewers;
}

void rig_start(rig *r)
{
    bmb_fault fault;
    if (bmb_budget_of(&r->config, &r->budget, &fault) != BMB_OK) abort();
    r->memory = malloc(r->budget.total);
    if (bmb_open(&r->config, r->memory, r->budget.total, &r->device, &fault) != BMB_OK) abort();
    bmb_addr bound;
    (void)bmb_outlet_addr(r->device, 0, &bound);
    r->http = bound.port;
    (void)bmb_outlet_addr(r->device, 1, &bound);
    r->rtsp = bound.port;
    (void)bmb_outlet_addr(r->device, 2, &bound);
    r->tcp = bound.port;
}

void rig_close(rig *r)
{
    bmb_close(r->device);
    bmb_linux_destroy(r->linux_port);
    free(r->memory);
}

void rig_frame(rig *r, const uint8_t *data, size_t size, bool key)
{
    pthread_mutex_lock(&r->camera.lock);
    r->camera.next =
        (bmb_camera_frame){ .data = data, .size = size, .key = key, .capture_us = r->port.now_us(r->port.ctx) };
    r->camera.waiting = true;
    pthread_mutex_unlock(&r->camera.lock);
    r->port.wake(r->port.ctx);
}

void rig_run(rig *r, uint64_t us)
{
    uint64_t end = r->port.now_us(r->port.ctx) + us;
    while (r->port.now_us(r->port.ctx) < end) {
        uint64_t next = bmb_step(r->device);
        r->port.wait(r->port.ctx, next < end ? next : end);
    }
}

uint64_t rig_sent(const rig *r)
{
    bmb_feed_stats s;
    (void)bmb_feed_stats_get(r->device, 0, &s);
    return s.sent;
}

double rig_cost(rig *r, const drain *d, const uint8_t *data, size_t size, bool key, unsigned frames)
{
    uint64_t cpu = 0;
    unsigned long long bytes = 0, start = d != NULL ? atomic_load(&d->bytes) : 0;
    for (unsigned i = 0; i < frames; i++) {
        bmb_feed_stats before, after;
        (void)bmb_feed_stats_get(r->device, 0, &before);
        rig_frame(r, data, size, key);
        uint64_t begin = thread_cpu_ns();
        r->port.wait(r->port.ctx, UINT64_MAX);
        (void)bmb_step(r->device);
        cpu += thread_cpu_ns() - begin;
        (void)bmb_feed_stats_get(r->device, 0, &after);
        bytes += after.bytes_sent - before.bytes_sent;
        if (d != NULL) drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}

double now_s(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

void demo_start(demo *d, const char *command)
{
    int ends[2];
    char text[8192] = "";
    size_t size = 0;
    if (pipe(ends) != 0) abort();
    d->pid = fork();
    if (d->pid == 0) {
        dup2(ends[1], 1);
        close(2);
        execl(command, command, "demo", "--http", "127.0.0.1:0", "--rtsp", "127.0.0.1:0", "--tcp", "127.0.0.1:0",
              "--for", "60", (char *)NULL);
        _exit(127);
    }
    close(ends[1]);
    d->out = ends[0];
    while (strstr(text, "Ctrl-C") == NULL) {
        ssize_t n = read(ends[0], text + size, sizeof text - 1 - size);
        if (n <= 0) abort();
        size += (size_t)n;
        text[size] = '\0';
    }
    d->http = (uint16_t)atoi(strstr(text, "http://127.0.0.1:") + 17);
    d->rtsp = (uint16_t)atoi(strstr(text, "rtsp://127.0.0.1:") + 17);
}

void demo_stop(demo *d)
{
    kill(d->pid, SIGTERM);
    waitpid(d->pid, NULL, 0);
    close(d->out);
}

int dial(uint16_t port)
{
    const struct sockaddr_in to = { .sin_family = AF_INET,
                                    .sin_port = htons(port),
                                    .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (connect(fd, (const struct sockaddr *)&to, sizeof to) != 0) abort();
    return fd;
}

int receiver(uint16_t *port, drain *d)
{
    struct sockaddr_in at = { .sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    socklen_t size = sizeof at;
    const int buffer = 4 << 20;
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &buffer, sizeof buffer);
    if (bind(fd, (struct sockaddr *)&at, sizeof at) != 0) abort();
    getsockname(fd, (struct sockaddr *)&at, &size);
    *port = ntohs(at.sin_port);
    drain_add(d, fd);
    return fd;
}

int sender_to(uint16_t port)
{
    const struct sockaddr_in to = { .sin_family = AF_INET,
                                    .sin_port = htons(port),
                                    .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (connect(fd, (const struct sockaddr *)&to, sizeof to) != 0) abort();
    return fd;
}

uint64_t thread_cpu_ns(void)
{
    struct timespec t;
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

int by_value(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return x < y ? -1 : x > y;
}

double median(const double *values, size_t count)
{
    double sorted[TURNS_MOST];
    memcpy(sorted, values, count * sizeof *sorted);
    qsort(sorted, count, sizeof *sorted, by_value);
    return count % 2 != 0 ? sorted[count / 2] : (sorted[count / 2 - 1] + sorted[count / 2]) / 2;
}

double bare_parts(const int *out, int count, const drain *d, const struct iovec *parts, int part_count, int frames)
{
    unsigned long long start = atomic_load(&d->bytes), bytes = 0;
    uint64_t cpu = 0;
    for (int i = 0; i < frames; i++) {
        uint64_t begin = thread_cpu_ns();
        for (int v = 0; v < count; v++) {
            ssize_t n = writev(out[v], parts, part_count);
            if (n > 0) bytes += (unsigned long long)n;
        }
        cpu += thread_cpu_ns() - begin;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}
