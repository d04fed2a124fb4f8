/* One event as an object of JSON, docs/events.md. */
#ifndef BMB_SERVE_HAPPENED_H
#define BMB_SERVE_HAPPENED_H

#include "base/history.h"

/* Returns its length; 0: `memory` or `room` is too small. feed: its name, or NULL. unix_us: when it was, 0: not known.
 * peers: with whom it was, and what was said. */
size_t bmb_happened(const bmb_moment *m, const char *feed, uint64_t uptime_us, int64_t unix_us, bool peers,
                    void *memory, size_t size, char *out, size_t room);

#endif
