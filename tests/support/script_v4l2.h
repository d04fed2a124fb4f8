/* A driver that does what a test says: nodes with formats and controls, buffers that the test fills, errors at every
 * call. It is the other side of ports/v4l2's table of system calls, and counts what is left open.
 */
#ifndef BMB_TESTS_SCRIPT_V4L2_H
#define BMB_TESTS_SCRIPT_V4L2_H

#include <linux/videodev2.h>
#include <pthread.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "v4l2/system.h"

#define SCRIPT_NODES 6
#define SCRIPT_ROWS 12
#define SCRIPT_CONTROLS 12
#define SCRIPT_BUFFERS 16
#define SCRIPT_FILES 16
#define SCRIPT_RESULTS 64

typedef struct script_row {
    uint32_t fourcc;
    uint16_t width, height;
    uint32_t fps;
} script_row;

typedef struct script_control {
    uint32_t id;
    const char *name;
    int32_t least, most, step, preset, value;
    uint32_t type, items; /* items: a bit for each of a menu's */
} script_control;

typedef struct script_buffer {
    uint8_t *memory;
    size_t room;
    bool queued, done;
    size_t used;
    uint32_t flags, sequence;
    uint64_t at_us;
} script_buffer;

typedef struct script_queue {
    script_buffer buffers[SCRIPT_BUFFERS];
    unsigned count;
    bool streaming;
    uint32_t fourcc, width, height, stride, image;
} script_queue;

typedef struct script_node {
    bool there;
    const char *path, *card, *bus, *driver, *group, *holder;
    bool barred;
    uint32_t caps;
    bool planes, steps, no_rates; /* steps: sizes are told as a range; no_rates: neither told nor set */
    script_row rows[SCRIPT_ROWS];
    size_t row_count;
    script_control controls[SCRIPT_CONTROLS];
    size_t control_count;
    /* What fails, each with a negated errno; 0: nothing. */
    int open_err, querycap_err, format_err, request_err, query_err, map_err, on_err, queue_err;
    unsigned buffers_most;       /* it grants no more; 0: what is asked */
    uint32_t stride_more;        /* bytes between its rows */
    uint32_t offset;             /* planes: a picture begins so far into its buffer */
    uint16_t other_width;        /* it sets this width, whatever is asked */
    int results[SCRIPT_RESULTS]; /* what the next calls for a picture return before any picture */
    unsigned result_count;
    int wrong_index;    /* given in place of a picture's own; -1: none */
    bool size_changes;  /* the event waits */
    bool tells_nothing; /* it has no events */
    bool mute;          /* an encoder that never answers */
    /* Inputs; none: it does not know the calls. */
    const char *inputs[3];
    int input, input_status; /* in use; V4L2_IN_ST_… of it */
    bool digital, analogue;
    int timings_err; /* of asking what arrives */
    uint32_t signal_width, signal_height, signal_fps, set_width;
    uint64_t standard, set_standard; /* found; set */
    const char *pipeline;            /* it is the end of this; NULL: it is not */
    /* What happened. */
    unsigned opens, starts, requests;
    uint32_t sequence;
    script_queue capture, output; /* output: of an encoder, raw pictures */
    uint8_t encoded[64];          /* what an encoder answers with */
    size_t encoded_size;
    uint64_t raw_sum; /* over the bytes of the last raw picture */
} script_node;

typedef struct script_driver {
    v4l2_system table;
    pthread_mutex_t lock;
    script_node nodes[SCRIPT_NODES];
    int files[SCRIPT_FILES]; /* the node of each open one; -1: closed */
    unsigned maps;           /* mapped and not unmapped */
    uint64_t now;
    bool changed;
    unsigned watched;
} script_driver;

script_driver *script_create(void);
/* Checks that nothing is left open or mapped. */
void script_destroy(script_driver *d);
script_node *script_add(script_driver *d, const char *path, const char *card, uint32_t caps);
void script_format(script_node *n, uint32_t fourcc, uint16_t width, uint16_t height, uint32_t fps);
script_control *script_add_control(script_node *n, uint32_t id, const char *name, int32_t least, int32_t most,
                                   int32_t preset);
/* The driver fills a buffer, where it has one: false: it drops the picture. */
bool script_picture(script_driver *d, script_node *n, const void *data, size_t size, uint32_t flags);
/* Buffers that it has to fill. */
unsigned script_queued(const script_node *n);
unsigned script_open_files(const script_driver *d);

#endif
