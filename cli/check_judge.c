/* What `bambino check` found: as a table, as JSON, and against what was expected. */
#include <cjson/cJSON.h>
#include <stdlib.h>
#include <string.h>

#include "check.h"

typedef struct figure {
    const char *name;
    const char *label; /* in the table; NULL: it stands in another row */
    const char *unit;
    double (*value)(const receive *r, double seconds); /* below 0: not known */
    bool at_least;                                     /* what is expected is the least; else the most */
    int decimals;
} figure;

static double rate(const receive *r, double seconds)
{
    (void)seconds;
    return r->m.all.pictures > 1 ? measure_rate(&r->m) : -1;
}

static double kbps(const receive *r, double seconds)
{
    (void)seconds;
    return r->m.all.pictures > 1 ? measure_kbps(&r->m) : -1;
}

static double part(const measure_spread *s, double percent)
{
    return s->count > 0 ? measure_spread_part(s, percent) : -1;
}

#define SPREAD(name, of, percent)                                                                                      \
    static double name(const receive *r, double seconds)                                                               \
    {                                                                                                                  \
        (void)seconds;                                                                                                 \
        return part(&r->m.of, percent);                                                                                \
    }
SPREAD(delay_50, delay, 50)
SPREAD(delay_95, delay, 95)
SPREAD(delay_99, delay, 99)
SPREAD(interval_50, interval, 50)
SPREAD(interval_95, interval, 95)
SPREAD(interval_99, interval, 99)

static double first_picture(const receive *r, double seconds)
{
    (void)seconds;
    return r->step_us[RECEIVE_PICTURE] > 0 ? (double)r->step_us[RECEIVE_PICTURE] / 1000.0 : -1;
}

/* Of packets, or of pictures where packets are not seen. */
static double lost(const receive *r, double seconds)
{
    const measure_counts *c = &r->m.all;
    double all = (double)c->packets + c->lost;
    (void)seconds;
    return all > 0 ? 100.0 * (c->lost + c->faults) / all : -1;
}

static double whole(const receive *r, double seconds)
{
    const measure_counts *c = &r->m.all;
    double all = (double)c->pictures + c->broken + c->skipped;
    (void)seconds;
    return all > 0 ? 100.0 * c->pictures / all : -1;
}

static double jitter(const receive *r, double seconds)
{
    (void)seconds;
    return strstr(r->way, "RTP") != NULL ? r->m.jitter_most_ms : -1;
}

static double key_s(const receive *r, double seconds)
{
    (void)seconds;
    return r->codec == BMB_CODEC_H264 && r->m.key_most_us > 0 ? (double)r->m.key_most_us / 1e6 : -1;
}

static double still_s(const receive *r, double seconds)
{
    (void)seconds;
    return r->see != NULL && r->m.all.pictures > 0 ? (double)r->m.still_most_us / 1e6 : -1;
}

#define COUNT(name, member)                                                                                            \
    static double name(const receive *r, double seconds)                                                               \
    {                                                                                                                  \
        (void)seconds;                                                                                                 \
        return r->m.all.member;                                                                                        \
    }
COUNT(pictures, pictures)
COUNT(skipped, skipped)
COUNT(broken, broken)
COUNT(gaps, gaps)
COUNT(late, late)
COUNT(doubled, doubled)
COUNT(backward, backward)
COUNT(black, black)
COUNT(faults, faults)

static const figure figures[] = {
    { "pictures", "pictures", "", pictures, true, 0 },
    { "rate", "pictures a second", "/s", rate, true, 2 },
    { "kbps", "bit rate", " kbit/s", kbps, false, 0 },
    { "first", "first picture after", " ms", first_picture, false, 0 },
    { "delay-50", "delay, median", " ms", delay_50, false, 0 },
    { "delay-95", "delay, 95 % under", " ms", delay_95, false, 0 },
    { "delay-99", "delay, 99 % under", " ms", delay_99, false, 0 },
    { "interval-50", "interval, median", " ms", interval_50, false, 0 },
    { "interval-95", "interval, 95 % under", " ms", interval_95, false, 0 },
    { "interval-99", "interval, 99 % under", " ms", interval_99, false, 0 },
    { "gaps", "gaps over two intervals", "", gaps, false, 0 },
    { "whole", "pictures whole", " %", whole, true, 1 },
    { "skipped", "pictures left out", "", skipped, false, 0 },
    { "broken", "pictures broken", "", broken, false, 0 },
    { "lost", "packets lost", " %", lost, false, 2 },
    { "late", "packets out of order", "", late, false, 0 },
    { "doubled", "packets doubled", "", doubled, false, 0 },
    { "faults", "faults of continuity", "", faults, false, 0 },
    { "jitter", "jitter, most", " ms", jitter, false, 1 },
    { "backward", "times that go back", "", backward, false, 0 },
    { "key", "key frames apart, most", " s", key_s, false, 1 },
    { "still", "nothing moved, longest", " s", still_s, false, 1 },
    { "black", "pictures black", "", black, false, 0 },
};
#define FIGURES (sizeof figures / sizeof figures[0])
/* Words that are to be the same. */
enum { EXPECT_SIZE = FIGURES, EXPECT_CODEC };

static const char *codec_of(const receive *r)
{
    return !r->known ? "-" : r->codec == BMB_CODEC_JPEG ? "jpeg" : "h264";
}

static void size_of(const receive *r, char *out, size_t room)
{
    snprintf(out, room, "%ux%u", r->m.width, r->m.height);
}

bool check_expect(check_run *run, const char *text)
{
    const char *names[FIGURES + 2], *equal = strchr(text, '=');
    check_expected *e = &run->expected[run->expected_count];
    char name[32], *end = NULL;
    size_t i = 0;
    if (equal == NULL || (size_t)(equal - text) >= sizeof name || strlen(equal + 1) >= sizeof e->text)
        return cli_error("--expect %s: FIGURE=VALUE is expected, such as rate=25", text), false;
    if (run->expected_count == EXPECT_MOST) return cli_error("--expect: at most %d at a time", EXPECT_MOST), false;
    snprintf(name, sizeof name, "%.*s", (int)(equal - text), text);
    for (size_t k = 0; k < FIGURES; k++) names[k] = figures[k].name;
    names[EXPECT_SIZE] = "size";
    names[EXPECT_CODEC] = "codec";
    while (i < FIGURES + 2 && strcmp(names[i], name) != 0) i++;
    if (i == FIGURES + 2) {
        const char *near = cli_nearest(name, names, FIGURES + 2);
        fprintf(stderr, "bambino: --expect %s: there is no figure \"%s\"%s%s; there are", text, name,
                near != NULL ? ", did you mean " : "", near != NULL ? near : "");
        for (size_t k = 0; k < FIGURES + 2; k++) fprintf(stderr, " %s", names[k]);
        fputc('\n', stderr);
        return false;
    }
    *e = (check_expected){ .figure = i };
    snprintf(e->text, sizeof e->text, "%s", equal + 1);
    if (i < FIGURES) e->value = strtod(e->text, &end);
    if (i < FIGURES && (end == e->text || *end != '\0' || e->value < 0))
        return cli_error("--expect %s: a number is expected", text), false;
    run->expected_count++;
    return true;
}

/* rate: a feed of 25/s that is looked at for a moment has 24.9. */
static bool holds(const figure *f, double value, double expected)
{
    if (value < 0) return false;
    if (f->value == rate) return value >= expected * 0.98;
    return f->at_least ? value >= expected : value <= expected;
}

unsigned check_judge(const check_run *run, bool quiet)
{
    unsigned missed = 0;
    for (size_t i = 0; i < run->count; i++) {
        const receive *r = &run->receivers[i];
        char letter[4] = "", size[16];
        if (run->count > 1) snprintf(letter, sizeof letter, "%c: ", (char)('A' + i));
        if (r->m.all.pictures == 0) {
            missed++;
            if (!quiet) printf("\n%sno picture came\n", letter);
            continue;
        }
        size_of(r, size, sizeof size);
        for (size_t k = 0; k < run->expected_count; k++) {
            const check_expected *e = &run->expected[k];
            if (e->figure >= FIGURES) {
                const char *is = e->figure == EXPECT_SIZE ? size : codec_of(r);
                if (strcmp(is, e->text) == 0) continue;
                missed++;
                if (!quiet)
                    printf("%smissed: %s is %s, %s is expected\n", letter, e->figure == EXPECT_SIZE ? "size" : "codec",
                           is, e->text);
                continue;
            }
            const figure *f = &figures[e->figure];
            double value = f->value(r, run->seconds);
            if (holds(f, value, e->value)) continue;
            missed++;
            if (quiet) continue;
            if (value < 0)
                printf("%smissed: %s is not known\n", letter, f->name);
            else
                printf("%smissed: %s is %.*f%s, %s %s%s is expected\n", letter, f->name,
                       f->decimals > 0 ? f->decimals : 1, value, f->unit, f->at_least ? "at least" : "at most", e->text,
                       f->unit);
        }
    }
    if (!quiet && missed == 0 && run->expected_count > 0) printf("all that was expected holds\n");
    return missed;
}

const char *check_clock_text(measure_clock clock)
{
    switch (clock) {
    case MEASURE_REPORT:
        return "RTCP sender reports: as good as both clocks agree";
    case MEASURE_STATED:
        return "the capture time that comes with each picture: as good as both clocks agree";
    case MEASURE_LIGHT:
        return "a light that was switched, from glass to glass: up to one interval between pictures too long";
    case MEASURE_STRIP:
        return "the strip in the picture, to 0.1 ms: as good as both clocks agree";
    default:
        return "not known: the stream does not say when a picture was taken";
    }
}

static void print_line(const check_run *run, const char *label, void (*put)(const receive *r, char *out, size_t room))
{
    printf("%-26s", label);
    for (size_t i = 0; i < run->count; i++) {
        char text[64];
        put(&run->receivers[i], text, sizeof text);
        printf("%*s", run->count > 1 ? 27 : 0, text);
    }
    putchar('\n');
}

static void put_way(const receive *r, char *out, size_t room)
{
    snprintf(out, room, "%s", r->way[0] != '\0' ? r->way : "-");
}

static void put_codec(const receive *r, char *out, size_t room)
{
    snprintf(out, room, "%s", !r->known ? "-" : r->codec == BMB_CODEC_JPEG ? "JPEG" : "H.264");
}

static void put_profile(const receive *r, char *out, size_t room)
{
    snprintf(out, room, "%s", r->profile[0] != '\0' ? r->profile : "-");
}

static void put_clock(const receive *r, char *out, size_t room)
{
    static const char *const names[] = { "-", "sender reports", "stated", "strip", "light" };
    snprintf(out, room, "%s", names[r->m.clock]);
}

static bool any_profile(const check_run *run)
{
    for (size_t i = 0; i < run->count; i++)
        if (run->receivers[i].profile[0] != '\0') return true;
    return false;
}

/* Bars of text, ten or so for what there is; what lies far out is one. */
static void print_bars(const measure_spread *s)
{
    static const uint32_t steps[] = { 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000 };
    uint32_t low = (uint32_t)measure_spread_part(s, 0.01), most = 1;
    uint32_t high = (uint32_t)measure_spread_part(s, s->count < 100 ? 90 : 98);
    size_t i = 0;
    while (i + 1 < sizeof steps / sizeof steps[0] && (high - low) / steps[i] > 8) i++;
    uint32_t step = steps[i], from = low / step * step, rows = (high - from) / step + 1, sums[16] = { 0 };
    for (uint32_t k = from; k <= MEASURE_MS_MOST; k++) {
        uint32_t row = (k - from) / step;
        sums[row < rows ? row : rows] += s->at[k];
    }
    for (uint32_t row = 0; row <= rows; row++)
        if (sums[row] > most) most = sums[row];
    for (uint32_t row = 0; row <= rows; row++) {
        if (row == rows && sums[row] == 0) break;
        printf("%6u ms %-8s %7u  ", from + row * step, row == rows ? "and more" : "", sums[row]);
        for (uint32_t k = 0; k < (sums[row] * 40u + most - 1) / most; k++) putchar('#');
        putchar('\n');
    }
}

void check_print_summary(const check_run *run)
{
    bool any = false;
    for (size_t i = 0; i < run->count; i++) any = any || run->receivers[i].m.all.pictures > 0;
    if (!any) return;
    putchar('\n');
    if (run->count > 1) {
        printf("%-26s", "");
        for (size_t i = 0; i < run->count; i++) printf("%27c", (char)('A' + i));
        putchar('\n');
    }
    print_line(run, "way", put_way);
    print_line(run, "codec", put_codec);
    if (any_profile(run)) print_line(run, "profile and level", put_profile);
    print_line(run, "size", size_of);
    for (size_t k = 0; k < FIGURES; k++) {
        bool shows = false;
        double values[CHECK_MOST];
        for (size_t i = 0; i < run->count; i++) {
            values[i] = figures[k].value(&run->receivers[i], run->seconds);
            shows = shows || values[i] > 0 || (values[i] == 0 && figures[k].unit[0] != '\0');
        }
        if (!shows) continue; /* nothing of the kind happened */
        printf("%-26s", figures[k].label);
        for (size_t i = 0; i < run->count; i++) {
            char text[40] = "-";
            if (values[i] >= 0) snprintf(text, sizeof text, "%.*f%s", figures[k].decimals, values[i], figures[k].unit);
            printf("%*s", run->count > 1 ? 27 : 0, text);
        }
        putchar('\n');
    }
    print_line(run, "delay is known by", put_clock);
    for (size_t i = 0; i < run->count; i++) {
        const receive *r = &run->receivers[i];
        if (r->m.all.pictures == 0) continue;
        putchar('\n');
        if (run->count > 1) printf("%c  ", (char)('A' + i));
        printf("Delay, by %s.\n", check_clock_text(r->m.clock));
        if (r->m.delay.count > 0 && r->m.delay.least_us < -1000)
            printf("Some pictures come %.0f ms before they were taken: the clocks do not agree.\n",
                   -(double)r->m.delay.least_us / 1000.0);
        if (r->m.delay.count > 0) print_bars(&r->m.delay);
    }
}

void check_print_json(const check_run *run, unsigned missed)
{
    static const char *const clocks[] = { "none", "sender-reports", "stated", "strip", "light" };
    cJSON *all = cJSON_CreateObject(), *list = cJSON_AddArrayToObject(all, "received");
    for (size_t i = 0; i < run->count; i++) {
        const receive *r = &run->receivers[i];
        cJSON *o = cJSON_CreateObject(), *steps;
        char size[16];
        size_of(r, size, sizeof size);
        cJSON_AddStringToObject(o, "address", r->to.text);
        cJSON_AddStringToObject(o, "way", r->way);
        cJSON_AddStringToObject(o, "codec", codec_of(r));
        if (r->profile[0] != '\0') cJSON_AddStringToObject(o, "profile", r->profile);
        cJSON_AddStringToObject(o, "size", size);
        if (r->sound[0] != '\0') cJSON_AddStringToObject(o, "sound", r->sound);
        cJSON_AddStringToObject(o, "delay_by", clocks[r->m.clock]);
        cJSON_AddBoolToObject(o, "failed", r->failed);
        steps = cJSON_AddObjectToObject(o, "after_ms");
        for (unsigned k = 0; k < RECEIVE_NOTE; k++)
            if (r->step_us[k] > 0)
                cJSON_AddNumberToObject(steps, receive_step_name((receive_step)k),
                                        (double)(r->step_us[k] / 10) / 100.0);
        for (size_t k = 0; k < FIGURES; k++) {
            double value = figures[k].value(r, run->seconds);
            double scale = figures[k].decimals == 0 ? 10 : 1000;
            if (value >= 0) cJSON_AddNumberToObject(o, figures[k].name, (double)(int64_t)(value * scale + 0.5) / scale);
        }
        cJSON_AddNumberToObject(o, "packets", r->m.all.packets);
        cJSON_AddNumberToObject(o, "packets-lost", r->m.all.lost);
        cJSON_AddItemToArray(list, o);
    }
    cJSON_AddNumberToObject(all, "missed", missed);
    char *text = cJSON_Print(all);
    if (text != NULL) puts(text);
    cJSON_free(text);
    cJSON_Delete(all);
}
