/* Reading a configuration file, and what was changed over it. */
#include "settings.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define FILE_MOST (1u << 20)

char *cli_read_whole(const char *path, int flags)
{
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK | flags);
    FILE *f = fd >= 0 ? fdopen(fd, "r") : NULL;
    if (f == NULL) {
        if (fd >= 0) close(fd);
        return NULL;
    }
    char *text = malloc(FILE_MOST);
    size_t n = text != NULL ? fread(text, 1, FILE_MOST - 1, f) : 0;
    bool bad = text == NULL || ferror(f) != 0 || n == FILE_MOST - 1;
    fclose(f);
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
    char *text = cli_read_whole(path, O_NOFOLLOW);
    if (text == NULL) return;
    size_t unknown = cli_layer_read(l, text);
    if (unknown > 0)
        cli_error("%s: %zu setting%s this version does not know %s left out", path, unknown,
                  unknown == 1 ? "" : "s that", unknown == 1 ? "is" : "are");
    free(text);
}

/* The file with the changes; those that cannot be any more are left out one by one, and told. */
bool cli_parse_over(const char *base, const char *path, cli_layer *l, cli_config *out)
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
bool cli_parse_layers(const char *base, const char *path, cli_layer *l, cli_config *file, cli_config *out)
{
    FILE *f = fmemopen((void *)(uintptr_t)base, strlen(base), "r");
    if (f == NULL || !cli_config_parse(f, path, out)) return false;
    load_layer(out, l);
    if (file != NULL) *file = *out;
    return l->count == 0 || cli_parse_over(base, path, l, out);
}

bool cli_layers_read(const char *path, cli_config *file, cli_layer *l, cli_config *out)
{
    char *base = cli_read_whole(path, 0);
    bool good = base != NULL ? cli_parse_layers(base, path, l, file, out)
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
