/* The core allocates nothing after opening, and neither does the Linux port: counted while ten viewers come, watch and
 * go. The allocator is interposed through the linker's --wrap. */
#include "support/check.h"
#include "support/fake_port.h"

#include <arpa/inet.h>
#include <pthread.h>
#include <sys/socket.h>
#include <unistd.h>

#include "bambino/linux.h"

static volatile unsigned long allocations;
static volatile bool counting;

void *__real_malloc(size_t size);
void *__real_calloc(size_t n, size_t size);
void *__real_realloc(void *p, size_t size);
void *__wrap_malloc(size_t size)
{
    allocations += counting;
    return __real_malloc(size);
}
void *__wrap_calloc(size_t n, size_t size)
{
    allocations += counting;
    return __real_calloc(n, size);
}
void *__wrap_realloc(void *p, size_t size)
{
    allocations += counting;
    return __real_realloc(p, size);
}

static int dial(uint16_t port)
{
    struct sockaddr_in to = { .sin_family = AF_INET,
                              .sin_port = htons(port),
                              .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    int fd = socket(AF_INET, SOCK_STREAM, 0);
    assert_int_equal(connect(fd, (struct sockaddr *)&to, sizeof to), 0);
    return fd;
}

static void drain(int fd)
{
    static uint8_t sink[65536];
    while (recv(fd, sink, sizeof sink, MSG_DONTWAIT) > 0) continue;
}

static void ten_viewers_cost_no_allocation(void **state)
{
    (void)state;
    static uint8_t jpeg[16000];
    size_t size = fake_jpeg(jpeg, 640, 480, 12000);
    fake_device t;
    bmb_linux *self;
    bmb_port port;
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    assert_int_equal(bmb_linux_create(&self, &port), BMB_OK);
    port.cameras = t.f->port.cameras;
    port.log = NULL;
    t.config.port = &port;
    t.outlets[0].listen = (bmb_addr){ .family = 4, .ip = { 127, 0, 0, 1 } };
    fake_device_open(&t);
    bmb_addr bound;
    assert_int_equal(bmb_outlet_addr(t.device, 0, &bound), BMB_OK);

    counting = true;
    int fds[10];
    for (int round = 0; round < 3; round++) {
        for (int i = 0; i < 10; i++) {
            static const char watch[] = "GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n";
            static const char once[] = "GET /status.json HTTP/1.1\r\nHost: a\r\n\r\nGET / HTTP/1.1\r\nHost: a\r\n\r\n";
            fds[i] = dial(bound.port);
            const char *text = i % 5 == 4 ? once : watch;
            assert_true(send(fds[i], text, strlen(text), 0) > 0);
        }
        for (int frame = 0; frame < 50; frame++) {
            t.f->now = port.now_us(port.ctx);
            fake_frame(t.f, 0, jpeg, size, true);
            for (int i = 0; i < 4; i++) (void)bmb_step(t.device);
            for (int i = 0; i < 10; i++) drain(fds[i]);
        }
        bmb_feed_stats stats;
        (void)bmb_feed_stats_get(t.device, 0, &stats);
        assert_int_equal(stats.viewers, 8);
        for (int i = 0; i < 10; i++) close(fds[i]);
        for (int i = 0; i < 20; i++) (void)bmb_step(t.device);
        (void)bmb_feed_stats_get(t.device, 0, &stats);
        assert_int_equal(stats.viewers, 0);
        assert_true(stats.sent >= 350u * (unsigned)(round + 1));
    }
    counting = false;
    assert_int_equal(allocations, 0);

    void *volatile proof; /* the counter does count */
    counting = true;
    proof = malloc(1);
    counting = false;
    assert_int_equal(allocations, 1);
    free(proof);

    bmb_close(t.device);
    t.device = NULL;
    fake_device_close(&t);
    bmb_linux_destroy(self);
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(ten_viewers_cost_no_allocation) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
