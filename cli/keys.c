/* The table of keys, and what can be said of each. */
#include "keys.h"

#include <inttypes.h>
#include <stddef.h>
#include <string.h>

const char *const cli_section_names[SECTION_COUNT] = { "device", "network", "http", "rtsp", "tls",
                                                       "camera", "feed",    "tcp",  "push" };

static const char *const kinds[] = { "drawn", "clip", "device", "program", "input", NULL };
static const char *const views[] = { "station", "yard", "cab", NULL };
static const char *const codecs[] = { "jpeg", "h264", NULL };
static const char *const feed_codecs[] = { "auto", "jpeg", "h264", NULL };
static const char *tcp_formats[BMB_FORMAT_COUNT + 2], *push_formats[BMB_FORMAT_COUNT + 2]; /* filled from the formats */
static const char *const styles[] = { "off", "states", "viewed", "frames", NULL };
static const char *const intake_formats[] = { "auto", "jpeg", "h264", "i420",  "nv12",
                                              "yuyv", "uyvy", "grey", "rgb24", NULL };
static const char *const follows[] = { "nobody", "median", "slowest", NULL };
static const char *const levels[] = { "error", "warning", "info", "debug", NULL };
static const char *const anybodies[] = { "auto", "nothing", "watch", "adjust", NULL };
static const char *const storages[] = { "auto", "kept", "borrowed", NULL };

#define DEVICE(member) offsetof(cli_config, member)
#define CAMERA(member) offsetof(cli_camera, member)
#define FEED(member) offsetof(cli_feed, member)
#define PLAIN(member) offsetof(cli_plain, member)

/* Which words a key takes. */
enum {
    NO_CHOICES,
    CHOICES_KINDS,
    CHOICES_VIEWS,
    CHOICES_CODECS,
    CHOICES_FEED_CODECS,
    CHOICES_STYLES,
    CHOICES_INTAKE_FORMATS,
    CHOICES_FOLLOWS,
    CHOICES_LEVELS,
    CHOICES_ANYBODIES,
    CHOICES_STORAGES,
    CHOICES_TCP_FORMATS,
    CHOICES_PUSH_FORMATS
};
static const char *const *const choices[] = { NULL,     kinds,          views,       codecs, feed_codecs,
                                              styles,   intake_formats, follows,     levels, anybodies,
                                              storages, tcp_formats,    push_formats };

/* The texts of all rows, one behind the other: a row says where its own begin. A pointer would cost each row 32 bytes
 * of a program that may be loaded anywhere. */
#define ROW_TEXT_OF(line) row_##line
#define ROW_TEXT(line) ROW_TEXT_OF(line)
#define KEY(section, key, type, at, least, most, choice, unit, preset, help)                                           \
    char ROW_TEXT(__LINE__)[sizeof(unit "\0" preset "\0" help)];
typedef struct row_texts {
#include "key_rows.h"
} row_texts;
#undef KEY
#define KEY(section, key, type, at, least, most, choice, unit, preset, help) unit "\0" preset "\0" help,
static const row_texts texts = {
#include "key_rows.h"
};
#undef KEY
_Static_assert(sizeof texts <= UINT16_MAX, "a row's `says` reaches all texts");

#define KEY(section, key, type, at, least, most, choice, unit, preset, help)                                           \
    { key, section, type, at, least, most, offsetof(row_texts, ROW_TEXT(__LINE__)), choice },
static const key_row keys[] = {
#include "key_rows.h"
};
#undef KEY
#define KEY_COUNT (sizeof keys / sizeof keys[0])

const key_row *cli_key_at(size_t index)
{
    (void)cli_format_names(false); /* fills in the formats' names */
    (void)cli_format_names(true);
    return index < KEY_COUNT ? &keys[index] : NULL;
}

const char *cli_key_unit(const key_row *k)
{
    return (const char *)&texts + k->says;
}

const char *cli_key_preset(const key_row *k)
{
    const char *unit = cli_key_unit(k);
    return unit + strlen(unit) + 1;
}

const char *cli_key_help(const key_row *k)
{
    const char *preset = cli_key_preset(k);
    return preset + strlen(preset) + 1;
}

const char *const *cli_key_choices(const key_row *k)
{
    return choices[k->choice];
}

const key_row *cli_key_named(section s, const char *key)
{
    const key_row *k;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++)
        if (k->section == s && strcmp(k->key, key) == 0) return k;
    return NULL;
}

bool cli_section_named(const char *name, section *out)
{
    for (int i = 0; i < SECTION_COUNT; i++) {
        if (strcmp(name, cli_section_names[i]) != 0) continue;
        *out = (section)i;
        return true;
    }
    return false;
}

bool cli_key_is_number(const key_row *k)
{
    return k->type == KEY_INT || k->type == KEY_BYTES || k->type == KEY_RATE || k->type == KEY_CONTROL;
}

static bool is_one_of(const key_row *k, section s, const char *const *names)
{
    for (size_t i = 0; k->section == s && names[i] != NULL; i++)
        if (strcmp(k->key, names[i]) == 0) return true;
    return false;
}

bool cli_key_is_flag(const key_row *k)
{
    return strcmp(cli_key_unit(k), "0 or 1") == 0;
}

bool cli_key_is_local(const key_row *k)
{
    static const char *const of_device[] = { "board", "wiring", "state",      "secrets", "figures",
                                             "users", "pages",  "light-file", NULL };
    static const char *const of_camera[] = { "source", "device", "clip", "program", "shell", "input", NULL };
    static const char *const of_push[] = { "sdp", NULL };
    return k->section == SECTION_TLS || is_one_of(k, SECTION_DEVICE, of_device) ||
           is_one_of(k, SECTION_CAMERA, of_camera) || is_one_of(k, SECTION_PUSH, of_push);
}

bool cli_key_is_dangerous(const key_row *k)
{
    static const char *const of_device[] = { "anybody", "names", "memory", "request-buffer", NULL };
    static const char *const of_network[] = { "ssid", NULL };
    return k->section == SECTION_HTTP || is_one_of(k, SECTION_NETWORK, of_network) ||
           is_one_of(k, SECTION_DEVICE, of_device);
}

bool cli_key_is_adjusted(const key_row *k)
{
    static const char *const of_feed[] = { "size",         "rate",        "quality-least",
                                           "quality-most", "night-below", "day-above",
                                           "night-after",  "night-light", NULL };
    return k->type == KEY_CONTROL || is_one_of(k, SECTION_FEED, of_feed);
}

key_effect cli_key_effect(const key_row *k)
{
    static const char *const live[] = { "name",    "log",       "cpu-percent",  "figures",      "anybody",
                                        "names",   "origins",   "embed",        "stall-ms",     "request-ms",
                                        "idle-ms", "unsent-ms", "host-viewers", "status-light", NULL };
    static const char *const network[] = { "uplink-kbps", "announce", NULL };
    static const char *const gap[] = { "size", "rate", "frame-max", "reel", "storage", NULL };
    static const char *const own[] = { "camera",           "codec", "paused", "multicast", "multicast-ttl",
                                       "multicast-parity", NULL };
    switch (k->section) {
    case SECTION_DEVICE:
        return is_one_of(k, SECTION_DEVICE, live) ? EFFECT_NOTHING : EFFECT_ALL;
    case SECTION_NETWORK:
        return is_one_of(k, SECTION_NETWORK, network) ? EFFECT_NOTHING : EFFECT_ALL;
    case SECTION_HTTP:
    case SECTION_RTSP:
        return strcmp(k->key, "listen") == 0 ? EFFECT_OWN : EFFECT_ALL;
    case SECTION_FEED:
        return is_one_of(k, SECTION_FEED, own)   ? EFFECT_OWN
               : is_one_of(k, SECTION_FEED, gap) ? EFFECT_GAP
                                                 : EFFECT_NOTHING;
    case SECTION_TCP:
    case SECTION_PUSH:
        return EFFECT_OWN;
    default:
        return EFFECT_ALL;
    }
}

const char *cli_key_notice(const key_row *k)
{
    static const char *const names[] = { "nothing", "gap", "new-connection", "all-new" };
    return names[cli_key_effect(k)];
}

const void *cli_section_item(const cli_config *c, section s, const char *name)
{
    if (!cli_section_is_list(s)) return c;
    for (size_t i = 0; s == SECTION_CAMERA && i < c->camera_count; i++)
        if (strcmp(c->cameras[i].name, name) == 0) return &c->cameras[i];
    for (size_t i = 0; s == SECTION_FEED && i < c->feed_count; i++)
        if (strcmp(c->feeds[i].name, name) == 0) return &c->feeds[i];
    for (size_t i = 0; s == SECTION_TCP && i < c->tcp_count; i++)
        if (strcmp(c->tcp[i].name, name) == 0) return &c->tcp[i];
    for (size_t i = 0; s == SECTION_PUSH && i < c->push_count; i++)
        if (strcmp(c->pushes[i].name, name) == 0) return &c->pushes[i];
    return NULL;
}

static bool addr_text(const key_row *k, const bmb_addr *addr, char *out, size_t room)
{
    if (addr->family == 0) return false;
    (void)bmb_addr_text(addr, k->type != KEY_HOST, out, room);
    return true;
}

bool cli_key_text(const key_row *k, const void *item, char *out, size_t room)
{
    const uint8_t *at = (const uint8_t *)item + (k->type == KEY_CONTROL ? 0 : k->at);
    const cli_feed *feed = (const cli_feed *)item;
    switch (k->type) {
    case KEY_TEXT:
    case KEY_NAME:
        snprintf(out, room, "%s", (const char *)at);
        return at[0] != 0;
    case KEY_RATE:
        snprintf(out, room, "%.10g", (double)*(const uint32_t *)(const void *)at / 1000.0);
        return *(const uint32_t *)(const void *)at != 0;
    case KEY_SIZE:
        snprintf(out, room, "%ux%u", ((const uint16_t *)(const void *)at)[0], ((const uint16_t *)(const void *)at)[1]);
        return *(const uint16_t *)(const void *)at != 0;
    case KEY_GROUP:
        if (feed->multicast_auto) snprintf(out, room, "auto");
        return feed->multicast_auto || addr_text(k, (const bmb_addr *)(const void *)at, out, room);
    case KEY_ADDR:
    case KEY_SECURE:
    case KEY_HOST:
        return addr_text(k, (const bmb_addr *)(const void *)at, out, room);
    case KEY_CHOICE:
        if (*(const int *)(const void *)at < 0) return false;
        snprintf(out, room, "%s", cli_key_choices(k)[*(const int *)(const void *)at]);
        return true;
    case KEY_CONTROL:
        snprintf(out, room, "%" PRId64, feed->control[k->at]);
        return feed->control_set[k->at];
    default:
        break;
    }
    int64_t value = *(const int64_t *)(const void *)at;
    snprintf(out, room, "%" PRId64, value);
    return value >= k->least; /* below: nothing was said */
}

void cli_key_values(const key_row *k, char *out, size_t room)
{
    double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
    const char *words = k->type == KEY_TEXT || k->type == KEY_NAME                           ? "text"
                        : k->type == KEY_ADDR || k->type == KEY_GROUP || k->type == KEY_HOST ? "address"
                        : k->type == KEY_SECURE                                              ? "`yes`, address"
                                                                                             : "";
    (void)cli_format_names(false);
    (void)cli_format_names(true);
    snprintf(out, room, "%s", words);
    if (words[0] == '\0' && k->type != KEY_CHOICE)
        snprintf(out, room, "%.10g to %.10g", (double)k->least / scale, (double)k->most / scale);
    for (size_t c = 0; cli_key_choices(k) != NULL && cli_key_choices(k)[c] != NULL; c++) {
        size_t at = strlen(out);
        snprintf(out + at, room - at, "%s`%s`", at > 0 ? ", " : "", cli_key_choices(k)[c]);
    }
}

void cli_config_reference(FILE *out)
{
    char values[512];
    static const char *const titles[SECTION_COUNT] = { "[device]",    "[network]",  "[http]",
                                                       "[rtsp]",      "[tls]",      "[camera NAME]",
                                                       "[feed NAME]", "[tcp NAME]", "[push NAME]" };
    for (size_t s = 0; s < SECTION_COUNT; s++) {
        fprintf(out, "### `%s`\n\n| key | values | unit | preset | meaning |\n| --- | --- | --- | --- | --- |\n",
                titles[s]);
        for (size_t i = 0; i < KEY_COUNT; i++) {
            const key_row *k = &keys[i];
            if (k->section != (section)s) continue;
            fprintf(out, "| `%s` | ", k->key);
            cli_key_values(k, values, sizeof values);
            fputs(values, out);
            fprintf(out, " | %s | %s | %s |\n", cli_key_unit(k), cli_key_preset(k), cli_key_help(k));
        }
        fputc('\n', out);
    }
}

const char *const *cli_format_names(bool push)
{
    const char **list = push ? push_formats : tcp_formats;
    const bmb_format_info *f;
    size_t n = 0;
    if (list[0] != NULL) return list;
    list[n++] = "auto";
    for (int id = 0; id < BMB_FORMAT_COUNT; id++)
        for (size_t i = 0; (f = bmb_format_at(i)) != NULL; i++)
            if (strcmp(f->name, bmb_stream_format_name((bmb_stream_format)id)) == 0 && (f->tcp || (push && f->udp)))
                list[n++] = f->name;
    list[n] = NULL;
    return list;
}

bmb_stream_format cli_format_chosen(bool push, int chosen)
{
    const char *name = cli_format_names(push)[chosen];
    int id = 0;
    while (strcmp(bmb_stream_format_name((bmb_stream_format)id), name) != 0) id++;
    return (bmb_stream_format)id;
}
