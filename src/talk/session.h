/* RTSP sessions: one feed for one receiver, over UDP, interleaved, or as a member of a multicast group. */
#ifndef BMB_TALK_SESSION_H
#define BMB_TALK_SESSION_H

#include "talk/conn.h"

typedef enum bmb_session_state { BMB_SESSION_FREE = 0, BMB_SESSION_READY, BMB_SESSION_PLAYING } bmb_session_state;

typedef struct bmb_session {
    uint8_t state;                     /* bmb_session_state */
    uint8_t via;                       /* bmb_transport */
    uint8_t rtp_channel, rtcp_channel; /* interleaved */
    bool reports;                      /* the receiver has reported; the four below are set */
    uint8_t lost_256;
    uint8_t unreachable; /* answers "port unreachable" since the last sign of life … */
    bool holds;          /* a place in the feed's group */
    bool departed : 1;   /* interleaved: it has said goodbye, and ends with the frame under way */
    bool feedback : 1;   /* UDP: it may ask for packets again … */
    bool own_stream : 1; /* … and expects them in a stream of their own */
    uint16_t rtcp_port;
    uint16_t conn; /* index of the connection that has it, plus 1; 0: that is gone */
    uint16_t next; /* session of the same connection, its index plus 1; 0: the last one */
    int32_t lost;
    uint32_t jitter_us, round_trip_us;
#if BMB_WITH_ACCESS
    bmb_pass pass;     /* by which it was begun to be played */
    uint32_t receiver; /* who reported last, by its own SSRC */
#endif
    uint32_t unreachable_ms; /* … the first of them, ms since the start */
    uint64_t id;
    uint64_t alive_us;  /* last sign of life */
    uint64_t report_us; /* next sender report; 0: with the first frame */
    bmb_track *track;
    bmb_opening *by; /* where it was set up */
    bmb_addr peer;   /* where RTP goes */
    bmb_viewer viewer;
} bmb_session;

extern const bmb_owner bmb_session_owner;

/* NULL: no place is free. Those that were set up and never played give way. */
bmb_session *bmb_session_open(bmb_talk *t, bmb_track *track, const bmb_conn *by);
bmb_session *bmb_session_find(bmb_talk *t, const char *id);
bmb_session *bmb_session_at(const bmb_talk *t, uint16_t number); /* its index plus 1; NULL: 0 */
uint16_t bmb_session_number(const bmb_talk *t, const bmb_session *s);
void bmb_session_move(bmb_talk *t, bmb_session *s, bmb_conn *c); /* it belongs to this connection from now on */
void bmb_session_conn_closed(bmb_talk *t, bmb_conn *c);          /* interleaved ones end; others live on */
/* NULL: the sockets cannot be had. */
bmb_udp_pair *bmb_session_sockets(bmb_talk *t, uint8_t family);
bmb_err bmb_session_play(bmb_talk *t, bmb_session *s, const bmb_addr *who, uint16_t account); /* BMB_LIMIT */
void bmb_session_pause(bmb_talk *t, bmb_session *s, const bmb_addr *who);
void bmb_session_close(bmb_talk *t, bmb_session *s, const bmb_addr *who);
/* The same, and says why. */
void bmb_session_end(bmb_talk *t, bmb_session *s, bmb_ending why);
const bmb_viewer *bmb_session_sender(const bmb_talk *t, const bmb_session *s); /* its own, or the group's */
/* A report that is due, as one RTCP packet; false: none is. */
bool bmb_session_report(bmb_talk *t, bmb_session *s, bmb_writer *w);
/* Something of it is due: more of a frame, or its end. */
void bmb_session_due(bmb_talk *t, bmb_session *s);
/* Those of the feed end, whether they play or not. */
void bmb_session_outlet_gone(bmb_talk *t, const bmb_opening *by);          /* those that were set up there */
void bmb_session_feed_gone(bmb_talk *t, const bmb_feed *feed, bool group); /* group: those of its multicast group */
void bmb_session_close_all(bmb_talk *t);
void bmb_session_close_sockets(bmb_talk *t);

#endif
