/* The simulated cameras: what they draw, and that their controls and faults are real. */
#include "support/check.h"

#include <jpeglib.h>
#include <math.h>
#include <unistd.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/board.h"
#include "codec/encoder.h"
#include "sim/source.h"
#include "wire/h264.h"
#include "wire/jpeg.h"

static bmb_linux *linux_port;
static bmb_port port;
static bmb_sim *sim;
static uint8_t *rgb; /* YCbCr, three bytes a pixel, of the last picture */
static unsigned width, height;

static int create(void **state)
{
    (void)state;
    const bmb_sim_camera cameras[] = {
        { .name = "yard", .kind = BMB_SIM_DRAWN, .view = BMB_VIEW_YARD },
        { .name = "loco", .kind = BMB_SIM_CLIP, .clip = BAMBINO_SOURCE "/demo/loco.mjpeg", .clip_mfps = 20000 },
        { .name = "station", .kind = BMB_SIM_DRAWN, .view = BMB_VIEW_STATION, .codec = BMB_CODEC_H264 },
    };
    assert_int_equal(bmb_linux_create(&linux_port, &port), BMB_OK);
    assert_int_equal(bmb_sim_create(cameras, 3, &port, &sim, NULL), BMB_OK);
    return 0;
}

static int destroy(void **state)
{
    (void)state;
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    free(rgb);
    rgb = NULL;
    return 0;
}

static bmb_err start(size_t camera, uint16_t w, uint16_t h, uint32_t mfps)
{
    bmb_mode effective;
    const bmb_mode mode = { BMB_CODEC_JPEG, w, h, mfps };
    return port.cameras.start(port.cameras.ctx, camera, &mode, &effective);
}

static bmb_err next(size_t camera, bmb_camera_frame *out, uint64_t wait_us)
{
    uint64_t end = port.now_us(port.ctx) + wait_us;
    for (;;) {
        bmb_ready none[2];
        bmb_err err = port.cameras.take(port.cameras.ctx, camera, out);
        if (err != BMB_AGAIN) return err;
        if (port.now_us(port.ctx) >= end) return BMB_TIMED_OUT;
        port.wait(port.ctx, end);
        (void)port.net.ready(port.ctx, none, 2);
    }
}

static void decode(const uint8_t *data, size_t size)
{
    struct jpeg_decompress_struct d;
    struct jpeg_error_mgr errors;
    d.err = jpeg_std_error(&errors);
    jpeg_create_decompress(&d);
    jpeg_mem_src(&d, data, size);
    jpeg_read_header(&d, TRUE);
    d.out_color_space = JCS_YCbCr;
    jpeg_start_decompress(&d);
    width = d.output_width;
    height = d.output_height;
    rgb = realloc(rgb, (size_t)width * height * 3);
    while (d.output_scanline < height) {
        JSAMPROW row = rgb + (size_t)d.output_scanline * width * 3;
        jpeg_read_scanlines(&d, &row, 1);
    }
    jpeg_finish_decompress(&d);
    jpeg_destroy_decompress(&d);
}

/* Takes pictures until one was seen after the control was set, and decodes it. Returns its size in bytes. */
static size_t see(size_t camera)
{
    bmb_camera_frame f = { 0 };
    size_t size = 0;
    uint64_t since = port.now_us(port.ctx);
    for (int i = 0; i < 20 && (i == 0 || f.capture_us <= since); i++) {
        assert_int_equal(next(camera, &f, 2000000), BMB_OK);
        size = f.size;
        if (f.capture_us > since) decode(f.data, f.size);
        port.cameras.release(port.cameras.ctx, camera, f.cookie);
    }
    assert_true(f.capture_us > since);
    return size;
}

static double mean(int channel, unsigned from_row, unsigned to_row)
{
    double sum = 0;
    for (size_t i = (size_t)from_row * width; i < (size_t)to_row * width; i++) sum += rgb[i * 3 + (size_t)channel];
    return sum / ((double)(to_row - from_row) * width);
}

static double colourfulness(void)
{
    double sum = 0;
    for (size_t i = 0; i < (size_t)width * height; i++) sum += abs(rgb[i * 3 + 1] - 128) + abs(rgb[i * 3 + 2] - 128);
    return sum / ((double)width * height);
}

static void set(bmb_control control, int32_t value)
{
    int32_t effective = -999;
    assert_int_equal(port.cameras.set(port.cameras.ctx, 0, control, value, &effective), BMB_OK);
    assert_int_equal(effective, value);
}

static void strip_of_picture(bmb_strip *out)
{
    uint8_t *luma = malloc((size_t)width * height);
    for (size_t i = 0; i < (size_t)width * height; i++) luma[i] = rgb[i * 3];
    assert_int_equal(bmb_strip_read(luma, width, (uint16_t)width, (uint16_t)height, out), BMB_OK);
    free(luma);
}

static void the_strip_survives_every_size_and_quality(void **state)
{
    (void)state;
    const uint16_t sizes[][2] = {
        { 128, 96 }, { 160, 120 }, { 322, 242 }, { 640, 480 }, { 1280, 720 }, { 1920, 1080 }
    };
    const int32_t qualities[] = { 1, 5, 30, 100 };
    for (size_t i = 0; i < 6; i++) {
        for (size_t q = 0; q < 4; q++) {
            bmb_strip a, b;
            set(BMB_CONTROL_QUALITY, qualities[q]);
            assert_int_equal(start(0, sizes[i][0], sizes[i][1], 60000), BMB_OK);
            see(0);
            assert_int_equal(width, sizes[i][0]);
            strip_of_picture(&a);
            see(0);
            strip_of_picture(&b);
            assert_true(b.frame > a.frame);
            assert_true(b.capture_us > a.capture_us);
            port.cameras.stop(port.cameras.ctx, 0);
        }
    }
}

static void a_damaged_strip_is_not_read(void **state)
{
    (void)state;
    uint8_t luma[320 * 240];
    bmb_strip strip = { .frame = 77, .capture_us = 1790000000000100 }, read;
    memset(luma, 90, sizeof luma);
    assert_int_equal(bmb_strip_read(luma, 320, 320, 240, &read), BMB_BAD_DATA);
    bmb_strip_draw(luma, 320, 320, 240, &strip);
    assert_int_equal(bmb_strip_read(luma, 320, 320, 240, &read), BMB_OK);
    assert_int_equal(read.frame, 77);
    assert_true(read.capture_us == strip.capture_us);
    for (int y = 240 - 6; y < 240; y++) memset(luma + y * 320 + 100, luma[y * 320 + 104] > 128 ? 16 : 235, 14);
    assert_int_equal(bmb_strip_read(luma, 320, 320, 240, &read), BMB_BAD_DATA);
}

static void controls_act_on_the_picture(void **state)
{
    (void)state;
    assert_int_equal(start(0, 320, 240, 30000), BMB_OK);
    set(BMB_CONTROL_QUALITY, 90);
    size_t fine = see(0);
    double luma = mean(0, 0, 200), top = mean(1, 0, 60), colours = colourfulness();
    set(BMB_CONTROL_QUALITY, 20);
    assert_true(see(0) < fine / 2);
    set(BMB_CONTROL_BRIGHTNESS, 50);
    see(0);
    assert_true(mean(0, 0, 200) > luma + 20);
    set(BMB_CONTROL_BRIGHTNESS, 0);
    see(0);
    double spread = mean(0, 0, 60) - mean(0, 160, 200);
    set(BMB_CONTROL_CONTRAST, -80);
    see(0);
    assert_true(fabs(mean(0, 0, 60) - mean(0, 160, 200)) < fabs(spread) / 2);
    set(BMB_CONTROL_CONTRAST, 0);
    set(BMB_CONTROL_SATURATION, -100);
    see(0);
    assert_true(colourfulness() < colours / 4);
    set(BMB_CONTROL_SATURATION, 0);
    set(BMB_CONTROL_FLIP_V, 1);
    see(0);
    assert_true(mean(1, 0, 60) < top - 5); /* the blue sky is no longer on top */
    bmb_strip strip;
    strip_of_picture(&strip);
    port.cameras.stop(port.cameras.ctx, 0);
}

static void controls_out_of_range_are_refused(void **state)
{
    (void)state;
    int32_t effective;
    assert_int_equal(port.cameras.set(port.cameras.ctx, 0, BMB_CONTROL_QUALITY, 101, &effective), BMB_BAD_ARG);
    assert_int_equal(port.cameras.set(port.cameras.ctx, 0, BMB_CONTROL_KBPS, 500, &effective), BMB_UNSUPPORTED);
    assert_int_equal(port.cameras.set(port.cameras.ctx, 1, BMB_CONTROL_FLIP_H, 1, &effective), BMB_UNSUPPORTED);
    assert_int_equal(start(0, 3840, 2160, 30000), BMB_UNSUPPORTED);
    assert_int_equal(start(0, 641, 480, 30000), BMB_UNSUPPORTED);
    assert_int_equal(start(0, 640, 480, 61000), BMB_UNSUPPORTED);
    assert_int_equal(start(0, 640, 480, 30000), BMB_OK);
    assert_int_equal(start(0, 640, 480, 30000), BMB_IN_USE);
}

static void faults_are_real(void **state)
{
    (void)state;
    bmb_camera_frame f;
    bmb_jpeg j;
    assert_int_equal(start(0, 320, 240, 30000), BMB_OK);
    const bmb_sim_fault spoiling[] = { BMB_FAULT_TRUNCATE, BMB_FAULT_GARBLE };
    for (size_t i = 0; i < 2; i++) {
        assert_int_equal(bmb_sim_break(sim, 0, spoiling[i]), BMB_OK);
        for (int k = 0; k < 4; k++) {
            assert_int_equal(next(0, &f, 2000000), BMB_OK);
            bmb_err err = bmb_jpeg_parse(f.data, f.size, &j);
            port.cameras.release(port.cameras.ctx, 0, f.cookie);
            if (k == 3) assert_int_equal(err, BMB_BAD_DATA);
        }
    }
    (void)bmb_sim_break(sim, 0, BMB_FAULT_STALL);
    while (next(0, &f, 300000) == BMB_OK) port.cameras.release(port.cameras.ctx, 0, f.cookie);
    (void)bmb_sim_break(sim, 0, BMB_FAULT_UNPLUGGED);
    assert_int_equal(next(0, &f, 2000000), BMB_GONE);
    port.cameras.stop(port.cameras.ctx, 0);
    assert_int_equal(start(0, 320, 240, 30000), BMB_NOT_FOUND);
    (void)bmb_sim_break(sim, 0, BMB_FAULT_NONE);
    assert_int_equal(start(0, 320, 240, 30000), BMB_OK);
    see(0);
}

static void a_driver_without_buffers_goes_on(void **state)
{
    (void)state;
    bmb_camera_info info;
    bmb_camera_frame held[8], f;
    (void)port.cameras.info(port.cameras.ctx, 0, &info);
    assert_int_equal(start(0, 320, 240, 60000), BMB_OK);
    for (size_t i = 0; i < info.buffers; i++) assert_int_equal(next(0, &held[i], 2000000), BMB_OK);
    assert_int_equal(next(0, &f, 200000), BMB_TIMED_OUT);
    port.cameras.release(port.cameras.ctx, 0, held[0].cookie);
    assert_int_equal(next(0, &f, 2000000), BMB_OK);
    assert_true(port.now_us(port.ctx) - f.capture_us < 1000000); /* a fresh one, not one from before */
}

/* Bytes of `count` H.264 pictures, and how many of them are key frames. */
static size_t encoded(size_t camera, unsigned count, unsigned *keys)
{
    size_t bytes = 0;
    *keys = 0;
    for (unsigned i = 0; i < count; i++) {
        bmb_camera_frame f;
        bmb_h264_facts facts;
        assert_int_equal(next(camera, &f, 2000000), BMB_OK);
        assert_int_equal(bmb_h264_parse(f.data, f.size, &facts), BMB_OK);
        assert_int_equal(facts.key, f.key);
        if (f.key) assert_true(facts.sets); /* whoever comes late can begin here */
        *keys += f.key;
        bytes += f.size;
        port.cameras.release(port.cameras.ctx, camera, f.cookie);
    }
    return bytes;
}

static void the_h264_encoder_does_as_it_is_told(void **state)
{
    (void)state;
    unsigned keys;
    int32_t effective;
    bmb_mode mode = { BMB_CODEC_H264, 320, 240, 60000 };
    assert_int_equal(port.cameras.set(port.cameras.ctx, 2, BMB_CONTROL_KEY_MS, 60000, &effective), BMB_OK);
    assert_int_equal(port.cameras.set(port.cameras.ctx, 2, BMB_CONTROL_KBPS, 1500, &effective), BMB_OK);
    assert_int_equal(port.cameras.start(port.cameras.ctx, 2, &mode, &mode), BMB_OK);
    (void)encoded(2, 60, &keys);
    assert_int_equal(keys, 1); /* it begins with one */
    size_t much = encoded(2, 90, &keys);
    assert_int_equal(keys, 0);
    assert_int_equal(port.cameras.key_frame(port.cameras.ctx, 2), BMB_OK);
    (void)encoded(2, 10, &keys);
    assert_int_equal(keys, 1); /* on demand */
    assert_int_equal(port.cameras.set(port.cameras.ctx, 2, BMB_CONTROL_KBPS, 150, &effective), BMB_OK);
    (void)encoded(2, 60, &keys);
    assert_true(encoded(2, 90, &keys) < much / 2);
    assert_int_equal(port.cameras.set(port.cameras.ctx, 2, BMB_CONTROL_KEY_MS, 250, &effective), BMB_OK);
    (void)encoded(2, 60, &keys);
    assert_in_range(keys, 3, 5); /* a second has four */
    port.cameras.stop(port.cameras.ctx, 2);
}

static void a_clip_loops_with_rising_times(void **state)
{
    (void)state;
    bmb_camera_frame f;
    sim_clip clip;
    uint64_t before = 0;
    assert_int_equal(sim_clip_load(BAMBINO_SOURCE "/demo/loco.mjpeg", &clip), BMB_OK);
    assert_true(clip.count >= 50);
    assert_int_equal(clip.width, 320);
    sim_clip_free(&clip);
    assert_int_equal(start(1, 320, 240, 20000), BMB_OK);
    for (uint32_t i = 0; i < 5; i++) {
        assert_int_equal(next(1, &f, 2000000), BMB_OK);
        assert_true(f.capture_us > before);
        before = f.capture_us;
        port.cameras.release(port.cameras.ctx, 1, f.cookie);
    }
    assert_int_equal(sim_clip_load("/nonexistent", &clip), BMB_NOT_FOUND);
    assert_int_equal(sim_clip_load(BAMBINO_SOURCE "/LICENSE", &clip), BMB_BAD_DATA);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, create, destroy)

/* Two boards in one program: each has a port, faults and a radio of its own, and what closes has arrived. */
static void boards_do_not_know_of_each_other(void **state)
{
    (void)state;
    char why[200];
    static bmb_board boards[2];
    bmb_linux *below[2];
    bmb_port ports[2];
    bmb_sim *sims[2];
    bmb_board_run *runs[2];
    bmb_sock listener[2], client, server[2];
    bmb_addr addr[2], peer;
    const bmb_addr any = { .family = 4, .ip = { 127, 0, 0, 1 } };
    const bmb_sim_camera camera = {
        .name = "yard", .kind = BMB_SIM_CLIP, .clip = BAMBINO_SOURCE "/demo/loco.mjpeg", .clip_mfps = 10000
    };
    for (int i = 0; i < 2; i++) {
        const bmb_board_options options = { .ssid = i == 0 ? "valley-club" : NULL, .passphrase = "four red coaches" };
        assert_int_equal(bmb_board_load(BAMBINO_SOURCE "/ports/sim/boards/siding.ini", &boards[i], why, sizeof why),
                         BMB_OK);
        boards[i].link.loss_1000 = boards[i].link.drop_every_s = 0;
        assert_int_equal(bmb_linux_create(&below[i], &ports[i]), BMB_OK);
        assert_int_equal(bmb_sim_create(&camera, 1, &ports[i], &sims[i], NULL), BMB_OK);
        assert_int_equal(bmb_board_attach(&boards[i], &options, &ports[i], sims[i], &runs[i]), BMB_OK);
        assert_int_equal(ports[i].net.listen(ports[i].ctx, &any, &listener[i], &addr[i]), BMB_OK);
    }
    assert_true(ports[0].online(ports[0].ctx));
    assert_false(ports[1].online(ports[1].ctx));

    /* The first one sends what fits its radio, and closes; the client gets all of it, and the end. */
    static uint8_t sent[20000], got[20000];
    for (size_t i = 0; i < sizeof sent; i++) sent[i] = (uint8_t)(i * 7);
    assert_int_equal(ports[1].net.dial(ports[1].ctx, &addr[0], &client), BMB_OK);
    bmb_err err = BMB_AGAIN;
    for (int i = 0; i < 1000 && err == BMB_AGAIN; i++, usleep(1000))
        err = ports[0].net.accept(ports[0].ctx, listener[0], &server[0], &peer);
    assert_int_equal(err, BMB_OK);
    const bmb_slice slice = { sent, sizeof sent };
    size_t taken = 0, size = 0, n;
    assert_int_equal(ports[0].net.send(ports[0].ctx, server[0], &slice, 1, &taken), BMB_OK);
    assert_true(taken > 5000);
    ports[0].net.finish(ports[0].ctx, server[0]);
    ports[0].net.close(ports[0].ctx, server[0]);
    bmb_ready none[4];
    for (int i = 0;
         i < 3000 && (err = ports[1].net.recv(ports[1].ctx, client, got + size, sizeof got - size, &n)) != BMB_GONE;
         i++) {
        size += n;
        (void)ports[0].net.ready(ports[0].ctx, none, 4);
        usleep(1000);
    }
    assert_int_equal(err, BMB_GONE);
    assert_int_equal(size, taken);
    assert_memory_equal(got, sent, taken);
    ports[1].net.close(ports[1].ctx, client);
    for (int i = 0; i < 2; i++) {
        ports[i].net.close(ports[i].ctx, listener[i]);
        bmb_sim_destroy(sims[i]);
        bmb_board_detach(runs[i]);
        bmb_linux_destroy(below[i]);
    }
}

/* The rate in a parameter set is what a reader finds; everything else in it stays. */
/* Nothing is added where it cannot be: usability information that is cut off, or has a timing of its own. */
static void a_rate_is_added_to_whole_parameter_sets_alone(void **state)
{
    (void)state;
    static const uint8_t cut_off[] = { 0x67, 0x02, 0x80, 0xF6, 0x4F, 0x88, 0x6D };
    uint8_t out[100];
    assert_int_equal(codec_sps_with_rate(cut_off, sizeof cut_off, 15000, out, sizeof out), 0);
}

static void a_parameter_set_tells_the_rate(void **state)
{
    (void)state;
    static const uint8_t plain[] = { 0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80 };
    static const uint8_t encoders[] = { 0x67, 0x42, 0xc0, 0x16, 0x8c, 0x8d, 0x40, 0x50,
                                        0x17, 0xbc, 0xb0, 0x0f, 0x08, 0x84, 0x6a };
    static const struct {
        const uint8_t *sps;
        size_t size;
    } rows[] = { { plain, sizeof plain }, { encoders, sizeof encoders } };
    const uint32_t rates[] = { 1000, 7500, 15000, 29970, 240000 };
    for (size_t r = 0; r < 2; r++) {
        for (size_t i = 0; i < 5; i++) {
            uint8_t out[64], again[64];
            bmb_sps before, after;
            assert_int_equal(bmb_sps_parse(rows[r].sps, rows[r].size, &before), BMB_OK);
            size_t size = codec_sps_with_rate(rows[r].sps, rows[r].size, rates[i], out, sizeof out);
            assert_true(size > rows[r].size);
            assert_int_equal(bmb_sps_parse(out, size, &after), BMB_OK);
            assert_int_equal(after.mfps, rates[i]);
            assert_int_equal(after.width, before.width);
            assert_int_equal(after.height, before.height);
            assert_int_equal(after.level, before.level);
            for (size_t k = 2; k < size; k++)
                assert_false(out[k] < 3 && out[k - 1] == 0 && out[k - 2] == 0);             /* no start code */
            assert_int_equal(codec_sps_with_rate(out, size, 5000, again, sizeof again), 0); /* it says one already */
            assert_int_equal(codec_sps_with_rate(rows[r].sps, rows[r].size, rates[i], out, size - 1), 0);
        }
    }
    uint8_t out[64];
    assert_int_equal(codec_sps_with_rate(plain, 4, 15000, out, sizeof out), 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_rate_is_added_to_whole_parameter_sets_alone),
        CASE(the_strip_survives_every_size_and_quality),
        CASE(a_damaged_strip_is_not_read),
        CASE(controls_act_on_the_picture),
        CASE(controls_out_of_range_are_refused),
        CASE(faults_are_real),
        CASE(a_driver_without_buffers_goes_on),
        CASE(a_clip_loops_with_rising_times),
        CASE(the_h264_encoder_does_as_it_is_told),
        cmocka_unit_test(boards_do_not_know_of_each_other),
        cmocka_unit_test(a_parameter_set_tells_the_rate),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
