/* The two layers of what is set: read at the start, and what becomes of changes while the device runs. */
#include "settings.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define FILE_MOST (1u << 20)

static char *read_whole(const char *path, int flags)
{
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK | flags);
    FILE *f = fd >= 0 ? fdopen(fd, "r") : NULL;
    char *text = f != NULL ? malloc(FILE_MOST) : NULL;
    if (f == NULL && fd >= 0) close(fd);
    size_t n = text != NULL ? fread(text, 1, FILE_MOST - 1, f) : 0;
    bool bad = text == NULL || ferror(f) != 0 || n == FILE_MOST - 1;
    if (f != NULL) fclose(f);
    if (bad) {
        free(text);
        return NULL;
    }
    text[n] = '\0';
    char *exact = realloc(text, n + 2);
    if (exact == NULL) return text;
    if (n == 0) memcpy(exact, "\n", 2); /* a text of nothing cannot be opened as a file */
    return exact;
}

/* What was changed over this file, from its state folder. */
static void load_layer(const cli_config *file, cli_layer *l)
{
    char folder[2 * CLI_TEXT_MAX + 2], path[2 * CLI_TEXT_MAX + 32];
    if (file->state[0] == '\0') return;
    cli_beside(file, file->state, folder, sizeof folder);
    snprintf(path, sizeof path, "%s/%s", folder, CLI_LAYER_RECORD);
    char *text = read_whole(path, O_NOFOLLOW);
    if (text == NULL) return;
    size_t unknown = cli_layer_read(l, text);
    if (unknown > 0)
        cli_error("%s: %zu setting%s this version does not know %s left out", path, unknown,
                  unknown == 1 ? "" : "s that", unknown == 1 ? "is" : "are");
    free(text);
}

/* The file with the changes; those that cannot be any more are left out one by one, and told. */
static bool parse_over(const char *base, const char *path, cli_layer *l, cli_config *out)
{
    char why[400];
    for (;;) {
        size_t culprit;
        FILE *f = fmemopen((void *)(uintptr_t)base, strlen(base), "r");
        if (f == NULL) return cli_error("there is not enough memory") == 0;
        if (l->count == 0) return cli_config_parse(f, path, out);
        if (cli_config_parse_over(f, path, l, why, sizeof why, &culprit, out)) return true;
        if (culprit >= l->count) { /* not one of them alone */
            cli_error("%s: with what was changed over it: %s; the changes are left out", path, why);
            cli_layer_free(l);
        } else {
            cli_error("%s: what was changed over it: %s; that is left out", path, why);
            cli_layer_drop(l, culprit);
        }
    }
}

/* file: gets what the file alone says; or NULL */
static bool parse_layers(const char *base, const char *path, cli_layer *l, cli_config *file, cli_config *out)
{
    FILE *f = fmemopen((void *)(uintptr_t)base, strlen(base), "r");
    if (f == NULL || !cli_config_parse(f, path, out)) return false;
    load_layer(out, l);
    if (file != NULL) *file = *out;
    return l->count == 0 || parse_over(base, path, l, out);
}

bool cli_layers_read(const char *path, cli_config *file, cli_layer *l, cli_config *out)
{
    char *base = read_whole(path, 0);
    bool good = base != NULL ? parse_layers(base, path, l, file, out)
                             : cli_error("%s: the configuration cannot be read; check the path, or try `bambino demo`",
                                         path) == 0;
    free(base);
    return good;
}

bool cli_config_read(const char *path, cli_config *out)
{
    cli_layer l = { NULL, 0 };
    bool good = cli_layers_read(path, NULL, &l, out);
    cli_layer_free(&l);
    return good;
}

cli_settings *cli_settings_open(const char *path, const char *text, cli_config *out)
{
    cli_settings *s = calloc(1, sizeof *s);
    if (s == NULL) return NULL;
    snprintf(s->path, sizeof s->path, "%s", path != NULL ? path : "the configuration without a file");
    s->base = path != NULL ? read_whole(path, 0) : strdup(text);
    if (s->base == NULL)
        cli_error("%s: the configuration cannot be read; check the path, or try `bambino demo`", s->path);
    if (s->base == NULL || !parse_layers(s->base, s->path, &s->kept, NULL, out) || !cli_layer_copy(&s->now, &s->kept)) {
        cli_settings_close(s);
        return NULL;
    }
    s->stores = out->state[0] != '\0';
    return s;
}

void cli_settings_close(cli_settings *s)
{
    if (s == NULL) return;
    cli_drafts_end(s);
    cli_layer_free(&s->kept);
    cli_layer_free(&s->now);
    cli_layer_free(&s->next);
    cli_layer_free(&s->last);
    cli_layer_free(&s->next_kept);
    free(s->base);
    free(s);
}

/* Asked to begin again: the file is read anew, as it would be by a new start. */
void cli_settings_reread(cli_settings *s)
{
    cli_config *c = malloc(sizeof *c);
    char *text = read_whole(s->path, 0), why[400];
    size_t culprit;
    FILE *f = text != NULL && c != NULL ? fmemopen(text, strlen(text), "r") : NULL;
    if (f != NULL && cli_config_parse_over(f, s->path, NULL, why, sizeof why, &culprit, c)) {
        free(s->base);
        s->base = text;
        text = NULL;
    } else if (f != NULL) {
        cli_error("%s: %s; what was read before still counts", s->path, why);
    }
    free(text);
    free(c);
}

bool cli_settings_parse(cli_settings *s, cli_config *out)
{
    return parse_over(s->base, s->path, &s->now, out);
}

static void move_layer(cli_layer *to, cli_layer *from)
{
    cli_layer_free(to);
    *to = *from;
    *from = (cli_layer){ NULL, 0 };
}

/* The device is to be opened anew with what is next. */
static void open_again(cli_device *d)
{
    cli_settings *s = d->layers;
    move_layer(&s->last, &s->now);
    move_layer(&s->now, &s->next);
    d->again = true;
}

static void go_over(cli_device *d, bool again)
{
    cli_settings *s = d->layers;
    char why[700] = "there is not enough memory";
    size_t culprit;
    cli_draft *to = again ? NULL : cli_draft_make(d, &s->next, why, sizeof why, &culprit);
    bool live = to != NULL && cli_draft_is_live(d, to);
    if (live && cli_draft_apply(d, to, &again, why, sizeof why)) {
        move_layer(&s->now, &s->next);
        cli_settings_arrived(d);
    } else if (again || (to != NULL && !live)) {
        if (!live) cli_draft_free(to);
        open_again(d);
    } else {
        cli_error("what was to be changed cannot be: %s; all is as before", why);
        bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = s->tried });
        cli_layer_free(&s->next);
        s->tries = s->keeps = false;
    }
}

uint64_t cli_settings_tend(cli_device *d, uint64_t next)
{
    cli_settings *s = d->layers;
    uint64_t now = d->port.now_us(d->port.ctx), due = UINT64_MAX;
    if (s == NULL) return next;
    if (s->restart && now >= s->due_us) d->again = true;
    if (s->due && now >= s->due_us) {
        s->due = false;
        go_over(d, s->again);
    } else if (s->tries && !s->due && now >= s->until_us) {
        s->tries = false;
        bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = s->tried });
        if (cli_layer_copy(&s->next, &s->kept)) go_over(d, false);
    }
    if (s->restart || s->due) due = s->due_us;
    if (s->tries && s->until_us < due) due = s->until_us;
    return next < due ? next : due;
}

void cli_settings_arrived(cli_device *d)
{
    cli_settings *s = d->layers;
    if (s->keeps) move_layer(&s->kept, &s->next_kept);
    if (s->keeps || s->fell) (void)cli_settings_store(d);
    if (s->fell) bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = 1 });
    s->keeps = s->fell = false;
}

bool cli_settings_fall_back(cli_settings *s, bool first)
{
    if (s->fell || s->now.count + s->last.count == 0) return false;
    s->tries = s->keeps = false;
    move_layer(&s->now, &s->last); /* at the start: nothing, what is kept stays as it is */
    s->fell = !first;
    if (first) cli_layer_free(&s->now);
    return true;
}
