/* The status document over HTTP. */
#ifndef BMB_TALK_HTTP_STATUS_H
#define BMB_TALK_HTTP_STATUS_H

#include "serve/status.h"
#include "talk/conn.h"

/* What of the figures, and of what happens, whoever is connected may see. */
bmb_status_view bmb_http_view(const bmb_talk *t, const bmb_conn *c);
/* Puts the next piece of it into tx; with the last one, nothing more is due. */
void bmb_http_put_status(bmb_talk *t, bmb_conn *c);

#endif
