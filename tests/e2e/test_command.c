/* The built command, from outside: what it prints, how it fails, what curl sees. */
#include "support/check.h"
#include "support/process.h"

#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static char out[65536];
static char folder[64];

static int make_folder(void **state)
{
    (void)state;
    snprintf(folder, sizeof folder, "/tmp/bambino-test-XXXXXX");
    return mkdtemp(folder) == NULL;
}

static int drop_folder(void **state)
{
    (void)state;
    return process_run(out, sizeof out, "rm -r '%s'", folder);
}

static void write_config(const char *text)
{
    char path[128];
    snprintf(path, sizeof path, "%s/c.ini", folder);
    FILE *f = fopen(path, "w");
    fputs(text, f);
    fclose(f);
}

static void says(const char *text)
{
    if (strstr(out, text) == NULL) fail_msg("expected \"%s\" in:\n%s", text, out);
}

#define DEMO "demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0 2>/dev/null"
#define DEMO_INI BAMBINO_SOURCE "/demo/railway.ini"
#define RUN(...) process_run(out, sizeof out, BAMBINO_COMMAND " " __VA_ARGS__)

static void help_is_everywhere(void **state)
{
    (void)state;
    assert_int_equal(RUN("--help"), 0);
    says("bambino demo");
    assert_int_equal(RUN("--version"), 0);
    const char *const commands[] = { "demo",   "run",   "cameras", "photo",  "send",       "keys",   "boards",
                                     "budget", "lapse", "service", "manual", "completion", "measure" };
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++) {
        char usage[40];
        assert_int_equal(RUN("%s --help", commands[i]), 0);
        snprintf(usage, sizeof usage, "Usage: bambino %s", commands[i]);
        says(usage);
        assert_null(strstr(strstr(out, usage) + strlen(usage), commands[i])); /* once is enough */
    }
    assert_int_equal(RUN(""), 2);
}

static void wrong_use_is_told(void **state)
{
    (void)state;
    assert_int_equal(RUN("demmo"), 2);
    says("did you mean `bambino demo`?");
    assert_int_equal(RUN("demo --nonsense"), 2);
    says("--nonsense");
    assert_int_equal(RUN("demo extra"), 2);
    says("\"extra\" is one argument too many");
    assert_int_equal(RUN("run /nonexistent.ini"), 2);
    says("/nonexistent.ini: the configuration cannot be read");
    assert_int_equal(RUN("demo --http 300.1.2.3:80"), 2);
    says("--http 300.1.2.3:80: ADDRESS:PORT is expected");
    assert_int_equal(RUN("photo yard"), 2);
    says("photo needs a file");
}

typedef struct wrong_line {
    const char *config, *message;
} wrong_line;

static void configuration_lines_are_judged(void **state)
{
    (void)state;
    const wrong_line rows[] = {
        { "[device]\nviewer = 3\n", "c.ini:2: [device] has no key \"viewer\"; did you mean viewers?" },
        { "[device]\nviewers = many\n", "c.ini:2: viewers = many: a number is expected" },
        { "[device]\nviewers = 0\n", "c.ini:2: viewers = 0: use 1 to 4000" },
        { "viewers = 3\n", "c.ini:1: viewers stands before any section" },
        { "[http]\nlisten = nowhere\n", "c.ini:2: listen = nowhere: ADDRESS:PORT is expected" },
        { "[feeds yard]\n", "c.ini:1: section [feeds yard] is not known; did you mean [feed]?" },
        { "[feed Yard!]\n", "c.ini:1: \"Yard!\": a feed needs a name" },
        { "[feed yard]\nsize = 640\n", "c.ini:2: size = 640: WIDTHxHEIGHT is expected" },
        { "[feed yard]\nrate = fast\n", "c.ini:2: rate = fast: a number is expected" },
        { "[feed yard]\nreel = 3Q\n", "c.ini:2: reel = 3Q: a whole number is expected" },
        { "[feed yard]\n[feed yard]\n", "c.ini:2: [feed yard] is there already, in line 1" },
        { "[camera yard]\nview = yarn\n", "c.ini:2: view = yarn: did you mean yard?" },
        { "[device]\njust words\n", "c.ini:2: neither a [section] nor KEY = VALUE" },
        { "[device]\nname = x\n", "no feed; add a section such as [feed yard]" },
        { "[feed yard]\ntitle = x\n", "nothing to serve with" },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        write_config(rows[i].config);
        assert_int_equal(RUN("run %s/c.ini", folder), 2);
        says(rows[i].message);
    }
}

static void what_cannot_run_is_told(void **state)
{
    (void)state;
    write_config("[http]\nlisten = 127.0.0.1:0\n[feed yard]\ncamera = attic\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("camera \"attic\" is not attached");
    write_config("[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = clip\nclip = none.mjpeg\n[feed c]\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("none.mjpeg cannot be read");
    write_config("[http]\nlisten = 203.0.113.9:0\n[camera c]\nsource = drawn\n[feed c]\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("cannot listen at 203.0.113.9:0: no interface of this machine has that address");
    write_config("[device]\nmemory = 10K\n[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n[feed c]\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("10240 are there");
    says("reels: lower those first");
}

static void a_port_in_use_is_told(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, DEMO));
    assert_int_equal(RUN("demo --http 127.0.0.1:%u --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0", s.http), 1);
    says("another program listens there");
    assert_int_equal(served_stop(&s), 0);
}

static void addresses_are_whole(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, "demo --http :0 --rtsp :0 2>/dev/null"));
    assert_true(s.http > 0);
    char expected[64];
    snprintf(expected, sizeof expected, "http://127.0.0.1:%u/yard.mjpeg", s.http);
    assert_non_null(strstr(s.text, expected));
    assert_null(strstr(s.text, "0.0.0.0"));
    assert_null(strstr(s.text, "//:"));
    snprintf(expected, sizeof expected, "rtsp://127.0.0.1:%u/station", s.rtsp);
    assert_non_null(strstr(s.text, expected));
    assert_int_equal(served_stop(&s), 0);
    assert_non_null(strstr(s.text, "Stopped after"));

    assert_true(served_start(&s, BAMBINO_COMMAND, "demo --http [::1]:0 --rtsp [::1]:0 --tcp [::1]:0 2>/dev/null"));
    assert_non_null(strstr(s.text, "http://[::1]:"));
    assert_int_equal(served_stop(&s), 0);
}

static void curl_fetches_everything(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, DEMO));
    process_run(out, sizeof out, "curl -s -o %s/y.jpg -w '%%{http_code} %%{content_type}' http://127.0.0.1:%u/yard.jpg",
                folder, s.http);
    assert_string_equal(out, "200 image/jpeg");
    process_run(out, sizeof out, "ffprobe -v error -show_entries stream=width,height,codec_name -of csv=p=0 %s/y.jpg",
                folder);
    says("mjpeg,640,480");
    process_run(out, sizeof out, "curl -s -I http://127.0.0.1:%u/", s.http);
    says("200 OK");
    says("text/html");
    process_run(out, sizeof out, "curl -s -X POST -o /dev/null -w '%%{http_code}' http://127.0.0.1:%u/", s.http);
    assert_string_equal(out, "405");
    process_run(out, sizeof out, "curl -s -o /dev/null -w '%%{http_code}' http://127.0.0.1:%u/attic.jpg", s.http);
    assert_string_equal(out, "404");
    process_run(out, sizeof out, "curl -s --max-time 1 http://127.0.0.1:%u/yard.mjpeg | grep -a -c Frame-Number",
                s.http);
    assert_in_range(atoi(out), 12, 17);
    assert_true(served_figure(&s, "['feeds'][2]['frames']") >= 10);
    assert_true(served_figure(&s, "['device']['viewers']") == 0);
    assert_int_equal(served_stop(&s), 0);
}

static void the_first_picture_comes_at_once(void **state)
{
    (void)state;
    /* A generous bound for a loaded machine; bench/ measures it against half a second. */
    uint64_t begin = wall_now_us();
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, DEMO));
    assert_int_equal(process_run(out, sizeof out, "curl -sf -o /dev/null http://127.0.0.1:%u/yard.jpg", s.http), 0);
    assert_true(wall_now_us() - begin < 3000000);
    assert_int_equal(served_stop(&s), 0);
}

static void a_multicast_group_is_chosen_or_judged(void **state)
{
    (void)state;
    char first[2048];
    for (int i = 0; i < 2; i++) { /* the same one each time */
        write_config("[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n[feed c]\nmulticast = auto\n");
        assert_int_equal(RUN("run %s/c.ini --for 0.3 2>/dev/null", folder), 0);
        char *group = strstr(out, "its multicast group, 239.255.");
        assert_non_null(group);
        group[strcspn(group, "\n")] = '\0';
        assert_int_equal(atoi(strrchr(group, ':') + 1) % 2, 0);
        if (i == 0) strcpy(first, group);
        assert_string_equal(group, first);
    }
    write_config("[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n[feed c]\nmulticast = 192.0.2.1:5004\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("feed \"c\": multicast needs an address in 224.0.0.0/4");
    write_config("[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n[feed c]\nmulticast = "
                 "239.1.1.1:5004\n[camera d]\nsource = drawn\n[feed d]\n"
                 "multicast = 239.1.1.1:5004\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("feed \"d\": another feed has the same multicast group");
    write_config("[feed c]\nmulticast = always\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 2);
    says("c.ini:2: multicast = always: auto is expected, or GROUP:PORT");
}

static void it_stops_by_itself(void **state)
{
    (void)state;
    assert_int_equal(RUN("demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0 --for 0.5 2>/dev/null"), 0);
    double seconds = 0;
    const char *at = strstr(out, "Stopped after ");
    assert_true(at != NULL && sscanf(at, "Stopped after %lf s.", &seconds) == 1);
    assert_true(seconds >= 0.5 && seconds < 5);
}

static void cameras_are_listed(void **state)
{
    (void)state;
    assert_int_equal(RUN("cameras " DEMO_INI), 0);
    says("station  station platform, 4 streams at a time");
    says("H.264    1920x1080 up to 60/s");
    says("yard  sidings, 4 streams at a time");
    says("1920x1080 up to 60/s");
    says("quality      1 to 100, now 75");
    says("loco  clip player\n    JPEG     320x240 up to 10/s");
    says("0 missing");
    write_config("[http]\nlisten = :0\n[camera c]\nsource = clip\nclip = none.mjpeg\n[feed c]\n[feed d]\n");
    assert_int_equal(RUN("cameras %s/c.ini", folder), 1);
    says("c  MISSING: the clip");
    says("d  MISSING: feed \"d\" expects it");
    says("0 attached, 2 missing");
}

static void a_photo_is_written_whole_or_not_at_all(void **state)
{
    (void)state;
    assert_int_equal(RUN("photo yard --config " DEMO_INI " --out %s/p.jpg", folder), 0);
    says("640x480");
    assert_int_equal(process_run(out, sizeof out, "ffmpeg -v error -i %s/p.jpg -f null -", folder), 0);
    assert_string_equal(out, "");
    assert_int_equal(RUN("photo yard --config " DEMO_INI " --size 320x240 --out %s/p.jpg", folder), 1);
    says("p.jpg is there already; choose another name, or add --overwrite");
    assert_int_equal(RUN("photo yard --config " DEMO_INI " --size 320x240 --overwrite --out %s/p.jpg", folder), 0);
    process_run(out, sizeof out, "ls %s", folder);
    assert_string_equal(out, "p.jpg\n"); /* and no part of it */
    assert_int_equal(RUN("photo attic --config " DEMO_INI " --out %s/q.jpg", folder), 1);
    says("there is no camera \"attic\"; attached are: station, yard, loco");
    assert_int_equal(RUN("photo yard --config " DEMO_INI " --size 321x240 --out %s/q.jpg", folder), 1);
    says("has no size 321x240");
    assert_int_equal(RUN("photo yard --config " DEMO_INI " --out %s/no/such/q.jpg", folder), 1);
    says("cannot be written: there is no such folder");
    process_run(out, sizeof out, "ls %s | grep -c q.jpg", folder);
    assert_string_equal(out, "0\n");
}

/* A device that runs while the test asks it something; its log is beside its configuration. */
static void serve(const char *config, served *p)
{
    char arguments[200];
    write_config(config);
    snprintf(arguments, sizeof arguments, "run %s/c.ini 2>%s/log", folder, folder);
    assert_true(served_start(p, BAMBINO_COMMAND, arguments));
}

static void a_programs_pictures_are_served(void **state)
{
    (void)state;
    char config[1600];
    served p;
    snprintf(config, sizeof config,
             "[device]\nlog = debug\n[http]\nlisten = 127.0.0.1:0\n"
             "[camera cap]\nprogram = sh -c \"echo warming up >&2; while cat %s; do sleep 0.1; done\"\n"
             "[feed cap]\n[feed small]\ncamera = cap\nsize = 160x120\n[feed moving]\ncamera = cap\ncodec = h264\n"
             "[camera never]\nprogram = no-such-program\n[feed never]\n",
             BAMBINO_SOURCE "/demo/loco.mjpeg");
    serve(config, &p);
    char address[40];
    snprintf(address, sizeof address, "127.0.0.1:%u", p.http);
    assert_int_equal(process_run(out, sizeof out, "curl -s -m 9 -o %s/a.jpg http://%s/cap.jpg", folder, address), 0);
    assert_int_equal(process_run(out, sizeof out, "curl -s -m 9 -o %s/b.jpg http://%s/small.jpg", folder, address), 0);
    assert_int_equal(
        process_run(out, sizeof out,
                    "for f in a b; do ffprobe -v error -show_entries stream=width -of csv=p=0 %s/$f.jpg; done", folder),
        0);
    assert_string_equal(out, "320\n160\n");
    assert_int_equal(process_run(out, sizeof out,
                                 "ffprobe -v error -show_entries stream=codec_name -of csv=p=0 http://%s/moving.ts | "
                                 "head -1",
                                 address),
                     0);
    says("h264");
    assert_int_equal(
        process_run(out, sizeof out, "curl -s -m 9 -o /dev/null -w '%%{http_code}' http://%s/never.jpg", address), 0);
    says("503");
    (void)served_stop(&p);
    assert_int_equal(process_run(out, sizeof out, "cat %s/log", folder), 0);
    says("camera \"cap\" says: warming up");
    says("feed \"never\": the camera failed: the program no-such-program: No such file");
}

static void one_camera_has_several_feeds(void **state)
{
    (void)state;
    served p;
    serve("[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\nview = yard\n[feed a]\ncamera = c\n"
          "[feed b]\ncamera = c\nsize = 320x240\n[feed moving]\ncamera = c\ncodec = h264\n",
          &p);
    char address[40];
    snprintf(address, sizeof address, "127.0.0.1:%u", p.http);
    /* A still of each, and of a size of its own while two of them are watched: nobody sees a gap. */
    assert_int_equal(
        process_run(out, sizeof out,
                    "curl -s -m 4 -o /dev/null http://%s/b.mjpeg & curl -s -m 4 -o /dev/null http://%s/a.mjpeg & "
                    "sleep 1; for f in a b moving a-1280x720 b-1920x1080; do curl -s -m 5 -o %s/$f.jpg "
                    "http://%s/$f.jpg; ffprobe -v error -show_entries stream=width -of csv=p=0 %s/$f.jpg; done; "
                    "wait",
                    address, address, folder, address, folder),
        0);
    assert_string_equal(out, "640\n320\n640\n1280\n1920\n");
    (void)served_stop(&p);
    assert_int_equal(process_run(out, sizeof out, "cat %s/log", folder), 0);
    assert_null(strstr(out, "still"));
    assert_null(strstr(out, "failed"));
    write_config(
        "[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n[feed a]\ncamera = c\n[feed b]\ncamera = c\n"
        "[feed d]\ncamera = c\n[feed e]\ncamera = c\n[feed f]\ncamera = c\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("camera \"c\" has no stream left for another feed");
    write_config(
        "[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n[feed a]\ncamera = c\ncodec = h264\nquality = 50\n");
    assert_int_equal(RUN("run %s/c.ini", folder), 1);
    says("has no control \"quality\"");
}

static void every_camera_gives_a_photo(void **state)
{
    (void)state;
    char config[600];
    snprintf(config, sizeof config,
             "[http]\nlisten = 127.0.0.1:0\n[camera clip]\nsource = clip\nclip = %s\n[feed clip]\n"
             "[camera file]\ninput = %s\n[feed file]\n",
             BAMBINO_SOURCE "/demo/station.h264", BAMBINO_SOURCE "/demo/station.h264");
    write_config(config);
    for (unsigned i = 0; i < 2; i++) {
        assert_int_equal(RUN("photo %s --config %s/c.ini --out %s/%u.jpg", i == 0 ? "clip" : "file", folder, folder, i),
                         0);
        says("640x360");
        assert_int_equal(process_run(out, sizeof out, "ffmpeg -v error -i %s/%u.jpg -f null -", folder, i), 0);
        assert_string_equal(out, "");
    }
}

static void the_reference_is_current(void **state)
{
    (void)state;
    assert_int_equal(
        process_run(out, sizeof out, "cd " BAMBINO_SOURCE " && scripts/config-reference --check " BAMBINO_COMMAND), 0);
}

static void the_budget_reckons_with_what_was_measured(void **state)
{
    (void)state;
    write_config(
        "[device]\nviewers = 2\nfigures = board.json\n[http]\nlisten = 127.0.0.1:0\n[camera c]\nsource = drawn\n"
        "[feed c]\ncodec = jpeg\nsize = 640x480\nrate = 10\nkbps = 800\n");
    assert_int_equal(RUN("measure --for 2 --name seven --write %s/board.json", folder), 0);
    says("At 640x480 and 30/s, of one core:");
    assert_int_equal(RUN("measure --for 2 --write %s/board.json", folder), 1);
    says("is there already");
    assert_int_equal(
        process_run(out, sizeof out, "tr ',' '\\n' <%s/board.json | grep -c '_ns_per_[a-z]*\":[0-9]'", folder), 0);
    says("9"); /* nothing was left out */
    assert_int_equal(process_run(out, sizeof out, "grep -E 'jpeg_ns_per_pixel\":[0-9.]*[1-9]' %s/board.json", folder),
                     0);
    assert_int_equal(RUN("budget %s/c.ini", folder), 0);
    says("measured on                        seven");
    /* 640 * 480 * 10 pixels at 10 ns; 100,000 bytes at 100 ns to two viewers; 20 frames at 1 ms to them */
    process_run(out, sizeof out,
                "printf '{\"bambino-figures\":1,\"name\":\"made up\",\"jpeg_ns_per_pixel\":10,\"http_ns_per_byte\":100,"
                "\"http_ns_per_frame\":1000000}' >%s/exact.json",
                folder);
    assert_int_equal(RUN("budget %s/c.ini --figures %s/exact.json --json | tr -d ' \\t'", folder, folder), 0);
    says("\"encoding_percent\":3.1");
    says("\"percent\":7.1"); /* 3.07 + 2.0 + 2.0 */
    assert_int_equal(RUN("budget %s/c.ini --figures %s/c.ini", folder, folder), 1);
    says("has no line of `bambino measure`");
}

/* What was fine for a released version stays fine. */
static void old_configurations_are_fine(void **state)
{
    (void)state;
    process_run(out, sizeof out,
                "n=0; for f in " BAMBINO_SOURCE "/tests/old/*/*.ini; do " BAMBINO_COMMAND
                " run --check $f >/dev/null || exit 1; n=$((n + 1)); done; echo judged $n");
    says("judged ");
    assert_false(strstr(out, "judged 0") != NULL);
}

/* … and so does what a released version kept: changed settings, users, lent links. */
static void what_an_old_version_kept_counts(void **state)
{
    (void)state;
    served s;
    char arguments[300];
    process_run(out, sizeof out, "ls -d " BAMBINO_SOURCE "/tests/old/*/kept | wc -l");
    int versions = atoi(out);
    assert_true(versions > 0);
    for (int i = 1; i <= versions; i++) {
        assert_int_equal(process_run(out, sizeof out,
                                     "rm -rf %s/old && cp -r \"$(ls -d " BAMBINO_SOURCE
                                     "/tests/old/*/kept | sed -n %dp)\" %s/old && chmod 700 %s/old/keep && chmod 600 "
                                     "%s/old/keep/users",
                                     folder, i, folder, folder, folder),
                         0);
        process_run(out, sizeof out,
                    BAMBINO_COMMAND " settings %s/old/device.ini | sed 's/   (.*//' | diff - %s/old/settings.txt",
                    folder, folder);
        assert_string_equal(out, "");
        snprintf(arguments, sizeof arguments, "run %s/old/device.ini --http 127.0.0.1:0 2>%s/log", folder, folder);
        assert_true(served_start(&s, BAMBINO_COMMAND, arguments));
        process_run(out, sizeof out,
                    "curl -s -H \"Authorization: Bearer $(cat %s/old/token)\" http://127.0.0.1:%u/settings", folder,
                    s.http);
        says("\"viewers\":20");
        says("\"attic\":");
        says("\"size\":\"1280x720\"");
        process_run(out, sizeof out,
                    "curl -s http://127.0.0.1:%u$(cat %s/old/link) | ffprobe -v error -show_entries "
                    "stream=codec_name,width -of csv=p=0 -i -",
                    s.http, folder);
        says("mjpeg,1280");
        assert_int_equal(served_stop(&s), 0);
    }
}

static void a_mistyped_address_is_answered(void **state)
{
    (void)state;
    served s;
    char arguments[400];
    snprintf(arguments, sizeof arguments, "demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0 2>%s/log",
             folder);
    assert_true(served_start(&s, BAMBINO_COMMAND, arguments));
    process_run(out, sizeof out, "curl -s http://127.0.0.1:%u/yrad.jpg", s.http);
    says("404 Not Found\nThere are:\n/station.ts\n");
    says("/yard.jpg\n");
    process_run(out, sizeof out, "curl -s http://127.0.0.1:%u/yard", s.rtsp); /* a browser at the port of RTSP */
    says("Players find the feeds here, at rtsp://");
    process_run(out, sizeof out, "ffprobe -v error rtsp://127.0.0.1:%u/yrad", s.rtsp);
    says("404");
    process_run(out, sizeof out, "ffprobe -v error -show_entries stream=width -of csv=p=0 rtsp://127.0.0.1:%u//YARD",
                s.rtsp);
    says("640");
    assert_int_equal(served_stop(&s), 0);
    process_run(out, sizeof out, "cat %s/log", folder);
    says(" asked for an address that does not exist: HTTP /yrad.jpg");
    says(" asked for an address that does not exist: HTTP /yard\n");
    says(" asked for an address that does not exist: RTSP /yrad");
}

/* Standard error and standard output are pipes that nobody reads, and a thousand requests each want a line of the log.
 */
static void nobody_reads_what_it_says(void **state)
{
    (void)state;
    assert_int_equal(process_run(out, sizeof out, "python3 " BAMBINO_SOURCE "/tests/e2e/unread.py " BAMBINO_COMMAND),
                     0);
    says("frames went on");
    says("a closed pipe ended nothing");
    print_message("%s", out);
}

static void a_killed_viewer_is_noticed(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, DEMO));
    process_run(out, sizeof out,
                "ffmpeg -v error -rtsp_transport udp -i rtsp://127.0.0.1:%u/yard -f null - & victim=$!; sleep 2.5; "
                "curl -s http://127.0.0.1:%u/status.json | grep -o '\"rtsp_sessions\":[0-9]*'; kill -9 $victim",
                s.rtsp, s.http);
    says("\"rtsp_sessions\":1");
    int sessions = 1;
    for (int i = 0; i < 150 && sessions > 0; i++) { /* a session that is silent lives for 60 s, this one must not */
        usleep(100000);
        sessions = (int)served_figure(&s, "['device']['rtsp_sessions']");
    }
    assert_int_equal(sessions, 0);
    assert_int_equal(served_stop(&s), 0);
}

static void rtsp_passes_through_http(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, DEMO));
    const uint16_t ports[] = { s.rtsp, s.http };
    for (size_t i = 0; i < 2; i++) {
        process_run(out, sizeof out,
                    "ffprobe -v error -rtsp_transport http -show_entries stream=width -of csv=p=0 "
                    "rtsp://127.0.0.1:%u/yard",
                    ports[i]);
        says("640");
        /* What arrived counts, not its exit status: as it ends it flushes a connection that it is writing to, at times.
         */
        process_run(
            out, sizeof out,
            "timeout 20 gst-launch-1.0 -v rtspsrc location=rtsph://127.0.0.1:%u/station latency=50 ! "
            "rtph264depay ! avdec_h264 ! identity eos-after=20 ! fakesink silent=false 2>%s/said | grep -c 'chain "
            ".*fakesink0:sink'",
            ports[i], folder);
        if (atoi(out) < 10) fail_msg("pictures on port %u: %s", ports[i], out);
    }
    assert_int_equal(served_stop(&s), 0);
}

static void used_up_files_are_survived(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, "sh -c 'ulimit -n 24; exec \"$0\" \"$@\" 2>/dev/null'",
                             BAMBINO_COMMAND " "
                                             "demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0"));
    /* Forty connections that say nothing, for two seconds: more than there are files. */
    process_run(out, sizeof out,
                "python3 -c \"import socket,time; a=[socket.create_connection(('127.0.0.1',%u)) for _ in range(40)]; "
                "time.sleep(2)\"",
                s.http);
    sleep(1);
    assert_int_equal(
        process_run(out, sizeof out, "curl -sf --max-time 5 -o /dev/null http://127.0.0.1:%u/yard.jpg", s.http), 0);
    assert_true(served_figure(&s, "['device']['accept_failed']") > 0);
    assert_int_equal(served_stop(&s), 0);
}

/* Each wrong address is named, with what to check. */
static void wrong_destinations_are_told(void **state)
{
    (void)state;
    static const struct {
        const char *to, *told;
    } rows[] = {
        { "192.0.2.1", "udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT is expected" },
        { "udp://192.0.2.1", "a port of 1 to 65535 is missing" },
        { "udp://192.0.2.1:70000", "a port of 1 to 65535 is missing" },
        { "tcp://300.1.2.3:5000", "that is not an address" },
        { "tcp://10.5:5000", "that is not an address" },
        { "tcp://[::1:5000", "that is not an address" },
        { "udp://127.0.0.1:5000/live", "that is not an address" },
        { "udp://no-such-host.invalid:5000", "no host of that name is known" },
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        assert_int_equal(RUN("send station %s --for 1", rows[i].to), 2);
        says(rows[i].told);
        says(rows[i].to);
    }
    assert_int_equal(RUN("send statoin udp://127.0.0.1:5000 --for 1"), 2);
    says("Did you mean station?");
    assert_int_equal(RUN("send yard udp://127.0.0.1:5000 --format ts --for 1"), 1);
    says("over UDP rtp carries both and ts H.264");
    assert_int_equal(RUN("send yard tcp://127.0.0.1:1 --for 1.2"), 1);
    says("that is this machine itself");
    says("nobody listens there. Start the receiver");
    assert_int_equal(RUN("send yard udp://127.0.0.1:1 --for 1.2"), 1);
    says("nobody listens there");
    says("sending goes on");
    /* Where no network leads anywhere: a namespace with nothing in it. */
    if (process_run(out, sizeof out, "unshare --net true") == 0) {
        process_run(out, sizeof out, "unshare --net " BAMBINO_COMMAND " send yard udp://192.0.2.9:5000 --for 0.3");
        says("no network leads there");
        process_run(
            out, sizeof out,
            "unshare --net sh -c 'ip link set lo up; ip link add c type veth peer name e; ip link set c up; "
            "ip link set e up; ip addr add 192.0.2.1/24 dev c; ip route add default via 192.0.2.2; " BAMBINO_COMMAND
            " send yard udp://198.51.100.7:5000 --for 0.2'");
        says("on none of this machine's networks");
    }
}

static void the_program_for_the_framed_protocol_watches(void **state)
{
    (void)state;
    served s;
    assert_true(served_start(&s, BAMBINO_COMMAND, DEMO));
    uint16_t port = (uint16_t)atoi(strstr(s.text, "tcp://127.0.0.1:") + 16);
    const char *program = BAMBINO_SOURCE "/examples/framed_viewer.py";
    assert_int_equal(process_run(out, sizeof out, "python3 %s 127.0.0.1:%u", program, port), 0);
    says("yard       jpeg 640x480 at 15/s  Sidings");
    assert_int_equal(process_run(out, sizeof out,
                                 "python3 %s 127.0.0.1:%u yard --frames 20 --set quality=40 --set contrast=500 --key "
                                 "--status --save %s",
                                 program, port, folder),
                     0);
    says("quality = 40: done; in force: 40");
    says("contrast = 500: refused, bad-argument; in force: 0");
    says("frames/s");
    int missed = -1;
    const char *last = strstr(out, "20 frames, ");
    assert_true(last != NULL && sscanf(last, "20 frames, %d skipped", &missed) == 1);
    says(" skipped, 0 bytes of damage skipped");
    if (missed > 0)
        assert_true(missed <= served_figure(&s, "['feeds'][2]['skipped']")); /* a busy machine: and counted */
    process_run(out, sizeof out, "ls %s/yard-*.jpg | wc -l", folder);
    says("20");
    assert_int_equal(
        process_run(out, sizeof out, "python3 %s 127.0.0.1:%u station --frames 30 --save %s", program, port, folder),
        0);
    process_run(out, sizeof out,
                "ffprobe -v error -count_frames -show_entries stream=nb_read_frames,width -of csv=p=0 "
                "%s/station.h264",
                folder);
    says("1280,30");
    assert_int_equal(served_stop(&s), 0);
}

#define CASE(name) cmocka_unit_test_setup_teardown(name, make_folder, drop_folder)

int main(void)
{
    const struct CMUnitTest tests[] = {
        CASE(help_is_everywhere),
        CASE(wrong_use_is_told),
        CASE(configuration_lines_are_judged),
        CASE(what_cannot_run_is_told),
        CASE(a_port_in_use_is_told),
        CASE(addresses_are_whole),
        CASE(curl_fetches_everything),
        CASE(the_first_picture_comes_at_once),
        CASE(a_multicast_group_is_chosen_or_judged),
        CASE(it_stops_by_itself),
        CASE(cameras_are_listed),
        CASE(a_photo_is_written_whole_or_not_at_all),
        CASE(a_programs_pictures_are_served),
        CASE(one_camera_has_several_feeds),
        CASE(every_camera_gives_a_photo),
        CASE(the_reference_is_current),
        CASE(the_budget_reckons_with_what_was_measured),
        CASE(old_configurations_are_fine),
        CASE(what_an_old_version_kept_counts),
        CASE(a_mistyped_address_is_answered),
        CASE(nobody_reads_what_it_says),
        CASE(a_killed_viewer_is_noticed),
        CASE(rtsp_passes_through_http),
        CASE(used_up_files_are_survived),
        CASE(wrong_destinations_are_told),
        CASE(the_program_for_the_framed_protocol_watches),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
