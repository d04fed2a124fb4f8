/* The formats in which the HTTP outlet gives out a feed: one row each. */
#ifndef BMB_SERVE_FORMATS_H
#define BMB_SERVE_FORMATS_H

#include "wire/framer.h"

typedef struct bmb_format {
    const char *extension; /* as in "/yard.mjpeg", with its dot */
    const char *type;      /* media type of the response */
    const char *preamble;  /* sent between the response head and the first frame */
    bmb_codec codec;       /* of the feeds that have this format */
    bool once;             /* one frame, as a whole response by its framer */
    const bmb_framer *framer;
} bmb_format;

extern const bmb_format bmb_formats[];
extern const size_t bmb_format_count;

#endif
