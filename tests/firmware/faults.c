/* What goes wrong on a board, one thing after each start: the next start says what it was and where. */
#include "mps2/board.h"

extern uint32_t storage_begin[]; /* how often it has started stands there */

__attribute__((noinline)) static uint32_t deeper(uint32_t n)
{
    volatile uint32_t here[8] = { n };
    return n == UINT32_MAX ? 0 : deeper(n + 1) + here[0];
}

int main(void)
{
    mps2_start("faults");
    uint32_t start = storage_begin[0] == 0xFA017000u ? storage_begin[1] : 0;
    storage_begin[0] = 0xFA017000u;
    storage_begin[1] = start + 1;
    switch (start) {
    case 0:
        bmb_bare_say("tries an instruction that there is not");
        __asm__ volatile("udf #0");
        break;
    case 1:
        bmb_bare_say("tries memory that there is not");
        *mps2_at(0x70000000u) = 1;
        break;
    case 2:
        bmb_bare_say("tries more stack than there is");
        (void)deeper(0);
        break;
    case 3:
        bmb_bare_say("tries to hang");
        mps2_feed();
        for (;;) continue;
    case 4:
        bmb_bare_stop("all was tried");
    default:
        bmb_bare_say("the end");
        for (;;) continue;
    }
}
