/* bambino: the command. Each subcommand is a file of its own. */
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

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
    { "send", cli_send, "send a feed to a listener, by UDP or TCP" },
    { "keys", cli_keys, "print every key of the configuration file" },
};
#define COMMAND_COUNT (sizeof commands / sizeof commands[0])

static bmb_lines *said, *warned; /* opened when serving begins */

#define LAST_WORDS_MS 500u /* for lines that wait at the end: nobody may read them */

int cli_error(const char *fmt, ...)
{
    char line[1024] = "bambino: ";
    size_t n = strlen(line);
    va_list args;
    va_start(args, fmt);
    vsnprintf(line + n, sizeof line - n, fmt, args);
    va_end(args);
    if (said != NULL && warned == NULL) warned = bmb_lines_open(STDERR_FILENO);
    if (warned != NULL) {
        bmb_lines_put(warned, line);
    } else {
        fprintf(stderr, "%s\n", line);
    }
    return EXIT_FAILED;
}

void cli_say(const char *fmt, ...)
{
    char line[512];
    va_list args;
    if (said == NULL) {
        fflush(stdout); /* what was printed before stands before it */
        said = bmb_lines_open(STDOUT_FILENO);
    }
    va_start(args, fmt);
    vsnprintf(line, sizeof line, fmt, args);
    va_end(args);
    bmb_lines_put(said, line);
}

bool cli_options(int argc, const char **argv, const struct poptOption *options, const char *usage, const char **rest,
                 int rest_most, bool *help)
{
    for (int i = 1; i < argc; i++) *help = *help || strcmp(argv[i], "--help") == 0 || strcmp(argv[i], "-?") == 0;
    const char *called = argv[0];
    argv[0] = "bambino"; /* usage begins with it; the command's own name stands in what follows */
    poptContext context = poptGetContext("bambino", argc, argv, options, 0);
    char text[128];
    snprintf(text, sizeof text, "%s [OPTION...]", usage);
    poptSetOtherOptionHelp(context, text);
    if (*help) {
        poptPrintHelp(context, stdout, 0);
        poptFreeContext(context);
        return false;
    }
    int err = poptGetNextOpt(context);
    bool good = err == -1;
    if (!good) cli_error("%s: %s; see `bambino %s --help`", poptBadOption(context, 0), poptStrerror(err), called);
    int count = 0;
    const char *arg;
    while (good && (arg = poptGetArg(context)) != NULL) {
        if (count == rest_most) {
            cli_error("\"%s\" is one argument too many; see `bambino %s --help`", arg, called);
            good = false;
            break;
        }
        for (int i = 1; i < argc; i++) /* keep the caller's own copy, the context's goes */
            if (strcmp(argv[i], arg) == 0) rest[count] = argv[i];
        count++;
    }
    poptFreeContext(context);
    return good;
}

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
        puts("bambino " BMB_VERSION);
        return EXIT_OK;
    }
    for (size_t i = 0; i < COMMAND_COUNT; i++) {
        names[i] = commands[i].name;
        if (strcmp(asked, commands[i].name) != 0) continue;
        int status = commands[i].run(argc - 1, (const char **)(void *)(argv + 1));
        (void)bmb_lines_close(said, LAST_WORDS_MS);
        (void)bmb_lines_close(warned, LAST_WORDS_MS);
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
