/* The network on lwIP, and what boards without an operating system share, on the machine that builds: both ends of each
 * connection are sockets of the same stack, over its loopback interface. The same questions run on the emulated board.
 */
#include "support/check.h"

#include <lwip/init.h>
#include <time.h>

#include "bambino/bare.h"
#include "bambino/lwip.h"
#include "bambino/port_check.h"
#include "lwip/state.h"
#include "support/fake_port.h"

#define SOCKETS 24

static bmb_port port, peers;
static bmb_lwip *net, *other;
static bmb_lwip_memory net_memory[BMB_LWIP_MEMORY(SOCKETS)], other_memory[BMB_LWIP_MEMORY(SOCKETS)];
static uint32_t records[5 * BMB_BARE_RECORD / 4];
static uint64_t picture_us;

static uint64_t clock_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

uint32_t sys_now(void);
uint32_t sys_now(void)
{
    return (uint32_t)(clock_us() / 1000);
}

static uint64_t now_us(void *ctx)
{
    (void)ctx;
    return clock_us();
}

static void random_bytes(void *ctx, void *out, size_t size)
{
    (void)ctx;
    for (size_t i = 0; i < size; i++) ((uint8_t *)out)[i] = (uint8_t)rand();
}

/* A camera whose interrupt comes when time is let pass. */
static uint8_t pictures[4][2000], image[2000];
static size_t image_size;
static bmb_bare_buffer buffer[4];
static bmb_bare_buffers buffers = { .buffer = buffer, .count = 4 };
static bool running;

static void interrupt(void)
{
    uint8_t *to = bmb_bare_fill(&buffers);
    if (to == NULL) return;
    if (image_size == 0) image_size = fake_jpeg(image, 160, 120, 1500);
    memcpy(to, image, image_size);
    bmb_bare_filled(&buffers, image_size, clock_us());
    port.wake(port.ctx);
}

static void sleep_until(void *ctx, uint64_t until_us, const volatile bool *woken)
{
    (void)ctx;
    const struct timespec short_time = { .tv_nsec = 200000 };
    while (!*woken && clock_us() < until_us) {
        nanosleep(&short_time, NULL);
        if (running && clock_us() >= picture_us) {
            picture_us = clock_us() + 5000;
            interrupt();
        }
        if (until_us == UINT64_MAX) return;
    }
}

static size_t count(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    static const bmb_mode_row modes[] = { { BMB_CODEC_JPEG, 320, 240, 30000 } };
    (void)ctx;
    if (index > 0) return BMB_NOT_FOUND;
    *out =
        (bmb_camera_info){ .name = "loco", .modes = modes, .mode_count = 1, .buffers = 4, .frame_max = sizeof image };
    return BMB_OK;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    (void)ctx;
    (void)index;
    if (asked->codec != BMB_CODEC_JPEG) return BMB_UNSUPPORTED;
    *effective = (bmb_mode){ BMB_CODEC_JPEG, 320, 240, 30000 };
    running = true;
    return BMB_OK;
}

static void stop(void *ctx, size_t index)
{
    (void)ctx;
    (void)index;
    running = false;
    bmb_bare_empty(&buffers);
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    (void)ctx;
    (void)index;
    return bmb_bare_take(&buffers, out);
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)ctx;
    (void)index;
    bmb_bare_release(&buffers, cookie);
}

static bool interrupts_off;

static void interrupts(bool on)
{
    assert_int_equal(on, interrupts_off); /* off and on again, in turn */
    interrupts_off = !on;
}

static bool input(void *ctx)
{
    (void)ctx;
    return false;
}

static bmb_port *open_lwip(void)
{
    static const bmb_lwip_board board = {
        .now_us = now_us, .random = random_bytes, .input = input, .sleep = sleep_until
    };
    static const bmb_bare_board bare = { .now_us = clock_us, .interrupts = interrupts };
    static bool begun;
    if (!begun) lwip_init();
    begun = true;
    bmb_bare_start(&bare);
    net = bmb_lwip_open(&board, net_memory, SOCKETS, &port);
    other = bmb_lwip_open(&board, other_memory, SOCKETS, &peers);
    bmb_port_peers_use(&peers);
    for (size_t i = 0; i < 4; i++) buffer[i].data = pictures[i];
    port.cameras =
        (bmb_cameras){ .count = count, .info = info, .start = start, .stop = stop, .take = take, .release = release };
    memset(records, 0x5A, sizeof records);
    bmb_bare_storage(records, sizeof records, &port.storage);
    return &port;
}

static void close_lwip(bmb_port *p)
{
    (void)p;
    bmb_lwip_close(other);
    bmb_lwip_close(net);
}

/* What is special about this port. Each begins with a fresh one. */
static int open_one(void **state)
{
    (void)state;
    (void)open_lwip();
    return 0;
}

static int close_one(void **state)
{
    (void)state;
    close_lwip(&port);
    return 0;
}

static void turn(unsigned times)
{
    bmb_ready none[1];
    for (unsigned i = 0; i < times; i++) (void)port.net.ready(port.ctx, none, 1); /* works without `wait`, too */
}

static const sock *at(bmb_sock index)
{
    return bmb_lwip_sock(net, index);
}

static bmb_sock listen_here(bmb_addr *bound)
{
    const bmb_addr any = { .family = 4, .ip = { 127, 0, 0, 1 } };
    bmb_sock listener;
    assert_int_equal(port.net.listen(port.ctx, &any, &listener, bound), BMB_OK);
    bound->ip[0] = 127;
    bound->ip[3] = 1;
    return listener;
}

static bmb_sock connect_here(bmb_sock listener, const bmb_addr *to, bmb_sock *peer)
{
    bmb_sock mine = BMB_NO_SOCK;
    bmb_addr from;
    assert_int_equal(peers.net.dial(peers.ctx, to, peer), BMB_OK);
    for (unsigned i = 0; i < 20 && mine == BMB_NO_SOCK; i++) {
        turn(1);
        (void)port.net.accept(port.ctx, listener, &mine, &from);
    }
    assert_int_not_equal(mine, BMB_NO_SOCK);
    return mine;
}

/* Offers until nothing is taken; nobody reads. Returns what was. */
static size_t fill(bmb_sock mine)
{
    static uint8_t data[8000];
    const bmb_slice slice = { data, sizeof data };
    size_t taken = 0, sum = 0;
    for (unsigned idle = 0; idle < 5; idle++) {
        if (port.net.send(port.ctx, mine, &slice, 1, &taken) == BMB_OK) idle = 0;
        sum += taken;
        turn(2);
    }
    return sum;
}

static void bytes_one_by_one_take_few_buffers(void **state)
{
    (void)state;
    bmb_addr to;
    bmb_sock peer, listener = listen_here(&to), mine = connect_here(listener, &to, &peer);
    for (uint8_t i = 0; i < 40; i++) {
        const bmb_slice slice = { &i, 1 };
        size_t taken = 0;
        assert_int_equal(peers.net.send(peers.ctx, peer, &slice, 1, &taken), BMB_OK);
        turn(2);
        assert_in_range(pbuf_clen(at(mine)->in), 1, BMB_LWIP_PIECES);
    }
    uint8_t got[50];
    size_t size;
    assert_int_equal(port.net.recv(port.ctx, mine, got, sizeof got, &size), BMB_OK);
    assert_int_equal(size, 40);
    for (uint8_t i = 0; i < 40; i++) assert_int_equal(got[i], i);
}

/* Whoever does not read what is copied for him takes his share, and all together half of the memory. */
static void copied_bytes_are_bounded(void **state)
{
    (void)state;
    bmb_addr to;
    bmb_sock peer[16], mine[16], listener = listen_here(&to);
    for (size_t i = 0; i < 16; i++) {
        mine[i] = connect_here(listener, &to, &peer[i]);
        size_t taken = fill(mine[i]);
        assert_true(at(mine[i])->copied <= (i < 2 ? TCP_SND_BUF : BMB_LWIP_COPIED));
        assert_true(taken >= BMB_LWIP_COPIED_LEAST);
        assert_true(net->copied < BMB_LWIP_COPIED_ALL + BMB_LWIP_COPIED + 16 * BMB_LWIP_COPIED_LEAST);
        assert_int_equal(bmb_lwip_events(at(mine[i])) & BMB_WRITABLE, 0);
    }
    assert_true(net->copied >= BMB_LWIP_COPIED_ALL);
    assert_true(at(mine[15])->copied <= BMB_LWIP_COPIED_LEAST); /* the last ones get little */
    for (unsigned i = 0; i < 200; i++) {                        /* the first one reads: it goes on */
        uint8_t got[2000];
        size_t size;
        (void)peers.net.recv(peers.ctx, peer[0], got, sizeof got, &size);
        turn(2);
        nanosleep(&(struct timespec){ .tv_nsec = 1000000 }, NULL);
    }
    assert_int_equal(at(mine[0])->copied, 0);
    assert_true((bmb_lwip_events(at(mine[0])) & BMB_WRITABLE) != 0);
    for (size_t i = 0; i < 16; i++) port.net.close(port.ctx, mine[i]);
    turn(20);
    assert_true(net->copied < BMB_LWIP_COPIED_ALL); /* those that are only ending give their share back */
}

static void those_that_end_give_way_to_newcomers(void **state)
{
    (void)state;
    bmb_addr to;
    bmb_sock peer, listener = listen_here(&to);
    for (size_t i = 0; i < 3 * SOCKETS; i++) {
        bmb_sock mine = connect_here(listener, &to, &peer);
        (void)fill(mine);
        assert_int_equal(at(mine)->kind, SOCK_STREAM);
        port.net.close(port.ctx, mine);
        assert_int_equal(at(mine)->kind, SOCK_ENDING); /* what was taken is not acknowledged yet */
        peers.net.close(peers.ctx, peer);              /* a peer that closes without reading … */
        turn(2);
    }
    uint16_t most;
    assert_true(bmb_lwip_used(net, &most) <= SOCKETS);
    assert_in_range(most, 2, SOCKETS);
}

static void an_end_is_no_reset(void **state)
{
    (void)state;
    bmb_addr to;
    bmb_sock peer, listener = listen_here(&to), mine = connect_here(listener, &to, &peer);
    port.net.close(port.ctx, mine);
    turn(5);
    const struct sock *end = bmb_lwip_sock(other, peer);
    assert_true(end->ended && !end->broken);
    assert_int_equal(bmb_lwip_used(net, NULL), 1); /* the listener */
}

static void who_leaves_before_he_is_accepted_is_forgotten(void **state)
{
    (void)state;
    bmb_addr to, from;
    bmb_sock peer, mine, listener = listen_here(&to);
    for (unsigned i = 0; i < 2 * SOCKETS; i++) {
        assert_int_equal(peers.net.dial(peers.ctx, &to, &peer), BMB_OK);
        turn(6);
        assert_int_equal(bmb_lwip_used(net, NULL), 2);
        tcp_abort(bmb_lwip_sock(other, peer)->tcp);
        peers.net.close(peers.ctx, peer);
        turn(4);
        assert_int_equal(bmb_lwip_used(net, NULL), 1);
    }
    assert_int_equal(port.net.accept(port.ctx, listener, &mine, &from), BMB_AGAIN);
}

static void groups_have_their_hop_limit(void **state)
{
    (void)state;
    const bmb_addr any = { .family = 4 };
    bmb_addr bound;
    bmb_sock mine;
    for (uint8_t ttl = 0; ttl < 6; ttl += 5) {
        const bmb_udp_options options = { .ttl = ttl };
        assert_int_equal(port.net.udp_open(port.ctx, &any, &options, &mine, &bound), BMB_OK);
        assert_int_equal(udp_get_multicast_ttl(at(mine)->udp), ttl == 0 ? 1 : 5);
        assert_int_not_equal(bound.port, 0);
        port.net.close(port.ctx, mine);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(bytes_one_by_one_take_few_buffers, open_one, close_one),
        cmocka_unit_test_setup_teardown(copied_bytes_are_bounded, open_one, close_one),
        cmocka_unit_test_setup_teardown(those_that_end_give_way_to_newcomers, open_one, close_one),
        cmocka_unit_test_setup_teardown(an_end_is_no_reset, open_one, close_one),
        cmocka_unit_test_setup_teardown(who_leaves_before_he_is_accepted_is_forgotten, open_one, close_one),
        cmocka_unit_test_setup_teardown(groups_have_their_hop_limit, open_one, close_one),
    };
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    const bmb_port_check check = { .name = "lwIP", .open = open_lwip, .close = close_lwip, .peers = &bmb_port_peers };
    return failed + bmb_port_check_run(&check);
}
