#include "media/governor.h"

#include <string.h>

#define BUCKET_US 120000u /* of the rate: what it may hold */
#define CREDIT_US 160000u /* of the rate: what an easier scene may save up */
#define FEW_US 300000u
#define REPAY_FRAMES 6       /* a debt is paid back over so many frames */
#define TOLERANCE 30u        /* thousandths: below, quality stays, so that pictures do not flicker */
#define SKIPPING_US 2000000u /* so long after a frame was dropped the state says so */

/* Typical of photographs with the usual tables; errors in it are corrected with the next frame. */
static const struct {
    uint8_t quality;
    uint16_t size;
} curve[] = { { 1, 80 },    { 10, 220 },  { 20, 360 },  { 30, 460 },  { 40, 550 },
              { 50, 630 },  { 60, 730 },  { 70, 880 },  { 75, 1000 }, { 80, 1160 },
              { 85, 1400 }, { 90, 1830 }, { 95, 2750 }, { 98, 4100 }, { 100, 5900 } };
#define KNOTS (sizeof curve / sizeof curve[0])

uint32_t bmb_quality_size(uint8_t quality)
{
    for (size_t i = 1; i < KNOTS; i++) {
        if (quality > curve[i].quality) continue;
        uint32_t span = curve[i].quality - curve[i - 1].quality, rise = curve[i].size - curve[i - 1].size;
        return curve[i - 1].size + rise * (uint32_t)(quality - curve[i - 1].quality) / span;
    }
    return curve[KNOTS - 1].size;
}

/* The best quality whose images are no larger than that. */
static uint8_t quality_for(const bmb_governor *g, uint32_t size)
{
    uint8_t q = g->most;
    while (q > g->least && bmb_quality_size(q) > size) q--;
    return q;
}

static int64_t bytes_in(const bmb_governor *g, uint64_t us)
{
    return (int64_t)(us * g->kbps / 8000);
}

static void leak(bmb_governor *g, uint64_t now_us)
{
    uint64_t us = now_us > g->leaked_us ? now_us - g->leaked_us : 0;
    g->leaked_us += us;
    g->debt -= bytes_in(g, us < 10000000 ? us : 10000000);
    /* A feed of few frames pays for each of them beforehand. */
    int64_t most = bytes_in(g, g->interval_us > FEW_US ? g->interval_us : CREDIT_US);
    if (g->debt < -most) g->debt = -most;
}

static uint8_t quality_at(const bmb_governor *g, uint64_t capture_us)
{
    for (size_t i = 0; i < BMB_GOVERNOR_PAST; i++)
        if (g->past[i].quality != 0 && g->past[i].from_us <= capture_us) return g->past[i].quality;
    return g->quality;
}

static void remember(bmb_governor *g, uint64_t now_us)
{
    memmove(g->past + 1, g->past, sizeof g->past - sizeof g->past[0]);
    g->past[0].from_us = now_us;
    g->past[0].quality = g->quality;
}

void bmb_governor_start(bmb_governor *g, uint32_t kbps, uint32_t mfps, uint8_t least, uint8_t most, uint8_t quality,
                        uint64_t now_us)
{
    uint32_t dropped_for_rate = g->dropped_for_rate;
    memset(g, 0, sizeof *g);
    g->dropped_for_rate = dropped_for_rate;
    g->kbps = kbps;
    g->interval_us = mfps > 0 ? (uint32_t)(1000000000u / mfps) : 66667;
    g->least = least;
    g->most = most;
    g->quality = quality < least ? least : quality > most ? most : quality;
    g->leaked_us = now_us;
    g->state = kbps > 0 ? BMB_KEEPING_STEADY : BMB_KEEPING_OFF;
    remember(g, now_us);
}

static void steer(bmb_governor *g, uint64_t now_us)
{
    int64_t share = bytes_in(g, g->interval_us), wanted = share - g->debt / REPAY_FRAMES;
    if (wanted < share / 4) wanted = share / 4;
    uint64_t size = (uint64_t)wanted * 1000 / (g->detail > 0 ? g->detail : 1);
    uint32_t there = bmb_quality_size(g->quality), target = size > 10000 ? 10000 : (uint32_t)size;
    uint32_t apart = there > target ? there - target : target - there;
    if (apart * 1000 <= target * TOLERANCE) return;
    uint8_t quality = quality_for(g, target);
    if (quality == g->quality) return;
    g->quality = quality;
    remember(g, now_us);
}

bool bmb_governor_take(bmb_governor *g, uint32_t size, uint64_t capture_us, uint64_t now_us, uint8_t *quality)
{
    int64_t share = bytes_in(g, g->interval_us), bucket = bytes_in(g, BUCKET_US);
    leak(g, now_us);
    g->detail = (uint32_t)((uint64_t)size * 1000 / bmb_quality_size(quality_at(g, capture_us)));
    /* With next to nothing owed any frame goes: one that is larger than the bucket would never go otherwise. */
    bool fits = g->debt <= share / 4 || g->debt + size <= bucket;
    if (fits) {
        g->debt += size;
    } else {
        g->dropped_for_rate++;
        g->skipped_us = now_us;
    }
    steer(g, now_us);
    bool skipping = g->skipped_us != 0 && now_us - g->skipped_us < SKIPPING_US && g->quality == g->least;
    g->state = (uint8_t)(skipping                 ? BMB_KEEPING_DROPPING
                         : g->quality == g->least ? BMB_KEEPING_LEAST
                         : g->quality == g->most  ? BMB_KEEPING_BEST
                                                  : BMB_KEEPING_STEADY);
    *quality = g->quality;
    return fits;
}
