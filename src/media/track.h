/* A track: one stream of frames of a feed, in a reel, and who follows it. A feed has one of pictures; sound would be
 * another one, with a codec and a source of its own.
 */
#ifndef BMB_MEDIA_TRACK_H
#define BMB_MEDIA_TRACK_H

#include "base/bounds.h"
#include "base/context.h"
#include "base/rate.h"
#include "media/codec.h"
#include "media/reel.h"

typedef struct bmb_watcher bmb_watcher;
typedef struct bmb_owner bmb_owner;

/* Whose a watcher is. Each of these may end the watcher, and others of the same owner. */
struct bmb_owner {
    void *room;                                            /* the owner's own */
    void (*frame_there)(bmb_owner *owner, bmb_watcher *w); /* NULL: others send what these watch */
    void (*put_out)(bmb_owner *owner, bmb_watcher *w);     /* gives its frame up, in which it is: room is needed */
    void (*feed_gone)(bmb_owner *owner, bmb_watcher *w);
    /* Its watchers are viewers (flow/viewer.h), with figures; NULL: they are none. */
    void (*describe)(bmb_owner *owner, bmb_watcher *w, bmb_viewer_stats *out);
    bool (*holds)(const bmb_watcher *w, const bmb_frame *frame); /* besides the one that it is in; NULL: none ever */
};

struct bmb_watcher {
    bmb_owner *owner;
    bmb_watcher *next, *before; /* in the track's list */
    bmb_frame *frame;           /* in the middle of it, pinned; or NULL */
};

typedef struct bmb_track {
    struct bmb_feed *feed;
    const char *kind;         /* "video": in descriptions, and its control address behind the feed's */
    const bmb_codec_row *row; /* of its codec */
    bmb_reel reel;
    bmb_watcher *first, *last; /* in the order in which they came … */
    bmb_watcher *silent;       /* … but those that are not told of frames behind the others: the first of them */
    bmb_watcher *walk;         /* the next one, while the list is gone through */
    bool fresh;                /* frames came in this step */
    bool needs_key;            /* nothing before the next key frame can be decoded */
    uint32_t kbps_most;        /* highest bit rate seen, in coarse steps */
    uint32_t frames;           /* enough for four years at 30/s */
    bmb_rate rate;
    bmb_codec_state codec; /* what its frames have told */
} bmb_track;

void bmb_track_join(bmb_track *t, bmb_watcher *w, bmb_owner *owner);
void bmb_track_leave(bmb_track *t, bmb_watcher *w);
/* Tells everybody who watches that frames came in this step, if any did. */
void bmb_track_deliver(bmb_track *t);
/* Tells everybody that the feed is gone. */
void bmb_track_end(bmb_track *t);

/* Nobody holds a frame any longer: who is in the middle of one is put out. */
void bmb_track_let_go(bmb_track *t);

/* A frame, once it is known what it is: copied, or the driver's. NULL: there is no room for it, whoever is put out. */
bmb_frame *bmb_track_put(bmb_track *t, const bmb_arrival *a, const bmb_camera_frame *in);

uint32_t bmb_track_kbps(const bmb_context *x, const bmb_track *t); /* measured at the input */
/* Is enough known of it to describe it? */
bool bmb_track_described(const bmb_track *t);
/* Why RTP cannot carry it; BMB_JPEG_RTP_OK: it can. */
bmb_jpeg_rtp bmb_track_refusal(const bmb_track *t);

#endif
