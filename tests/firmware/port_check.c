/* The port check on the board itself: its port, and as the other ends a second set of sockets of the same lwIP. */
#include <errno.h>
#include <stdio.h>

#include "bambino/port_check.h"
#include "mps2/board.h"

/* What cmocka and newlib's stdio need: a heap, and a place for text. The port has neither. */
static char heap[32 * 1024];
unsigned bmb_bare_heap_asked; /* no_heap.c is not here */

void *_sbrk(ptrdiff_t more);
void *_sbrk(ptrdiff_t more)
{
    static size_t used;
    if (used + (size_t)more > sizeof heap) {
        errno = ENOMEM;
        return (void *)-1;
    }
    used += (size_t)more;
    return heap + used - (size_t)more;
}

int _write(int file, const char *text, int size);
int _write(int file, const char *text, int size)
{
    (void)file;
    for (int i = 0; i < size; i++)
        while (!mps2_put((uint8_t)text[i])) continue;
    return size;
}

static bmb_port port, peers;

static uint64_t now_us(void *ctx)
{
    (void)ctx;
    return mps2_now_us();
}

static bmb_port *open_board(void)
{
    static const bmb_lwip_board board = {
        .now_us = now_us, .random = mps2_random_bytes, .input = mps2_ethernet_input, .sleep = mps2_sleep
    };
    static bmb_lwip_memory sockets[BMB_LWIP_MEMORY(MPS2_SOCKETS)];
    port = mps2_port();
    port.log = NULL;
    (void)bmb_lwip_open(&board, sockets, MPS2_SOCKETS, &peers);
    bmb_port_peers_use(&peers);
    return &port;
}

static void close_board(bmb_port *p)
{
    bmb_lwip_close((bmb_lwip *)peers.ctx);
    bmb_lwip_close((bmb_lwip *)p->ctx);
}

int main(void)
{
    const bmb_port_check check = {
        .name = "the board", .open = open_board, .close = close_board, .peers = &bmb_port_peers
    };
    setvbuf(stdout, NULL, _IONBF, 0);
    mps2_start("port check");
    uint8_t kept[64];
    size_t size;
    const bmb_storage *storage = &open_board()->storage;
    bool before = storage->load(storage->ctx, "check-record", kept, sizeof kept, &size) == BMB_OK;
    printf("storage: %s\r\n", before ? "a record of before is there" : "empty");
    close_board(&port);
    int failed = bmb_port_check_run(&check);
    printf("port check: %d failed, %u bytes of stack at most\r\n", failed, (unsigned)mps2_stack_most());
    for (;;) mps2_sleep(NULL, UINT64_MAX, &(volatile bool){ false });
}
