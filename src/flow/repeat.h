/* Packets that a receiver missed go out again (RFC 4585 6.2.1, RFC 4588). None is kept: it is made anew from the frame,
 * as long as the reel has that.
 */
#ifndef BMB_FLOW_REPEAT_H
#define BMB_FLOW_REPEAT_H

#include "flow/viewer.h"

#if BMB_WITH_REPEATS

/* Of one receiver. */
typedef struct bmb_repeats {
    bmb_sent sent;
    uint32_t ssrc;   /* of the stream of repeated packets … */
    uint16_t seq;    /* … and its next number */
    bool own_stream; /* they go there; else again as they were */
    uint32_t count;
    uint32_t tokens;    /* bytes that may be repeated now … */
    uint32_t filled_ms; /* … and when that was reckoned, ms since the start */
} bmb_repeats;

#define BMB_RTP_TYPE_RTX 97u
#define BMB_REPEAT_NUMBER 2u     /* bytes: the packet's own number, before its payload (RFC 4588 4) */
#define BMB_REPEAT_KEPT_MS 1000u /* so long a packet may be asked for: as descriptions say (RFC 4588 8.6) */

void bmb_repeats_start(bmb_context *x, bmb_repeats *r, bool own_stream);
/* Sends the packet of that number again. Not where it is not known any more, or too much was repeated lately. */
void bmb_viewer_repeat(bmb_context *x, bmb_viewer *v, bmb_repeats *r, const bmb_link *link, uint16_t seq);

#endif
#endif
