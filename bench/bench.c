/* bench OUT.json: measures what the library does against the least that any program could do, prints a table, and
 * writes the same as JSON. Nothing here fails a build: figures are for reading. */
#include <stdio.h>

#include <cjson/cJSON.h>

#include "rig.h"

static cJSON *rows;

void result(const char *name, const char *unit, double ours, double floor, double limit)
{
    double judged = floor > 0 ? ours / floor : ours;
    char floor_text[32] = "-", ratio[32] = "-";
    if (floor > 0) {
        snprintf(floor_text, sizeof floor_text, "%.4g", floor);
        snprintf(ratio, sizeof ratio, "%.3f", ours / floor);
    }
    printf("%-58s %10.4g %10s %8s %8.4g  %s\n", name, ours, floor_text, ratio, limit,
           judged <= limit ? "met" : "NOT MET");
    fflush(stdout);
    cJSON *row = cJSON_CreateObject();
    cJSON_AddStringToObject(row, "name", name);
    cJSON_AddStringToObject(row, "unit", unit);
    cJSON_AddNumberToObject(row, "ours", ours);
    if (floor > 0) cJSON_AddNumberToObject(row, "floor", floor);
    if (floor > 0) cJSON_AddNumberToObject(row, "ratio", ours / floor);
    cJSON_AddNumberToObject(row, "limit", limit);
    cJSON_AddBoolToObject(row, "met", judged <= limit);
    cJSON_AddItemToArray(rows, row);
}

int main(int argc, char **argv)
{
    rows = cJSON_CreateArray();
    printf("%-58s %10s %10s %8s %8s\n", "", "ours", "floor", "ratio", "limit");
    bench_http();
    bench_rtp();
    bench_start(BAMBINO_COMMAND);
    bench_first_picture(BAMBINO_COMMAND);
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
