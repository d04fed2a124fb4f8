/* /events: what happened lately, and from then on what happens (server-sent events, HTML Living Standard 9.2). */
#ifndef BMB_TALK_HTTP_EVENTS_H
#define BMB_TALK_HTTP_EVENTS_H

#include "talk/conn.h"

#define BMB_EVENTS_ALIVE_US 15000000u /* whoever has not heard anything for so long gets a sign of life */

/* Begins with the one behind that which the client had last; without one, with the oldest. */
void bmb_http_begin_events(const bmb_talk *t, bmb_conn *c);
/* Puts the next one into tx, if there is one for whoever listens. Also true: he may not listen any longer, and nothing
 * more is due. */
bool bmb_http_put_event(bmb_talk *t, bmb_conn *c);
/* Whoever waits for one gets those that are there by now. */
void bmb_http_spread_events(bmb_talk *t);
/* The connection has been silent for BMB_EVENTS_ALIVE_US. */
void bmb_http_put_alive(const bmb_talk *t, bmb_conn *c);

/* Whoever asks for them gets figures each second, a row of the status at a time. */
void bmb_http_ask_figures(bmb_conn *c, bool figures);
bool bmb_http_put_figures(bmb_talk *t, bmb_conn *c);
/* When there is something to say although nothing happens. */
uint64_t bmb_http_events_due(const bmb_talk *t, const bmb_conn *c);

#endif
