/* JPEG images that cameras write as the standard does not ask for, and frames that they leave out: what is served of
 * them, and what is counted. On a port in memory. */
#include "support/check.h"

#include "support/fake_port.h"

static uint8_t jpeg[20000], odd[24000];
static size_t jpeg_size;
static fake_device t;

/* A whole image, all grey: of each unit (four blocks of luma, two of chroma) no coefficient is other than 0. */
static size_t grey(uint8_t *out)
{
    static const uint8_t unit[4] = { 0x28, 0xA2, 0x8A,
                                     0x00 }; /* ITU-T T.81 K.3 to K.6: 00 1010 four times, 00 00 twice */
    size_t n = fake_jpeg(out, 640, 480, 0) - 2;
    for (unsigned i = 0; i < 40 * 30; i++, n += sizeof unit) memcpy(out + n, unit, sizeof unit);
    out[n++] = 0xFF;
    out[n++] = 0xD9;
    return n;
}

static int setup(void **state)
{
    (void)state;
    jpeg_size = grey(jpeg);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    return 0;
}

static int teardown(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

static bmb_feed_stats stats(void)
{
    bmb_feed_stats s;
    assert_int_equal(bmb_feed_stats_get(t.device, 0, &s), BMB_OK);
    return s;
}

/* Takes a frame, and asserts how many were kept, repaired, and bad so far. */
static void take(const uint8_t *data, size_t size, unsigned kept, unsigned repaired, unsigned bad)
{
    fake_frame(t.f, 0, data, size, true);
    fake_settle(t.f, t.device);
    assert_int_equal(stats().frames, kept);
    assert_int_equal(stats().repaired, repaired);
    assert_int_equal(stats().bad, bad);
}

/* What is served then, byte for byte. */
static void is_served(const uint8_t *data, size_t size)
{
    size_t got;
    bmb_sock s = fake_connect(t.f, 0);
    fake_say_text(t.f, s, "GET /yard.jpg HTTP/1.0\r\n\r\n");
    fake_settle(t.f, t.device);
    const char *answer = fake_take(t.f, s, &got);
    assert_true(got > size);
    assert_memory_equal(answer + got - size, data, size);
    assert_memory_equal(answer + got - size - 4, "\r\n\r\n", 4);
}

static void bytes_before_an_image_are_cut_off(void **state)
{
    (void)state;
    fake_device_open(&t);
    memset(odd, 0xA5, 40);
    memcpy(odd + 40, jpeg, jpeg_size);
    take(odd, 40 + jpeg_size, 1, 1, 0);
    is_served(jpeg, jpeg_size);
    take(jpeg, jpeg_size, 2, 1, 0);
    memset(odd, 0xA5, 5000); /* so many are no image with something before it */
    memcpy(odd + 5000, jpeg, jpeg_size);
    take(odd, 5000 + jpeg_size, 2, 1, 1);
}

static void an_end_marker_is_added_where_nothing_else_is_missing(void **state)
{
    (void)state;
    fake_device_open(&t);
    take(jpeg, jpeg_size - 2, 1, 1, 0);
    is_served(jpeg, jpeg_size);
    memset(odd, 0, sizeof odd); /* a buffer that was not filled to its end */
    memcpy(odd, jpeg, jpeg_size - 2);
    take(odd, jpeg_size + 100, 2, 2, 0);
    is_served(jpeg, jpeg_size);
    take(jpeg, jpeg_size * 2 / 3, 2, 2, 1); /* cut off: it would be half a picture */
    take(jpeg, 100, 2, 2, 2);
}

static void lent_buffers_are_not_written_to(void **state)
{
    (void)state;
    t.feeds[0].storage = BMB_BORROWED;
    fake_device_open(&t);
    memset(odd, 0xA5, 40);
    memcpy(odd + 40, jpeg, jpeg_size);
    take(odd, 40 + jpeg_size, 1, 1, 0);
    is_served(jpeg, jpeg_size);
    take(jpeg, jpeg_size - 2, 1, 1, 1);
}

static void number(uint32_t n)
{
    fake_frame(t.f, 0, jpeg, jpeg_size, true);
    t.f->cameras[0].queue[t.f->cameras[0].queued - 1].number = n;
    fake_settle(t.f, t.device);
}

static void frames_that_a_camera_leaves_out_are_counted(void **state)
{
    (void)state;
    fake_device_open(&t);
    number(0); /* it does not tell */
    number(7);
    assert_int_equal(stats().camera_dropped, 0);
    number(8);
    assert_int_equal(stats().camera_dropped, 0);
    number(11);
    assert_int_equal(stats().camera_dropped, 2);
    number(3); /* it began anew */
    assert_int_equal(stats().camera_dropped, 2);
    number(UINT32_MAX);
    number(2);
    assert_int_equal(stats().camera_dropped, 4);
}

#define TEST(test) cmocka_unit_test_setup_teardown(test, setup, teardown)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(bytes_before_an_image_are_cut_off),
        TEST(an_end_marker_is_added_where_nothing_else_is_missing),
        TEST(lent_buffers_are_not_written_to),
        TEST(frames_that_a_camera_leaves_out_are_counted),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
