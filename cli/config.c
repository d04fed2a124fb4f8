/* The configuration file: an INI file, read with inih. One table says which keys there are; it checks the file, fills
 * the structures in, and prints the reference in docs/configuration.md. */
#include <ini.h>
#include <inttypes.h>
#include <stdarg.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

#include "keys.h"

#define CLI_LINE_MOST 1024 /* more than the library takes */

typedef struct reading {
    cli_config *out;
    FILE *file;
    int line;
    section section;
    char section_text[64];
    cli_camera *camera;
    cli_feed *feed;
    cli_plain *plain;
    bool section_known, failed;
    bool skips; /* the section was taken away */
    const cli_layer *over;
    char *why;
    size_t why_room;
} reading;

static int complain(reading *r, const char *fmt, ...) __attribute__((format(printf, 2, 3)));

static int complain(reading *r, const char *fmt, ...)
{
    if (r->failed) return 0;
    r->failed = true;
    va_list args;
    va_start(args, fmt);
    if (r->why != NULL) {
        vsnprintf(r->why, r->why_room, fmt, args);
    } else if (r->file == NULL) {
        fprintf(stderr, "bambino: changes over %s: ", r->out->path);
        vfprintf(stderr, fmt, args);
        fputc('\n', stderr);
    } else {
        fprintf(stderr, "bambino: %s:%d: ", r->out->path, r->line);
        vfprintf(stderr, fmt, args);
        fputc('\n', stderr);
    }
    va_end(args);
    return 0;
}

static unsigned distance(const char *a, const char *b)
{
    unsigned row[40];
    size_t n = strlen(b);
    if (n >= sizeof row / sizeof row[0] || strlen(a) > 40) return 99;
    for (size_t k = 0; k <= n; k++) row[k] = (unsigned)k;
    for (size_t i = 0; a[i] != '\0'; i++) {
        unsigned diagonal = row[0];
        row[0] = (unsigned)i + 1;
        for (size_t k = 0; k < n; k++) {
            unsigned change = diagonal + (a[i] != b[k]);
            diagonal = row[k + 1];
            unsigned least = change < row[k] + 1 ? change : row[k] + 1;
            row[k + 1] = least < diagonal + 1 ? least : diagonal + 1;
        }
    }
    return row[n];
}

const char *cli_nearest(const char *text, const char *const *names, size_t count)
{
    const char *best = NULL;
    unsigned best_distance = (unsigned)strlen(text) / 2 + 1;
    for (size_t i = 0; i < count; i++) {
        unsigned d = distance(text, names[i]);
        if (d >= best_distance) continue;
        best = names[i];
        best_distance = d;
    }
    return best;
}

static bool is_name(const char *text)
{
    size_t n = strspn(text, "abcdefghijklmnopqrstuvwxyz0123456789-_");
    return n > 0 && text[n] == '\0' && n < BMB_NAME_MAX;
}

static void new_feed(reading *r, const char *name)
{
    cli_feed *f = &r->out->feeds[r->out->feed_count++];
    memset(f, 0, sizeof *f);
    f->follow = BMB_FOLLOW_MEDIAN;
    snprintf(f->name, sizeof f->name, "%s", name);
    snprintf(f->camera, sizeof f->camera, "%s", name);
    snprintf(f->title, sizeof f->title, "%s", name);
    f->multicast_ttl = 1;
    f->night_after = 10;
    f->line = r->line;
    r->feed = f;
}

static void new_camera(reading *r, const char *name)
{
    cli_camera *c = &r->out->cameras[r->out->camera_count++];
    memset(c, 0, sizeof *c);
    snprintf(c->name, sizeof c->name, "%s", name);
    c->clip_mfps = 15000;
    c->kind = CLI_UNSAID;
    c->input_mfps = 15000;
    c->view = CLI_VIEW_UNSAID;
    c->line = r->line;
    r->camera = c;
}

/* The names and lines of the sections of one kind. */
typedef struct named_kind {
    section section;
    const void *first;
    size_t size, count, most, line_at;
} named_kind;

static named_kind kind_of(const reading *r)
{
    const cli_config *c = r->out;
    switch (r->section) {
    case SECTION_FEED:
        return (named_kind){ r->section,    c->feeds,       sizeof *c->feeds,
                             c->feed_count, CLI_FEEDS_MOST, offsetof(cli_feed, line) };
    case SECTION_TCP:
        return (
            named_kind){ r->section, c->tcp, sizeof *c->tcp, c->tcp_count, CLI_TCP_MOST, offsetof(cli_plain, line) };
    case SECTION_PUSH:
        return (named_kind){ r->section,    c->pushes,       sizeof *c->pushes,
                             c->push_count, CLI_PUSHES_MOST, offsetof(cli_plain, line) };
    default:
        return (named_kind){ r->section,      c->cameras,       sizeof *c->cameras,
                             c->camera_count, CLI_CAMERAS_MOST, offsetof(cli_camera, line) };
    }
}

static void new_plain(reading *r, const char *name)
{
    bool tcp = r->section == SECTION_TCP;
    cli_plain *p = tcp ? &r->out->tcp[r->out->tcp_count++] : &r->out->pushes[r->out->push_count++];
    memset(p, 0, sizeof *p);
    snprintf(p->name, sizeof p->name, "%s", name);
    p->ttl = 1;
    p->controls = 1;
    p->line = r->line;
    r->plain = p;
}

static const cli_change *change_of(const reading *r, section s, const char *name, const char *key)
{
    for (size_t i = 0; r->over != NULL && i < r->over->count; i++) {
        const cli_change *c = &r->over->rows[i];
        if (c->section == s && strcmp(c->name, name) == 0 && strcmp(c->key, key) == 0) return c;
    }
    return NULL;
}

static int begin_named(reading *r, const char *name)
{
    const named_kind kind = kind_of(r);
    const char *section_name = cli_section_names[r->section];
    if (!is_name(name))
        return complain(r, "\"%s\": a %s needs a name of 1 to %d of a-z 0-9 - _, as in [%s yard]", name,
                        cli_section_names[r->section], BMB_NAME_MAX - 1, cli_section_names[r->section]);
    for (size_t i = 0; i < kind.count; i++) { /* every such structure begins with its name */
        const char *there = (const char *)kind.first + i * kind.size;
        int line = *(const int *)(const void *)(there + kind.line_at);
        if (strcmp(there, name) == 0)
            return complain(r, "[%s %s] is there already, in line %d; rename one", section_name, name, line);
    }
    r->skips = change_of(r, r->section, name, "") != NULL;
    if (r->skips) return 1;
    if (kind.count == kind.most) return complain(r, "more than %zu sections [%s]", kind.most, section_name);
    if (r->section == SECTION_FEED) {
        new_feed(r, name);
    } else if (r->section == SECTION_CAMERA) {
        new_camera(r, name);
    } else {
        new_plain(r, name);
    }
    return 1;
}

static int begin_section(reading *r, const char *text)
{
    char kind[64];
    snprintf(r->section_text, sizeof r->section_text, "%s", text);
    snprintf(kind, sizeof kind, "%s", text);
    char *name = strchr(kind, ' ');
    if (name != NULL) *name++ = '\0';
    r->section_known = r->skips = false;
    for (size_t i = 0; i < SECTION_COUNT; i++) {
        if (strcmp(kind, cli_section_names[i]) != 0) continue;
        r->section = (section)i;
        r->section_known = true;
        if (i >= SECTION_CAMERA) return begin_named(r, name != NULL ? name : "");
        if (name != NULL) return complain(r, "[%s] takes no name", kind);
        return 1;
    }
    const char *near = cli_nearest(kind, cli_section_names, SECTION_COUNT);
    return complain(r, "section [%s] is not known%s%s%s", text, near != NULL ? "; did you mean [" : "",
                    near != NULL ? near : "",
                    near != NULL ? "]?" : "; there are device, network, http, rtsp, camera, feed, tcp and push");
}

/* inih tells neither line numbers nor empty sections: it is fed line by line, and both are noted on the way. */
static char *next_line(char *out, int room, void *stream)
{
    reading *r = (reading *)stream;
    char *line = fgets(out, room, r->file);
    if (line == NULL) return NULL;
    r->line++;
    if (strchr(line, '\n') == NULL && !feof(r->file)) complain(r, "the line is longer than %d characters", room - 2);
    const char *at = line + strspn(line, " \t");
    const char *end = at[0] == '[' ? strchr(at, ']') : NULL;
    if (end != NULL && end - at < 63) {
        char text[64];
        snprintf(text, sizeof text, "%.*s", (int)(end - at - 1), at + 1);
        begin_section(r, text);
    }
    return line;
}

static bool read_number(const char *text, double *out, const char **rest)
{
    char *end;
    *out = strtod(text, &end);
    *rest = end;
    return end != text && *out > -1e12 && *out < 1e12;
}

static int out_of_range(reading *r, const key_row *k, const char *value)
{
    double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
    return complain(r, "%s = %s: use %g to %g%s%s", k->key, value, (double)k->least / scale, (double)k->most / scale,
                    cli_key_unit(k)[0] != '\0' ? " " : "", cli_key_unit(k));
}

/* What flags say: 1, 0, or -1: it is no such word. */
static int flag_of(const char *value)
{
    static const char *const yes[] = { "yes", "true", "on", "1" }, *const no[] = { "no", "false", "off", "0" };
    for (size_t i = 0; i < sizeof yes / sizeof yes[0]; i++) {
        if (strcmp(value, yes[i]) == 0) return 1;
        if (strcmp(value, no[i]) == 0) return 0;
    }
    return -1;
}

static int store_number(reading *r, const key_row *k, const char *value, uint8_t *target)
{
    double v;
    const char *rest;
    if (cli_key_is_flag(k)) {
        int flag = flag_of(value);
        if (flag < 0) return complain(r, "%s = %s: yes or no is expected", k->key, value);
        *(int64_t *)(void *)target = flag;
        return 1;
    }
    if (!read_number(value, &v, &rest)) return complain(r, "%s = %s: a number is expected", k->key, value);
    if (k->type == KEY_BYTES && (rest[0] == 'K' || rest[0] == 'M')) v *= *rest++ == 'K' ? 1024 : 1048576;
    if (k->type == KEY_RATE) v *= 1000;
    bool whole = k->type == KEY_RATE || v == (double)(int64_t)v;
    if (rest[0] != '\0' || !whole)
        return complain(r, "%s = %s: a %s is expected%s", k->key, value,
                        k->type == KEY_RATE ? "number such as 15 or 7.5" : "whole number",
                        k->type == KEY_BYTES ? ", with K or M for 1024 or 1048576 bytes if you like" : "");
    if (v < (double)k->least || v > (double)k->most) return out_of_range(r, k, value);
    if (k->type == KEY_RATE) {
        *(uint32_t *)(void *)target = (uint32_t)(v + 0.5);
    } else {
        *(int64_t *)(void *)target = (int64_t)v;
    }
    return 1;
}

static int store_choice(reading *r, const key_row *k, const char *value, int *target)
{
    size_t n = 0;
    char list[128] = "";
    for (; cli_key_choices(k)[n] != NULL; n++) {
        if (strcmp(value, cli_key_choices(k)[n]) == 0) {
            *target = (int)n;
            return 1;
        }
        size_t at = strlen(list);
        snprintf(list + at, sizeof list - at, "%s%s", n > 0 ? ", " : "", cli_key_choices(k)[n]);
    }
    const char *near = cli_nearest(value, cli_key_choices(k), n);
    if (near != NULL) return complain(r, "%s = %s: did you mean %s? (one of %s)", k->key, value, near, list);
    return complain(r, "%s = %s: use one of %s", k->key, value, list);
}

static int store_size(reading *r, const key_row *k, const char *value, uint16_t *target)
{
    unsigned w, h;
    char cross, extra;
    if (sscanf(value, "%5u%c%5u%c", &w, &cross, &h, &extra) != 3 || cross != 'x')
        return complain(r, "%s = %s: WIDTHxHEIGHT is expected, such as 640x480", k->key, value);
    int64_t least = k->least, most = k->most;
    if (w < least || w > most || h < least || h > most) return out_of_range(r, k, value);
    target[0] = (uint16_t)w;
    target[1] = (uint16_t)h;
    return 1;
}

static int store_host(reading *r, const key_row *k, const char *value, bmb_addr *target)
{
    char text[CLI_TEXT_MAX];
    snprintf(text, sizeof text, "%s:0", value);
    if (bmb_addr_parse(text, target) == BMB_OK && target->family == 4) return 1;
    return complain(r, "%s = %s: the IPv4 address of an interface is expected, such as 192.0.2.7", k->key, value);
}

/* The port goes without saying. */
static int store_secure(reading *r, const key_row *k, const char *value, bmb_addr *target)
{
    char usual[16];
    int flag = flag_of(value);
    snprintf(usual, sizeof usual, ":%u", (unsigned)k->least);
    if (flag == 0) memset(target, 0, sizeof *target);
    if (flag == 0 || bmb_addr_parse(flag == 1 ? usual : value, target) == BMB_OK) return 1;
    return complain(r, "%s = %s: yes or no is expected, or ADDRESS:PORT such as :%u", k->key, value,
                    (unsigned)k->least);
}

static int store_addr(reading *r, const key_row *k, const char *value, bmb_addr *target)
{
    bool off = strcmp(value, "off") == 0 || strcmp(value, "no") == 0;
    if (off) memset(target, 0, sizeof *target);
    if (off || bmb_addr_parse(value, target) == BMB_OK) return 1;
    return complain(r, "%s = %s: ADDRESS:PORT is expected, such as 192.0.2.7:8080, [2001:db8::7]:8080 or :8080", k->key,
                    value);
}

static int store(reading *r, const key_row *k, const char *value)
{
    uint8_t *base = k->section == SECTION_CAMERA                              ? (uint8_t *)r->camera
                    : k->section == SECTION_FEED                              ? (uint8_t *)r->feed
                    : k->section == SECTION_TCP || k->section == SECTION_PUSH ? (uint8_t *)r->plain
                                                                              : (uint8_t *)r->out;
    uint8_t *target = base + k->at;
    switch (k->type) {
    case KEY_TEXT:
        if (!bmb_text_is_utf8(value, strlen(value)))
            return complain(r, "%s: this is no text in UTF-8, or it has control characters; save the file as UTF-8",
                            k->key);
        if ((int64_t)strlen(value) < k->least || (int64_t)strlen(value) > k->most)
            return complain(r, "%s: use %" PRId32 " to %" PRId32 " characters", k->key, k->least, k->most);
        memcpy(target, value, strlen(value) + 1);
        return 1;
    case KEY_NAME:
        if (!is_name(value)) return complain(r, "%s = %s: use 1 to %d of a-z 0-9 - _", k->key, value, BMB_NAME_MAX - 1);
        memcpy(target, value, strlen(value) + 1);
        return 1;
    case KEY_GROUP:
        r->feed->multicast_auto = strcmp(value, "auto") == 0;
        if (r->feed->multicast_auto) return 1;
        if (bmb_addr_parse(value, (bmb_addr *)(void *)target) == BMB_OK) return 1;
        return complain(r, "%s = %s: auto is expected, or GROUP:PORT such as 239.255.42.1:5004", k->key, value);
    case KEY_ADDR:
        return store_addr(r, k, value, (bmb_addr *)(void *)target);
    case KEY_SECURE:
        return store_secure(r, k, value, (bmb_addr *)(void *)target);
    case KEY_HOST:
        return store_host(r, k, value, (bmb_addr *)(void *)target);
    case KEY_CHOICE:
        return store_choice(r, k, value, (int *)(void *)target);
    case KEY_SIZE:
        return store_size(r, k, value, (uint16_t *)(void *)target);
    case KEY_CONTROL:
        r->feed->control_set[k->at] = true;
        return store_number(r, k, value, (uint8_t *)&r->feed->control[k->at]);
    case KEY_INT:
    case KEY_BYTES:
    case KEY_RATE:
        break;
    }
    return store_number(r, k, value, target);
}

/* Of the section that is being read. */
static const char *name_of(const reading *r)
{
    if (!cli_section_is_list(r->section)) return "";
    return r->section == SECTION_CAMERA ? r->camera->name : r->section == SECTION_FEED ? r->feed->name : r->plain->name;
}

/* A comment may stand behind a value: # or ; behind a blank, the latter of which the library takes off by itself. In
 * quotes, as commands have them, it is none. */
static void without_comment(const char *value, char *out, size_t room)
{
    size_t n = 0;
    char quote = '\0';
    for (; value[n] != '\0' && n + 1 < room; n++) {
        bool blank = n > 0 && (value[n - 1] == ' ' || value[n - 1] == '\t');
        if (quote == '\0' && value[n] == '#' && blank) break;
        if (value[n] == '"' || value[n] == '\'') quote = quote == '\0' ? value[n] : quote == value[n] ? '\0' : quote;
        out[n] = value[n];
    }
    while (n > 0 && (out[n - 1] == ' ' || out[n - 1] == '\t')) n--;
    out[n] = '\0';
}

static int on_pair(void *user, const char *section_text, const char *key, const char *said)
{
    reading *r = (reading *)user;
    char value[CLI_LINE_MOST];
    without_comment(said, value, sizeof value);
    if (r->failed) return 0;
    if (section_text[0] == '\0') return complain(r, "%s stands before any section; begin with [device]", key);
    if (!r->section_known) return 0;
    if (r->skips) return 1;
    const char *names[CLI_KEYS_MOST];
    size_t count = 0;
    const key_row *k;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
        if (k->section != r->section) continue;
        if (strcmp(k->key, key) == 0) return change_of(r, k->section, name_of(r), key) != NULL || store(r, k, value);
        names[count++] = k->key;
    }
    const char *near = cli_nearest(key, names, count);
    if (near != NULL)
        return complain(r, "[%s] has no key \"%s\"; did you mean %s?", cli_section_names[r->section], key, near);
    return complain(r, "[%s] has no key \"%s\"; docs/configuration.md lists them", cli_section_names[r->section], key);
}

static void presets(cli_config *c, const char *path)
{
    bmb_config p;
    bmb_config_init(&p);
    memset(c, 0, sizeof *c);
    snprintf(c->path, sizeof c->path, "%s", path);
    snprintf(c->device_name, sizeof c->device_name, "%s", p.name);
    c->viewers = p.viewers;
    c->spare = p.spare;
    c->events = 64;
    c->request_buffer = p.request_buffer;
    c->rtp_packet = p.rtp_packet;
    c->stall_ms = p.stall_ms;
    c->request_ms = p.request_ms;
    c->idle_ms = p.idle_ms;
    c->session_ms = p.session_ms;
    c->unsent_ms = p.unsent_ms;
    c->repeats = 1;
    c->log = BMB_LEVEL_INFO;
    c->light_style = BMB_LIGHT_STATES;
    c->cpu_percent = 80;
    c->reserve = -1;
}

/* A camera that does not say what it is, says so by its other keys. */
static void settle_sources(cli_config *c)
{
    for (size_t i = 0; i < c->camera_count; i++) {
        cli_camera *cam = &c->cameras[i];
        bool drawn = cam->view != CLI_VIEW_UNSAID || c->board[0] != '\0';
        cam->unsaid = cam->kind == CLI_UNSAID && cam->device[0] == '\0';
        if (cam->kind == CLI_UNSAID)
            cam->kind = cam->program[0] != '\0'           ? CLI_PROGRAM
                        : cam->input[0] != '\0'           ? CLI_INPUT
                        : cam->clip[0] != '\0'            ? CLI_CLIP
                        : cam->device[0] == '\0' && drawn ? CLI_DRAWN
                                                          : CLI_DEVICE;
        if (cam->view == CLI_VIEW_UNSAID) cam->view = BMB_VIEW_STATION;
    }
}

/* The section that a change is about; a new one where there is none of that name. */
static bool go_to(reading *r, const cli_change *c)
{
    r->section = (section)c->section;
    void *item = (void *)(uintptr_t)cli_section_item(r->out, r->section, c->name);
    if (item == NULL) return begin_named(r, c->name) != 0;
    if (r->section == SECTION_CAMERA) r->camera = (cli_camera *)item;
    if (r->section == SECTION_FEED) r->feed = (cli_feed *)item;
    if (r->section == SECTION_TCP || r->section == SECTION_PUSH) r->plain = (cli_plain *)item;
    return true;
}

static bool lay_over(reading *r, size_t *culprit)
{
    r->file = NULL;
    r->line = 0;
    for (size_t i = 0; r->over != NULL && i < r->over->count; i++) {
        const cli_change *c = &r->over->rows[i];
        const key_row *k = cli_key_named((section)c->section, c->key);
        if (k == NULL || c->value[0] == '\0') continue;
        *culprit = i;
        if (!go_to(r, c) || !store(r, k, c->value)) return false;
        if (r->section == SECTION_FEED) r->feed->changed = true;
    }
    *culprit = SIZE_MAX;
    return true;
}

/* Where clients connect, with how it is called. */
typedef struct place {
    const bmb_addr *addr;
    const char *what;
    const char *name;
} place;

static size_t places_of(const cli_config *c, place *out)
{
    size_t n = 0;
    const bool http = strcmp(c->http_plain, "off") != 0, rtsp = strcmp(c->rtsp_plain, "off") != 0;
    if (c->http.family != 0 && http) out[n++] = (place){ &c->http, "[http] listen", "" };
    if (c->https.family != 0) out[n++] = (place){ &c->https, "[http] secure", "" };
    if (c->rtsp.family != 0 && rtsp) out[n++] = (place){ &c->rtsp, "[rtsp] listen", "" };
    if (c->rtsps.family != 0) out[n++] = (place){ &c->rtsps, "[rtsp] secure", "" };
    for (size_t i = 0; i < c->tcp_count; i++)
        if (c->tcp[i].paused == 0) out[n++] = (place){ &c->tcp[i].listen, "[tcp] listen of ", c->tcp[i].name };
    return n;
}

static bool meet(const bmb_addr *a, const bmb_addr *b)
{
    static const uint8_t any[sizeof a->ip];
    if (a->port == 0 || a->port != b->port) return false;
    bool wide_a = memcmp(a->ip, any, sizeof any) == 0, wide_b = memcmp(b->ip, any, sizeof any) == 0;
    /* Every interface of IPv6 takes IPv4 as well. */
    if ((wide_a && a->family == 6) || (wide_b && b->family == 6)) return true;
    return a->family == b->family && (wide_a || wide_b || memcmp(a->ip, b->ip, sizeof any) == 0);
}

/* What is wrong with the whole, though each line is right. */
static void check_whole(reading *r)
{
    const cli_config *c = r->out;
    place places[4 + CLI_TCP_MOST];
    size_t count = places_of(c, places);
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < i; k++)
            if (meet(places[i].addr, places[k].addr))
                complain(r, "%s%s and %s%s have the same port %u; choose another one", places[k].what, places[k].name,
                         places[i].what, places[i].name, places[i].addr->port);
    for (size_t i = 0; i < c->feed_count; i++) {
        const cli_feed *f = &c->feeds[i];
        if (f->preview[0] == '\0' || cli_section_item(c, SECTION_FEED, f->preview) != NULL) continue;
        const char *names[CLI_FEEDS_MOST];
        for (size_t k = 0; k < c->feed_count; k++) names[k] = c->feeds[k].name;
        const char *near = cli_nearest(f->preview, names, c->feed_count);
        r->line = f->line;
        complain(r, "feed \"%s\": preview = %s: there is no such feed%s%s%s", f->name, f->preview,
                 near != NULL ? "; did you mean " : "", near != NULL ? near : "", near != NULL ? "?" : "");
    }
    for (size_t i = 0; i < c->camera_count; i++) {
        const cli_camera *cam = &c->cameras[i];
        const char *scheme = strstr(cam->input, "://");
        if (scheme == NULL || strncmp(cam->input, "tcp://", 6) == 0 || strncmp(cam->input, "udp://", 6) == 0) continue;
        r->line = cam->line;
        complain(r, "camera \"%s\": input = %s: tcp:// and udp:// can be read, %.*s:// cannot", cam->name, cam->input,
                 (int)(scheme - cam->input), cam->input);
    }
}

bool cli_config_parse(FILE *file, const char *path, cli_config *out)
{
    size_t culprit;
    return cli_config_parse_over(file, path, NULL, NULL, 0, &culprit, out);
}

bool cli_config_parse_over(FILE *file, const char *path, const cli_layer *over, char *why, size_t room, size_t *culprit,
                           cli_config *out)
{
    presets(out, path);
    *culprit = SIZE_MAX;
    reading r = { .out = out, .file = file, .over = over, .why = why, .why_room = room };
    int bad_line = ini_parse_stream(next_line, &r, on_pair, &r);
    fclose(file);
    if (bad_line > 0 && !r.failed) {
        r.line = bad_line;
        complain(&r, "neither a [section] nor KEY = VALUE");
    }
    if (!r.failed) (void)lay_over(&r, culprit);
    settle_sources(out);
    if (!r.failed && out->feed_count == 0) complain(&r, "no feed; add a section such as [feed yard]");
    bool serves = out->http.family + out->https.family + out->rtsp.family + out->rtsps.family > 0;
    if (!r.failed && !serves && out->tcp_count + out->push_count == 0)
        complain(&r, "nothing to serve with; add [http] with listen = :8080");
    if (!r.failed) check_whole(&r);
    return !r.failed;
}
