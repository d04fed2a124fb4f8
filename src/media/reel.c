#include "media/reel.h"

#include <string.h>

static void init(bmb_reel *reel, bmb_frame *slots, uint16_t count)
{
    memset(reel, 0, sizeof *reel);
    memset(slots, 0, sizeof *slots * count);
    reel->frames = slots;
    reel->count = count;
    reel->next_seq = 1;
}

void bmb_reel_init_kept(bmb_reel *reel, uint8_t *memory, uint32_t capacity, uint32_t frame_max, bmb_frame *slots,
                        uint16_t count)
{
    init(reel, slots, count);
    reel->memory = memory;
    reel->capacity = capacity;
    uint32_t whole = capacity / frame_max;
    reel->pin_most = whole > 2 ? (uint16_t)(whole - 1 > UINT16_MAX ? UINT16_MAX : whole - 1) : 1;
}

void bmb_reel_init_borrowed(bmb_reel *reel, bmb_frame *slots, uint16_t count, const bmb_cameras *cameras, size_t camera)
{
    init(reel, slots, count);
    reel->cameras = cameras;
    reel->camera = camera;
    reel->pin_most = count > 2 ? count - 1 : 1; /* one slot stays for the newest frame */
}

static void drop(bmb_reel *reel, bmb_frame *frame)
{
    frame->live = false;
    reel->used -= frame->size;
    if (reel->newest == frame) reel->newest = NULL;
    if (reel->cameras != NULL) reel->cameras->release(reel->cameras->ctx, reel->camera, frame->cookie);
}

static bmb_frame *oldest(const bmb_reel *reel, bool pinned)
{
    bmb_frame *found = NULL;
    for (uint16_t i = 0; i < reel->count; i++) {
        bmb_frame *f = &reel->frames[i];
        if (f->live && (f->pins > 0) == pinned && (found == NULL || (int32_t)(f->seq - found->seq) < 0)) found = f;
    }
    return found;
}

bmb_frame *bmb_reel_oldest_pinned(const bmb_reel *reel)
{
    return oldest(reel, true);
}

static bmb_frame *free_slot(bmb_reel *reel)
{
    for (uint16_t i = 0; i < reel->count; i++)
        if (!reel->frames[i].live) return &reel->frames[i];
    bmb_frame *f = oldest(reel, false);
    if (f != NULL) drop(reel, f);
    return f;
}

static bool overlaps(const bmb_reel *reel, const bmb_frame *f, uint32_t at, uint32_t size)
{
    uint32_t begin = (uint32_t)(f->data - reel->memory);
    return f->live && begin < at + size && at < begin + f->size;
}

/* Finds `size` bytes without pinned frames at or behind write_at, going around once. */
static bool find_room(const bmb_reel *reel, uint32_t size, uint32_t *out)
{
    uint32_t at = reel->write_at;
    bool around = false;
    for (;;) {
        if (reel->capacity - at < size) {
            if (around) return false;
            around = true;
            at = 0;
            continue;
        }
        const bmb_frame *in_way = NULL;
        for (uint16_t i = 0; i < reel->count && in_way == NULL; i++)
            if (reel->frames[i].pins > 0 && overlaps(reel, &reel->frames[i], at, size)) in_way = &reel->frames[i];
        if (in_way == NULL) break;
        at = (uint32_t)(in_way->data - reel->memory) + in_way->size;
    }
    *out = at;
    return true;
}

bmb_frame *bmb_reel_reserve(bmb_reel *reel, uint32_t size)
{
    uint32_t at = 0;
    if (reel->memory != NULL) {
        if (size > reel->capacity || !find_room(reel, size, &at)) return NULL;
        for (uint16_t i = 0; i < reel->count; i++)
            if (overlaps(reel, &reel->frames[i], at, size)) drop(reel, &reel->frames[i]);
    }
    bmb_frame *frame = free_slot(reel);
    if (frame == NULL) return NULL;
    void *facts = frame->facts; /* belongs to the slot */
    memset(frame, 0, sizeof *frame);
    frame->facts = facts;
    frame->size = size;
    if (reel->memory != NULL) {
        frame->data = reel->memory + at;
        reel->write_at = at + size;
    }
    return frame;
}

uint8_t *bmb_reel_bytes(const bmb_reel *reel, const bmb_frame *frame)
{
    return reel->memory + (frame->data - reel->memory);
}

void bmb_reel_publish(bmb_reel *reel, bmb_frame *frame)
{
    bmb_frame *before = reel->newest;
    frame->seq = reel->next_seq++;
    frame->live = true;
    reel->used += frame->size;
    reel->newest = frame;
    /* A driver has few buffers: hand back at once what nobody needs any more. */
    if (reel->cameras != NULL && before != NULL && before->pins == 0) drop(reel, before);
}

void bmb_reel_abandon(bmb_reel *reel, bmb_frame *frame)
{
    if (reel->memory != NULL) reel->write_at = (uint32_t)(frame->data - reel->memory);
}

bmb_frame *bmb_reel_after(const bmb_reel *reel, uint32_t seq)
{
    bmb_frame *found = NULL;
    if (reel->newest != NULL && (int32_t)(reel->newest->seq - seq) <= 1) /* as for all who keep up */
        return reel->newest->seq == seq + 1 ? reel->newest : NULL;
    for (uint16_t i = 0; i < reel->count; i++) {
        bmb_frame *f = &reel->frames[i];
        if (f->live && (int32_t)(f->seq - seq) > 0 && (found == NULL || (int32_t)(f->seq - found->seq) < 0)) found = f;
    }
    return found;
}

bool bmb_reel_may_pin(const bmb_reel *reel, const bmb_frame *frame)
{
    return frame->pins > 0 || reel->pinned < reel->pin_most;
}

void bmb_reel_pin(bmb_reel *reel, bmb_frame *frame)
{
    if (frame->pins++ == 0) reel->pinned++;
}

void bmb_reel_unpin(bmb_reel *reel, bmb_frame *frame)
{
    if (--frame->pins > 0) return;
    reel->pinned--;
    if (reel->cameras != NULL && frame != reel->newest) drop(reel, frame);
}

void bmb_reel_clear(bmb_reel *reel)
{
    for (uint16_t i = 0; i < reel->count; i++)
        if (reel->frames[i].live && reel->frames[i].pins == 0) drop(reel, &reel->frames[i]);
}

uint16_t bmb_reel_live(const bmb_reel *reel)
{
    uint16_t n = 0;
    for (uint16_t i = 0; i < reel->count; i++) n = (uint16_t)(n + reel->frames[i].live);
    return n;
}
