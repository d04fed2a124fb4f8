/* The Linux port: every way in which packets leave gives the same packets, and addresses are read and found. */
#include "support/check.h"

#include <unistd.h>

#include "bambino/text.h"
#include "linux/state.h"

static bmb_linux *self;
static bmb_port port;

static int create(void **state)
{
    (void)state;
    return bmb_linux_create(&self, &port) == BMB_OK ? 0 : -1;
}

static int destroy(void **state)
{
    (void)state;
    bmb_linux_destroy(self);
    return 0;
}

#define PACKETS 40

/* Sends packets of the sizes that a frame has, and checks what arrives. */
static void send_and_receive(uint8_t family)
{
    static uint8_t payload[PACKETS][1400], got[2000];
    bmb_slice slices[2 * PACKETS];
    bmb_packet packets[PACKETS];
    const bmb_addr loopback4 = { .family = 4, .ip = { 127, 0, 0, 1 } }, loopback6 = { .family = 6, .ip = { [15] = 1 } };
    const bmb_udp_options options = { 0 };
    bmb_sock out, in;
    bmb_addr from, to;
    const bmb_addr *loopback = family == 6 ? &loopback6 : &loopback4;
    assert_int_equal(port.net.udp_open(port.ctx, loopback, &options, &out, &from), BMB_OK);
    assert_int_equal(port.net.udp_open(port.ctx, loopback, &options, &in, &to), BMB_OK);
    for (size_t i = 0; i < PACKETS; i++) {
        uint32_t size = i == 0 ? 30 : i == 20 ? 700 : i == PACKETS - 1 ? 13 : 1400;
        memset(payload[i], (int)i + 1, sizeof payload[i]);
        slices[2 * i] = (bmb_slice){ payload[i], 12 };
        slices[2 * i + 1] = (bmb_slice){ payload[i] + 12, size - 12 };
        packets[i] = (bmb_packet){ slices + 2 * i, 2, size };
    }
    size_t taken = 0;
    assert_int_equal(port.net.udp_send(port.ctx, out, &to, packets, PACKETS, &taken), BMB_OK);
    assert_int_equal(taken, PACKETS);
    for (size_t i = 0; i < PACKETS; i++) {
        size_t size;
        bmb_addr peer;
        assert_int_equal(port.net.udp_recv(port.ctx, in, got, sizeof got, &size, &peer), BMB_OK);
        assert_int_equal(size, packets[i].size);
        assert_memory_equal(got, payload[i], size);
        assert_int_equal(peer.port, from.port);
    }
    port.net.close(port.ctx, out);
    port.net.close(port.ctx, in);
}

static void packets_arrive_whichever_way_they_leave(void **state)
{
    (void)state;
    const bmb_udp_way ways[] = { BMB_UDP_SEGMENT, BMB_UDP_MANY, BMB_UDP_SINGLE };
    for (size_t i = 0; i < 3; i++) {
        self->udp_way = ways[i];
        send_and_receive(4);
        send_and_receive(6);
        assert_true(self->udp_way >= ways[i]); /* offload may be found missing, nothing is lost then either */
    }
}

static void addresses_are_read(void **state)
{
    (void)state;
    const struct {
        const char *text, *again;
    } good[] = { { "192.0.2.7:80", "192.0.2.7:80" },
                 { ":8080", "0.0.0.0:8080" },
                 { "8080", "0.0.0.0:8080" },
                 { "[2001:db8::7]:0", "[2001:db8::7]:0" },
                 { "[::]:554", "[::]:554" } };
    const char *const bad[] = { "",     ":",     "x",      "1.2.3:80", "1.2.3.4",    "1.2.3.4:",   "1.2.3.4:65536",
                                "[::1", "[]:80", "::1:80", "host:80",  "1.2.3.4:-1", "1.2.3.4:80x" };
    for (size_t i = 0; i < sizeof good / sizeof good[0]; i++) {
        bmb_addr addr;
        char text[BMB_ADDR_TEXT_MAX];
        assert_int_equal(bmb_addr_parse(good[i].text, &addr), BMB_OK);
        bmb_addr_text(&addr, true, text, sizeof text);
        assert_string_equal(text, good[i].again);
    }
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        bmb_addr addr;
        if (bmb_addr_parse(bad[i], &addr) == BMB_OK) fail_msg("\"%s\" was taken for an address", bad[i]);
    }
}

static void a_wildcard_becomes_the_addresses_of_interfaces(void **state)
{
    (void)state;
    bmb_addr any = { .family = 4, .port = 8080 }, one = { .family = 4, .ip = { 127, 0, 0, 1 }, .port = 5 }, out[16];
    size_t n = bmb_linux_reachable(&any, out, 16);
    assert_true(n >= 1);
    assert_int_equal(out[n - 1].ip[0], 127); /* loopback comes last */
    for (size_t i = 0; i < n; i++) {
        assert_int_equal(out[i].port, 8080);
        assert_true(out[i].ip[0] != 0);
    }
    assert_int_equal(bmb_linux_reachable(&one, out, 16), 1);
    assert_int_equal(out[0].port, 5);
}

static void a_wake_ends_a_wait(void **state)
{
    (void)state;
    bmb_ready none[1];
    port.wake(port.ctx);
    uint64_t begin = port.now_us(port.ctx);
    port.wait(port.ctx, begin + 5000000);
    assert_true(port.now_us(port.ctx) < begin + 4000000);
    assert_int_equal(port.net.ready(port.ctx, none, 1), 0);
    begin = port.now_us(port.ctx);
    port.wait(port.ctx, begin + 20000);
    assert_true(port.now_us(port.ctx) >= begin + 20000); /* the wake was taken */
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, create, destroy)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(packets_arrive_whichever_way_they_leave),
        CASE(addresses_are_read),
        CASE(a_wildcard_becomes_the_addresses_of_interfaces),
        CASE(a_wake_ends_a_wait),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
