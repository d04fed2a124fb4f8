/* bench [OUT.json [PART]]: measures what the library does against the least that any program could do, prints a table,
 * and writes the same as JSON. Nothing here fails a build: figures are for reading. */
#include <stdio.h>
#include <string.h>

#include <cjson/cJSON.h>

#include "rig.h"

static cJSON *rows;

static void add(const char *name, const char *unit, double ours, double floor, double ratio, double limit)
{
    double judged = floor > 0 ? ratio : ours;
    char floor_text[32] = "-", ratio_text[32] = "-";
    if (floor > 0) {
        snprintf(floor_text, sizeof floor_text, "%.4g", floor);
        snprintf(ratio_text, sizeof ratio_text, "%.3f", ratio);
    }
    printf("%-62s %10.4g %10s %8s %8.4g  %s\n", name, ours, floor_text, ratio_text, limit,
           judged <= limit ? "met" : "NOT MET");
    fflush(stdout);
    cJSON *row = cJSON_CreateObject();
    cJSON_AddStringToObject(row, "name", name);
    cJSON_AddStringToObject(row, "unit", unit);
    cJSON_AddNumberToObject(row, "ours", ours);
    if (floor > 0) cJSON_AddNumberToObject(row, "floor", floor);
    if (floor > 0) cJSON_AddNumberToObject(row, "ratio", ratio);
    cJSON_AddNumberToObject(row, "limit", limit);
    cJSON_AddBoolToObject(row, "met", judged <= limit);
    cJSON_AddItemToArray(rows, row);
}

void result(const char *name, const char *unit, double ours, double floor, double limit)
{
    add(name, unit, ours, floor, floor > 0 ? ours / floor : 0, limit);
}

void result_of_turns(const char *name, const char *unit, const double *ours, const double *floor, size_t turns,
                     double limit)
{
    double ratios[TURNS_MOST];
    for (size_t i = 0; i < turns; i++) ratios[i] = ours[i] / floor[i];
    double ratio = median(ratios, turns);
    add(name, unit, median(ours, turns), median(floor, turns), ratio, limit);
}

static void start(void)
{
    bench_start(BAMBINO_COMMAND);
}

static void first_picture(void)
{
    bench_first_picture(BAMBINO_COMMAND);
}

static const struct {
    const char *name;
    void (*run)(void);
} parts[] = {
    { "http", bench_http },
    { "udp", bench_udp },
    { "interleaved", bench_interleaved },
    { "ts", bench_ts },
    { "framed", bench_framed },
    { "multicast", bench_multicast },
    { "start", start },
    { "first-picture", first_picture },
};

int main(int argc, char **argv)
{
    rows = cJSON_CreateArray();
    printf("%-62s %10s %10s %8s %8s\n", "", "ours", "floor", "ratio", "limit");
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++)
        if (argc < 3 || strcmp(argv[2], parts[i].name) == 0) parts[i].run();
    if (argc < 2) return 0;
    char *text = cJSON_Print(rows);
    FILE *f = fopen(argv[1], "w");
    if (f == NULL || fputs(text, f) < 0 || fclose(f) != 0) {
        fprintf(stderr, "bench: %s cannot be written\n", argv[1]);
        return 1;
    }
    printf("\nAlso in %s\n", argv[1]);
    return 0;
}
