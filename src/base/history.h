/* The last events, in memory that holds so many and no more: what happened an hour ago can still be asked for, and
 * whoever listens gets the new ones.
 */
#ifndef BMB_BASE_HISTORY_H
#define BMB_BASE_HISTORY_H

#include "bambino/device.h"

#define BMB_HISTORY_TEXT 32u /* longer texts are cut */

typedef struct bmb_moment {
    uint64_t at_us;
    int64_t value, extra;
    bmb_addr peer; /* family 0: none */
    uint16_t feed; /* index; BMB_NO_FEED: none */
    uint8_t code, level, err;
    char text[BMB_HISTORY_TEXT]; /* ""; none */
} bmb_moment;

typedef struct bmb_history {
    bmb_moment *moments;
    uint32_t next; /* number of the one that comes next; the first was 1 */
    uint16_t most; /* 0: none are kept */
    uint16_t told; /* lower half of the number up to which whoever listens was told */
} bmb_history;

void bmb_history_note(bmb_history *h, const bmb_config *config, uint64_t now_us, const bmb_event *event);
/* What was told of this feed is not about any feed now. */
void bmb_history_forget(bmb_history *h, uint16_t feed);
/* The first one that is there from this number on, which is put into *number; NULL: none yet. */
const bmb_moment *bmb_history_from(const bmb_history *h, uint32_t *number);

#endif
