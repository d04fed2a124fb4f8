/* A capture node: what it is, and what it can do. Private to ports/. */
#ifndef BMB_V4L2_NODE_H
#define BMB_V4L2_NODE_H

#include <linux/videodev2.h>

#include "bambino/camera.h"
#include "codec/picture.h"
#include "v4l2/input.h"
#include "v4l2/system.h"

#define V4L2_ROWS 96u /* formats times sizes; cameras have some dozens */

/* What is known of a pixel format. */
typedef struct v4l2_format_row {
    uint32_t fourcc;
    const char *name; /* for people */
    bool encoded;     /* codec says as what … */
    bmb_codec codec;
    codec_format raw; /* … else raw says how it lies */
} v4l2_format_row;

/* NULL: it cannot be used. */
const v4l2_format_row *v4l2_format_of(uint32_t fourcc);

/* One size of one format. */
typedef struct v4l2_row {
    uint32_t fourcc;
    uint16_t width, height;
    uint32_t mfps_most;
} v4l2_row;

typedef struct v4l2_node {
    char path[V4L2_PATH];
    char card[33], bus[33], driver[17];
    bool planes; /* its buffers are of the multi-planar kind */
    v4l2_signal signal;
    char pipeline[160]; /* it is the end of this sensor pipeline, which a program has to set up; "": it is not */
    v4l2_row rows[V4L2_ROWS];
    size_t row_count;
} v4l2_node;

/* Looks at a node, at its input `input` (NULL: the one in use). BMB_UNSUPPORTED: it captures nothing that can be used
 * (metadata, an output, an encoder …); BMB_NO_SIGNAL; BMB_DENIED, BMB_NOT_FOUND, BMB_IN_USE, BMB_FAILED. The end of a
 * sensor pipeline is looked at like others: out->pipeline says that it is one. */
bmb_err v4l2_probe(const v4l2_system *s, const char *path, const char *input, v4l2_node *out);

/* Which node is meant. */
typedef struct v4l2_wanted {
    const char *device; /* a path, a bus address, or a part of its card's name in any case; NULL: any camera */
    const char *input;  /* NULL: the one in use */
    /* Is it somebody else's? Asked before it is opened (bus NULL), and with its bus. NULL: none is. */
    bool (*skip)(void *ctx, const char *path, const char *bus);
    void *ctx;
} v4l2_wanted;

/* Finds the first that is meant. The end of a sensor pipeline has to be named by its path. BMB_NOT_FOUND; BMB_DENIED,
 * BMB_NO_SIGNAL: there was one, and that is why it cannot be used; out->path says which. */
bmb_err v4l2_find(const v4l2_system *s, const v4l2_wanted *wanted, v4l2_node *out);
bmb_err v4l2_errno(int error); /* of a negated errno */
/* A driver's text, which may lack its end or hold anything; out has room for size + 1. */
void v4l2_text(char *out, const void *from, size_t size);
/* Regardless of case. */
bool v4l2_contains(const char *text, const char *part);

/* Why this node must not be opened, and what to do: a sentence. */
void v4l2_denied(const v4l2_system *s, const char *path, char *out, size_t room);
/* Why nothing can be captured of its input: a sentence with what to do. */
void v4l2_no_signal(const v4l2_node *node, char *out, size_t room);
/* What the end of a sensor pipeline needs before it captures: a sentence. */
void v4l2_not_set_up(const v4l2_node *node, char *out, size_t room);

#endif
