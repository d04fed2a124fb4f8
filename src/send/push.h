/* Feeds that are sent to an address by themselves: by datagrams, or over a connection that is made again whenever the
 * listener went away.
 */
#ifndef BMB_SEND_PUSH_H
#define BMB_SEND_PUSH_H

#include "talk/conn.h"

typedef struct bmb_push {
    bmb_opening by; /* of its connection */
    struct bmb_push_set *set;
    const bmb_push_config *config;
    bmb_feed *feed;
    uint8_t state; /* bmb_push_state */
    bmb_err err;
    uint16_t conn;       /* TCP: index of the connection that is reserved for it */
    bmb_sock sock, rtcp; /* UDP; rtcp: RTP's second one */
    uint32_t starts, retry_ms;
    uint64_t retry_us, since_us;
    uint64_t told_us;   /* when trouble was last told … */
    uint32_t told_ms;   /* … and for how long the same is not told again; 0: nothing was */
    uint8_t told_err;   /* … and which */
    bool flaps;         /* TCP: the last listener closed before it got a frame */
    uint64_t report_us; /* RTP: next sender report */
    bmb_tally reported;
    bmb_viewer viewer; /* UDP */
} bmb_push;

/* All of a device. */
typedef struct bmb_push_set {
    bmb_owner owner; /* of those over UDP */
    bmb_context *x;
    bmb_talk *talk;
    bmb_push *pushes;
    size_t count;
} bmb_push_set;

/* Starts those of the configuration; pushes: as many, zeroed. */
void bmb_pushes_open(bmb_push_set *set, bmb_context *x, const bmb_feeds *feeds, bmb_talk *talk, bmb_push *pushes);
/* One of the configuration begins … */
void bmb_pushes_start(bmb_push_set *set, const bmb_feeds *feeds, size_t index);
void bmb_pushes_resume(bmb_push_set *set, const bmb_feed *feed); /* … those of a feed begin again … */
void bmb_pushes_remove(bmb_push_set *set, size_t index);         /* … and one's place is free */
size_t bmb_pushes_dialling(const bmb_push_set *set);             /* how many have a connection of their own */
void bmb_pushes_bursts(bmb_push_set *set);                       /* whose time has come */
/* Gives up what dials for too long, tries again what waits, says what is due between frames; returns when something
 * next is. */
uint64_t bmb_pushes_tend(bmb_push_set *set);
/* Those of a feed, or with NULL all, for good. */
void bmb_pushes_end(bmb_push_set *set, const bmb_feed *feed);
/* What one sends just now; NULL: nothing. */
const bmb_viewer *bmb_push_viewer(const bmb_push *p);
/* As bmb_push_describe. */
bmb_err bmb_pushes_describe(const bmb_push_set *set, size_t index, char *out, size_t room, size_t *size);

#endif
