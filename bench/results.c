/* The table of results, as it comes about and as JSON. */
#include <stdio.h>

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

void results_begin(void)
{
    rows = cJSON_CreateArray();
    printf("%-62s %10s %10s %8s %8s\n", "", "ours", "floor", "ratio", "limit");
}

bool results_write(const char *path)
{
    char *text = cJSON_Print(rows);
    FILE *f = fopen(path, "w");
    if (f == NULL || fputs(text, f) < 0 || fclose(f) != 0) {
        fprintf(stderr, "bench: %s cannot be written\n", path);
        return false;
    }
    printf("\nAlso in %s\n", path);
    return true;
}
