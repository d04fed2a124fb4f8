/* RTP as it arrives: order, loss, jitter (RFC 3550), and pictures put together again from JPEG (RFC 2435), H.264
 * (RFC 6184) and transport streams (RFC 2250). No socket and no clock.
 */
#ifndef RECEIVE_RTP_IN_H
#define RECEIVE_RTP_IN_H

#include "receive/bytes_in.h"
#include "receive/measure.h"

#define RTP_IN_PACKET_MOST 2048u
#define RTP_IN_WAITING 64u    /* packets that wait for one before them … */
#define RTP_IN_WAIT_US 60000u /* … for so long; then it is lost */
#define RTP_IN_SEEN 1024u     /* numbers that are remembered, to know what comes twice */

typedef enum rtp_in_payload { RTP_IN_JPEG = 0, RTP_IN_H264, RTP_IN_TS } rtp_in_payload;

typedef struct rtp_in_picture {
    const uint8_t *data;
    size_t size;
    bool broken;   /* packets of it are missing */
    uint32_t time; /* RTP time */
    uint64_t at_us;
} rtp_in_picture;

typedef struct rtp_in {
    rtp_in_payload payload;
    unsigned type; /* payload type that counts */
    uint32_t clock;
    /* a picture is whole, or payload of a transport stream is in order */
    void (*out)(void *ctx, const rtp_in_picture *picture);
    void *ctx;
    measure_counts *counts;
    double *jitter_ms, *jitter_most_ms;

    bool begun;
    uint32_t ssrc, first, highest, next; /* sequence numbers with their cycles */
    uint32_t received;                   /* each once */
    uint32_t lost_before;                /* of sources before this one */
    uint32_t expected_before, received_before;
    int64_t transit; /* RTP units */
    double jitter;   /* RTP units */
    uint32_t seen[RTP_IN_SEEN];
    struct {
        uint32_t number; /* 0: empty */
        uint16_t size;
        uint64_t at_us;
        uint8_t data[RTP_IN_PACKET_MOST];
    } waiting[RTP_IN_WAITING];
    bytes_in picture;
    bool broken, any;
    uint32_t time;
    uint64_t at_us;
    uint8_t quant_q, quant[128]; /* JPEG: tables of this Q */
    /* The last sender report: its RTP time and Unix time in us; 0: none yet. */
    uint32_t report_time, report_middle;
    int64_t report_wall_us;
    uint64_t report_at_us;
} rtp_in;

/* The members up to jitter_most_ms are the caller's, the rest is zero. */
void rtp_in_packet(rtp_in *r, const uint8_t *data, size_t size, uint64_t at_us);
/* Gives up what has been waited for too long. */
void rtp_in_wait(rtp_in *r, uint64_t now_us);
void rtp_in_rtcp(rtp_in *r, const uint8_t *data, size_t size, uint64_t at_us, bool *bye);
/* A receiver report with our name (RFC 3550 6.4.2, 6.5); returns its size. bye: it is the last one. */
size_t rtp_in_report(rtp_in *r, uint64_t now_us, bool bye, uint8_t *out, size_t room);
/* When a picture of this RTP time was taken, Unix time; 0: no report has said so. */
int64_t rtp_in_wall(const rtp_in *r, uint32_t time);
void rtp_in_free(rtp_in *r);

#endif
