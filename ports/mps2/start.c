/* Start-up of a Cortex-M3, as its vendor's code does it: vectors, memory, and what happens when a program goes wrong.
 */
#include <string.h>

#include "mps2/board.h"

extern uint32_t data_load[], data_begin[], data_end[], bss_begin[], bss_end[], stack_limit[], stack_top[];
int main(void);

#define PAINT 0xB0B0B0B0u

/* ARMv7-M B3.2, B3.5: faults and the protection of memory. */
#define SHCSR mps2_at(0xE000ED24u)
#define CFSR mps2_at(0xE000ED28u)
#define HFSR mps2_at(0xE000ED2Cu)
#define MMFAR mps2_at(0xE000ED34u)
#define BFAR mps2_at(0xE000ED38u)
#define MPU_CTRL mps2_at(0xE000ED94u)
#define MPU_RNR mps2_at(0xE000ED98u)
#define MPU_RBAR mps2_at(0xE000ED9Cu)
#define MPU_RASR mps2_at(0xE000EDA0u)
#define GUARD                                                                                                          \
    128u /* bytes below the stack that nobody may touch: who runs over them is told of, and not his memory's owner */
#define GUARD_SIZE 6u /* … as the register says it: 2 to the power of one more */

/* The watchdog (Arm CMSDK APB watchdog): first an interrupt that cannot be masked, which says where the program hangs;
 * and a reset where even that does not help. */
#define WATCHDOG_LOAD mps2_at(0x40008000u)
#define WATCHDOG_CONTROL mps2_at(0x40008008u)
#define WATCHDOG_CLEAR mps2_at(0x4000800Cu)
#define WATCHDOG_S 8u /* the loop comes round 20 times a second */

/* Why there was a reset. */
typedef enum cause { RUNNING = 0, FAULT, OVERFLOW, HANGS, STOPPED } cause;
typedef struct record {
    uint32_t mark, cause, pc, lr, cfsr, hfsr, address;
} record;
#define MARK 0xB007ED01u
__attribute__((section(".kept"))) static record kept;
static record last;

void mps2_reset(void) __attribute__((noreturn, naked));
void mps2_begin(void) __attribute__((noreturn, used));
void mps2_fault(const uint32_t *frame, uint32_t hangs) __attribute__((noreturn, used));

static void guard_stack(void)
{
    *MPU_RNR = 0;
    *MPU_RBAR = (uint32_t)(uintptr_t)stack_limit;
    *MPU_RASR = 1u << 28 | GUARD_SIZE << 1 | 1u; /* no access, nothing is run there */
    *MPU_CTRL = 1u << 2 | 1u;                    /* elsewhere all is as without it */
    *SHCSR |= 7u << 16;                          /* faults of memory, bus and usage have handlers of their own */
    __asm__ volatile("dsb; isb");
}

void mps2_begin(void)
{
    memcpy(data_begin, data_load, (uintptr_t)data_end - (uintptr_t)data_begin);
    memset(bss_begin, 0, (uintptr_t)bss_end - (uintptr_t)bss_begin);
    uintptr_t here = (uintptr_t)__builtin_frame_address(0) - 64; /* below what this function itself uses */
    for (volatile uint32_t *at = stack_limit; (uintptr_t)at < here; at++) *at = PAINT; /* for mps2_stack_most() */
    last = kept;
    kept = (record){ .mark = MARK, .cause = RUNNING };
    guard_stack();
    mps2_clock_start();
    (void)main();
    bmb_bare_stop("main has returned");
}

void mps2_say_reset(void)
{
    static const char *const texts[] = { "a reset from outside", "a fault of the processor",
                                         "the stack ran over its end", "the program hung, and the watchdog ended it",
                                         "it was stopped" };
    if (last.mark != MARK || last.cause >= sizeof texts / sizeof texts[0]) {
        bmb_bare_say("start: power was switched on");
        return;
    }
    bmb_bare_say("start: after %s", texts[last.cause]);
    if (last.cause == FAULT || last.cause == OVERFLOW || last.cause == HANGS)
        bmb_bare_say("at that time: PC 0x%08x, LR 0x%08x, CFSR 0x%08x, HFSR 0x%08x, address 0x%08x", (unsigned)last.pc,
                     (unsigned)last.lr, (unsigned)last.cfsr, (unsigned)last.hfsr, (unsigned)last.address);
}

void mps2_stop(void)
{
    if (kept.cause == RUNNING) kept.cause = STOPPED;
    mps2_restart();
}

void mps2_feed(void)
{
    static bool fed;
    *WATCHDOG_CLEAR = 1;
    if (fed) return;
    fed = true; /* from the loop's first round on: before, nobody would feed it */
    *WATCHDOG_LOAD = WATCHDOG_S * MPS2_HZ;
    *WATCHDOG_CONTROL = 3;
}

void mps2_reset(void)
{
    __asm__ volatile("b mps2_begin");
}

uint32_t mps2_stack_most(void)
{
    const uint32_t *at = stack_limit + GUARD / 4;
    while ((uintptr_t)at < (uintptr_t)stack_top && *at == PAINT) at++;
    return (uint32_t)((uintptr_t)stack_top - (uintptr_t)at);
}

uint32_t mps2_ram_used(void)
{
    return (uint32_t)((uintptr_t)bss_end - (uintptr_t)data_begin);
}

/* What the processor has put onto the stack before the handler (B1.5.6): r0 to r3, r12, LR, PC, xPSR. */
void mps2_fault(const uint32_t *frame, uint32_t hangs)
{
    bool again = kept.cause != RUNNING,
         there = (uintptr_t)frame >= (uintptr_t)stack_limit + GUARD && (uintptr_t)frame + 32 <= (uintptr_t)stack_top;
    if (again) mps2_restart(); /* a fault while one is told of */
    kept = (record){ .mark = MARK,
                     .cause = hangs != 0 ? HANGS
                              : there    ? FAULT
                                         : OVERFLOW,
                     .pc = there ? frame[6] : 0,
                     .lr = there ? frame[5] : 0,
                     .cfsr = *CFSR,
                     .hfsr = *HFSR,
                     .address = (*CFSR & 0x8000u) != 0 ? *BFAR
                                : (*CFSR & 0x80u) != 0 ? *MMFAR
                                                       : 0 };
    *MPU_CTRL = 0;
    bmb_bare_stop(hangs != 0 ? "the program hangs" : there ? "a fault of the processor" : "the stack ran over its end");
}

/* The stack may be what is broken: the handlers begin with a whole one. */
__attribute__((naked)) static void fault(void)
{
    __asm__ volatile("mov r0, sp; movs r1, #0; ldr r2, =stack_top; mov sp, r2; b mps2_fault; .ltorg");
}

__attribute__((naked)) static void hangs(void)
{
    __asm__ volatile("mov r0, sp; movs r1, #1; ldr r2, =stack_top; mov sp, r2; b mps2_fault; .ltorg");
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
    [2] = hangs, /* the watchdog's */
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
