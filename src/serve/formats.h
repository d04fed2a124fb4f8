/* The formats in which feeds are given out, over HTTP and plainly: one row each. */
#ifndef BMB_SERVE_FORMATS_H
#define BMB_SERVE_FORMATS_H

#include "bambino/device.h"
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
const bmb_format *bmb_format_still(void); /* the row of single JPEG images */

/* How a plain connection or a UDP destination gets a feed of this codec; NULL: the format does not exist for it. */
const bmb_framer *bmb_stream_framer(bmb_stream_format format, bmb_codec codec, bool tcp);

#endif
