/* Who watches by a right that can end while he watches: accounts change, links end, sign-ins are ended. */
#ifndef BMB_TALK_PASSES_H
#define BMB_TALK_PASSES_H

#include "talk/conn.h"

/* Somebody has a pass that may end: it is looked at from time to time as long as there are any. */
void bmb_passes_watch(bmb_talk *t);
/* Puts out those whose passes have ended; returns when it wants to look again. */
uint64_t bmb_passes_tend(bmb_talk *t);
/* Other accounts from now on (bmb_guard_change): whoever watches what he may not any more is put out. */
void bmb_passes_change(bmb_talk *t, const bmb_access *access, const uint16_t *to);

#endif
