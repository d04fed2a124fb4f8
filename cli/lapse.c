/* `bambino lapse`: a picture every so often, into files named by a pattern. Each file is there whole or not at all, and
 * none is ever written over: after a restart the numbers go on. */
#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <libgen.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "cli.h"

#define KEEP_RUNNING_S 5.0 /* with shorter pauses the camera is not stopped between two pictures */
#define NUMBER_DIGITS 6

typedef struct lapse {
    cli_device *d;
    const char *camera;
    char folder[PATH_MAX / 2], pattern[256]; /* of the file's name */
    double every;
    long count;      /* 0: no bound */
    uint64_t end_us; /* UINT64_MAX: no bound */
    unsigned long number, taken, missed;
    size_t bytes, storage; /* written; what the board has, SIZE_MAX: not bounded */
    size_t index;
    bmb_mode mode;
    bool running;
} lapse;

/* The fields of a pattern. */
static const char *const fields[] = { "{number}", "{date}", "{time}", "{camera}" };
enum { FIELD_NUMBER, FIELD_DATE, FIELD_TIME, FIELD_CAMERA, FIELDS };

static int field_at(const char *text)
{
    for (int i = 0; i < FIELDS; i++)
        if (strncmp(text, fields[i], strlen(fields[i])) == 0) return i;
    return -1;
}

static void name_of(const lapse *l, char *out, size_t room)
{
    time_t now = time(NULL);
    struct tm tm;
    char day[16], clock[16];
    size_t n = 0;
    localtime_r(&now, &tm);
    strftime(day, sizeof day, "%Y-%m-%d", &tm);
    strftime(clock, sizeof clock, "%H%M%S", &tm);
    for (const char *p = l->pattern; *p != '\0' && n + 1 < room;) {
        int field = field_at(p);
        int written = field == FIELD_NUMBER   ? snprintf(out + n, room - n, "%0*lu", NUMBER_DIGITS, l->number)
                      : field == FIELD_DATE   ? snprintf(out + n, room - n, "%s", day)
                      : field == FIELD_TIME   ? snprintf(out + n, room - n, "%s", clock)
                      : field == FIELD_CAMERA ? snprintf(out + n, room - n, "%s", l->camera)
                                              : snprintf(out + n, room - n, "%c", *p);
        n += (size_t)written;
        p += field >= 0 ? strlen(fields[field]) : 1;
    }
}

/* Does a file's name follow the pattern? *number gets its number; 0 where the pattern has none. */
static bool follows(const char *pattern, const char *camera, const char *name, unsigned long *number)
{
    while (*pattern != '\0') {
        int field = field_at(pattern);
        if (field < 0) {
            if (*pattern++ != *name++) return false;
            continue;
        }
        pattern += strlen(fields[field]);
        if (field == FIELD_CAMERA) {
            if (strncmp(name, camera, strlen(camera)) != 0) return false;
            name += strlen(camera);
            continue;
        }
        const char *begin = name;
        while (isdigit((unsigned char)*name) || (field == FIELD_DATE && *name == '-')) name++;
        size_t digits = (size_t)(name - begin), wanted = field == FIELD_NUMBER ? NUMBER_DIGITS
                                                         : field == FIELD_DATE ? 10
                                                                               : 6;
        if (field == FIELD_NUMBER ? digits < wanted : digits < wanted) return false;
        if (field != FIELD_NUMBER) name = begin + wanted;
        if (field == FIELD_NUMBER) *number = strtoul(begin, NULL, 10);
    }
    return *name == '\0';
}

/* Where the numbers go on; what an interrupted run left half is removed. */
static bool look_around(lapse *l)
{
    DIR *dir = opendir(l->folder);
    const struct dirent *e;
    if (dir == NULL) {
        cli_error("%s: the folder cannot be read: %s; make it first", l->folder, strerror(errno));
        return false;
    }
    l->number = 1;
    while ((e = readdir(dir)) != NULL) {
        char name[NAME_MAX + 1], path[PATH_MAX];
        unsigned long number = 0;
        snprintf(name, sizeof name, "%s", e->d_name);
        bool part = bmb_linux_unpart(name);
        if (!follows(l->pattern, l->camera, name, &number)) continue;
        if (part) {
            snprintf(path, sizeof path, "%s/%s", l->folder, e->d_name);
            unlink(path);
        } else if (number >= l->number) {
            l->number = number + 1;
        }
    }
    closedir(dir);
    return true;
}

static bmb_err fetch(lapse *l, bmb_camera_frame *out)
{
    const bmb_cameras *cameras = &l->d->port.cameras;
    if (!l->running) return cli_fetch_still(l->d, l->index, &l->mode, out);
    uint64_t end = l->d->port.now_us(l->d->port.ctx) + 3000000;
    bmb_camera_frame next;
    bool have = false;
    for (;;) { /* the newest; those before it go back */
        bmb_err err = cameras->take(cameras->ctx, l->index, &next);
        if (err == BMB_OK) {
            if (have) cameras->release(cameras->ctx, l->index, out->cookie);
            *out = next;
            have = true;
            continue;
        }
        if (have) return BMB_OK;
        if (err != BMB_AGAIN) return err;
        if (l->d->port.now_us(l->d->port.ctx) >= end) return BMB_TIMED_OUT;
        bmb_ready none[4];
        l->d->port.wait(l->d->port.ctx, end);
        (void)l->d->port.net.ready(l->d->port.ctx, none, 4);
        if (cli_interrupted()) return BMB_GONE;
    }
}

/* Waits, and gives frames back that nobody wants meanwhile. */
static void wait_until(lapse *l, uint64_t until)
{
    const bmb_cameras *cameras = &l->d->port.cameras;
    while (!cli_interrupted() && l->d->port.now_us(l->d->port.ctx) < until) {
        bmb_camera_frame frame;
        bmb_ready none[4];
        while (l->running && cameras->take(cameras->ctx, l->index, &frame) == BMB_OK)
            cameras->release(cameras->ctx, l->index, frame.cookie);
        if (l->d->board != NULL) bmb_board_tend(l->d->board, false);
        uint64_t soon = l->d->port.now_us(l->d->port.ctx) + 200000;
        l->d->port.wait(l->d->port.ctx, until < soon ? until : soon);
        (void)l->d->port.net.ready(l->d->port.ctx, none, 4);
    }
}

static bmb_err save(lapse *l, const bmb_camera_frame *frame, char *path, size_t room)
{
    char name[NAME_MAX + 1];
    bool numbered = strstr(l->pattern, fields[FIELD_NUMBER]) != NULL;
    bool full = l->d->board != NULL &&
                (bmb_board_has(l->d->board, BMB_BOARD_STORAGE_FULL) || l->bytes + frame->size > l->storage);
    bmb_err err = full ? BMB_NO_ROOM : BMB_IN_USE;
    for (; err == BMB_IN_USE; l->number++) { /* whatever is there stays */
        name_of(l, name, sizeof name);
        snprintf(path, room, "%s/%s", l->folder, name);
        err = bmb_linux_write_whole(path, frame->data, frame->size, false);
        if (err != BMB_IN_USE || !numbered) break;
    }
    if (err != BMB_OK) return err;
    l->bytes += frame->size;
    l->number++;
    l->taken++;
    return BMB_OK;
}

static void print_progress(const lapse *l, const char *path, size_t size, double next_s)
{
    char of[32] = "";
    if (l->count > 0) snprintf(of, sizeof of, " of %ld", l->count);
    printf("%lu%s: %s, %.1f KiB", l->taken, of, path, (double)size / 1024.0);
    if (l->count == 0 || l->taken < (unsigned long)l->count) printf("; next in %.1f s", next_s);
    putchar('\n');
    fflush(stdout);
}

/* One picture. false: it is over; *status says how. */
static bool take_one(lapse *l, uint64_t next_us, int *status)
{
    char path[PATH_MAX];
    bmb_camera_frame frame;
    const bmb_cameras *cameras = &l->d->port.cameras;
    bmb_err err = fetch(l, &frame);
    if (err != BMB_OK && cli_interrupted()) return false;
    if (err != BMB_OK) { /* the next one may come out well */
        bmb_camera_fault fault =
            cameras->fault != NULL ? cameras->fault(cameras->ctx, l->index) : BMB_CAMERA_FAULT_NONE;
        l->missed++;
        cli_error("camera \"%s\" gave no picture: %s", l->camera, bmb_camera_fault_text(fault, err));
        if (l->running) { /* it is started again for the next one */
            bmb_mode effective;
            cameras->stop(cameras->ctx, l->index);
            (void)cameras->start(cameras->ctx, l->index, &l->mode, &effective);
        }
        return true;
    }
    err = save(l, &frame, path, sizeof path);
    cameras->release(cameras->ctx, l->index, frame.cookie);
    if (!l->running) cameras->stop(cameras->ctx, l->index);
    if (err == BMB_OK) {
        uint64_t now = l->d->port.now_us(l->d->port.ctx);
        print_progress(l, path, frame.size, next_us > now ? (double)(next_us - now) / 1e6 : 0);
        return true;
    }
    *status = EXIT_FAILED;
    if (err == BMB_NO_ROOM) {
        cli_error("the storage is full after %lu pictures; %s was not written. Delete some, or choose a smaller size",
                  l->taken, path);
    } else if (err == BMB_IN_USE) {
        cli_error("%s is there already, and is not written over; put {number} into the pattern", path);
    } else {
        cli_error("%s cannot be written: %s; check the folder and its permissions", path, bmb_err_text(err));
    }
    return false;
}

static int run(lapse *l)
{
    const bmb_cameras *cameras = &l->d->port.cameras;
    int status = EXIT_OK;
    uint64_t begin = l->d->port.now_us(l->d->port.ctx), due = begin;
    if (l->every < KEEP_RUNNING_S) {
        bmb_mode effective;
        bmb_err err = cameras->start(cameras->ctx, l->index, &l->mode, &effective);
        if (err != BMB_OK) return cli_error("camera \"%s\" does not start: %s", l->camera, bmb_err_text(err));
        l->running = true;
    }
    while (!cli_interrupted() && due < l->end_us && (l->count == 0 || l->taken + l->missed < (unsigned long)l->count)) {
        uint64_t next = due + (uint64_t)(l->every * 1e6), now;
        wait_until(l, due);
        if (cli_interrupted() || !take_one(l, next, &status)) break;
        now = l->d->port.now_us(l->d->port.ctx);
        while (next <= now) { /* too slow: the times stay even */
            next += (uint64_t)(l->every * 1e6);
            l->missed++;
        }
        due = next;
    }
    if (l->running) cameras->stop(cameras->ctx, l->index);
    printf("%lu pictures, %.1f MiB, %lu missed.\n", l->taken, (double)l->bytes / 1048576.0, l->missed);
    return status == EXIT_OK && l->taken == 0 && l->missed > 0 ? EXIT_FAILED : status;
}

/* "90", "90s", "15m", "8h", "2d" */
static bool read_duration(const char *text, double *seconds)
{
    static const struct {
        const char *unit;
        double seconds;
    } units[] = { { "", 1 }, { "s", 1 }, { "m", 60 }, { "h", 3600 }, { "d", 86400 } };
    char *end;
    double v = strtod(text, &end);
    for (size_t i = 0; end != text && v > 0 && i < sizeof units / sizeof units[0]; i++) {
        if (strcmp(end, units[i].unit) != 0) continue;
        *seconds = v * units[i].seconds;
        return true;
    }
    return false;
}

static bool prepare(lapse *l, const char *out, const char *size, const char *set)
{
    bmb_camera_info info;
    char path[PATH_MAX / 2];
    if (!cli_find_camera(l->d, l->camera, &l->index, &info)) return false;
    if (!cli_still_mode(l->d, &info, size, l->every < 0.2 ? 30000 : 10000, false, &l->mode)) return false;
    snprintf(path, sizeof path, "%s", out);
    snprintf(l->folder, sizeof l->folder, "%s", dirname(path));
    snprintf(path, sizeof path, "%s", out);
    snprintf(l->pattern, sizeof l->pattern, "%s", basename(path));
    bool numbered = strstr(l->pattern, fields[FIELD_NUMBER]) != NULL,
         timed = strstr(l->pattern, fields[FIELD_TIME]) != NULL;
    if (!numbered && !timed) {
        cli_error("--out %s: every picture would have the same name; put {number} into it, or {date} and {time}", out);
        return false;
    }
    if (strchr(l->folder, '{') != NULL) {
        cli_error("--out %s: {number}, {date}, {time} and {camera} may stand in the file's name, not in its folder",
                  out);
        return false;
    }
    l->storage = l->d->board != NULL ? l->d->board_data.storage : SIZE_MAX;
    cli_apply_controls(l->d, l->index, l->camera);
    return cli_set_controls(l->d, l->index, &info, set) && look_around(l);
}

int cli_lapse(int argc, const char **argv)
{
    char *out = NULL, *config = NULL, *size = NULL, *every = NULL, *length = NULL, *faults = NULL, *set = NULL;
    int count = 0;
    const struct poptOption options[] = {
        { "every", '\0', POPT_ARG_STRING, &every, 0, "between two pictures: 10, 0.5, 15m, 2h", "TIME" },
        { "out", 'o', POPT_ARG_STRING, &out, 0, "file names, with {number}, {date}, {time}, {camera}", "PATTERN" },
        { "count", '\0', POPT_ARG_INT, &count, 0, "stop after so many", "N" },
        { "for", '\0', POPT_ARG_STRING, &length, 0, "stop after so long", "TIME" },
        { "size", '\0', POPT_ARG_STRING, &size, 0, "the camera's largest, if not given", "WIDTHxHEIGHT" },
        { "config", '\0', POPT_ARG_STRING, &config, 0, "whose cameras (this machine's, if not given; else the demo's)",
          "CONFIG" },
        { "set", '\0', POPT_ARG_STRING, &set, 0, "controls; several with commas", "CONTROL=VALUE" },
        { "fault", '\0', POPT_ARG_STRING, &faults, 0, "of a simulated board, as for run", "NAME[@FROM[-TO]]" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[1] = { NULL };
    bool invented;
    bool help = false;
    double seconds = 0;
    if (!cli_options(argc, argv, options, "lapse CAMERA --every TIME --out PATTERN", rest, 1, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    lapse l = { .camera = rest[0], .count = count, .end_us = UINT64_MAX };
    int status = EXIT_USAGE;
    if (rest[0] == NULL || out == NULL || every == NULL) {
        cli_error("lapse needs a camera, a pause and names: bambino lapse yard --every 10 --out 'yard-{number}.jpg'");
    } else if (!read_duration(every, &l.every) || l.every < 0.05) {
        cli_error("--every %s: a time of 0.05 s or more is expected, such as 10, 0.5, 15m or 2h", every);
    } else if (length != NULL && !read_duration(length, &seconds)) {
        cli_error("--for %s: a time is expected, such as 90, 15m, 8h or 2d", length);
    } else if (count < 0) {
        cli_error("--count %d: a number above 0 is expected", count);
    } else if ((l.d = calloc(1, sizeof *l.d)) != NULL && cli_config_or_invented(config, &l.d->file, &invented)) {
        status = EXIT_FAILED;
        l.d->faults = faults;
        if (cli_attach(l.d) && prepare(&l, out, size, set)) {
            cli_catch_signals(&l.d->port);
            if (seconds > 0) l.end_us = l.d->port.now_us(l.d->port.ctx) + (uint64_t)(seconds * 1e6);
            status = run(&l);
        }
    }
    if (l.d != NULL) cli_close(l.d);
    free(l.d);
    free(out);
    free(config);
    free(size);
    free(every);
    free(length);
    free(faults);
    free(set);
    return status;
}
