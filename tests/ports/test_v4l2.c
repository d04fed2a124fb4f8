/* Cameras of the kernel on a driver that does what it is told: every error, odd buffers, lives. */
#include "support/check.h"

#include <errno.h>
#include <unistd.h>

#include "codec/streams.h"
#include "support/fake_port.h"
#include "support/script_v4l2.h"
#include "v4l2/camera.h"
#include "v4l2/converter.h"
#include "v4l2/mend.h"
#include "wire/jpeg.h"

static fake_port *f;
static script_driver *d;
static script_node *n;
static bmb_v4l2 *v;
static bmb_cameras c;
static uint8_t jpeg[40000], bare[40000];
static size_t jpeg_size, bare_size;

static const bmb_mode large = { BMB_CODEC_JPEG, 640, 480, 30000 }, small = { BMB_CODEC_JPEG, 320, 240, 30000 };
static const bmb_mode moving = { BMB_CODEC_H264, 320, 240, 10000 };

/* A real image, so that decoders take it; and the same without its Huffman tables. */
static void draw(void)
{
    jpeg_size = fake_jpeg(jpeg, 640, 480, 9000);
    bare_size = 0;
    for (size_t at = 0; at < jpeg_size;) {
        if (jpeg[at] == 0xFF && jpeg[at + 1] == 0xC4) {
            at += 2u + ((size_t)jpeg[at + 2] << 8 | jpeg[at + 3]);
            continue;
        }
        if (jpeg[at] == 0xFF && jpeg[at + 1] == 0xDA) {
            memcpy(bare + bare_size, jpeg + at, jpeg_size - at);
            bare_size += jpeg_size - at;
            break;
        }
        size_t size = at == 0 ? 2 : 2u + ((size_t)jpeg[at + 2] << 8 | jpeg[at + 3]);
        memcpy(bare + bare_size, jpeg + at, size);
        bare_size += size;
        at += size;
    }
}

static void no_wake(void *ctx)
{
    (void)ctx;
}

/* A camera with MJPEG and YUYV, whose controls are of several kinds. */
static int open_driver(void **state)
{
    (void)state;
    draw();
    f = fake_create();
    f->port.wake = no_wake;
    d = script_create();
    n = script_add(d, "/dev/video0", "Siding camera", V4L2_CAP_VIDEO_CAPTURE);
    script_format(n, V4L2_PIX_FMT_YUYV, 640, 480, 15);
    script_format(n, V4L2_PIX_FMT_YUYV, 320, 240, 30);
    script_format(n, V4L2_PIX_FMT_MJPEG, 640, 480, 30);
    script_format(n, V4L2_PIX_FMT_MJPEG, 1280, 720, 30);
    return 0;
}

static void create(const char *device)
{
    const bmb_v4l2_camera spec = { "front", device };
    assert_int_equal(v4l2_create_on(&d->table, &f->port, &spec, 1, &v), BMB_OK);
    c = bmb_v4l2_cameras(v);
}

static int close_driver(void **state)
{
    (void)state;
    bmb_v4l2_destroy(v);
    v = NULL;
    script_destroy(d);
    fake_destroy(f);
    return 0;
}

static bmb_v4l2_state state_of(size_t camera)
{
    bmb_v4l2_state s;
    assert_int_equal(bmb_v4l2_state_get(v, camera, &s), BMB_OK);
    return s;
}

static bmb_mode start(size_t stream, const bmb_mode *mode)
{
    bmb_mode effective;
    assert_int_equal(c.start(c.ctx, stream, mode, &effective), BMB_OK);
    return effective;
}

static void expose(const void *data, size_t size)
{
    d->now += 33333;
    f->now += 33333;
    (void)script_picture(d, n, data, size, 0);
}

/* As the device asks: in each step until there is no more, so that the first answer may still be about the last one. */
static bmb_err ask(size_t stream, bmb_camera_frame *out)
{
    bmb_err err = c.take(c.ctx, stream, out);
    return err == BMB_AGAIN ? c.take(c.ctx, stream, out) : err;
}

static bool take(size_t stream, bmb_camera_frame *out)
{
    return ask(stream, out) == BMB_OK;
}

/* What the encoders' thread makes comes a little later. */
static bool take_made(size_t stream, bmb_camera_frame *out)
{
    for (unsigned i = 0; i < 2000; i++) {
        if (take(stream, out)) return true;
        usleep(1000);
    }
    return false;
}

static void a_camera_says_what_it_can_do(void **state)
{
    (void)state;
    bmb_camera_info info;
    create(NULL);
    assert_int_equal(c.info(c.ctx, 1, &info), BMB_OK);
    assert_string_equal(info.name, "front");
    assert_string_equal(info.model, "Siding camera");
    assert_int_equal(info.stream, 1);
    assert_int_equal(info.modes[0].codec, BMB_CODEC_JPEG);
    assert_int_equal(info.modes[0].width, 1280); /* the largest first */
    assert_int_equal(info.modes[1].width, 640);
    assert_int_equal(info.modes[1].mfps_most, 30000); /* of the format that is faster */
    assert_int_equal(info.mode_count, 6);
    assert_int_equal(c.info(c.ctx, 4, &info), BMB_NOT_FOUND);
}

static void nodes_that_are_no_camera_are_left_out(void **state)
{
    (void)state;
    n->there = false;
    script_format(script_add(d, "/dev/video1", "meta", V4L2_CAP_META_CAPTURE), V4L2_PIX_FMT_YUYV, 320, 240, 30);
    script_format(script_add(d, "/dev/video2", "output", V4L2_CAP_VIDEO_OUTPUT), V4L2_PIX_FMT_YUYV, 320, 240, 30);
    script_format(script_add(d, "/dev/video3", "codec", V4L2_CAP_VIDEO_M2M), V4L2_PIX_FMT_YUYV, 320, 240, 30);
    script_format(script_add(d, "/dev/video4", "bayer", V4L2_CAP_VIDEO_CAPTURE), V4L2_PIX_FMT_SBGGR8, 320, 240, 30);
    script_node *real = script_add(d, "/dev/video5", "planes", V4L2_CAP_VIDEO_CAPTURE_MPLANE);
    script_format(real, V4L2_PIX_FMT_NV12, 320, 240, 30);
    create(NULL);
    assert_string_equal(state_of(0).path, "/dev/video5");
}

static void cameras_are_chosen_by_path_bus_or_name(void **state)
{
    (void)state;
    static const char *const names[] = { "/dev/video1", "usb-1.3", "cab", "/dev/front" };
    script_node *other = script_add(d, "/dev/video1", "Driver's CAB", V4L2_CAP_VIDEO_CAPTURE);
    other->bus = "usb-1.3";
    script_format(other, V4L2_PIX_FMT_MJPEG, 640, 480, 30);
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        bmb_v4l2_destroy(v);
        create(names[i]);
        assert_string_equal(state_of(0).path, i < 3 ? "/dev/video1" : "/dev/video0");
    }
    bmb_v4l2_destroy(v);
    const bmb_v4l2_camera two[] = { { "any", NULL }, { "siding", "siding" } }; /* what is named is not "any" */
    assert_int_equal(v4l2_create_on(&d->table, &f->port, two, 2, &v), BMB_OK);
    assert_string_equal(state_of(0).path, "/dev/video1");
    assert_string_equal(state_of(1).path, "/dev/video0");
}

static void jpeg_passes_as_it_is(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    create(NULL);
    bmb_mode effective = start(0, &large);
    assert_int_equal(effective.mfps, 30000);
    assert_string_equal(state_of(0).format, "MJPEG");
    assert_false(take(0, &frame));
    memset(jpeg + jpeg_size, 0, 500); /* padding, and a second image */
    memcpy(jpeg + jpeg_size + 500, jpeg, 1000);
    expose(jpeg, jpeg_size + 1500);
    assert_true(take(0, &frame));
    assert_int_equal(frame.size, jpeg_size);
    assert_memory_equal(frame.data, jpeg, jpeg_size);
    assert_int_equal(frame.capture_us, f->now);
    assert_true(frame.key);
    assert_int_equal(state_of(0).copied, 0);
    bool drivers = false;
    for (unsigned i = 0; i < n->capture.count; i++) drivers = drivers || frame.data == n->capture.buffers[i].memory;
    assert_true(drivers); /* its own buffer, not a copy */
    unsigned queued = script_queued(n);
    c.release(c.ctx, 0, frame.cookie);
    assert_int_equal(script_queued(n), queued + 1);
    assert_false(c.want(c.ctx, 0, false)); /* nothing rests here */
    c.stop(c.ctx, 0);
    assert_int_equal(script_open_files(d), 0); /* others may have it */
}

static void missing_tables_are_put_in(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    bmb_jpeg parsed;
    create(NULL);
    (void)start(0, &large);
    expose(bare, bare_size);
    assert_true(take(0, &frame));
    assert_int_equal(frame.size, bare_size + V4L2_TABLES);
    assert_int_equal(bmb_jpeg_parse(frame.data, frame.size, &parsed), BMB_OK);
    assert_true(parsed.huffman_at[0][0] != 0 && parsed.huffman_at[1][1] != 0);
    assert_true(state_of(0).copied > 0);
    c.release(c.ctx, 0, frame.cookie);
    expose("no picture", 10);
    assert_true(take(0, &frame)); /* the device tells that it is bad */
    assert_int_equal(frame.size, 10);
    c.release(c.ctx, 0, frame.cookie);
}

static void buffers_come_back_in_any_order_and_late(void **state)
{
    (void)state;
    bmb_camera_frame held[6], more;
    create(NULL);
    (void)start(0, &large);
    for (unsigned i = 0; i < 6; i++) {
        expose(jpeg, jpeg_size);
        assert_true(take(0, &held[i]));
    }
    for (unsigned i = 0; i < 20; i++) { /* all that can be lent are: it captures all the same */
        expose(jpeg, jpeg_size);
        assert_false(take(0, &more));
        assert_true(script_queued(n) >= 1);
    }
    assert_int_equal(state_of(0).lost, 20);
    c.release(c.ctx, 0, held[3].cookie);
    c.release(c.ctx, 0, held[3].cookie); /* twice does no harm */
    expose(jpeg, jpeg_size);
    assert_true(take(0, &held[3]));
    c.stop(c.ctx, 0);
    assert_memory_equal(held[0].data, jpeg, jpeg_size); /* ours until it is released */
    (void)start(0, &large);
    expose(jpeg, jpeg_size);
    assert_true(take(0, &more));
    for (unsigned i = 6; i-- > 0;) c.release(c.ctx, 0, held[i].cookie);
    assert_int_equal(d->maps, 8); /* those of the present capture alone */
    c.release(c.ctx, 0, more.cookie);
    c.release(c.ctx, 0, 0x1FFF);
    c.release(c.ctx, 0, 77);
}

static void errors_of_a_picture_do_not_end_it(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    create(NULL);
    (void)start(0, &large);
    n->results[n->result_count++] = -EIO;
    n->results[n->result_count++] = -EAGAIN;
    expose(jpeg, jpeg_size);
    assert_false(take(0, &frame));
    assert_true(take(0, &frame));
    c.release(c.ctx, 0, frame.cookie);
    d->now += 33333;
    (void)script_picture(d, n, jpeg, jpeg_size, V4L2_BUF_FLAG_ERROR);
    assert_false(take(0, &frame)); /* damaged: not passed on, and its buffer goes back */
    assert_int_equal(state_of(0).bad, 2);
    assert_int_equal(script_queued(n), 8);
    (void)script_picture(d, n, jpeg, 0, 0); /* and an empty one */
    assert_false(take(0, &frame));
    assert_int_equal(script_queued(n), 8);
    n->sequence += 3;
    expose(jpeg, jpeg_size);
    assert_true(take(0, &frame));
    assert_int_equal(state_of(0).lost, 3);
    c.release(c.ctx, 0, frame.cookie);
}

static void what_does_not_get_better_ends_it(void **state)
{
    (void)state;
    static const struct {
        int error;
        unsigned times;
        bmb_err expected;
    } rows[] = {
        { -ENODEV, 1, BMB_GONE }, { -EPIPE, 1, BMB_GONE }, { -EIO, 10, BMB_FAILED }, { -EINVAL, 1, BMB_FAILED }
    };
    bmb_camera_frame frame;
    create(NULL);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        (void)start(0, &large);
        for (unsigned k = 0; k < rows[i].times; k++) n->results[n->result_count++] = rows[i].error;
        bmb_err err = BMB_AGAIN;
        for (unsigned k = 0; k < rows[i].times && err == BMB_AGAIN; k++) err = ask(0, &frame);
        assert_int_equal(err, rows[i].expected);
        assert_int_equal(ask(0, &frame), rows[i].expected); /* until it is stopped */
        assert_int_equal(script_open_files(d), 0);
        c.stop(c.ctx, 0);
        n->result_count = 0;
    }
    (void)start(0, &large);
    n->wrong_index = 12;
    expose(jpeg, jpeg_size);
    assert_int_equal(ask(0, &frame), BMB_FAILED); /* a buffer that there is not */
    n->wrong_index = -1;
    c.stop(c.ctx, 0);
    (void)start(0, &large);
    n->size_changes = true;
    assert_int_equal(ask(0, &frame), BMB_GONE); /* another picture size: it begins anew */
    c.stop(c.ctx, 0);
}

static void starting_fails_with_a_reason(void **state)
{
    (void)state;
    struct {
        int *error;
        int value;
        bmb_err expected;
        const char *says;
    } rows[] = {
        { &n->on_err, -ENOSPC, BMB_LIMIT, "no bandwidth or memory left" },
        { &n->on_err, -EBUSY, BMB_IN_USE, "is used by another program" },
        { &n->on_err, -EIO, BMB_FAILED, "unplug it and plug it in again" },
        { &n->request_err, -ENOMEM, BMB_NO_MEMORY, "unplug it" },
        { &n->request_err, -EBUSY, BMB_IN_USE, "is used by" },
        { &n->format_err, -EBUSY, BMB_IN_USE, "is used by" },
        { &n->format_err, -EINVAL, BMB_UNSUPPORTED, "no format that can be used" },
        { &n->query_err, -EINVAL, BMB_FAILED, "fails (VIDIOC_QUERYBUF: Invalid argument)" },
        { &n->on_err, -EINVAL, BMB_FAILED, "fails (VIDIOC_STREAMON: Invalid argument)" },
        { &n->map_err, -ENOMEM, BMB_NO_MEMORY, "" },
        { &n->queue_err, -EIO, BMB_FAILED, "" },
    };
    bmb_mode effective;
    create(NULL);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        *rows[i].error = rows[i].value;
        assert_int_equal(c.start(c.ctx, 0, &large, &effective), rows[i].expected);
        assert_non_null(strstr(c.trouble(c.ctx, 0), rows[i].says));
        assert_int_equal(script_open_files(d), 0);
        assert_int_equal(d->maps, 0);
        *rows[i].error = 0;
    }
    n->buffers_most = 2; /* none could be lent */
    assert_int_equal(c.start(c.ctx, 0, &large, &effective), BMB_LIMIT);
    n->buffers_most = 3;
    (void)start(0, &large);
    assert_null(c.trouble(c.ctx, 0));
}

static void absence_permission_and_use_are_told(void **state)
{
    (void)state;
    bmb_mode effective;
    n->there = false;
    create("siding");
    assert_int_equal(c.start(c.ctx, 0, &large, &effective), BMB_NOT_FOUND);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "no camera matches siding; plug it in"));
    assert_false(c.present(c.ctx, 0));
    n->there = true;
    assert_false(c.present(c.ctx, 0)); /* it is not looked for all the time … */
    d->changed = true;
    assert_true(c.present(c.ctx, 0)); /* … but when nodes come */
    n->there = false;
    assert_true(c.present(c.ctx, 0)); /* nobody has said that it is gone */
    d->changed = true;
    assert_false(c.present(c.ctx, 0));
    n->there = d->changed = true;
    assert_true(c.present(c.ctx, 0));
    bmb_v4l2_destroy(v);
    n->open_err = -EACCES;
    n->group = "video";
    create("/dev/video0");
    assert_int_equal(c.start(c.ctx, 0, &large, &effective), BMB_DENIED);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "group \"video\" alone; add this user to it (usermod -aG video USER)"));
    n->barred = true;
    assert_int_equal(c.start(c.ctx, 0, &large, &effective), BMB_DENIED);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "/dev/video0 is barred from this service by its unit"));
    n->barred = false;
    n->group = NULL;
    assert_int_equal(c.start(c.ctx, 0, &large, &effective), BMB_DENIED);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "by its owner alone"));
    n->open_err = 0;
    n->format_err = -EBUSY;
    n->holder = "viewer (process 7)";
    assert_int_equal(c.start(c.ctx, 0, &large, &effective), BMB_IN_USE);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "/dev/video0 is used by viewer (process 7)"));
    n->format_err = 0;
    bmb_v4l2_destroy(v);
    n->there = false;
    create(NULL);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "no camera is attached; plug one in"));
}

static void it_is_found_again_under_another_number(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    int32_t value;
    script_add_control(n, V4L2_CID_BRIGHTNESS, "Brightness", 0, 255, 128);
    create(NULL);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_BRIGHTNESS, 200, &value), BMB_OK);
    (void)start(0, &large);
    n->there = false;
    assert_int_equal(ask(0, &frame), BMB_GONE);
    c.stop(c.ctx, 0);
    script_node *again = script_add(d, "/dev/video7", "Siding camera", V4L2_CAP_VIDEO_CAPTURE);
    script_format(again, V4L2_PIX_FMT_MJPEG, 640, 480, 30);
    script_add_control(again, V4L2_CID_BRIGHTNESS, "Brightness", 0, 255, 128);
    d->changed = true;
    assert_true(c.present(c.ctx, 0));
    (void)start(0, &large);
    assert_string_equal(state_of(0).path, "/dev/video7");
    assert_int_equal(again->controls[0].value, 200); /* it had forgotten that */
}

static void raw_pictures_are_encoded_for_several_streams(void **state)
{
    (void)state;
    static uint8_t yuyv[640 * 480 * 2 + 480 * 64];
    bmb_camera_frame one, two;
    bmb_jpeg parsed;
    for (size_t i = 0; i < sizeof yuyv; i++) yuyv[i] = (uint8_t)(i % 2 == 0 ? i / 640 : 128);
    n->rows[2].fourcc = n->rows[3].fourcc = V4L2_PIX_FMT_SBGGR8; /* no MJPEG here */
    n->stride_more = 64;
    create(NULL);
    const bmb_mode tiny = { BMB_CODEC_JPEG, 160, 120, 15000 };
    (void)start(0, &tiny);
    assert_int_equal(state_of(0).width, 320); /* the smallest that is large enough */
    (void)start(1, &moving);
    assert_int_equal(state_of(0).starts, 1);
    expose(yuyv, 320 * 2 * 240 + 64 * 240);
    assert_true(take_made(0, &one));
    assert_true(take_made(1, &two));
    assert_int_equal(one.capture_us, two.capture_us); /* of one exposure */
    assert_true(two.key);
    assert_int_equal(bmb_jpeg_parse(one.data, one.size, &parsed), BMB_OK);
    assert_int_equal(parsed.width, 160);
    assert_string_equal(state_of(0).format, "YUYV");
    c.release(c.ctx, 0, one.cookie);
    c.release(c.ctx, 1, two.cookie);
    assert_true(c.want(c.ctx, 0, false)); /* encoders rest */
    expose(yuyv, 320 * 2 * 240 + 64 * 240);
    d->now += 100000;
    f->now += 100000; /* the other has ten a second */
    expose(yuyv, 320 * 2 * 240 + 64 * 240);
    assert_true(take_made(1, &two));
    c.release(c.ctx, 1, two.cookie);
    assert_false(take(0, &one));
    assert_true(c.want(c.ctx, 0, true));
    const bmb_mode still = { BMB_CODEC_JPEG, 640, 480, 15000 };
    (void)start(2, &still); /* larger than what is captured: it is set to that */
    assert_int_equal(state_of(0).width, 640);
    expose(yuyv, sizeof yuyv);
    assert_true(take_made(2, &one));
    assert_true(take_made(0, &two)); /* and the others go on */
    c.release(c.ctx, 2, one.cookie);
    c.release(c.ctx, 0, two.cookie);
    assert_int_equal(state_of(0).mfps, 15000); /* all that it has in this size */
    c.stop(c.ctx, 2);
    assert_int_equal(state_of(0).width, 320); /* and back … */
    c.stop(c.ctx, 0);
    f->now += 1000000;
    const bmb_mode fast = { BMB_CODEC_JPEG, 320, 240, 30000 };
    assert_int_equal(start(0, &fast).mfps, 30000);
    f->now += 1000000;
    (void)start(2, &still);
    assert_int_equal(state_of(0).mfps, 15000);
    c.stop(c.ctx, 2);
    assert_int_equal(state_of(0).mfps, 30000); /* … in its rate as well */
    uint64_t bad = state_of(0).bad;
    expose(yuyv, 1000); /* short: no picture of it */
    assert_int_equal(ask(0, &one), BMB_AGAIN);
    assert_int_equal(state_of(0).bad, bad + 1);
}

static void the_least_is_encoded(void **state)
{
    (void)state;
    create(NULL);
    (void)start(0, &large); /* native */
    assert_string_equal(state_of(0).format, "MJPEG");
    (void)start(1, &small); /* made of the JPEG images, since the other stays as it is */
    assert_string_equal(state_of(0).format, "MJPEG");
    assert_int_equal(state_of(0).starts, 1);
    assert_false(c.want(c.ctx, 0, true));
    assert_true(c.want(c.ctx, 1, true));
    c.stop(c.ctx, 0);
    c.stop(c.ctx, 1);
    (void)start(1, &small); /* alone: YUYV needs no decoding */
    assert_string_equal(state_of(0).format, "YUYV");
    c.stop(c.ctx, 1);
    const bmb_mode fast = { BMB_CODEC_H264, 640, 480, 30000 };
    (void)start(0, &fast); /* YUYV has 15 a second only */
    assert_string_equal(state_of(0).format, "MJPEG");
}

static void what_is_planned_is_thought_of(void **state)
{
    (void)state;
    const size_t indices[] = { 0, 1 };
    const bmb_mode both[] = { small, large };
    size_t culprit = 9;
    create(NULL);
    assert_int_equal(c.together(c.ctx, indices, both, 2, &culprit), BMB_OK);
    (void)start(0, &small);
    assert_int_equal(state_of(0).width, 640); /* the one that comes needs it */
    (void)start(1, &large);
    assert_int_equal(state_of(0).starts, 1); /* no gap for the first */
    const bmb_mode huge[] = { small, { BMB_CODEC_JPEG, 4000, 3000, 1000 } };
    assert_int_equal(c.together(c.ctx, indices, huge, 2, &culprit), BMB_UNSUPPORTED);
    assert_int_equal(culprit, 1);
}

static void large_stills_do_not_take_the_stream_away(void **state)
{
    (void)state;
    const bmb_mode huge = { BMB_CODEC_JPEG, 1280, 720, 30000 };
    bmb_mode effective;
    create(NULL);
    (void)start(0, &large);
    (void)start(1, &huge);
    assert_int_equal(state_of(0).width, 1280);
    c.stop(c.ctx, 1);
    assert_int_equal(state_of(0).width, 640);
    assert_int_equal(c.start(c.ctx, 1, &huge, &effective), BMB_IN_USE); /* not again so soon: each is a gap */
    assert_int_equal(state_of(0).width, 640);
    assert_null(c.trouble(c.ctx, 0));
    f->now += 1000000;
    (void)start(1, &huge);
}

static void cameras_that_are_absent_all_hear_of_news(void **state)
{
    (void)state;
    const bmb_v4l2_camera two[] = { { "a", "nothing" }, { "b", "siding" } };
    n->there = false;
    assert_int_equal(v4l2_create_on(&d->table, &f->port, two, 2, &v), BMB_OK);
    c = bmb_v4l2_cameras(v);
    assert_false(c.present(c.ctx, 0));
    assert_false(c.present(c.ctx, 4));
    n->there = true;
    d->changed = true;
    assert_false(c.present(c.ctx, 0)); /* this one has taken the news … */
    assert_true(c.present(c.ctx, 4));  /* … which is the other's as well */
}

static void a_quality_that_cannot_be_is_told(void **state)
{
    (void)state;
    int32_t effective;
    create(NULL);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_QUALITY, 50, &effective), BMB_OK); /* it may have to be encoded */
    (void)start(0, &large);
    assert_int_equal(fake_event_count(f, BMB_EVENT_CONTROL_REFUSED), 1);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_QUALITY, 60, &effective), BMB_UNSUPPORTED);
}

static void a_picture_may_begin_behind_its_buffer(void **state)
{
    (void)state;
    static uint8_t shifted[40000];
    bmb_camera_frame frame;
    n->there = false;
    n = script_add(d, "/dev/video1", "planes", V4L2_CAP_VIDEO_CAPTURE_MPLANE);
    script_format(n, V4L2_PIX_FMT_MJPEG, 640, 480, 30);
    n->offset = 64;
    create(NULL);
    (void)start(0, &large);
    memcpy(shifted + 64, jpeg, jpeg_size);
    expose(shifted, jpeg_size + 64);
    assert_true(take(0, &frame));
    assert_int_equal(frame.size, jpeg_size);
    assert_memory_equal(frame.data, jpeg, jpeg_size);
    c.release(c.ctx, 0, frame.cookie);
    expose(shifted, 64); /* nothing behind it */
    assert_false(take(0, &frame));
    assert_int_equal(state_of(0).bad, 1);
}

static void native_h264_excludes_other_sizes(void **state)
{
    (void)state;
    const size_t indices[] = { 0, 1 };
    const bmb_mode both[] = { { BMB_CODEC_H264, 1920, 1080, 30000 }, small };
    size_t culprit = 9;
    bmb_camera_frame frame;
    n->row_count = 0;
    script_format(n, V4L2_PIX_FMT_H264, 1920, 1080, 30);
    script_control *force = script_add_control(n, V4L2_CID_MPEG_VIDEO_FORCE_KEY_FRAME, "Force Key Frame", 0, 1, 0);
    script_control *rate = script_add_control(n, V4L2_CID_MPEG_VIDEO_BITRATE, "Bitrate", 25000, 25000000, 4000000);
    script_control *period = script_add_control(n, V4L2_CID_MPEG_VIDEO_H264_I_PERIOD, "I-Period", 1, 600, 60);
    script_control *sets = script_add_control(n, V4L2_CID_MPEG_VIDEO_REPEAT_SEQ_HEADER, "Repeat", 0, 1, 0);
    script_control *profile = script_add_control(n, V4L2_CID_MPEG_VIDEO_H264_PROFILE, "Profile", 0, 4, 4);
    create(NULL);
    assert_int_equal(c.together(c.ctx, indices, both, 2, &culprit), BMB_UNSUPPORTED);
    assert_int_equal(culprit, 1);
    (void)start(0, &both[0]);
    assert_int_equal(sets->value, 1);
    expose("\0\0\0\1\x65 a key frame", 16);
    d->nodes[0].capture.buffers[0].flags |= V4L2_BUF_FLAG_KEYFRAME;
    assert_true(take(0, &frame));
    assert_true(frame.key);
    assert_memory_equal(frame.data, "\0\0\0\1\x65 a key frame", 16);
    c.release(c.ctx, 0, frame.cookie);
    int32_t effective;
    assert_int_equal(c.key_frame(c.ctx, 0), BMB_OK);
    assert_int_equal(force->value, 1);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_KBPS, 1500, &effective), BMB_OK);
    assert_int_equal(rate->value, 1500000);
    assert_int_equal(effective, 1500);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_KEY_MS, 1000, &effective), BMB_OK);
    assert_int_equal(period->value, 30);
    assert_int_equal(c.get(c.ctx, 0, BMB_CONTROL_PROFILE, &effective), BMB_OK);
    assert_int_equal(effective, 100);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_PROFILE, 66, &effective), BMB_OK);
    assert_int_equal(profile->value, V4L2_MPEG_VIDEO_H264_PROFILE_CONSTRAINED_BASELINE);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_PROFILE, 77, &effective), BMB_OK);
    assert_int_equal(profile->value, V4L2_MPEG_VIDEO_H264_PROFILE_MAIN);
}

static void controls_have_our_names_and_the_drivers_ranges(void **state)
{
    (void)state;
    bmb_camera_info info;
    int32_t effective;
    char text[100];
    script_add_control(n, V4L2_CID_BRIGHTNESS, "Brightness", 0, 255, 128)->step = 4;
    script_control *exposure = script_add_control(n, V4L2_CID_EXPOSURE_ABSOLUTE, "Exposure Time", 3, 2047, 250);
    script_control *automatic = script_add_control(n, V4L2_CID_EXPOSURE_AUTO, "Auto Exposure", 0, 3, 3);
    automatic->type = V4L2_CTRL_TYPE_MENU;
    automatic->items = 1u << V4L2_EXPOSURE_MANUAL | 1u << V4L2_EXPOSURE_APERTURE_PRIORITY;
    script_control *flicker = script_add_control(n, V4L2_CID_POWER_LINE_FREQUENCY, "Power Line", 0, 2, 1);
    script_control *white =
        script_add_control(n, V4L2_CID_WHITE_BALANCE_TEMPERATURE, "White Balance", 2800, 6500, 4600);
    script_control *white_auto = script_add_control(n, V4L2_CID_AUTO_WHITE_BALANCE, "White Balance, Auto", 0, 1, 1);
    script_add_control(n, V4L2_CID_ZOOM_ABSOLUTE, "Zoom", 100, 500, 100);
    script_control *lamp = script_add_control(n, V4L2_CID_ILLUMINATORS_1, "Lamp", 0, 1, 0);
    script_add_control(n, V4L2_CID_CAMERA_CLASS_BASE + 900, "Lens Heater", 0, 7, 2);
    create(NULL);
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_int_equal(info.controls[BMB_CONTROL_BRIGHTNESS].most, 255);
    assert_int_equal(info.controls[BMB_CONTROL_BRIGHTNESS].step, 4);
    assert_int_equal(info.controls[BMB_CONTROL_EXPOSURE_US].most, 204700);
    assert_int_equal(info.controls[BMB_CONTROL_EXPOSURE_US].least, 0);
    assert_int_equal(info.controls[BMB_CONTROL_EXPOSURE_US].preset, 0); /* automatic */
    assert_int_equal(info.controls[BMB_CONTROL_CONTRAST].step, 0);
    assert_int_equal(info.controls[BMB_CONTROL_QUALITY].most, 100); /* the encoder's */
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_BRIGHTNESS, 201, &effective), BMB_OK);
    assert_int_equal(effective, 200); /* what the driver made of it */
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_BRIGHTNESS, 300, &effective), BMB_BAD_ARG);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_CONTRAST, 3, &effective), BMB_UNSUPPORTED);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_EXPOSURE_US, 10000, &effective), BMB_OK);
    assert_int_equal(exposure->value, 100);
    assert_int_equal(automatic->value, V4L2_EXPOSURE_MANUAL);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_EXPOSURE_US, 0, &effective), BMB_OK);
    assert_int_equal(automatic->value, V4L2_EXPOSURE_APERTURE_PRIORITY);
    assert_int_equal(effective, 0);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_WHITE_K, 3000, &effective), BMB_OK);
    assert_int_equal(white->value, 3000);
    assert_int_equal(white_auto->value, 0);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_FLICKER, 60, &effective), BMB_OK);
    assert_int_equal(flicker->value, V4L2_CID_POWER_LINE_FREQUENCY_60HZ);
    assert_int_equal(info.controls[BMB_CONTROL_ILLUMINATION].most, 100); /* a switch is none or all of it */
    assert_int_equal(info.controls[BMB_CONTROL_ILLUMINATION].step, 100);
    assert_int_equal(c.set(c.ctx, 0, BMB_CONTROL_ILLUMINATION, 100, &effective), BMB_OK);
    assert_int_equal(lamp->value, 1);
    assert_int_equal(effective, 100);
    assert_int_equal(c.get(c.ctx, 0, BMB_CONTROL_ZOOM, &effective), BMB_OK);
    assert_int_equal(effective, 100);
    assert_int_equal(bmb_v4l2_control_text(v, 0, 0, text, sizeof text), BMB_OK);
    assert_string_equal(text, "Lens Heater: 0 to 7, now 2");
    assert_int_equal(bmb_v4l2_control_text(v, 0, 1, text, sizeof text), BMB_NOT_FOUND);
    assert_int_equal(script_open_files(d), 0);
}

static void a_driver_that_chooses_otherwise_is_believed(void **state)
{
    (void)state;
    const bmb_mode odd = { BMB_CODEC_JPEG, 700, 500, 30000 };
    create(NULL);
    bmb_mode effective = start(0, &odd); /* made smaller, from 1280x720 */
    assert_int_equal(effective.width, 700);
    c.stop(c.ctx, 0);
    const bmb_mode huge = { BMB_CODEC_JPEG, 5000, 4000, 90000 };
    effective = start(0, &huge);
    assert_int_equal(effective.width, 1280); /* the nearest that it has */
    assert_int_equal(effective.mfps, 30000);
    c.stop(c.ctx, 0);
    n->steps = true; /* any size up to the largest */
    n->no_rates = true;
    n->row_count = 1;
    n->rows[0].width = 1000;
    n->rows[0].height = 702;
    bmb_v4l2_destroy(v);
    create(NULL);
    bmb_camera_info info;
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_int_equal(info.modes[0].width, 1000); /* the largest, and usual ones */
    assert_int_equal(info.modes[1].width, 800);
    assert_int_equal(info.modes[0].mfps_most, 30000); /* not told */
    assert_true(info.mode_count >= 6);
}

static void the_boards_encoder_is_found_and_used(void **state)
{
    (void)state;
    static uint8_t i420[320 * 240 * 3 / 2];
    const bmb_mode mode = { BMB_CODEC_H264, 320, 240, 25000 };
    codec_request r = { .quality = 80, .kbps = 900, .key_ms = 2000 };
    const codec_picture p = codec_picture_in(CODEC_I420, 320, 240, i420, 0);
    uint8_t out[400];
    bool key = false;
    for (size_t i = 0; i < sizeof i420; i++) i420[i] = (uint8_t)(i % 7);
    for (unsigned planes = 0; planes < 2; planes++) {
        script_node *m = script_add(d, planes != 0 ? "/dev/video11" : "/dev/video10", "encoder",
                                    planes != 0 ? V4L2_CAP_VIDEO_M2M_MPLANE : V4L2_CAP_VIDEO_M2M);
        script_format(m, planes != 0 ? V4L2_PIX_FMT_NV12 : V4L2_PIX_FMT_YUV420, 1920, 1080, 0); /* takes … */
        script_format(m, V4L2_PIX_FMT_H264, 1920, 1080, 30);                                    /* … and gives */
        script_control *rate = script_add_control(m, V4L2_CID_MPEG_VIDEO_BITRATE, "Bitrate", 1, 9000000, 1);
        script_control *force = script_add_control(m, V4L2_CID_MPEG_VIDEO_FORCE_KEY_FRAME, "Force", 0, 1, 0);
        script_control *gop = script_add_control(m, V4L2_CID_MPEG_VIDEO_GOP_SIZE, "GOP", 1, 900, 12);
        m->stride_more = planes != 0 ? 32 : 0;
        m->encoded_size = 5;
        memcpy(m->encoded, "a key", 5);
        if (planes != 0) d->nodes[1].there = false;
        assert_null(v4l2_converter_find(&d->table, BMB_CODEC_JPEG)); /* it has none */
        v4l2_converter *node = v4l2_converter_find(&d->table, BMB_CODEC_H264);
        assert_non_null(node);
        const codec_encoder *e = v4l2_converter_encoder(BMB_CODEC_H264);
        void *self = e->open(node, &mode, &r);
        assert_non_null(self);
        assert_int_equal(rate->value, 900000);
        assert_int_equal(gop->value, 50);
        assert_int_equal(e->encode(self, &p, &r, out, sizeof out, &key), 5);
        assert_true(key);
        uint64_t sum = 0;
        for (size_t i = 0; i < sizeof i420; i++) sum += i420[i];
        if (planes == 0) assert_int_equal(m->raw_sum, sum); /* all of the picture, once */
        r.key = true;
        r.kbps = 500;
        assert_int_equal(e->encode(self, &p, &r, out, sizeof out, &key), 5);
        assert_int_equal(force->value, 1);
        assert_int_equal(rate->value, 500000);
        assert_int_equal(e->encode(self, &p, &r, out, 3, &key), 0); /* no room */
        assert_int_equal(e->encode(self, &p, &r, out, sizeof out, &key), 5);
        m->mute = true;
        assert_int_equal(e->encode(self, &p, &r, out, sizeof out, &key), 0); /* it hangs */
        e->close(self);
        m->mute = false;
        m->on_err = -EBUSY;
        assert_null(e->open(node, &mode, &r));
        m->on_err = 0;
        v4l2_converter_free(node);
        r.key = false;
        r.kbps = 900;
    }
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, open_driver, close_driver)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(a_camera_says_what_it_can_do),
        TEST(nodes_that_are_no_camera_are_left_out),
        TEST(cameras_are_chosen_by_path_bus_or_name),
        TEST(jpeg_passes_as_it_is),
        TEST(missing_tables_are_put_in),
        TEST(buffers_come_back_in_any_order_and_late),
        TEST(errors_of_a_picture_do_not_end_it),
        TEST(what_does_not_get_better_ends_it),
        TEST(starting_fails_with_a_reason),
        TEST(absence_permission_and_use_are_told),
        TEST(it_is_found_again_under_another_number),
        TEST(raw_pictures_are_encoded_for_several_streams),
        TEST(the_least_is_encoded),
        TEST(what_is_planned_is_thought_of),
        TEST(large_stills_do_not_take_the_stream_away),
        TEST(cameras_that_are_absent_all_hear_of_news),
        TEST(a_quality_that_cannot_be_is_told),
        TEST(a_picture_may_begin_behind_its_buffer),
        TEST(native_h264_excludes_other_sizes),
        TEST(controls_have_our_names_and_the_drivers_ranges),
        TEST(a_driver_that_chooses_otherwise_is_believed),
        TEST(the_boards_encoder_is_found_and_used),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
