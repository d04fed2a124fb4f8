/* SETUP (RFC 2326 10.4): of the transports that a client offers the first one that can be. */
#ifndef BMB_TALK_RTSP_SETUP_H
#define BMB_TALK_RTSP_SETUP_H

#include "talk/conn.h"

void bmb_rtsp_setup(bmb_talk *t, bmb_conn *c);

#endif
