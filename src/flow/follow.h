/* How a viewer follows its link: what a look once a second finds, its share of the uplink, and how it comes to the
 * frames of another feed.
 */
#ifndef BMB_FLOW_FOLLOW_H
#define BMB_FLOW_FOLLOW_H

#include "flow/viewer.h"

#if BMB_WITH_FOLLOWING

/* Does less get through to it than there is? now: its figures, with the verdict. */
bool bmb_viewer_is_held(const bmb_viewer *v, const bmb_viewer_stats *now);
/* May it be given other frames than those that it asked for? */
bool bmb_viewer_may_step(const bmb_viewer *v);
/* It gets the frames of that feed, from the next one on that it can begin with. */
void bmb_viewer_step(bmb_viewer *v, const bmb_feed *to);
/* No more than that; 0: as it likes. */
void bmb_viewer_share(bmb_viewer *v, uint32_t kbps);

#endif
#endif
