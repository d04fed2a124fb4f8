/* Everything that is said: outlets, connections and sessions, as one. */
#ifndef BMB_TALK_TALK_H
#define BMB_TALK_TALK_H

#include "talk/conn.h"

/* Bytes of one connection and of one session, and how many a configuration has; without an RTSP outlet there are no
 * sessions, and they cost nothing. */
size_t bmb_talk_conn_size(void);
size_t bmb_talk_session_size(void);
uint16_t bmb_talk_conns_of(const bmb_config *config);
uint16_t bmb_talk_sessions_of(const bmb_config *config);

/* What a talk is given before it is opened: x, feeds, groups, figures, and its memory, zeroed. timers: BMB_TIMER_SIZE
 * for each connection and session. */
void bmb_talk_prepare(bmb_talk *t, const bmb_config *config, void *timers);
/* Listens. On failure fault says where. */
bmb_err bmb_talk_open(bmb_talk *t, bmb_fault *fault);
#if BMB_WITH_CHANGES
/* One outlet of the configuration; and its end, with all that was accepted there. */
bmb_err bmb_talk_listen(bmb_talk *t, size_t index, bmb_fault *fault);
void bmb_talk_deafen(bmb_talk *t, size_t index);
#endif
void bmb_talk_close(bmb_talk *t);         /* connections and sessions */
void bmb_talk_close_sockets(bmb_talk *t); /* their UDP sockets, and the outlets' */

/* What the port has ready under this token. */
void bmb_talk_ready(bmb_talk *t, uint32_t token, uint32_t events);
/* Does what is due, and returns when something next is. */
uint64_t bmb_talk_tend(bmb_talk *t);
/* The feed is another one now: those that were told what it is are told again. */
void bmb_talk_feed_changed(bmb_talk *t, const bmb_feed *feed);
/* Sessions of the feed that do not play, and whoever waits for a still of it. */
void bmb_talk_feed_gone(bmb_talk *t, bmb_feed *feed);

#endif
