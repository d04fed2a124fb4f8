/* Board descriptions: INI files, read with inih. One table says which keys there are. */
#include <ini.h>
#include <stdarg.h>
#include <stdio.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/board.h"

typedef enum value_kind { TEXT, BYTES, NUMBER, FLAG, NAME } value_kind;

typedef struct row {
    const char *section, *key;
    value_kind kind;
    size_t at, room;
} row;

#define MEMBER(kind, member) kind, offsetof(bmb_board, member), sizeof((bmb_board *)0)->member
static const row rows[] = {
    { "board", "name", MEMBER(NAME, name) },
    { "board", "title", MEMBER(TEXT, title) },
    { "board", "processor", MEMBER(TEXT, processor) },
    { "board", "ram-internal", MEMBER(BYTES, ram_internal) },
    { "board", "ram-external", MEMBER(BYTES, ram_external) },
    { "board", "storage", MEMBER(BYTES, storage) },
    { "board", "flash", MEMBER(BYTES, flash) },
    { "board", "speed-percent", MEMBER(NUMBER, cpu_percent) },
    { "board", "status-light", MEMBER(FLAG, status_light) },
    { "board", "illumination", MEMBER(FLAG, illumination) },
    { "board", "streams", MEMBER(NUMBER, streams) },
    { "board", "connectors", MEMBER(NUMBER, connectors) },
    { "board", "h264", MEMBER(FLAG, h264) },
    { "wiring", "name", MEMBER(TEXT, wiring) },
    { "wiring", "pins", MEMBER(TEXT, pins) },
    { "sensor", "model", MEMBER(TEXT, sensor.model) },
    { "sensor", "identity", MEMBER(NUMBER, sensor.identity) },
    { "link", "radio", MEMBER(FLAG, link.radio) },
    { "link", "kbps", MEMBER(NUMBER, link.kbps) },
    { "link", "delay-ms", MEMBER(NUMBER, link.delay_ms) },
    { "link", "jitter-ms", MEMBER(NUMBER, link.jitter_ms) },
    { "link", "loss-per-1000", MEMBER(NUMBER, link.loss_1000) },
    { "link", "drop-every-s", MEMBER(NUMBER, link.drop_every_s) },
    { "link", "drop-ms", MEMBER(NUMBER, link.drop_ms) },
    { "link", "seed", MEMBER(NUMBER, link.seed) },
    { "link", "ssid", MEMBER(TEXT, ssid) },
    { "link", "passphrase", MEMBER(TEXT, passphrase) },
};
#define ROWS (sizeof rows / sizeof rows[0])

typedef struct reading {
    bmb_board *out;
    char *why;
    size_t room;
    bmb_mode_row modes[BMB_SIM_MODES];
    uint8_t mode_count;
    bool failed;
} reading;

static int complain(reading *r, const char *format, ...) __attribute__((format(printf, 2, 3)));

static int complain(reading *r, const char *format, ...)
{
    va_list args;
    if (r->failed) return 0;
    r->failed = true;
    va_start(args, format);
    vsnprintf(r->why, r->room, format, args);
    va_end(args);
    return 0;
}

static bool read_number(const char *text, bool bytes, uint32_t *out)
{
    char *end;
    double v = (double)strtoul(text, &end, 0);
    if (end == text || text[0] == '-') return false;
    if (bytes && (*end == 'K' || *end == 'M')) v *= *end++ == 'K' ? 1024 : 1048576;
    if (*end != '\0' || v > UINT32_MAX) return false;
    *out = (uint32_t)v;
    return true;
}

/* "WIDTHxHEIGHT@RATE", the most frames per second at that size. */
static int add_mode(reading *r, const char *value)
{
    unsigned w, h;
    double rate;
    char extra;
    if (sscanf(value, "%5ux%5u@%lf%c", &w, &h, &rate, &extra) != 3 || w < 16 || h < 16 || w > 4096 || h > 3072 ||
        rate < 1 || rate > 240)
        return complain(r, "mode = %s: WIDTHxHEIGHT@RATE is expected, such as 640x480@25", value);
    if (r->mode_count == BMB_SIM_MODES) return complain(r, "more than %d modes", BMB_SIM_MODES);
    r->modes[r->mode_count++] = (bmb_mode_row){ .width = (uint16_t)w, .height = (uint16_t)h };
    r->modes[r->mode_count - 1].mfps_most = (uint32_t)(rate * 1000 + 0.5);
    return 1;
}

/* "LEAST..MOST step STEP preset PRESET" */
static int add_control(reading *r, const char *name, const char *value)
{
    bmb_range range = { .step = 1 };
    for (int c = 0; c < BMB_CONTROL_COUNT; c++) {
        if (strcmp(bmb_control_name((bmb_control)c), name) != 0) continue;
        int n = 0;
        if (sscanf(value, "%d..%d step %d preset %d%n", &range.least, &range.most, &range.step, &range.preset, &n) !=
                4 ||
            value[n] != '\0' || range.least > range.most || range.step < 1 || range.preset < range.least ||
            range.preset > range.most)
            return complain(r, "%s = %s: LEAST..MOST step STEP preset PRESET is expected", name, value);
        r->out->sensor.controls[c] = range;
        return 1;
    }
    return complain(r, "[controls] has no control \"%s\"", name);
}

static int on_pair(void *user, const char *section, const char *key, const char *value)
{
    reading *r = (reading *)user;
    if (r->failed) return 0;
    if (strcmp(section, "controls") == 0) return add_control(r, key, value);
    if (strcmp(section, "sensor") == 0 && strcmp(key, "mode") == 0) return add_mode(r, value);
    for (size_t i = 0; i < ROWS; i++) {
        if (strcmp(rows[i].section, section) != 0 || strcmp(rows[i].key, key) != 0) continue;
        uint8_t *target = (uint8_t *)r->out + rows[i].at;
        uint32_t number = 0;
        if (rows[i].kind == TEXT || rows[i].kind == NAME) {
            if (strlen(value) >= rows[i].room) return complain(r, "%s: at most %zu characters", key, rows[i].room - 1);
            memcpy(target, value, strlen(value) + 1);
            return 1;
        }
        if (!read_number(value, rows[i].kind == BYTES, &number))
            return complain(r, "%s = %s: a number is expected", key, value);
        if (rows[i].kind == FLAG) {
            if (number > 1) return complain(r, "%s = %s: use 0 or 1", key, value);
            *(bool *)target = number != 0;
        } else {
            memcpy(target, &number, sizeof number);
        }
        return 1;
    }
    return complain(r, "[%s] has no key \"%s\"; docs/boards.md lists them", section, key);
}

static void spread_modes(const reading *r, bmb_sim_sensor *sensor)
{
    uint8_t n = 0;
    for (int codec = 0; codec < BMB_CODEC_COUNT; codec++) {
        if (codec == BMB_CODEC_H264 && !r->out->h264) continue;
        for (uint8_t i = 0; i < r->mode_count; i++, n++) {
            sensor->modes[n] = r->modes[i];
            sensor->modes[n].codec = (bmb_codec)codec;
        }
        sensor->mode_count[codec] = r->mode_count;
    }
}

bmb_err bmb_board_load(const char *path, bmb_board *out, char *why, size_t room)
{
    reading r = { .out = out, .why = why, .room = room };
    memset(out, 0, sizeof *out);
    out->cpu_percent = 100;
    out->connectors = out->streams = 1;
    int line = ini_parse(path, on_pair, &r);
    if (line < 0) {
        snprintf(why, room, "the board description cannot be read");
        return BMB_NOT_FOUND;
    }
    if (line > 0 && !r.failed) complain(&r, "line %d is neither a [section] nor KEY = VALUE", line);
    if (out->name[0] == '\0') complain(&r, "[board] needs a name");
    if (r.mode_count == 0) complain(&r, "[sensor] needs at least one mode");
    if (out->ram_internal == 0) complain(&r, "[board] needs ram-internal");
    if (r.failed) return BMB_BAD_DATA;
    spread_modes(&r, &out->sensor);
    return BMB_OK;
}
