#include "base/timers.h"

#define UNIT_US 16u

static bool before(const bmb_timers *t, uint16_t a, uint16_t b)
{
    return (int32_t)(t->due[a] - t->due[b]) < 0;
}

static void put(bmb_timers *t, uint16_t at, uint16_t number)
{
    t->heap[at] = number;
    t->place[number] = (uint16_t)(at + 1);
}

static void rise(bmb_timers *t, uint16_t at, uint16_t number)
{
    while (at > 0 && before(t, number, t->heap[(at - 1) / 2])) {
        put(t, at, t->heap[(at - 1) / 2]);
        at = (uint16_t)((at - 1) / 2);
    }
    put(t, at, number);
}

static void sink(bmb_timers *t, uint16_t number)
{
    uint32_t at = 0, child;
    while ((child = 2 * at + 1) < t->count) {
        if (child + 1 < t->count && before(t, t->heap[child + 1], t->heap[child])) child++;
        if (!before(t, t->heap[child], number)) break;
        put(t, (uint16_t)at, t->heap[child]);
        at = child;
    }
    put(t, (uint16_t)at, number);
}

void bmb_timers_init(bmb_timers *t, void *memory, uint16_t most)
{
    uint32_t *due = (uint32_t *)memory;
    uint16_t *place = (uint16_t *)(void *)(due + most);
    *t = (bmb_timers){ .due = due, .place = place, .heap = place + most, .most = most };
}

void bmb_timers_by(bmb_timers *t, uint16_t number, uint64_t due_us, uint64_t now_us)
{
    if (due_us == UINT64_MAX) return;
    uint32_t due = (uint32_t)(due_us <= now_us ? now_us / UNIT_US : (due_us + UNIT_US - 1) / UNIT_US);
    uint16_t place = t->place[number];
    if (place != 0 && (int32_t)(due - t->due[number]) >= 0) return;
    t->due[number] = due;
    rise(t, place != 0 ? (uint16_t)(place - 1) : t->count++, number);
}

bool bmb_timers_take(bmb_timers *t, uint64_t now_us, uint16_t *number)
{
    if (t->count == 0 || (int32_t)(t->due[t->heap[0]] - (uint32_t)(now_us / UNIT_US)) > 0) return false;
    *number = t->heap[0];
    t->place[*number] = 0;
    if (--t->count > 0) sink(t, t->heap[t->count]);
    return true;
}

uint64_t bmb_timers_next(const bmb_timers *t, uint64_t now_us)
{
    if (t->count == 0) return UINT64_MAX;
    uint64_t now = now_us / UNIT_US;
    int32_t left = (int32_t)(t->due[t->heap[0]] - (uint32_t)now);
    return left > 0 ? (now + (uint32_t)left) * UNIT_US : now_us;
}
