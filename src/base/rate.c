#include "base/rate.h"

#include <string.h>

static uint32_t bucket_of(uint64_t now_us)
{
    return (uint32_t)(now_us / BMB_RATE_BUCKET_US);
}

void bmb_rate_start(bmb_rate *rate, uint64_t now_us)
{
    memset(rate, 0, sizeof *rate);
    rate->bucket = rate->first = bucket_of(now_us);
}

static void advance(bmb_rate *rate, uint32_t bucket)
{
    uint32_t steps = bucket - rate->bucket;
    if (steps > BMB_RATE_BUCKETS) steps = BMB_RATE_BUCKETS;
    for (uint32_t i = 0; i < steps; i++) {
        uint32_t slot = (bucket - i) % BMB_RATE_BUCKETS;
        rate->frames[slot] = 0;
        rate->bytes[slot] = 0;
    }
    rate->bucket = bucket;
}

void bmb_rate_frame(bmb_rate *rate, uint64_t now_us, uint32_t bytes)
{
    uint32_t bucket = bucket_of(now_us);
    if (bucket != rate->bucket) advance(rate, bucket);
    uint32_t slot = bucket % BMB_RATE_BUCKETS;
    rate->frames[slot]++;
    rate->bytes[slot] += bytes;
}

void bmb_rate_read(const bmb_rate *rate, uint64_t now_us, uint32_t *mfps, uint32_t *kbps)
{
    bmb_rate now = *rate;
    uint32_t bucket = bucket_of(now_us);
    if (bucket != now.bucket) advance(&now, bucket);

    uint32_t complete = bucket - now.first; /* the first bucket was begun in its middle: leave it out if we can */
    if (complete > BMB_RATE_BUCKETS - 1) complete = BMB_RATE_BUCKETS - 1;
    uint32_t frames = 0;
    uint64_t bytes = 0;
    for (uint32_t i = 1; i <= complete; i++) {
        uint32_t slot = (bucket - i) % BMB_RATE_BUCKETS;
        frames += now.frames[slot];
        bytes += now.bytes[slot];
    }
    *mfps = complete == 0 ? 0 : frames * 2000 / complete;
    *kbps = complete == 0 ? 0 : (uint32_t)(bytes * 16 / (1000 * complete));
}
