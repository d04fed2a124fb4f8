/* Reading and writing the file of users. */
#include <errno.h>
#include <fcntl.h>
#include <ini.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bambino/tls.h"
#include "users.h"

static const char *const roles[] = { "none", "watch", "adjust", "administer" };

bool cli_users_path(const cli_config *c, char *out, size_t room)
{
    char name[CLI_TEXT_MAX + 8];
    if (c->users[0] == '\0' && c->state[0] == '\0') return false;
    snprintf(name, sizeof name, "%s", c->users);
    if (c->users[0] == '\0') snprintf(name, sizeof name, "%s/users", c->state);
    cli_beside(c, name, out, room);
    return true;
}

size_t cli_users_find(const cli_users *users, const char *name)
{
    for (size_t i = 0; i < users->count; i++)
        if (strcmp(users->user[i].account.name, name) == 0) return i;
    return SIZE_MAX;
}

static bool from_hex(const char *text, uint8_t *out, size_t size)
{
    if (strlen(text) != 2 * size) return false;
    for (size_t i = 0; i < size; i++) {
        unsigned byte;
        if (strspn(text + 2 * i, "0123456789abcdef") < 2 || sscanf(text + 2 * i, "%2x", &byte) != 1) return false;
        out[i] = (uint8_t)byte;
    }
    return true;
}

static int on_user(cli_user *u, const char *key, const char *value)
{
    bmb_account *a = &u->account;
    if (strcmp(key, "may") == 0) {
        for (int i = BMB_ROLE_WATCH; i < BMB_ROLE_COUNT; i++)
            if (strcmp(value, roles[i]) == 0) a->role = (bmb_role)i;
        return a->role != BMB_ROLE_NONE;
    }
    if (strcmp(key, "feed") == 0) {
        if (u->feed_count == CLI_FEEDS_MOST || strlen(value) >= BMB_NAME_MAX) return 0;
        memcpy(u->feeds[u->feed_count++], value, strlen(value) + 1);
        return 1;
    }
    if (strcmp(key, "sha256") == 0) return from_hex(value, a->sha256, sizeof a->sha256);
    return strcmp(key, "md5") == 0 && from_hex(value, a->md5, sizeof a->md5);
}

static int on_pair(void *user, const char *section, const char *key, const char *value)
{
    cli_users *out = (cli_users *)user;
    if (strcmp(section, "users") == 0) {
        out->begun = true;
        if (strcmp(key, "accounts") == 0) {
            out->said = true;
            return sscanf(value, "%zu", &out->accounts) == 1;
        }
        if (strcmp(key, "realm") == 0 && strlen(value) < sizeof out->realm) {
            memcpy(out->realm, value, strlen(value) + 1);
            return 1;
        }
        if (strcmp(key, "link-key") == 0) {
            out->has_key = true;
            return from_hex(value, out->link_key, sizeof out->link_key);
        }
        if (strcmp(key, "ended-link") != 0 || out->ended_count == CLI_ENDED_MOST) return 0;
        return sscanf(value, "%u", &out->ended[out->ended_count++]) == 1;
    }
    bool program = strncmp(section, "program ", 8) == 0;
    const char *name = section + (program ? 8 : 5);
    if ((!program && strncmp(section, "user ", 5) != 0) || strlen(name) >= BMB_ACCOUNT_NAME_MAX) return 0;
    size_t i = cli_users_find(out, name);
    if (i == SIZE_MAX) {
        if (out->count == BMB_ACCOUNTS_MOST) return 0;
        i = out->count++;
        memset(&out->user[i], 0, sizeof out->user[i]);
        memcpy(out->user[i].account.name, name, strlen(name) + 1);
        out->user[i].account.program = program;
    }
    return on_user(&out->user[i], key, value);
}

/* What stands in quotes in heads and documents. */
static void make_realm(const char *name, char *out, size_t room)
{
    size_t n = 0;
    for (; *name != '\0' && n + 1 < room; name++)
        if (*name >= 0x20 && *name < 0x7F && *name != '"' && *name != '\\') out[n++] = *name;
    out[n] = '\0';
    if (n == 0) snprintf(out, room, "bambino");
}

/* Whoever runs the device must be able to read what its administrator writes: the folder is his. */
static void give_to_owner(const char *path)
{
    char folder[PATH_MAX];
    struct stat s;
    snprintf(folder, sizeof folder, "%s", path);
    char *slash = strrchr(folder, '/');
    if (slash == NULL) return;
    *(slash > folder ? slash : slash + 1) = '\0';
    if (geteuid() == 0 && stat(folder, &s) == 0 && lchown(path, s.st_uid, s.st_gid) != 0)
        cli_error("%s: it could not be given to the folder's owner: %s", path, strerror(errno));
}

/* Beside the file: users are wanted here, whatever becomes of the file itself. */
static void mark_of(const char *path, char *out, size_t room)
{
    snprintf(out, room, "%s.wanted", path);
}

void cli_users_mark(const char *path)
{
    static const char text[] = "There are users here. As long as this file stands, the loss of theirs opens nothing.\n";
    char mark[CLI_USERS_PATH + 8];
    mark_of(path, mark, sizeof mark);
    if (access(mark, F_OK) == 0) return;
    bmb_err err = bmb_linux_write_whole(mark, text, sizeof text - 1, false);
    if (err == BMB_OK) {
        give_to_owner(mark);
    } else if (err != BMB_IN_USE) {
        cli_error("%s cannot be written (%s): should the file of users be lost, everybody could watch after a restart; "
                  "`users = FILE` in [device] prevents that, too",
                  mark, bmb_err_text(err));
    }
}

/* Were there users, so that there should be some? */
static bool wanted(const cli_config *c, const char *path)
{
    char mark[CLI_USERS_PATH + 8];
    mark_of(path, mark, sizeof mark);
    return c->users[0] != '\0' || access(mark, F_OK) == 0;
}

/* A person has two digests, a program one: a file that was cut off ends before them. */
static bool has_digests(const bmb_account *a)
{
    static const uint8_t none[BMB_SHA256_SIZE];
    return memcmp(a->sha256, none, sizeof a->sha256) != 0 && (a->program || memcmp(a->md5, none, sizeof a->md5) != 0);
}

/* What is wrong with the file as a whole; NULL: nothing. */
static const char *incomplete(const cli_users *users)
{
    if (!users->begun) return "its first section [users] is missing";
    if (users->said && users->accounts != users->count) return "it has not as many users as it says: it was cut off";
    for (size_t i = 0; i < users->count; i++) {
        if (users->user[i].account.role == BMB_ROLE_NONE) return "one of its users has no line `may = …`";
        if (!has_digests(&users->user[i].account)) return "one of its users has no digests: it was cut off";
    }
    return NULL;
}

static cli_users_found judge(const char *path, int fd, FILE *f, cli_users *out)
{
    struct stat s = { 0 };
    if (f == NULL || fstat(fd, &s) != 0 || !S_ISREG(s.st_mode)) {
        cli_error("%s: the users cannot be read: %s", path, errno == ELOOP ? "it is a symbolic link" : strerror(errno));
        return CLI_USERS_BAD;
    }
    if ((s.st_mode & 077) != 0) {
        cli_error("%s: others than its owner may read it, and who reads it can sign in; `chmod 600 %s`", path, path);
        return CLI_USERS_BAD;
    }
    if (s.st_size == 0) {
        cli_error("%s is empty; bring it back, or add users anew with `bambino users`", path);
        return CLI_USERS_LOST;
    }
    int line = ini_parse_file(f, on_pair, out);
    if (line != 0) {
        cli_error("%s:%d: this line is not one that `bambino users` writes; nobody is let in by such a file", path,
                  line);
        return CLI_USERS_BAD;
    }
    const char *why = incomplete(out);
    if (why != NULL) cli_error("%s: %s; nobody is let in by such a file", path, why);
    return why == NULL ? CLI_USERS_READ : CLI_USERS_BAD;
}

static void forget(const cli_config *c, cli_users *out)
{
    memset(out, 0, sizeof *out);
    make_realm(c->device_name, out->realm, sizeof out->realm);
}

cli_users_found cli_users_read(const cli_config *c, const char *path, cli_users *out, struct stat *stamp)
{
    forget(c, out);
    if (stamp != NULL) memset(stamp, 0, sizeof *stamp);
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOFOLLOW);
    if (fd < 0 && (errno == ENOENT || errno == ENOTDIR)) {
        if (!wanted(c, path)) return CLI_USERS_NONE;
        cli_error("%s: the file of users is not there; bring it back, or add users anew with `bambino users`", path);
        return CLI_USERS_LOST;
    }
    FILE *f = fd >= 0 ? fdopen(fd, "r") : NULL;
    cli_users_found found = judge(path, fd, f, out);
    if (found == CLI_USERS_READ && stamp != NULL && fstat(fd, stamp) != 0) memset(stamp, 0, sizeof *stamp);
    if (f != NULL) fclose(f);
    if (found != CLI_USERS_READ) forget(c, out);
    return found;
}

static void put_hex(FILE *f, const char *key, const uint8_t *data, size_t size)
{
    fprintf(f, "%s = ", key);
    for (size_t i = 0; i < size; i++) fprintf(f, "%02x", data[i]);
    fputc('\n', f);
}

void cli_users_put(FILE *f, const cli_users *u)
{
    fprintf(f,
            "# Who may sign in. `bambino users` writes this file; whoever can read it can sign in "
            "here.\n[users]\nrealm = %s\naccounts = %zu\n",
            u->realm, u->count);
    if (u->has_key) put_hex(f, "link-key", u->link_key, sizeof u->link_key);
    for (size_t i = 0; i < u->ended_count; i++) fprintf(f, "ended-link = %u\n", u->ended[i]);
    for (size_t i = 0; i < u->count; i++) {
        const cli_user *user = &u->user[i];
        const bmb_account *a = &user->account;
        fprintf(f, "\n[%s %s]\nmay = %s\n", a->program ? "program" : "user", a->name, roles[a->role]);
        for (size_t k = 0; k < user->feed_count; k++) fprintf(f, "feed = %s\n", user->feeds[k]);
        put_hex(f, "sha256", a->sha256, sizeof a->sha256);
        if (!a->program) put_hex(f, "md5", a->md5, sizeof a->md5);
    }
}

bool cli_users_write(const char *path, const cli_users *users)
{
    char *text = NULL;
    size_t size = 0;
    FILE *f = open_memstream(&text, &size);
    if (f != NULL) cli_users_put(f, users);
    mode_t mask = umask(0077);
    bmb_err err = f != NULL && fclose(f) == 0 ? bmb_linux_write_whole(path, text, size, true) : BMB_NO_MEMORY;
    umask(mask);
    if (text != NULL) memset(text, 0, size);
    free(text);
    if (err == BMB_OK) {
        give_to_owner(path);
        cli_users_mark(path);
        return true;
    }
    cli_error("%s: the users cannot be written: %s", path,
              err == BMB_NOT_FOUND ? "there is no such folder; start the device once, or create it"
                                   : bmb_err_text(err));
    return false;
}
