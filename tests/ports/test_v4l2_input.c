/* What arrives at a video input, sensor pipelines, and the places of equal cameras: on a driver that does what it is
 * told. */
#include "support/check.h"

#include <errno.h>

#include "codec/streams.h"
#include "support/fake_port.h"
#include "support/script_v4l2.h"
#include "v4l2/camera.h"
#include "v4l2/pipeline.h"

static fake_port *f;
static script_driver *d;
static script_node *n;
static bmb_v4l2 *v;
static bmb_cameras c;

static const bmb_mode full = { BMB_CODEC_JPEG, 1920, 1080, 30000 }, half = { BMB_CODEC_JPEG, 640, 480, 30000 };

/* A receiver at which 1920x1080 arrives. */
static int open_driver(void **state)
{
    (void)state;
    f = fake_create();
    d = script_create();
    n = script_add(d, "/dev/video0", "HDMI receiver", V4L2_CAP_VIDEO_CAPTURE);
    script_format(n, V4L2_PIX_FMT_MJPEG, 1280, 720, 30);
    n->no_rates = n->digital = true;
    n->inputs[0] = "HDMI 1";
    n->inputs[1] = "Composite";
    n->signal_width = 1920;
    n->signal_height = 1080;
    n->signal_fps = 50;
    return 0;
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

static void create(const char *first, const char *second)
{
    const bmb_v4l2_camera specs[] = { { "front", first }, { "back", second } };
    assert_int_equal(v4l2_create_on(&d->table, &f->port, specs, second != NULL ? 2 : 1, &v), BMB_OK);
    c = bmb_v4l2_cameras(v);
}

static bmb_err start(const bmb_mode *mode)
{
    bmb_mode effective;
    return c.start(c.ctx, 0, mode, &effective);
}

static void it_is_set_to_what_arrives(void **state)
{
    (void)state;
    bmb_camera_info info;
    char text[200];
    create("hdmi", NULL);
    assert_int_equal(n->set_width, 1920);
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_int_equal(info.modes[0].width, 1920);
    assert_int_equal(info.modes[0].mfps_most, 50000); /* as the source sends it: the driver lists no rates */
    assert_int_equal(bmb_v4l2_input_text(v, 0, text, sizeof text), BMB_OK);
    assert_string_equal(text, "HDMI 1: 1920x1080 at 50/s; inputs: 0 HDMI 1 (in use), 1 Composite");
    assert_int_equal(start(&full), BMB_OK);
}

static void no_signal_is_told_as_such(void **state)
{
    (void)state;
    static const struct {
        int error;
        const char *says;
    } rows[] = { { -ENOLINK, "/dev/video0 has no signal at its input HDMI 1; plug a source in" },
                 { -ENOLCK, "a signal that is not steady at its input HDMI 1" },
                 { -ERANGE, "a signal in a form that this receiver cannot take" } };
    create("hdmi", NULL);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        n->timings_err = rows[i].error;
        assert_int_equal(start(&full), BMB_NO_SIGNAL);
        assert_non_null(strstr(c.trouble(c.ctx, 0), rows[i].says));
    }
    n->timings_err = 0;
    n->input_status = V4L2_IN_ST_NO_POWER;
    assert_int_equal(start(&full), BMB_NO_SIGNAL);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "has an input without power"));
}

static void it_waits_until_a_signal_arrives(void **state)
{
    (void)state;
    n->timings_err = -ENOLINK;
    create("hdmi", NULL);
    assert_int_equal(start(&full), BMB_NO_SIGNAL);
    assert_false(c.present(c.ctx, 0));
    n->timings_err = 0;
    f->now += 300000;
    assert_true(c.present(c.ctx, 0));
    assert_int_equal(start(&full), BMB_OK);
}

static void a_signal_that_ends_or_changes_ends_capturing(void **state)
{
    (void)state;
    bmb_camera_frame frame;
    create("hdmi", NULL);
    assert_int_equal(start(&full), BMB_OK);
    n->size_changes = true;
    n->signal_width = 1280;
    n->signal_height = 720;
    assert_int_equal(c.take(c.ctx, 0, &frame), BMB_GONE);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "has another signal now; it is started again with that"));
    c.stop(c.ctx, 0);
    bmb_mode effective;
    assert_int_equal(c.start(c.ctx, 0, &full, &effective), BMB_OK);
    assert_int_equal(effective.width, 1280);
    assert_int_equal(n->set_width, 1280);
    n->size_changes = true;
    n->timings_err = -ENOLINK;
    assert_int_equal(c.take(c.ctx, 0, &frame), BMB_NO_SIGNAL);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "has no signal at its input HDMI 1"));
    c.stop(c.ctx, 0);
}

static void analogue_video_is_set_to_its_standard(void **state)
{
    (void)state;
    n->digital = false;
    n->analogue = true;
    create("hdmi", NULL);
    assert_int_equal(start(&half), BMB_NO_SIGNAL);
    n->standard = V4L2_STD_PAL_B;
    n->set_standard = V4L2_STD_NTSC_M;
    assert_int_equal(start(&half), BMB_OK);
    assert_int_equal(n->set_standard, V4L2_STD_PAL_B);
}

static void an_input_is_chosen_by_number_or_name(void **state)
{
    (void)state;
    create("hdmi", NULL);
    assert_int_equal(bmb_v4l2_input(v, 0, "compo"), BMB_OK);
    assert_int_equal(n->input, 1);
    assert_int_equal(bmb_v4l2_input(v, 0, "0"), BMB_OK);
    assert_int_equal(n->input, 0);
    assert_int_equal(start(&full), BMB_OK);
    c.stop(c.ctx, 0);
    assert_int_equal(bmb_v4l2_input(v, 0, "S-Video"), BMB_OK);
    assert_int_equal(start(&full), BMB_NOT_FOUND);
    assert_non_null(
        strstr(c.trouble(c.ctx, 0), "/dev/video0 has no input \"S-Video\"; `bambino cameras` lists its inputs"));
    assert_int_equal(bmb_v4l2_input(v, 1, "0"), BMB_NOT_FOUND);
}

static void the_end_of_a_pipeline_is_used_by_its_path_alone(void **state)
{
    (void)state;
    n->pipeline = "Sensor A, Debayer A, Raw Capture 0";
    create(NULL, NULL);
    assert_int_equal(start(&half), BMB_NOT_FOUND);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "no camera is attached"));
    bmb_v4l2_destroy(v);
    create("/dev/video0", NULL);
    n->on_err = -EPIPE;
    assert_int_equal(start(&full), BMB_FAILED);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "/dev/video0 is the end of a sensor pipeline (Sensor A, Debayer A, Raw "
                                                "Capture 0): a program such as media-ctl has to set it up first"));
    n->on_err = 0;
    assert_int_equal(start(&full), BMB_OK);
}

/* Two of the same model, each with a place of its own. */
static script_node *plug(const char *path, const char *bus)
{
    script_node *twin = script_add(d, path, "Siding camera", V4L2_CAP_VIDEO_CAPTURE);
    script_format(twin, V4L2_PIX_FMT_MJPEG, 640, 480, 30);
    twin->bus = bus;
    return twin;
}

static const char *bus_of(size_t camera)
{
    static bmb_v4l2_state s;
    assert_int_equal(bmb_v4l2_state_get(v, camera, &s), BMB_OK);
    return s.there ? s.bus : "";
}

/* Unplugs both, and plugs the second in alone, before the first. */
static void swap(const char *name)
{
    script_node *first = plug("/dev/video1", "usb-1"), *second = plug("/dev/video2", "usb-2");
    n->there = false;
    const bmb_v4l2_camera specs[] = { { "front", name }, { "back", name } };
    assert_int_equal(v4l2_create_on(&d->table, &f->port, specs, 2, &v), BMB_OK);
    c = bmb_v4l2_cameras(v);
    assert_string_equal(bus_of(0), "usb-1");
    assert_string_equal(bus_of(1), "usb-2");
    first->there = second->there = false;
    d->changed = true;
    assert_false(c.present(c.ctx, 0));
    assert_false(c.present(c.ctx, CODEC_STREAMS_MOST));
    second->there = true;
    second->path = "/dev/video1";
    d->changed = true;
    assert_false(c.present(c.ctx, 0)); /* that place is the other's */
    assert_true(c.present(c.ctx, CODEC_STREAMS_MOST));
    assert_string_equal(bus_of(1), "usb-2");
    first->there = true;
    first->path = "/dev/video2";
    d->changed = true;
    assert_true(c.present(c.ctx, 0));
    assert_string_equal(bus_of(0), "usb-1");
}

static void equal_cameras_keep_their_places(void **state)
{
    (void)state;
    swap(NULL);
}

static void equal_cameras_that_are_named_alike_keep_them_too(void **state)
{
    (void)state;
    swap("siding");
}

static void one_camera_is_found_at_another_place(void **state)
{
    (void)state;
    script_node *first = plug("/dev/video1", "usb-1");
    n->there = false;
    create("siding", NULL);
    assert_string_equal(bus_of(0), "usb-1");
    first->bus = "usb-3";
    first->path = "/dev/video5";
    d->changed = true;
    assert_true(c.present(c.ctx, 0));
    assert_string_equal(bus_of(0), "usb-3");
}

/* Media graphs, as drivers tell them: a sensor, a debayering unit and memory, each with a node … */
#define SENSOR 1
#define DEBAYER 2
#define MEMORY 3

static const struct media_v2_entity entities[] = { { .id = SENSOR, .name = "Sensor A" },
                                                   { .id = DEBAYER, .name = "Debayer A" },
                                                   { .id = MEMORY, .name = "Raw Capture 0" } };
static const struct media_v2_pad pads[] = { { .id = 11, .entity_id = SENSOR, .flags = MEDIA_PAD_FL_SOURCE },
                                            { .id = 12, .entity_id = DEBAYER, .flags = MEDIA_PAD_FL_SINK },
                                            { .id = 13, .entity_id = DEBAYER, .flags = MEDIA_PAD_FL_SOURCE },
                                            { .id = 14, .entity_id = MEMORY, .flags = MEDIA_PAD_FL_SINK } };
static const struct media_v2_interface interfaces[] = {
    { .id = 21, .intf_type = MEDIA_INTF_T_V4L_VIDEO, .devnode = { 81, 3 } },
    { .id = 22, .intf_type = MEDIA_INTF_T_V4L_SUBDEV, .devnode = { 81, 4 } },
};
static const struct media_v2_link links[] = {
    { .id = 31, .source_id = 11, .sink_id = 12, .flags = MEDIA_LNK_FL_ENABLED },
    { .id = 32, .source_id = 13, .sink_id = 14 },
    { .id = 33, .source_id = 21, .sink_id = MEMORY, .flags = MEDIA_LNK_FL_INTERFACE_LINK },
    { .id = 34, .source_id = 22, .sink_id = DEBAYER, .flags = MEDIA_LNK_FL_INTERFACE_LINK },
};
static const v4l2_graph graph = { entities, interfaces, pads, links, 3, 2, 4, 4 };

static void a_pipeline_is_told_from_its_sensor_on(void **state)
{
    (void)state;
    char text[160];
    assert_true(v4l2_pipeline_of(&graph, 81, 3, text, sizeof text));
    assert_string_equal(text, "Sensor A, Debayer A, Raw Capture 0");
    assert_false(v4l2_pipeline_of(&graph, 81, 5, text, sizeof text)); /* not in this graph */
    char less[12];
    assert_true(v4l2_pipeline_of(&graph, 81, 3, less, sizeof less));
    assert_true(strlen(less) < sizeof less);
}

/* … and those of a USB camera, whose units have none: it is a camera by itself. */
static void a_usb_cameras_units_are_no_pipeline(void **state)
{
    (void)state;
    char text[160];
    v4l2_graph usb = graph;
    usb.interface_count = 1;
    assert_false(v4l2_pipeline_of(&usb, 81, 3, text, sizeof text));
}

static void a_graph_that_goes_round_ends(void **state)
{
    (void)state;
    char text[400];
    struct media_v2_link round[5];
    memcpy(round, links, sizeof links);
    round[4] = (struct media_v2_link){ .id = 35, .source_id = 13, .sink_id = 12, .flags = MEDIA_LNK_FL_ENABLED };
    round[0].flags = 0;
    v4l2_graph g = graph;
    g.links = round;
    g.link_count = 5;
    assert_true(v4l2_pipeline_of(&g, 81, 3, text, sizeof text));
}

#define TEST(test) cmocka_unit_test_setup_teardown(test, open_driver, close_driver)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(it_is_set_to_what_arrives),
        TEST(no_signal_is_told_as_such),
        TEST(it_waits_until_a_signal_arrives),
        TEST(a_signal_that_ends_or_changes_ends_capturing),
        TEST(analogue_video_is_set_to_its_standard),
        TEST(an_input_is_chosen_by_number_or_name),
        TEST(the_end_of_a_pipeline_is_used_by_its_path_alone),
        TEST(equal_cameras_keep_their_places),
        TEST(equal_cameras_that_are_named_alike_keep_them_too),
        TEST(one_camera_is_found_at_another_place),
        cmocka_unit_test(a_pipeline_is_told_from_its_sensor_on),
        cmocka_unit_test(a_usb_cameras_units_are_no_pipeline),
        cmocka_unit_test(a_graph_that_goes_round_ends),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
