/* The file of users: who may sign in, with what, and for what. Private to its owner. */
#ifndef BMB_CLI_USERS_H
#define BMB_CLI_USERS_H

#include <sys/stat.h>

#include "cli.h"

#define CLI_PASSWORD_LEAST 10
#define CLI_PASSWORD_MOST 100
#define CLI_ENDED_MOST 64
#define CLI_USERS_PATH (2 * CLI_TEXT_MAX + 10)

typedef struct cli_user {
    bmb_account account; /* without its feeds */
    char feeds[CLI_FEEDS_MOST][BMB_NAME_MAX];
    size_t feed_count; /* 0: all */
} cli_user;

typedef struct cli_users cli_users;
struct cli_users {
    bool begun, said; /* the file has its first section; it says how many accounts it has */
    size_t accounts;  /* … so many */
    char realm[64];
    bool has_key;
    uint8_t link_key[BMB_LINK_KEY_SIZE];
    cli_user user[BMB_ACCOUNTS_MOST];
    size_t count;
    uint32_t ended[CLI_ENDED_MOST];
    size_t ended_count;
};

/* Where a configuration has its users; false: it says no place, which the message tells. */
bool cli_users_path(const cli_config *c, char *out, size_t room);
/* What came of reading the file. */
typedef enum cli_users_found {
    CLI_USERS_READ,
    CLI_USERS_NONE, /* there is no file, and nothing says that there ever was one: everybody may watch */
    CLI_USERS_LOST, /* there is no file any more, or it is empty; nobody is to get in by that */
    CLI_USERS_BAD   /* it cannot be read, others can read it, or it is damaged */
} cli_users_found;

/* Reads the file. On LOST and BAD prints a message, and `out` has nobody in it. stamp: of what was read; NULL: not
 * wanted. */
cli_users_found cli_users_read(const cli_config *c, const char *path, cli_users *out, struct stat *stamp);
/* Notes beside the file that there are users, so that its loss opens nothing. */
void cli_users_mark(const char *path);
void cli_users_put(FILE *f, const cli_users *users); /* as the file has them */
bool cli_users_write(const char *path, const cli_users *users);
/* SIZE_MAX: there is none of that name. */
size_t cli_users_find(const cli_users *users, const char *name);

#endif
