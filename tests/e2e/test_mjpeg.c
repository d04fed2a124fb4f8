/* Moving pictures over HTTP, decoded by an independent decoder; the strip proves what arrived. */
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

static void every_picture_arrives_once_and_in_order(void **state)
{
    (void)state;
    char command[512];
    pictures p;
    snprintf(
        command, sizeof command,
        "ffmpeg -v error -f mpjpeg -i http://127.0.0.1:%u/yard.mjpeg -fps_mode passthrough -f rawvideo -pix_fmt gray -",
        s.http);
    witness w;
    assert_true(witness_start(&w, s.tcp, "yard"));
    pictures_read(&p, 640, 480, 75, 20, command);
    size_t missed = witness_missed(&w, &p);
    assert_int_equal(p.count, 75);
    assert_int_equal(p.unreadable + p.repeated + p.backward, 0);
    /* On a busy machine the decoder may be behind for a moment; then what it missed was skipped for it, and counted. */
    if (missed > 0) assert_true(missed <= served_figure(&s, "['feeds'][2]['skipped']"));
    assert_true(p.age_ms_median > 0 && p.age_ms_median < 1500); /* the decoder holds pictures back */
}

/* A client that reads 60 KB a second of 200 and more: it sees fewer pictures, none twice, none backward. Its receive
 * buffer is small: the one that the kernel tunes by itself may hold all of these seconds without a gap. */
static void a_slow_client_skips(void **state)
{
    (void)state;
    char command[1024];
    pictures p;
    snprintf(command, sizeof command,
             "python3 -c \"import socket, sys, time\n"
             "s = socket.socket()\n"
             "s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 32768)\n"
             "s.connect(('127.0.0.1', %u))\n"
             "s.sendall(b'GET /yard.mjpeg HTTP/1.0\\r\\n\\r\\n')\n"
             "f = s.makefile('rb')\n"
             "while f.readline().strip(): pass\n"
             "end = time.time() + 12\n"
             "while time.time() < end: sys.stdout.buffer.write(f.read(6000)); time.sleep(0.1)\" | "
             "ffmpeg -v error -f mpjpeg -i - -fps_mode passthrough -f rawvideo -pix_fmt gray - 2>/dev/null",
             s.http);
    pictures_read(&p, 640, 480, 500, 0, command);
    assert_true(p.count > 5 && p.count < 120);
    assert_int_equal(p.backward, 0);
    assert_true(p.unreadable + p.repeated <= 1); /* the client cuts its last picture off */
    assert_true(p.missing >= 5);
    sleep(1);
    assert_true(served_figure(&s, "['feeds'][2]['skipped']") > 0);
    assert_true(served_figure(&s, "['device']['viewers']") == 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(every_picture_arrives_once_and_in_order, start, stop),
        cmocka_unit_test_setup_teardown(a_slow_client_skips, start, stop),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
