/* Facts about the machine, for the page: as far as the system tells them. */
#include <cjson/cJSON.h>
#include <dirent.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/statvfs.h>
#include <sys/utsname.h>
#include <unistd.h>

#include "bambino/version.h"
#include "settings.h"

/* A number behind a word at the beginning of a line of a file. */
static bool number_in(const char *path, const char *word, double *out)
{
    char line[256];
    bool found = false;
    FILE *f = fopen(path, "r");
    while (f != NULL && !found && fgets(line, sizeof line, f) != NULL) {
        size_t n = strlen(word);
        if (strncmp(line, word, n) != 0) continue;
        *out = strtod(line + n, NULL);
        found = true;
    }
    if (f != NULL) fclose(f);
    return found;
}

/* What the board calls itself: a device tree's model, or a computer's. */
static bool model(char *out, size_t room)
{
    static const char *const paths[] = { "/proc/device-tree/model", "/sys/class/dmi/id/product_name" };
    for (size_t i = 0; i < 2; i++) {
        FILE *f = fopen(paths[i], "r");
        size_t n = f != NULL ? fread(out, 1, room - 1, f) : 0;
        if (f != NULL) fclose(f);
        out[n] = '\0';
        out[strcspn(out, "\n")] = '\0';
        if (out[0] != '\0') return true;
    }
    return false;
}

/* The hottest of what the system measures. */
static bool temperature(double *out)
{
    char path[64];
    bool found = false;
    for (int i = 0; i < 16; i++) {
        double milli;
        snprintf(path, sizeof path, "/sys/class/thermal/thermal_zone%d/temp", i);
        if (!number_in(path, "", &milli) || milli <= 0) continue;
        if (!found || milli / 1000.0 > *out) *out = milli / 1000.0;
        found = true;
    }
    return found;
}

static double processor_seconds(void)
{
    struct rusage u;
    getrusage(RUSAGE_SELF, &u);
    return (double)(u.ru_utime.tv_sec + u.ru_stime.tv_sec) + (double)(u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
}

/* Since the last look, and over at least a second. */
static void add_processor(cJSON *o, cli_device *d)
{
    cli_settings *s = d->layers;
    uint64_t now = d->port.now_us(d->port.ctx);
    double used = processor_seconds();
    if (s->cpu_us == 0 || now < s->cpu_us + 1000000) {
        if (s->cpu_us == 0) s->cpu = used;
        if (s->cpu_us == 0) s->cpu_us = now;
    } else {
        s->cpu_percent = (used - s->cpu) * 100e6 / (double)(now - s->cpu_us);
        s->cpu = used;
        s->cpu_us = now;
    }
    cJSON_AddNumberToObject(o, "processor_percent", (double)(int)(s->cpu_percent * 10) / 10);
    cJSON_AddNumberToObject(o, "processors", (double)sysconf(_SC_NPROCESSORS_ONLN));
}

static void add_memory(cJSON *o)
{
    double kib;
    if (number_in("/proc/meminfo", "MemTotal:", &kib)) cJSON_AddNumberToObject(o, "memory_bytes", kib * 1024);
    if (number_in("/proc/meminfo", "MemAvailable:", &kib)) cJSON_AddNumberToObject(o, "memory_free_bytes", kib * 1024);
    if (number_in("/proc/self/status", "VmRSS:", &kib)) cJSON_AddNumberToObject(o, "program_bytes", kib * 1024);
}

static void add_storage(cJSON *o, const cli_device *d)
{
    char path[2 * CLI_TEXT_MAX + 2] = "/";
    struct statvfs v;
    if (d->file.state[0] != '\0') cli_beside(&d->file, d->file.state, path, sizeof path);
    if (statvfs(path, &v) != 0) return;
    cJSON_AddNumberToObject(o, "storage_bytes", (double)v.f_blocks * (double)v.f_frsize);
    cJSON_AddNumberToObject(o, "storage_free_bytes", (double)v.f_bavail * (double)v.f_frsize);
}

/* Of each interface that is up: the speed of a cable, the quality of radio. */
static void add_links(cJSON *o)
{
    cJSON *list = cJSON_AddArrayToObject(o, "links");
    DIR *folder = opendir("/sys/class/net");
    const struct dirent *e;
    while (folder != NULL && (e = readdir(folder)) != NULL) {
        char path[300], state[16] = "", word[300];
        double value;
        if (e->d_name[0] == '.' || strcmp(e->d_name, "lo") == 0 || strlen(e->d_name) > 30) continue;
        snprintf(path, sizeof path, "/sys/class/net/%s/operstate", e->d_name);
        FILE *f = fopen(path, "r");
        if (f != NULL && fgets(state, sizeof state, f) == NULL) state[0] = '\0';
        if (f != NULL) fclose(f);
        if (strncmp(state, "up", 2) != 0) continue;
        cJSON *link = cJSON_CreateObject();
        cJSON_AddStringToObject(link, "name", e->d_name);
        snprintf(path, sizeof path, "/sys/class/net/%s/speed", e->d_name);
        if (number_in(path, "", &value) && value > 0) cJSON_AddNumberToObject(link, "mbps", value);
        snprintf(word, sizeof word, "%6s: 0000", e->d_name);
        if (number_in("/proc/net/wireless", word, &value)) cJSON_AddNumberToObject(link, "radio_quality", value);
        cJSON_AddItemToArray(list, link);
    }
    if (folder != NULL) closedir(folder);
}

cJSON *cli_machine(cli_device *d)
{
    cJSON *o = cJSON_CreateObject();
    struct utsname u;
    char text[100];
    double value;
    bmb_device_stats stats;
    bmb_device_stats_get(d->device, &stats);
    if (d->has_board) {
        cJSON_AddStringToObject(o, "model", d->board_data.name);
    } else if (model(text, sizeof text)) {
        cJSON_AddStringToObject(o, "model", text);
    }
    if (uname(&u) == 0) {
        cJSON_AddStringToObject(o, "host", u.nodename);
        snprintf(text, sizeof text, "%.40s %.40s", u.sysname, u.machine);
        cJSON_AddStringToObject(o, "system", text);
    }
    cJSON_AddStringToObject(o, "program", "bambino " BMB_VERSION);
    cJSON_AddNumberToObject(o, "uptime_s", (double)(stats.uptime_us / 1000000));
    if (number_in("/proc/uptime", "", &value)) cJSON_AddNumberToObject(o, "system_uptime_s", (double)(long)value);
    add_processor(o, d);
    cJSON_AddNumberToObject(o, "reserved_bytes", (double)stats.memory_most);
    cJSON_AddNumberToObject(o, "spare_bytes", (double)stats.spare);
    add_memory(o);
    add_storage(o, d);
    add_links(o);
    if (temperature(&value)) cJSON_AddNumberToObject(o, "temperature_c", (double)(int)(value * 10) / 10);
    return o;
}
