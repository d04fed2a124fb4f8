/* Encoders in a room of their own: layouts, scaling, decoding, and streams that share what is made. */
#include "support/check.h"

#include <pthread.h>
#include <unistd.h>

#include "bambino/linux.h"
#include "bambino/picture.h"
#include "bambino/sim.h"
#include "codec/encoder.h"
#include "codec/streams.h"
#include "wire/h264.h"
#include "wire/jpeg_light.h"

#define W 320u
#define H 240u

static uint8_t picture_memory[(W + 64) * H * 4], out[1 << 20];

/* The same scene in every layout: luma grows to the right, one chroma downwards, the other to the right. */
static uint8_t luma_at(uint32_t x)
{
    return (uint8_t)(40 + x / 2);
}

static uint8_t chroma_at(uint32_t x, uint32_t y, unsigned plane)
{
    return (uint8_t)(plane == 1 ? 80 + y / 4 : 90 + x / 8);
}

static void fill_planar(codec_picture *p)
{
    unsigned across = codec_across(p->format), down = codec_down(p->format);
    for (unsigned i = 0; i < 3; i++) {
        uint8_t *plane = (uint8_t *)(uintptr_t)p->plane[i];
        for (uint32_t y = 0; y < H / (i == 0 ? 1 : down); y++)
            for (uint32_t x = 0; x < W / (i == 0 ? 1 : across); x++)
                plane[y * p->stride[i] + x] = i == 0 ? luma_at(x) : chroma_at(x * across, y * down, i);
    }
}

static codec_picture scene(codec_format format, uint32_t stride)
{
    codec_picture p = codec_picture_in(format, W, H, picture_memory, stride);
    uint8_t *at = picture_memory;
    memset(picture_memory, 0, sizeof picture_memory);
    if (format == CODEC_I420 || format == CODEC_I422 || format == CODEC_I444) {
        fill_planar(&p);
        return p;
    }
    for (uint32_t y = 0; y < H; y++) {
        for (uint32_t x = 0; x < W; x++) {
            uint8_t *row = at + y * p.stride[0];
            if (format == CODEC_NV12 || format == CODEC_GREY) row[x] = luma_at(x);
            if (format == CODEC_YUYV) {
                row[2 * x] = luma_at(x);
                row[2 * x + 1] = chroma_at(x / 2 * 2, y, x % 2 == 0 ? 1 : 2);
            }
            if (format == CODEC_UYVY) {
                row[2 * x + 1] = luma_at(x);
                row[2 * x] = chroma_at(x / 2 * 2, y, x % 2 == 0 ? 1 : 2);
            }
            if (format == CODEC_RGB24) row[3 * x] = row[3 * x + 1] = row[3 * x + 2] = luma_at(x);
        }
    }
    for (uint32_t y = 0; format == CODEC_NV12 && y < H / 2; y++) {
        uint8_t *row = (uint8_t *)(uintptr_t)p.plane[1] + y * p.stride[1];
        for (uint32_t x = 0; x < W; x++) row[x] = chroma_at(x / 2 * 2, 2 * y, x % 2 == 0 ? 1 : 2);
    }
    return p;
}

static void assert_near(int a, int b, int apart)
{
    assert_in_range(a - b + 1000, 1000 - apart, 1000 + apart);
}

static uint8_t sample(const codec_picture *p, unsigned plane, uint32_t x, uint32_t y)
{
    return p->plane[plane][y * p->stride[plane] + x];
}

static void every_layout_is_the_same_picture(void **state)
{
    (void)state;
    codec_canvas canvas = { 0 };
    for (int format = 0; format < CODEC_FORMATS; format++) {
        for (unsigned wide = 0; wide < 2; wide++) { /* without and with gaps between its rows */
            codec_picture tight = codec_picture_in(format, W, H, picture_memory, 0);
            if (wide == 1 && (size_t)tight.stride[0] * 9 / 8 * H * 2 > sizeof picture_memory) continue;
            codec_picture p = scene(format, wide == 1 ? tight.stride[0] + 16 : 0);
            bool grey = format == CODEC_GREY || format == CODEC_RGB24;
            assert_true(codec_scale(&canvas, &p, W, H));
            for (uint32_t y = 3; y < H; y += 50) {
                for (uint32_t x = 5; x < W; x += 50) {
                    int luma = luma_at(x);
                    assert_near(sample(&canvas.view, 0, x, y), luma, 1);
                    for (unsigned i = 1; i < 3; i++)
                        assert_near(sample(&canvas.view, i, x / 2, y / 2), grey ? 128 : chroma_at(x, y, i), 2);
                }
            }
        }
    }
    codec_canvas_free(&canvas);
}

static void smaller_is_the_average_of_the_middle(void **state)
{
    (void)state;
    codec_canvas canvas = { 0 };
    codec_picture p = scene(CODEC_I420, 0);
    assert_true(codec_scale(&canvas, &p, W / 2, H / 2));
    for (uint32_t x = 0; x < W / 2; x += 13) assert_near(sample(&canvas.view, 0, x, 60), luma_at(2 * x + 1), 1);
    codec_picture packed = scene(CODEC_YUYV, 0);
    assert_true(codec_scale(&canvas, &packed, W / 2, H / 2)); /* whose chroma has all of the height */
    for (uint32_t i = 3; i < 57; i += 9) {
        assert_near(sample(&canvas.view, 0, 2 * i, i), luma_at(4 * i + 1), 1);
        assert_near(sample(&canvas.view, 1, i, i), chroma_at(4 * i, 4 * i + 1, 1), 1);
        assert_near(sample(&canvas.view, 2, i, i), chroma_at(4 * i + 1, 4 * i, 2), 1);
    }
    assert_true(codec_scale(&canvas, &packed, 100, 120)); /* of the middle 200 columns, 60 from the left */
    for (uint32_t i = 0; i < 50; i += 7) {
        assert_near(sample(&canvas.view, 0, 2 * i, 11), luma_at(60 + 4 * i + 1), 1);
        assert_near(sample(&canvas.view, 2, i, 11), chroma_at(60 + 4 * i + 1, 44, 2), 1);
    }
    p = scene(CODEC_I420, 0);
    assert_true(codec_scale(&canvas, &p, 100, 74)); /* no whole ratio */
    assert_near(sample(&canvas.view, 0, 0, 0), luma_at(1), 2);
    assert_near(sample(&canvas.view, 0, 99, 73), luma_at(318), 2);
    /* 320x240 in the shape of a strip: all of its width, the middle of its height. */
    assert_true(codec_scale(&canvas, &p, 320, 80));
    assert_near(sample(&canvas.view, 1, 10, 0), chroma_at(0, 80, 1), 1);
    assert_near(sample(&canvas.view, 1, 10, 39), chroma_at(0, 158, 1), 1);
    assert_true(codec_scale(&canvas, &p, 60, 240)); /* and the other way */
    assert_near(sample(&canvas.view, 0, 0, 0), luma_at(130), 2);
    assert_false(codec_scale(&canvas, &p, 322, 240)); /* never larger */
    assert_false(codec_scale(&canvas, &p, 320, 242));
    assert_false(codec_scale(&canvas, &p, 1, 1));
    for (uint16_t w = 2; w < 60; w++) /* whatever the size, nothing is read or written beyond */
        for (uint16_t h = 2; h < 60; h += 7) assert_true(codec_scale(&canvas, &p, w, h));
    codec_canvas_free(&canvas);
}

static size_t encode(bmb_codec codec, const codec_picture *p, int quality)
{
    const bmb_mode mode = { codec, p->width, p->height, 15000 };
    const codec_request request = { .key = true, .quality = quality, .kbps = 500, .key_ms = 1000 };
    bool key = false;
    const codec_encoder *e = codec_encoder_for(codec);
    void *self = e->open(NULL, &mode, &request);
    assert_non_null(self);
    size_t size = e->encode(self, p, &request, out, sizeof out, &key);
    assert_true(size > 0 && key);
    uint8_t little[100];
    assert_int_equal(e->encode(self, p, &request, little, sizeof little, &key), 0); /* no room */
    assert_true(e->encode(self, p, &request, out, sizeof out, &key) > 0);           /* and it goes on */
    e->close(self);
    return size;
}

static void every_layout_is_encoded_and_decoded(void **state)
{
    (void)state;
    codec_decoder *decoder = codec_decoder_open();
    codec_picture back;
    bmb_jpeg jpeg;
    assert_non_null(decoder);
    for (int format = 0; format < CODEC_FORMATS; format++) {
        codec_picture p = scene(format, 0);
        for (unsigned cut = 0; cut < 20; cut += 6) { /* sizes that are no whole blocks */
            p.width = (uint16_t)(W - cut);
            p.height = (uint16_t)(H - cut);
            size_t size = encode(BMB_CODEC_JPEG, &p, 95);
            assert_int_equal(bmb_jpeg_parse(out, size, &jpeg), BMB_OK);
            assert_int_equal(jpeg.width, p.width);
            assert_int_equal(jpeg.components, 3); /* RTP carries no grey picture */
            if (p.width == W) assert_near(bmb_jpeg_brightness(out, &jpeg), 119, 2);
            assert_true(codec_decode(decoder, out, size, p.width, p.height, &back));
            assert_int_equal(back.width, p.width);
            assert_near(sample(&back, 0, 200, 100), luma_at(200), 3);
            assert_near(sample(&back, 0, p.width - 1u, p.height - 1u), luma_at(p.width - 1u), 4);
        }
        (void)encode(BMB_CODEC_H264, &p, 1);
    }
    codec_picture p = scene(CODEC_YUYV, 0);
    size_t size = encode(BMB_CODEC_JPEG, &p, 90);
    assert_true(codec_decode(decoder, out, size, 80, 60, &back)); /* a quarter is decoded as a quarter */
    assert_int_equal(back.width, 80);
    assert_near(sample(&back, 0, 50, 30), luma_at(201), 3);
    assert_true(codec_decode(decoder, out, size, 81, 60, &back)); /* not smaller than is wanted */
    assert_true(back.width >= 81);
    assert_false(codec_decode(decoder, out, 100, 80, 60, &back));
    assert_false(codec_decode(decoder, out + 1, size - 1, 80, 60, &back));
    codec_decoder_close(decoder);
}

static void a_key_frame_becomes_a_still(void **state)
{
    (void)state;
    static uint8_t unit[1 << 16], image[1 << 18];
    codec_picture p = scene(CODEC_I420, 0);
    bmb_jpeg jpeg;
    size_t size = encode(BMB_CODEC_H264, &p, 1), written = 0;
    memcpy(unit, out, size);
    assert_int_equal(bmb_picture_of_h264(unit, size, 90, image, sizeof image, &written), BMB_OK);
    assert_int_equal(bmb_jpeg_parse(image, written, &jpeg), BMB_OK);
    assert_int_equal(jpeg.width, W);
    assert_int_equal(jpeg.height, H);
    assert_int_equal(bmb_picture_of_h264(unit, size, 90, image, 100, &written), BMB_NO_ROOM);
    assert_int_equal(bmb_picture_of_h264(unit, 10, 90, image, sizeof image, &written), BMB_BAD_DATA);
    assert_int_equal(bmb_picture_of_h264("nothing", 7, 90, image, sizeof image, &written), BMB_BAD_DATA);
    assert_int_equal(bmb_picture_of_h264(unit, size, 0, image, sizeof image, &written), BMB_BAD_ARG);
}

/* Streams. */

static bmb_port port;
static _Atomic uint64_t now; /* the encoders' thread reads it */
static unsigned wakes;
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static bool lent[64];
static unsigned given_back;

static uint64_t now_us(void *ctx)
{
    (void)ctx;
    return now;
}

static void wake(void *ctx)
{
    (void)ctx;
    __atomic_add_fetch(&wakes, 1, __ATOMIC_SEQ_CST);
}

static void give_back(void *ctx, uintptr_t cookie)
{
    (void)ctx;
    pthread_mutex_lock(&lock);
    assert_true(lent[cookie % 64]); /* once each */
    lent[cookie % 64] = false;
    __atomic_add_fetch(&given_back, 1, __ATOMIC_SEQ_CST);
    pthread_mutex_unlock(&lock);
}

static codec_streams *open_streams(unsigned count)
{
    port = (bmb_port){ .now_us = now_us, .wake = wake };
    now = 1000000;
    given_back = 0;
    memset(lent, 0, sizeof lent);
    codec_streams *s = codec_streams_open(&port, count);
    assert_non_null(s);
    return s;
}

static void expose(codec_streams *s, const codec_picture *p, uint64_t at, bool wait)
{
    static uintptr_t cookie;
    codec_input in = { .raw = p, .capture_us = at, .cookie = ++cookie, .give_back = give_back };
    pthread_mutex_lock(&lock);
    lent[cookie % 64] = true;
    pthread_mutex_unlock(&lock);
    now = at;
    unsigned before = __atomic_load_n(&wakes, __ATOMIC_SEQ_CST);
    if (!codec_streams_expose(s)) {
        give_back(NULL, cookie);
        return;
    }
    codec_streams_put(s, &in);
    /* The device is woken when what was made can be taken. */
    for (unsigned i = 0; wait && __atomic_load_n(&wakes, __ATOMIC_SEQ_CST) == before && i < 5000; i++) usleep(1000);
}

static unsigned taken(codec_streams *s, unsigned n, unsigned *keys)
{
    bmb_camera_frame f;
    unsigned count = 0;
    for (; codec_stream_take(s, n, &f) == BMB_OK; count++) {
        if (keys != NULL) *keys += f.key;
        codec_stream_release(s, n, f.cookie);
    }
    return count;
}

static void each_stream_has_its_size_and_rate(void **state)
{
    (void)state;
    codec_streams *s = open_streams(3);
    const codec_picture p = scene(CODEC_YUYV, 0);
    const bmb_mode modes[] = { { BMB_CODEC_JPEG, W, H, 30000 },
                               { BMB_CODEC_JPEG, W / 2, H / 2, 10000 },
                               { BMB_CODEC_H264, W / 2, H / 2, 15000 } };
    bmb_camera_frame f;
    bmb_jpeg jpeg;
    unsigned counts[3] = { 0 }, keys[3] = { 0 };
    for (unsigned i = 0; i < 3; i++) assert_int_equal(codec_stream_start(s, i, &modes[i]), BMB_OK);
    assert_int_equal(codec_stream_start(s, 0, &modes[0]), BMB_IN_USE);
    expose(s, &p, now, true);
    assert_int_equal(codec_stream_take(s, 1, &f), BMB_OK);
    assert_int_equal(f.capture_us, 1000000);
    assert_int_equal(bmb_jpeg_parse(f.data, f.size, &jpeg), BMB_OK);
    assert_int_equal(jpeg.width, W / 2);
    codec_stream_release(s, 1, f.cookie);
    for (unsigned i = 0; i < 3; i++) counts[i] = taken(s, i, &keys[i]);
    for (unsigned k = 1; k < 30; k++) {
        expose(s, &p, 1000000 + k * 33333, true);
        for (unsigned i = 0; i < 3; i++) counts[i] += taken(s, i, &keys[i]);
    }
    assert_int_equal(counts[0], 30);
    assert_in_range(counts[1], 8, 10); /* one was taken above */
    assert_in_range(counts[2], 14, 16);
    assert_int_equal(keys[2], 1);
    codec_tally t;
    codec_streams_tally(s, &t);
    assert_int_equal(t.inputs, 30);
    assert_int_equal(t.failed + t.replaced, 0);
    assert_in_range(t.scaled, 14, 24); /* never twice for the streams of one size */
    codec_streams_close(s);
}

static void what_two_want_is_encoded_once(void **state)
{
    (void)state;
    codec_streams *s = open_streams(2);
    const codec_picture p = scene(CODEC_NV12, 0);
    const bmb_mode mode = { BMB_CODEC_H264, W, H, 10000 };
    unsigned keys[2] = { 0 }, counts[2] = { 0 };
    codec_tally t;
    int32_t effective;
    assert_int_equal(codec_stream_start(s, 0, &mode), BMB_OK);
    for (unsigned k = 0; k < 5; k++) expose(s, &p, 1000000 + k * 100000, true);
    assert_int_equal(codec_stream_start(s, 1, &mode), BMB_OK);
    for (unsigned i = 0; i < 2; i++) counts[i] = taken(s, i, &keys[i]);
    keys[0] = 0;
    for (unsigned k = 5; k < 15; k++) {
        expose(s, &p, 1000000 + k * 100000, true);
        for (unsigned i = 0; i < 2; i++) counts[i] += taken(s, i, &keys[i]);
    }
    codec_streams_tally(s, &t);
    assert_int_equal(t.encoded, 15);
    assert_int_equal(t.shared, 10);
    assert_int_equal(keys[1], 1); /* who joins begins with a key frame */
    assert_int_equal(keys[0], 1);
    assert_int_equal(codec_stream_set(s, 1, BMB_CONTROL_KBPS, 300, &effective), BMB_OK); /* they part */
    keys[0] = keys[1] = 0;
    for (unsigned k = 15; k < 20; k++) {
        expose(s, &p, 1000000 + k * 100000, true);
        for (unsigned i = 0; i < 2; i++) (void)taken(s, i, &keys[i]);
    }
    codec_streams_tally(s, &t);
    assert_int_equal(t.encoded, 25);
    assert_int_equal(keys[1], 1); /* its own encoder begins with one */
    assert_int_equal(keys[0], 0);
    codec_streams_close(s);
}

static void nothing_is_encoded_that_nobody_wants(void **state)
{
    (void)state;
    codec_streams *s = open_streams(2);
    const codec_picture p = scene(CODEC_I420, 0);
    const bmb_mode mode = { BMB_CODEC_H264, W, H, 10000 };
    bmb_camera_frame f;
    codec_tally t;
    unsigned keys = 0;
    assert_false(codec_streams_expose(s));
    assert_int_equal(codec_stream_start(s, 0, &mode), BMB_OK);
    expose(s, &p, 1000000, true);
    assert_int_equal(taken(s, 0, NULL), 1);
    codec_stream_want(s, 0, false);
    for (unsigned k = 1; k < 20; k++) expose(s, &p, 1000000 + k * 100000, false);
    codec_streams_tally(s, &t);
    assert_int_equal(t.encoded, 1);
    assert_int_equal(codec_stream_take(s, 0, &f), BMB_AGAIN);
    now += 20000000;
    assert_int_equal(codec_stream_take(s, 0, &f), BMB_TIMED_OUT); /* the sensor is silent */
    codec_stream_want(s, 0, true);
    assert_int_equal(codec_stream_take(s, 0, &f), BMB_AGAIN);
    expose(s, &p, now, true);
    assert_int_equal(taken(s, 0, &keys), 1);
    assert_int_equal(keys, 1); /* at once */
    codec_stream_stop(s, 0);
    assert_false(codec_streams_expose(s));
    codec_streams_close(s);
}

static void inputs_go_back_whatever_happens(void **state)
{
    (void)state;
    codec_streams *s = open_streams(1);
    codec_picture p = scene(CODEC_I420, 0);
    const bmb_mode mode = { BMB_CODEC_JPEG, W, H, 60000 }, large = { BMB_CODEC_JPEG, 2 * W, 2 * H, 60000 };
    bmb_camera_frame held[CODEC_BUFFERS], f;
    codec_tally t;
    assert_int_equal(codec_stream_start(s, 0, &mode), BMB_OK);
    for (unsigned k = 0; k < 50; k++) expose(s, &p, 1000000 + k * 20000, false); /* faster than they are encoded */
    codec_streams_drain(s);
    assert_int_equal(given_back, 50);
    (void)taken(s, 0, NULL);
    for (unsigned k = 0; k < CODEC_BUFFERS; k++) { /* all are with the device */
        expose(s, &p, 3000000 + k * 20000, true);
        assert_int_equal(codec_stream_take(s, 0, &held[k]), BMB_OK);
    }
    expose(s, &p, 4000000, true);
    assert_int_equal(codec_stream_take(s, 0, &f), BMB_AGAIN);
    codec_stream_stop(s, 0);
    assert_int_equal(held[0].data[0], 0xFF); /* they stay valid after that */
    for (unsigned k = 0; k < CODEC_BUFFERS; k++) codec_stream_release(s, 0, held[k].cookie);
    codec_stream_release(s, 0, 99);
    assert_int_equal(codec_stream_start(s, 0, &large), BMB_OK); /* a size that cannot be made of it */
    expose(s, &p, 5000000, true);
    assert_int_equal(codec_stream_take(s, 0, &f), BMB_AGAIN);
    codec_streams_tally(s, &t);
    assert_int_equal(t.failed, 1);
    expose(s, &p, 5020000, false);
    codec_streams_close(s);
    assert_int_equal(given_back, 50 + CODEC_BUFFERS + 3);
}

static void jpeg_goes_in_as_well(void **state)
{
    (void)state;
    static uint8_t image[1 << 16];
    codec_streams *s = open_streams(2);
    codec_picture p = scene(CODEC_YUYV, 0);
    const bmb_mode small = { BMB_CODEC_JPEG, W / 2, H / 2, 10000 }, h264 = { BMB_CODEC_H264, W, H, 10000 };
    size_t size = encode(BMB_CODEC_JPEG, &p, 90);
    memcpy(image, out, size);
    codec_input in = { .jpeg = image, .jpeg_size = size, .capture_us = 1000000 };
    assert_int_equal(codec_stream_start(s, 0, &small), BMB_OK);
    assert_int_equal(codec_stream_start(s, 1, &h264), BMB_OK);
    unsigned before = __atomic_load_n(&wakes, __ATOMIC_SEQ_CST);
    codec_streams_put(s, &in);
    for (unsigned i = 0; i < 2000 && __atomic_load_n(&wakes, __ATOMIC_SEQ_CST) == before; i++) usleep(1000);
    assert_int_equal(taken(s, 0, NULL), 1);
    assert_int_equal(taken(s, 1, NULL), 1);
    in.jpeg_size = 50; /* cut off */
    in.capture_us += 100000;
    codec_streams_put(s, &in);
    usleep(20000);
    codec_streams_drain(s);
    assert_int_equal(taken(s, 0, NULL), 0);
    codec_streams_close(s);
}

static unsigned preferred_calls;
static bool preferred_fails;

static void *open_preferred(void *ctx, const bmb_mode *mode, const codec_request *first)
{
    (void)mode;
    (void)first;
    return *(bool *)ctx ? ctx : NULL;
}

static size_t encode_preferred(void *self, const codec_picture *picture, const codec_request *request, uint8_t *to,
                               size_t room, bool *key)
{
    (void)self;
    (void)picture;
    (void)request;
    (void)room;
    preferred_calls++;
    if (preferred_fails) return 0;
    memcpy(to, "own", 3);
    *key = true;
    return 3;
}

static void close_preferred(void *self)
{
    (void)self;
}

static void the_boards_own_encoder_comes_first(void **state)
{
    (void)state;
    static const codec_encoder own = { BMB_CODEC_JPEG, open_preferred, encode_preferred, close_preferred };
    static bool works = true;
    codec_streams *s = open_streams(1);
    const codec_picture p = scene(CODEC_I420, 0);
    const bmb_mode mode = { BMB_CODEC_JPEG, W, H, 10000 };
    bmb_camera_frame f;
    preferred_calls = 0;
    codec_streams_prefer(s, &own, &works);
    assert_int_equal(codec_stream_start(s, 0, &mode), BMB_OK);
    expose(s, &p, 1000000, true);
    assert_int_equal(codec_stream_take(s, 0, &f), BMB_OK);
    assert_int_equal(f.size, 3);
    codec_stream_release(s, 0, f.cookie);
    preferred_fails = true; /* it gives up, and the other one takes over */
    for (unsigned k = 1; k < 5; k++) expose(s, &p, 1000000 + k * 100000, true);
    assert_int_equal(preferred_calls, 2);
    assert_int_equal(taken(s, 0, NULL), 3);
    codec_stream_stop(s, 0);
    works = false; /* it cannot even be opened */
    assert_int_equal(codec_stream_start(s, 0, &mode), BMB_OK);
    expose(s, &p, 3000000, true);
    assert_int_equal(taken(s, 0, NULL), 1);
    assert_int_equal(preferred_calls, 2);
    codec_streams_close(s);
}

/* Video's range becomes JPEG's: black, white, grey and what lies beyond. */
static void a_limited_range_is_expanded(void **state)
{
    (void)state;
    static const uint8_t luma[][2] = { { 16, 0 }, { 235, 255 }, { 126, 128 }, { 0, 0 },
                                       { 15, 0 }, { 255, 255 }, { 17, 1 } };
    static const uint8_t chroma[][2] = { { 128, 128 }, { 16, 0 }, { 240, 255 }, { 0, 0 }, { 255, 255 }, { 129, 129 } };
    uint8_t made;
    for (size_t i = 0; i < sizeof luma / sizeof luma[0]; i++) {
        codec_expand(&luma[i][0], &made, 1, 0);
        assert_int_equal(made, luma[i][1]);
    }
    for (size_t i = 0; i < sizeof chroma / sizeof chroma[0]; i++)
        for (unsigned plane = 1; plane < 3; plane++) {
            codec_expand(&chroma[i][0], &made, 1, plane);
            assert_near(made, chroma[i][1], 1);
        }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_limited_range_is_expanded),          cmocka_unit_test(every_layout_is_the_same_picture),
        cmocka_unit_test(smaller_is_the_average_of_the_middle), cmocka_unit_test(every_layout_is_encoded_and_decoded),
        cmocka_unit_test(a_key_frame_becomes_a_still),          cmocka_unit_test(each_stream_has_its_size_and_rate),
        cmocka_unit_test(what_two_want_is_encoded_once),        cmocka_unit_test(nothing_is_encoded_that_nobody_wants),
        cmocka_unit_test(inputs_go_back_whatever_happens),      cmocka_unit_test(jpeg_goes_in_as_well),
        cmocka_unit_test(the_boards_own_encoder_comes_first),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
