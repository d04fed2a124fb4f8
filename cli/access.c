/* What the file of users comes to for the device, and its changes while that runs. */
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bambino/tls.h"
#include "users.h"

#define DOMAINS 4        /* of the network, at most */
#define LOOK_US 1000000u /* between two looks at the file */

/* One state of the file. The device keeps pointing into it until the next one is taken. */
typedef struct taken {
    cli_users users;
    cli_users_found found;
    bool stale; /* the file cannot be read any more */
    bmb_account accounts[BMB_ACCOUNTS_MOST];
    bmb_access access;
} taken;

struct cli_access {
    char path[CLI_USERS_PATH];
    struct stat stamp;
    uint64_t look_us;
    taken state[2];
    int now;
    const char *names[CLI_NAMES_MOST + 2 + DOMAINS], *origins[CLI_NAMES_MOST];
    char name_text[CLI_TEXT_MAX], origin_text[CLI_TEXT_MAX], host[HOST_NAME_MAX + 1], host_local[HOST_NAME_MAX + 8];
    char full[DOMAINS][HOST_NAME_MAX + 130];
};

static uint64_t feeds_of(const cli_device *d, const cli_user *u)
{
    uint64_t feeds = u->feed_count == 0 ? UINT64_MAX : 0;
    for (size_t i = 0; i < u->feed_count; i++)
        for (size_t k = 0; k < d->config.feed_count; k++)
            if (d->device == NULL && strcmp(u->feeds[i], d->feeds[k].name) == 0) feeds |= 1ull << k;
    for (size_t i = 0; d->device != NULL && i < u->feed_count; i++) {
        size_t place = cli_place_of(d, u->feeds[i]);
        if (place < 64) feeds |= 1ull << place;
    }
    return feeds;
}

static void settle(const cli_device *d, taken *t)
{
    static const bmb_role chosen[] = { BMB_ROLE_NONE, BMB_ROLE_NONE, BMB_ROLE_WATCH, BMB_ROLE_ADJUST };
    for (size_t i = 0; i < t->users.count; i++) {
        t->accounts[i] = t->users.user[i].account;
        t->accounts[i].feeds = feeds_of(d, &t->users.user[i]);
    }
    bmb_role anybody = chosen[d->file.anybody];
    if (d->file.anybody == 0 && t->found == CLI_USERS_NONE) anybody = BMB_ROLE_WATCH;
    t->access = (bmb_access){ .anybody = anybody,
                              .realm = t->users.realm,
                              .accounts = t->accounts,
                              .account_count = t->users.count,
                              .link_key = t->users.has_key ? t->users.link_key : NULL,
                              .links_ended = t->users.ended,
                              .links_ended_count = t->users.ended_count,
                              .locked = t->users.count == 0 && t->found != CLI_USERS_NONE,
                              .stale = t->stale };
}

/* Words with commas or blanks between them. */
static size_t split(char *text, const char **out, size_t most)
{
    size_t n = 0;
    for (char *word = strtok(text, ", \t"); word != NULL && n < most; word = strtok(NULL, ", \t")) out[n++] = word;
    return n;
}

/* By the domains in which this network looks for names, such as one that a router gives out. */
static void add_full_names(cli_access *a, bmb_config *c)
{
    char line[512];
    FILE *f = fopen("/etc/resolv.conf", "r");
    size_t n = 0;
    while (f != NULL && fgets(line, sizeof line, f) != NULL) {
        char *rest = NULL, *word = strtok_r(line, " \t\n", &rest);
        if (word == NULL || (strcmp(word, "search") != 0 && strcmp(word, "domain") != 0)) continue;
        while (n < DOMAINS && (word = strtok_r(NULL, " \t\n", &rest)) != NULL) {
            if (strlen(word) > 127 || strcmp(word, ".") == 0) continue;
            snprintf(a->full[n], sizeof a->full[n], "%s.%s", a->host, word);
            a->names[c->name_count++] = a->full[n++];
        }
    }
    if (f != NULL) fclose(f);
}

/* What this host is called; a name by which others call it has to be said. */
static void set_names(cli_device *d)
{
    cli_access *a = d->access;
    bmb_config *c = &d->config;
    snprintf(a->name_text, sizeof a->name_text, "%s", d->file.names);
    c->names = NULL;
    c->name_count = split(a->name_text, a->names, CLI_NAMES_MOST);
    if (c->name_count == 1 && strcmp(a->names[0], "any") == 0) {
        c->name_count = 0;
    } else {
        if (gethostname(a->host, sizeof a->host - 1) != 0) snprintf(a->host, sizeof a->host, "localhost");
        snprintf(a->host_local, sizeof a->host_local, "%s.local", a->host);
        a->names[c->name_count++] = a->host;
        a->names[c->name_count++] = a->host_local;
        add_full_names(a, c);
        c->names = a->names;
    }
    snprintf(a->origin_text, sizeof a->origin_text, "%s", d->file.origins);
    c->origins = a->origins;
    c->origin_count = split(a->origin_text, a->origins, CLI_NAMES_MOST);
    c->embed = d->file.embed != 0;
}

/* What was read before the device is opened anew stays, too, when the file is lost. */
static void take_carried(const cli_device *d, taken *t)
{
    const cli_carried *c = d->carried;
    bool lost = t->found == CLI_USERS_LOST || t->found == CLI_USERS_BAD;
    if (!lost || c == NULL || c->users == NULL || d->access->path[0] == '\0') return;
    t->users = *c->users;
    t->found = CLI_USERS_READ;
    t->stale = true;
}

void cli_access_leave(cli_device *d)
{
    cli_carried *c = d->carried;
    if (c == NULL || d->device == NULL || d->access == NULL) return;
    const taken *t = &d->access->state[d->access->now];
    c->sign_in_count = bmb_sign_ins_copy(d->device, c->sign_ins);
    if (t->users.count > 0 && c->users == NULL) c->users = malloc(sizeof *c->users);
    if (t->users.count > 0 && c->users != NULL) *c->users = t->users;
}

void cli_access_resume(cli_device *d)
{
    if (d->carried != NULL) bmb_sign_ins_take(d->device, d->carried->sign_ins, d->carried->sign_in_count);
}

void cli_carried_forget(cli_carried *c)
{
    if (c->users != NULL) memset(c->users, 0, sizeof *c->users);
    free(c->users);
    memset(c, 0, sizeof *c);
}

bool cli_access_open(cli_device *d)
{
    cli_access_close(d);
    cli_access *a = d->access = calloc(1, sizeof *a);
    if (a == NULL) {
        cli_error("there is not enough memory");
        return false;
    }
    d->port.hash = bmb_mbedtls_hash;
    a->state[0].found = CLI_USERS_NONE;
    if (cli_users_path(&d->file, a->path, sizeof a->path))
        a->state[0].found = cli_users_read(&d->file, a->path, &a->state[0].users, &a->stamp);
    take_carried(d, &a->state[0]);
    if (a->state[0].users.count > 0) cli_users_mark(a->path);
    if (a->state[0].users.realm[0] == '\0')
        snprintf(a->state[0].users.realm, sizeof a->state[0].users.realm, "bambino");
    settle(d, &a->state[0]);
    d->config.access = &a->state[0].access;
    set_names(d);
    return true;
}

static bool same_file(const struct stat *a, const struct stat *b)
{
    return a->st_ino == b->st_ino && a->st_size == b->st_size && a->st_mtim.tv_sec == b->st_mtim.tv_sec &&
           a->st_mtim.tv_nsec == b->st_mtim.tv_nsec && a->st_mode == b->st_mode;
}

/* The device goes by this state from now on. */
static void take(cli_device *d, taken *t)
{
    cli_access *a = d->access;
    settle(d, t);
    if (bmb_access_change(d->device, &t->access) == BMB_OK) a->now = t == &a->state[1];
}

/* What is known stays as it is, but for what else it hangs on: feeds, and whether it is stale. */
static void take_again(cli_device *d, bool stale)
{
    cli_access *a = d->access;
    taken *now = &a->state[a->now], *other = &a->state[1 - a->now];
    other->users = now->users;
    other->found = now->found;
    other->stale = stale;
    take(d, other);
}

static void tell_lost(cli_device *d, cli_users_found found, size_t count)
{
    bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_USERS_UNREADABLE,
                                      .err = found == CLI_USERS_LOST ? BMB_NOT_FOUND : BMB_BAD_DATA,
                                      .value = (int64_t)count,
                                      .text = found == CLI_USERS_LOST ? "it is not there, or empty" : NULL });
}

/* The file is another one than before, or gone. One that cannot be read is told once, and who was let in before still
 * is: what vanishes opens nothing. */
static void read_again(cli_device *d, const struct stat *s)
{
    cli_access *a = d->access;
    taken *other = &a->state[1 - a->now];
    size_t before = a->state[a->now].users.count;
    a->stamp = *s;
    cli_users_found found = cli_users_read(&d->file, a->path, &other->users, &a->stamp);
    if (found == CLI_USERS_NONE && before > 0) found = CLI_USERS_LOST;
    if (found == CLI_USERS_LOST || found == CLI_USERS_BAD) {
        a->stamp = *s;
        take_again(d, true);
        tell_lost(d, found, before);
        return;
    }
    other->found = found;
    other->stale = false;
    take(d, other);
    if (other->users.count > 0) cli_users_mark(a->path);
    bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_USERS_READ, .value = (int64_t)other->users.count });
}

uint64_t cli_access_tend(cli_device *d, uint64_t next)
{
    cli_access *a = d->access;
    uint64_t now = d->port.now_us(d->port.ctx);
    struct stat s = { 0 };
    if (a->path[0] == '\0') return next;
    if (now >= a->look_us) {
        a->look_us = now + LOOK_US;
        if (lstat(a->path, &s) != 0) memset(&s, 0, sizeof s);
        if (!same_file(&s, &a->stamp)) read_again(d, &s);
    }
    return next < a->look_us ? next : a->look_us;
}

void cli_access_refresh(cli_device *d)
{
    take_again(d, d->access->state[d->access->now].stale);
    set_names(d);
}

void cli_access_say(cli_device *d)
{
    const bmb_access *access = &d->access->state[d->access->now].access;
    static const char *const may[] = { "do nothing", "watch", "watch and adjust" };
    const cli_users_found found = d->access->state[d->access->now].found;
    if (found == CLI_USERS_LOST || found == CLI_USERS_BAD) {
        tell_lost(d, found, 0);
        cli_say("Nobody gets in: the file of users cannot be read, %s.", d->access->path);
        cli_say("Bring it back, or add users anew with `bambino users %s add NAME`; a device that runs takes it up.",
                d->file.path);
    } else if (access->account_count == 0 && access->anybody == BMB_ROLE_NONE) {
        cli_say(
            "Nobody gets in: nobody is among the users. To let everybody watch, say `anybody = watch` in [device].");
    } else if (access->account_count == 0 && access->anybody == BMB_ROLE_WATCH) {
        cli_say("Nobody has to sign in: everybody in the network may watch, and nobody may change anything.");
        if (d->access->path[0] != '\0') {
            cli_say("To let in only some: bambino users %s add NAME", d->file.path);
        } else {
            cli_say("To let in only some, name a state folder in [device]; see docs/security.md");
        }
        cli_say("To change settings on the page, add a user with --may adjust, or set anybody = adjust in [device].");
    } else if (access->account_count == 0) {
        cli_say("Nobody has to sign in: everybody in the network may %s.", may[access->anybody]);
    } else {
        cli_say("%zu may sign in; everybody else may %s.", access->account_count, may[access->anybody]);
    }
}

void cli_access_close(cli_device *d)
{
    if (d->access != NULL) memset(d->access, 0, sizeof *d->access);
    free(d->access);
    d->access = NULL;
}
