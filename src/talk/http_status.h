/* The status document over HTTP. */
#ifndef BMB_TALK_HTTP_STATUS_H
#define BMB_TALK_HTTP_STATUS_H

#include "talk/conn.h"

/* Puts the next piece of it into tx; with the last one, c->status is over. */
void bmb_http_put_status(bmb_talk *t, bmb_conn *c);

#endif
