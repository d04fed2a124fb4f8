/* What the benchmarks share: a device on real sockets with scripted frames, receivers that drain, and a table of
 * results. Ours and the floor run in turns within one process, so that a noisy machine disturbs both alike. */
#ifndef BMB_BENCH_RIG_H
#define BMB_BENCH_RIG_H

#include <pthread.h>
#include <stdatomic.h>
#include <sys/types.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"

#define RIG_SOCKS 128
#define RIG_PUSHES 16
#define TURNS_MOST 200

/* A thread that reads everything that arrives at some sockets and counts the bytes. */
typedef struct drain {
    pthread_t thread;
    int epoll;
    atomic_ullong bytes;
    atomic_bool stop;
} drain;

void drain_start(drain *d);
void drain_add(drain *d, int fd);
void drain_stop(drain *d);
/* Waits until `bytes` in all have arrived, or a second has passed without any. */
void drain_wait(const drain *d, unsigned long long bytes);

/* A camera whose frames the benchmark hands in. */
typedef struct script {
    pthread_mutex_t lock;
    bmb_camera_frame next;
    bool waiting;
    bmb_codec codec;
} script;

typedef struct rig {
    bmb_linux *linux_port;
    bmb_port port;
    script camera;
    bmb_feed_config feed;
    bmb_outlet_config outlets[3];
    bmb_push_config pushes[RIG_PUSHES];
    bmb_config config;
    bmb_budget budget;
    void *memory;
    bmb_device *device;
    uint16_t http, rtsp, tcp;
    int accepted[RIG_SOCKS]; /* the device's ends of its connections: a bare loop writes to those of a rig that it
                                does not step, so that both loops use connections with the same past */
    unsigned accepted_count;
} rig;

void rig_script(script *s, bmb_cameras *out);
void rig_open(rig *r, bmb_codec codec, uint16_t viewers, uint32_t frame_max);
/* The same, with a multicast group. */
void rig_open_group(rig *r, bmb_codec codec, uint16_t viewers, uint32_t frame_max, bmb_addr group);
/* In two steps: the configuration may be changed in between. */
void rig_prepare(rig *r, bmb_codec codec, uint16_t viewers, uint32_t frame_max);
void rig_start(rig *r);
void rig_close(rig *r);
/* Hands a frame in, stamped now; the device takes it with its next step. */
void rig_frame(rig *r, const uint8_t *data, size_t size, bool key);
/* Steps until `us` have passed. */
void rig_run(rig *r, uint64_t us);
uint64_t rig_sent(const rig *r);
/* Nanoseconds of CPU for each byte that the device sends of so many frames. The drain empties every socket between
 * them, in this turn and in the floor's; NULL: nothing is waited for. */
double rig_cost(rig *r, const drain *d, const uint8_t *data, size_t size, bool key, unsigned frames);

/* The built command, serving its demo on free ports of the loopback interface. */
typedef struct demo {
    pid_t pid;
    int out;
    uint16_t http, rtsp;
} demo;
void demo_start(demo *d, const char *command); /* returns as soon as it has printed its addresses */
void demo_stop(demo *d);

double now_s(void);
int dial(uint16_t port);
uint64_t thread_cpu_ns(void);
/* The floor of TCP streams: the same parts to so many connections, one writev each; ns of CPU for each byte. */
struct iovec;
double bare_parts(const int *out, int count, const drain *d, const struct iovec *parts, int part_count, int frames);
/* A UDP receiver on the loopback interface that the drain empties, and a socket that sends to it. */
int receiver(uint16_t *port, drain *d);
int sender_to(uint16_t port);
int by_value(const void *a, const void *b);
double median(const double *values, size_t count); /* at most TURNS_MOST */

/* A row of the table. limit: what ratio (or, without a floor, ours) must not exceed. */
/* Turns of ours and the floor, one after the other: the ratio is the median of the pairs', so that a machine that is
 * fast in one second and slow in the next is so for both. */
void result_of_turns(const char *name, const char *unit, const double *ours, const double *floor, size_t turns,
                     double limit);
/* Before the first result, and after the last; false: the file cannot be written. */
void results_begin(void);
bool results_write(const char *path);
void result(const char *name, const char *unit, double ours, double floor, double limit);

void bench_step(void);
void bench_http(void);
void bench_tls(void);
void bench_udp(void);
void bench_interleaved(void);
void bench_multicast(void);
void bench_ts(void);
void bench_framed(void);
void bench_capture(void);
void bench_first_picture(const char *command);
void bench_start(const char *command);

#endif
