/* Which format a camera is set to, so that the streams wanted of it can be made with the least work. Private to ports/.
 */
#ifndef BMB_V4L2_PLAN_H
#define BMB_V4L2_PLAN_H

#include "v4l2/capture.h"

/* Does the node's own picture go into a stream of this mode as it is? */
bool v4l2_is_native(const v4l2_setup *setup, const bmb_mode *mode);
/* Chooses for streams in these modes, all at a time. false: there is nothing; *culprit (may be NULL) is the first that
 * cannot be had beside those before it. A rate that is too high is no reason: it is lowered. */
bool v4l2_plan(const v4l2_node *node, const bmb_mode *modes, size_t count, v4l2_setup *out, size_t *culprit);
/* The sizes that streams can have, in either codec: as the camera has them, or as encoders make them. Returns how many
 * rows were written, the largest first. */
size_t v4l2_modes(const v4l2_node *node, bmb_mode_row *out, size_t room);

#endif
