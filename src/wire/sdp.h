/* Session descriptions (RFC 8866) of one feed. */
#ifndef BMB_WIRE_SDP_H
#define BMB_WIRE_SDP_H

#include "bambino/camera.h"
#include "base/bytes.h"
#include "wire/h264.h"

#define BMB_SDP_TRACK "video" /* its control address, behind the feed's */

typedef struct bmb_sdp {
    uint64_t id;       /* of the session, unique for the feed and the device's run (RFC 8866 5.2) … */
    uint32_t version;  /* … and a number that grows whenever the description changes */
    const char *title; /* control characters are left out */
    bmb_addr origin;   /* this host as the client reached it */
    bmb_addr group;    /* where the media goes, a group or a host; family 0: the session will say */
    uint8_t ttl;       /* of the group */
    bmb_codec codec;
    const bmb_h264_sets *sets; /* H.264 */
    uint32_t mfps;             /* 0: not said */
    uint32_t kbps;             /* 0: not said */
    bool control;              /* for RTSP: with a=control */
} bmb_sdp;

void bmb_sdp_write(bmb_writer *w, const bmb_sdp *sdp);

#endif
