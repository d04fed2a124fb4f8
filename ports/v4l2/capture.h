/* A node that captures: its format set, its buffers mapped, lent out and queued again. Private to ports/.
 *
 * A buffer that was taken is held by reference counts, and goes back to the driver with the last one, from whatever
 * thread. Two stay with the driver however many are held: it never starves. A buffer that is held when capturing ends
 * stays mapped until it is given back.
 */
#ifndef BMB_V4L2_CAPTURE_H
#define BMB_V4L2_CAPTURE_H

#include <stdatomic.h>

#include "v4l2/node.h"

#define V4L2_BUFFERS 8u  /* asked of the driver */
#define V4L2_LENDABLE 6u /* of these, as told to the core */
#define V4L2_POOLS 4u    /* captures that ended while some of their buffers were held, and the present one */

/* What the node is set to. */
typedef struct v4l2_setup {
    uint32_t fourcc;
    uint16_t width, height;
    uint32_t mfps;
} v4l2_setup;

typedef struct v4l2_slot {
    void *at;
    size_t room;
    atomic_uint refs;
} v4l2_slot;

typedef struct v4l2_pool {
    v4l2_slot slots[V4L2_BUFFERS];
    unsigned count;
    bool active; /* released buffers go back to the driver */
} v4l2_pool;

typedef struct v4l2_capture {
    const v4l2_system *system;
    int fd;                   /* -1: closed */
    bool watched, tells_size; /* tells_size: an event comes when the input has another size */
    bool planes;
    uint32_t input;         /* in use, as the events of its source name it */
    v4l2_setup setup;       /* in force */
    bool limited;           /* range of raw samples, as the driver tells it */
    uint32_t stride, image; /* bytes: of a row, of a picture as the driver says */
    v4l2_pool pools[V4L2_POOLS];
    unsigned pool; /* the present one */
    uint32_t sequence;
    bool counted;     /* sequence is of this capture */
    bool changed;     /* capturing ended since another signal arrives, or none */
    const char *step; /* what failed last, as the kernel calls it; NULL: nothing */
    int error;        /* … with this errno, negated */
    unsigned errors;  /* in a row */
    uint64_t frames, lost, bad;
} v4l2_capture;

/* A picture that was taken. */
typedef struct v4l2_taken {
    unsigned buffer; /* names it for hold, let and data: the pool's number and the slot's */
    uint8_t *data;
    size_t size, room;   /* bytes of the picture, and of the buffer */
    uint64_t capture_us; /* on the system's clock; 0: the driver does not tell */
    bool key;
} v4l2_taken;

void v4l2_capture_init(v4l2_capture *c, const v4l2_system *system);
/* Opens the node, if it is not open, and begins. setup becomes what is in force, which may differ. */
bmb_err v4l2_capture_start(v4l2_capture *c, const v4l2_node *node, v4l2_setup *setup);
/* Ends; the node stays open. */
void v4l2_capture_stop(v4l2_capture *c);
void v4l2_capture_close(v4l2_capture *c);
/* Unmaps what is still held, too. */
void v4l2_capture_free(v4l2_capture *c);
/* The next picture, held once. BMB_AGAIN: none yet. BMB_GONE: capturing ended, because the device is gone, or
 * (changed) its signal is. BMB_FAILED: it goes on and on failing. */
bmb_err v4l2_capture_take(v4l2_capture *c, v4l2_taken *out);
void v4l2_capture_hold(v4l2_capture *c, unsigned buffer);
void v4l2_capture_let(v4l2_capture *c, unsigned buffer);
/* A raw picture in a buffer that was taken. false: it is too short. */
bool v4l2_capture_picture(const v4l2_capture *c, const v4l2_taken *taken, codec_picture *out);

#endif
