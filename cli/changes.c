/* `bambino settings`: what was changed over a configuration file while the device ran: shown, written into a file, or
 * forgotten. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "settings.h"

static void print_change(const cli_config *base, const cli_change *c)
{
    char file[CLI_TEXT_MAX + 8] = "", where[100];
    const key_row *k = cli_key_named((section)c->section, c->key);
    const void *was = cli_section_item(base, (section)c->section, c->name);
    snprintf(where, sizeof where, c->name[0] != '\0' ? "[%s %s]" : "[%s]%s", cli_section_names[c->section], c->name);
    if (k == NULL) {
        printf("%-20s taken away\n", where);
        return;
    }
    bool said = was != NULL && cli_key_text(k, was, file, sizeof file);
    printf("%-20s %s = %s", where, c->key, c->value[0] != '\0' ? c->value : cli_key_preset(k));
    if (was == NULL) {
        printf("   (the file has no such section)\n");
    } else {
        printf("   (file: %s)\n", said ? file : cli_key_preset(k));
    }
}

static int show(const cli_config *base, const cli_layer *l)
{
    for (size_t i = 0; i < l->count; i++) print_change(base, &l->rows[i]);
    if (l->count == 0) printf("Nothing was changed over %s.\n", base->path);
    return EXIT_OK;
}

static int write_merged(const cli_config *merged, const char *to)
{
    char *text = cli_config_text(merged);
    if (text == NULL) return cli_error("there is not enough memory");
    bmb_err err = strcmp(to, "-") == 0 ? BMB_OK : bmb_linux_write_whole(to, text, strlen(text), false);
    if (strcmp(to, "-") == 0) fputs(text, stdout);
    free(text);
    if (err == BMB_IN_USE) return cli_error("%s is there already, and stays as it is; name another file", to);
    if (err != BMB_OK) return cli_error("%s cannot be written: %s", to, bmb_err_text(err));
    if (strcmp(to, "-") != 0)
        printf("Wrote %s, without comments: look it through, and put it in the place of %s if you like.\n", to,
               merged->path);
    return EXIT_OK;
}

static int forget(const cli_config *base, const cli_layer *l)
{
    char folder[2 * CLI_TEXT_MAX + 2], path[2 * CLI_TEXT_MAX + 32];
    if (l->count == 0) return show(base, l);
    cli_beside(base, base->state, folder, sizeof folder);
    snprintf(path, sizeof path, "%s/%s", folder, CLI_LAYER_RECORD);
    if (unlink(path) != 0) return cli_error("%s cannot be removed: %s", path, strerror(errno));
    printf("Forgotten: %zu change%s. A device that runs keeps them until it starts anew.\n", l->count,
           l->count == 1 ? "" : "s");
    return EXIT_OK;
}

int cli_settings_command(int argc, const char **argv)
{
    char *to = NULL;
    int forgets = 0;
    const struct poptOption options[] = { { "write", '\0', POPT_ARG_STRING, &to, 0,
                                            "write the file and the changes as one, - for standard output", "FILE" },
                                          { "forget", '\0', POPT_ARG_NONE, &forgets, 0,
                                            "forget the changes: only the file counts", NULL },
                                          POPT_AUTOHELP POPT_TABLEEND };
    const char *rest[1] = { NULL };
    bool help = false;
    if (!cli_options(argc, argv, options, "settings CONFIG", rest, 1, &help)) return help ? EXIT_OK : EXIT_USAGE;
    if (rest[0] == NULL || (to != NULL && forgets)) {
        cli_error(rest[0] == NULL ? "a configuration is expected; see `bambino settings --help`"
                                  : "--write and --forget are two things; say one of them");
        free(to);
        return EXIT_USAGE;
    }
    cli_config *base = malloc(sizeof *base), *merged = malloc(sizeof *merged);
    cli_layer l = { NULL, 0 };
    int status = EXIT_USAGE;
    if (base != NULL && merged != NULL && cli_layers_read(rest[0], base, &l, merged))
        status = to != NULL ? write_merged(merged, to) : forgets ? forget(base, &l) : show(base, &l);
    cli_layer_free(&l);
    free(base);
    free(merged);
    free(to);
    return status;
}
