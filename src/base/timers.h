/* When things are due, each under a number of its own: a heap in fixed memory, so that a step costs nothing for what is
 * not due.
 *
 * Times are kept in units of 16 us in 32 bits: nothing may be due later than nine hours from now. What is due is told
 * at that time or up to 16 us later, never before; what is due already, at once.
 */
#ifndef BMB_BASE_TIMERS_H
#define BMB_BASE_TIMERS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef struct bmb_timers {
    uint32_t *due;   /* by number */
    uint16_t *place; /* by number: where it is in the heap, plus 1; 0: it is not due */
    uint16_t *heap;  /* numbers, the earliest first */
    uint16_t count, most;
} bmb_timers;

#define BMB_TIMER_SIZE (sizeof(uint32_t) + 2 * sizeof(uint16_t)) /* memory for one */

/* memory: BMB_TIMER_SIZE for each of `most` numbers, zeroed, aligned for a uint32_t. */
void bmb_timers_init(bmb_timers *t, void *memory, uint16_t most);
/* It is due then at the latest: an earlier time that was set before stays. due_us UINT64_MAX: never. */
void bmb_timers_by(bmb_timers *t, uint16_t number, uint64_t due_us, uint64_t now_us);
/* Takes out one that is due; false: none is. */
bool bmb_timers_take(bmb_timers *t, uint64_t now_us, uint16_t *number);
/* When the first is due; UINT64_MAX: never. */
uint64_t bmb_timers_next(const bmb_timers *t, uint64_t now_us);

#endif
