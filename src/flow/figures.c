/* The figures of a viewer. */
#include <string.h>

#include "base/bounds.h"
#include "flow/viewer.h"

void bmb_viewer_figures(const bmb_context *x, const bmb_viewer *v, bmb_viewer_stats *out)
{
    uint64_t now = bmb_clock(x);
    memset(out, 0, sizeof *out);
    out->feed = bmb_viewer_feed(v)->number;
    if (BMB_WITH_FOLLOWING) out->given = v->track->feed->number;
    out->sent = v->sent;
    out->skipped = v->skipped;
    out->bytes = v->bytes;
    bmb_viewer_rate(v, now, &out->mfps, &out->kbps);
    out->age_ms = v->age_ms;
    out->watching_ms = bmb_ms_between(v->since_us, now);
    out->waiting = v->blocked;
    out->blocked_ms = bmb_ms_between(0, bmb_viewer_blocked_us(x, v));
}
