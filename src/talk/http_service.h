/* Requests that the program answers itself: their bodies, and its answers. */
#ifndef BMB_TALK_HTTP_SERVICE_H
#define BMB_TALK_HTTP_SERVICE_H

#include "talk/conn.h"

/* The head of a request with a body is there: it is admitted or refused, as http_answer.h does. true: it may come. */
bool bmb_http_take_body(bmb_talk *t, bmb_conn *c, const bmb_route *route);
void bmb_http_answer_service(bmb_talk *t, bmb_conn *c);
/* The request, or its answer, is over: what was held for it is given back. */
void bmb_http_service_done(bmb_talk *t, bmb_conn *c);

/* Its body was let in; it is to be, or not. */
static inline bool bmb_http_granted(const bmb_conn *c)
{
#if BMB_WITH_SERVICE
    return c->granted;
#else
    (void)c;
    return false;
#endif
}

static inline bool bmb_http_asks_for_room(const bmb_conn *c)
{
#if BMB_WITH_SERVICE
    return c->http.asks_for_room && c->http.error == 0;
#else
    (void)c;
    return false;
#endif
}

#endif
