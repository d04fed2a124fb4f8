/* Timers against a list that is gone through from end to end, over a turn of their 32 bits. */
#include "support/check.h"

#include "base/timers.h"

#define MOST 300u

static uint32_t draw_state = 1;

static uint32_t draw(uint32_t below)
{
    draw_state = draw_state * 1664525u + 1013904223u;
    return (draw_state >> 8) % below;
}

static void the_earliest_comes_first(void **state)
{
    (void)state;
    static _Alignas(max_align_t) uint8_t memory[MOST * BMB_TIMER_SIZE];
    static uint64_t due[MOST]; /* 0: none */
    bmb_timers t;
    uint16_t number;
    uint64_t now = (UINT64_C(1) << 36) - 30000000; /* 30 s before the units turn over */
    bmb_timers_init(&t, memory, MOST);
    assert_int_equal(bmb_timers_next(&t, now), UINT64_MAX);
    bmb_timers_by(&t, 0, UINT64_MAX, now);
    assert_false(bmb_timers_take(&t, now, &number));
    for (unsigned i = 0; i < 20000; i++) {
        uint16_t one = (uint16_t)draw(MOST);
        uint64_t at = draw(8) == 0 ? now - draw(1000) : now + 1 + draw(4000000), least = UINT64_MAX;
        if (draw(3) == 0) {
            bmb_timers_by(&t, one, at, now);
            if (due[one] == 0 || at < due[one]) due[one] = at;
        }
        now += draw(20000);
        while (bmb_timers_take(&t, now, &number)) {
            for (uint16_t k = 0; k < MOST; k++)
                if (due[k] != 0 && due[k] + 16 < due[number]) fail_msg("%u is due before %u", k, number);
            assert_true(due[number] != 0 && due[number] <= now);
            due[number] = 0;
        }
        for (uint16_t k = 0; k < MOST; k++)
            if (due[k] != 0 && due[k] < least) least = due[k];
        uint64_t next = bmb_timers_next(&t, now);
        if (least == UINT64_MAX) {
            assert_int_equal(next, UINT64_MAX);
        } else {
            assert_true(next > now && next >= least && next < least + 16 + (least <= now ? 16 : 0));
        }
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(the_earliest_comes_first) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
