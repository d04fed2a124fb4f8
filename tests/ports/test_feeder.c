/* Cameras of a program's own, and several drivers as one. */
#include "support/check.h"
#include "support/fake_port.h"

static _Alignas(max_align_t) uint8_t memory[BMB_FEEDER_MEMORY(4096)];
static const bmb_mode mode = { BMB_CODEC_JPEG, 320, 240, 10000 };
static unsigned wakes;

static void wake(void *ctx)
{
    (void)ctx;
    wakes++;
}

static void frames_come_in_order_and_go_back_in_any(void **state)
{
    (void)state;
    fake_port *f = fake_create();
    bmb_feeder *feeder = bmb_feeder_create(memory, sizeof memory, &f->port, "cab", &mode);
    const bmb_cameras c = bmb_feeder_cameras(feeder);
    bmb_camera_frame frame[BMB_FEEDER_FRAMES];
    bmb_camera_info info;
    bmb_mode effective, other = { BMB_CODEC_H264, 320, 240, 10000 };
    f->port.wake = wake;
    assert_null(bmb_feeder_create(memory, 3000, &f->port, "cab", &mode));
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_string_equal(info.name, "cab");
    assert_true(info.frame_max >= 4096 && info.buffers == BMB_FEEDER_FRAMES);
    assert_int_equal(bmb_feeder_put(feeder, "x", 1, 0, true), BMB_NOT_FOUND); /* nobody wants any */
    assert_int_equal(c.start(c.ctx, 0, &other, &effective), BMB_UNSUPPORTED);
    assert_int_equal(c.start(c.ctx, 0, &mode, &effective), BMB_OK);
    assert_true(bmb_feeder_key_wanted(feeder));
    assert_false(bmb_feeder_key_wanted(feeder));
    assert_int_equal(bmb_feeder_put(feeder, memory, info.frame_max + 1, 0, true), BMB_NO_ROOM);
    for (unsigned round = 0; round < 20; round++) {
        for (unsigned i = 0; i < BMB_FEEDER_FRAMES; i++) {
            char text[2] = { (char)('a' + i), (char)('a' + round) };
            assert_int_equal(bmb_feeder_put(feeder, text, 2, i == 0 ? 0 : 77, i % 2 == 0), BMB_OK);
        }
        assert_int_equal(bmb_feeder_put(feeder, "z", 1, 0, true), BMB_AGAIN);
        for (unsigned i = 0; i < BMB_FEEDER_FRAMES; i++) {
            assert_int_equal(c.take(c.ctx, 0, &frame[i]), BMB_OK);
            assert_int_equal(frame[i].data[0], 'a' + i);
            assert_int_equal(frame[i].data[1], 'a' + round);
            assert_int_equal(frame[i].capture_us, i == 0 ? f->now : 77);
            assert_int_equal(frame[i].key, i % 2 == 0);
        }
        assert_int_equal(c.take(c.ctx, 0, &frame[0]), BMB_AGAIN);
        for (unsigned i = 0; i < BMB_FEEDER_FRAMES; i++)
            c.release(c.ctx, 0, frame[(i + round) % BMB_FEEDER_FRAMES].cookie);
    }
    assert_int_equal(wakes, 20 * BMB_FEEDER_FRAMES);
    assert_int_equal(bmb_feeder_put(feeder, "a", 1, 0, true), BMB_OK);
    c.stop(c.ctx, 0); /* what nobody took is gone */
    assert_int_equal(c.take(c.ctx, 0, &frame[0]), BMB_AGAIN);
    fake_destroy(f);
}

static void drivers_are_joined(void **state)
{
    (void)state;
    fake_port *f = fake_create();
    bmb_joined joined = { .count = 0 };
    bmb_feeder *feeder = bmb_feeder_create(memory, sizeof memory, &f->port, "cab", &mode);
    const bmb_cameras own = bmb_feeder_cameras(feeder);
    fake_camera_add(f, "yard", BMB_CODEC_JPEG);
    fake_camera_add(f, "station", BMB_CODEC_H264);
    (void)bmb_cameras_join(&joined, &f->port.cameras);
    const bmb_cameras c = bmb_cameras_join(&joined, &own);
    static const char *const names[] = { "yard", "station", "cab" };
    bmb_camera_info info;
    bmb_mode effective;
    bmb_camera_frame frame;
    int32_t value;
    assert_int_equal(c.count(c.ctx), 3);
    for (size_t i = 0; i < 3; i++) {
        assert_int_equal(c.info(c.ctx, i, &info), BMB_OK);
        assert_string_equal(info.name, names[i]);
    }
    assert_int_equal(c.info(c.ctx, 3, &info), BMB_NOT_FOUND);
    assert_int_equal(c.start(c.ctx, 3, &mode, &effective), BMB_NOT_FOUND);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_FLIP_V, 1, &value), BMB_OK);
    assert_int_equal(c.set(c.ctx, 2, BMB_CONTROL_FLIP_V, 1, &value), BMB_UNSUPPORTED); /* it has none */
    assert_int_equal(c.start(c.ctx, 2, &mode, &effective), BMB_OK);
    assert_int_equal(bmb_feeder_put(feeder, "p", 1, 0, true), BMB_OK);
    assert_int_equal(c.take(c.ctx, 0, &frame), BMB_AGAIN);
    assert_int_equal(c.take(c.ctx, 2, &frame), BMB_OK);
    c.release(c.ctx, 2, frame.cookie);
    c.stop(c.ctx, 2);
    fake_destroy(f);
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(frames_come_in_order_and_go_back_in_any),
                                        cmocka_unit_test(drivers_are_joined) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
