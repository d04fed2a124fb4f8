/* Multicast groups: one sender each, whatever the number of its viewers. It exists as long as a session or a lease
 * holds it, and sends while one of them wants to see something.
 */
#ifndef BMB_SEND_GROUP_H
#define BMB_SEND_GROUP_H

#include "talk/conn.h"

/* Of one feed. */
typedef struct bmb_group {
    bmb_feed *feed;
    bmb_sock sock;    /* open while somebody holds it */
    uint16_t holders; /* sessions and the lease: they have it, playing or paused */
    uint16_t members; /* of them, those that want to see something now */
    uint64_t report_us;
    uint64_t lease_us; /* sends until then for receivers that have fetched its description; 0: no lease */
#if BMB_WITH_PARITY
    bmb_parity parity; /* of 0: none */
#endif
    bmb_viewer viewer;
} bmb_group;

/* All of a device. */
typedef struct bmb_group_set {
    bmb_groups service; /* what connections are handed */
    bmb_owner owner;    /* of the groups' viewers */
    bmb_context *x;
    bmb_tally *tally;  /* of what they send: an RTSP outlet's, or NULL */
    bmb_group *groups; /* first of the feeds that have one, in their order; then those that may come */
    size_t count;
} bmb_group_set;

size_t bmb_groups_of(const bmb_config *config);
#if BMB_WITH_PARITY
size_t bmb_groups_parity(const bmb_config *config); /* how many of them have parity */
#endif
/* groups: as many, zeroed. parity: rtp_packet bytes for each that has it. Those that always send begin. */
void bmb_groups_open(bmb_group_set *set, bmb_context *x, const bmb_feeds *feeds, bmb_tally *tally, bmb_group *groups);
#if BMB_WITH_PARITY
/* Before that: gives each its memory. */
void bmb_groups_lend_parity(const bmb_config *config, bmb_group *groups, uint8_t *memory);
#endif
/* Bursts whose time has come. */
void bmb_groups_bursts(bmb_group_set *set);
/* Ends leases; returns when the next one does. */
uint64_t bmb_groups_tend(bmb_group_set *set);
/* No lease is left; sessions have gone before. */
void bmb_groups_feed_gone(bmb_group_set *set, const bmb_feed *feed);
/* A group that need not be sent always ends, unless somebody has asked for it. */
void bmb_groups_not_always(bmb_group_set *set, const bmb_feed *feed);
#if BMB_WITH_CHANGES
/* Is there a place, and memory for its parity, for a feed that is to have this group? */
bool bmb_groups_fits(const bmb_group_set *set, const bmb_feed *feed, const bmb_multicast *to);
/* The feed's row has another group, or none: nobody holds the one before any more. It fits. */
void bmb_groups_assign(bmb_group_set *set, bmb_feed *feed);
#endif
void bmb_groups_close(bmb_group_set *set);

#endif
