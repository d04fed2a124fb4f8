/* What the command says, and how it reads its options. */
#include <stdarg.h>
#include <string.h>
#include <unistd.h>

#include "cli.h"

static bmb_lines *said, *warned; /* opened when serving begins */

#define LAST_WORDS_MS 500u /* for lines that wait at the end: nobody may read them */

static char *captured;
static size_t captured_room;

void cli_capture(char *text, size_t room)
{
    captured = text;
    captured_room = room;
    if (text != NULL) text[0] = '\0';
}

int cli_error(const char *fmt, ...)
{
    if (captured != NULL) {
        size_t at = strlen(captured);
        if (at > 0 && at + 1 < captured_room) captured[at++] = '\n';
        va_list rest;
        va_start(rest, fmt);
        vsnprintf(captured + at, captured_room - at, fmt, rest);
        va_end(rest);
        return EXIT_FAILED;
    }
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

static cli_describe_fn *describing;
static void *describing_ctx;

void cli_describe(cli_describe_fn *fn, void *ctx)
{
    describing = fn;
    describing_ctx = ctx;
}

bool cli_options(int argc, const char **argv, const struct poptOption *options, const char *usage, const char **rest,
                 int rest_most, bool *help)
{
    if (describing != NULL) {
        *help = true;
        return describing(describing_ctx, options, usage), false;
    }
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

void cli_last_words(void)
{
    (void)bmb_lines_close(said, LAST_WORDS_MS);
    (void)bmb_lines_close(warned, LAST_WORDS_MS);
}
