/* RTCP (RFC 3550 6): sender reports out, receiver reports in. */
#ifndef BMB_WIRE_RTCP_H
#define BMB_WIRE_RTCP_H

#include "bambino/options.h"
#include "base/bytes.h"

#define BMB_RTCP_MAX 128u /* room for any packet that bmb_rtcp_report or bmb_rtcp_bye writes */

typedef struct bmb_rtcp_sender {
    uint32_t ssrc;
    int64_t wall_us;          /* Unix time of this report; 0: not known, sent as 0 */
    uint32_t rtp_time;        /* the same instant in the stream's 90 kHz time, its offset included */
    uint32_t packets, octets; /* since the stream began; payload octets */
    const char *cname;        /* at most 63 bytes */
} bmb_rtcp_sender;

/* A compound packet: SR and SDES with CNAME (6.1), and BYE where the stream ends. */
void bmb_rtcp_report(bmb_writer *w, const bmb_rtcp_sender *sender, bool bye);

/* What a receiver said about one of our streams (6.4.1). */
typedef struct bmb_rtcp_block {
    uint32_t ssrc; /* ours */
    uint32_t from; /* the receiver's own */
    uint8_t lost_256;
    int32_t lost;                /* may be negative with duplicates */
    uint32_t highest;            /* extended sequence number */
    uint32_t jitter;             /* 90 kHz units */
    uint32_t last_report, delay; /* 1/65536 s; last_report 0: none received yet */
} bmb_rtcp_block;

/* Walks a compound packet. Each call gives the next report block of any SR or RR in it; false at the end or where the
 * rest is malformed. Begin with a zeroed walk; at the end it knows whether the packet says goodbye. */
typedef struct bmb_rtcp_walk {
    size_t at;      /* of the present packet */
    uint8_t blocks; /* of it that were given out */
    bool bye;       /* somebody leaves … */
    uint32_t left;  /* … the first source that its BYE names; 0: none */
    uint32_t
        key_of; /* a key frame of this stream is asked for: PLI (RFC 4585 6.3.1) or FIR (RFC 5104 4.3.1); 0: none */
} bmb_rtcp_walk;
bool bmb_rtcp_next(bmb_rtcp_walk *walk, const uint8_t *data, size_t size, bmb_rtcp_block *out);

#if BMB_WITH_REPEATS
/* Which packets of that stream a receiver says it misses (generic NACK, RFC 4585 6.2.1); at most `room`. */
size_t bmb_rtcp_missed(const uint8_t *data, size_t size, uint32_t ssrc, uint16_t *out, size_t room);
#endif

/* NTP's middle 32 bits of a wall time (RFC 3550 4). */
uint32_t bmb_ntp_middle(int64_t wall_us);

#endif
