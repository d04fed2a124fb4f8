#include "flow/repeat.h"

#include <string.h>

#include "wire/rtp.h"

#if BMB_WITH_REPEATS

void bmb_repeats_start(bmb_context *x, bmb_repeats *r, bool own_stream)
{
    memset(r, 0, sizeof *r);
    x->port->random(x->port->ctx, &r->ssrc, sizeof r->ssrc);
    x->port->random(x->port->ctx, &r->seq, sizeof r->seq);
    r->own_stream = own_stream;
    r->tokens = BMB_REPEAT_BURST;
    r->filled_ms = (uint32_t)(x->now / 1000);
}

/* Where the link is narrow, repeating much of a stream would take the room of what comes next. */
static bool may_repeat(const bmb_context *x, const bmb_viewer *v, bmb_repeats *r)
{
    uint32_t now_ms = (uint32_t)(x->now / 1000), past_ms = now_ms - r->filled_ms;
    uint64_t more = (uint64_t)bmb_track_kbps(x, v->track) * BMB_REPEAT_SHARE / 100 * past_ms / 8;
    if (more > 0) {
        r->tokens = r->tokens + more < BMB_REPEAT_BURST ? r->tokens + (uint32_t)more : BMB_REPEAT_BURST;
        r->filled_ms = now_ms;
    }
    return r->tokens >= v->state.payload_max;
}

static bmb_frame *frame_of(const bmb_reel *reel, uint32_t seq)
{
    for (uint16_t i = 0; i < reel->count; i++)
        if (reel->frames[i].live && reel->frames[i].seq == seq) return &reel->frames[i];
    return NULL;
}

/* The frame of that packet, and its place in it. NULL: it is not there any more, or was not sent yet. */
static bmb_frame *find(const bmb_viewer *v, const bmb_sent *sent, uint16_t seq, uint16_t *first)
{
    const bmb_frame *now = v->watcher.frame;
    if (now != NULL && (uint16_t)(seq - v->state.next_seq) < v->cursor.pieces) {
        *first = v->state.next_seq;
        return v->watcher.frame;
    }
    for (size_t i = 0; i < BMB_SENT_MOST; i++) {
        if ((uint16_t)(seq - sent->first[i]) >= sent->pieces[i]) continue;
        *first = sent->first[i];
        return frame_of(&v->track->reel, sent->frame[i]);
    }
    return NULL;
}

/* RFC 4588 4: the packet's own number before its payload; stream, type and number are those of the repeated ones. */
static void wrap(bmb_repeats *r, bmb_packet *packet, bmb_slice *slices, uint8_t *head, uint16_t seq)
{
    const uint8_t *was = (const uint8_t *)packet->slices[0].data;
    memcpy(head, was, BMB_RTP_HEADER);
    head[1] = (uint8_t)((head[1] & 0x80) | BMB_RTP_TYPE_RTX);
    bmb_store_u16(head + 2, r->seq++);
    bmb_store_u32(head + 8, r->ssrc);
    bmb_store_u16(head + BMB_RTP_HEADER, seq);
    slices[0] = (bmb_slice){ head, BMB_RTP_HEADER + BMB_REPEAT_NUMBER };
    slices[1] = (bmb_slice){ was + BMB_RTP_HEADER, packet->slices[0].size - BMB_RTP_HEADER };
    for (uint32_t i = 1; i < packet->count; i++) slices[1 + i] = packet->slices[i];
    packet->slices = slices;
    packet->count++;
    packet->size += BMB_REPEAT_NUMBER;
}

void bmb_viewer_repeat(bmb_context *x, bmb_viewer *v, bmb_repeats *r, const bmb_link *link, uint16_t seq)
{
    uint16_t first;
    bmb_frame *frame = v->framer != NULL && may_repeat(x, v, r) ? find(v, &r->sent, seq, &first) : NULL;
    if (frame == NULL || frame->capture_us + BMB_REPEAT_KEPT_MS * 1000 < x->now) return;
    bmb_gather *g = (bmb_gather *)x->scratch;
    bmb_stream_state state = v->state;
    bmb_cursor at = { 0 };
    uint16_t before = (uint16_t)(seq - first);
    state.next_seq = first;
    while (before > at.pieces && !at.end) { /* headers alone are made again */
        bmb_gather_clear(g);
        v->framer->fill(&state, frame, &at, g, (size_t)(before - at.pieces));
    }
    if (at.end || at.pieces != before) return;
    bmb_gather_clear(g);
    v->framer->fill(&state, frame, &at, g, 1);
    bmb_packet packet = g->packets[0];
    bmb_slice slices[BMB_REPEAT_SLICES];
    uint8_t head[BMB_RTP_HEADER + BMB_REPEAT_NUMBER];
    if (packet.count + 1 > BMB_REPEAT_SLICES) return;
    if (r->own_stream) wrap(r, &packet, slices, head, seq);
    bmb_datagram_put(link, &packet);
    r->tokens -= packet.size < r->tokens ? packet.size : r->tokens;
    r->count++;
    v->track->feed->bytes_sent += packet.size;
}

#endif
