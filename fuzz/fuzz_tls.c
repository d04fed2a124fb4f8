/* Peers of encrypted connections, accepted and dialled: what they say, in pieces. */
#include <stdlib.h>
#include <string.h>

#include "bambino/tls.h"
#include "support/fake_port.h"

static fake_port *fake;
static bmb_tls tls;
static bmb_port port;
static bmb_sock listener;

static void set_up(void)
{
    size_t each, size;
    const bmb_addr any = { .family = 4, .port = 443 };
    bmb_addr bound;
    fake = fake_create();
    const bmb_tls_config config = { .under = &fake->port, .name = "yard" };
    if (bmb_tls_lay_over(&tls, &config, &port) != BMB_OK) abort();
    size = port.encryption.memory(port.ctx, 2, 2, &each);
    if (port.encryption.open(port.ctx, malloc(size), size, 2, 2) != BMB_OK) abort();
    if (port.net.listen(port.ctx, &any, &listener, &bound) != BMB_OK) abort();
    if (port.encryption.listen(port.ctx, listener) != BMB_OK) abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    if (!bmb_tls_there() || size < 2 || size > 8000) return 0;
    if (fake == NULL) set_up();
    bool dials = (data[0] & 1) != 0;
    size_t piece = 1 + (data[0] >> 1) * 20u;
    bmb_sock sock = BMB_NO_SOCK;
    bmb_addr peer = { .family = 4, .ip = { 192, 0, 2, 7 }, .port = 443 };
    if (dials) {
        if (port.net.dial(port.ctx, &peer, &sock) != BMB_OK || port.encryption.dial(port.ctx, sock, NULL) != BMB_OK)
            abort();
    } else {
        fake_connect(fake, 0);
        if (port.net.accept(port.ctx, listener, &sock, &peer) != BMB_OK) abort();
    }
    (void)port.net.watch(port.ctx, sock, BMB_READABLE | BMB_WRITABLE, 5);
    for (size_t at = 1; at < size; at += piece) {
        bmb_ready ready[4];
        uint8_t heard[100];
        size_t got, n = size - at < piece ? size - at : piece, taken;
        const bmb_slice slice = { heard, sizeof heard };
        if (dials) (void)port.net.dialled(port.ctx, sock);
        fake_say(fake, sock, data + at, n);
        for (int i = 0; i < 4; i++) (void)port.net.ready(port.ctx, ready, 4);
        memset(heard, 0, sizeof heard);
        (void)port.net.recv(port.ctx, sock, heard, sizeof heard, &got);
        (void)port.net.send(port.ctx, sock, &slice, 1, &taken);
        (void)fake_take(fake, sock, NULL);
        fake->now += 1000;
    }
    port.net.close(port.ctx, sock);
    fake->now += 3000000;
    bmb_ready ready[4];
    (void)port.net.ready(port.ctx, ready, 4);
    bmb_tls_figures f;
    bmb_tls_figures_get(&tls, &f);
    if (f.strays != 0) abort();
    return 0;
}
