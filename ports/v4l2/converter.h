/* The board's own encoder: a memory-to-memory node that takes raw pictures and gives H.264 or JPEG, behind the
 * interface of ports/codec. Found by what it can do. Private to ports/.
 *
 * Its two queues are used one picture at a time: nothing is held back, and what it costs is told by the time it takes.
 */
#ifndef BMB_V4L2_CONVERTER_H
#define BMB_V4L2_CONVERTER_H

#include "codec/encoder.h"
#include "v4l2/system.h"

typedef struct v4l2_converter v4l2_converter;

/* NULL: this machine has none for the codec. */
v4l2_converter *v4l2_converter_find(const v4l2_system *s, bmb_codec codec);
void v4l2_converter_free(v4l2_converter *self);
/* Opened with a v4l2_converter of its codec as ctx. */
const codec_encoder *v4l2_converter_encoder(bmb_codec codec);

#endif
