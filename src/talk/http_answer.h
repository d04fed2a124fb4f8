/* Answers over HTTP: heads, refusals, and documents that are made piece by piece. */
#ifndef BMB_TALK_HTTP_ANSWER_H
#define BMB_TALK_HTTP_ANSWER_H

#include "talk/conn.h"
#include "talk/http_access.h"

bmb_http_terms bmb_http_terms_of(const bmb_talk *t, const bmb_conn *c);
/* Somebody opens the address of RTSP in a browser: it is told what to open, and where. */
static inline bool bmb_http_wrong_door(const bmb_conn *c)
{
    return BMB_WITH_RTSP && c->by->kind == BMB_OUTLET_RTSP;
}
/* Where an answer is written, and its sending. */
bmb_writer bmb_http_answer(bmb_talk *t, bmb_conn *c);
void bmb_http_send(bmb_talk *t, bmb_conn *c, const bmb_writer *w, bmb_conn_state state);
/* An answer of 200, up to its document. */
bmb_writer bmb_http_answer_ok(bmb_talk *t, bmb_conn *c, const char *type, size_t length);
/* extra: lines of the head; or NULL */
void bmb_http_refuse_with(bmb_talk *t, bmb_conn *c, uint16_t status, const char *extra);
/* And says why, in a line. */
void bmb_http_refuse_why(bmb_talk *t, bmb_conn *c, uint16_t status, const char *why);
void bmb_http_refuse(bmb_talk *t, bmb_conn *c, uint16_t status);
/* What http_access.c has to say; nothing of it lies in tx. */
void bmb_http_answer_reply(bmb_talk *t, bmb_conn *c, const bmb_http_reply *r);
/* In pieces, of which the connection's end is the end where they are no chunks. */
void bmb_http_answer_pieces(bmb_talk *t, bmb_conn *c, bmb_more more, bool head_only);

#endif
