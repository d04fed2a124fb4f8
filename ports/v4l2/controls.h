/* A driver's controls under our names. Private to ports/. */
#ifndef BMB_V4L2_CONTROLS_H
#define BMB_V4L2_CONTROLS_H

#include "v4l2/node.h"

/* What the node has of ours; step 0: it has not. Values are the driver's but for those with a unit of their own. mfps:
 * turns key frame distances into times. */
void v4l2_controls_find(const v4l2_system *s, int fd, uint32_t mfps, bmb_range *out);
/* *effective: what the driver made of it. BMB_UNSUPPORTED, BMB_BAD_ARG (outside its range). */
bmb_err v4l2_control_set(const v4l2_system *s, int fd, uint32_t mfps, bmb_control control, int32_t value,
                         int32_t *effective);
bmb_err v4l2_control_get(const v4l2_system *s, int fd, uint32_t mfps, bmb_control control, int32_t *value);
/* An encoder's: a key frame with the next picture. */
bmb_err v4l2_force_key(const v4l2_system *s, int fd);
/* Has an encoder put its parameter sets before each key frame, where that can be set. */
void v4l2_repeat_sets(const v4l2_system *s, int fd);
/* The index-th control that has no name of ours, for people. */
bmb_err v4l2_control_text(const v4l2_system *s, int fd, size_t index, char *out, size_t room);

#endif
