/* RTP over UDP, interleaved and multicast, against bare loops; and how fast a picture is there. */
#include <arpa/inet.h>
#include <fcntl.h>
#include <net/if.h>
#include <netinet/udp.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <sys/wait.h>
#include <unistd.h>

#include "rig.h"

#ifndef UDP_SEGMENT
#define UDP_SEGMENT 103
#endif
#define VIEWERS 20
#define PACKETS 12u
#define PACKET 1400u
#define ROUNDS 100
#define FRAMES_A_ROUND 8

/* 4 Mbit/s at 30/s: 16.7 KB, which are twelve packets. */
static uint8_t key_frame[20000], frame[20000];
static size_t key_size, frame_size;

static size_t put_unit(uint8_t *out, size_t at, uint8_t header, size_t size)
{
    memcpy(out + at, "\0\0\0\1", 4);
    memset(out + at + 4, 0x55, size);
    out[at + 4] = header;
    return at + 4 + size;
}

static void make_frames(void)
{
    static const uint8_t sps[] = { 0, 0, 0, 1, 0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80 };
    memcpy(key_frame, sps, sizeof sps);
    key_size = put_unit(key_frame, put_unit(key_frame, sizeof sps, 0x68, 4), 0x65, 16000);
    frame_size = put_unit(frame, 0, 0x41, PACKETS * (PACKET - 14) - 100);
}

/* A client's side of one request on the rig's own thread; the answer goes to `answer`. */
static void request(rig *r, int fd, char *answer, size_t room, const char *text)
{
    size_t size = 0;
    if (send(fd, text, strlen(text), 0) < 0) abort();
    for (int i = 0; i < 200; i++) {
        rig_run(r, 1000);
        ssize_t n = recv(fd, answer + size, room - 1 - size, MSG_DONTWAIT);
        if (n > 0) size += (size_t)n;
        answer[size] = '\0';
        if (strstr(answer, "\r\n\r\n") != NULL) return;
    }
    abort();
}

/* Sets a session up and plays it; returns the control connection. */
static int watch(rig *r, const char *transport)
{
    char text[512], answer[2048];
    int fd = dial(r->rtsp);
    snprintf(text, sizeof text, "SETUP rtsp://h/feed/video RTSP/1.0\r\nCSeq: 1\r\nTransport: %s\r\n\r\n", transport);
    request(r, fd, answer, sizeof answer, text);
    if (strstr(answer, " 200 ") == NULL) abort();
    const char *id = strstr(answer, "Session: ") + 9;
    snprintf(text, sizeof text, "PLAY * RTSP/1.0\r\nCSeq: 2\r\nSession: %.16s\r\n\r\n", id);
    request(r, fd, answer, sizeof answer, text);
    if (strstr(answer, " 200 ") == NULL) abort();
    return fd;
}

static double bare_send(const int *out, const drain *d)
{
    static uint8_t packet[PACKET];
    uint64_t cpu = 0;
    unsigned long long bytes = 0, start = atomic_load(&d->bytes);
    for (int i = 0; i < FRAMES_A_ROUND; i++) {
        uint64_t begin = thread_cpu_ns();
        for (int v = 0; v < VIEWERS; v++)
            for (unsigned p = 0; p < PACKETS; p++) {
                ssize_t n = send(out[v], packet, PACKET, 0);
                if (n > 0) bytes += (unsigned long long)n;
            }
        cpu += thread_cpu_ns() - begin;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}

/* With the same slices: each packet has a header of its own, and the payload is where the frame is. In one piece: what
 * nobody could send to two viewers without copying the frame for each. */
static double bare_segments(const int *out, const drain *d, bool slices)
{
    static uint8_t packets[PACKETS * PACKET], heads[PACKETS][14];
    struct iovec iov[2 * PACKETS] = { { packets, sizeof packets } };
    for (unsigned p = 0; slices && p < PACKETS; p++) {
        iov[2 * p] = (struct iovec){ heads[p], sizeof heads[p] };
        iov[2 * p + 1] = (struct iovec){ packets + p * (PACKET - 14), PACKET - 14 };
    }
    union {
        char bytes[CMSG_SPACE(sizeof(uint16_t))];
        struct cmsghdr align;
    } control = { .bytes = { 0 } };
    struct msghdr m = { .msg_iov = iov,
                        .msg_iovlen = slices ? 2 * PACKETS : 1,
                        .msg_control = control.bytes,
                        .msg_controllen = sizeof control.bytes };
    struct cmsghdr *c = CMSG_FIRSTHDR(&m);
    const uint16_t size = PACKET;
    c->cmsg_level = SOL_UDP;
    c->cmsg_type = UDP_SEGMENT;
    c->cmsg_len = CMSG_LEN(sizeof size);
    memcpy(CMSG_DATA(c), &size, sizeof size);
    uint64_t cpu = 0;
    unsigned long long bytes = 0, start = atomic_load(&d->bytes);
    for (int i = 0; i < FRAMES_A_ROUND; i++) {
        uint64_t begin = thread_cpu_ns();
        for (int v = 0; v < VIEWERS; v++) {
            ssize_t n = sendmsg(out[v], &m, 0);
            if (n > 0) bytes += (unsigned long long)n;
        }
        cpu += thread_cpu_ns() - begin;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}

void bench_udp(void)
{
    make_frames();
    rig r;
    drain d;
    int bare[VIEWERS];
    uint16_t port;
    double mine[ROUNDS], single[ROUNDS], segments[ROUNDS], whole[ROUNDS];
    rig_open(&r, BMB_CODEC_H264, VIEWERS, 20000);
    drain_start(&d);
    rig_frame(&r, key_frame, key_size, true);
    rig_run(&r, 5000);
    for (int i = 0; i < VIEWERS; i++) {
        char transport[64];
        (void)receiver(&port, &d);
        snprintf(transport, sizeof transport, "RTP/AVP;unicast;client_port=%u-%u", port, port == 65535 ? 1 : port + 1);
        (void)watch(&r, transport);
        (void)receiver(&port, &d);
        bare[i] = sender_to(port);
    }
    rig_frame(&r, key_frame, key_size, true);
    rig_run(&r, 50000);
    (void)rig_cost(&r, &d, frame, frame_size, false, FRAMES_A_ROUND);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = rig_cost(&r, &d, frame, frame_size, false, FRAMES_A_ROUND);
        single[i] = bare_send(bare, &d);
        segments[i] = bare_segments(bare, &d, true);
        whole[i] = bare_segments(bare, &d, false);
    }
    result_of_turns("RTP over UDP, 20 viewers: CPU, ns a byte, to one send a packet", "ns/byte", mine, single, ROUNDS,
                    0.45);
    result_of_turns("the same, to segmentation offload of the same slices", "ns/byte", mine, segments, ROUNDS, 1.2);
    result_of_turns("the same, to segmentation offload of one prepared buffer", "ns/byte", mine, whole, ROUNDS, 1.2);
    result("RAM of one more RTSP viewer in the core", "bytes", (double)r.budget.per_viewer_rtsp, 0, 768);
    drain_stop(&d);
    rig_close(&r);
}

static double bare_writev(const int *out, const drain *d)
{
    static uint8_t heads[PACKETS][18];
    struct iovec iov[2 * PACKETS];
    for (unsigned p = 0; p < PACKETS; p++) {
        iov[2 * p] = (struct iovec){ heads[p], sizeof heads[p] };
        iov[2 * p + 1] = (struct iovec){ frame + p * (PACKET - 14), PACKET - 14 };
    }
    uint64_t cpu = 0;
    unsigned long long bytes = 0, start = atomic_load(&d->bytes);
    for (int i = 0; i < FRAMES_A_ROUND; i++) {
        uint64_t begin = thread_cpu_ns();
        for (int v = 0; v < VIEWERS; v++) {
            ssize_t n = writev(out[v], iov, 2 * PACKETS);
            if (n > 0) bytes += (unsigned long long)n;
        }
        cpu += thread_cpu_ns() - begin;
        drain_wait(d, start + bytes);
    }
    return (double)cpu / (double)bytes;
}

void bench_interleaved(void)
{
    make_frames();
    static rig r, bare;
    drain d;
    double mine[ROUNDS], least[ROUNDS];
    rig_open(&r, BMB_CODEC_H264, VIEWERS, 20000);
    drain_start(&d);
    rig_frame(&r, key_frame, key_size, true);
    rig_run(&r, 5000);
    for (int i = 0; i < VIEWERS; i++) drain_add(&d, watch(&r, "RTP/AVP/TCP;unicast;interleaved=0-1"));
    rig_open(&bare, BMB_CODEC_H264, VIEWERS, 20000);
    rig_frame(&bare, key_frame, key_size, true);
    rig_run(&bare, 5000);
    for (int i = 0; i < VIEWERS; i++) drain_add(&d, watch(&bare, "RTP/AVP/TCP;unicast;interleaved=0-1"));
    rig_frame(&bare, key_frame, key_size, true);
    rig_run(&bare, 50000);
    rig_frame(&r, key_frame, key_size, true);
    rig_run(&r, 50000);
    (void)rig_cost(&r, &d, frame, frame_size, false, FRAMES_A_ROUND);
    (void)bare_writev(bare.accepted, &d);
    for (int i = 0; i < ROUNDS; i++) {
        mine[i] = rig_cost(&r, &d, frame, frame_size, false, FRAMES_A_ROUND);
        least[i] = bare_writev(bare.accepted, &d);
    }
    result_of_turns("RTP interleaved over TCP, 20 viewers: CPU, ns a byte", "ns/byte", mine, least, ROUNDS, 1.2);
    drain_stop(&d);
    rig_close(&r);
    rig_close(&bare);
}

/* Groups are sent to in a network of our own only. */
static bool own_network(void)
{
    if (unshare(CLONE_NEWNET) != 0) return false;
    struct ifreq lo = { .ifr_name = "lo", .ifr_flags = IFF_UP | IFF_RUNNING | IFF_MULTICAST };
    int fd = socket(AF_INET, SOCK_DGRAM, 0);
    bool up = ioctl(fd, SIOCSIFFLAGS, &lo) == 0;
    close(fd);
    return up && system("ip route add 239.0.0.0/8 dev lo") == 0;
}

static void open_group(rig *r, int members)
{
    rig_open_group(r, BMB_CODEC_H264, 64, 20000, (bmb_addr){ .family = 4, .ip = { 239, 9, 9, 9 }, .port = 5004 });
    rig_frame(r, key_frame, key_size, true);
    rig_run(r, 5000);
    for (int i = 0; i < members; i++) (void)watch(r, "RTP/AVP;multicast");
    rig_frame(r, key_frame, key_size, true);
    rig_run(r, 50000);
}

static void multicast(int report)
{
    static rig one, fifty;
    double costs[2] = { 0, 0 }, few[ROUNDS], many[ROUNDS], ratios[ROUNDS];
    if (own_network()) {
        open_group(&one, 1);
        open_group(&fifty, 50);
        (void)rig_cost(&one, NULL, frame, frame_size, false, FRAMES_A_ROUND);
        (void)rig_cost(&fifty, NULL, frame, frame_size, false, FRAMES_A_ROUND);
        for (int i = 0; i < ROUNDS; i++) {
            few[i] = rig_cost(&one, NULL, frame, frame_size, false, FRAMES_A_ROUND);
            many[i] = rig_cost(&fifty, NULL, frame, frame_size, false, FRAMES_A_ROUND);
            ratios[i] = many[i] / few[i];
        }
        costs[1] = median(few, ROUNDS);
        costs[0] = costs[1] * median(ratios, ROUNDS);
    }
    if (write(report, costs, sizeof costs) != sizeof costs) _exit(1);
    _exit(0);
}

void bench_multicast(void)
{
    make_frames();
    int ends[2];
    double costs[2] = { 0, 0 };
    if (pipe(ends) != 0) abort();
    fflush(stdout);
    pid_t pid = fork();
    if (pid == 0) multicast(ends[1]);
    close(ends[1]);
    if (read(ends[0], costs, sizeof costs) != sizeof costs) costs[1] = 0;
    waitpid(pid, NULL, 0);
    close(ends[0]);
    if (costs[1] > 0) {
        result("RTP multicast: CPU, ns a byte, 50 viewers to 1", "ns/byte", costs[0], costs[1], 1.05);
    } else {
        printf("RTP multicast: skipped, a network namespace is not permitted here\n");
    }
}

static void say(int fd, char *answer, size_t room, const char *text)
{
    size_t size = 0;
    if (send(fd, text, strlen(text), 0) < 0) abort();
    do {
        ssize_t n = recv(fd, answer + size, room - 1 - size, 0);
        if (n <= 0) abort();
        size += (size_t)n;
        answer[size] = '\0';
    } while (strstr(answer, "\r\n\r\n") == NULL);
}

/* From PLAY to the first byte of the key frame, in frame intervals of the demo's station. */
static double play_to_key(uint16_t port)
{
    char answer[8192], text[256];
    int fd = dial(port);
    say(fd, answer, sizeof answer,
        "SETUP rtsp://h/station/video RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n");
    snprintf(text, sizeof text, "PLAY * RTSP/1.0\r\nCSeq: 2\r\nSession: %.16s\r\n\r\n",
             strstr(answer, "Session: ") + 9);
    double begin = now_s();
    say(fd, answer, sizeof answer, text);
    const char *end = strstr(answer, "\r\n\r\n") + 4;
    if (*end == '\0' && recv(fd, answer, sizeof answer, 0) <= 0) abort();
    double took = now_s() - begin;
    close(fd);
    return took * 30;
}

/* From the start of an independent client until it has decoded a picture. */
static double client_first_picture(uint16_t port)
{
    char command[512];
    snprintf(command, sizeof command,
             "gst-launch-1.0 -q rtspsrc location=rtsp://127.0.0.1:%u/station protocols=tcp latency=0 ! rtph264depay ! "
             "h264parse ! avdec_h264 ! fakesink num-buffers=1 2>/dev/null",
             port);
    double begin = now_s();
    if (system(command) != 0) return 9;
    return now_s() - begin;
}

void bench_first_picture(const char *command)
{
    double intervals[9], s[9];
    demo d;
    demo_start(&d, command);
    usleep(500000);
    for (int i = 0; i < 9; i++) {
        intervals[i] = play_to_key(d.rtsp);
        usleep(640000); /* a key frame is asked for at most each 500 ms */
    }
    result("PLAY to the first key frame on the wire, frame intervals", "intervals", median(intervals, 9), 0, 1.5);
    if (system("command -v gst-launch-1.0 >/dev/null") == 0) {
        for (int i = 0; i < 9; i++) {
            s[i] = client_first_picture(d.rtsp);
            usleep(640000);
        }
        result("Start of a client (GStreamer, TCP) to its first H.264 picture", "s", median(s, 9), 0, 0.3);
    }
    demo_stop(&d);
}
