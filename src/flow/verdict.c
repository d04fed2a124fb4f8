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

/* Who has room for more takes it: else it is the way between. */
static bool is_unread(const bmb_context *x, bmb_sock sock)
{
    bmb_net_path path = { 0 };
    const bmb_port *port = x->port;
    return port->net.path != NULL && port->net.path(port->ctx, sock, &path) == BMB_OK && path.unread;
}

void bmb_viewer_judge(const bmb_context *x, const bmb_viewer *v, bmb_sock sock, bmb_viewer_stats *out)
{
    uint32_t mfps, kbps;
    if (bmb_ms_between(v->since_us, x->now) < BMB_STEADY_US / 1000) return;
    if (out->reports && out->lost_256 >= BMB_LOSS_LEAST) {
        out->held_by = (bmb_verdict){ BMB_CAUSE_LOSS, out->lost_256, 256 };
        return;
    }
    bmb_rate_read(&v->track->rate, x->now, &mfps, &kbps);
    if (!is_less(out->mfps, mfps) || (out->blocked_ms == 0 && v->carry_kbps == 0)) return;
    bool unread = sock != BMB_NO_SOCK && is_unread(x, sock);
    out->held_by = (bmb_verdict){ unread ? BMB_CAUSE_READER : BMB_CAUSE_LINK, out->kbps, kbps };
}

void bmb_verdict_tell(bmb_context *x, bmb_told *told, const bmb_feed *feed, const bmb_addr *peer, bmb_verdict verdict)
{
    told->times = told->now == (uint8_t)verdict.cause ? told->times : 0;
    told->now = (uint8_t)verdict.cause;
    if (told->now == told->told || ++told->times < BMB_JUDGE_TIMES) return;
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
