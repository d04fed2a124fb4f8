/* The parts of the board, put together. */
#include "mps2/board.h"

#include <lwip/init.h>

#define UART_DATA mps2_at(MPS2_UART0 + 0x0u)
#define UART_STATE mps2_at(MPS2_UART0 + 0x4u)
#define UART_CTRL mps2_at(MPS2_UART0 + 0x8u)
#define UART_BAUDDIV mps2_at(MPS2_UART0 + 0x10u)
#define LED mps2_at(MPS2_FPGAIO + 0x0u)

bool mps2_put(uint8_t byte)
{
    if ((*UART_STATE & 1) != 0) return false;
    *UART_DATA = byte;
    return true;
}

static void lamp(bool lit)
{
    *LED = lit ? 1 : 0;
}

static uint64_t now_us(void *ctx)
{
    (void)ctx;
    return mps2_now_us();
}

void mps2_start(const char *what)
{
    static const bmb_bare_board board = { .now_us = mps2_now_us,
                                          .put = mps2_put,
                                          .ipv4 = mps2_ipv4,
                                          .lamp = lamp,
                                          .stack_most = mps2_stack_most,
                                          .heap_asked = &bmb_bare_heap_asked,
                                          .interrupts = mps2_interrupts,
                                          .restart = mps2_stop,
                                          .feed = mps2_feed };
    *UART_BAUDDIV = MPS2_HZ / 115200;
    *UART_CTRL = 1; /* transmits */
    bmb_bare_start(&board);
    bmb_bare_say("%s: mps2-an385, Cortex-M3 at %u MHz, emulated", what, (unsigned)(MPS2_HZ / 1000000));
    mps2_say_reset();
    bmb_bare_say("RAM: %u KiB of static data, the rest is stack", (unsigned)(mps2_ram_used() / 1024));
    lwip_init();
    bool cable = mps2_ethernet_start();
    bmb_bare_say("network: %s", cable ? "cable, asking for an address" : "the Ethernet controller does not answer");
}

bmb_port mps2_port(void)
{
    static const bmb_lwip_board network = { .now_us = now_us,
                                            .random = mps2_random_bytes,
                                            .input = mps2_ethernet_input,
                                            .sleep = mps2_sleep,
                                            .link = mps2_ethernet_link,
                                            .taken = bmb_bare_taken };
    static bmb_lwip_memory sockets[BMB_LWIP_MEMORY(MPS2_SOCKETS)];
    extern uint32_t storage_begin[], storage_end[]; /* no program loads anything there */
    bmb_port port;
    (void)bmb_lwip_open(&network, sockets, MPS2_SOCKETS, &port);
    bmb_bare_port(&port);
    bmb_bare_storage(storage_begin, (uintptr_t)storage_end - (uintptr_t)storage_begin, &port.storage);
    mps2_camera(&port.cameras, port.wake, port.ctx);
    return port;
}
