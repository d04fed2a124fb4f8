/* Receives feeds and says what really arrives. */
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "check.h"
#include "receive/line.h"

#define ROWS_BETWEEN_HEADS 20u

static volatile bool stop;
static pthread_mutex_t printing = PTHREAD_MUTEX_INITIALIZER;
static bool mute, several;
static unsigned rows_since_head; /* 0: the next row needs one */

static void on_signal(int number)
{
    (void)number;
    stop = true;
}

static char letter_of(const check_run *run, const receive *r)
{
    return (char)('A' + (r - run->receivers));
}

/* Steps as they come; a text of several lines is set in. */
static void say(void *ctx, const receive *r, receive_step step, uint64_t us, const char *text)
{
    if (mute) return;
    pthread_mutex_lock(&printing);
    if (several) printf("%c ", letter_of(ctx, r));
    printf("%8.3f s  %-13s  ", (double)us / 1e6, receive_step_name(step));
    for (const char *c = text; *c != '\0'; c++) {
        if (*c != '\n') putchar(*c);
        if (*c == '\n' && c[1] != '\0') printf("\n%s%27s", several ? "  " : "", "");
    }
    putchar('\n');
    fflush(stdout);
    rows_since_head = 0;
    pthread_mutex_unlock(&printing);
}

static void print_row(size_t i, double at, const measure_row *row, bool rtp, bool counts, bool keys)
{
    char key[16] = "-", delay[16] = "-", lost[16] = "-", late[16] = "-", jitter[16] = "-";
    if (rows_since_head % ROWS_BETWEEN_HEADS == 0)
        printf("\n%s%6s %8s %9s %5s %7s %6s %6s %9s %5s %9s\n", several ? "  " : "", "time", "pictures", "kbit/s",
               "keys", "skipped", "lost", "late", "jitter", "gaps", "delay");
    rows_since_head++;
    if (row->delay_ms >= 0) snprintf(delay, sizeof delay, "%.0f ms", row->delay_ms);
    if (rtp) snprintf(jitter, sizeof jitter, "%.1f ms", row->jitter_ms);
    if (counts) snprintf(lost, sizeof lost, "%u", row->counts.lost + row->counts.faults);
    if (rtp) snprintf(late, sizeof late, "%u", row->counts.late);
    if (several) printf("%c ", (char)('A' + i));
    if (keys) snprintf(key, sizeof key, "%u", row->counts.keys);
    printf("%4.0f s %6.1f/s %9.0f %5s %7u %6s %6s %9s %5u %9s", at, row->rate, row->kbps, key, row->counts.skipped,
           lost, late, jitter, row->counts.gaps, delay);
    if (row->counts.broken > 0) printf("  %u broken", row->counts.broken);
    if (row->counts.black > 0) printf("  %u black", row->counts.black);
    if (row->counts.pictures > 1 && row->counts.same + 1 >= row->counts.pictures) printf("  nothing moves");
    if (row->counts.backward > 0) printf("  %u times back", row->counts.backward);
    putchar('\n');
}

static void each_second(check_run *run, uint64_t begin_us)
{
    for (size_t i = 0; i < run->count; i++) {
        receive *r = &run->receivers[i];
        measure_row row;
        pthread_mutex_lock(&r->lock);
        measure_second(&r->m, line_now_us(), &row);
        bool rtp = strstr(r->way, "RTP") != NULL, counts = rtp || strstr(r->way, "TS") != NULL;
        bool keys = r->codec == BMB_CODEC_H264, shows = r->m.all.pictures + r->m.all.broken > 0 && !r->ended;
        pthread_mutex_unlock(&r->lock);
        if (mute || !shows) continue;
        pthread_mutex_lock(&printing);
        print_row(i, (double)(line_now_us() - begin_us) / 1e6, &row, rtp, counts, keys);
        fflush(stdout);
        pthread_mutex_unlock(&printing);
    }
}

/* Switches the light; the screen's is this terminal's, black or white all over. */
static void switch_light(check_run *run, bool on)
{
    char command[600];
    if (strcmp(run->light, "screen") == 0) {
        fputs(on ? "\033[?5h" : "\033[?5l", stderr);
        fflush(stderr);
    } else {
        snprintf(command, sizeof command, "%s %s", run->light, on ? "on" : "off");
        if (system(command) != 0 && !stop) {
            cli_error("--light: `%s` fails", command);
            stop = true;
        }
    }
    for (size_t i = 0; i < run->count; i++) {
        receive *r = &run->receivers[i];
        pthread_mutex_lock(&r->lock);
        measure_lamp_switch(&r->lamp, on, line_now_us());
        pthread_mutex_unlock(&r->lock);
    }
}

/* Not in step with the pictures: between one and a half and two and a half seconds apart. */
static void tend_light(check_run *run, uint64_t now_us)
{
    static bool on;
    static uint64_t next_us;
    if (run->light == NULL || now_us < next_us) return;
    on = !on;
    switch_light(run, on);
    next_us = line_now_us() + 1500000u + (uint64_t)random() % 1000000u;
}

static bool all_ended(const check_run *run)
{
    for (size_t i = 0; i < run->count; i++)
        if (!__atomic_load_n(&run->receivers[i].ended, __ATOMIC_ACQUIRE)) return false;
    return true;
}

static bool any_picture(const check_run *run)
{
    for (size_t i = 0; i < run->count; i++)
        if (__atomic_load_n(&run->receivers[i].m.all.pictures, __ATOMIC_RELAXED) == 0 &&
            !__atomic_load_n(&run->receivers[i].ended, __ATOMIC_ACQUIRE))
            return false;
    return true;
}

/* The time counts from when there is a picture of each; until then at most `patience`. */
static void watch(check_run *run, double seconds, double patience)
{
    uint64_t begin = line_now_us(), next = begin + 1000000u, first = 0;
    while (!stop && !all_ended(run)) {
        usleep(20000);
        uint64_t now = line_now_us();
        if (first != 0) tend_light(run, now);
        if (first == 0 && any_picture(run)) {
            first = now;
            next = now + 1000000u;
            for (size_t i = 0; i < run->count; i++) { /* seconds of all begin together */
                measure_row row;
                pthread_mutex_lock(&run->receivers[i].lock);
                measure_second(&run->receivers[i].m, now, &row);
                pthread_mutex_unlock(&run->receivers[i].lock);
            }
        }
        if (now >= next) {
            if (first != 0) each_second(run, first);
            next += 1000000u;
        }
        if (first != 0 ? (double)(now - first) / 1e6 >= seconds + 0.01 : (double)(now - begin) / 1e6 >= patience) break;
    }
    run->seconds = (double)(line_now_us() - begin) / 1e6;
    if (run->light != NULL) switch_light(run, false);
    stop = true;
}

static bool read_password(const char *path, char *out, size_t room)
{
    FILE *f = strcmp(path, "-") == 0 ? stdin : fopen(path, "r");
    bool got = f != NULL && fgets(out, (int)room, f) != NULL;
    if (f != NULL && f != stdin) fclose(f);
    if (!got) return cli_error("the password cannot be read from %s", path), false;
    out[strcspn(out, "\r\n")] = '\0';
    return true;
}

static bool add(check_run *run, const char *text)
{
    char why[400];
    receive *r = &run->receivers[run->count];
    if (!receive_address_read(text, &r->to, why, sizeof why)) return cli_error("%s: %s", text, why), false;
    run->count++;
    return true;
}

static bool by_of(const char *text, receive_by *out)
{
    static const char *const names[] = { "any", "udp", "tcp", "multicast" };
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++) {
        *out = (receive_by)i;
        if (strcmp(text, names[i]) == 0) return true;
    }
    return cli_error("--by %s: udp, tcp or multicast is expected", text), false;
}

static bool begin_all(check_run *run)
{
    size_t begun = 0;
    if (!mute && several)
        for (size_t i = 0; i < run->count; i++) printf("%c  %s\n", (char)('A' + i), run->receivers[i].to.text);
    if (!mute && !several) printf("%s\n", run->receivers[0].to.text);
    fflush(stdout);
    while (begun < run->count && receive_begin(&run->receivers[begun])) begun++;
    if (begun == run->count) return true;
    stop = true;
    while (begun-- > 0) receive_end(&run->receivers[begun]);
    return cli_error("no more threads can be had"), false;
}

int cli_check(int argc, const char **argv)
{
    double seconds = 10, patience = 10;
    /* What popt has allocated stays until the end. */
    static const char *by = "any", *plot = NULL, *password = NULL, *light = NULL;
    static char **list;
    int json = 0, blind = 0;
    const struct poptOption options[] = {
        { "for", 'f', POPT_ARG_DOUBLE | POPT_ARGFLAG_SHOW_DEFAULT, &seconds, 0,
          "how long, from the first picture on; Ctrl-C ends it, too", "SECONDS" },
        { "wait", 'w', POPT_ARG_DOUBLE | POPT_ARGFLAG_SHOW_DEFAULT, &patience, 0, "how long for a first picture",
          "SECONDS" },
        { "by", 'b', POPT_ARG_STRING, &by, 0,
          "how RTP is to come, of rtsp: addresses: udp, tcp or multicast. Else udp, and tcp where nothing comes",
          "WAY" },
        { "expect", 'e', POPT_ARG_ARGV, &list, 0,
          "what must hold, such as rate=25, delay-95=200, lost=0.5, size=640x480; else the exit status is 1",
          "FIGURE=VALUE" },
        { "json", 'j', POPT_ARG_NONE, &json, 0, "print one JSON object at the end, and nothing else", NULL },
        { "plot", 'p', POPT_ARG_STRING, &plot, 0, "write a picture of how delays and intervals are spread",
          "FILE.png" },
        { "light", 'l', POPT_ARG_STRING, &light, 0,
          "measure the delay by a light before the camera: screen (this terminal, which the camera sees), or a program "
          "that is called with on and off",
          "WHAT" },
        { "blind", 0, POPT_ARG_NONE, &blind, 0, "do not decode: less work, and nothing is known of what is to be seen",
          NULL },
        { "password-file", 0, POPT_ARG_STRING, &password, 0,
          "a file whose first line is the password of the name in the address; -: standard input", "FILE" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[CHECK_MOST + 1] = { NULL };
    char secret[128] = "";
    bool help = false;
    check_run run = { .count = 0 };
    if (!cli_options(argc, argv, options, "check ADDRESS...", rest, CHECK_MOST, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    receive_by way;
    if (light != NULL && blind != 0) {
        cli_error("--light and --blind: the light is seen in decoded pictures alone");
        return EXIT_USAGE;
    }
    if (!by_of(by, &way)) return EXIT_USAGE;
    if (rest[0] == NULL) {
        cli_error("check: an address is missing, such as rtsp://192.0.2.20:8554/yard; see `bambino check --help`");
        return EXIT_USAGE;
    }
    if (!(seconds > 0) || !(patience > 0)) {
        cli_error("--for and --wait take seconds, more than 0");
        return EXIT_USAGE;
    }
    for (size_t i = 0; list != NULL && list[i] != NULL; i++)
        if (!check_expect(&run, list[i])) return EXIT_USAGE;
    if (password != NULL && !read_password(password, secret, sizeof secret)) return EXIT_FAILED;
    run.receivers = calloc(CHECK_MOST, sizeof *run.receivers);
    if (run.receivers == NULL) return cli_error("there is not enough memory");
    bool good = true;
    for (size_t i = 0; good && rest[i] != NULL; i++) good = add(&run, rest[i]);
    if (!good) {
        free(run.receivers);
        return EXIT_USAGE;
    }
    mute = json != 0;
    run.light = light;
    several = run.count > 1;
    for (size_t i = 0; i < run.count; i++) {
        receive *r = &run.receivers[i];
        r->by = way;
        r->blind = blind != 0;
        r->lit = light != NULL;
        r->stop = &stop;
        r->say = say;
        r->ctx = &run;
        if (secret[0] != '\0') memcpy(r->to.password, secret, sizeof secret);
    }
    memset(secret, 0, sizeof secret);
    signal(SIGINT, on_signal);
    signal(SIGTERM, on_signal);
    signal(SIGPIPE, SIG_IGN);
    if (!begin_all(&run)) {
        free(run.receivers);
        return EXIT_FAILED;
    }
    watch(&run, seconds, patience);
    for (size_t i = 0; i < run.count; i++) receive_end(&run.receivers[i]);
    if (!mute) check_print_summary(&run);
    unsigned missed = check_judge(&run, mute);
    if (mute) check_print_json(&run, missed);
    if (plot != NULL && !check_plot(&run, plot)) missed++;
    for (size_t i = 0; i < run.count; i++) memset(run.receivers[i].to.password, 0, sizeof run.receivers[i].to.password);
    free(run.receivers);
    return missed == 0 ? EXIT_OK : EXIT_FAILED;
}
