/* Without Avahi's library nothing is announced; cli/announce.c in another build. */
#include "announce.h"

bool cli_announce_there(void)
{
    return false;
}

void cli_announce(const cli_announcement *wanted)
{
    (void)wanted;
}

bool cli_announce_news(char *text, size_t room, bool *trouble)
{
    (void)text;
    (void)room;
    (void)trouble;
    return false;
}
