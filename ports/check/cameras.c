/* Cameras: what they say of themselves, starting and stopping, frames that come back late and in any order. */
#include "check/check.h"

#include "wire/h264.h"
#include "wire/jpeg.h"

#define HELD_MOST 16

static const bmb_cameras *cameras(void)
{
    return &b.port->cameras;
}

static bool there(void)
{
    return cameras()->count != NULL && cameras()->count(cameras()->ctx) > 0;
}

static bmb_mode first_mode(size_t index)
{
    bmb_camera_info info;
    assert_int_equal(cameras()->info(cameras()->ctx, index, &info), BMB_OK);
    return (bmb_mode){ info.modes[0].codec, info.modes[0].width, info.modes[0].height, info.modes[0].mfps_most };
}

static void cameras_say_what_they_can_do(void **state)
{
    (void)state;
    bmb_camera_info info;
    if (!there()) skip();
    size_t count = cameras()->count(cameras()->ctx);
    for (size_t i = 0; i < count; i++) {
        assert_int_equal(cameras()->info(cameras()->ctx, i, &info), BMB_OK);
        assert_true(info.name[0] != '\0' && memchr(info.name, '\0', sizeof info.name) != NULL);
        assert_true(memchr(info.model, '\0', sizeof info.model) != NULL);
        assert_true(info.mode_count > 0 && info.modes != NULL);
        for (uint8_t k = 0; k < info.mode_count; k++) {
            assert_true(info.modes[k].codec < BMB_CODEC_COUNT);
            assert_true(info.modes[k].width > 0 && info.modes[k].height > 0 && info.modes[k].mfps_most > 0);
        }
        for (size_t k = 0; k < BMB_CONTROL_COUNT; k++)
            if (info.controls[k].step > 0)
                assert_in_range(info.controls[k].preset - info.controls[k].least, 0,
                                info.controls[k].most - info.controls[k].least);
    }
    assert_int_equal(cameras()->info(cameras()->ctx, count, &info), BMB_NOT_FOUND);
}

static bmb_mode start(size_t index)
{
    const bmb_mode asked = first_mode(index);
    bmb_mode effective = asked;
    assert_int_equal(cameras()->start(cameras()->ctx, index, &asked, &effective), BMB_OK);
    assert_int_equal(effective.codec, asked.codec); /* size and rate may differ, the codec may not */
    assert_true(effective.width > 0 && effective.height > 0);
    return effective;
}

/* false: none came. */
static bool take(size_t index, bmb_camera_frame *out)
{
    for (unsigned i = 0; i < PATIENCE; i++) {
        bmb_err err = cameras()->take(cameras()->ctx, index, out);
        if (err == BMB_OK) {
            assert_non_null(out->data);
            assert_true(out->size > 0);
            assert_true(out->capture_us <= b.port->now_us(b.port->ctx)); /* not ahead of the clock */
            return true;
        }
        assert_int_equal(err, BMB_AGAIN);
        pass(10000);
    }
    return false;
}

static void frames_come_and_go_back_late_and_in_any_order(void **state)
{
    (void)state;
    bmb_camera_frame held[3], one;
    uint64_t last = 0;
    if (!there()) skip();
    (void)start(0);
    for (unsigned round = 0; round < 4; round++) {
        for (size_t i = 0; i < 3; i++) {
            if (!take(0, &held[i])) fail_msg("no frame within %u s", PATIENCE / 100);
            assert_true(held[i].capture_us >= last);
            last = held[i].capture_us;
            for (size_t k = 0; k < i; k++) assert_int_not_equal(held[k].cookie, held[i].cookie);
        }
        cameras()->release(cameras()->ctx, 0, held[2].cookie);
        cameras()->release(cameras()->ctx, 0, held[0].cookie);
        cameras()->release(cameras()->ctx, 0, held[1].cookie);
    }
    assert_true(take(0, &one));
    uint8_t first = one.data[0];
    cameras()->stop(cameras()->ctx, 0);
    assert_int_equal(one.data[0], first); /* it is ours until it is released, also after stop */
    cameras()->release(cameras()->ctx, 0, one.cookie);
}

/* What the core would refuse as bad is no frame. */
static void frames_are_whole(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    bmb_jpeg image;
    bmb_h264_facts units;
    if (!there()) skip();
    const bmb_mode mode = start(0);
    for (unsigned i = 0; i < 3; i++) {
        if (!take(0, &frame)) fail_msg("no frame within %u s", PATIENCE / 100);
        const bool whole = mode.codec == BMB_CODEC_JPEG
                               ? bmb_jpeg_parse(frame.data, frame.size, &image) == BMB_OK
                               : bmb_h264_parse(frame.data, frame.size, &units) == BMB_OK && units.picture;
        if (!whole)
            fail_msg("frame %u, of %u bytes, is cut off, garbled, or of another codec", i, (unsigned)frame.size);
        if (i == 0) assert_true(frame.key); /* a viewer could begin with none else */
        cameras()->release(cameras()->ctx, 0, frame.cookie);
    }
    cameras()->stop(cameras()->ctx, 0);
}

static void a_camera_without_a_free_buffer_goes_on(void **state)
{
    (void)state;
    bmb_camera_frame held[HELD_MOST];
    bmb_camera_info info;
    size_t count = 0;
    if (!there()) skip();
    assert_int_equal(cameras()->info(cameras()->ctx, 0, &info), BMB_OK);
    if (info.buffers == 0) skip();
    (void)start(0);
    size_t most = info.buffers < HELD_MOST ? info.buffers : HELD_MOST;
    while (count + 1 < most && take(0, &held[count])) count++;
    assert_int_equal(count, most - 1); /* so many can be out, and it captures into another one */
    for (unsigned i = 0; i < 30; i++) {
        bmb_camera_frame more;
        if (cameras()->take(cameras()->ctx, 0, &more) == BMB_OK) cameras()->release(cameras()->ctx, 0, more.cookie);
        pass(10000);
    }
    for (size_t i = 0; i < count; i++) cameras()->release(cameras()->ctx, 0, held[i].cookie);
    assert_true(take(0, &held[0]));
    cameras()->release(cameras()->ctx, 0, held[0].cookie);
    cameras()->stop(cameras()->ctx, 0);
}

static void a_camera_is_started_again(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    const bmb_mode none = { BMB_CODEC_COUNT, 1, 1, 1000 };
    bmb_mode effective = none;
    if (!there()) skip();
    for (unsigned i = 0; i < 5; i++) {
        (void)start(0);
        assert_true(take(0, &frame));
        cameras()->release(cameras()->ctx, 0, frame.cookie);
        cameras()->stop(cameras()->ctx, 0);
        if (i % 2 == 0) cameras()->stop(cameras()->ctx, 0); /* twice does no harm */
    }
    assert_int_not_equal(cameras()->start(cameras()->ctx, 99, &none, &effective), BMB_OK);
    (void)start(0); /* and after something that could not be */
    assert_true(take(0, &frame));
    cameras()->release(cameras()->ctx, 0, frame.cookie);
    cameras()->stop(cameras()->ctx, 0);
}

static void controls_tell_what_is_in_force(void **state)
{
    (void)state;
    bmb_camera_info info;
    if (!there() || (cameras()->set == NULL && cameras()->get == NULL)) skip();
    assert_non_null(cameras()->set); /* both or neither */
    assert_non_null(cameras()->get);
    assert_int_equal(cameras()->info(cameras()->ctx, 0, &info), BMB_OK);
    for (int c = 0; c < BMB_CONTROL_COUNT; c++) {
        const bmb_range *r = &info.controls[c];
        int32_t effective = 0, value = 0;
        if (r->step == 0) continue; /* it has none of it */
        assert_int_equal(cameras()->set(cameras()->ctx, 0, (bmb_control)c, r->most, &effective), BMB_OK);
        assert_true(effective >= r->least && effective <= r->most);
        assert_int_equal(cameras()->get(cameras()->ctx, 0, (bmb_control)c, &value), BMB_OK);
        assert_int_equal(value, effective);
        bmb_err err = cameras()->set(cameras()->ctx, 0, (bmb_control)c, r->most + 1, &effective);
        if (err == BMB_OK) assert_true(effective <= r->most); /* refused, or brought into its range */
        assert_int_equal(cameras()->set(cameras()->ctx, 0, (bmb_control)c, r->preset, &effective), BMB_OK);
    }
}

static void streams_of_a_camera_stand_together(void **state)
{
    (void)state;
    bmb_camera_info info, before = { 0 };
    if (!there()) skip();
    size_t count = cameras()->count(cameras()->ctx);
    for (size_t i = 0; i < count; i++) {
        assert_int_equal(cameras()->info(cameras()->ctx, i, &info), BMB_OK);
        bool same = strcmp(info.name, before.name) == 0;
        assert_int_equal(info.stream, same ? before.stream + 1 : 0); /* one next to the other, counted from 0 */
        before = info;
    }
}

/* The first camera with several streams; SIZE_MAX: there is none. */
static size_t with_streams(void)
{
    bmb_camera_info info;
    for (size_t i = 1; there() && i < cameras()->count(cameras()->ctx); i++)
        if (cameras()->info(cameras()->ctx, i, &info) == BMB_OK && info.stream == 1) return i - 1;
    return SIZE_MAX;
}

static void streams_show_the_same_exposures(void **state)
{
    (void)state;
    bmb_camera_frame one, two;
    size_t first = with_streams(), culprit = 0, same = 0;
    if (first == SIZE_MAX) skip();
    const size_t indices[] = { first, first + 1 };
    const bmb_mode modes[] = { first_mode(first), first_mode(first + 1) };
    if (cameras()->together != NULL &&
        cameras()->together(cameras()->ctx, indices, modes, 2, &culprit) == BMB_UNSUPPORTED) {
        assert_true(culprit < 2);
        skip();
    }
    (void)start(first);
    (void)start(first + 1);
    assert_true(take(first, &one) && take(first + 1, &two));
    for (unsigned i = 0; i < 50 && same < 3; i++) {
        bool earlier = one.capture_us < two.capture_us;
        same += one.capture_us == two.capture_us;
        cameras()->release(cameras()->ctx, earlier ? first : first + 1, earlier ? one.cookie : two.cookie);
        assert_true(take(earlier ? first : first + 1, earlier ? &one : &two));
    }
    assert_int_equal(same, 3);
    cameras()->stop(cameras()->ctx, first); /* and one goes on without the other */
    cameras()->release(cameras()->ctx, first + 1, two.cookie);
    assert_true(take(first + 1, &two));
    cameras()->release(cameras()->ctx, first, one.cookie);
    cameras()->release(cameras()->ctx, first + 1, two.cookie);
    cameras()->stop(cameras()->ctx, first + 1);
}

static void an_encoder_that_rests_goes_on_with_a_key_frame(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    size_t index = with_streams() != SIZE_MAX ? with_streams() : 0;
    if (!there() || cameras()->want == NULL) skip();
    if (cameras()->present != NULL) assert_true(cameras()->present(cameras()->ctx, index));
    (void)start(index);
    assert_true(take(index, &frame));
    cameras()->release(cameras()->ctx, index, frame.cookie);
    bool rests = cameras()->want(cameras()->ctx, index, false);
    unsigned quiet = 0;
    for (unsigned i = 0; i < 300 && quiet < 30; i++) { /* what was on its way may still come, and be slow */
        quiet++;
        if (cameras()->take(cameras()->ctx, index, &frame) == BMB_OK) {
            cameras()->release(cameras()->ctx, index, frame.cookie);
            quiet = 0;
        }
        pass(10000);
    }
    if (rests) assert_int_equal(quiet, 30);
    (void)cameras()->want(cameras()->ctx, index, true);
    assert_true(take(index, &frame));
    assert_true(!rests || frame.key);
    cameras()->release(cameras()->ctx, index, frame.cookie);
    cameras()->stop(cameras()->ctx, index);
}

const struct CMUnitTest check_cameras[] = {
    cmocka_unit_test(cameras_say_what_they_can_do),
    cmocka_unit_test(frames_come_and_go_back_late_and_in_any_order),
    cmocka_unit_test(frames_are_whole),
    cmocka_unit_test(a_camera_without_a_free_buffer_goes_on),
    cmocka_unit_test(a_camera_is_started_again),
    cmocka_unit_test(controls_tell_what_is_in_force),
    cmocka_unit_test(streams_of_a_camera_stand_together),
    cmocka_unit_test(streams_show_the_same_exposures),
    cmocka_unit_test(an_encoder_that_rests_goes_on_with_a_key_frame),
};
const size_t check_cameras_count = sizeof check_cameras / sizeof check_cameras[0];
