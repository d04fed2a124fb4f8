/* bambino: the command. Each subcommand is a file of its own. */
#include <string.h>

#include "cli.h"

typedef struct command {
    const char *name;
    int (*run)(int argc, const char **argv);
    const char *help;
} command;

static const command commands[] = {
    { "demo", cli_demo, "serve the model railway's simulated cameras" },
    { "budget", cli_budget, "tell what fits: memory, network, processor" },
    { "lapse", cli_lapse, "take a picture every so often, into files" },
    { "service", cli_service, "start at boot: write, install, remove the unit" },
    { "boards", cli_boards, "list the simulated boards" },
    { "cameras", cli_cameras, "list what is attached and what it can do" },
    { "photo", cli_photo, "take one picture into a file" },
    { "run", cli_run, "serve what a configuration file says" },
    { "users", cli_users_command, "say who may watch and who may change; lend a feed" },
    { "settings", cli_settings_command, "what was changed over a file while it ran: show, write, forget" },
    { "check", cli_check, "receive feeds, and say what really arrives" },
    { "send", cli_send, "send a feed to a listener, by UDP or TCP" },
    { "keys", cli_keys, "print every key of the configuration file" },
};
#define COMMAND_COUNT (sizeof commands / sizeof commands[0])

static void print_help(FILE *out)
{
    fputs("bambino " BMB_VERSION ": makes a network camera of a board with a camera\n\n", out);
    for (size_t i = 0; i < COMMAND_COUNT; i++) fprintf(out, "  bambino %-8s  %s\n", commands[i].name, commands[i].help);
    fputs("\n`bambino COMMAND --help` tells its options. Begin with `bambino demo`.\n", out);
}

int cli_keys(int argc, const char **argv)
{
    const struct poptOption options[] = { POPT_AUTOHELP POPT_TABLEEND };
    bool help = false;
    if (!cli_options(argc, argv, options, "keys", NULL, 0, &help)) return help ? EXIT_OK : EXIT_USAGE;
    cli_config_reference(stdout);
    return EXIT_OK;
}

int main(int argc, char **argv)
{
    const char *names[COMMAND_COUNT];
    const char *asked = argc > 1 ? argv[1] : "";
    if (strcmp(asked, "--help") == 0 || strcmp(asked, "-h") == 0 || strcmp(asked, "help") == 0) {
        print_help(stdout);
        return EXIT_OK;
    }
    if (strcmp(asked, "--version") == 0) {
        cli_print_version();
        return EXIT_OK;
    }
    for (size_t i = 0; i < COMMAND_COUNT; i++) {
        names[i] = commands[i].name;
        if (strcmp(asked, commands[i].name) != 0) continue;
        int status = commands[i].run(argc - 1, (const char **)(void *)(argv + 1));
        cli_last_words();
        return status;
    }
    if (argc < 2) {
        print_help(stderr);
        return EXIT_USAGE;
    }
    const char *near = cli_nearest(asked, names, COMMAND_COUNT);
    cli_error("there is no command \"%s\"%s%s%s", asked,
              near != NULL ? "; did you mean `bambino " : "; see `bambino --help`", near != NULL ? near : "",
              near != NULL ? "`?" : "");
    return EXIT_USAGE;
}
