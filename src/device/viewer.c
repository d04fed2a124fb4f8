/* A viewer is a cursor that walks shared frames through a framer onto a link. */
#include <string.h>

#include "device/state.h"

void bmb_viewer_begin(bmb_device *d, bmb_viewer *v, bmb_feed *feed, const bmb_framer *framer, bool once)
{
    bmb_stream_state state = v->state; /* prepared by the conversation */
    memset(v, 0, sizeof *v);
    v->state = state;
    v->framer = framer;
    v->feed = feed;
    v->once = once;
    v->counted = !once;
    v->since_us = v->progress_us = d->now;
    bmb_rate_start(&v->rate, d->now);
    if (!v->counted) return;
    feed->viewers++;
    d->viewers++;
}

void bmb_viewer_end(bmb_device *d, bmb_viewer *v)
{
    if (v->framer == NULL) return;
    if (v->frame != NULL) bmb_reel_unpin(&v->feed->reel, v->frame);
    if (v->counted) {
        v->feed->viewers--;
        d->viewers--;
    }
    v->frame = NULL;
    v->framer = NULL;
}

/* The newest frame, if it was not sent yet. A viewer that is known to be slow waits where its pin would take the last
 * room for new frames; it then shares the frame of another slow one. */
static bmb_frame *choose(bmb_viewer *v)
{
    bmb_reel *reel = &v->feed->reel;
    bmb_frame *newest = reel->newest;
    if (newest == NULL || (v->begun && newest->seq == v->seq)) return NULL;
    if (v->slow && !bmb_reel_may_pin(reel, newest)) return NULL;
    return newest;
}

static void begin_frame(bmb_viewer *v, bmb_frame *frame)
{
    if (v->begun) {
        uint32_t passed = frame->seq - v->seq - 1;
        v->skipped += passed;
        v->feed->skipped += passed;
    }
    bmb_reel_pin(&v->feed->reel, frame);
    v->frame = frame;
    v->cursor = (bmb_cursor){ 0 };
    v->taken = 0;
    v->slow = false;
    v->seq = frame->seq;
    v->begun = true;
}

static void finish_frame(bmb_device *d, bmb_viewer *v)
{
    bmb_frame *frame = v->frame;
    if (v->framer->done != NULL) v->framer->done(&v->state, &v->cursor);
    v->sent++;
    v->feed->sent++;
    uint64_t now = d->port->now_us(d->port->ctx);
    v->age_ms = (uint32_t)((now - frame->capture_us) / 1000);
    bmb_rate_frame(&v->rate, now, frame->size);
    v->frame = NULL;
    bmb_reel_unpin(&v->feed->reel, frame);
}

/* Leaves out the bytes at the front that the link has already. */
static size_t trim(bmb_gather *g, size_t taken)
{
    size_t first = 0;
    while (taken > 0 && taken >= g->slices[first].size) taken -= g->slices[first++].size;
    if (taken == 0) return first;
    g->slices[first].data = (const uint8_t *)g->slices[first].data + taken;
    g->slices[first].size -= taken;
    return first;
}

/* Puts the cursor to the piece that byte `taken` of the gather falls into. */
static void settle(bmb_viewer *v, const bmb_gather *g, const bmb_cursor *after, size_t taken)
{
    if (taken == g->bytes) {
        v->cursor = *after;
        v->taken = 0;
        return;
    }
    size_t piece = 0;
    while (taken >= g->sizes[piece]) taken -= g->sizes[piece++];
    v->cursor = g->starts[piece];
    v->taken = (uint32_t)taken;
}

/* One gather and one call to the link. */
static bmb_err send_some(bmb_device *d, bmb_viewer *v, bmb_sock sock)
{
    bmb_gather *g = &d->work.gather;
    bmb_cursor after = v->cursor;
    bmb_gather_clear(g);
    while (!after.end && v->framer->next(&v->state, v->frame, &after, g)) continue;

    size_t offered = g->bytes - v->taken, sent = 0, first = trim(g, v->taken);
    bmb_err err = d->port->net.send(d->port->ctx, sock, g->slices + first, g->slice_count - first, &sent);
    if (sent > 0) v->progress_us = d->now;
    v->bytes += sent;
    v->feed->bytes_sent += sent;
    settle(v, g, &after, v->taken + sent);
    if (err != BMB_OK) return err;
    return sent < offered ? BMB_AGAIN : BMB_OK;
}

bmb_err bmb_viewer_pump(bmb_device *d, bmb_viewer *v, bmb_sock sock)
{
    for (;;) {
        if (v->frame == NULL) {
            bmb_frame *frame = choose(v);
            if (frame == NULL) {
                v->progress_us = d->now; /* it has everything: not stalled */
                return BMB_AGAIN;
            }
            begin_frame(v, frame);
        }
        bmb_err err = send_some(d, v, sock);
        if (err == BMB_AGAIN) {
            v->blocked = v->slow = true;
            return err;
        }
        if (err != BMB_OK) return BMB_GONE;
        if (!v->cursor.end) continue;
        finish_frame(d, v);
        if (v->once) return BMB_OK;
    }
}
