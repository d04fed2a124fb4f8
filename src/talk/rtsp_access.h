/* Who may have what over RTSP. */
#ifndef BMB_TALK_RTSP_ACCESS_H
#define BMB_TALK_RTSP_ACCESS_H

#include "talk/session.h"

/* Looks at an Authorization header of the request that is coming in. */
void bmb_rtsp_judge(bmb_talk *t, bmb_conn *c, bmb_text credentials);
/* May the complete request be acted on? 0: yes; else the status to refuse it with: 301, 401, 403 or 503. */
unsigned bmb_rtsp_admit(bmb_talk *t, bmb_conn *c);
/* What goes with a 301, and with a 401. */
void bmb_rtsp_put_elsewhere(const bmb_conn *c, bmb_writer *w);
void bmb_rtsp_put_challenge(bmb_talk *t, const bmb_conn *c, bmb_writer *w);
/* It is to be played: by what right? false: by none, such as a link that was used as often as it may be. */
bool bmb_rtsp_take_pass(bmb_talk *t, const bmb_conn *c, bmb_session *s);

#endif
