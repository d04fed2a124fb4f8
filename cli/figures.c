/* The line of figures: JSON, one object in one line, so that lines of several boards make a table. */
#include "figures.h"

#include <cjson/cJSON.h>
#include <errno.h>
#include <fcntl.h>
#include <math.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli.h"

#define MARK "bambino-figures" /* the member that says what the line is; its value is the format's version */
#define FORMAT 1
#define LINE_MOST 4096u
#define NS_MOST 1e9 /* a second for a pixel or a byte: no machine */

static const struct {
    const char *name;
    size_t at;
} numbers[] = {
    { "jpeg_ns_per_pixel", offsetof(cli_figures, jpeg_pixel) },
    { "h264_ns_per_pixel", offsetof(cli_figures, h264_pixel) },
    { "jpeg_decode_ns_per_pixel", offsetof(cli_figures, decode_pixel) },
    { "take_ns_per_frame", offsetof(cli_figures, take_frame) },
    { "take_ns_per_byte", offsetof(cli_figures, take_byte) },
    { "http_ns_per_frame", offsetof(cli_figures, http_frame) },
    { "http_ns_per_byte", offsetof(cli_figures, http_byte) },
    { "rtp_ns_per_frame", offsetof(cli_figures, rtp_frame) },
    { "rtp_ns_per_byte", offsetof(cli_figures, rtp_byte) },
};
#define NUMBERS (sizeof numbers / sizeof numbers[0])

char *cli_figures_text(const cli_figures *f)
{
    cJSON *o = cJSON_CreateObject();
    cJSON_AddNumberToObject(o, MARK, FORMAT);
    cJSON_AddStringToObject(o, "name", f->name);
    cJSON_AddStringToObject(o, "version", f->version);
    cJSON_AddNumberToObject(o, "cores", f->cores);
    for (size_t i = 0; i < NUMBERS; i++) {
        double value;
        memcpy(&value, (const char *)f + numbers[i].at, sizeof value);
        if (value >= 0) cJSON_AddNumberToObject(o, numbers[i].name, round(value * 1000) / 1000);
    }
    char *text = cJSON_PrintUnformatted(o);
    cJSON_Delete(o);
    return text;
}

static bool take(const cJSON *o, cli_figures *out)
{
    const cJSON *name = cJSON_GetObjectItemCaseSensitive(o, "name"),
                *version = cJSON_GetObjectItemCaseSensitive(o, "version"),
                *cores = cJSON_GetObjectItemCaseSensitive(o, "cores"),
                *mark = cJSON_GetObjectItemCaseSensitive(o, MARK);
    *out = (cli_figures){ .cores = 1 };
    if (!cJSON_IsNumber(mark) || mark->valueint != FORMAT) return false;
    if (cJSON_IsString(name)) snprintf(out->name, sizeof out->name, "%s", name->valuestring);
    if (cJSON_IsString(version)) snprintf(out->version, sizeof out->version, "%s", version->valuestring);
    if (cJSON_IsNumber(cores) && cores->valueint > 0) out->cores = cores->valueint;
    for (size_t i = 0; i < NUMBERS; i++) {
        const cJSON *n = cJSON_GetObjectItemCaseSensitive(o, numbers[i].name);
        if (n == NULL) continue;
        if (!cJSON_IsNumber(n) || !(n->valuedouble >= 0 && n->valuedouble < NS_MOST)) return false;
        memcpy((char *)out + numbers[i].at, &n->valuedouble, sizeof n->valuedouble);
    }
    return true;
}

bool cli_figures_read(const char *path, cli_figures *out)
{
    char line[LINE_MOST];
    struct stat s;
    int fd =
        open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK); /* a pipe that nobody writes to must not hold up the start */
    if (fd < 0 || fstat(fd, &s) != 0) {
        cli_error("%s cannot be read: %s", path, strerror(errno));
        if (fd >= 0) close(fd);
        return false;
    }
    FILE *file = S_ISREG(s.st_mode) ? fdopen(fd, "r") : NULL;
    bool there = file != NULL && fgets(line, sizeof line, file) != NULL;
    if (file == NULL) {
        close(fd);
    } else {
        fclose(file);
    }
    cJSON *o = there ? cJSON_Parse(line) : NULL;
    bool good = cJSON_IsObject(o) && take(o, out);
    cJSON_Delete(o);
    if (!good) cli_error("%s has no line of `bambino measure`", path);
    return good;
}

bool cli_figures_load(cli_device *d, const char *asked)
{
    char path[1024];
    if (asked == NULL && d->file.figures[0] == '\0') return true;
    if (asked == NULL) cli_beside(&d->file, d->file.figures, path, sizeof path);
    free(d->figures);
    d->figures = malloc(sizeof *d->figures);
    if (d->figures != NULL && cli_figures_read(asked != NULL ? asked : path, d->figures)) return true;
    free(d->figures);
    d->figures = NULL;
    return false;
}
