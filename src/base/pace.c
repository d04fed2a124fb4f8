#include "base/pace.h"

static uint32_t span(uint64_t from_us, uint64_t to_us)
{
    uint64_t us = to_us > from_us ? to_us - from_us : 0;
    return us < UINT32_MAX ? (uint32_t)us : UINT32_MAX;
}

void bmb_pace_begin(bmb_pace *pace, uint64_t now_us, uint64_t start_us)
{
    uint32_t late = pace->wanted_us > 0 ? span(pace->wanted_us, now_us) : 0;
    if (late > pace->most.late_us) {
        pace->most.late_us = late;
        pace->most.late_at_us = now_us - start_us;
    }
    pace->step_us = pace->since_us = now_us;
    pace->longest_us = 0;
    pace->longest = pace->doing = BMB_DOING_EVENTS;
}

bmb_doing bmb_pace_turn(bmb_pace *pace, uint64_t now_us, bmb_doing next)
{
    bmb_doing was = (bmb_doing)pace->doing;
    uint32_t took = span(pace->since_us, now_us);
    if (took > pace->longest_us) {
        pace->longest_us = took;
        pace->longest = (uint8_t)was;
    }
    pace->since_us = now_us;
    pace->doing = (uint8_t)next;
    return was;
}

void bmb_pace_end(bmb_pace *pace, uint64_t now_us, uint64_t start_us, uint64_t wanted_us)
{
    (void)bmb_pace_turn(pace, now_us, BMB_DOING_EVENTS);
    uint32_t took = span(pace->step_us, now_us);
    if (took > pace->most.step_us) {
        pace->most.step_us = took;
        pace->most.step_at_us = pace->step_us - start_us;
        pace->most.doing = (bmb_doing)pace->longest;
    }
    pace->wanted_us = wanted_us > now_us ? wanted_us : now_us;
}
