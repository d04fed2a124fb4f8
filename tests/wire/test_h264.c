#include "support/check.h"

#include "wire/h264.h"

static const uint8_t unit[] = { 0, 0, 0, 1,    9,    0xF0,                   /* delimiter */
                                0, 0, 0, 1,    0x67, 0x42, 0xC0, 0x1F, 0x80, /* SPS, cut short */
                                0, 0, 1, 0x68, 0xCE, 0x3C,                   /* PPS, three-byte start code */
                                0, 0, 0, 1,    0x65, 1,    2,    3,    0,    0, 3, 1, 0, 0 }; /* IDR, trailing zeros */

static void units_are_found(void **state)
{
    (void)state;
    bmb_h264_facts f;
    assert_int_equal(bmb_h264_parse(unit, sizeof unit, &f), BMB_OK);
    assert_int_equal(f.count, 3); /* not the delimiter */
    assert_true(f.key && f.picture && f.sets);
    assert_int_equal(unit[f.unit[0].at], 0x67);
    assert_int_equal(f.unit[0].size, 5);
    assert_int_equal(f.unit[1].size, 3);
    assert_int_equal(unit[f.unit[2].at], 0x65);
    assert_int_equal(f.unit[2].size, 8); /* 65 01 02 03 00 00 03 01, without the zeros */
    bmb_h264_sets sets = { 0 };
    bmb_h264_keep_sets(unit, &f, &sets);
    assert_int_equal(sets.sps_size, 5);
    assert_int_equal(sets.pps_size, 3);
    assert_int_equal(sets.pps[0], 0x68);
}

static void other_bytes_are_no_access_unit(void **state)
{
    (void)state;
    bmb_h264_facts f;
    assert_int_equal(bmb_h264_parse((const uint8_t *)"", 0, &f), BMB_BAD_DATA);
    assert_int_equal(bmb_h264_parse((const uint8_t *)"\xFF\xD8\xFF\xE0", 4, &f), BMB_BAD_DATA);
    assert_int_equal(bmb_h264_parse((const uint8_t *)"\0\0\1", 3, &f), BMB_BAD_DATA);
    assert_int_equal(bmb_h264_parse((const uint8_t *)"\0\0\1\0\0\1\x65", 7, &f), BMB_BAD_DATA); /* an empty unit */
    assert_int_equal(bmb_h264_parse((const uint8_t *)"\0\0\1\xE5", 4, &f), BMB_BAD_DATA);       /* forbidden bit */
    uint8_t many[5 * (BMB_H264_UNITS + 1)];
    for (size_t i = 0; i < sizeof many; i += 5) memcpy(many + i, "\0\0\1\x41\x9A", 5);
    assert_int_equal(bmb_h264_parse(many, sizeof many, &f), BMB_NO_ROOM);
    assert_int_equal(bmb_h264_parse(many, sizeof many - 5, &f), BMB_OK);
    for (size_t n = 0; n < sizeof unit; n++) { /* cut anywhere: judged without reading behind the end */
        uint8_t *exact = malloc(n + 1);
        memcpy(exact, unit, n);
        (void)bmb_h264_parse(exact, n, &f);
        free(exact);
    }
}

/* Writes SPS bits as an encoder does. */
typedef struct writer {
    uint8_t data[128];
    size_t bits;
} writer;

static void put(writer *w, unsigned count, uint32_t value)
{
    for (unsigned i = count; i-- > 0; w->bits++)
        if (value >> i & 1) w->data[w->bits / 8] |= (uint8_t)(0x80 >> w->bits % 8);
}

static void ue(writer *w, uint32_t value)
{
    unsigned length = 0;
    while ((value + 1) >> (length + 1) != 0) length++;
    put(w, length, 0);
    put(w, length + 1, value + 1);
}

static bool scaling; /* with a scaling matrix, in profile 100 */

static size_t make_sps(writer *w, uint8_t profile, uint32_t mbs_wide, uint32_t mbs_high, uint32_t crop_bottom,
                       uint32_t fps)
{
    memset(w, 0, sizeof *w);
    put(w, 8, 0x67);
    put(w, 8, profile);
    put(w, 8, 0xC0);
    put(w, 8, 31);
    ue(w, 0);
    if (profile == 100) {
        ue(w, 1); /* 4:2:0 */
        ue(w, 0);
        ue(w, 0);
        put(w, 1, 0); /* no bypass */
        put(w, 1, scaling);
        for (unsigned list = 0; scaling && list < 8;
             list++) { /* 7.3.2.1.1.1: a whole one, one that ends early, and none */
            put(w, 1, list % 3 < 2);
            if (list % 3 == 0)
                for (unsigned i = 0; i < (list < 6 ? 16 : 64); i++) ue(w, 1); /* each one more than the one before */
            if (list % 3 == 1) ue(w, 16);                                     /* -8: the rest is as usual */
        }
    }
    ue(w, 4);
    ue(w, 2); /* picture order type 2 */
    ue(w, 1);
    put(w, 1, 0);
    ue(w, mbs_wide - 1);
    ue(w, mbs_high - 1);
    put(w, 2, 3); /* frames only, direct 8x8 */
    put(w, 1, crop_bottom > 0);
    if (crop_bottom > 0) {
        ue(w, 0);
        ue(w, 0);
        ue(w, 0);
        ue(w, crop_bottom);
    }
    put(w, 1, fps > 0);
    if (fps > 0) {
        put(w, 4, 0); /* no aspect, overscan, signal type, chroma location */
        put(w, 1, 1);
        put(w, 32, 1);
        put(w, 32, fps * 2);
        put(w, 1, 1);
    }
    put(w, 1, 1);
    return w->bits / 8 + 1;
}

/* 7.4.1: 00 00 03 in place of 00 00 wherever the next byte is 0 to 3. */
static size_t escape(const writer *w, size_t size, uint8_t *out)
{
    size_t n = 0, zeros = 0;
    for (size_t i = 0; i < size; i++) {
        if (zeros == 2 && w->data[i] <= 3) {
            out[n++] = 3;
            zeros = 0;
        }
        out[n++] = w->data[i];
        zeros = w->data[i] == 0 ? zeros + 1 : 0;
    }
    return n;
}

static void an_sps_tells_size_and_rate(void **state)
{
    (void)state;
    writer w;
    bmb_sps sps;
    uint8_t escaped[192];
    size_t size = escape(&w, make_sps(&w, 66, 80, 45, 0, 30), escaped);
    assert_int_equal(bmb_sps_parse(escaped, size, &sps), BMB_OK);
    assert_int_equal(sps.profile, 66);
    assert_int_equal(sps.constraints, 0xC0);
    assert_int_equal(sps.level, 31);
    assert_int_equal(sps.width, 1280);
    assert_int_equal(sps.height, 720);
    assert_int_equal(sps.mfps, 30000);
    size = escape(&w, make_sps(&w, 100, 120, 68, 4, 0), escaped); /* 1080 lines are 68 rows less 8 */
    assert_int_equal(bmb_sps_parse(escaped, size, &sps), BMB_OK);
    assert_int_equal(sps.width, 1920);
    assert_int_equal(sps.height, 1080);
    assert_int_equal(sps.mfps, 0);
    scaling = true;
    size = escape(&w, make_sps(&w, 100, 120, 68, 4, 25), escaped);
    scaling = false;
    assert_int_equal(bmb_sps_parse(escaped, size, &sps), BMB_OK);
    assert_int_equal(sps.width, 1920);
    assert_int_equal(sps.height, 1080);
    assert_int_equal(sps.mfps, 25000);
    assert_int_equal(bmb_sps_parse(escaped, 6, &sps), BMB_BAD_DATA);
    size = make_sps(&w, 66, 2, 2, 400, 0); /* cropped to less than nothing */
    assert_int_equal(bmb_sps_parse(w.data, size, &sps), BMB_BAD_DATA);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(units_are_found),
        cmocka_unit_test(other_bytes_are_no_access_unit),
        cmocka_unit_test(an_sps_tells_size_and_rate),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
