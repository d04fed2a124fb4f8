#include "media/tame.h"

#include "base/bounds.h"

bool bmb_tame_lower(bmb_tame *t, uint64_t now_us, int32_t value, int32_t *less)
{
    if (t->run < 2) t->run++;
    if (t->run < 2 || now_us < t->quiet_us || value <= 1) return false;
    t->quiet_us = now_us + BMB_TAME_US;
    *less = value - value / 8 - 1;
    return true;
}

static int64_t size_at(int32_t quality)
{
    return bmb_quality_size((uint8_t)(quality < 1 ? 1 : quality > 100 ? 100 : quality));
}

int32_t bmb_tame_quality(int32_t asked, int32_t now, uint32_t size, uint32_t most)
{
    int32_t quality = asked;
    if (asked > 100 || asked < 1 || now < 1) return asked; /* out of range, which the camera says; or not known */
    while (quality > now && (int64_t)size * size_at(quality) > (int64_t)most * size_at(now)) quality--;
    return quality;
}
