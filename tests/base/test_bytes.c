#include "support/check.h"

#include "base/bytes.h"
#include "base/context.h"
#include "base/rate.h"

#define WRITES(expected, operation)                                                                                    \
    do {                                                                                                               \
        char out_[128];                                                                                                \
        bmb_writer w = bmb_writer_of(out_, sizeof out_ - 1);                                                           \
        operation;                                                                                                     \
        out_[bmb_written(&w)] = '\0';                                                                                  \
        assert_string_equal(out_, expected);                                                                           \
    } while (0)

static void a_reader_stops_at_its_end(void **state)
{
    (void)state;
    const uint8_t data[] = { 1, 2, 3, 4, 5, 6 };
    bmb_reader r = bmb_reader_of(data, sizeof data);
    assert_int_equal(bmb_get_u16(&r), 0x0102);
    assert_int_equal(bmb_get_u24(&r), 0x030405);
    assert_int_equal(bmb_left(&r), 1);
    assert_int_equal(bmb_get_u32(&r), 0);
    assert_true(r.failed);
    assert_int_equal(bmb_get_u8(&r), 0); /* once failed, always failed */
    assert_int_equal(bmb_left(&r), 0);
}

/* Wherever the run begins and ends, and whatever stands around it. */
static void bytes_are_found_by_words(void **state)
{
    (void)state;
    _Alignas(8) uint8_t data[160];
    for (unsigned value = 0; value < 256; value += 51) {
        memset(data, (int)(value ^ 0x80), sizeof data);
        for (size_t begin = 0; begin < 9; begin++) {
            for (size_t size = 0; size < 80; size++) {
                data[begin + size] = (uint8_t)value; /* behind the end: not looked at */
                assert_null(bmb_find_by_words(data + begin, size, (uint8_t)value));
                data[begin + size] = (uint8_t)(value ^ 0x80);
                if (size == 0) continue;
                size_t at, later = begin + size - 1;
                for (size_t k = 0; k < size; k += 13) {
                    at = begin + k;
                    data[at] = data[later] = (uint8_t)value;
                    assert_ptr_equal(bmb_find_by_words(data + begin, size, (uint8_t)value), data + at);
                    assert_ptr_equal(bmb_find(data + begin, size, (uint8_t)value), data + at);
                    data[at] = data[later] = (uint8_t)(value ^ 1); /* differs in the lowest bit alone */
                    assert_null(bmb_find_by_words(data + begin, size, (uint8_t)value));
                    data[at] = data[later] = (uint8_t)(value ^ 0x80);
                }
            }
        }
    }
}

static void runs_are_equal_or_not(void **state)
{
    (void)state;
    uint8_t a[40], b[44];
    for (size_t i = 0; i < sizeof a; i++) a[i] = b[i + 1] = (uint8_t)(i * 7);
    for (size_t size = 0; size < sizeof a; size++) {
        b[size + 1] ^= 1; /* behind the end */
        assert_true(bmb_equal(a, b + 1, size));
        b[size + 1] ^= 1;
        for (size_t k = 0; k < size; k++) {
            b[k + 1] ^= 0x40;
            assert_false(bmb_equal(a, b + 1, size));
            b[k + 1] ^= 0x40;
        }
    }
}

static void a_writer_stops_at_its_end(void **state)
{
    (void)state;
    uint8_t room[4];
    bmb_writer w = bmb_writer_of(room, sizeof room);
    bmb_put_u24(&w, 0xABCDEF);
    assert_int_equal(bmb_written(&w), 3);
    bmb_put_u16(&w, 1);
    assert_true(w.failed);
    assert_int_equal(bmb_written(&w), 0);
}

static void numbers_and_text_are_written(void **state)
{
    (void)state;
    WRITES("0", bmb_put_dec(&w, 0));
    WRITES("18446744073709551615", bmb_put_dec(&w, UINT64_MAX));
    WRITES("00FF", bmb_put_hex(&w, 255, 4));
    WRITES("", bmb_put_text(&w, "%s", ""));
    WRITES("4294967295 a;b-0.", bmb_put_text(&w, "%u %s;b-%u.", UINT32_MAX, "a", 0u));
    WRITES("abc", bmb_put_text(&w, "%s%s", "ab", "c"));
    WRITES("15", bmb_put_milli(&w, 15000));
    WRITES("7.5", bmb_put_milli(&w, 7500));
    WRITES("29.97", bmb_put_milli(&w, 29970));
    WRITES("0.001", bmb_put_milli(&w, 1));
    /* RFC 4648 10 */
    WRITES("", bmb_put_base64(&w, "", 0));
    WRITES("Zg==", bmb_put_base64(&w, "f", 1));
    WRITES("Zm8=", bmb_put_base64(&w, "fo", 2));
    WRITES("Zm9vYmFy", bmb_put_base64(&w, "foobar", 6));
}

static void a_text_without_room_is_none(void **state)
{
    (void)state;
    uint8_t room[8];
    bmb_writer w = bmb_writer_of(room, sizeof room);
    bmb_put_text(&w, "%s: %u", "sent", 1234u);
    assert_true(w.failed);
    assert_int_equal(bmb_written(&w), 0);
}

static void times_between_stop_at_the_most_that_can_be_said(void **state)
{
    (void)state;
    assert_int_equal(bmb_ms_between(5, 5), 0);
    assert_int_equal(bmb_ms_between(1000, 3999), 2);
    assert_int_equal(bmb_ms_between(0, (uint64_t)UINT32_MAX * 1000), UINT32_MAX);
    assert_int_equal(bmb_ms_between(0, ((uint64_t)UINT32_MAX + 2) * 1000), UINT32_MAX);
}

static void addresses_are_written_in_their_short_form(void **state)
{
    (void)state;
    const bmb_addr v4 = { .family = 4, .ip = { 192, 0, 2, 255 } };
    const bmb_addr any = { .family = 6 };
    const bmb_addr one = { .family = 6, .ip = { [15] = 1 } };
    const bmb_addr doc = { .family = 6, .ip = { 0x20, 1, 0x0D, 0xB8, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 7 } };
    const bmb_addr single = { .family = 6, .ip = { 0x20, 1, 0, 0, 0, 3, 0, 4, 0, 5, 0, 6, 0, 7, 0, 8 } };
    const bmb_addr tail = { .family = 6, .ip = { 0xFE, 0x80 } };
    WRITES("192.0.2.255", bmb_put_ip(&w, &v4));
    WRITES("::", bmb_put_ip(&w, &any));
    WRITES("::1", bmb_put_ip(&w, &one));
    WRITES("2001:db8::1:0:0:7", bmb_put_ip(&w, &doc));     /* RFC 5952 4.2.3: the first of two equal runs */
    WRITES("2001:0:3:4:5:6:7:8", bmb_put_ip(&w, &single)); /* 4.2.2: a single group stays */
    WRITES("fe80::", bmb_put_ip(&w, &tail));
}

static void sizes_saturate(void **state)
{
    (void)state;
    assert_true(bmb_add(SIZE_MAX, 1) == SIZE_MAX);
    assert_true(bmb_mul(SIZE_MAX / 2, 3) == SIZE_MAX);
    assert_int_equal(bmb_mul(0, 5), 0);
    assert_int_equal(bmb_align(1), BMB_ALIGN);
    assert_int_equal(bmb_align(BMB_ALIGN), BMB_ALIGN);
}

static void decimals_are_read_whole_or_not(void **state)
{
    (void)state;
    uint32_t v = 7;
    assert_true(bmb_read_dec("65535", 5, 65535, &v));
    assert_int_equal(v, 65535);
    assert_false(bmb_read_dec("65536", 5, 65535, &v));
    assert_false(bmb_read_dec("", 0, 10, &v));
    assert_false(bmb_read_dec("1x", 2, 10, &v));
    assert_false(bmb_read_dec("-1", 2, 10, &v));
    assert_false(bmb_read_dec("99999999999", 11, UINT32_MAX, &v));
}

static void a_rate_is_that_of_the_last_two_seconds(void **state)
{
    (void)state;
    bmb_rate rate;
    uint32_t mfps, kbps;
    uint64_t now = 10000000;
    bmb_rate_start(&rate, now);
    for (int i = 0; i < 60; i++, now += 50000) bmb_rate_frame(&rate, now, 5000); /* 20/s for 3 s */
    bmb_rate_read(&rate, now, &mfps, &kbps);
    assert_int_equal(mfps, 20000);
    assert_int_equal(kbps, 800);
    bmb_rate_read(&rate, now + 1000000, &mfps, &kbps); /* half of the window has been silent */
    assert_int_equal(mfps, 10000);
    bmb_rate_read(&rate, now + 60000000, &mfps, &kbps);
    assert_int_equal(mfps, 0);
}

static void a_young_rate_is_not_averaged_over_the_past(void **state)
{
    (void)state;
    bmb_rate rate;
    uint32_t mfps, kbps;
    bmb_rate_start(&rate, 0);
    bmb_rate_read(&rate, 100000, &mfps, &kbps);
    assert_int_equal(mfps, 0);
    for (uint64_t t = 0; t < 1000000; t += 100000) bmb_rate_frame(&rate, t, 100);
    bmb_rate_read(&rate, 1000000, &mfps, &kbps);
    assert_int_equal(mfps, 10000);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_reader_stops_at_its_end),
        cmocka_unit_test(a_writer_stops_at_its_end),
        cmocka_unit_test(numbers_and_text_are_written),
        cmocka_unit_test(a_text_without_room_is_none),
        cmocka_unit_test(times_between_stop_at_the_most_that_can_be_said),
        cmocka_unit_test(addresses_are_written_in_their_short_form),
        cmocka_unit_test(sizes_saturate),
        cmocka_unit_test(bytes_are_found_by_words),
        cmocka_unit_test(runs_are_equal_or_not),
        cmocka_unit_test(decimals_are_read_whole_or_not),
        cmocka_unit_test(a_rate_is_that_of_the_last_two_seconds),
        cmocka_unit_test(a_young_rate_is_not_averaged_over_the_past),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
