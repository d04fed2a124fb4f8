#include <stdio.h>

#include "check/check.h"

bench b;

void pass(uint32_t us)
{
    if (b.check->pass != NULL) {
        b.check->pass(b.port, us);
    } else {
        for (uint64_t end = b.port->now_us(b.port->ctx) + us; b.port->now_us(b.port->ctx) < end;)
            b.port->wait(b.port->ctx, end);
    }
}

uint32_t events_now(uint32_t token)
{
    bmb_ready ready[8];
    uint32_t events = 0;
    size_t n = b.port->net.ready(b.port->ctx, ready, 8);
    assert_true(n <= 8);
    for (size_t i = 0; i < n; i++)
        if (ready[i].token == token) events |= ready[i].events;
    return events;
}

uint32_t events_of(uint32_t token, uint32_t wanted)
{
    for (unsigned i = 0; i < PATIENCE; i++) {
        uint32_t events = events_now(token);
        if ((events & wanted) != 0) return events;
        pass(10000);
    }
    return 0;
}

bmb_addr loopback(uint16_t port)
{
    bmb_addr a = b.check->host;
    if (a.family == 0) a = (bmb_addr){ .family = 4, .ip = { 127, 0, 0, 1 } };
    a.port = port;
    return a;
}

bmb_sock listen_here(bmb_addr *bound)
{
    bmb_sock listener = BMB_NO_SOCK;
    const bmb_addr any = loopback(0);
    assert_int_equal(b.port->net.listen(b.port->ctx, &any, &listener, bound), BMB_OK);
    assert_int_not_equal(bound->port, 0); /* the port that the system chose */
    assert_int_equal(b.port->net.watch(b.port->ctx, listener, BMB_READABLE, 1), BMB_OK);
    return listener;
}

bmb_sock connected(bmb_sock listener, const bmb_addr *bound, int *peer)
{
    bmb_sock sock = BMB_NO_SOCK;
    bmb_addr from;
    const bmb_addr to = loopback(bound->port);
    *peer = b.peers->connect(&to);
    assert_true(*peer >= 0);
    assert_true((events_of(1, BMB_READABLE) & BMB_READABLE) != 0); /* a waiting connection is readable */
    assert_int_equal(b.port->net.accept(b.port->ctx, listener, &sock, &from), BMB_OK);
    assert_true(from.family == 4 || from.family == 6);
    assert_int_equal(b.port->net.watch(b.port->ctx, sock, BMB_READABLE, 7), BMB_OK);
    return sock;
}

uint8_t pattern(size_t at)
{
    return (uint8_t)(at * 31 + at / 253);
}

bool hears_pattern(int peer, size_t at, size_t size)
{
    static uint8_t data[65536];
    size_t end = at + size;
    for (unsigned i = 0; i < PATIENCE && at < end;) {
        size_t room = end - at < sizeof data ? end - at : sizeof data;
        long n = b.peers->recv(peer, data, room);
        if (n <= 0) {
            i++;
            (void)events_now(UINT32_MAX); /* a stack without threads works when it is asked */
            pass(10000);
            continue;
        }
        for (long k = 0; k < n; k++, at++)
            if (data[k] != pattern(at)) fail_msg("byte %zu is %u instead of %u", at, data[k], pattern(at));
    }
    return at == end;
}

bool hears_end(int peer)
{
    uint8_t data[64];
    for (unsigned i = 0; i < PATIENCE; i++) {
        long n = b.peers->recv(peer, data, sizeof data);
        if (n == 0) return true;
        if (n > 0) return false;
        (void)events_now(UINT32_MAX);
        pass(10000);
    }
    return false;
}

static int open_port(void **state)
{
    (void)state;
    b.port = b.check->open();
    return b.port != NULL ? 0 : -1;
}

static int close_port(void **state)
{
    (void)state;
    b.check->close(b.port);
    return 0;
}

static int run_group(const struct CMUnitTest *questions, size_t count)
{
    struct CMUnitTest tests[16];
    for (size_t i = 0; i < count; i++) {
        tests[i] = questions[i];
        tests[i].setup_func = open_port;
        tests[i].teardown_func = close_port;
    }
    return _cmocka_run_group_tests(b.check->name, tests, count, NULL, NULL);
}

int bmb_port_check_run(const bmb_port_check *check)
{
    b = (bench){ .check = check, .peers = check->peers };
    return run_group(check_basics, check_basics_count) + run_group(check_streams, check_streams_count) +
           run_group(check_lent, check_lent_count) + run_group(check_datagrams, check_datagrams_count) +
           run_group(check_cameras, check_cameras_count);
}
