/* What holds a feed, or one who watches it, back: one cause, by what was measured in the last seconds. */
#ifndef BMB_FLOW_VERDICT_H
#define BMB_FLOW_VERDICT_H

#include "flow/viewer.h"

/* mfps, kbps: as it comes from the camera. */
bmb_verdict bmb_feed_verdict(const bmb_context *x, const bmb_feed *feed, uint32_t mfps, uint32_t kbps);
/* Fills in out->held_by; the other figures are there. sock: of a stream; BMB_NO_SOCK: datagrams. */
void bmb_viewer_judge(const bmb_context *x, const bmb_viewer *v, bmb_sock sock, bmb_viewer_stats *out);
/* Tells a cause that has come, or gone, and stayed so. peer: NULL for the feed itself. */
void bmb_verdict_tell(bmb_context *x, bmb_told *told, const bmb_feed *feed, const bmb_addr *peer, bmb_verdict verdict);

#endif
