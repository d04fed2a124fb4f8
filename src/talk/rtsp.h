/* What an RTSP connection does: requests become answers and sessions; interleaved frames go out between the answers. */
#ifndef BMB_TALK_RTSP_H
#define BMB_TALK_RTSP_H

#include "talk/conn.h"

extern const bmb_conversation bmb_rtsp_conversation;
extern const bmb_owner bmb_rtsp_describing; /* of bmb_conn.waiting */

#endif
