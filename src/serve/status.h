/* The parts of /status.json, one bounded object at a time, so that a device with little memory can list many viewers.
 *
 * The document: {"device":{…},"outlets":[…],"feeds":[{…},…],"pushes":[{…},…],"viewers":[{…},…]}. docs/status.md names
 * every member.
 */
#ifndef BMB_SERVE_STATUS_H
#define BMB_SERVE_STATUS_H

#include "bambino/device.h"

/* Its parts, in their order: each row of a part is one object. */
typedef enum bmb_status_part {
    BMB_STATUS_DEVICE,
    BMB_STATUS_OUTLETS,
    BMB_STATUS_FEEDS,
    BMB_STATUS_PUSHES,
    BMB_STATUS_VIEWERS,
    BMB_STATUS_SIGN_INS, /* for administrators; without them none */
    BMB_STATUS_END,
    BMB_STATUS_PARTS
} bmb_status_part;

/* What of it somebody may see. */
typedef struct bmb_status_view {
    bool peers;     /* the addresses of others, and who is signed in */
    uint64_t feeds; /* a bit for each that he may see */
} bmb_status_view;

/* Each prints one object without a trailing NUL and returns its length; 0: `memory` or `room` is too small. */
size_t bmb_status_device(const char *name, const bmb_device_stats *stats, void *memory, size_t size, char *out,
                         size_t room);
/* feed: its name, or NULL */
size_t bmb_status_outlet(const bmb_outlet_stats *stats, const char *feed, void *memory, size_t size, char *out,
                         size_t room);
/* peers: with where it goes */
size_t bmb_status_push(const char *feed, const bmb_push_stats *stats, bool peers, void *memory, size_t size, char *out,
                       size_t room);
size_t bmb_status_feed(const bmb_feed_stats *stats, void *memory, size_t size, char *out, size_t room);
/* peers: with where he watches from */
size_t bmb_status_viewer(const char *feed, const char *given, const bmb_viewer_stats *stats, bool peers, void *memory,
                         size_t size, char *out, size_t room);
size_t bmb_status_sign_in(size_t number, const char *name, const bmb_addr *peer, uint64_t since_ms, uint64_t idle_ms,
                          void *memory, size_t size, char *out, size_t room);

/* Memory that the largest of these objects needs while it is built: up to 48 items of cJSON, of 64 bytes (40 where
 * pointers have 32 bits), and the digits of up to 32 numbers. */
#define BMB_STATUS_MEMORY (sizeof(void *) > 4 ? 48 * 64 + 32 * 24 : 48 * 40 + 32 * 24)

#endif
