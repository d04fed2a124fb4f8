/* What was changed over a configuration file, in memory and as a text. */
#include <ini.h>
#include <stdlib.h>
#include <string.h>

#include "settings.h"

#define REMOVED "removed" /* the word for a section that is taken away */

size_t cli_layer_find(const cli_layer *l, uint8_t kind, const char *name, const char *key)
{
    for (size_t i = 0; i < l->count; i++) {
        const cli_change *c = &l->rows[i];
        if (c->section == kind && strcmp(c->name, name) == 0 && (key == NULL || strcmp(c->key, key) == 0)) return i;
    }
    return SIZE_MAX;
}

bool cli_layer_set(cli_layer *l, const cli_change *c)
{
    size_t at = cli_layer_find(l, c->section, c->name, c->key);
    if (at == SIZE_MAX) {
        if (l->count == CLI_CHANGES_MOST) return false;
        cli_change *rows = realloc(l->rows, (l->count + 1) * sizeof *rows);
        if (rows == NULL) return false;
        l->rows = rows;
        at = l->count++;
    }
    l->rows[at] = *c;
    return true;
}

void cli_layer_drop(cli_layer *l, size_t index)
{
    if (index >= l->count) return;
    memmove(&l->rows[index], &l->rows[index + 1], (l->count - index - 1) * sizeof *l->rows);
    l->count--;
}

bool cli_layer_copy(cli_layer *to, const cli_layer *from)
{
    *to = (cli_layer){ NULL, 0 };
    if (from->count == 0) return true;
    to->rows = malloc(from->count * sizeof *to->rows);
    if (to->rows == NULL) return false;
    memcpy(to->rows, from->rows, from->count * sizeof *to->rows);
    to->count = from->count;
    return true;
}

void cli_layer_free(cli_layer *l)
{
    free(l->rows);
    *l = (cli_layer){ NULL, 0 };
}

static bool is_first_of_section(const cli_layer *l, size_t index)
{
    return cli_layer_find(l, l->rows[index].section, l->rows[index].name, NULL) == index;
}

static void write_section(FILE *f, const cli_layer *l, size_t first)
{
    const cli_change *of = &l->rows[first];
    fprintf(f, of->name[0] != '\0' ? "\n[%s %s]\n" : "\n[%s]\n", cli_section_names[of->section], of->name);
    for (size_t i = first; i < l->count; i++) {
        const cli_change *c = &l->rows[i];
        if (c->section != of->section || strcmp(c->name, of->name) != 0) continue;
        fprintf(f, "%s = %s\n", c->key[0] != '\0' ? c->key : REMOVED, c->key[0] != '\0' ? c->value : "1");
    }
}

char *cli_layer_text(const cli_layer *l)
{
    char *text = NULL;
    size_t size = 0;
    FILE *f = open_memstream(&text, &size);
    if (f == NULL) return NULL;
    fputs("# What was changed over the configuration file while it ran. An empty value: the preset.\n", f);
    for (size_t i = 0; i < l->count; i++)
        if (is_first_of_section(l, i)) write_section(f, l, i);
    if (fclose(f) == 0) return text;
    free(text);
    return NULL;
}

typedef struct layer_reading {
    cli_layer *out;
    size_t unknown;
} layer_reading;

static int on_row(void *user, const char *section_text, const char *key, const char *value)
{
    layer_reading *r = (layer_reading *)user;
    char kind[64];
    cli_change c = { .key = "" };
    section s;
    snprintf(kind, sizeof kind, "%s", section_text);
    char *name = strchr(kind, ' ');
    if (name != NULL) *name++ = '\0';
    bool fits = (name == NULL || strlen(name) < sizeof c.name) && strlen(value) < sizeof c.value;
    bool removed = strcmp(key, REMOVED) == 0;
    const key_row *k = NULL;
    bool known = fits && cli_section_named(kind, &s) && cli_section_is_list(s) == (name != NULL);
    if (known && !removed) k = cli_key_named(s, key);
    if (!known || (!removed && (k == NULL || cli_key_is_local(k)))) {
        r->unknown++;
        return 1;
    }
    c.section = (uint8_t)s;
    snprintf(c.name, sizeof c.name, "%s", name != NULL ? name : "");
    if (!removed) {
        snprintf(c.key, sizeof c.key, "%s", key);
        snprintf(c.value, sizeof c.value, "%s", value);
    }
    return cli_layer_set(r->out, &c) ? 1 : 0;
}

size_t cli_layer_read(cli_layer *l, const char *text)
{
    layer_reading r = { .out = l };
    if (ini_parse_string(text, on_row, &r) != 0) r.unknown++;
    return r.unknown;
}

/* What every section says by itself. */
static cli_config *presets_of(void)
{
    static const char text[] = "[camera x]\n[feed x]\n[tcp x]\n[push x]\n";
    char why[200];
    size_t culprit;
    cli_config *c = malloc(sizeof *c);
    FILE *f = c != NULL ? fmemopen((void *)(uintptr_t)text, sizeof text - 1, "r") : NULL;
    if (f == NULL || !cli_config_parse_over(f, "", NULL, why, sizeof why, &culprit, c)) {
        free(c);
        return NULL;
    }
    return c;
}

/* The names of the sections of a kind. */
static size_t names_of(const cli_config *c, section s, const char **out)
{
    size_t n = 0;
    for (size_t i = 0; s == SECTION_CAMERA && i < c->camera_count; i++) out[n++] = c->cameras[i].name;
    for (size_t i = 0; s == SECTION_FEED && i < c->feed_count; i++) out[n++] = c->feeds[i].name;
    for (size_t i = 0; s == SECTION_TCP && i < c->tcp_count; i++) out[n++] = c->tcp[i].name;
    for (size_t i = 0; s == SECTION_PUSH && i < c->push_count; i++) out[n++] = c->pushes[i].name;
    if (!cli_section_is_list(s)) out[n++] = "";
    return n;
}

static bool says_else(const key_row *k, const void *a, const void *b, char *out, size_t room)
{
    char one[CLI_TEXT_MAX + 8] = "";
    bool has = cli_key_text(k, a, one, sizeof one), have = cli_key_text(k, b, out, room);
    if (!have) out[0] = '\0';
    return has != have || (has && strcmp(one, out) != 0);
}

static bool add_differences(cli_layer *l, section s, const char *name, const void *from, const void *to,
                            size_t *left_out)
{
    const key_row *k;
    bool good = true;
    char value[CLI_TEXT_MAX + 8];
    for (size_t i = 0; good && (k = cli_key_at(i)) != NULL; i++) {
        if (k->section != s || !says_else(k, from, to, value, sizeof value)) continue;
        cli_change c = { .section = (uint8_t)s };
        snprintf(c.name, sizeof c.name, "%s", name);
        snprintf(c.key, sizeof c.key, "%s", k->key);
        snprintf(c.value, sizeof c.value, "%.*s", (int)sizeof c.value - 1, value);
        if (cli_key_is_local(k)) {
            ++*left_out;
        } else {
            good = cli_layer_set(l, &c);
        }
    }
    return good;
}

bool cli_layer_between(cli_layer *l, const cli_config *from, const cli_config *to, size_t *left_out)
{
    cli_config *presets = presets_of();
    bool good = presets != NULL;
    const char *names[CLI_FEEDS_MOST + CLI_CAMERAS_MOST];
    for (int s = 0; good && s < SECTION_COUNT; s++) {
        size_t count = names_of(from, (section)s, names);
        for (size_t i = 0; good && i < count; i++) {
            if (cli_section_item(to, (section)s, names[i]) != NULL) continue;
            cli_change gone = { .section = (uint8_t)s };
            snprintf(gone.name, sizeof gone.name, "%s", names[i]);
            good = cli_layer_set(l, &gone);
        }
        count = names_of(to, (section)s, names);
        for (size_t i = 0; good && i < count; i++) {
            const void *was = cli_section_item(from, (section)s, names[i]);
            if (was == NULL) was = cli_section_item(presets, (section)s, "x");
            good = add_differences(l, (section)s, names[i], was, cli_section_item(to, (section)s, names[i]), left_out);
        }
    }
    free(presets);
    return good;
}

char *cli_config_text(const cli_config *c)
{
    char *text = NULL, value[CLI_TEXT_MAX + 8];
    const char *names[CLI_FEEDS_MOST + CLI_CAMERAS_MOST];
    size_t size = 0;
    const key_row *k;
    cli_config *presets = presets_of();
    FILE *f = presets != NULL ? open_memstream(&text, &size) : NULL;
    for (int s = 0; f != NULL && s < SECTION_COUNT; s++) {
        size_t count = names_of(c, (section)s, names);
        for (size_t i = 0; i < count; i++) {
            const void *item = cli_section_item(c, (section)s, names[i]),
                       *preset = cli_section_item(presets, (section)s, cli_section_is_list((section)s) ? "x" : "");
            bool begun = cli_section_is_list((section)s);
            if (begun) fprintf(f, "%s[%s %s]\n", ftell(f) > 0 ? "\n" : "", cli_section_names[s], names[i]);
            for (size_t n = 0; (k = cli_key_at(n)) != NULL; n++) {
                bool of_name =
                    (strcmp(k->key, "camera") == 0 || strcmp(k->key, "title") == 0) && k->section == SECTION_FEED;
                if (k->section != (section)s || !says_else(k, preset, item, value, sizeof value) || value[0] == '\0' ||
                    (of_name && strcmp(value, names[i]) == 0))
                    continue;
                if (!begun) fprintf(f, "%s[%s]\n", ftell(f) > 0 ? "\n" : "", cli_section_names[s]);
                begun = true;
                fprintf(f, "%s = %s\n", k->key, value);
            }
        }
    }
    free(presets);
    if (f == NULL || fclose(f) != 0) return NULL;
    return text;
}
