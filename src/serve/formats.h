/* The formats in which feeds are given out: one row each says everything about it. A new format is one file in wire/
 * and one row here, and shows up wherever formats are listed.
 */
#ifndef BMB_SERVE_FORMATS_H
#define BMB_SERVE_FORMATS_H

#include "bambino/device.h"
#include "wire/framer.h"

typedef struct bmb_format {
    bmb_format_info info;
    bmb_stream_format id;                      /* plain: as configured; BMB_FORMAT_COUNT: over HTTP alone */
    const char *preamble;                      /* over HTTP: between the response head and the first frame */
    const bmb_framer *framer[BMB_CODEC_COUNT]; /* for info.codecs */
} bmb_format;

/* The rows from 0 on; NULL behind the last. */
const bmb_format *bmb_format_row(size_t index);
/* Whether feeds of this codec have it over HTTP. */
bool bmb_format_over_http(const bmb_format *format, bmb_codec codec);
const bmb_format *bmb_format_still(void); /* the row of single JPEG images */

/* How a plain connection or a UDP destination gets a feed of this codec; NULL: the format does not exist for it. */
const bmb_framer *bmb_stream_framer(bmb_stream_format format, bmb_codec codec, bool tcp);

#endif
