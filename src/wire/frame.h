/* A frame as the core keeps it: one encoded picture, never changed once published. */
#ifndef BMB_WIRE_FRAME_H
#define BMB_WIRE_FRAME_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef struct bmb_frame {
    const uint8_t *data;
    uint32_t size;       /* bytes */
    uint32_t seq;        /* counts the feed's frames from 1 */
    uint64_t capture_us; /* port clock */
    int64_t wall_us;     /* Unix time of the capture; 0: not known */
    uintptr_t cookie;    /* borrowed storage: the driver's mark */
    void *facts;         /* what the codec's parser found once for all viewers: bmb_jpeg_facts or bmb_h264_facts */
    uint16_t pins;       /* viewers in the middle of this frame */
    bool live;           /* the slot holds a frame */
    bool key;
} bmb_frame;

#endif
