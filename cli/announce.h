/* What is announced in the network, and the thread that does it. */
#ifndef BAMBINO_CLI_ANNOUNCE_H
#define BAMBINO_CLI_ANNOUNCE_H

#include "cli.h"

typedef struct cli_announced {
    char title[64];              /* "": the device itself */
    char type[16];               /* "_rtsp._tcp" */
    char path[BMB_NAME_MAX + 2]; /* "/yard" */
    uint16_t port;
    int interface; /* 0: all */
    bool ipv4;     /* not by IPv6 */
} cli_announced;

/* Unused bytes are 0. */
typedef struct cli_announcement {
    char device[64];
    size_t count;
    cli_announced service[2 * (CLI_FEEDS_MOST + 1)];
} cli_announcement;

/* From now on this, and nothing else. Does not wait. */
void cli_announce(const cli_announcement *wanted);
/* What came of it, if that is new. */
bool cli_announce_news(char *text, size_t room, bool *trouble);

#endif
