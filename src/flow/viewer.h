/* A viewer is a cursor that walks shared frames through a framer onto a link. */
#ifndef BMB_FLOW_VIEWER_H
#define BMB_FLOW_VIEWER_H

#include "flow/link.h"
#include "media/feed.h"

typedef struct bmb_viewer {
    bmb_watcher watcher; /* with the frame that it is in the middle of */
    bool once;           /* ends after one frame */
    bool counted;        /* takes one of the places for viewers */
    bool blocked;        /* the link takes no more just now … */
    bool held;           /* … since it has not acknowledged what it has: it has room for bytes */
    bool lends;          /* frames are lent to the link, which lives no longer than the viewer */
    bool slow;           /* was blocked within the last frame */
    bool begun;          /* at least one frame was sent */
    bool needs_key;      /* can go on at a key frame only */
    bool keep_all;       /* frames in order as long as the reel has them */
    uint8_t tight;       /* frames yet for which its path is looked at first: it was full lately, or is not known */
#if BMB_WITH_VERDICTS
    bmb_told held_by; /* what was told of what holds it back */
#endif
#if BMB_WITH_FOLLOWING
    /* The feed that it asked for, its number plus 1, while it is given a step of that; 0: it has it. */
    uint8_t asked : 7, shared : 1; /* shared: carry_kbps is its share of the uplink */
    /* The feed whose frames it is given from the next one on, likewise; 0: it stays. */
    uint8_t next : 7, fixed : 1; /* fixed: it is given what it asked for and nothing else */
    bmb_follower follower;
#endif
    const bmb_framer *framer; /* NULL: nobody watches */
    bmb_track *track;
    bmb_tally *tally;               /* whose figures it adds to when it ends; NULL: nobody's */
    bmb_cursor cursor;              /* in the frame: the piece to be sent next … */
    uint32_t taken;                 /* … and how many of its bytes the link has already */
    bmb_frame *lent[BMB_LENT_MOST]; /* sent, and lent to the port until it is acknowledged: pinned; or NULL … */
    uint32_t behind[BMB_LENT_MOST]; /* … and the bytes that the link took behind each */
    uint32_t seq;                   /* last frame sent or passed over */
#if BMB_WITH_VIEWER_RATES
    union {
        struct {                             /* datagrams: */
            uint8_t lost_256, in_vain, deaf; /* the last loss, cuts that did not help, reports to pass over … */
            uint8_t heard; /* … and when one was last followed, the lower half of a count of BMB_CARRY_PAUSE_US */
        };
        uint32_t turn_us; /* streams: its share allows the next frame then, the lower half of that; 0: now */
    };
#endif
    bmb_stream_state state;
    uint32_t age_ms;
#if BMB_WITH_VIEWER_RATES
    uint32_t carry_kbps; /* no faster than that; 0: as frames come. Datagrams: what reports tell … */
#endif
    uint64_t since_us;
    union {
        uint64_t tuned_us; /* streams: when what may wait unsent is next fitted to what the link really carries */
        uint64_t pace_us;  /* datagrams: the next burst is due; 0: none is under way */
    };
    uint64_t blocked_us;    /* since when, while blocked; else how long altogether */
    uint32_t sent, skipped; /* frames: enough for four years at 30/s */
    uint64_t bytes;
#if BMB_WITH_VIEWER_RATES
    bmb_rate rate;
#endif
} bmb_viewer;

/* What of a viewer its conversation says. */
typedef struct bmb_viewing {
    bmb_owner *owner;
    bmb_tally *tally;
    const bmb_framer *framer;
    bool once, counted, keep_all, fixed;
    bool lends; /* the connection is closed as soon as the viewer ends: what is lent to the port stays until then */
} bmb_viewing;

/* v->state was prepared by the conversation. */
void bmb_viewer_begin(bmb_context *x, bmb_viewer *v, bmb_track *track, const bmb_viewing *how);
void bmb_viewer_end(bmb_context *x, bmb_viewer *v);
void bmb_viewer_leave(bmb_context *x, bmb_viewer *v, const bmb_addr *peer); /* the same, and tells it */
void bmb_viewer_tell(bmb_context *x, const bmb_feed *feed, const bmb_addr *peer, bmb_event_code code, int64_t value,
                     int64_t extra);
void bmb_viewer_came(bmb_context *x, const bmb_viewer *v, const bmb_addr *peer);

/* Takes the frame to begin with, where there is one already: it is known before anything is sent. */
bool bmb_viewer_prime(bmb_context *x, bmb_viewer *v);
#if BMB_WITH_FOLLOWING
/* It gets the frames of that track from now on, as it must where its present feed ends; it is in the middle of none. */
void bmb_viewer_move(bmb_viewer *v, bmb_track *to);
#endif
/* Sends what there is, by datagrams the next burst where one is due. BMB_AGAIN: nothing new, or blocked, or the rest is
 * due later; BMB_OK: a single answer is complete; BMB_GONE: the peer is gone. */
bmb_err bmb_viewer_pump(bmb_context *x, bmb_viewer *v, bmb_link *link);
/* Streams: sends the rest of the present frame only. BMB_OK: there is none any more. */
bmb_err bmb_viewer_finish(bmb_context *x, bmb_viewer *v, bmb_link *link);
/* Datagrams: its receiver reports that so many of 256 packets were lost lately. */
void bmb_viewer_reported(const bmb_context *x, bmb_viewer *v, uint8_t lost_256);
/* Datagrams: the rest of a frame waits for its time. */
static inline bool bmb_viewer_in_bursts(const bmb_viewer *v)
{
    return v->pace_us != 0;
}

/* The link is waited for until it takes bytes. */
static inline bool bmb_viewer_awaits_room(const bmb_viewer *v)
{
    return v->blocked && !v->held;
}
/* As bmb_owner.holds. */
bool bmb_viewer_holds(const bmb_watcher *w, const bmb_frame *frame);
/* The link takes bytes again. */
void bmb_viewer_unblock(const bmb_context *x, bmb_viewer *v);
/* What the stream says between frames: when that is due (UINT64_MAX: not as things are), and, if it is, the piece
 * itself into BMB_IDLE_MAX bytes; returns its size. */
uint64_t bmb_viewer_idle_due(const bmb_viewer *v);
size_t bmb_viewer_idle(const bmb_context *x, bmb_viewer *v, uint8_t *out);
/* Gives the present frame up, as far as it was not sent. */
void bmb_viewer_abandon(bmb_viewer *v);

uint64_t bmb_viewer_blocked_us(const bmb_context *x, const bmb_viewer *v);
/* Over the last two seconds; 0 where that is not counted. */
void bmb_viewer_rate(const bmb_viewer *v, uint64_t now_us, uint32_t *mfps, uint32_t *kbps);
/* Adds what it has sent so far. */
void bmb_viewer_add(const bmb_context *x, const bmb_viewer *v, bmb_tally *sum);

/* The figures that are its own, of all that are told of a viewer. */
void bmb_viewer_figures(const bmb_context *x, const bmb_viewer *v, bmb_viewer_stats *out);

/* The feed that it asked for, whatever it is given. */
static inline bmb_feed *bmb_viewer_feed(const bmb_viewer *v)
{
#if BMB_WITH_FOLLOWING
    if (v->asked != 0) return v->track->feed - v->track->feed->number + (v->asked - 1); /* they are one array */
#endif
    return v->track->feed;
}

static inline bmb_viewer *bmb_viewer_of(bmb_watcher *w)
{
    return (bmb_viewer *)(void *)w; /* its first member */
}

#endif
