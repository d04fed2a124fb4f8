/* What an HTTP connection does: requests become answers and viewers. */
#ifndef BMB_TALK_HTTP_H
#define BMB_TALK_HTTP_H

#include "talk/conn.h"

extern const bmb_conversation bmb_http_conversation;

/* The still that a connection waits for (bmb_talk.stills). */
void bmb_http_take_still(bmb_still_taker *taker, void *asker, const uint8_t *data, size_t size);

#endif
