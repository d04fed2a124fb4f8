#include "support/pictures.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bambino/sim.h"
#include "support/process.h"

#define SLACK_US 10000u

uint32_t pictures_loop;

static int by_value(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return x < y ? -1 : x > y;
}

void pictures_read(pictures *out, uint16_t width, uint16_t height, size_t most, size_t skip, const char *command)
{
    size_t size = (size_t)width * height;
    uint8_t *luma = malloc(size);
    double *ages = malloc((most + 1) * sizeof *ages);
    size_t age_count = 0;
    memset(out, 0, sizeof *out);
    FILE *p = popen(command, "r");
    while (p != NULL && out->count < most && fread(luma, 1, size, p) == size) {
        bmb_strip strip;
        out->count++;
        if (bmb_strip_read(luma, width, width, height, &strip) != BMB_OK) {
            out->unreadable++;
            continue;
        }
        if (pictures_loop > 0) { /* where it begins again, it is so many further on */
            while (out->count - out->unreadable > 1 && strip.frame + pictures_loop / 2 < out->last)
                strip.frame += pictures_loop;
        }
        if (out->count - out->unreadable == 1) {
            out->first = strip.frame;
            out->first_us = strip.capture_us;
        } else if (strip.frame == out->last) {
            out->repeated++;
        } else if (strip.frame < out->last) {
            out->backward++;
        } else {
            out->missing += strip.frame - out->last - 1;
        }
        out->last = strip.frame;
        out->last_us = strip.capture_us;
        if (out->count > skip) ages[age_count++] = ((double)wall_now_us() - (double)strip.capture_us) / 1000.0;
    }
    if (p != NULL) pclose(p);
    qsort(ages, age_count, sizeof *ages, by_value);
    if (age_count > 0) {
        out->age_ms_median = ages[age_count / 2];
        out->age_ms_most = ages[age_count - 1];
    }
    printf("pictures: %zu decoded, %zu unreadable, %zu repeated, %zu backward, %zu missing, age median %.0f ms, most "
           "%.0f ms\n",
           out->count, out->unreadable, out->repeated, out->backward, out->missing, out->age_ms_median,
           out->age_ms_most);
    free(luma);
    free(ages);
}

/* The time on the witness's last line; 0 without one. */
static uint64_t witness_newest(const witness *w)
{
    char line[64];
    uint64_t at = 0;
    FILE *in = fopen(w->path, "r");
    while (in != NULL && fgets(line, sizeof line, in) != NULL) {
        if (isdigit((unsigned char)line[0])) at = strtoull(line, NULL, 10);
    }
    if (in != NULL) fclose(in);
    return at;
}

/* Until a picture of that time or a later one was seen; a busy machine gets ten seconds. */
static bool witness_saw(const witness *w, uint64_t at)
{
    for (int i = 0; i < 100 && witness_newest(w) < at; i++) usleep(100000);
    return witness_newest(w) >= at;
}

bool witness_start(witness *w, uint16_t port, const char *feed)
{
    char command[512];
    strcpy(w->path, "/tmp/bambino-witness-XXXXXX");
    int fd = mkstemp(w->path);
    if (fd < 0) return false;
    close(fd);
    snprintf(command, sizeof command, "exec python3 " BAMBINO_SOURCE "/tests/e2e/handed_out.py %u %s >%s", port, feed,
             w->path);
    w->reader = popen(command, "w");
    return w->reader != NULL && witness_saw(w, 1);
}

/* The strip's clock and the protocol's are read one after the other, and a busy machine may come between: the nearest
 * is meant, not the same. */
static size_t distance(uint64_t a, uint64_t b)
{
    return (size_t)(a > b ? a - b : b - a);
}

size_t witness_missed(witness *w, const pictures *p)
{
    char line[64];
    size_t at = 0, left_out, first = 0, last = 0, to_first = SIZE_MAX, to_last = SIZE_MAX;
    bool whole = p->count > p->unreadable && witness_saw(w, p->last_us - SLACK_US);
    pclose(w->reader);
    FILE *in = fopen(w->path, "r");
    while (in != NULL && fgets(line, sizeof line, in) != NULL) {
        if (sscanf(line, "skipped %zu", &left_out) == 1) at += left_out; /* not for it, but the feed had them */
        if (!isdigit((unsigned char)line[0])) continue;
        uint64_t taken = strtoull(line, NULL, 10);
        if (distance(taken, p->first_us) < to_first) to_first = distance(taken, p->first_us), first = at;
        if (distance(taken, p->last_us) < to_last) to_last = distance(taken, p->last_us), last = at;
        at++;
    }
    if (in != NULL) fclose(in);
    unlink(w->path);
    size_t seen = last - first + 1, read = p->count - p->unreadable - p->repeated - p->backward;
    printf("the feed had %zu in that time, another reader says\n", seen);
    if (!whole) return SIZE_MAX;
    return seen > read && p->missing > 0 ? seen - read : 0;
}
