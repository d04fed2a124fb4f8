/* A rate over the last two seconds: four complete half-second buckets and the one being filled. */
#ifndef BMB_BASE_RATE_H
#define BMB_BASE_RATE_H

#include <stdint.h>

#define BMB_RATE_BUCKETS 5u
#define BMB_RATE_BUCKET_US 500000u

typedef struct bmb_rate {
    uint32_t bucket; /* number of the newest bucket, in half seconds of the port's clock */
    uint32_t first;  /* bucket of the first event: a rate is not averaged over time before it */
    uint16_t frames[BMB_RATE_BUCKETS];
    uint32_t bytes[BMB_RATE_BUCKETS];
} bmb_rate;

void bmb_rate_start(bmb_rate *rate, uint64_t now_us);
void bmb_rate_frame(bmb_rate *rate, uint64_t now_us, uint32_t bytes);
/* Frames per 1000 s and kbit/s over the complete buckets of the window; 0 before the first is complete. */
void bmb_rate_read(const bmb_rate *rate, uint64_t now_us, uint32_t *mfps, uint32_t *kbps);

#endif
