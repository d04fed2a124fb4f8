/* bambino: the command. Each subcommand is a file of its own. */
#include <string.h>

#include "cli.h"

#ifdef BAMBINO_HAS_MANUAL
#define MORE(...) __VA_ARGS__
#else
#define MORE(...) ""
#endif

static const cli_command commands[] = {
    { "demo", cli_demo, "serve the model railway's simulated cameras",
      MORE("Serves three simulated cameras of a model railway, and prints complete addresses for browsers and players. "
           "Nothing has to be attached or configured. Options are those of `bambino run`.") },
    { "budget", cli_budget, "tell what fits: memory, network, processor",
      MORE(
          "Computes what a configuration needs, part by part, and compares it with what a simulated board has, or this "
          "machine. Nothing is started.") },
#ifdef BAMBINO_HAS_MEASURE
    { "measure", cli_measure, "measure what encoding and serving cost here",
      MORE("Measures on this machine what a picture costs that is encoded, decoded, taken over and sent, in half a "
           "minute, "
           "and writes one line by which `bambino budget` reckons. Receivers are on the loopback interface.") },
#endif
    { "lapse", cli_lapse, "take a picture every so often, into files",
      MORE("Takes stills at an interval. Each file is there whole or not at all; none is ever written over; after a "
           "restart the numbers go on. Where a device runs with the camera, it is asked for the picture.") },
    { "service", cli_service, "start at boot: write, install, remove the unit",
      MORE("Makes the systemd unit that starts a configuration with the machine: `write` prints it, `install` writes, "
           "enables and starts it, `show` prints the one that is installed, `remove` takes it away. The configuration "
           "is "
           "judged before.") },
    { "boards", cli_boards, "list the simulated boards",
      MORE("Lists the boards that `bambino run --board` can simulate, with their memory, network and cameras.") },
    { "cameras", cli_cameras, "list what is attached and what it can do",
      MORE("Lists the cameras of this machine, or those that a configuration names: sizes, rates, controls with their "
           "ranges, and what is missing, with the reason. With `--write` it makes a configuration of the cameras of "
           "this "
           "machine, to begin from.") },
    { "photo", cli_photo, "take one picture into a file",
      MORE("Takes one picture, with the first camera or the one that is named. Where a device runs with the camera, it "
           "is "
           "asked for the picture.") },
    { "run", cli_run, "serve what a configuration file says",
      MORE("Serves the feeds of a configuration, and prints complete addresses for browsers and players. Without a "
           "configuration the cameras of this machine are served, and it prints the one that it made up. Ctrl-C stops "
           "it.") },
    { "users", cli_users_command, "say who may watch and who may change; lend a feed",
      MORE("Lists, adds, changes and removes those who may sign in, and makes links that show one feed for a time. A "
           "device that runs takes changes up within two seconds.") },
    { "settings", cli_settings_command, "what was changed over a file while it ran: show, write, forget",
      MORE("Shows what was changed over a configuration on the page or over HTTP, writes both as one file, or forgets "
           "the "
           "changes.") },
    { "check", cli_check, "receive feeds, and say what really arrives",
      MORE("Receives one feed or several, of any device that speaks RTSP, HTTP, MPEG-TS or RTP, and tells step by step "
           "what "
           "happens, each second what arrives, and a summary: rate, loss, gaps, delay. With `udp://:PORT` it waits for "
           "a "
           "push. `--expect` makes it a test for scripts.") },
    { "send", cli_send, "send a feed to a listener, by UDP or TCP",
      MORE("Sends one feed of a configuration to a receiver, without serving anything else.") },
    { "keys", cli_keys, "print every key of the configuration file",
      MORE("Prints the reference of the configuration, in Markdown; `man bambino.ini` is the same.") },
#ifdef BAMBINO_HAS_MANUAL
    { "manual", cli_manual, "print a manual page: of a command, or bambino.ini",
      MORE("Prints a manual page for `man`, made from the tables that this command works by: `bambino manual run | man "
           "-l "
           "-`. A package installs them all.") },
    { "completion", cli_completion, "print the completion of this command for a shell",
      MORE("Prints completion of commands and options for bash, zsh or fish: `source <(bambino completion bash)`. A "
           "package "
           "installs them.") },
#endif
};
#define COMMAND_COUNT (sizeof commands / sizeof commands[0])

static void print_help(FILE *out)
{
    fputs("bambino " BMB_VERSION ": makes a network camera of a board with a camera\n\n", out);
    for (size_t i = 0; i < COMMAND_COUNT; i++)
        fprintf(out, "  bambino %-10s  %s\n", commands[i].name, commands[i].help);
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
#ifdef BAMBINO_HAS_MANUAL
    cli_manual_knows(commands, COMMAND_COUNT);
#endif
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
