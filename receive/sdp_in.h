/* Session descriptions (RFC 8866), as RTSP and .sdp files bring them: what there is to be received. */
#ifndef RECEIVE_SDP_IN_H
#define RECEIVE_SDP_IN_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define SDP_MEDIA_MOST 8u

typedef struct sdp_media {
    char kind[16];       /* "video", "audio" … */
    char codec[24];      /* of a=rtpmap, or by the static type (RFC 3551 6); "": not known */
    char control[256];   /* a=control; "": none */
    char fmtp[512];      /* parameters of the format */
    char group[64];      /* c=, without what follows a slash; "": none */
    unsigned type, port; /* payload type; port 0: to be negotiated */
    uint32_t clock;      /* Hz */
    uint32_t mfps;       /* a=framerate; 0: not said */
} sdp_media;

typedef struct sdp_in {
    sdp_media media[SDP_MEDIA_MOST];
    size_t count;
    char control[256]; /* of the whole session */
} sdp_in;

/* false: there is no media section in it. */
bool sdp_read(const char *text, size_t size, sdp_in *out);
/* The first of that kind; NULL: there is none. */
const sdp_media *sdp_first(const sdp_in *sdp, const char *kind);

#endif
