/* What receivers report of a session (RFC 3550 6.4), and what comes back from where it is sent. */
#ifndef BMB_TALK_SESSION_RTCP_H
#define BMB_TALK_SESSION_RTCP_H

#include "talk/session.h"

bool bmb_session_rtcp(bmb_talk *t, bmb_session *s, const uint8_t *data, size_t size); /* true: it says goodbye */
void bmb_session_datagrams(bmb_talk *t, bmb_sock sock); /* RTCP that arrived, and what came back as unreachable */

#endif
