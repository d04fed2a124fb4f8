/* Simulated boards: found, listed, and put between port and device. Secrets, too: they are what a board must not tell.
 */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <ini.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli.h"

/* The folder of the boards that come with the command, installed or in its source. */
static bool boards_folder(char *out, size_t room)
{
    static const char *const places[] = { "../boards", "../ports/sim/boards" }; /* beside the demo's */
    char demo[PATH_MAX];
    if (!cli_demo_file("railway.ini", demo, sizeof demo)) return false;
    char *slash = strrchr(demo, '/');
    if (slash != NULL) *slash = '\0';
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++) {
        int n = snprintf(out, room, "%s/%s", demo, places[i]);
        if (n > 0 && (size_t)n < room && access(out, R_OK) == 0) return true;
    }
    return false;
}

static int by_name(const void *a, const void *b)
{
    return strcmp((const char *)a, (const char *)b);
}

#define BOARDS_MOST 32

static size_t board_names(char (*out)[BMB_NAME_MAX])
{
    char folder[PATH_MAX];
    DIR *dir = boards_folder(folder, sizeof folder) ? opendir(folder) : NULL;
    size_t count = 0;
    const struct dirent *e;
    while (dir != NULL && count < BOARDS_MOST && (e = readdir(dir)) != NULL) {
        size_t n = strlen(e->d_name);
        if (n < 5 || n - 4 >= BMB_NAME_MAX || strcmp(e->d_name + n - 4, ".ini") != 0) continue;
        snprintf(out[count++], BMB_NAME_MAX, "%.*s", (int)(n - 4), e->d_name);
    }
    if (dir != NULL) closedir(dir);
    qsort(out, count, BMB_NAME_MAX, by_name);
    return count;
}

/* The description that a configuration names. Prints a message and returns false where there is none. */
static bool load_board(const cli_config *c, bmb_board *out)
{
    char names[BOARDS_MOST][BMB_NAME_MAX], folder[PATH_MAX / 2], path[PATH_MAX], why[200];
    const char *list[BOARDS_MOST], *asked = c->board;
    bool file = strchr(asked, '/') != NULL || strstr(asked, ".ini") != NULL;
    if (file) {
        cli_beside(c, asked, path, sizeof path);
    } else {
        size_t count = board_names(names), i = 0;
        while (i < count && strcmp(names[i], asked) != 0) i++;
        if (i == count || !boards_folder(folder, sizeof folder)) {
            for (i = 0; i < count; i++) list[i] = names[i];
            const char *near = cli_nearest(asked, list, count);
            cli_error("there is no board \"%s\"%s%s%s", asked,
                      near != NULL ? "; did you mean " : "; see `bambino boards`", near != NULL ? near : "",
                      near != NULL ? "?" : "");
            return false;
        }
        snprintf(path, sizeof path, "%s/%s.ini", folder, asked);
    }
    if (bmb_board_load(path, out, why, sizeof why) == BMB_OK) return true;
    cli_error("%s: %s", path, why);
    return false;
}

bool cli_board_load(cli_device *d)
{
    const char *asked = d->file.board;
    if (asked[0] == '\0' && d->faults != NULL) {
        cli_error("--fault needs a board: set board in [device], or --board NAME");
        return false;
    }
    if (asked[0] == '\0') return true;
    if (!bmb_sim_there()) {
        cli_error("board = %s: this build simulates no boards; take that line out, and --board", asked);
        return false;
    }
    if (!load_board(&d->file, &d->board_data)) return false;
    d->has_board = true;
    return true;
}

/* "NAME", "NAME@FROM" or "NAME@FROM-TO", in seconds; several with commas. */
static bool add_faults(cli_device *d, const char *text)
{
    const char *names[BMB_BOARD_FAULTS];
    for (int i = 0; i < BMB_BOARD_FAULTS; i++) names[i] = bmb_board_fault_name((bmb_board_fault)i);
    while (*text != '\0') {
        char one[64], name[32];
        size_t n = strcspn(text, ",");
        double from = 0, to = 0;
        int used = 0, fault = 1;
        snprintf(one, sizeof one, "%.*s", (int)n, text);
        text += text[n] == ',' ? n + 1 : n;
        size_t length = strcspn(one, "@");
        snprintf(name, sizeof name, "%.*s", (int)length, one);
        while (fault < BMB_BOARD_FAULTS && strcmp(names[fault], name) != 0) fault++;
        if (fault == BMB_BOARD_FAULTS) {
            const char *near = cli_nearest(name, names + 1, BMB_BOARD_FAULTS - 1);
            cli_error("--fault %s: there is no such fault%s%s%s", one, near != NULL ? "; did you mean " : "",
                      near != NULL ? near : "", near != NULL ? "?" : "; docs/boards.md lists them");
            return false;
        }
        const char *times = one + length;
        bool good = *times == '\0' || (sscanf(times, "@%lf%n", &from, &used) == 1 && times[used] == '\0') ||
                    (sscanf(times, "@%lf-%lf%n", &from, &to, &used) == 2 && times[used] == '\0' && to > from);
        if (!good || from < 0) {
            cli_error("--fault %s: NAME@FROM-TO is expected, in seconds, such as ribbon@5-9", one);
            return false;
        }
        if (bmb_board_fail(d->board, (bmb_board_fault)fault, from, to) != BMB_OK) {
            cli_error("--fault: more faults than a board can have at once");
            return false;
        }
    }
    return true;
}

static void print_line(void *ctx, const char *line)
{
    (void)ctx;
    cli_say("%s", line);
}

bool cli_board_attach(cli_device *d)
{
    if (!d->has_board) return true;
    const cli_config *f = &d->file;
    const bmb_board_options options = { .ssid = f->ssid[0] != '\0' ? f->ssid : NULL,
                                        .passphrase = f->passphrase[0] != '\0' ? f->passphrase : NULL,
                                        .wiring = f->wiring[0] != '\0' ? f->wiring : NULL,
                                        .console = d->console_off ? NULL : print_line };
    if (bmb_board_attach(&d->board_data, &options, &d->port, d->sim, &d->board) != BMB_OK) {
        cli_error("there is not enough memory for the board");
        return false;
    }
    bmb_board_light(d->board, (bmb_light_style)f->light_style);
    return d->faults == NULL || add_faults(d, d->faults);
}

static int on_secret(void *user, const char *section, const char *key, const char *value)
{
    cli_config *c = (cli_config *)user;
    if (strcmp(section, "network") != 0 || strcmp(key, "passphrase") != 0) {
        cli_error("%s: [%s] %s is not a secret that is known; there is [network] passphrase", c->secrets, section, key);
        return 0;
    }
    size_t n = strlen(value);
    if (n < 8 || n >= sizeof c->passphrase) {
        cli_error("%s: passphrase: use 8 to 63 characters", c->secrets);
        return 0;
    }
    memcpy(c->passphrase, value, n + 1);
    return 1;
}

#define SECRETS_MOST 65536

/* A file that is really one, and can be read without waiting for anybody. Prints a message and returns NULL else. */
static FILE *open_secrets(const cli_config *c, const char *path, struct stat *s)
{
    int fd = open(path, O_RDONLY | O_NONBLOCK | O_CLOEXEC | O_NOCTTY);
    if (fd < 0 || fstat(fd, s) != 0) {
        cli_error("%s: secrets = %s: the file cannot be read: %s", c->path, c->secrets, strerror(errno));
    } else if (!S_ISREG(s->st_mode) || s->st_size > SECRETS_MOST) {
        cli_error("%s: secrets = %s: that is no file with secrets", c->path, c->secrets);
    } else {
        FILE *f = fdopen(fd, "r");
        if (f != NULL) return f;
    }
    if (fd >= 0) close(fd);
    return NULL;
}

/* The passphrase of a simulated network is no secret: it stands in the description of its board, for all to read. */
static bool is_public(const cli_config *c)
{
    bmb_board board;
    return c->board[0] != '\0' && load_board(c, &board) && board.passphrase[0] != '\0' &&
           strcmp(board.passphrase, c->passphrase) == 0;
}

/* What is wrong with who may read or write it; NULL: nothing. */
static const char *exposed(const struct stat *s)
{
    if ((s->st_mode & 077) != 0) return "others may read it; set its permissions with `chmod 600";
    if (s->st_uid != geteuid() && s->st_uid != 0)
        return "it belongs to another user; make it your own with `chown $USER";
    return NULL;
}

bool cli_secrets_read(cli_config *c)
{
    char path[2 * CLI_TEXT_MAX + 2];
    struct stat s;
    if (c->secrets[0] == '\0') return true;
    const char *handed = getenv("CREDENTIALS_DIRECTORY");
    cli_beside(c, c->secrets, path, sizeof path);
    if (handed != NULL) {
        char copy[sizeof path];
        int n = snprintf(copy, sizeof copy, "%s/" CLI_CREDENTIAL, handed);
        if (n > 0 && (size_t)n < sizeof copy && access(copy, R_OK) == 0) memcpy(path, copy, (size_t)n + 1);
    }
    FILE *f = open_secrets(c, path, &s);
    if (f == NULL) return false;
    int line = ini_parse_file(f, on_secret, c);
    fclose(f);
    const char *wrong = exposed(&s);
    if (line > 0) cli_error("%s: line %d was not understood", path, line);
    if (line != 0 || wrong == NULL || is_public(c)) return line == 0;
    memset(c->passphrase, 0, sizeof c->passphrase);
    cli_error("%s: %s %s`", path, wrong, path);
    return false;
}

static void print_board(const char *name)
{
    char folder[PATH_MAX / 2], path[PATH_MAX], why[200], external[48] = "none outside";
    bmb_board b;
    if (!boards_folder(folder, sizeof folder)) return;
    snprintf(path, sizeof path, "%s/%s.ini", folder, name);
    if (bmb_board_load(path, &b, why, sizeof why) != BMB_OK) {
        printf("%s  BROKEN: %s\n", name, why);
        return;
    }
    if (b.ram_external > 0) snprintf(external, sizeof external, "%u KiB outside", b.ram_external / 1024);
    printf("%s  %s\n    processor  %s\n    RAM        %u KiB inside, %s; storage %u KiB\n", b.name, b.title,
           b.processor, b.ram_internal / 1024, external, b.storage / 1024);
    printf("    camera     %s on %s%s\n               ", b.sensor.model, b.wiring,
           b.h264 ? "; JPEG and H.264" : "; JPEG");
    for (uint8_t i = 0; i < b.sensor.mode_count[BMB_CODEC_JPEG]; i++) {
        const bmb_mode_row *m = &b.sensor.modes[i];
        printf("%s%ux%u up to %g/s",
               i == 0       ? ""
               : i % 4 == 0 ? ",\n               "
                            : ", ",
               m->width, m->height, (double)m->mfps_most / 1000.0);
    }
    printf("\n    link       %s, %u kbit/s, %u to %u ms, %u in 1000 lost\n\n", b.link.radio ? "radio" : "cable",
           b.link.kbps, b.link.delay_ms, b.link.delay_ms + b.link.jitter_ms, b.link.loss_1000);
}

int cli_boards(int argc, const char **argv)
{
    const struct poptOption options[] = { POPT_AUTOHELP POPT_TABLEEND };
    char names[BOARDS_MOST][BMB_NAME_MAX];
    bool help = false;
    if (!cli_options(argc, argv, options, "boards", NULL, 0, &help)) return help ? EXIT_OK : EXIT_USAGE;
    if (!bmb_sim_there()) return cli_error("this build simulates no boards");
    size_t count = board_names(names);
    if (count == 0) return cli_error("the board descriptions are not beside this command");
    for (size_t i = 0; i < count; i++) print_board(names[i]);
    printf("Start one with `bambino run CONFIG --board NAME`, and break it with --fault: ");
    for (int f = 1; f < BMB_BOARD_FAULTS; f++)
        printf("%s%s", f > 1 ? ", " : "", bmb_board_fault_name((bmb_board_fault)f));
    printf(".\n");
    return EXIT_OK;
}
