/* `bambino users`: who may sign in at a device, and links that are lent. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

#include "bambino/tls.h"
#include "users.h"

#define TOKEN_BYTES 20

typedef struct users_options {
    char *may, *feeds, *time;
    int program, password, viewers;
} users_options;

static const char *const roles[] = { "none", "watch", "adjust", "administer", NULL };

/* A line of standard input, without its end; from a terminal it is not shown. */
static bool read_secret(const char *prompt, char *out, size_t room)
{
    struct termios before, silent;
    bool terminal = isatty(STDIN_FILENO) && tcgetattr(STDIN_FILENO, &before) == 0;
    if (terminal) {
        silent = before;
        silent.c_lflag &= ~(tcflag_t)ECHO;
        fputs(prompt, stderr);
        tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
    }
    bool got = fgets(out, (int)room, stdin) != NULL;
    if (terminal) {
        tcsetattr(STDIN_FILENO, TCSAFLUSH, &before);
        fputc('\n', stderr);
    }
    if (!got) return false;
    bool whole = strchr(out, '\n') != NULL || strlen(out) + 1 < room;
    out[strcspn(out, "\r\n")] = '\0';
    return whole;
}

/* Asks, twice where it is typed. */
static bool ask_password(char *out, size_t room)
{
    char again[CLI_PASSWORD_MOST + 3];
    if (!read_secret("Password, at least 10 characters: ", out, room)) {
        cli_error("no password was given, or one of more than %d characters; type it, or give it as one line of "
                  "standard input",
                  CLI_PASSWORD_MOST);
        return false;
    }
    if (strlen(out) < CLI_PASSWORD_LEAST) {
        cli_error("the password has %zu characters; at least %d are needed, or it can be guessed", strlen(out),
                  CLI_PASSWORD_LEAST);
        return false;
    }
    if (!isatty(STDIN_FILENO)) return true;
    bool same = read_secret("Once more: ", again, sizeof again) && strcmp(out, again) == 0;
    memset(again, 0, sizeof again);
    if (!same) cli_error("the two are not the same; nothing was changed");
    return same;
}

static void set_password(const cli_users *users, bmb_account *a, const char *password)
{
    const bmb_slice all[] = { { a->name, strlen(a->name) },
                              { ":", 1 },
                              { users->realm, strlen(users->realm) },
                              { ":", 1 },
                              { password, strlen(password) } };
    bmb_mbedtls_hash(NULL, BMB_HASH_SHA256, all, 5, a->sha256);
    bmb_mbedtls_hash(NULL, BMB_HASH_MD5, all, 5, a->md5);
}

static bool draw(void *out, size_t size)
{
    if (getrandom(out, size, 0) == (ssize_t)size) return true;
    cli_error("the system gives no random numbers: %s", strerror(errno));
    return false;
}

/* Shown once: its digest is all that is kept. */
static bool make_token(bmb_account *a)
{
    static const char digits[] = "abcdefghijkmnpqrstuvwxyz23456789"; /* none that looks like another */
    uint8_t bits[TOKEN_BYTES * 8 / 5];
    char token[sizeof bits + 1];
    if (!draw(bits, sizeof bits)) return false;
    for (size_t i = 0; i < sizeof bits; i++) token[i] = digits[bits[i] % 32];
    token[sizeof bits] = '\0';
    const bmb_slice all = { token, sizeof bits };
    bmb_mbedtls_hash(NULL, BMB_HASH_SHA256, &all, 1, a->sha256);
    printf("Its token, which is shown only now: %s\n", token);
    memset(token, 0, sizeof token);
    return true;
}

static bool set_role(const char *text, bmb_account *a)
{
    for (int i = BMB_ROLE_WATCH; i < BMB_ROLE_COUNT; i++)
        if (strcmp(text, roles[i]) == 0) {
            a->role = (bmb_role)i;
            return true;
        }
    cli_error("--may %s: use watch, adjust or administer", text);
    return false;
}

static bool is_feed(const cli_config *c, const char *name)
{
    const char *names[CLI_FEEDS_MOST];
    for (size_t i = 0; i < c->feed_count; i++) {
        names[i] = c->feeds[i].name;
        if (strcmp(names[i], name) == 0) return true;
    }
    const char *near = cli_nearest(name, names, c->feed_count);
    cli_error("%s has no feed \"%s\"%s%s%s", c->path, name, near != NULL ? "; did you mean " : "",
              near != NULL ? near : "", near != NULL ? "?" : "");
    return false;
}

/* "yard,loco", or "all". */
static bool set_feeds(const cli_config *c, const char *text, cli_user *u)
{
    u->feed_count = 0;
    if (strcmp(text, "all") == 0) return true;
    while (*text != '\0') {
        char name[BMB_NAME_MAX];
        size_t n = strcspn(text, ",");
        if (n == 0 || n >= sizeof name || u->feed_count == CLI_FEEDS_MOST) {
            cli_error("--feeds: names of feeds are expected, with commas between them, or all");
            return false;
        }
        memcpy(name, text, n);
        name[n] = '\0';
        if (!is_feed(c, name)) return false;
        memcpy(u->feeds[u->feed_count++], name, n + 1);
        text += n + (text[n] == ',');
    }
    return true;
}

static bool good_name(const char *name)
{
    size_t n = strlen(name);
    if (n > 0 && n < BMB_ACCOUNT_NAME_MAX &&
        strspn(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-") == n)
        return true;
    cli_error("\"%s\": a name has 1 to %d of a-z A-Z 0-9 . - _", name, BMB_ACCOUNT_NAME_MAX - 1);
    return false;
}

static bool change(const cli_config *c, const users_options *o, cli_users *users, cli_user *u, bool anew)
{
    char password[CLI_PASSWORD_MOST + 3];
    if (o->may != NULL && !set_role(o->may, &u->account)) return false;
    if (o->feeds != NULL && !set_feeds(c, o->feeds, u)) return false;
    if (!anew && !o->password) return true;
    if (u->account.program) return make_token(&u->account);
    bool good = ask_password(password, sizeof password);
    if (good) set_password(users, &u->account, password);
    memset(password, 0, sizeof password);
    return good;
}

static bool add(const cli_config *c, const users_options *o, cli_users *users, const char *name)
{
    if (!good_name(name)) return false;
    if (cli_users_find(users, name) != SIZE_MAX) {
        cli_error("there is a \"%s\" already; `bambino users %s change %s` changes what is known of it", name, c->path,
                  name);
        return false;
    }
    if (users->count == BMB_ACCOUNTS_MOST) {
        cli_error("there are %u already, which is the limit", BMB_ACCOUNTS_MOST);
        return false;
    }
    cli_user *u = &users->user[users->count++];
    memset(u, 0, sizeof *u);
    memcpy(u->account.name, name, strlen(name) + 1);
    u->account.program = o->program != 0;
    u->account.role = BMB_ROLE_WATCH;
    return change(c, o, users, u, true);
}

static bool edit(const cli_config *c, const users_options *o, cli_users *users, const char *verb, const char *name)
{
    if (strcmp(verb, "add") == 0) return add(c, o, users, name);
    size_t i = cli_users_find(users, name);
    if (i == SIZE_MAX) {
        cli_error("there is no \"%s\"; `bambino users %s` lists who there is", name, c->path);
        return false;
    }
    if (strcmp(verb, "change") == 0) return change(c, o, users, &users->user[i], false);
    memmove(&users->user[i], &users->user[i + 1], (users->count - i - 1) * sizeof users->user[0]);
    users->count--;
    return true;
}

static void list(const cli_config *c, const cli_users *users, const char *path)
{
    if (users->count == 0 && users->begun) {
        printf("Nobody is in %s any more, and nobody may watch; `anybody = watch` in [device] of %s lets everybody "
               "watch.\n",
               path, c->path);
        return;
    }
    if (users->count == 0) {
        printf("Nobody is in %s: everybody in the network may watch, and nobody may change anything.\n", path);
        return;
    }
    printf("%-24s %-8s %-11s %s\n", "name", "is a", "may", "feeds");
    for (size_t i = 0; i < users->count; i++) {
        const cli_user *u = &users->user[i];
        printf("%-24s %-8s %-11s ", u->account.name, u->account.program ? "program" : "person", roles[u->account.role]);
        if (u->feed_count == 0) fputs("all", stdout);
        for (size_t k = 0; k < u->feed_count; k++) printf("%s%s", k > 0 ? ", " : "", u->feeds[k]);
        fputc('\n', stdout);
    }
    if (users->ended_count > 0)
        printf("\n%zu link%s called back.\n", users->ended_count, users->ended_count == 1 ? " is" : "s are");
}

/* "90m", "2h", "3d": minutes. */
static bool read_time(const char *text, uint32_t *minutes)
{
    char *end;
    unsigned long n = strtoul(text, &end, 10);
    unsigned long each = *end == 'm' ? 1 : *end == 'h' ? 60 : *end == 'd' ? 1440 : 0;
    if (end != text && each > 0 && end[1] == '\0' && n > 0 && n <= 5256000 / each) {
        *minutes = (uint32_t)(n * each);
        return true;
    }
    cli_error("--time %s: a number with m, h or d is expected, such as 90m or 2h; at most ten years", text);
    return false;
}

static bool lend(const cli_config *c, const users_options *o, cli_users *users, const char *feed)
{
    bmb_port port = { .hash = bmb_mbedtls_hash };
    bmb_link_terms terms = { .viewers = (uint16_t)o->viewers };
    char text[BMB_LINK_SIZE], until[40] = "never, by time";
    uint32_t minutes = 24 * 60;
    if (!is_feed(c, feed) || (o->time != NULL && !read_time(o->time, &minutes))) return false;
    if (o->viewers < 0 || o->viewers >= BMB_LINK_OWNERS) {
        cli_error("--viewers %d: use 1 to %d, or leave it out", o->viewers, BMB_LINK_OWNERS - 1);
        return false;
    }
    if (!users->has_key && !draw(users->link_key, sizeof users->link_key)) return false;
    users->has_key = true;
    while (terms.number == 0)
        if (!draw(&terms.number, sizeof terms.number)) return false;
    time_t end = time(NULL) + (time_t)minutes * 60;
    struct tm parts;
    terms.until_s = (uint32_t)end;
    strftime(until, sizeof until, "%Y-%m-%d %H:%M:%S UTC", gmtime_r(&end, &parts));
    bmb_link_write(&port, users->link_key, feed, &terms, text);
    printf("Link %u, good until %s", terms.number, until);
    if (terms.viewers > 0) printf(" and for %u viewer%s", terms.viewers, terms.viewers == 1 ? "" : "s");
    printf(".\nAn address of the device, and then\n    /lent/%s/%s", text, feed);
    printf("\nover RTSP; over HTTP with what comes behind the feed's name there, such as\n    /lent/%s/%s.mjpeg\n",
           text, feed);
    printf("To call it back: bambino users %s end-link %u\n", c->path, terms.number);
    return true;
}

static bool end_link(cli_users *users, const char *number)
{
    char *end;
    unsigned long n = strtoul(number, &end, 10);
    if (end == number || *end != '\0' || n == 0 || n > UINT32_MAX) {
        cli_error("end-link %s: the number is expected that was told when the link was made", number);
        return false;
    }
    if (users->ended_count == CLI_ENDED_MOST) { /* the oldest is the one that has most likely ended by itself */
        memmove(users->ended, users->ended + 1, (CLI_ENDED_MOST - 1) * sizeof users->ended[0]);
        users->ended_count--;
    }
    users->ended[users->ended_count++] = (uint32_t)n;
    printf("Link %lu is called back.\n", n);
    return true;
}

static const char *const verbs[] = { "add", "change", "remove", "lend", "end-link" };

/* Only adding somebody begins a file anew: by it the owner says that the former one is gone. */
static bool read_or_begin(const cli_config *c, const char *path, const char *verb, cli_users *users)
{
    cli_users_found found = cli_users_read(c, path, users, NULL);
    if (found == CLI_USERS_LOST && strcmp(verb, "add") == 0)
        fprintf(stderr, "bambino: it is begun anew; who could sign in before cannot any more\n");
    return found == CLI_USERS_READ || found == CLI_USERS_NONE || (found == CLI_USERS_LOST && strcmp(verb, "add") == 0);
}

static int act(const cli_config *c, const users_options *o, const char *verb, const char *what)
{
    char path[CLI_USERS_PATH];
    cli_users *users = calloc(1, sizeof *users);
    if (users == NULL) return cli_error("there is not enough memory");
    int status = EXIT_FAILED;
    if (!cli_users_path(c, path, sizeof path)) {
        cli_error("%s: no place for users is named; add `state = FOLDER` or `users = FILE` to [device]", c->path);
        status = EXIT_USAGE;
    } else if (read_or_begin(c, path, verb, users)) {
        bool done = strcmp(verb, "lend") == 0       ? lend(c, o, users, what)
                    : strcmp(verb, "end-link") == 0 ? end_link(users, what)
                    : verb[0] != '\0'               ? edit(c, o, users, verb, what)
                                                    : true;
        if (verb[0] == '\0') list(c, users, path);
        if (done && !users->has_key) done = users->has_key = draw(users->link_key, sizeof users->link_key);
        if (done && verb[0] != '\0') done = cli_users_write(path, users);
        if (done && (strcmp(verb, "add") == 0 || strcmp(verb, "change") == 0 || strcmp(verb, "remove") == 0))
            printf("%s \"%s\". A device that runs takes it up within a second or two.\n",
                   verb[0] == 'a'   ? "Added"
                   : verb[0] == 'c' ? "Changed"
                                    : "Removed",
                   what);
        if (done && verb[0] == 'r' && users->count == 0)
            printf("Nobody is left: nobody may watch now. To let everybody watch, say `anybody = watch` in [device] of "
                   "%s.\n",
                   c->path);
        status = done ? EXIT_OK : EXIT_FAILED;
    }
    memset(users, 0, sizeof *users);
    free(users);
    return status;
}

int cli_users_command(int argc, const char **argv)
{
    users_options o = { 0 };
    const struct poptOption options[] = {
        { "may", '\0', POPT_ARG_STRING, &o.may, 0, "watch (preset), adjust or administer", "ROLE" },
        { "feeds", '\0', POPT_ARG_STRING, &o.feeds, 0, "for these alone, with commas; or all (preset)", "NAMES" },
        { "program", '\0', POPT_ARG_NONE, &o.program, 0, "add: it signs in with a token, which is shown once", NULL },
        { "password", '\0', POPT_ARG_NONE, &o.password, 0, "change: a new one, or a program's new token", NULL },
        { "time", '\0', POPT_ARG_STRING, &o.time, 0, "lend: the link ends after, such as 90m, 2h or 3d; preset 24h",
          "TIME" },
        { "viewers", '\0', POPT_ARG_INT, &o.viewers, 0, "lend: and after so many viewers", "N" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[3] = { NULL, NULL, NULL };
    bool help = false;
    if (!cli_options(argc, argv, options, "users CONFIG [add|change|remove NAME | lend FEED | end-link NUMBER]", rest,
                     3, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    const char *verb = rest[1] != NULL ? rest[1] : "";
    bool known = verb[0] == '\0';
    for (size_t i = 0; i < sizeof verbs / sizeof verbs[0]; i++) known = known || strcmp(verb, verbs[i]) == 0;
    cli_config *c = calloc(1, sizeof *c);
    int status = EXIT_USAGE;
    if (rest[0] == NULL) {
        cli_error("users needs the configuration of the device: bambino users my.ini");
    } else if (!known) {
        const char *near = cli_nearest(verb, verbs, sizeof verbs / sizeof verbs[0]);
        cli_error("users %s: use add, change, remove, lend or end-link%s%s%s", verb,
                  near != NULL ? "; did you mean " : "", near != NULL ? near : "", near != NULL ? "?" : "");
    } else if (verb[0] != '\0' && rest[2] == NULL) {
        cli_error("users %s needs %s", verb,
                  strcmp(verb, "lend") == 0       ? "the name of a feed"
                  : strcmp(verb, "end-link") == 0 ? "the number of a link"
                                                  : "a name");
    } else if (c != NULL && cli_config_read(rest[0], c)) {
        status = act(c, &o, verb, rest[2]);
    }
    free(c);
    free(o.may);
    free(o.feeds);
    free(o.time);
    return status;
}
