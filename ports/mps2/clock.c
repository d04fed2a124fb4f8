/* Time, sleep, random numbers, reset. */
#include <string.h>

#include "mps2/board.h"

#define SYST_CSR mps2_at(0xE000E010u)
#define SYST_RVR mps2_at(0xE000E014u)
#define SYST_CVR mps2_at(0xE000E018u)
#define ICSR mps2_at(0xE000ED04u)
#define PENDSTSET (1u << 26) /* the tick has come, and its interrupt has not */
#define NVIC_ISER0 mps2_at(0xE000E100u)
#define AIRCR mps2_at(0xE000ED0Cu)
#define TICKS_MS (MPS2_HZ / 1000)

static volatile uint32_t ms_low, ms_high;

void mps2_clock_tick(void)
{
    if (++ms_low == 0) ms_high++;
}

void mps2_clock_start(void)
{
    *SYST_RVR = TICKS_MS - 1;
    *SYST_CVR = 0;
    *SYST_CSR = 7; /* the processor's clock, an interrupt, on */
}

/* The tick may come between two reads; then all are read again. With interrupts off, or in the few cycles before one is
 * taken, it is not counted yet. */
uint64_t mps2_now_us(void)
{
    uint32_t low, high, left, pending;
    do {
        low = ms_low;
        high = ms_high;
        left = *SYST_CVR;
        pending = *ICSR & PENDSTSET;
        if (pending != 0) left = *SYST_CVR;
    } while (low != ms_low || high != ms_high);
    uint64_t ms = ((uint64_t)high << 32 | low) + (pending != 0);
    return ms * 1000 + (TICKS_MS - 1 - left) / (MPS2_HZ / 1000000);
}

/* lwIP's clock. */
uint32_t sys_now(void);
uint32_t sys_now(void)
{
    return (uint32_t)(mps2_now_us() / 1000);
}

static volatile uint32_t interrupted;

void mps2_interrupted(void)
{
    interrupted++;
}

/* With interrupts off, one that comes still ends WFI (ARMv7-M B1.5.19), so that none is missed between look and sleep.
 * The tick ends it each millisecond. */
void mps2_sleep(void *ctx, uint64_t until_us, const volatile bool *woken)
{
    (void)ctx;
    uint32_t before = interrupted;
    while (mps2_now_us() < until_us && !*woken && interrupted == before) {
        mps2_interrupts(false);
        if (!*woken && interrupted == before) __asm__ volatile("wfi");
        mps2_interrupts(true);
    }
}

void mps2_enable(int irq)
{
    *NVIC_ISER0 = 1u << irq;
}

void mps2_interrupts(bool on)
{
    if (on) {
        __asm__ volatile("cpsie i" ::: "memory");
    } else {
        __asm__ volatile("cpsid i" ::: "memory");
    }
}

void mps2_restart(void)
{
    *AIRCR = 0x05FA0004u; /* SYSRESETREQ */
    for (;;) continue;
}

/* The machine has no generator. What is gathered is how far the clock runs on between two looks at it, which in an
 * emulator depends on all else that its host does: fit for an example, and no more. */
uint32_t mps2_random(void)
{
    static uint32_t state = 2463534242u;
    for (unsigned i = 0; i < 64; i++) { /* xorshift (Marsaglia 2003), fed */
        state = (state ^ (*SYST_CVR & 0xFFFFu)) + 1;
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
    }
    return state;
}

void mps2_random_bytes(void *ctx, void *out, size_t size)
{
    (void)ctx;
    for (size_t i = 0; i < size; i += 4) {
        uint32_t bits = mps2_random();
        memcpy((uint8_t *)out + i, &bits, size - i < 4 ? size - i : 4);
    }
}
