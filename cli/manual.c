/* Manual pages and completion for shells, from the tables that help and reference are printed from. */
#include <string.h>

#include "keys.h"

static const cli_command *commands;
static size_t command_count;

void cli_manual_knows(const cli_command *list, size_t count)
{
    commands = list;
    command_count = count;
}

/* What a command was about to read its options by. */
typedef struct asked {
    const char *usage;
    void (*each)(void *ctx, const struct poptOption *option);
    void *ctx;
} asked;

static void on_options(void *ctx, const struct poptOption *options, const char *usage)
{
    asked *a = (asked *)ctx;
    a->usage = usage;
    for (const struct poptOption *o = options; o->longName != NULL || o->shortName != '\0' || o->arg != NULL; o++)
        if (o->longName != NULL && a->each != NULL) a->each(a->ctx, o);
}

/* Calls each for every option of a command; returns the rest of its usage, behind its name. */
static const char *options_of(const cli_command *c, void (*each)(void *ctx, const struct poptOption *option), void *ctx)
{
    const char *argv[] = { c->name, NULL };
    asked a = { "", each, ctx };
    cli_describe(on_options, &a);
    (void)c->run(1, argv);
    cli_describe(NULL, NULL);
    size_t n = strlen(c->name);
    return strncmp(a.usage, c->name, n) == 0 ? a.usage + n : a.usage;
}

/* Text for troff: its own signs are taken for letters, and `words` in bold. */
static void put_text(FILE *out, const char *text)
{
    bool bold = false, begins = true;
    for (; *text != '\0'; text++) {
        if (begins && (*text == '.' || *text == '\'')) fputs("\\&", out);
        begins = *text == '\n';
        if (*text == '`') {
            bold = !bold;
            fputs(bold ? "\\fB" : "\\fR", out);
        } else if (*text == '\\') {
            fputs("\\e", out);
        } else if (*text == '-') {
            fputs("\\-", out);
        } else {
            fputc(*text, out);
        }
    }
}

static void put_head(FILE *out, const char *name, int chapter, const char *what)
{
    fputs(".TH ", out);
    for (const char *c = name; *c != '\0'; c++) fputc(*c >= 'a' && *c <= 'z' ? *c - 'a' + 'A' : *c, out);
    fprintf(out, " %d \"\" \"bambino " BMB_VERSION "\" \"Bambino\"\n.SH NAME\n%s \\- ", chapter, name);
    put_text(out, what);
    fputs("\n", out);
}

static void put_option(void *ctx, const struct poptOption *o)
{
    FILE *out = (FILE *)ctx;
    int kind = (int)(o->argInfo & POPT_ARG_MASK);
    fputs(".TP\n\\fB", out);
    if (o->shortName != '\0') fprintf(out, "\\-%c\\fR, \\fB", o->shortName);
    put_text(out, "--");
    put_text(out, o->longName);
    fputs("\\fR", out);
    if (o->argDescrip != NULL) {
        fputs("=\\fI", out);
        put_text(out, o->argDescrip);
        fputs("\\fR", out);
    }
    fputc('\n', out);
    if (o->descrip != NULL) put_text(out, o->descrip);
    if ((o->argInfo & POPT_ARGFLAG_SHOW_DEFAULT) != 0 && kind == POPT_ARG_DOUBLE)
        fprintf(out, " (preset: %g)", *(const double *)o->arg);
    if ((o->argInfo & POPT_ARGFLAG_SHOW_DEFAULT) != 0 && kind == POPT_ARG_INT)
        fprintf(out, " (preset: %d)", *(const int *)o->arg);
    fputs(".\n", out);
}

static void put_end(FILE *out, const char *own)
{
    fputs(".SH SEE ALSO\n", out);
    const char *comma = "";
    if (strcmp(own, "bambino") != 0) {
        fputs(".BR bambino (1)", out);
        comma = ",\n";
    }
    for (size_t i = 0; i < command_count; i++) {
        if (strcmp(own, commands[i].name) == 0) continue;
        fprintf(out, "%s.BR bambino\\-%s (1)", comma, commands[i].name);
        comma = ",\n";
    }
    if (strcmp(own, "bambino.ini") != 0) fputs(",\n.BR bambino.ini (5)", out);
    fputs("\n.PP\nThe guides, in /usr/share/doc/bambino or the folder docs of the sources.\n", out);
}

static void put_command(FILE *out, const cli_command *c)
{
    char name[64];
    snprintf(name, sizeof name, "bambino-%s", c->name);
    put_head(out, name, 1, c->help);
    fprintf(out, ".SH SYNOPSIS\n\\fBbambino %s\\fR", c->name);
    put_text(out, options_of(c, NULL, NULL));
    fputs(" [OPTION...]\n.SH DESCRIPTION\n", out);
    put_text(out, c->more);
    fputs("\n.SH OPTIONS\n", out);
    (void)options_of(c, put_option, out);
    fputs(".TP\n\\fB\\-\\-help\\fR\nTell the options.\n"
          ".SH EXIT STATUS\n0: it went well. 1: it did not, and a message says why. 2: it was called wrongly, or the "
          "configuration has a fault.\n",
          out);
    put_end(out, c->name);
}

static void put_overview(FILE *out)
{
    put_head(out, "bambino", 1, "makes a network camera of a board with a camera");
    fputs(".SH SYNOPSIS\n\\fBbambino\\fR COMMAND [ARGUMENT...]\n.SH DESCRIPTION\n", out);
    put_text(out,
             "Serves live video of the cameras of this machine on the local network: RTSP, JPEG over HTTP, MPEG-TS and "
             "raw video over TCP and UDP, for whoever may watch. Begin with `bambino cameras`, take one picture with "
             "`bambino photo`, and start with `bambino run`, which prints complete addresses for players.");
    fputs("\n.SH COMMANDS\n", out);
    for (size_t i = 0; i < command_count; i++) {
        fprintf(out, ".TP\n.BR bambino\\-%s (1)\n", commands[i].name);
        put_text(out, commands[i].help);
        fputs(".\n", out);
    }
    fputs(".SH OPTIONS\n.TP\n\\fB\\-\\-version\\fR\nTell the version, and which parts this build has.\n"
          ".TP\n\\fB\\-\\-help\\fR\nTell the commands; behind a command, its options.\n"
          ".SH FILES\n.TP\n/etc/bambino/bambino.ini\nThe configuration of the service, where it came as a package.\n"
          ".TP\n/var/lib/bambino\nWhat the service keeps: changed settings, users, certificates.\n",
          out);
    put_end(out, "bambino");
}

static void put_configuration(FILE *out)
{
    put_head(out, "bambino.ini", 5, "the configuration of bambino");
    fputs(".SH DESCRIPTION\n", out);
    put_text(out,
             "A file of sections with keys, `key = value` each, and comments behind `#`. Sections of cameras, feeds, "
             "outlets and pushes have names of your own and may be there several times, such as `[feed yard]`. "
             "`bambino run --check FILE` judges a file; a fault is told with its line.");
    for (section s = 0; s < SECTION_COUNT; s++) {
        fprintf(out, "\n.SH [%s%s]\n", cli_section_names[s], cli_section_is_list(s) ? " NAME" : "");
        const key_row *k;
        for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
            char values[512];
            if (k->section != s) continue;
            fputs(".TP\n\\fB", out);
            put_text(out, k->key);
            fputs("\\fR = \\fI", out);
            cli_key_values(k, values, sizeof values);
            put_text(out, values);
            fprintf(out, "\\fR %s\n", cli_key_unit(k));
            if (cli_key_help(k)[0] != '\0') {
                put_text(out, cli_key_help(k));
                fputs(".\n", out);
            }
            if (cli_key_preset(k)[0] != '\0') {
                fputs("Preset: ", out);
                put_text(out, cli_key_preset(k));
                fputs(".\n", out);
            }
        }
    }
    put_end(out, "bambino.ini");
}

int cli_manual(int argc, const char **argv)
{
    const struct poptOption options[] = { POPT_AUTOHELP POPT_TABLEEND };
    const char *rest[1] = { NULL }, *names[32];
    bool help = false;
    if (!cli_options(argc, argv, options, "manual [COMMAND|bambino.ini]", rest, 1, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    if (rest[0] == NULL || strcmp(rest[0], "bambino") == 0) return put_overview(stdout), EXIT_OK;
    if (strcmp(rest[0], "bambino.ini") == 0) return put_configuration(stdout), EXIT_OK;
    size_t count = 0;
    for (; count < command_count; count++) {
        names[count] = commands[count].name;
        if (strcmp(names[count], rest[0]) == 0) return put_command(stdout, &commands[count]), EXIT_OK;
    }
    const char *near = cli_nearest(rest[0], names, count);
    cli_error("manual %s: there is a page for each command, and bambino.ini%s%s%s", rest[0],
              near != NULL ? "; did you mean " : "", near != NULL ? near : "", near != NULL ? "?" : "");
    return EXIT_USAGE;
}

/* Completion: names of commands, then options and fixed words of each; else files. */

typedef enum shell { SHELL_BASH, SHELL_ZSH, SHELL_FISH, SHELL_COUNT } shell;
static const char *const shells[SHELL_COUNT] = { "bash", "zsh", "fish" };

/* Words of a usage between bars, such as write|install|remove: what may be typed as it is. */
static void put_words(FILE *out, const char *usage, const char *between)
{
    for (const char *c = usage; *c != '\0';) {
        size_t n = strspn(c, "abcdefghijklmnopqrstuvwxyz-");
        bool whole = n > 1 && (c[n] == '|' || (c > usage && c[-1] == '|')) && strncmp(c + n, "://", 3) != 0;
        bool first = n > 1 && c > usage && (c[-1] == '[' || c[-2] == '|') && c[n] == ' ';
        if (whole || first) fprintf(out, "%.*s%s", (int)n, c, between);
        c += n > 0 ? n : 1;
    }
}

static void put_bash_option(void *ctx, const struct poptOption *o)
{
    fprintf((FILE *)ctx, "--%s%s ", o->longName, o->argDescrip != NULL ? "=" : "");
}

static void put_bash(FILE *out)
{
    fputs("# bash completion for bambino; `bambino completion bash` prints it.\n"
          "_bambino()\n{\n"
          "    local current=${COMP_WORDS[COMP_CWORD]} words=\"\"\n"
          "    COMPREPLY=()\n"
          "    if [ \"$COMP_CWORD\" -eq 1 ]; then\n"
          "        words=\"",
          out);
    for (size_t i = 0; i < command_count; i++) fprintf(out, "%s ", commands[i].name);
    fputs("--help --version\"\n    else\n        case ${COMP_WORDS[1]} in\n", out);
    for (size_t i = 0; i < command_count; i++) {
        fprintf(out, "        %s) words=\"", commands[i].name);
        put_words(out, options_of(&commands[i], NULL, NULL), " ");
        (void)options_of(&commands[i], put_bash_option, out);
        fputs("--help\" ;;\n", out);
    }
    fputs("        esac\n    fi\n"
          "    mapfile -t COMPREPLY < <(compgen -W \"$words\" -- \"$current\")\n"
          "    [[ ${COMPREPLY[0]-} != *= ]] || compopt -o nospace\n"
          "}\ncomplete -o default -F _bambino bambino\n",
          out);
}

/* Text inside single quotes of a shell; zsh takes [ and ] of options apart, and : between parts. */
static void put_quoted(FILE *out, const char *text, bool zsh)
{
    for (; text != NULL && *text != '\0'; text++) {
        if (zsh && strchr("[]:\\", *text) != NULL) fputc('\\', out);
        if (*text == '\'') {
            fputs(zsh ? "'\\''" : "\\'", out);
        } else {
            fputc(*text, out);
        }
    }
}

static void put_zsh_option(void *ctx, const struct poptOption *o)
{
    FILE *out = (FILE *)ctx;
    fprintf(out, " \\\n            '--%s%s[", o->longName, o->argDescrip != NULL ? "=" : "");
    put_quoted(out, o->descrip, true);
    fputc(']', out);
    if (o->argDescrip != NULL) {
        fputc(':', out);
        put_quoted(out, o->argDescrip, true);
        fputs(":_files", out);
    }
    fputc('\'', out);
}

static void put_zsh(FILE *out)
{
    fputs("#compdef bambino\n# zsh completion for bambino; `bambino completion zsh` prints it.\n"
          "local -a commands\ncommands=(\n",
          out);
    for (size_t i = 0; i < command_count; i++) {
        fprintf(out, "    '%s:", commands[i].name);
        put_quoted(out, commands[i].help, true);
        fputs("'\n", out);
    }
    fputs(")\nif (( CURRENT == 2 )); then\n    _describe command commands\nelse\n"
          "    local command=$words[2]\n    shift words\n    (( CURRENT-- ))\n    case $command in\n",
          out);
    for (size_t i = 0; i < command_count; i++) {
        fprintf(out, "        %s) _arguments '*: :{ _alternative \"words:word:(", commands[i].name);
        put_words(out, options_of(&commands[i], NULL, NULL), " ");
        fputs(")\" \"files:file:_files\" }'", out);
        (void)options_of(&commands[i], put_zsh_option, out);
        fputs(" ;;\n", out);
    }
    fputs("    esac\nfi\n", out);
}

typedef struct fish_place {
    FILE *out;
    const char *command;
} fish_place;

static void put_fish_option(void *ctx, const struct poptOption *o)
{
    const fish_place *p = (const fish_place *)ctx;
    fprintf(p->out, "complete -c bambino -n '__fish_seen_subcommand_from %s' -l %s", p->command, o->longName);
    if (o->shortName != '\0') fprintf(p->out, " -s %c", o->shortName);
    if (o->argDescrip != NULL) fputs(" -r", p->out);
    fputs(" -d '", p->out);
    put_quoted(p->out, o->descrip, false);
    fputs("'\n", p->out);
}

static void put_fish(FILE *out)
{
    fputs("# fish completion for bambino; `bambino completion fish` prints it.\n", out);
    for (size_t i = 0; i < command_count; i++) {
        const cli_command *c = &commands[i];
        fish_place place = { out, c->name };
        fprintf(out, "complete -c bambino -n __fish_use_subcommand -f -a %s -d '", c->name);
        put_quoted(out, c->help, false);
        fputs("'\n", out);
        const char *usage = options_of(c, put_fish_option, &place);
        fprintf(out, "complete -c bambino -n '__fish_seen_subcommand_from %s' -a '", c->name);
        put_words(out, usage, " ");
        fputs("'\n", out);
    }
}

int cli_completion(int argc, const char **argv)
{
    const struct poptOption options[] = { POPT_AUTOHELP POPT_TABLEEND };
    static void (*const put[SHELL_COUNT])(FILE *) = { put_bash, put_zsh, put_fish };
    const char *rest[1] = { NULL };
    bool help = false;
    if (!cli_options(argc, argv, options, "completion bash|zsh|fish", rest, 1, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    for (size_t i = 0; i < SHELL_COUNT && rest[0] != NULL; i++)
        if (strcmp(rest[0], shells[i]) == 0) return put[i](stdout), EXIT_OK;
    cli_error("completion %s: bash, zsh or fish is expected", rest[0] != NULL ? rest[0] : "needs the name of a shell");
    return EXIT_USAGE;
}
