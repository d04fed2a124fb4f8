/* RTP with its RTCP, whichever way it comes: pictures of it go to the receiver. */
#ifndef RECEIVE_SESSION_H
#define RECEIVE_SESSION_H

#include "receive/receive.h"
#include "receive/rtp_in.h"
#include "receive/sdp_in.h"
#include "receive/ts_in.h"

typedef struct session {
    receive *r;
    rtp_in rtp;
    ts_in ts;
    bool is_ts;
    int64_t media_us;
    uint32_t media_time;
    bool media_begun;
    uint64_t report_us; /* when the next report is due */
} session;

/* The payload type, and what it means, by its description; false: no codec that is understood here. */
bool session_begin(session *s, receive *r, const sdp_media *m);
void session_packet(session *s, const uint8_t *data, size_t size, uint64_t at_us);
/* A run of a transport stream that came without RTP. */
void session_stream(session *s, const uint8_t *data, size_t size, uint64_t at_us);
/* Of two descriptors, RTP and RTCP, and one more (-1: none): waits at most wait_ms, takes what is there. What came at
 * the third is for the caller (true). peer: whoever sends; unset: nobody yet. */
bool session_wait(session *s, int rtp, int rtcp, int third, int wait_ms);
/* Sends our report where it is due; to a peer, by that descriptor. */
size_t session_report(session *s, uint64_t now_us, bool bye, uint8_t *out, size_t room);
void session_free(session *s);

#endif
