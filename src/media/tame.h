/* A control may never make a feed useless: what its frames may be is bounded by what its memory takes. */
#ifndef BMB_MEDIA_TAME_H
#define BMB_MEDIA_TAME_H

#include "bambino/device.h"
#include "bambino/options.h"

#define BMB_TAMES (BMB_WITH_ACCESS && BMB_WITH_CONTROLS)

typedef struct bmb_tame {
    uint8_t run;       /* frames in a row that did not fit */
    uint64_t quiet_us; /* not before: frames that are under way were made with the former value */
} bmb_tame;

/* Another frame did not fit. true: time for a lower value. One alone may be a moment's, and changes nothing. */
bool bmb_tame_lower(bmb_tame *t, uint64_t now_us, int32_t value, int32_t *less);
/* The JPEG quality of at most `asked` with which pictures like the newest, of `size` bytes at quality `now`, fit. */
int32_t bmb_tame_quality(int32_t asked, int32_t now, uint32_t size, uint32_t most);

#endif
