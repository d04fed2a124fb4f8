/* Bytes that are lent to a connection until they are acknowledged. */
#include "check/check.h"

static uint8_t memory[8000];

static bool lends(void)
{
    return b.port->net.send_lent != NULL;
}

static bmb_err lend(bmb_sock sock, size_t at, size_t *taken)
{
    static const uint8_t head[] = { 1, 2, 3 };
    const bmb_slice slices[] = { { head, at == 0 ? sizeof head : 0 }, { memory + at, sizeof memory - at } };
    const bmb_slice lent = { memory, sizeof memory };
    *taken = 0;
    return b.port->net.send_lent(b.port->ctx, sock, slices, 2, &lent, taken);
}

/* All of it, as the other end takes it. */
static void lend_all(bmb_sock sock, int peer)
{
    size_t taken = 0, sent = 0, heard = 0, size = 3 + sizeof memory;
    uint8_t got[500];
    for (size_t i = 0; i < sizeof memory; i++) memory[i] = pattern(i);
    for (unsigned i = 0; i < PATIENCE && heard < size; i++) {
        if (sent < size && lend(sock, sent > 3 ? sent - 3 : 0, &taken) == BMB_OK) sent += taken;
        assert_true(sent == 0 || sent >= 3);
        assert_true(b.port->net.unacked(b.port->ctx, sock) <= sent);
        (void)events_now(UINT32_MAX);
        for (long n; heard < size && (n = b.peers->recv(peer, got, sizeof got)) > 0;)
            for (long k = 0; k < n; k++, heard++) assert_int_equal(got[k], heard < 3 ? heard + 1 : pattern(heard - 3));
        pass(5000);
    }
    assert_int_equal(heard, size);
}

static void what_is_lent_comes_back(void **state)
{
    (void)state;
    bmb_addr bound;
    int peer;
    if (!lends()) skip();
    assert_non_null(b.port->net.unacked); /* both or neither */
    bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
    assert_int_equal(b.port->net.unacked(b.port->ctx, sock), 0);
    lend_all(sock, peer);
    uint32_t left = UINT32_MAX;
    for (unsigned i = 0; i < PATIENCE && left > 0; i++) {
        (void)events_now(UINT32_MAX);
        left = b.port->net.unacked(b.port->ctx, sock);
        pass(10000);
    }
    assert_int_equal(left, 0); /* the peer has all of it */
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
    net()->close(b.port->ctx, listener);
}

/* The memory is somebody else's as soon as the socket is closed: what is not sent by then never is. */
static void what_is_closed_is_not_read_any_more(void **state)
{
    (void)state;
    bmb_addr bound;
    int peer;
    size_t taken, heard = 0;
    uint8_t got[500];
    if (!lends()) skip();
    bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
    for (size_t i = 0; i < sizeof memory; i++) memory[i] = pattern(i);
    (void)lend(sock, 0, &taken);
    assert_true(taken > 0);
    net()->close(b.port->ctx, sock);
    memset(memory, 0xEE, sizeof memory);
    for (unsigned i = 0; i < 30; i++) {
        (void)events_now(UINT32_MAX);
        for (long n; (n = b.peers->recv(peer, got, sizeof got)) > 0;)
            for (long k = 0; k < n; k++, heard++) assert_int_equal(got[k], heard < 3 ? heard + 1 : pattern(heard - 3));
        pass(10000);
    }
    assert_true(heard <= taken);
    b.peers->close(peer);
    net()->close(b.port->ctx, listener);
}

const struct CMUnitTest check_lent[] = {
    cmocka_unit_test(what_is_lent_comes_back),
    cmocka_unit_test(what_is_closed_is_not_read_any_more),
};
const size_t check_lent_count = sizeof check_lent / sizeof check_lent[0];
