#include "bambino/light.h"

const char *bmb_light_name(bmb_light state)
{
    static const char *const names[] = { "starting", "no-camera", "no-network", "ready", "watched" };
    return (size_t)state < sizeof names / sizeof names[0] ? names[state] : NULL;
}

/* `flashes` of 150 ms with as much between them, then dark until `period_ms` are over. */
static bool flashing(uint64_t now_us, unsigned flashes, uint64_t period_ms)
{
    uint64_t at = now_us / 1000 % period_ms;
    return at / 300 < flashes && at % 300 < 150;
}

static bool pattern(bmb_light state, uint64_t now_us)
{
    switch (state) {
    case BMB_LIGHT_STARTING:
        return flashing(now_us, 1, 300);
    case BMB_LIGHT_NO_CAMERA:
        return flashing(now_us, 2, 1800);
    case BMB_LIGHT_NO_NETWORK:
        return flashing(now_us, 3, 2100);
    case BMB_LIGHT_READY:
        return flashing(now_us, 1, 2000);
    case BMB_LIGHT_WATCHED:
        return true;
    }
    return false;
}

bool bmb_light_lit(bmb_light_style style, bmb_light state, uint64_t now_us, uint64_t frames)
{
    bool watched = state == BMB_LIGHT_WATCHED;
    if (style == BMB_LIGHT_OFF) return false;
    if (style == BMB_LIGHT_VIEWED) return watched;
    if (style == BMB_LIGHT_FRAMES && watched) return frames % 2 == 0;
    return pattern(state, now_us);
}
