/* TCP: accepting, reading, writing, closing, dialling. */
#include "check/check.h"

static void a_listener_takes_connections(void **state)
{
    (void)state;
    bmb_addr bound, again, from;
    bmb_sock listener = listen_here(&bound), second = BMB_NO_SOCK;
    const bmb_addr same = loopback(bound.port);
    int peer;
    assert_int_equal(net()->accept(b.port->ctx, listener, &second, &from), BMB_AGAIN);
    assert_int_equal(net()->listen(b.port->ctx, &same, &second, &again), BMB_IN_USE);
    bmb_sock sock = connected(listener, &bound, &peer);
    assert_int_equal(net()->accept(b.port->ctx, listener, &second, &from), BMB_AGAIN);
    if (net()->local != NULL) { /* what the peer dialled */
        assert_int_equal(net()->local(b.port->ctx, sock, &again), BMB_OK);
        assert_int_equal(again.port, bound.port);
    }
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
    net()->close(b.port->ctx, listener);
    listener = listen_here(&bound); /* and everything again */
    sock = connected(listener, &bound, &peer);
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
    net()->close(b.port->ctx, listener);
}

static void events_last_as_long_as_their_cause(void **state)
{
    (void)state;
    bmb_addr bound;
    int peer;
    char text[8];
    size_t got = 0;
    bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
    assert_int_equal(net()->recv(b.port->ctx, sock, text, sizeof text, &got), BMB_AGAIN);
    assert_int_equal(events_now(7) & BMB_READABLE, 0);
    assert_int_equal(b.peers->send(peer, "abc", 3), 3);
    assert_true((events_of(7, BMB_READABLE) & BMB_READABLE) != 0);
    assert_true((events_of(7, BMB_READABLE) & BMB_READABLE) != 0); /* level-triggered: nobody has read it */
    assert_int_equal(net()->recv(b.port->ctx, sock, text, 1, &got), BMB_OK);
    assert_int_equal(got, 1);
    assert_true((events_of(7, BMB_READABLE) & BMB_READABLE) != 0); /* there is more */
    assert_int_equal(net()->watch(b.port->ctx, sock, 0, 7), BMB_OK);
    assert_int_equal(events_now(7), 0); /* not wanted any more */
    assert_int_equal(net()->watch(b.port->ctx, sock, BMB_READABLE | BMB_WRITABLE, 9), BMB_OK);
    uint32_t events = events_of(9, BMB_WRITABLE); /* under its new token */
    assert_true((events & BMB_WRITABLE) != 0 && (events & BMB_BROKEN) == 0);
    assert_true((events_of(9, BMB_READABLE) & BMB_READABLE) != 0);
    assert_int_equal(net()->recv(b.port->ctx, sock, text, sizeof text, &got), BMB_OK);
    assert_int_equal(got, 2);
    assert_memory_equal(text, "bc", 2);
    assert_int_equal(net()->watch(b.port->ctx, sock, BMB_READABLE, 9), BMB_OK);
    assert_int_equal(events_now(9), 0);
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
    net()->close(b.port->ctx, listener);
}

/* Offers a run of the pattern, in so many slices of which some are empty. */
static bmb_err offer(bmb_sock sock, size_t at, size_t size, size_t count, size_t *taken)
{
    static uint8_t data[32768];
    bmb_slice slices[200];
    size_t used = 0;
    assert_true(size <= sizeof data && count <= 200);
    for (size_t i = 0; i < size; i++) data[i] = pattern(at + i);
    for (size_t i = 0; i < count; i++) {
        size_t one = i + 1 == count ? size - used : i % 5 == 4 ? 0 : size / count;
        slices[i] = (bmb_slice){ data + used, one };
        used += one;
    }
    *taken = 0;
    bmb_err err = net()->send(b.port->ctx, sock, slices, count, taken);
    assert_true(*taken <= size);
    return err;
}

static void many_slices_are_one_run(void **state)
{
    (void)state;
    static const size_t counts[] = { 1, 2, 64, 188 }; /* the core gives up to 188 */
    bmb_addr bound;
    int peer;
    size_t at = 0;
    bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
    for (size_t i = 0; i < sizeof counts / sizeof counts[0]; i++) {
        for (size_t end = at + 6000, tries = 0; at < end; tries++) {
            size_t taken;
            bmb_err err = offer(sock, at, end - at, counts[i], &taken);
            assert_true(err == BMB_OK || err == BMB_AGAIN);
            assert_true(tries < PATIENCE);
            if (taken > 0) assert_true(hears_pattern(peer, at, taken));
            if (taken == 0) pass(5000); /* a stack without threads has memory again when it was asked */
            at += taken;
        }
    }
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
    net()->close(b.port->ctx, listener);
}

static void a_full_stream_says_so_and_goes_on(void **state)
{
    (void)state;
    bmb_addr bound;
    int peer;
    size_t at = 0, taken, heard = 0;
    bmb_err err = BMB_OK;
    bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
    (void)net()->watch(b.port->ctx, sock, BMB_WRITABLE, 7);
    bool writable = true;
    /* Nobody reads: it must fill up, and not block. What is on the way may still make room: then a byte is taken. */
    for (unsigned full = 0, i = 0; (full < 20 || writable) && i < 4000; i++) {
        err = offer(sock, at, 30000, 7, &taken);
        assert_true(taken > 0 || !writable || i == 0);
        at += taken;
        full = taken == 0 ? full + 1 : 0;
        if (err == BMB_AGAIN || taken == 0) pass(2000);
        writable = (events_now(7) & BMB_WRITABLE) != 0;
    }
    assert_int_equal(err, BMB_AGAIN);
    assert_true(at > 0 && !writable);
    assert_true(hears_pattern(peer, heard, at)); /* everything that was taken, and nothing else */
    heard = at;
    assert_true((events_of(7, BMB_WRITABLE) & BMB_WRITABLE) != 0);
    err = offer(sock, at, 20000, 3, &taken);
    assert_true(taken > 0 && (err == BMB_OK || err == BMB_AGAIN)); /* writable means at least a byte */
    assert_true(hears_pattern(peer, heard, taken));
    b.peers->close(peer);
    net()->close(b.port->ctx, sock);
    net()->close(b.port->ctx, listener);
}

/* What was taken arrives, whether the end is announced or not. */
static void the_end_comes_behind_the_last_byte(void **state)
{
    (void)state;
    for (int announced = net()->finish != NULL ? 1 : 0; announced >= 0; announced--) {
        bmb_addr bound;
        int peer;
        size_t taken;
        bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
        (void)net()->watch(b.port->ctx, sock, BMB_READABLE | BMB_WRITABLE, 7);
        assert_true((events_of(7, BMB_WRITABLE) & BMB_WRITABLE) != 0);
        (void)net()->watch(b.port->ctx, sock, BMB_READABLE, 7);
        (void)offer(sock, 0, 20000, 3, &taken);
        assert_true(taken > 0);
        if (announced) net()->finish(b.port->ctx, sock);
        if (!announced) net()->close(b.port->ctx, sock);
        assert_true(hears_pattern(peer, 0, taken));
        assert_true(hears_end(peer));
        if (announced) {
            char text[8];
            size_t got = 0;
            assert_int_equal(b.peers->send(peer, "late", 4), 4); /* and recv goes on */
            assert_true((events_of(7, BMB_READABLE) & BMB_READABLE) != 0);
            assert_int_equal(net()->recv(b.port->ctx, sock, text, sizeof text, &got), BMB_OK);
            assert_int_equal(got, 4);
            net()->close(b.port->ctx, sock);
        }
        b.peers->close(peer);
        net()->close(b.port->ctx, listener);
    }
}

static void a_peer_that_says_no_more_is_gone(void **state)
{
    (void)state;
    for (int half = b.peers->finish != NULL ? 1 : 0; half >= 0; half--) {
        bmb_addr bound;
        int peer;
        char text[8];
        size_t got = 0;
        bmb_sock listener = listen_here(&bound), sock = connected(listener, &bound, &peer);
        assert_int_equal(b.peers->send(peer, "bye", 3), 3);
        if (half) b.peers->finish(peer);
        if (!half) b.peers->close(peer);
        assert_true(events_of(7, BMB_READABLE) != 0);
        assert_int_equal(net()->recv(b.port->ctx, sock, text, sizeof text, &got),
                         BMB_OK); /* what it said comes first */
        assert_int_equal(got, 3);
        bmb_err err = BMB_AGAIN;
        for (unsigned i = 0; i < PATIENCE && err == BMB_AGAIN; i++) {
            assert_true(events_of(7, BMB_READABLE | BMB_BROKEN) != 0); /* its end is an event, and stays one */
            err = net()->recv(b.port->ctx, sock, text, sizeof text, &got);
        }
        assert_int_equal(err, BMB_GONE);
        size_t taken;
        for (unsigned i = 0; !half && i < 50; i++) { /* into the void: an error at some time, and no signal */
            err = offer(sock, 0, 100, 1, &taken);
            if (err == BMB_GONE) break;
            pass(10000);
        }
        assert_int_equal(err, BMB_GONE);
        if (half) b.peers->close(peer);
        net()->close(b.port->ctx, sock);
        net()->close(b.port->ctx, listener);
    }
}

static void all_that_are_ready_get_their_turn(void **state)
{
    (void)state;
    enum { COUNT = 5 };
    bmb_addr bound;
    int peers[COUNT];
    bmb_sock socks[COUNT], listener = listen_here(&bound);
    unsigned told[COUNT] = { 0 };
    for (uint32_t i = 0; i < COUNT; i++) {
        socks[i] = connected(listener, &bound, &peers[i]);
        (void)net()->watch(b.port->ctx, socks[i], BMB_READABLE, 100 + i);
        assert_int_equal(b.peers->send(peers[i], "x", 1), 1);
    }
    for (uint32_t i = 0; i < COUNT; i++) assert_true(events_of(100 + i, BMB_READABLE) != 0);
    for (unsigned i = 0; i < 20 * COUNT; i++) { /* with room for one, and nobody reads */
        bmb_ready one;
        size_t n = net()->ready(b.port->ctx, &one, 1);
        assert_true(n <= 1);
        if (n == 1 && one.token >= 100 && one.token < 100 + COUNT) told[one.token - 100]++;
    }
    for (size_t i = 0; i < COUNT; i++) assert_true(told[i] > 0);
    for (size_t i = 0; i < COUNT; i++) {
        net()->close(b.port->ctx, socks[i]);
        b.peers->close(peers[i]);
    }
    assert_int_equal(events_now(100), 0); /* a closed socket is forgotten */
    net()->close(b.port->ctx, listener);
}

static void dialling_tells_what_became_of_it(void **state)
{
    (void)state;
    bmb_addr bound, nobody;
    bmb_sock sock = BMB_NO_SOCK;
    int peer = -1;
    if (net()->dial == NULL || b.peers->listen == NULL) skip();
    assert_non_null(net()->dialled);
    int other = b.peers->listen(&nobody), listener = b.peers->listen(&bound);
    b.peers->close(other); /* its port is free now */
    assert_int_equal(net()->dial(b.port->ctx, &bound, &sock), BMB_OK);
    (void)net()->watch(b.port->ctx, sock, BMB_WRITABLE, 7);
    bmb_err err = BMB_AGAIN;
    for (unsigned i = 0; i < PATIENCE && err == BMB_AGAIN; i++) {
        assert_true(events_of(7, BMB_WRITABLE | BMB_BROKEN) != 0);
        err = net()->dialled(b.port->ctx, sock);
    }
    assert_int_equal(err, BMB_OK);
    for (unsigned i = 0; i < PATIENCE && (peer = b.peers->accept(listener)) < 0; i++) pass(10000);
    assert_true(peer >= 0);
    size_t taken;
    (void)offer(sock, 0, 500, 2, &taken);
    assert_true(taken > 0 && hears_pattern(peer, 0, taken));
    net()->close(b.port->ctx, sock);
    b.peers->close(peer);
    b.peers->close(listener);

    err = net()->dial(b.port->ctx, &nobody, &sock);
    if (err == BMB_OK) {
        (void)net()->watch(b.port->ctx, sock, BMB_WRITABLE, 8);
        for (unsigned i = 0; i < PATIENCE; i++) {
            (void)events_of(8, BMB_WRITABLE | BMB_BROKEN);
            err = net()->dialled(b.port->ctx, sock);
            if (err != BMB_AGAIN) break;
        }
        net()->close(b.port->ctx, sock);
    }
    assert_int_equal(err, BMB_REFUSED);
}

static void sockets_can_be_had_again_and_again(void **state)
{
    (void)state;
    bmb_addr bound;
    int peer;
    bmb_sock listener = listen_here(&bound);
    for (unsigned i = 0; i < 300; i++) { /* more than any table has: what is closed is free */
        bmb_sock sock = connected(listener, &bound, &peer);
        if (i % 2 == 0) b.peers->close(peer);
        net()->close(b.port->ctx, sock);
        if (i % 2 != 0) b.peers->close(peer);
    }
    net()->close(b.port->ctx, listener);
}

/* Whoever has come waits; what is asked for is refused by name; and afterwards everything is as before. */
static void a_system_without_sockets_says_so(void **state)
{
    (void)state;
    bmb_addr bound, other, from;
    const bmb_addr any = loopback(0);
    const bmb_udp_options options = { 0 };
    bmb_sock listener = listen_here(&bound), sock = BMB_NO_SOCK;
    const bmb_addr to = loopback(bound.port);
    if (b.check->exhaust == NULL) {
        net()->close(b.port->ctx, listener);
        skip();
    }
    int peer = b.peers->connect(&to);
    assert_true((events_of(1, BMB_READABLE) & BMB_READABLE) != 0);
    b.check->exhaust(true);
    bmb_err taken = net()->accept(b.port->ctx, listener, &sock, &from);
    bmb_err listens = net()->listen(b.port->ctx, &any, &sock, &other);
    bmb_err dials = net()->dial != NULL ? net()->dial(b.port->ctx, &to, &sock) : BMB_LIMIT;
    bmb_err opens = net()->udp_open != NULL ? net()->udp_open(b.port->ctx, &any, &options, &sock, &other) : BMB_LIMIT;
    uint32_t events = events_now(1);
    b.check->exhaust(false); /* before anything is asserted: what fails wants to be printed */
    assert_int_equal(taken, BMB_LIMIT);
    assert_int_equal(listens, BMB_LIMIT);
    assert_int_equal(dials, BMB_LIMIT);
    assert_int_equal(opens, BMB_LIMIT);
    assert_true((events & BMB_READABLE) != 0); /* it still waits */
    assert_int_equal(net()->accept(b.port->ctx, listener, &sock, &from), BMB_OK);
    net()->close(b.port->ctx, sock);
    assert_true(hears_end(peer));
    b.peers->close(peer);
    net()->close(b.port->ctx, listener);
}

const struct CMUnitTest check_streams[] = {
    cmocka_unit_test(a_listener_takes_connections),
    cmocka_unit_test(events_last_as_long_as_their_cause),
    cmocka_unit_test(many_slices_are_one_run),
    cmocka_unit_test(a_full_stream_says_so_and_goes_on),
    cmocka_unit_test(the_end_comes_behind_the_last_byte),
    cmocka_unit_test(a_peer_that_says_no_more_is_gone),
    cmocka_unit_test(all_that_are_ready_get_their_turn),
    cmocka_unit_test(dialling_tells_what_became_of_it),
    cmocka_unit_test(sockets_can_be_had_again_and_again),
    cmocka_unit_test(a_system_without_sockets_says_so),
};
const size_t check_streams_count = sizeof check_streams / sizeof check_streams[0];
