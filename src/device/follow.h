/* Streams follow their links: each second viewers are given steps, and encoders bit rates. */
#ifndef BMB_DEVICE_FOLLOW_H
#define BMB_DEVICE_FOLLOW_H

#include "device/parts.h"

#if BMB_WITH_FOLLOWING

/* What a look at a feed's viewers finds, for its encoder. */
typedef struct bmb_following {
    uint16_t viewers, held;     /* that have no step to go to */
    uint32_t narrowest, widest; /* what the links of those carry that are held, kbit/s … */
    uint32_t least, most;       /* … and of all of which it is known; 0: of none */
} bmb_following;

/* How much of the uplink everybody may use just now. */
void bmb_follow_share(bmb_device *d);
/* now: a viewer's figures. */
void bmb_follow_viewer(bmb_device *d, bmb_viewer *v, const bmb_viewer_stats *now, bmb_following *sum);
void bmb_follow_feed(bmb_device *d, bmb_feed *feed, const bmb_following *sum);
/* Nobody is given a step of this feed, or its frames as a step, any longer: it goes. */
void bmb_follow_release(bmb_device *d, const bmb_feed *feed);
/* Is the feed's step another feed of the device, of the same codec? */
bmb_err bmb_follow_check(const bmb_config *config, size_t index, bmb_fault *fault);

#endif
#endif
