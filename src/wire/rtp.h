/* RTP (RFC 3550) as the two video payloads need it. */
#ifndef BMB_WIRE_RTP_H
#define BMB_WIRE_RTP_H

#include "base/bytes.h"
#include "wire/framer.h"
#include "wire/jpeg.h"

#define BMB_RTP_HEADER 12u
#define BMB_RTP_INTERLEAVED 4u /* RFC 2326 10.12: '$', channel, length */
#define BMB_RTP_CLOCK 90000u
#define BMB_RTP_TYPE_JPEG 26u /* RFC 3551 */
#define BMB_RTP_TYPE_H264 96u /* dynamic */

extern const bmb_framer bmb_framer_rtp_h264; /* RFC 6184, packetization-mode 1 */
extern const bmb_framer bmb_framer_rtp_jpeg; /* RFC 2435 */

/* The 90 kHz time of an instant on the port's clock, before the stream's offset. */
uint32_t bmb_rtp_time(uint64_t us);

/* The largest header of a fragment: interleaving, RTP, and two bytes of payload header, rounded up to words. */
#define BMB_RTP_HEADER_MOST 20u

/* Writes interleaving (where the stream has it) and RTP header at `out`, but for what differs from packet to packet. */
void bmb_rtp_write_header(const bmb_stream_state *state, const bmb_frame *frame, uint8_t *out);

/* Fills that in: the sequence number, and the length for the interleaving. size: RTP header and all behind it. */
static inline void bmb_rtp_number(const bmb_stream_state *state, const bmb_cursor *cursor, uint8_t *head, size_t size)
{
    size_t prefix = state->interleaved ? BMB_RTP_INTERLEAVED : 0;
    bmb_store_u16(head + prefix + 2, (uint16_t)(state->next_seq + cursor->pieces));
    if (prefix > 0) bmb_store_u16(head + 2, (uint16_t)size);
}

/* Begins a packet: a piece whose first slice holds the interleaving (where the stream has it) and the RTP header;
 * `more` bytes of payload header may be written at the returned place. Complete it with bmb_rtp_header_done. */
uint8_t *bmb_rtp_begin(const bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor,
                       bmb_gather *gather, size_t more);
/* Ends the header's slice. payload: bytes that follow in further slices. */
void bmb_rtp_header_done(const bmb_stream_state *state, bmb_gather *gather, size_t more, size_t payload, bool marker);
/* Advances the sequence number by the packets of the frame. */
void bmb_rtp_done(bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor);

/* Why a JPEG image cannot be carried by RFC 2435. */
typedef enum bmb_jpeg_rtp {
    BMB_JPEG_RTP_OK = 0,
    BMB_JPEG_RTP_NOT_BASELINE,
    BMB_JPEG_RTP_COMPONENTS, /* not three, or 12 bits */
    BMB_JPEG_RTP_SAMPLING,   /* neither 4:2:2 nor 4:2:0 */
    BMB_JPEG_RTP_HUFFMAN,    /* optimised tables */
    BMB_JPEG_RTP_QUANT,      /* 16-bit, missing, or different for the two chroma components */
    BMB_JPEG_RTP_SIZE        /* over 2040, or no multiple of 8 */
} bmb_jpeg_rtp;

typedef struct bmb_jpeg_facts {
    bmb_jpeg_rtp refusal; /* not BMB_JPEG_RTP_OK: the rest is not set */
    uint8_t type;         /* RFC 2435 4.1: 0 or 1, 64 more with restart markers */
    uint8_t width_8, height_8;
    uint16_t restart_interval;
    uint32_t quant_at[2]; /* luma, chroma */
    uint32_t scan_at, scan_size;
} bmb_jpeg_facts;

void bmb_jpeg_facts_of(const uint8_t *data, const bmb_jpeg *jpeg, bmb_jpeg_facts *out);

#endif
