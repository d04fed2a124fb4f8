/* A capture node: what it is, and what it can do. Private to ports/. */
#ifndef BMB_V4L2_NODE_H
#define BMB_V4L2_NODE_H

#include <linux/videodev2.h>

#include "bambino/camera.h"
#include "codec/picture.h"
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
    v4l2_row rows[V4L2_ROWS];
    size_t row_count;
} v4l2_node;

/* Looks at a node. BMB_UNSUPPORTED: it captures nothing that can be used (metadata, an output, an encoder …);
 * BMB_DENIED, BMB_NOT_FOUND, BMB_IN_USE, BMB_FAILED. */
bmb_err v4l2_probe(const v4l2_system *s, const char *path, v4l2_node *out);
/* Finds the first node that `device` names: by path, by bus address, by a part of its card's name in any case; NULL:
 * any. skip says which ones are taken (may be NULL). BMB_NOT_FOUND; BMB_DENIED: there was one that could not be opened.
 */
bmb_err v4l2_find(const v4l2_system *s, const char *device, bool (*skip)(void *ctx, const char *path), void *ctx,
                  v4l2_node *out);
bmb_err v4l2_errno(int error); /* of a negated errno */

/* Why this node must not be opened, and what to do: a sentence. */
void v4l2_denied(const v4l2_system *s, const char *path, char *out, size_t room);

#endif
