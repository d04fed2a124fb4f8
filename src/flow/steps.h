/* The steps of a viewer that streams and datagrams share. Private to the room. */
#ifndef BMB_FLOW_STEPS_H
#define BMB_FLOW_STEPS_H

#include "flow/viewer.h"

/* true: it is in the middle of a frame, or there was one to begin. link NULL: it is not known yet. */
bool bmb_viewer_take_frame(bmb_context *x, bmb_viewer *v, const bmb_link *link);
/* All of the frame was taken. */
void bmb_viewer_finish_frame(bmb_context *x, bmb_viewer *v, bmb_link *link);
void bmb_viewer_count_bytes(bmb_viewer *v, size_t sent);
/* At most so many pieces from the cursor on; returns where it is behind them. */
bmb_cursor bmb_viewer_gather(const bmb_viewer *v, bmb_gather *g, size_t most);

#endif
