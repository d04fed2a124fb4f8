/* Who may have what over HTTP: every request is looked at here before it is acted on; and what is there for signing in
 * and lending. Answers are made by http.c.
 */
#ifndef BMB_TALK_HTTP_ACCESS_H
#define BMB_TALK_HTTP_ACCESS_H

#include "talk/conn.h"

#define BMB_ACCESS_ROOM 1216u /* of scratch memory, for the texts of a reply */

typedef struct bmb_http_reply {
    uint16_t status;   /* 0: the request may be acted on */
    const char *extra; /* lines of the head; or NULL */
    const char *body;  /* JSON … */
    size_t size;       /* … and its bytes */
} bmb_http_reply;

/* May this be asked for, by whoever asks, from where he asks? */
bmb_http_reply bmb_http_admit(bmb_talk *t, bmb_conn *c, const bmb_route *route);
/* Acts on the routes from BMB_ROUTE_WHO on. */
bmb_http_reply bmb_http_access(bmb_talk *t, bmb_conn *c, const bmb_route *route);

#endif
