/* Which frame of a track somebody goes on with who has had those up to a number. */
#ifndef BMB_MEDIA_NEXT_H
#define BMB_MEDIA_NEXT_H

#include "media/camera.h"
#include "media/track.h"

#define BMB_KEEPS_ALL                                                                                                  \
    (BMB_WITH_PLAIN || BMB_WITH_PUSH) /* somebody may ask for frames in order, as long as they are there */

/* Where somebody is. */
typedef struct bmb_place {
    uint32_t seq;   /* the last frame that he had, or passed over */
    bool needs_key; /* can go on at a key frame only */
    bool keep_all;  /* frames in order as long as the reel has them; else the newest that he can decode */
} bmb_place;

/* NULL: there is none just now. May ask the camera for a key frame; needs_key is set where he has fallen out. */
bmb_frame *bmb_next_frame(bmb_context *x, const bmb_track *t, bmb_camera *camera, bmb_place *place);

#endif
