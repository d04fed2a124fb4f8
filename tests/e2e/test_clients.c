/* RTSP and RTP to independent clients and past an independent dissector; the strip proves what arrived. */
#include "support/check.h"
#include "support/pictures.h"
#include "support/process.h"

#include <unistd.h>

static served s;

static int start(void **state)
{
    (void)state;
    return served_start(&s, BAMBINO_COMMAND, "demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0 2>/dev/null")
               ? 0
               : -1;
}

static int stop(void **state)
{
    (void)state;
    return served_stop(&s);
}

/* What a decoder shows, frame by frame: none out of order, and none missing that the device handed out to another
 * reader meanwhile. A machine that is busy may make a client over TCP lag (then what it missed was skipped for it, and
 * counted) or lose packets on their way to it: then once more. */
static bool decoded(const char *feed, uint16_t width, uint16_t height, size_t count, const char *command)
{
    pictures p;
    witness w;
    char skipped[64];
    assert_true(witness_start(&w, s.tcp, feed));
    pictures_read(&p, width, height, count, count / 3, command);
    size_t missed = witness_missed(&w, &p);
    snprintf(skipped, sizeof skipped, "['feeds'][%d]['skipped']", strcmp(feed, "station") == 0 ? 0 : 2);
    return p.count == count && p.unreadable + p.repeated + p.backward == 0 && p.age_ms_median > 0 &&
           p.age_ms_median < 1500 && (missed == 0 || (missed != SIZE_MAX && missed <= served_figure(&s, skipped)));
}

static void decode(const char *feed, uint16_t width, uint16_t height, size_t count, const char *command)
{
    for (int tries = 0; tries < 3; tries++) {
        if (decoded(feed, width, height, count, command)) return;
    }
    fail_msg("three times not as it should be, see above");
}

static void with_ffmpeg(const char *feed, const char *transport, uint16_t width, uint16_t height, size_t count)
{
    char command[512];
    snprintf(command, sizeof command,
             "ffmpeg -v error -rtsp_transport %s -i rtsp://127.0.0.1:%u/%s -fps_mode passthrough -f rawvideo "
             "-pix_fmt gray - 2>/dev/null",
             transport, s.rtsp, feed);
    decode(feed, width, height, count, command);
}

static void with_gstreamer(const char *feed, const char *transport, uint16_t width, uint16_t height, size_t count)
{
    char command[512];
    bool h264 = strcmp(feed, "station") == 0;
    snprintf(command, sizeof command,
             "gst-launch-1.0 -q rtspsrc location=rtsp://127.0.0.1:%u/%s protocols=%s latency=100 ! %s ! videoconvert ! "
             "video/x-raw,format=GRAY8 ! fdsink fd=1 2>/dev/null",
             s.rtsp, feed, transport, h264 ? "rtph264depay ! h264parse ! avdec_h264" : "rtpjpegdepay ! jpegdec");
    decode(feed, width, height, count, command);
}

static void ffmpeg_takes_h264_over_tcp(void **state)
{
    (void)state;
    with_ffmpeg("station", "tcp", 1280, 720, 210);
}
static void ffmpeg_takes_h264_over_udp(void **state)
{
    (void)state;
    with_ffmpeg("station", "udp", 1280, 720, 210);
}
static void ffmpeg_takes_jpeg_over_tcp(void **state)
{
    (void)state;
    with_ffmpeg("yard", "tcp", 640, 480, 105);
}
static void ffmpeg_takes_jpeg_over_udp(void **state)
{
    (void)state;
    with_ffmpeg("yard", "udp", 640, 480, 105);
}
static void gstreamer_takes_h264_over_tcp(void **state)
{
    (void)state;
    with_gstreamer("station", "tcp", 1280, 720, 210);
}
static void gstreamer_takes_h264_over_udp(void **state)
{
    (void)state;
    with_gstreamer("station", "udp", 1280, 720, 210);
}
static void gstreamer_takes_jpeg_over_tcp(void **state)
{
    (void)state;
    with_gstreamer("yard", "tcp", 640, 480, 105);
}
static void gstreamer_takes_jpeg_over_udp(void **state)
{
    (void)state;
    with_gstreamer("yard", "udp", 640, 480, 105);
}

static void ffmpeg_takes_a_transport_stream_over_http(void **state)
{
    (void)state;
    char command[512];
    snprintf(command, sizeof command,
             "ffmpeg -v error -fflags nobuffer -probesize 100000 -analyzeduration 200000 -i "
             "http://127.0.0.1:%u/station.ts -fps_mode passthrough -f rawvideo -pix_fmt gray - 2>/dev/null",
             s.http);
    decode("station", 1280, 720, 300, command);
}

/* Continuity counters, tables and clock, as a dissector of transport streams sees them. */
static void a_transport_stream_is_in_order(void **state)
{
    (void)state;
    char out[1024], path[] = "/tmp/bambino-ts-XXXXXX";
    int fd = mkstemp(path);
    assert_true(fd >= 0);
    close(fd);
    for (int tries = 0; tries < 3; tries++) { /* its clock is that of the machine, which may be busy elsewhere … */
        process_run(out, sizeof out, "curl -s --max-time 6 http://127.0.0.1:%u/station.ts >%s", s.http, path);
        double held_up = served_figure(&s, "['device']['longest_delay_ms']"); /* … and the device knows of it */
        double gap = served_figure(&s, "['feeds'][0]['camera_gap_ms_most']") - 41;
        if (held_up < gap) held_up = gap;
        process_run(out, sizeof out, "python3 " BAMBINO_SOURCE "/tests/e2e/check_ts.py %.0f <%s", held_up, path);
        print_message("held up by %.0f ms: %s", held_up, out);
        if (strstr(out, ": in order") != NULL) break;
    }
    unlink(path);
    assert_non_null(strstr(out, ": in order"));
}

static void ffprobe_knows_the_stream(void **state)
{
    (void)state;
    char out[1024];
    process_run(out, sizeof out,
                "ffprobe -v error -rtsp_transport tcp -show_entries stream=codec_name,width,height "
                "-of csv=p=0 rtsp://127.0.0.1:%u/station",
                s.rtsp);
    assert_non_null(strstr(out, "h264,1280,720"));
    process_run(out, sizeof out,
                "ffprobe -v error -rtsp_transport udp -show_entries stream=codec_name,width,height "
                "-of csv=p=0 rtsp://127.0.0.1:%u/yard",
                s.rtsp);
    assert_non_null(strstr(out, "mjpeg,640,480"));
}

static void ipv6_is_served_like_ipv4(void **state)
{
    (void)state;
    char out[1024];
    served six;
    assert_true(served_start(&six, BAMBINO_COMMAND, "demo --http [::1]:0 --rtsp [::1]:0 --tcp [::1]:0 2>/dev/null"));
    const char *port = strstr(six.text, "rtsp://[::1]:") + 13;
    const char *const transports[] = { "udp", "tcp" };
    for (size_t i = 0; i < 2; i++) {
        process_run(out, sizeof out,
                    "ffprobe -v error -rtsp_transport %s -show_entries stream=codec_name,width -of csv=p=0 "
                    "rtsp://[::1]:%d/yard",
                    transports[i], atoi(port));
        assert_non_null(strstr(out, "mjpeg,640"));
    }
    assert_int_equal(served_stop(&six), 0);
}

/* Sixty pictures at 30/s: a run of more than sixty without a gap has passed the clip's end. A busy machine leaves one
 * out now and then, wherever it is; a break at the end would do so each time. */
static void a_recorded_clip_loops_without_a_break(void **state)
{
    (void)state;
    char out[256], path[] = "/tmp/bambino-clip-XXXXXX";
    served clip;
    int fd = mkstemp(path), run = 0, backward = 0;
    assert_true(fd >= 0);
    dprintf(fd, "[http]\nlisten = 127.0.0.1:0\n[rtsp]\nlisten = 127.0.0.1:0\n[camera station]\nsource = clip\n"
                "clip = " BAMBINO_SOURCE "/demo/station.h264\nclip-rate = 30\n[feed station]\n");
    close(fd);
    char arguments[128];
    snprintf(arguments, sizeof arguments, "run %s 2>/dev/null", path);
    assert_true(served_start(&clip, BAMBINO_COMMAND, arguments));
    for (int tries = 0; tries < 3 && run <= 62; tries++) {
        process_run(
            out, sizeof out,
            "ffmpeg -v error -rtsp_transport tcp -i rtsp://127.0.0.1:%u/station -t 9 -c copy -f framecrc - | "
            "python3 -c \"import sys; t=[int(l.split(',')[2]) for l in sys.stdin if l[0]!='#'][3:]; best=now=0\n"
            "for a, b in zip(t, t[1:]): now = now + 1 if b - a < 6000 else 0; best = max(best, now)\n"
            "print(best, sum(b <= a for a, b in zip(t, t[1:])))\"",
            clip.rtsp); /* 30/s is 3000 ticks, twice that a frame left out; ffmpeg guesses the first times */
        assert_int_equal(sscanf(out, "%d %d", &run, &backward), 2);
        assert_int_equal(backward, 0);
    }
    print_message("%d pictures without a gap\n", run);
    assert_true(run > 62);
    assert_int_equal(served_stop(&clip), 0);
    unlink(path);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, start, stop)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(ffprobe_knows_the_stream),
        cmocka_unit_test(ipv6_is_served_like_ipv4),
        cmocka_unit_test(a_recorded_clip_loops_without_a_break),
        CASE(ffmpeg_takes_a_transport_stream_over_http),
        CASE(a_transport_stream_is_in_order),
        CASE(ffmpeg_takes_h264_over_tcp),
        CASE(ffmpeg_takes_h264_over_udp),
        CASE(ffmpeg_takes_jpeg_over_tcp),
        CASE(ffmpeg_takes_jpeg_over_udp),
        CASE(gstreamer_takes_h264_over_tcp),
        CASE(gstreamer_takes_h264_over_udp),
        CASE(gstreamer_takes_jpeg_over_tcp),
        CASE(gstreamer_takes_jpeg_over_udp),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
