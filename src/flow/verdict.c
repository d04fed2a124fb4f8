#include "flow/verdict.h"

#include "base/bounds.h"

#if BMB_WITH_VERDICTS

/* Fewer than this share counts, so that what comes and goes does not. */
static bool is_less(uint32_t is, uint32_t of)
{
    return (uint64_t)is * 100 < (uint64_t)of * 85;
}

/* Is the camera's encoder the reason? */
static bool is_busy(const bmb_context *x, const bmb_camera *c)
{
    const bmb_cameras *cameras = &x->port->cameras;
    return cameras->busy != NULL && cameras->busy(cameras->ctx, c->index) >= BMB_BUSY;
}

bmb_verdict bmb_feed_verdict(const bmb_context *x, const bmb_feed *feed, uint32_t mfps, uint32_t kbps)
{
    const bmb_camera *c = &feed->camera;
    const bmb_verdict nothing = { BMB_CAUSE_NOTHING, 0, 0 };
    if (feed->removed || c->lent || c->resting || c->state == BMB_CAMERA_OFF) return nothing;
    if (c->state == BMB_CAMERA_WAITING) return (bmb_verdict){ BMB_CAUSE_CAMERA, 0, c->mode.mfps };
    if (bmb_feed_is_full(x, feed)) return (bmb_verdict){ BMB_CAUSE_MEMORY, feed->config->frame_max, feed->full_bytes };
    if (feed->governor.state == BMB_KEEPING_DROPPING)
        return (bmb_verdict){ BMB_CAUSE_LIMIT, feed->governor.kbps, kbps };
    if (x->now < feed->steady_us || !is_less(mfps, c->mode.mfps)) return nothing;
    return (bmb_verdict){ is_busy(x, c) ? BMB_CAUSE_PROCESSOR : BMB_CAUSE_CAMERA, mfps, c->mode.mfps };
}

static bool is_shared(const bmb_viewer *v)
{
#if BMB_WITH_FOLLOWING
    return v->shared;
#else
    (void)v;
    return false;
#endif
}

void bmb_viewer_judge(const bmb_context *x, const bmb_viewer *v, bmb_sock sock, bmb_viewer_stats *out)
{
    uint32_t mfps, kbps;
    bmb_net_path path = { 0 };
    const bmb_port *port = x->port;
    bool known = sock != BMB_NO_SOCK && port->net.path != NULL && port->net.path(port->ctx, sock, &path) == BMB_OK;
    /* Who has room for more takes it: else it is the way between. */
    bool unread = known && path.unread;
    out->carries_kbps = v->carry_kbps > 0 ? v->carry_kbps : known ? path.kbps : 0;
    if (bmb_ms_between(v->since_us, x->now) < BMB_STEADY_US / 1000) return;
    if (out->reports && out->lost_256 >= BMB_LOSS_LEAST) {
        out->held_by = (bmb_verdict){ BMB_CAUSE_LOSS, out->lost_256, 256 };
        return;
    }
    bmb_rate_read(&v->track->rate, x->now, &mfps, &kbps);
    if (!is_less(out->mfps, mfps) || (out->blocked_ms == 0 && v->carry_kbps == 0)) return;
    bmb_cause cause = is_shared(v) ? BMB_CAUSE_LIMIT : unread ? BMB_CAUSE_READER : BMB_CAUSE_LINK;
    out->held_by = (bmb_verdict){ cause, out->kbps, kbps };
}

void bmb_verdict_tell(bmb_context *x, bmb_told *told, const bmb_feed *feed, const bmb_addr *peer, bmb_verdict verdict)
{
    const unsigned cause = (unsigned)verdict.cause & 7u, times = told->now == cause ? told->times + 1u : 1u;
    told->now = cause & 7u;
    told->times = (uint8_t)(times < UINT8_MAX ? times : UINT8_MAX);
    if (told->now == told->told) return;
    /* What comes and goes is told as one trouble: its end only after a while without it, its change after a while, too.
     */
    const unsigned enough = told->told == BMB_CAUSE_NOTHING ? BMB_JUDGE_TIMES : BMB_JUDGE_CALM_TIMES;
    if (times < enough) return;
    told->told = told->now;
    bmb_tell(x, &(bmb_event){ .code = BMB_EVENT_HELD_BACK,
                              .feed = feed->config->name,
                              .peer = peer,
                              .text = bmb_cause_name(verdict.cause),
                              .value = verdict.is,
                              .extra = verdict.of });
}

#else

bmb_verdict bmb_feed_verdict(const bmb_context *x, const bmb_feed *feed, uint32_t mfps, uint32_t kbps)
{
    (void)x, (void)feed, (void)mfps, (void)kbps;
    return (bmb_verdict){ BMB_CAUSE_NOTHING, 0, 0 };
}

void bmb_viewer_judge(const bmb_context *x, const bmb_viewer *v, bmb_sock sock, bmb_viewer_stats *out)
{
    (void)x, (void)v, (void)sock, (void)out;
}

#endif
