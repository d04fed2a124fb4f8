/* An encrypted connection behind its handshake: what the peer says arrives as it was said, whatever its pieces; records
 * that somebody else wrote between end it, and nothing of them arrives. Both ends are ours, on two ports in memory. */
#include <stdlib.h>
#include <string.h>

#include "bambino/tls.h"
#include "support/fake_port.h"

typedef struct end {
    fake_port *fake;
    bmb_tls tls;
    bmb_port port;
    bmb_sock sock;
} end;

static end server, client;
static bmb_sock listener;

static void set_up(end *e, bool listens)
{
    size_t each, size;
    const bmb_addr any = { .family = 4, .port = 443 };
    bmb_addr bound;
    e->fake = fake_create();
    const bmb_tls_config config = { .under = &e->fake->port, .name = "yard" };
    if (bmb_tls_lay_over(&e->tls, &config, &e->port) != BMB_OK) abort();
    size = e->port.encryption.memory(e->port.ctx, 2, 2, &each);
    if (e->port.encryption.open(e->port.ctx, malloc(size), size, 2, 2) != BMB_OK) abort();
    if (!listens) return;
    if (e->port.net.listen(e->port.ctx, &any, &listener, &bound) != BMB_OK) abort();
    if (e->port.encryption.listen(e->port.ctx, listener) != BMB_OK) abort();
}

static void turn(end *e)
{
    bmb_ready ready[4];
    for (int i = 0; i < 3; i++) (void)e->port.net.ready(e->port.ctx, ready, 4);
    e->fake->now += 1000;
}

/* What one end has sent reaches the other. */
static void pass(end *from, end *to)
{
    size_t size;
    const char *text = fake_take(from->fake, from->sock, &size);
    if (size > 0) fake_say(to->fake, to->sock, text, size);
    turn(to);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static uint8_t heard[9000];
    const bmb_addr to = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 443 };
    bmb_addr peer;
    size_t said = 0, got = 0;
    if (!bmb_tls_there() || size < 3 || size > 8000) return 0;
    if (server.fake == NULL) set_up(&server, true);
    if (client.fake == NULL) set_up(&client, false);
    if (client.port.net.dial(client.port.ctx, &to, &client.sock) != BMB_OK ||
        client.port.encryption.dial(client.port.ctx, client.sock, NULL) != BMB_OK)
        abort();
    fake_connect(server.fake, 0);
    if (server.port.net.accept(server.port.ctx, listener, &server.sock, &peer) != BMB_OK) abort();
    (void)server.port.net.watch(server.port.ctx, server.sock, BMB_READABLE, 5);
    (void)client.port.net.watch(client.port.ctx, client.sock, BMB_WRITABLE, 6);
    for (int i = 0; i < 8; i++) {
        (void)client.port.net.dialled(client.port.ctx, client.sock);
        turn(&client);
        pass(&client, &server);
        pass(&server, &client);
    }
    const bool garbles = (data[0] & 1) != 0;
    const size_t piece = 1 + (data[0] >> 1) * 30u, spoils_at = data[1] * 16u;
    bool spoiled = false, ended = false;
    data += 2;
    size -= 2;
    for (size_t at = 0; at < size && !ended; at += piece) {
        const bmb_slice slice = { data + at, size - at < piece ? size - at : piece };
        size_t taken = 0, n = 0;
        if (client.port.net.send(client.port.ctx, client.sock, &slice, 1, &taken) == BMB_OK) said += taken;
        turn(&client);
        if (garbles && at >= spoils_at && !spoiled) { /* a record that nobody on this connection wrote */
            fake_say(server.fake, server.sock, data + at, slice.size);
            spoiled = true;
        }
        pass(&client, &server);
        bmb_err err = server.port.net.recv(server.port.ctx, server.sock, heard + got, sizeof heard - got, &n);
        got += n;
        ended = err == BMB_GONE;
        if (taken < slice.size) break;
    }
    if (got > said || memcmp(heard, data, got) != 0) abort();
    if (!garbles && !ended && got != said) abort();
    server.port.net.close(server.port.ctx, server.sock);
    client.port.net.close(client.port.ctx, client.sock);
    for (end *e = &server; e != NULL; e = e == &server ? &client : NULL) {
        e->fake->now += 3000000;
        turn(e);
    }
    return 0;
}
