/* What answers to RTSP requests have in common, and what requests name. */
#ifndef BMB_TALK_RTSP_REPLY_H
#define BMB_TALK_RTSP_REPLY_H

#include "talk/session.h"

/* Begins an answer in tx, and ends it. */
bmb_writer bmb_rtsp_reply(bmb_talk *t, bmb_conn *c);
void bmb_rtsp_reply_done(bmb_conn *c, const bmb_writer *w);
/* Whole answers. */
/* An answer of 200 up to what is its own; and its end, without a body. */
bmb_writer bmb_rtsp_reply_ok(bmb_talk *t, bmb_conn *c);
void bmb_rtsp_reply_end(bmb_conn *c, bmb_writer *w);
void bmb_rtsp_reply_status(bmb_talk *t, bmb_conn *c, unsigned status);
void bmb_rtsp_reply_not_found(bmb_talk *t, bmb_conn *c);
/* Lines of one. */
void bmb_rtsp_put_session(const bmb_talk *t, const bmb_session *s, bmb_writer *w);
void bmb_rtsp_put_address(const bmb_conn *c, const bmb_feed *feed, bmb_writer *w);

/* The feed that the request names; NULL: there is none. */
bmb_feed *bmb_rtsp_find(const bmb_talk *t, const bmb_rtsp_parse *r);
/* The track that it names; with one track, the feed's own address means that. NULL: there is none of that name, or it
 * is not said which. */
bmb_track *bmb_rtsp_track(bmb_feed *feed, const bmb_rtsp_parse *r);
bmb_session *bmb_rtsp_named_session(bmb_talk *t, const bmb_conn *c);

#endif
