/* The Linux port: every way in which packets leave gives the same packets, and addresses are read and found. */
#include <netinet/in.h>
#include <sys/socket.h>

#include "support/check.h"
#include "support/emulated.h"

#include <fcntl.h>
#include <net/if.h>
#include <sys/stat.h>
#include <unistd.h>

#include "bambino/text.h"
#include "base/bytes.h"
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
        if (ways[i] == BMB_UDP_SEGMENT && emulated()) continue; /* it does not know that call */
        self->udp_way = ways[i];
        send_and_receive(4);
        send_and_receive(6);
        assert_true(self->udp_way >= ways[i]); /* offload may be found missing, nothing is lost then either */
    }
}

static bool has_ipv6(void)
{
    int fd = socket(AF_INET6, SOCK_STREAM, 0);
    if (fd >= 0) close(fd);
    return fd >= 0;
}

/* A listener at every interface takes whoever comes by IPv4 and by IPv6, and tells who it was as what he is. */
static void every_interface_is_of_both_families(void **state)
{
    (void)state;
    bmb_addr every, bound, peer;
    bmb_sock listener, sock;
    if (!has_ipv6()) skip();
    assert_int_equal(bmb_addr_parse(":0", &every), BMB_OK);
    assert_int_equal(every.family, 6);
    assert_int_equal(port.net.listen(port.ctx, &every, &listener, &bound), BMB_OK);
    for (int six = 0; six < 2; six++) {
        struct sockaddr_in v4 = { .sin_family = AF_INET,
                                  .sin_port = htons(bound.port),
                                  .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
        struct sockaddr_in6 v6 = { .sin6_family = AF_INET6,
                                   .sin6_port = htons(bound.port),
                                   .sin6_addr = IN6ADDR_LOOPBACK_INIT };
        int fd = socket(six ? AF_INET6 : AF_INET, SOCK_STREAM, 0);
        int n = six ? connect(fd, (struct sockaddr *)&v6, sizeof v6) : connect(fd, (struct sockaddr *)&v4, sizeof v4);
        if (n != 0 && six) { /* a loopback interface without IPv6 */
            close(fd);
            continue;
        }
        assert_int_equal(n, 0);
        assert_int_equal(port.net.accept(port.ctx, listener, &sock, &peer), BMB_OK);
        assert_int_equal(peer.family, six ? 6 : 4);
        assert_true(bmb_is_loopback(&peer));
        port.net.close(port.ctx, sock);
        close(fd);
    }
    port.net.close(port.ctx, listener);
}

static void addresses_are_read(void **state)
{
    (void)state;
    const char *every = has_ipv6() ? "[::]:8080" : "0.0.0.0:8080";
    const struct {
        const char *text, *again;
    } good[] = { { "192.0.2.7:80", "192.0.2.7:80" },
                 { "0.0.0.0:8080", "0.0.0.0:8080" },
                 { ":8080", every },
                 { "8080", every },
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

static void destinations_are_read_and_judged(void **state)
{
    (void)state;
    static const struct {
        const char *text;
        bmb_destination_fault fault;
    } rows[] = {
        { "udp://127.0.0.1:5004", BMB_DESTINATION_FINE },
        { "tcp://192.0.2.7:5004/", BMB_DESTINATION_FINE },
        { "udp://[::1]:5004", BMB_DESTINATION_FINE },
        { "http://192.0.2.7:5004", BMB_DESTINATION_SCHEME },
        { "192.0.2.7:5004", BMB_DESTINATION_SCHEME },
        { "udp://192.0.2.7", BMB_DESTINATION_NO_PORT },
        { "udp://192.0.2.7:0", BMB_DESTINATION_NO_PORT },
        { "udp://192.0.2.7:65536", BMB_DESTINATION_NO_PORT },
        { "udp://192.0.2.7:50x", BMB_DESTINATION_NO_PORT },
        { "udp://:5004", BMB_DESTINATION_NOT_AN_ADDRESS },
        { "udp://10.5:5004", BMB_DESTINATION_NOT_AN_ADDRESS },
        { "udp://192.0.2.300:5004", BMB_DESTINATION_NOT_AN_ADDRESS },
        { "udp://192.0.2.7:5004/yard", BMB_DESTINATION_NOT_AN_ADDRESS },
        { "udp://[::1:5004", BMB_DESTINATION_NOT_AN_ADDRESS },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        bool tcp;
        bmb_addr to;
        bmb_destination_fault fault = bmb_linux_destination(rows[i].text, &tcp, &to);
        if (fault != rows[i].fault) fail_msg("%s: %d, not %d", rows[i].text, fault, rows[i].fault);
        if (fault != BMB_DESTINATION_FINE) continue;
        assert_int_equal(tcp, rows[i].text[0] == 't');
        assert_int_equal(to.port, 5004);
    }
    const bmb_addr own = { .family = 4, .ip = { 127, 0, 0, 1 }, .port = 5004 };
    assert_int_equal(bmb_linux_judge(&own), BMB_DESTINATION_OWN);
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

static void an_address_is_of_an_interface(void **state)
{
    (void)state;
    bmb_addr any = { .family = 4 }, any_six = { .family = 6 }, nobodys = { .family = 4, .ip = { 192, 0, 2, 77 } };
    bmb_addr own = { .family = 4, .ip = { 127, 0, 0, 1 } }, six = { .family = 6, .ip = { [0] = 127, [3] = 1 } };
    assert_int_equal(bmb_linux_interface_of(&own), if_nametoindex("lo"));
    assert_int_equal(bmb_linux_interface_of(&any), 0);
    assert_int_equal(bmb_linux_interface_of(&any_six), 0);
    assert_int_equal(bmb_linux_interface_of(&nobodys), 0);
    assert_int_equal(bmb_linux_interface_of(&six), 0); /* the same first bytes, of another family */
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

static void what_comes_back_has_its_address(void **state)
{
    (void)state;
    const bmb_addr loopback = { .family = 4, .ip = { 127, 0, 0, 1 } };
    const bmb_udp_options options = { 0 };
    bmb_sock out, heard, shut;
    if (emulated()) skip(); /* an emulator does not pass on what a host answers */
    bmb_addr from, to, nobody, who;
    assert_int_equal(port.net.udp_open(port.ctx, &loopback, &options, &out, &from), BMB_OK);
    assert_int_equal(port.net.udp_open(port.ctx, &loopback, &options, &heard, &to), BMB_OK);
    assert_int_equal(port.net.udp_open(port.ctx, &loopback, &options, &shut, &nobody), BMB_OK);
    port.net.close(port.ctx, shut);
    assert_int_equal(port.net.watch(port.ctx, out, BMB_READABLE, 7), BMB_OK);
    const bmb_slice slice = { "x", 1 };
    const bmb_packet packet = { &slice, 1, 1 };
    for (int i = 0; i < 20; i++) { /* the one that is there gets all, whatever the other one answers */
        size_t taken = 0, size;
        char byte;
        assert_int_equal(port.net.udp_send(port.ctx, out, &nobody, &packet, 1, &taken), BMB_OK);
        assert_int_equal(port.net.udp_send(port.ctx, out, &to, &packet, 1, &taken), BMB_OK);
        assert_int_equal(taken, 1);
        assert_int_equal(port.net.udp_recv(port.ctx, heard, &byte, 1, &size, &who), BMB_OK);
    }
    bmb_ready ready[2];
    port.wait(port.ctx, port.now_us(port.ctx) + 1000000);
    assert_int_equal(port.net.ready(port.ctx, ready, 2), 1);
    assert_int_equal(ready[0].token, 7);
    assert_true((ready[0].events & BMB_READABLE) != 0);
    char quoted[4] = "";
    size_t got = 0;
    assert_int_equal(port.udp_answer(port.ctx, out, &who, quoted, sizeof quoted, &got), BMB_OK);
    assert_int_equal(who.port, nobody.port);
    assert_true(bmb_same_host(&who, &nobody));
    assert_int_equal(got, 1); /* what was sent */
    assert_int_equal(quoted[0], *(const char *)slice.data);
    while (port.net.udp_unreachable(port.ctx, out, &who) == BMB_OK) assert_int_equal(who.port, nobody.port);
    assert_int_equal(port.net.ready(port.ctx, ready, 2), 0);
    port.net.close(port.ctx, out);
    port.net.close(port.ctx, heard);
}

/* More than a pipe takes, with pauses in which the thread could write. */
static void put_many(bmb_lines *lines)
{
    char line[200];
    memset(line, 'x', sizeof line - 1);
    line[sizeof line - 1] = '\0';
    for (int i = 0; i < 1600; i++) {
        bmb_lines_put(lines, line);
        if (i % 40 == 0) usleep(1000);
    }
}

static void lines_hold_nobody_up(void **state)
{
    (void)state;
    static char got[200000];
    int ends[2];
    assert_int_equal(pipe(ends), 0);
    bmb_lines *lines = bmb_lines_open(ends[1]);
    uint64_t begin = port.now_us(port.ctx);
    put_many(lines);
    assert_true(port.now_us(port.ctx) < begin + 2000000);
    size_t size = 0;
    for (int i = 0; i < 45 && strstr(got, "missing here: nobody took them in time)\nthere\n") == NULL; i++) {
        bmb_lines_put(lines, "there");
        size += (size_t)read(ends[0], got + size, 4000);
    }
    assert_non_null(strstr(got, " lines are missing here: nobody took them in time)\nthere\n"));
    put_many(lines);
    begin = port.now_us(port.ctx);
    assert_false(bmb_lines_close(lines, 100)); /* what hangs in a write is left behind */
    assert_in_range(port.now_us(port.ctx) - begin, 90000, 3000000);
    close(ends[0]); /* and its reader's end ends nothing but that */

    assert_int_equal(pipe(ends), 0);
    lines = bmb_lines_open(ends[1]);
    close(ends[0]);
    put_many(lines);
    assert_true(bmb_lines_close(lines, 2000));
    close(ends[1]);
}

static void files_are_whole_and_nobody_elses(void **state)
{
    (void)state;
    char folder[] = "/tmp/files-XXXXXX", path[64], victim[64], name[64], text[8] = "";
    size_t size;
    bmb_storage storage;
    assert_non_null(mkdtemp(folder));
    snprintf(path, sizeof path, "%s/still.jpg", folder);
    snprintf(victim, sizeof victim, "%s/victim", folder);
    assert_int_equal(bmb_linux_write_whole(victim, "mine", 4, true), BMB_OK);
    assert_int_equal(symlink(victim, path), 0);
    assert_int_equal(bmb_linux_write_whole(path, "new", 3, false), BMB_IN_USE);
    assert_int_equal(bmb_linux_write_whole(path, "new", 3, true), BMB_OK); /* the link is replaced, and not followed */
    assert_int_equal(bmb_linux_storage(self, folder, &storage), BMB_OK);
    assert_int_equal(storage.load(storage.ctx, "victim", text, sizeof text, &size), BMB_OK);
    assert_memory_equal(text, "mine", 4);
    assert_int_equal(storage.load(storage.ctx, "still.jpg", text, sizeof text, &size), BMB_OK);
    assert_int_equal(size, 3);
    assert_int_equal(storage.load(storage.ctx, "still.jpg", text, 2, &size), BMB_NO_ROOM);
    assert_int_equal(storage.store(storage.ctx, "still.jpg", "newer", 5), BMB_OK);
    assert_int_equal(storage.load(storage.ctx, "none", text, sizeof text, &size), BMB_NOT_FOUND);
    snprintf(path, sizeof path, "%s/pipe", folder);
    assert_int_equal(mkfifo(path, 0600), 0);
    assert_int_equal(storage.load(storage.ctx, "pipe", text, sizeof text, &size), BMB_FAILED); /* and does not wait */
    snprintf(path, sizeof path, "%s/nowhere/x", folder);
    assert_int_equal(bmb_linux_write_whole(path, "x", 1, true), BMB_NOT_FOUND);

    /* What a power cut left half goes at the next opening, unless somebody may be writing it just now. */
    const struct timespec old[2] = { { .tv_sec = 1000 }, { .tv_sec = 1000 } };
    snprintf(path, sizeof path, "%s/controls.Ab12Cd.part", folder);
    fclose(fopen(path, "w"));
    assert_int_equal(utimensat(AT_FDCWD, path, old, 0), 0);
    snprintf(name, sizeof name, "%s/controls.Ef34Gh.part", folder);
    fclose(fopen(name, "w"));
    assert_int_equal(bmb_linux_storage(self, folder, &storage), BMB_OK);
    assert_int_equal(access(path, F_OK), -1);
    assert_int_equal(access(name, F_OK), 0);
    assert_true(bmb_linux_unpart(name));
    assert_string_equal(strrchr(name, '/'), "/controls");
    assert_false(bmb_linux_unpart(name));
    snprintf(name, sizeof name, "rm -r %s", folder);
    assert_int_equal(system(name), 0);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, create, destroy)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(packets_arrive_whichever_way_they_leave),
        CASE(every_interface_is_of_both_families),
        CASE(addresses_are_read),
        CASE(destinations_are_read_and_judged),
        CASE(a_wildcard_becomes_the_addresses_of_interfaces),
        cmocka_unit_test(an_address_is_of_an_interface),
        CASE(a_wake_ends_a_wait),
        CASE(what_comes_back_has_its_address),
        CASE(lines_hold_nobody_up),
        CASE(files_are_whole_and_nobody_elses),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
