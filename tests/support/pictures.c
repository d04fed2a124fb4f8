#include "support/pictures.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/sim.h"
#include "support/process.h"

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
        } else if (strip.frame == out->last) {
            out->repeated++;
        } else if (strip.frame < out->last) {
            out->backward++;
        } else {
            out->missing += strip.frame - out->last - 1;
        }
        out->last = strip.frame;
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
