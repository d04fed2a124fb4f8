#include "bambino/light.h"

const char *bmb_light_name(bmb_light state)
{
    static const char *const names[] = { "starting", "no-camera", "no-network", "ready", "watched" };
    return (size_t)state < sizeof names / sizeof names[0] ? names[state] : NULL;
}

/* `flashes` of 150 ms with as much between them, then dark until `period_ms` are over. */
static bool flashing(uint64_t now_us, unsigned flashes, uint64_t period_ms)
{
    uint32_t at = (uint32_t)(now_us / 1000 % period_ms);
    return at / 300 < flashes && at % 300 < 150;
}

static bool pattern(bmb_light state, uint64_t now_us)
{
    static const struct {
        uint8_t flashes;
        uint16_t period_ms;
    } patterns[] = { { 1, 300 }, { 2, 1800 }, { 3, 2100 }, { 1, 2000 } };
    return state == BMB_LIGHT_WATCHED || flashing(now_us, patterns[state].flashes, patterns[state].period_ms);
}

bool bmb_light_lit(bmb_light_style style, bmb_light state, uint64_t now_us, uint64_t frames)
{
    bool watched = state == BMB_LIGHT_WATCHED;
    if (style == BMB_LIGHT_OFF) return false;
    if (style == BMB_LIGHT_VIEWED) return watched;
    if (style == BMB_LIGHT_FRAMES && watched) return frames % 2 == 0;
    return pattern(state, now_us);
}
