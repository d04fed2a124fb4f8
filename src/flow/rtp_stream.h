/* What every sender of RTP has in common, whoever it sends to: its stream, its description, its sender reports. */
#ifndef BMB_FLOW_RTP_STREAM_H
#define BMB_FLOW_RTP_STREAM_H

#include "flow/viewer.h"
#include "wire/sdp.h"

/* RTP on an even port, RTCP on the next (RFC 3550 11). */
typedef struct bmb_udp_pair {
    bmb_sock rtp, rtcp;
    uint16_t port; /* of RTP; 0: closed */
} bmb_udp_pair;

/* Where the packets go, and the reports. NULL: to the sockets' own peers. */
typedef struct bmb_rtp_way {
    bmb_sock rtp, rtcp;
    const bmb_addr *to, *rtcp_to;
#if BMB_WITH_PARITY
    bmb_parity *parity; /* as bmb_link.parity */
#endif
} bmb_rtp_way;

const bmb_framer *bmb_rtp_framer(const bmb_track *track);
/* RFC 3550 5.1: random SSRC, sequence number and time offset. */
void bmb_rtp_start_stream(bmb_context *x, const bmb_track *track, bmb_stream_state *state);
/* What a feed's description says; group NULL: unicast. */
bmb_sdp bmb_rtp_describe(const bmb_context *x, const bmb_feed *feed, const bmb_addr *origin, const bmb_multicast *group,
                         bool control);
#if BMB_WITH_REPEATS
/* And that receivers may ask for packets again. */
void bmb_rtp_describe_feedback(bmb_sdp *sdp, const bmb_feed *feed);
#endif
/* With a peer each socket has its own one of the two. */
bmb_err bmb_rtp_open_pair(bmb_context *x, uint8_t family, const bmb_udp_options *options, bmb_udp_pair *pair);
void bmb_rtp_put_report(bmb_context *x, const bmb_viewer *v, bool bye, bmb_writer *w);
void bmb_rtp_send_report(bmb_context *x, const bmb_viewer *v, bool bye, bmb_sock sock, const bmb_addr *to);
/* The next burst, and a sender report where one is due. Not BMB_OK: what the network answered. */
bmb_err bmb_rtp_pump(bmb_context *x, bmb_viewer *v, const bmb_rtp_way *way, uint64_t *report_us);
#if BMB_WITH_FOLLOWING
/* What its receiver has reported since it was last asked: the stream goes no faster than it says, and a key frame comes
 * where one is asked for. sock: RTCP's; what others than the peer send there does not count. */
void bmb_rtp_hear(bmb_context *x, bmb_viewer *v, bmb_sock sock, const bmb_addr *peer);
#endif
/* The stream may go on after a pause: what was sent before stays counted (RFC 3550 6.4.1). */
void bmb_rtp_pause(bmb_context *x, bmb_viewer *v);

#endif
