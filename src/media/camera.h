/* A camera's life: started, silent, failed, tried again; and what is set on it. What becomes of its frames is the
 * feed's (feed.h).
 */
#ifndef BMB_MEDIA_CAMERA_H
#define BMB_MEDIA_CAMERA_H

#include "base/bounds.h"
#include "base/context.h"

typedef struct bmb_camera {
    const bmb_feed_config *config;
    size_t index;  /* the port's */
    bmb_mode mode; /* in force */
    bmb_camera_state state;
    bmb_err err;
    bool lent;       /* it runs in another mode, for a still */
    bool resting;    /* its encoder does, since nobody watches … */
    bool off;        /* … or the camera itself, which is stopped then */
    bool absent;     /* and it is tried at once when it is there again */
    bool key_wanted; /* a key frame is to be asked for as soon as the pause allows */
    bool restored;   /* saved controls were looked for */
    uint32_t retry_ms, restarts;
    uint32_t gap_ms_most;
#if BMB_WITH_REPAIR
    uint32_t number, dropped; /* of its last frame, 0: not known; frames that were missing between their numbers */
#endif
    uint64_t heard_us; /* last frame, or start */
    uint64_t awake_us; /* its encoder goes on since then, and what comes may be older; 0: it does not */
    uint64_t retry_us; /* next start */
    uint64_t began_us; /* its first frame since; 0: none yet */
    uint64_t gap_us;   /* when the present gap began; 0: there is none */
    uint64_t lent_us;  /* since when it was; the gap that this made is told with the next frame. 0: it is told */
    uint64_t key_us;   /* when one was last asked for */
#if BMB_WITH_FOLLOWING
    uint32_t follows_kbps; /* the bit rate just now, since it follows a link; 0: it is as set … */
    int32_t set_kbps;      /* … and what is set meanwhile, of its own encoder; 0: it has none, or does not follow */
#endif
    uint32_t changed; /* controls that are to be stored, a bit each … */
    uint64_t keep_us; /* … at that time; else not before it */
} bmb_camera;

/* It is stopped, although it counts as running, until somebody watches. */
static inline bool bmb_camera_is_off(const bmb_camera *c)
{
    return BMB_WITH_RESTING && c->off;
}

/* An event about it. */
void bmb_camera_tell(bmb_context *x, const bmb_camera *c, bmb_event_code code, bmb_err err, int64_t value,
                     int64_t extra);
/* Starts it in the mode that is configured. Not BMB_OK: it is told, and tried again later. *news: its mode is another
 * than before. */
bmb_err bmb_camera_start(bmb_context *x, bmb_camera *c, bool *news);
/* Tells that it runs, and in which mode: its owner says when everything else is ready. */
void bmb_camera_started(bmb_context *x, const bmb_camera *c);
/* Stops it where it runs and is not off. */
void bmb_camera_stop(bmb_context *x, bmb_camera *c);
/* It fails with frames: stopped, told, tried again later. */
void bmb_camera_fail(bmb_context *x, bmb_camera *c, bmb_err err);
/* Off while nobody watches, and gone meanwhile? Then it has failed as one that ran. */
void bmb_camera_look(bmb_context *x, bmb_camera *c);
/* A frame has come. */
void bmb_camera_heard(bmb_context *x, bmb_camera *c);
/* The number of that frame; 0: not known. */
void bmb_camera_count(bmb_camera *c, uint32_t number);
/* Looks at stalls and retries; returns when it wants to be looked at again. *start: it is to be started again, now. */
uint64_t bmb_camera_tend(bmb_context *x, bmb_camera *c, bool *start);
/* Asks for a key frame, now or as soon as the pause since the last request is over. */
void bmb_camera_want_key(bmb_context *x, bmb_camera *c);

/* BMB_UNSUPPORTED, too, where the port has no such function. */
bmb_err bmb_camera_set(const bmb_context *x, const bmb_camera *c, bmb_control control, int32_t value,
                       int32_t *effective);
/* While its bit rate follows a link, this is what is set. */
bmb_err bmb_camera_get(const bmb_context *x, const bmb_camera *c, bmb_control control, int32_t *value);
bool bmb_mode_same(const bmb_mode *a, const bmb_mode *b);

#endif
