#include "media/next.h"

#include "base/bounds.h"

static bool is_new(const bmb_place *p, const bmb_frame *frame)
{
    return (int32_t)(frame->seq - p->seq) > 0;
}

/* The newest key frame that he has not had. */
static bmb_frame *newest_key(const bmb_reel *reel, const bmb_place *p)
{
    bmb_frame *found = NULL;
    for (uint16_t i = 0; i < reel->count; i++) {
        bmb_frame *f = &reel->frames[i];
        if (f->live && f->key && is_new(p, f) && (found == NULL || (int32_t)(f->seq - found->seq) > 0)) found = f;
    }
    return found;
}

/* H.264: the next frame in order; or, for whoever fell out or is too far behind, the newest key frame. */
static bmb_frame *next_in_order(bmb_context *x, const bmb_reel *reel, bmb_camera *camera, bmb_place *p)
{
    if (!p->needs_key) {
        bmb_frame *f = bmb_reel_after(reel, p->seq);
        if (f == NULL) return NULL;
        bool lags = !p->keep_all && reel->newest != NULL && reel->newest->capture_us > f->capture_us + BMB_LAG_US;
        if (f->seq == p->seq + 1 && !lags) return f;
        p->needs_key = true;
    }
    bmb_frame *key = newest_key(reel, p);
    if (key == NULL && reel->newest != NULL && is_new(p, reel->newest)) bmb_camera_want_key(x, camera);
    return key;
}

bmb_frame *bmb_next_frame(bmb_context *x, const bmb_track *t, bmb_camera *camera, bmb_place *p)
{
    const bmb_reel *reel = &t->reel;
    bmb_frame *frame = BMB_WITH_H264 && t->row->in_order ? next_in_order(x, reel, camera, p)
                       : BMB_KEEPS_ALL && p->keep_all    ? bmb_reel_after(reel, p->seq)
                                                         : reel->newest;
    return frame != NULL && is_new(p, frame) ? frame : NULL;
}
