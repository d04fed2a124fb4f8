/* What RTSP requests do (RFC 2326 10): each becomes an answer in tx, or waits for a first frame. */
#ifndef BMB_TALK_RTSP_REQUEST_H
#define BMB_TALK_RTSP_REQUEST_H

#include "talk/conn.h"

/* Acts on the request in c->rtsp. State WAITING: the answer is due when the feed has a frame. */
void bmb_rtsp_act(bmb_talk *t, bmb_conn *c);
/* It waits for no frame any more. */
void bmb_rtsp_await_no_frame(const bmb_talk *t, bmb_conn *c);

#endif
