/* What the device consists of: a part of each room, and what joins them. Private to src/device. */
#ifndef BMB_DEVICE_PARTS_H
#define BMB_DEVICE_PARTS_H

#include "base/block.h"
#include "device/check.h"
#include "send/group.h"
#include "send/push.h"
#include "talk/http_access.h"
#include "talk/talk.h"

/* The memory of all feeds, where they may change: each has a piece of it. */
typedef struct bmb_piece {
    uint8_t *at;
    size_t size; /* 0: the feed's place is free */
} bmb_piece;

typedef struct bmb_pieces {
    uint8_t *memory;
    size_t size;
    bmb_piece *of; /* by the feed's number */
} bmb_pieces;

struct bmb_device {
    bmb_context context;
    bmb_feeds feeds;
    bmb_talk talk;
    bmb_group_set groups;
    bmb_push_set pushes;
    bmb_figures figures;
#if BMB_WITH_CHANGES
    bmb_pieces *pieces; /* NULL: nothing changes */
#endif
    size_t memory;      /* of the block */
    uint64_t report_us; /* the next report of what went out */
#if BMB_WITH_FOLLOWING
    uint32_t level_kbps; /* of the uplink, that everybody may have; 0: as much as he likes */
#endif
    uint8_t light; /* bmb_light */
#if BMB_WITH_TLS
    bool encrypts; /* the port has its memory for that now … */
    bool accepts;  /* … for connections that come, too */
#endif
    /* context.scratch: the largest need of a room. */
    union {
        bmb_gather gather;
        uint8_t farewell[BMB_FAREWELL_ROOM];
#if BMB_WITH_STATUS || BMB_WITH_FRAMED
        uint8_t json[BMB_STATUS_MEMORY];
#endif
#if BMB_WITH_RTP
        uint8_t sdp[BMB_SDP_ROOM];
#endif
#if BMB_WITH_ACCESS
        uint8_t access[BMB_ACCESS_ROOM];
#endif
        bmb_jpeg_facts jpeg;
#if BMB_WITH_H264
        bmb_h264_facts h264;
#endif
    } scratch;
};

/* layout.c: the whole block, in the order of the budget's parts. NULL: it only counts. With memory it builds the
 * device, of which nothing is started. */
/* … and how many connections at a time may be encrypted. */
size_t bmb_secure_accepted(const bmb_config *config);
size_t bmb_secure_dialled(const bmb_config *config);
#if BMB_WITH_CHANGES
/* The memory of a feed: NULL, it is counted. */
void bmb_lay_out_feed(bmb_block *b, const bmb_config *config, const bmb_plan *p, size_t i, bmb_feed *feed);
size_t bmb_feed_piece(const bmb_config *config, const bmb_plan *p, size_t i);
#endif
bmb_device *bmb_lay_out(void *memory, const bmb_config *config, bmb_plan *p, bmb_budget *budget);
/* figures.c: a row of the status; and what went out in the last second, over every outlet and push. */
void bmb_judge(bmb_device *d); /* tells what has come to hold something back, or does no more */
size_t bmb_figures_row(bmb_figures *f, const bmb_status_view *view, bmb_status_part part, size_t index, char *out,
                       size_t room);
void bmb_report(bmb_device *d);
/* groups.c: groups that are sent unasked, and those that may not be. */
void bmb_lease_groups(bmb_device *d);

#endif
