/* The inputs of a capture device, and the signal of the one in use: an HDMI receiver or a decoder of analogue video
 * captures what is plugged in, in the size that the source chose, or nothing. Private to ports/.
 */
#ifndef BMB_V4L2_INPUT_H
#define BMB_V4L2_INPUT_H

#include "v4l2/system.h"

#include "bambino/err.h"

typedef struct v4l2_signal {
    uint32_t input;         /* the number of the input in use; the events of its source carry it */
    char name[33];          /* of the input, as the driver calls it; "": the driver has no inputs */
    bmb_err err;            /* BMB_OK: there is one, or the input cannot tell; BMB_NO_SIGNAL */
    const char *why;        /* BMB_NO_SIGNAL: what is missing, for people, such as "no signal" */
    uint16_t width, height; /* of a digital signal; 0: not known */
    uint32_t mfps;
} v4l2_signal;

/* Chooses an input by its number or a part of its name, in any case. BMB_NOT_FOUND: there is none; BMB_IN_USE. */
bmb_err v4l2_input_choose(const v4l2_system *s, int fd, const char *wanted);
/* Looks at the input in use. Where a source is found, the receiver is set to its timings or standard, so that the sizes
 * that the driver lists next are the source's. */
void v4l2_input_look(const v4l2_system *s, int fd, v4l2_signal *out);
/* Inputs, for people, such as "0 HDMI 1 (in use), 1 Composite"; "": there is one at most. */
void v4l2_input_list(const v4l2_system *s, int fd, char *out, size_t room);

#endif
