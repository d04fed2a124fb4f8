/* MPEG-2 transport streams as they arrive (ISO/IEC 13818-1): the first video stream of the first program, its access
 * units and their times, and faults of continuity.
 */
#ifndef RECEIVE_TS_IN_H
#define RECEIVE_TS_IN_H

#include "receive/bytes_in.h"
#include "receive/measure.h"

#define TS_IN_PACKET 188u

typedef struct ts_in_picture {
    const uint8_t *data;
    size_t size;
    bool broken, has_pts;
    int64_t pts_us;
    uint64_t at_us;
} ts_in_picture;

typedef struct ts_in {
    void (*out)(void *ctx, const ts_in_picture *picture);
    void *ctx;
    measure_counts *counts;

    uint8_t rest[TS_IN_PACKET]; /* of a packet that has not come whole */
    size_t rest_size;
    uint16_t table_pid, video_pid, sound_pid; /* 0: not known yet */
    uint8_t kind;                             /* stream type of the video (table 2-34); 0x1B is H.264 */
    uint8_t last[8192];                       /* counters; 0x10 more where one is known */
    bytes_in unit;
    size_t unit_left; /* bytes that the unit still has; SIZE_MAX: up to the next one's begin */
    bool any, broken, has_pts;
    int64_t pts; /* 90 kHz */
    uint64_t at_us;
    uint64_t skipped; /* bytes that were no packets */
} ts_in;

/* Any run of bytes. The members up to counts are the caller's, the rest is zero. */
void ts_in_add(ts_in *t, const uint8_t *data, size_t size, uint64_t at_us);
void ts_in_free(ts_in *t);

#endif
