/* Start-up of a Cortex-M3, as its vendor's code does it: vectors, memory, and what happens when a program goes wrong.
 */
#include <string.h>

#include "mps2/board.h"

extern uint32_t data_load[], data_begin[], data_end[], bss_begin[], bss_end[], stack_limit[], stack_top[];
int main(void);

#define PAINT 0xB0B0B0B0u

void mps2_reset(void) __attribute__((noreturn, naked));
void mps2_begin(void) __attribute__((noreturn, used));

void mps2_begin(void)
{
    memcpy(data_begin, data_load, (uintptr_t)data_end - (uintptr_t)data_begin);
    memset(bss_begin, 0, (uintptr_t)bss_end - (uintptr_t)bss_begin);
    uintptr_t here = (uintptr_t)__builtin_frame_address(0) - 64; /* below what this function itself uses */
    for (volatile uint32_t *at = stack_limit; (uintptr_t)at < here; at++) *at = PAINT; /* for mps2_stack_most() */
    mps2_clock_start();
    (void)main();
    bmb_bare_stop("main has returned");
}

void mps2_reset(void)
{
    __asm__ volatile("b mps2_begin");
}

uint32_t mps2_stack_most(void)
{
    const uint32_t *at = stack_limit;
    while ((uintptr_t)at < (uintptr_t)stack_top && *at == PAINT) at++;
    return (uint32_t)((uintptr_t)stack_top - (uintptr_t)at);
}

uint32_t mps2_ram_used(void)
{
    return (uint32_t)((uintptr_t)bss_end - (uintptr_t)data_begin);
}

static void fault(void)
{
    bmb_bare_stop("a fault of the processor");
}

static void unexpected(void)
{
    bmb_bare_stop("an interrupt that nobody expects");
}

/* ARMv7-M B1.5.2: the initial stack pointer, then handlers; those of the machine from 16 on. */
typedef void (*handler)(void);
__attribute__((section(".vectors"), used)) static const handler vectors[16 + 32] = {
    [0] = (handler)stack_top,
    [1] = mps2_reset,
    [2] = unexpected,
    [3] = fault,
    [4] = fault,
    [5] = fault,
    [6] = fault,
    [7 ... 14] = unexpected,
    [15] = mps2_clock_tick,
    [16 ... 16 + 7] = unexpected,
    [16 + MPS2_IRQ_TIMER0] = mps2_camera_interrupt,
    [16 + 9 ... 16 + 12] = unexpected,
    [16 + MPS2_IRQ_ETHERNET] = mps2_ethernet_interrupt,
    [16 + 14 ... 16 + 31] = unexpected,
};
