/* The reel: the bounded memory in which a feed keeps its newest frames, each stored once whoever watches.
 *
 * Kept storage is a ring of bytes. A new frame goes behind the last one, takes the place of the oldest ones, and steps
 * over those that are pinned by a viewer in their middle. Borrowed storage keeps no bytes, only marks of the driver's
 * buffers, and gives a buffer back as soon as its frame is neither the newest nor pinned.
 *
 * Pins are bounded by pin_most, so that there is room for one more frame of the largest size. A viewer that keeps up
 * may pin beyond that for an instant; should room then be lacking, the device sheds the viewers of the oldest pinned
 * frame: capture never waits.
 */
#ifndef BMB_MEDIA_REEL_H
#define BMB_MEDIA_REEL_H

#include "bambino/port.h"
#include "wire/frame.h"

typedef struct bmb_reel {
    uint8_t *memory; /* kept: `capacity` bytes; borrowed: NULL */
    uint32_t capacity;
    uint32_t write_at; /* where the next frame would like to begin */
    bmb_frame *frames; /* `count` slots */
    uint16_t count;
    uint16_t pinned; /* frames with pins */
    uint16_t pin_most;
    uint32_t next_seq;
    uint32_t used;              /* bytes of live frames */
    bmb_frame *newest;          /* NULL: none yet */
    const bmb_cameras *cameras; /* borrowed: where buffers go back to */
    size_t camera;
} bmb_reel;

/* Kept: frames of up to frame_max bytes in `capacity` bytes. */
void bmb_reel_init_kept(bmb_reel *reel, uint8_t *memory, uint32_t capacity, uint32_t frame_max, bmb_frame *slots,
                        uint16_t count);
/* Borrowed: `count` slots is one less than the driver's buffers, so that one is always free to capture into. */
void bmb_reel_init_borrowed(bmb_reel *reel, bmb_frame *slots, uint16_t count, const bmb_cameras *cameras,
                            size_t camera);

/* A slot and, when kept, room for `size` bytes at frame->data. NULL: pinned frames are in the way; shed some and call
 * again. A size over the capacity is the caller's to refuse. The frame becomes visible with bmb_reel_publish. */
bmb_frame *bmb_reel_reserve(bmb_reel *reel, uint32_t size);
uint8_t *bmb_reel_bytes(const bmb_reel *reel, const bmb_frame *frame);
void bmb_reel_publish(bmb_reel *reel, bmb_frame *frame);
/* Undoes a reserve. */
void bmb_reel_abandon(bmb_reel *reel, bmb_frame *frame);

/* The pinned frame that is oldest, or NULL. */
bmb_frame *bmb_reel_oldest_pinned(const bmb_reel *reel);
/* The live frame with the lowest number above seq, or NULL. */
bmb_frame *bmb_reel_after(const bmb_reel *reel, uint32_t seq);

/* May a viewer that is known to be slow begin this frame? */
bool bmb_reel_may_pin(const bmb_reel *reel, const bmb_frame *frame);
void bmb_reel_pin(bmb_reel *reel, bmb_frame *frame);
void bmb_reel_unpin(bmb_reel *reel, bmb_frame *frame);
/* Forgets every frame that is not pinned; borrowed buffers go back. */
void bmb_reel_clear(bmb_reel *reel);
uint16_t bmb_reel_live(const bmb_reel *reel);

#endif
