/* How steadily the device is stepped: its longest step, with what it was doing, and the longest time for which nobody
 * called it although it had wanted to run. With these a gap in all streams can be told apart: ours, or the machine's.
 */
#ifndef BMB_BASE_PACE_H
#define BMB_BASE_PACE_H

#include "bambino/device.h"

typedef struct bmb_pace {
    bmb_pace_stats most;
    uint64_t since_us;   /* when the present part began */
    uint64_t step_us;    /* when the present step began */
    uint64_t wanted_us;  /* when the device wanted to run again */
    uint32_t longest_us; /* of the parts of the present step … */
    uint8_t longest;     /* … which it was */
    uint8_t doing;       /* bmb_doing */
} bmb_pace;

void bmb_pace_begin(bmb_pace *pace, uint64_t now_us, uint64_t start_us);
/* Another part of the step begins; returns the one that was under way. */
bmb_doing bmb_pace_turn(bmb_pace *pace, uint64_t now_us, bmb_doing next);
void bmb_pace_end(bmb_pace *pace, uint64_t now_us, uint64_t start_us, uint64_t wanted_us);

#endif
