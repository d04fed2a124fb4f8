/* Forward error correction: a packet of parity for some packets of RTP, from which any one of them that is lost is made
 * again (RFC 5109, one level over whole packets), as a stream of its own.
 */
#ifndef BMB_WIRE_PARITY_H
#define BMB_WIRE_PARITY_H

#include "bambino/options.h"

#if BMB_WITH_PARITY

#include "bambino/port.h"

#define BMB_PARITY_MOST 16u /* packets that its mask has room for */
#define BMB_PARITY_HEAD 26u /* RTP, the parity's own header, and that of its level */
#define BMB_RTP_TYPE_PARITY 98u

typedef struct bmb_parity {
    uint8_t *data; /* the parity of what lies behind the RTP headers: `room` bytes … */
    uint16_t room;
    uint16_t size;        /* … of which so many are used */
    uint16_t of;          /* one for so many packets */
    uint16_t base, count; /* number of the first packet, and how many there are */
    uint16_t mask;
    uint16_t seq; /* of the next packet of parity */
    uint8_t first[2];
    uint16_t length;    /* of the payloads, likewise by parity */
    uint32_t time, now; /* … and of their times; the time of the last one */
    uint32_t ssrc;
} bmb_parity;

/* A packet goes out. */
void bmb_parity_add(bmb_parity *p, const bmb_packet *packet);
/* Is it time for a packet of parity? frame_ends: none of it is to follow soon. */
bool bmb_parity_is_due(const bmb_parity *p, bool frame_ends);
/* Its header; behind it come `size` bytes of data. It begins anew with bmb_parity_clear. */
void bmb_parity_write(bmb_parity *p, uint8_t head[BMB_PARITY_HEAD]);
void bmb_parity_clear(bmb_parity *p);

#endif
#endif
