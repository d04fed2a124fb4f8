/* UDP: runs of packets, what comes in, and what the network answers. */
#include "check/check.h"

static bool there(void)
{
    bool any = net()->udp_open != NULL || net()->udp_send != NULL || net()->udp_recv != NULL;
    if (!any || b.peers->udp == NULL) return false;
    assert_non_null(net()->udp_open); /* all three or none */
    assert_non_null(net()->udp_send);
    assert_non_null(net()->udp_recv);
    return true;
}

static bmb_sock open_udp(const bmb_addr *peer, bmb_addr *bound)
{
    const bmb_udp_options options = { .peer = peer };
    const bmb_addr any = loopback(0);
    bmb_sock sock = BMB_NO_SOCK;
    assert_int_equal(net()->udp_open(b.port->ctx, &any, &options, &sock, bound), BMB_OK);
    assert_int_not_equal(bound->port, 0);
    return sock;
}

/* Packets of one size, and a shorter last one: each of two slices. */
static void send_run(bmb_sock sock, const bmb_addr *to, size_t count, size_t size)
{
    static uint8_t data[64 * 1500];
    bmb_slice slices[128];
    bmb_packet packets[64];
    size_t done = 0;
    for (size_t i = 0; i < count * size; i++) data[i] = pattern(i);
    for (size_t i = 0; i < count; i++) {
        size_t one = i + 1 == count ? size / 2 : size;
        slices[2 * i] = (bmb_slice){ data + i * size, 12 };
        slices[2 * i + 1] = (bmb_slice){ data + i * size + 12, one - 12 };
        packets[i] = (bmb_packet){ slices + 2 * i, 2, (uint32_t)one };
    }
    for (unsigned tries = 0; done < count && tries < PATIENCE; tries++) {
        size_t taken = 0;
        bmb_err err = net()->udp_send(b.port->ctx, sock, to, packets + done, count - done, &taken);
        assert_true(err == BMB_OK || err == BMB_AGAIN);
        assert_true(taken <= count - done && (err != BMB_OK || taken > 0));
        done += taken;
        if (done < count) pass(2000);
    }
    assert_int_equal(done, count);
}

static void a_run_of_packets_arrives(void **state)
{
    (void)state;
    static const size_t sizes[] = { 200, 1400 };
    if (!there()) skip();
    for (size_t connected_to = 0; connected_to < 2; connected_to++) {
        bmb_addr bound, from, to;
        int peer = b.peers->udp(&to);
        bmb_sock sock = open_udp(connected_to != 0 ? &to : NULL, &bound);
        for (size_t s = 0; s < 2; s++) {
            uint8_t got[2000];
            send_run(sock, connected_to != 0 ? NULL : &to, 16, sizes[s]);
            for (size_t i = 0; i < 16; i++) {
                long n = -1;
                for (unsigned k = 0; k < PATIENCE && (n = b.peers->udp_recv(peer, got, sizeof got, &from)) < 0; k++)
                    pass(10000);
                assert_int_equal(n, i == 15 ? sizes[s] / 2 : sizes[s]); /* each one packet, in order */
                for (long k = 0; k < n; k++) assert_int_equal(got[k], pattern(i * sizes[s] + (size_t)k));
                assert_int_equal(from.port, bound.port);
            }
        }
        net()->close(b.port->ctx, sock);
        b.peers->close(peer);
    }
}

static void what_comes_in_has_a_sender(void **state)
{
    (void)state;
    bmb_addr bound, from, own;
    uint8_t got[64];
    size_t size = 0;
    if (!there()) skip();
    int peer = b.peers->udp(&own);
    bmb_sock sock = open_udp(NULL, &bound);
    (void)net()->watch(b.port->ctx, sock, BMB_READABLE, 7);
    assert_int_equal(net()->udp_recv(b.port->ctx, sock, got, sizeof got, &size, &from), BMB_AGAIN);
    const bmb_addr to = loopback(bound.port);
    uint8_t data[200];
    for (size_t i = 0; i < sizeof data; i++) data[i] = pattern(i);
    assert_int_equal(b.peers->udp_send(peer, &to, data, 40), 40);
    assert_int_equal(b.peers->udp_send(peer, &to, data, sizeof data), sizeof data);
    for (size_t i = 0; i < 2; i++) {
        assert_true((events_of(7, BMB_READABLE) & BMB_READABLE) != 0);
        assert_int_equal(net()->udp_recv(b.port->ctx, sock, got, sizeof got, &size, &from), BMB_OK);
        assert_int_equal(size, i == 0 ? 40 : sizeof got); /* a longer one is cut to the room that there is */
        assert_memory_equal(got, data, size);
        assert_int_equal(from.port, own.port);
    }
    assert_int_equal(net()->udp_recv(b.port->ctx, sock, got, sizeof got, &size, &from), BMB_AGAIN);
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
}

/* A refusal belongs to a packet before: the call that returns it has sent nothing of its own, and may be made again. */
static void a_refusal_is_told_and_ends(void **state)
{
    (void)state;
    bmb_addr bound, to, from;
    uint8_t got[100];
    if (!there()) skip();
    int peer = b.peers->udp(&to);
    b.peers->close(peer); /* nobody is there */
    bmb_sock sock = open_udp(&to, &bound);
    const bmb_slice slice = { "twelve bytes", 12 };
    const bmb_packet packet = { &slice, 1, 12 };
    bmb_err err = BMB_OK;
    size_t taken = 0;
    for (unsigned i = 0; i < 100 && err != BMB_REFUSED; i++) {
        err = net()->udp_send(b.port->ctx, sock, NULL, &packet, 1, &taken);
        if (err != BMB_REFUSED) pass(10000);
    }
    if (err != BMB_REFUSED) print_message("the port does not tell that nobody listens: viewers end by silence alone\n");
    if (err == BMB_REFUSED) assert_int_equal(taken, 0);
    net()->close(b.port->ctx, sock);
    peer = b.peers->udp(&to); /* somebody is */
    sock = open_udp(&to, &bound);
    err = net()->udp_send(b.port->ctx, sock, NULL, &packet, 1, &taken);
    assert_int_equal(err, BMB_OK);
    long n = -1;
    for (unsigned i = 0; i < PATIENCE && (n = b.peers->udp_recv(peer, got, sizeof got, &from)) < 0; i++) pass(10000);
    assert_int_equal(n, 12);
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
}

static void who_is_not_there_is_named(void **state)
{
    (void)state;
    bmb_addr bound, nobody, told;
    if (!there() || net()->udp_unreachable == NULL) skip();
    int peer = b.peers->udp(&nobody);
    b.peers->close(peer);
    bmb_sock sock = open_udp(NULL, &bound);
    (void)net()->watch(b.port->ctx, sock, BMB_READABLE, 7);
    assert_int_equal(net()->udp_unreachable(b.port->ctx, sock, &told), BMB_AGAIN);
    send_run(sock, &nobody, 1, 200);
    assert_true(events_of(7, BMB_READABLE | BMB_BROKEN) != 0); /* readable while there is one to tell */
    assert_int_equal(net()->udp_unreachable(b.port->ctx, sock, &told), BMB_OK);
    assert_int_equal(told.port, nobody.port);
    for (unsigned i = 0; i < 10 && net()->udp_unreachable(b.port->ctx, sock, &told) == BMB_OK; i++) continue;
    assert_int_equal(net()->udp_unreachable(b.port->ctx, sock, &told), BMB_AGAIN);
    net()->close(b.port->ctx, sock);
}

const struct CMUnitTest check_datagrams[] = {
    cmocka_unit_test(a_run_of_packets_arrives),
    cmocka_unit_test(what_comes_in_has_a_sender),
    cmocka_unit_test(a_refusal_is_told_and_ends),
    cmocka_unit_test(who_is_not_there_is_named),
};
const size_t check_datagrams_count = sizeof check_datagrams / sizeof check_datagrams[0];
