/* The file of users: who may sign in, with what, and for what. Private to its owner. */
#ifndef BMB_CLI_USERS_H
#define BMB_CLI_USERS_H

#include <sys/stat.h>

#include "cli.h"

#define CLI_PASSWORD_LEAST 10
#define CLI_PASSWORD_MOST 100
#define CLI_ENDED_MOST 64

typedef struct cli_user {
    bmb_account account; /* without its feeds */
    char feeds[CLI_FEEDS_MOST][BMB_NAME_MAX];
    size_t feed_count; /* 0: all */
} cli_user;

typedef struct cli_users {
    char realm[64];
    bool has_key;
    uint8_t link_key[BMB_LINK_KEY_SIZE];
    cli_user user[BMB_ACCOUNTS_MOST];
    size_t count;
    uint32_t ended[CLI_ENDED_MOST];
    size_t ended_count;
} cli_users;

/* Where a configuration has its users; false: it says no place, which the message tells. */
bool cli_users_path(const cli_config *c, char *out, size_t room);
/* Reads the file; one that is not there has nobody in it. On failure prints a message. stamp: of what was read; NULL:
 * not wanted. */
bool cli_users_read(const char *path, const char *device_name, cli_users *out, struct stat *stamp);
void cli_users_put(FILE *f, const cli_users *users); /* as the file has them */
bool cli_users_write(const char *path, const cli_users *users);
/* SIZE_MAX: there is none of that name. */
size_t cli_users_find(const cli_users *users, const char *name);

#endif
