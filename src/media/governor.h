/* Keeps a JPEG feed at a bit rate: steers the encoder's quality, and leaves frames out where quality alone is not
 * enough.
 *
 * A leaky bucket holds what was sent beyond the rate. It never holds more than an eighth of a second, so that over any
 * five seconds the rate is kept within 5 %, whatever the scene does. Quality follows from the size that the next frame
 * may have and from the size that the last one had at its own quality.
 */
#ifndef BMB_MEDIA_GOVERNOR_H
#define BMB_MEDIA_GOVERNOR_H

#include "bambino/device.h"

#define BMB_GOVERNOR_PAST 4u /* a frame may have been encoded with one of the last qualities: encoders run ahead */

typedef struct bmb_governor {
    uint32_t kbps;        /* 0: off */
    uint32_t interval_us; /* between frames, as the camera delivers them */
    uint8_t least, most, quality;
    uint8_t state; /* bmb_keeping */
    uint32_t dropped_for_rate;
    uint32_t detail; /* of the scene: bytes at quality 75 */
    int64_t debt;    /* bytes beyond the rate */
    uint64_t leaked_us;
    uint64_t skipped_us; /* when a frame was last dropped */
    struct {
        uint64_t from_us;
        uint8_t quality;
    } past[BMB_GOVERNOR_PAST];
} bmb_governor;

/* quality: to begin with. mfps: of the camera. */
void bmb_governor_start(bmb_governor *g, uint32_t kbps, uint32_t mfps, uint8_t least, uint8_t most, uint8_t quality,
                        uint64_t now_us);
/* A frame of `size` bytes that was captured then: false when it must be dropped. *quality gets what the next frames
 * should be encoded with. */
bool bmb_governor_take(bmb_governor *g, uint32_t size, uint64_t capture_us, uint64_t now_us, uint8_t *quality);

#endif
