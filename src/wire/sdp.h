/* Session descriptions (RFC 8866) of one feed. */
#ifndef BMB_WIRE_SDP_H
#define BMB_WIRE_SDP_H

#include "bambino/camera.h"
#include "base/bytes.h"
#include "wire/h264.h"

#define BMB_SDP_MEDIA_MOST 2u

/* One stream of it (RFC 8866 5.14). */
typedef struct bmb_sdp_media {
    const char *kind; /* "video"; also its control address, behind the feed's */
    uint8_t payload_type;
    uint32_t mfps;                                      /* 0: not said */
    uint32_t kbps;                                      /* 0: not said */
    void (*describe)(bmb_writer *w, const void *codec); /* the lines that are the codec's … */
    const void *codec;                                  /* … and what it needs for them */
    uint8_t repeat_type; /* payload type of repeated packets, and feedback is taken (RFC 4585 4, RFC 4588 8); 0: no */
    bool keys;           /* … and a key frame may be asked for, too */
    uint16_t repeat_ms;  /* so long a packet may be asked for */
} bmb_sdp_media;

typedef struct bmb_sdp {
    uint64_t id;         /* of the session, unique for the feed and the device's run (RFC 8866 5.2) … */
    uint32_t version;    /* … and a number that grows whenever the description changes */
    const char *title;   /* control characters are left out */
    bmb_addr origin;     /* this host as the client reached it */
    bmb_addr group;      /* where the media goes, a group or a host; family 0: the session will say. Each further media
                            has ports of its own, two higher */
    uint8_t ttl;         /* of the group */
    bool control;        /* for RTSP: with a=control */
    uint8_t parity_type; /* payload type of a stream of parity for the first one, at the port two higher (RFC 5109 14.1,
                            RFC 5956 4.1); 0: there is none */
    size_t media_count;
    bmb_sdp_media media[BMB_SDP_MEDIA_MOST];
} bmb_sdp;

/* What codecs say, each by bmb_sdp_media.describe: RFC 2435; RFC 6184 8.2.1, codec: bmb_h264_sets. */
void bmb_sdp_jpeg(bmb_writer *w, const void *codec);
void bmb_sdp_h264(bmb_writer *w, const void *codec);

void bmb_sdp_write(bmb_writer *w, const bmb_sdp *sdp);

#endif
