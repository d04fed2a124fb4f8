/* A feed: what is made of a camera's frames, and who follows it.
 *
 * Its frames are checked and put into the reel of a track. Whoever watches is in the track's list, with an owner that
 * gets the news: a frame is there; you are put out; your feed is gone. Nothing here knows what kinds of watchers there
 * are.
 */
#ifndef BMB_MEDIA_FEED_H
#define BMB_MEDIA_FEED_H

#include "base/bounds.h"
#include "media/camera.h"
#include "media/daylight.h"
#include "media/follow.h"
#include "media/governor.h"
#include "media/tame.h"
#include "media/track.h"

/* A still of another size, which is taken while the feed streams (still.h). */
typedef struct bmb_still {
    bool active;     /* somebody waits for it, or is being sent it */
    bool running;    /* the stream for it runs */
    uint16_t index;  /* the port's, of that stream: one that no feed has, or the feed's own, which is lent */
    bool held;       /* the picture is in the driver's buffer, under this cookie */
    uint8_t quality; /* of the stream, to be set again; 0: it was not changed */
    uint8_t settled;
    uint16_t width, height;
    uintptr_t cookie;
    uint64_t since_us; /* when the stream was last lent */
    uint64_t until_us; /* it is given up then */
    void *asker;       /* who gets it; NULL: has left */
} bmb_still;

/* A cause is told when it is the same for a while. */
typedef struct bmb_told {
    uint8_t told : 3, now : 3; /* bmb_cause, twice */
    uint8_t times;             /* looks that saw the same */
} bmb_told;

typedef struct bmb_feed {
    const bmb_feed_config *config;
    uint16_t number;  /* in the configuration */
    uint16_t group;   /* of those who send it to a group: its number plus 1; 0: nobody does */
    uint16_t viewers; /* that take one of the places for viewers */
    bool removed;
#if BMB_WITH_CHANGES
    uint8_t tracks : 7;
    uint8_t paused : 1; /* out of service, and kept for later */
#else
    uint8_t tracks;
#endif
    bmb_camera camera;
    bmb_track track[BMB_TRACKS_MOST];
    uint64_t watched_us; /* when somebody was last seen watching */
    uint64_t quiet_us;   /* no more reports of bad frames before this … */
    uint64_t behind_us;  /* … and of recorders that lost some */
    uint64_t sent, skipped, bytes_sent;
    uint32_t dropped, bad, too_large; /* enough for four years at 30/s */
#if BMB_WITH_REPAIR
    uint32_t repaired;
#endif
    uint32_t stalled, shed;
    bmb_tame tame;
#if BMB_WITH_DAYLIGHT
    bmb_daylight daylight;
#endif
    bmb_governor governor;
#if BMB_WITH_FOLLOWING
    bmb_follower follower;
#endif
#if BMB_WITH_VERDICTS
    bmb_told held;      /* what was told of what holds it back */
    uint32_t full_ms;   /* when a frame last found no room, ms since the start; its size stands below */
    uint64_t steady_us; /* its rate is judged from then on */
#endif
    bmb_still still;
    uint64_t sdp_id;      /* of its descriptions, drawn at opening … */
    uint32_t sdp_version; /* … and a number that moves when what they say does */
#if BMB_WITH_VERDICTS
    uint32_t full_bytes; /* of the frame that found no room lately; 0: none did */
#endif
} bmb_feed;

#if BMB_WITH_VERDICTS
/* Has a frame found no room lately? */
static inline bool bmb_feed_is_full(const bmb_context *x, const bmb_feed *feed)
{
    return feed->full_bytes > 0 && (uint32_t)(x->now / 1000) - feed->full_ms < BMB_FULL_MS;
}
#endif

/* So long a still waits for a frame. A camera that was off while nobody watched is given the time of its start. */
static inline uint64_t bmb_feed_patience_us(const bmb_feed *feed)
{
    bool starts = BMB_WITH_RESTING && feed->camera.state == BMB_CAMERA_STARTING;
    return starts ? BMB_START_MOST_US : BMB_STILL_WAIT_US;
}

/* Its pictures. */
static inline bmb_track *bmb_feed_video(bmb_feed *feed)
{
    return &feed->track[0];
}

/* Not a free place for one. */
static inline bool bmb_feed_is_there(const bmb_feed *feed)
{
    return !BMB_WITH_COMING || feed->config->name[0] != '\0';
}

/* Draws what is random, and starts the camera. */
void bmb_feed_open(bmb_context *x, bmb_feed *feed);
void bmb_feed_start(bmb_context *x, bmb_feed *feed); /* the camera, again */
void bmb_feed_take(bmb_context *x, bmb_feed *feed);  /* what the camera has */
/* Tells everybody who watches that frames came in this step, if any did. */
void bmb_feed_deliver(bmb_feed *feed);
/* Looks at stalls and retries; returns when it wants to be called again. */
uint64_t bmb_feed_tend(bmb_context *x, bmb_feed *feed);
/* Takes it out of service: everybody is told, the camera stops, its memory is free. */
void bmb_feed_end(bmb_context *x, bmb_feed *feed);
/* Camera and frames go; watchers must have gone before. */
void bmb_feed_close(bmb_context *x, bmb_feed *feed);

/* Its bit rate is held as its configuration says now. */
void bmb_feed_hold_rate(const bmb_context *x, bmb_feed *feed);

/* BMB_IN_USE: the bit rate decides it, or a still is being taken. *effective: what is in force then, refused or not; 0
 * where that is not known. */
bmb_err bmb_feed_set(bmb_context *x, bmb_feed *feed, bmb_control control, int32_t value, int32_t *effective);
bool bmb_feed_fresh(const bmb_feed *feed); /* frames came in this step */
/* Is enough known of it to describe it? */
bool bmb_feed_described(const bmb_feed *feed);
/* A viewer of it that begins now needs a key frame soon. */
void bmb_feed_welcome(bmb_context *x, bmb_feed *feed);

/* All feeds of a device. */
typedef struct bmb_feeds {
    bmb_feed *feed;
    size_t count;
} bmb_feeds;

#if BMB_WITH_FOLLOWING
/* The bit rate that is set, of the encoder or to be held; 0: none is. */
uint32_t bmb_feed_set_kbps(const bmb_context *x, const bmb_feed *feed);
/* Its step that there is: of the same codec, and not itself; NULL: it has none. */
bmb_feed *bmb_feed_step(const bmb_feeds *feeds, const bmb_feed *feed);
/* What a viewer of it needs at least to see something, by its last step; 0: not known yet. */
uint32_t bmb_feed_least_kbps(const bmb_context *x, const bmb_feeds *feeds, const bmb_feed *feed);
/* It follows no further down than that. */
uint32_t bmb_feed_follow_least(const bmb_feed *feed, uint32_t set);
/* Its bit rate until it is set anew. As much as is set, or more: it follows no longer. */
void bmb_feed_follow(bmb_context *x, bmb_feed *feed, uint32_t kbps);
#endif

/* A bit for each that is out of service. */
uint64_t bmb_feeds_removed(const bmb_feeds *feeds);
/* Viewers of them all. */
uint16_t bmb_feeds_viewers(const bmb_feeds *feeds);
/* Everybody who watches, one after the other: *at is 0 and after NULL for the first. NULL: that was the last one. */
bmb_watcher *bmb_feeds_next(const bmb_feeds *feeds, size_t *at, const bmb_watcher *after);
/* NULL: there is none of that number, or it is out of service. */
bmb_feed *bmb_feeds_at(const bmb_feeds *feeds, size_t number);
bmb_feed *bmb_feeds_named(const bmb_feeds *feeds, const char *name);

#endif
