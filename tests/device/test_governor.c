/* A bit rate for JPEG: frames whose size follows from a scene's detail and the quality that was set, as an encoder with
 * one frame of its own delay gives them. */
#include "support/check.h"

#include <math.h>

#include "media/governor.h"

#define SECOND 1000000u
static double sent[40 * 120]; /* bytes of each frame slot, 0: dropped */
static unsigned slots;

typedef struct scene {
    double from_s, detail; /* bytes at quality 75 */
} scene;

/* Runs for so many seconds and notes what was sent. */
static bmb_governor run(uint32_t kbps, uint32_t fps, double seconds, const scene *scenes, size_t count)
{
    bmb_governor g = { 0 };
    uint64_t now = 5 * SECOND, interval = SECOND / fps;
    uint8_t asked = 75, encoding = 75;
    bmb_governor_start(&g, kbps, fps * 1000, 20, 90, 75, now);
    slots = 0;
    for (double t = 0; t < seconds; t += 1.0 / fps, now += interval) {
        double detail = scenes[0].detail;
        for (size_t i = 0; i < count; i++)
            if (t >= scenes[i].from_s) detail = scenes[i].detail;
        /* The curve of this encoder is not the one that the governor assumes. */
        double size = detail * (0.8 * bmb_quality_size(encoding) + 200) / 1000;
        uint64_t captured = now;
        encoding = asked; /* for the next frame */
        bool fits = bmb_governor_take(&g, (uint32_t)size, captured, now + 20000, &asked);
        sent[slots++] = fits ? size : 0;
    }
    return g;
}

/* The worst that any five seconds are off the rate, per cent; from the second `from` on. */
static double worst(uint32_t kbps, uint32_t fps, double from_s)
{
    double most = 0, wanted = kbps * 125.0 * 5;
    for (unsigned begin = (unsigned)(from_s * fps); begin + 5 * fps <= slots; begin++) {
        double sum = 0;
        for (unsigned i = begin; i < begin + 5 * fps; i++) sum += sent[i];
        double off = 100 * fabs(sum - wanted) / wanted;
        if (off > most) most = off;
    }
    return most;
}

static void the_rate_holds_when_the_scene_changes(void **state)
{
    (void)state;
    /* A lamp goes on, the train comes close, fog, and leaves in the wind. */
    const scene scenes[] = { { 0, 20000 }, { 12, 45000 }, { 24, 11000 }, { 36, 30000 }, { 37, 14000 }, { 38, 30000 } };
    static const struct {
        uint32_t kbps, fps;
    } feeds[] = { { 1500, 15 }, { 3000, 25 }, { 1000, 10 } };
    for (size_t i = 0; i < sizeof feeds / sizeof feeds[0]; i++) {
        bmb_governor g = run(feeds[i].kbps, feeds[i].fps, 50, scenes, sizeof scenes / sizeof scenes[0]);
        double off = worst(feeds[i].kbps, feeds[i].fps, 0);
        print_message("%u kbit/s at %u/s: off by at most %.1f %% in any 5 s, %u of %u frames dropped\n", feeds[i].kbps,
                      feeds[i].fps, off, g.dropped_for_rate, slots);
        assert_true(off <= 5.0);
    }
}

static void frames_are_dropped_where_quality_is_not_enough(void **state)
{
    (void)state;
    const scene hard = { 0, 60000 };
    bmb_governor g = run(1200, 15, 30, &hard, 1); /* at quality 20 still 3.5 Mbit/s */
    assert_int_equal(g.quality, 20);
    assert_int_equal(g.state, BMB_KEEPING_DROPPING);
    assert_true(g.dropped_for_rate > slots / 2);
    double off = worst(1200, 15, 1);
    print_message("a hard scene: off by at most %.1f %%, %u of %u dropped\n", off, g.dropped_for_rate, slots);
    assert_true(off <= 5.0);
}

static void an_easy_scene_stays_below(void **state)
{
    (void)state;
    const scene easy = { 0, 2000 };
    bmb_governor g = run(3000, 15, 20, &easy, 1);
    assert_int_equal(g.quality, 90);
    assert_int_equal(g.state, BMB_KEEPING_BEST);
    assert_int_equal(g.dropped_for_rate, 0);
}

static void quality_rests_when_nothing_changes(void **state)
{
    (void)state;
    const scene same = { 0, 20000 };
    bmb_governor g = run(1500, 15, 20, &same, 1);
    assert_int_equal(g.state, BMB_KEEPING_STEADY);
    uint64_t since = 25 * SECOND - g.past[0].from_us;
    assert_true(since > SECOND); /* no flicker from frame to frame */
}

static void a_slow_feed_is_no_special_case(void **state)
{
    (void)state;
    const scene scenes[] = { { 0, 60000 }, { 30, 120000 } };
    (void)run(400, 1, 120, scenes, 2); /* one frame a second */
    double sum = 0;
    for (unsigned i = 60; i < slots; i++) sum += sent[i];
    assert_true(fabs(sum / (slots - 60) - 50000) < 5000);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_rate_holds_when_the_scene_changes),
        cmocka_unit_test(frames_are_dropped_where_quality_is_not_enough),
        cmocka_unit_test(an_easy_scene_stays_below),
        cmocka_unit_test(quality_rests_when_nothing_changes),
        cmocka_unit_test(a_slow_feed_is_no_special_case),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
