/* Cameras that are streams of bytes: cutting, programs and their ends, pipes, files, sockets. */
#include "support/check.h"
#include "support/emulated.h"

#include <arpa/inet.h>
#include <dirent.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include "bambino/intake.h"
#include "bambino/linux.h"
#include "codec/picture.h"
#include "codec/split.h"
#include "support/fake_port.h"
#include "wire/jpeg.h"

static bmb_linux *system_port;
static bmb_port port;
static bmb_intake *intake;
static bmb_cameras c;
static char folder[64], path[128], text[600];

static const char clip[] = BAMBINO_SOURCE "/demo/loco.mjpeg", h264_clip[] = BAMBINO_SOURCE "/demo/station.h264";
static uint8_t *clip_data;
static size_t clip_size;

static uint8_t *read_file(const char *name, size_t *size)
{
    FILE *file = fopen(name, "rb");
    assert_non_null(file);
    fseek(file, 0, SEEK_END);
    *size = (size_t)ftell(file);
    rewind(file);
    uint8_t *data = malloc(*size);
    assert_int_equal(fread(data, 1, *size, file), *size);
    fclose(file);
    return data;
}

/* Feeds a file in pieces of a size, and puts the pictures together again. */
static unsigned cut_in_pieces(const uint8_t *data, size_t size, size_t piece, split_kind expected, size_t *together)
{
    splitter s = { 0 };
    const uint8_t *picture;
    size_t n, at = 0;
    unsigned count = 0;
    *together = 0;
    splitter_begin(&s, SPLIT_UNKNOWN, 0);
    while (at < size) {
        size_t part = size - at < piece ? size - at : piece;
        assert_true(splitter_add(&s, data + at, part));
        at += part;
        while (splitter_next(&s, at == size, &picture, &n)) {
            assert_memory_equal(picture, data + *together, n); /* byte for byte, in order */
            *together += n;
            count++;
        }
    }
    assert_int_equal(s.kind, expected);
    splitter_free(&s);
    return count;
}

static void pictures_are_cut_whatever_the_pieces(void **state)
{
    (void)state;
    static const size_t pieces[] = { 1, 3, 100, 4096, 65536, 1 << 22 };
    size_t size, together;
    uint8_t *h264 = read_file(h264_clip, &size);
    unsigned jpegs = cut_in_pieces(clip_data, clip_size, 1 << 22, SPLIT_JPEG, &together);
    unsigned units = cut_in_pieces(h264, size, 1 << 22, SPLIT_H264, &together);
    assert_true(jpegs > 10 && units > 10);
    for (size_t i = 0; i < sizeof pieces / sizeof pieces[0]; i++) {
        assert_int_equal(cut_in_pieces(clip_data, clip_size, pieces[i], SPLIT_JPEG, &together), jpegs);
        assert_int_equal(together, clip_size);
        assert_int_equal(cut_in_pieces(h264, size, pieces[i], SPLIT_H264, &together), units);
        assert_int_equal(together, size);
    }
    free(h264);
}

static void what_is_between_pictures_is_passed_over(void **state)
{
    (void)state;
    static uint8_t image[20000];
    splitter s = { 0 };
    const uint8_t *picture;
    size_t size = fake_jpeg(image, 640, 480, 8000), n;
    splitter_begin(&s, SPLIT_UNKNOWN, 0);
    assert_true(splitter_add(&s, "a word before it", 16));
    assert_false(splitter_next(&s, false, &picture, &n));
    assert_true(splitter_add(&s, image, size));
    assert_true(splitter_next(&s, false, &picture, &n));
    assert_int_equal(n, size);
    assert_int_equal(s.skipped, 16);
    assert_true(splitter_add(&s, image, size / 2)); /* cut off, and the next one behind it */
    assert_true(splitter_add(&s, "\xFF\xD9", 2));
    assert_true(splitter_add(&s, image, size));
    assert_true(splitter_next(&s, false, &picture, &n)); /* the two bytes are its end */
    assert_int_equal(n, size / 2 + 2);
    assert_true(splitter_next(&s, false, &picture, &n));
    assert_int_equal(n, size);
    assert_memory_equal(picture, image, size);
    assert_true(splitter_add(&s, image, size / 2)); /* cut off without one */
    assert_true(splitter_add(&s, image, size));
    assert_true(splitter_next(&s, false, &picture, &n));
    assert_int_equal(n, size);
    assert_memory_equal(picture, image, size);
    splitter_begin(&s, SPLIT_JPEG, 0);
    static uint8_t endless[1 << 20];
    bool good = true;
    for (unsigned i = 0; i < 40 && good; i++) { /* an image without an end is given up at last */
        if (i == 0) (void)splitter_add(&s, "\xFF\xD8\xFF", 3);
        good = splitter_add(&s, endless, sizeof endless);
        while (splitter_next(&s, false, &picture, &n)) fail();
    }
    assert_false(good);
    assert_true(s.room <= 2 * SPLIT_MOST);
    assert_true(splitter_add(&s, image, size)); /* and it goes on */
    assert_true(splitter_next(&s, false, &picture, &n));
    splitter_begin(&s, SPLIT_RAW, 100);
    assert_true(splitter_add(&s, endless, 250));
    assert_true(splitter_next(&s, false, &picture, &n) && n == 100);
    assert_true(splitter_next(&s, false, &picture, &n) && n == 100);
    assert_false(splitter_next(&s, true, &picture, &n));
    assert_true(splitter_add(&s, endless, 50)); /* just enough */
    assert_true(splitter_next(&s, false, &picture, &n) && n == 100);
    splitter_free(&s);
}

static int open_port(void **state)
{
    (void)state;
    assert_int_equal(bmb_linux_create(&system_port, &port), BMB_OK);
    strcpy(folder, "/tmp/intake-XXXXXX");
    assert_non_null(mkdtemp(folder));
    clip_data = read_file(clip, &clip_size);
    return 0;
}

static int close_port(void **state)
{
    (void)state;
    bmb_intake_destroy(intake);
    intake = NULL;
    bmb_linux_destroy(system_port);
    free(clip_data);
    snprintf(text, sizeof text, "rm -r '%s'", folder);
    return system(text) == 0 ? 0 : -1;
}

static void create(const bmb_intake_camera *spec)
{
    assert_int_equal(bmb_intake_create(&port, spec, 1, 5000, &intake), BMB_OK);
    c = bmb_intake_cameras(intake);
}

static bmb_err take(size_t stream, bmb_camera_frame *out)
{
    bmb_err err = BMB_AGAIN;
    for (unsigned i = 0; i < 1000 && err == BMB_AGAIN; i++) {
        err = c.take(c.ctx, stream, out);
        if (err == BMB_AGAIN) usleep(5000);
    }
    return err;
}

static bmb_mode start(size_t stream, bmb_codec codec, uint16_t width, uint16_t height)
{
    const bmb_mode asked = { codec, width, height, 60000 };
    bmb_mode effective;
    assert_int_equal(c.start(c.ctx, stream, &asked, &effective), BMB_OK);
    return effective;
}

/* Is this picture in the clip, as it is? */
static bool is_of_clip(const bmb_camera_frame *f)
{
    return memmem(clip_data, clip_size, f->data, f->size) != NULL;
}

static void a_program_is_a_camera(void **state)
{
    (void)state;
    snprintf(text, sizeof text, "sh -c \"while true; do cat '%s'; sleep 0.05; done\"", clip);
    const bmb_intake_camera spec = { .name = "cap", .program = text };
    bmb_camera_info info;
    bmb_camera_frame frame, half;
    bmb_jpeg jpeg;
    create(&spec);
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_string_equal(info.name, "cap");
    assert_int_equal(info.modes[0].codec, BMB_CODEC_JPEG);
    assert_int_equal(info.modes[0].width, 320);
    bmb_mode effective, slow = { BMB_CODEC_JPEG, 320, 240, 5000 }, unknown = { BMB_CODEC_H264, 1000, 240, 5000 };
    assert_int_equal(c.start(c.ctx, 3, &unknown, &effective), BMB_UNSUPPORTED);
    assert_int_equal(c.start(c.ctx, 3, &slow, &effective), BMB_OK);
    assert_int_equal(effective.mfps, 5000); /* a rate that is lower than its own is kept */
    assert_int_equal(c.start(c.ctx, 3, &slow, &effective), BMB_IN_USE);
    c.stop(c.ctx, 3);
    assert_int_equal(start(0, BMB_CODEC_JPEG, 320, 240).mfps, 15000);
    (void)start(1, BMB_CODEC_JPEG, 160, 120);
    (void)start(2, BMB_CODEC_H264, 320, 240);
    assert_int_equal(take(1, &half), BMB_OK);
    assert_int_equal(bmb_jpeg_parse(half.data, half.size, &jpeg), BMB_OK);
    assert_int_equal(jpeg.width, 160);
    assert_int_equal(take(2, &frame), BMB_OK);
    assert_true(frame.key);
    c.release(c.ctx, 2, frame.cookie);
    c.release(c.ctx, 1, half.cookie);
    for (unsigned i = 0; i < 8; i++) {
        assert_int_equal(take(0, &frame), BMB_OK);
        assert_true(is_of_clip(&frame) && frame.key);
        c.release(c.ctx, 0, frame.cookie);
    }
    assert_false(c.want(c.ctx, 0, false));
    assert_true(c.want(c.ctx, 1, false));
}

static void its_end_is_told_and_it_starts_again(void **state)
{
    (void)state;
    snprintf(text, sizeof text, "cat '%s'; echo first >&2; echo lamp is broken >&2; sleep 0.3; exit 3", clip);
    const bmb_intake_camera spec = { .name = "cap", .program = text, .shell = true };
    bmb_camera_frame frame;
    bmb_err err;
    create(&spec);
    for (unsigned turn = 0; turn < 2; turn++) {
        unsigned pictures = 0;
        (void)start(0, BMB_CODEC_JPEG, 320, 240);
        while ((err = take(0, &frame)) == BMB_OK) {
            pictures++;
            c.release(c.ctx, 0, frame.cookie);
        }
        assert_int_equal(err, BMB_GONE);
        assert_non_null(strstr(c.trouble(c.ctx, 0), "ended with status 3; its last words: lamp is broken"));
        assert_true(turn == 0 || pictures > 0);
        c.stop(c.ctx, 0);
    }
    bmb_intake_destroy(intake);
    if (!emulated()) { /* an emulator starts it first, and finds out then */
        const bmb_intake_camera none = { .name = "cap", .program = "no-such-program --now" };
        create(&none);
        assert_non_null(strstr(c.trouble(c.ctx, 0), "the program no-such-program: No such file"));
        bmb_intake_destroy(intake);
    }
    const bmb_intake_camera quote = { .name = "cap", .program = "cat 'no end" };
    create(&quote);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "a quote has no end"));
}

/* Does a process run that has this among its arguments, and is no shell? */
static bool runs(const char *what)
{
    bool found = false;
    DIR *processes = opendir("/proc");
    assert_non_null(processes);
    for (const struct dirent *e; !found && (e = readdir(processes)) != NULL;) {
        char name[300], line[256] = "";
        if (e->d_name[0] < '0' || e->d_name[0] > '9') continue;
        snprintf(name, sizeof name, "/proc/%s/cmdline", e->d_name);
        FILE *file = fopen(name, "r");
        size_t size = file != NULL ? fread(line, 1, sizeof line - 1, file) : 0;
        if (file != NULL) fclose(file);
        found = size > 6 && strcmp(line, "sleep") == 0 && strcmp(line + 6, what) == 0;
    }
    closedir(processes);
    return found;
}

static void nothing_is_left_running(void **state)
{
    (void)state;
    /* Two that ignore the wish to end, one of them started by the other. */
    char mark[40];
    snprintf(mark, sizeof mark, "8642%d", (int)getpid());
    snprintf(text, sizeof text, "trap '' TERM; sleep %s & cat '%s'; sleep %s", mark, clip, mark);
    const bmb_intake_camera spec = { .name = "cap", .program = text, .shell = true };
    create(&spec);
    for (unsigned i = 0; i < 500 && !runs(mark); i++) usleep(10000);
    assert_true(runs(mark));
    bmb_intake_destroy(intake);
    intake = NULL;
    for (unsigned i = 0; i < 500 && runs(mark); i++) usleep(10000); /* what is killed takes a moment to be gone */
    assert_false(runs(mark));
}

static void arguments_are_cut_as_they_are_written(void **state)
{
    (void)state;
    snprintf(path, sizeof path, "%s/a b'c.mjpeg", folder);
    FILE *file = fopen(path, "wb");
    assert_int_equal(fwrite(clip_data, 1, clip_size, file), clip_size);
    fclose(file);
    snprintf(text, sizeof text, "cat  \"%s/a b'c.mjpeg\"", folder);
    const bmb_intake_camera spec = { .name = "cap", .program = text };
    bmb_camera_info info;
    create(&spec);
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_true(info.mode_count > 0);
    bmb_intake_destroy(intake);
    snprintf(text, sizeof text, "cat %s/a\\ b\\'c.mjpeg", folder);
    create(&spec);
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_true(info.mode_count > 0);
    bmb_intake_destroy(intake);
    const bmb_intake_camera no_shell = { .name = "cap", .program = "echo $HOME; cat" }; /* no shell reads it */
    create(&no_shell);
    assert_int_equal(c.info(c.ctx, 0, &info), BMB_OK);
    assert_int_equal(info.mode_count, 0);
}

static void a_pipe_waits_for_the_next_writer(void **state)
{
    (void)state;
    snprintf(path, sizeof path, "%s/pipe", folder);
    assert_int_equal(mkfifo(path, 0600), 0);
    const bmb_intake_camera spec = { .name = "cap", .input = path };
    bmb_camera_frame frame;
    assert_int_equal(bmb_intake_create(&port, &spec, 1, 100, &intake), BMB_OK);
    c = bmb_intake_cameras(intake);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "no picture came"));
    (void)start(0, BMB_CODEC_JPEG, 320, 240);
    for (unsigned writer = 0; writer < 2; writer++) {
        int fd = open(path, O_WRONLY);
        assert_int_equal(write(fd, clip_data, 40000), 40000); /* it ends in the middle of a picture */
        close(fd);
        assert_int_equal(take(0, &frame), BMB_OK);
        assert_true(is_of_clip(&frame));
        c.release(c.ctx, 0, frame.cookie);
        while (c.take(c.ctx, 0, &frame) == BMB_OK) c.release(c.ctx, 0, frame.cookie);
    }
    assert_int_equal(c.take(c.ctx, 0, &frame), BMB_AGAIN);
}

static void a_file_is_played_at_its_rate(void **state)
{
    (void)state;
    const bmb_intake_camera spec = { .name = "cap", .input = h264_clip, .mfps = 30000 };
    bmb_camera_frame frame;
    create(&spec);
    bmb_mode effective = start(0, BMB_CODEC_H264, 640, 360);
    assert_int_equal(effective.mfps, 30000);
    uint64_t first = 0, last = 0;
    unsigned keys = 0;
    for (unsigned i = 0; i < 90; i++) { /* beyond its end */
        assert_int_equal(take(0, &frame), BMB_OK);
        if (i == 20) first = frame.capture_us;
        last = frame.capture_us;
        keys += frame.key;
        c.release(c.ctx, 0, frame.cookie);
    }
    assert_true(keys > 1);
    assert_true(last - first >= 69 * 33333u * 8 / 10); /* not faster; a machine that stalls makes it slower */
    assert_int_equal(c.key_frame(c.ctx, 0), BMB_UNSUPPORTED);
}

static void sockets_carry_the_same(void **state)
{
    (void)state;
    struct sockaddr_in here = { .sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    socklen_t size = sizeof here;
    bmb_camera_frame frame;
    int listener = socket(AF_INET, SOCK_STREAM, 0);
    assert_int_equal(bind(listener, (struct sockaddr *)&here, size), 0);
    assert_int_equal(listen(listener, 1), 0);
    assert_int_equal(getsockname(listener, (struct sockaddr *)&here, &size), 0);
    snprintf(text, sizeof text, "tcp://127.0.0.1:%u", ntohs(here.sin_port));
    const bmb_intake_camera spec = { .name = "cap", .input = text };
    assert_int_equal(bmb_intake_create(&port, &spec, 1, 0, &intake), BMB_OK);
    c = bmb_intake_cameras(intake);
    (void)start(0, BMB_CODEC_JPEG, 320, 240);
    int peer = accept(listener, NULL, NULL);
    assert_int_equal(write(peer, clip_data, 30000), 30000);
    assert_int_equal(take(0, &frame), BMB_OK);
    assert_true(is_of_clip(&frame));
    c.release(c.ctx, 0, frame.cookie);
    close(peer);
    close(listener);
    bmb_err err;
    while ((err = take(0, &frame)) == BMB_OK) c.release(c.ctx, 0, frame.cookie);
    assert_int_equal(err, BMB_GONE);
    c.stop(c.ctx, 0);
    (void)start(0, BMB_CODEC_JPEG, 320, 240); /* nobody listens any more */
    assert_int_equal(take(0, &frame), BMB_GONE);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "refused; start what listens there"));
    bmb_intake_destroy(intake);

    int udp = socket(AF_INET, SOCK_DGRAM, 0);
    snprintf(text, sizeof text, "udp://127.0.0.1:%u", ntohs(here.sin_port));
    assert_int_equal(bmb_intake_create(&port, &spec, 1, 0, &intake), BMB_OK);
    c = bmb_intake_cameras(intake);
    (void)start(0, BMB_CODEC_JPEG, 320, 240);
    usleep(50000);
    for (size_t at = 0; at + 1000 < 30000; at += 1000) {
        (void)sendto(udp, clip_data + at, 1000, 0, (struct sockaddr *)&here, size);
        usleep(200);
    }
    assert_int_equal(take(0, &frame), BMB_OK);
    assert_true(is_of_clip(&frame));
    c.release(c.ctx, 0, frame.cookie);
    close(udp);
}

static void raw_pictures_have_to_be_described(void **state)
{
    (void)state;
    bmb_intake_camera spec = { .name = "cap", .program = "cat /dev/zero", .format = BMB_INTAKE_YUYV };
    bmb_camera_frame frame;
    bmb_jpeg jpeg;
    assert_int_equal(bmb_intake_create(&port, &spec, 1, 0, &intake), BMB_BAD_ARG);
    spec.width = 160;
    spec.height = 120;
    spec.input = "-";
    assert_int_equal(bmb_intake_create(&port, &spec, 1, 0, &intake), BMB_BAD_ARG); /* both */
    spec.input = NULL;
    create(&spec);
    (void)start(0, BMB_CODEC_JPEG, 160, 120);
    assert_int_equal(take(0, &frame), BMB_OK);
    assert_int_equal(bmb_jpeg_parse(frame.data, frame.size, &jpeg), BMB_OK);
    assert_int_equal(jpeg.width, 160);
    c.release(c.ctx, 0, frame.cookie);
    for (int i = 0; i < BMB_INTAKE_FORMATS; i++) assert_non_null(bmb_intake_format_name((bmb_intake_format)i));
    assert_null(bmb_intake_format_name(BMB_INTAKE_FORMATS));
}

static void another_size_begins_anew(void **state)
{
    (void)state;
    static uint8_t image[20000];
    snprintf(path, sizeof path, "%s/large.jpg", folder);
    size_t size = fake_jpeg(image, 640, 480, 8000);
    FILE *file = fopen(path, "wb");
    assert_int_equal(fwrite(image, 1, size, file), size);
    fclose(file);
    snprintf(text, sizeof text, "cat '%s'; sleep 0.3; cat '%s'; sleep 5", clip, path);
    const bmb_intake_camera spec = { .name = "cap", .program = text, .shell = true };
    bmb_camera_frame frame;
    bmb_err err;
    create(&spec);
    (void)start(0, BMB_CODEC_JPEG, 320, 240);
    while ((err = take(0, &frame)) == BMB_OK) c.release(c.ctx, 0, frame.cookie);
    assert_int_equal(err, BMB_GONE);
    assert_non_null(strstr(c.trouble(c.ctx, 0), "another size or codec now: 640x480"));
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, open_port, close_port)

int main(void)
{
    signal(SIGPIPE, SIG_IGN);
    const struct CMUnitTest tests[] = {
        TEST(pictures_are_cut_whatever_the_pieces),
        TEST(what_is_between_pictures_is_passed_over),
        TEST(a_program_is_a_camera),
        TEST(its_end_is_told_and_it_starts_again),
        TEST(nothing_is_left_running),
        TEST(arguments_are_cut_as_they_are_written),
        TEST(a_pipe_waits_for_the_next_writer),
        TEST(a_file_is_played_at_its_rate),
        TEST(sockets_carry_the_same),
        TEST(raw_pictures_have_to_be_described),
        TEST(another_size_begins_anew),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
