#include "media/track.h"

#include <string.h>

void bmb_track_join(bmb_track *t, bmb_watcher *w, bmb_owner *owner)
{
    bmb_watcher *next = owner->frame_there != NULL ? t->silent : NULL;
    *w = (bmb_watcher){ .owner = owner, .next = next, .before = next != NULL ? next->before : t->last };
    *(w->before != NULL ? &w->before->next : &t->first) = w;
    *(next != NULL ? &next->before : &t->last) = w;
    if (owner->frame_there == NULL && t->silent == NULL) t->silent = w;
}

void bmb_track_leave(bmb_track *t, bmb_watcher *w)
{
    if (t->walk == w) t->walk = w->next; /* the list is being gone through */
    if (t->silent == w) t->silent = w->next;
    *(w->before != NULL ? &w->before->next : &t->first) = w->next;
    *(w->next != NULL ? &w->next->before : &t->last) = w->before;
    w->next = w->before = NULL;
}

void bmb_track_deliver(bmb_track *t)
{
    for (bmb_watcher *w = t->fresh ? t->first : NULL; w != NULL && w != t->silent; w = t->walk) {
        t->walk = w->next;
        w->owner->frame_there(w->owner, w);
    }
    t->fresh = false;
}

void bmb_track_end(bmb_track *t)
{
    for (bmb_watcher *w = t->first; w != NULL; w = t->walk) {
        t->walk = w->next;
        w->owner->feed_gone(w->owner, w);
    }
}

static bool holds(const bmb_watcher *w, const bmb_frame *frame)
{
    return w->frame == frame || (w->owner->holds != NULL && w->owner->holds(w, frame));
}

/* Those that hold this frame give it up. */
static void shed(bmb_track *t, const bmb_frame *frame)
{
    for (bmb_watcher *w = t->first; w != NULL; w = t->walk) {
        t->walk = w->next;
        if (holds(w, frame)) w->owner->put_out(w->owner, w);
    }
}

#if BMB_WITH_CHANGES
void bmb_track_let_go(bmb_track *t)
{
    for (const bmb_frame *f; (f = bmb_reel_oldest_pinned(&t->reel)) != NULL;) shed(t, f);
}
#endif

static bmb_frame *reserve(bmb_track *t, uint32_t size)
{
    for (;;) {
        bmb_frame *frame = bmb_reel_reserve(&t->reel, size);
        if (frame != NULL) return frame;
        const bmb_frame *in_way = bmb_reel_oldest_pinned(&t->reel);
        if (in_way == NULL) return NULL;
        shed(t, in_way);
    }
}

bmb_frame *bmb_track_put(bmb_track *t, const bmb_arrival *a, const bmb_camera_frame *in)
{
    bmb_frame *frame = reserve(t, a->size + a->added);
    if (frame == NULL) return NULL;
    if ((BMB_WITH_H264 || BMB_WITH_REPAIR) && a->added > 0) {
        t->row->fill(&t->codec, a, bmb_reel_bytes(&t->reel, frame), frame->facts);
        return frame;
    }
    memcpy(frame->facts, a->facts, t->row->facts_size);
    if (t->reel.memory != NULL) {
        memcpy(bmb_reel_bytes(&t->reel, frame), a->data, a->size);
    } else {
        frame->data = a->data;
        frame->cookie = in->cookie;
    }
    return frame;
}

uint32_t bmb_track_kbps(const bmb_context *x, const bmb_track *t)
{
    uint32_t mfps, kbps;
    bmb_rate_read(&t->rate, x->now, &mfps, &kbps);
    return kbps;
}

bool bmb_track_described(const bmb_track *t)
{
    return t->row->described != NULL ? t->row->described(&t->codec) : t->frames > 0;
}

bmb_jpeg_rtp bmb_track_refusal(const bmb_track *t)
{
    return t->codec.refusal;
}
