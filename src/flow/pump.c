/* Frames go out: into a stream as far as it takes them, or as datagrams in bursts, so that no queue on the way
 * overflows; and no faster than the receiver's link carries them, as far as its reports tell. */
#include "base/bounds.h"
#include "flow/steps.h"

/* A frame leaves in bursts over at most half of the frame interval: how many packets make one, and the pause. */
static size_t burst_of(const bmb_viewer *v, uint64_t *pause_us)
{
#if BMB_WITH_VIEWER_RATES
    /* As fast as its link is thought to carry it: what it takes longer for is left out whole. */
    if (v->carry_kbps > 0) {
        size_t packets = (size_t)v->carry_kbps * BMB_CARRY_BURST_US / 8000 / v->state.payload_max + 1;
        *pause_us = (uint64_t)packets * v->state.payload_max * 8000 / v->carry_kbps;
        return packets < BMB_GATHER_PIECES ? packets : BMB_GATHER_PIECES;
    }
#endif
    const bmb_feed *feed = v->track->feed;
    uint64_t half = feed->camera.mode.mfps > 0 ? 500000000u / feed->camera.mode.mfps : 20000;
    if (v->framer->idle != NULL && half > BMB_TS_BURST_US) half = BMB_TS_BURST_US;
    size_t packets = v->watcher.frame->size / v->state.payload_max + 1;
    uint64_t bursts_most = half / BMB_BURST_GAP_US > 0 ? half / BMB_BURST_GAP_US : 1;
    size_t burst = packets / (size_t)bursts_most + 1;
    if (burst < BMB_BURST) burst = BMB_BURST;
    if (burst > BMB_GATHER_PIECES) burst = BMB_GATHER_PIECES;
    *pause_us = half / (packets / burst + 1);
    if (*pause_us < BMB_BURST_GAP_US) *pause_us = BMB_BURST_GAP_US;
    return burst;
}

/* One gather of at most so many packets, and one call to the link. *sent counts those that it took. */
static bmb_err send_packets(bmb_context *x, bmb_viewer *v, bmb_link *link, size_t most, size_t *sent)
{
    bmb_gather *g = (bmb_gather *)x->scratch;
    size_t taken = 0, bytes = 0;
    bmb_cursor after = bmb_viewer_gather(v, g, most);
    bmb_err err = link->kind->send(link, g, 0, &taken);
    for (size_t i = 0; i < taken; i++) bytes += g->packets[i].size;
#if BMB_WITH_PARITY
    for (size_t i = 0; link->parity != NULL && i < taken; i++) bmb_datagram_parity(link, &g->packets[i]);
#endif
    bmb_viewer_count_bytes(v, bytes);
    v->cursor = taken < g->piece_count ? g->starts[taken] : after;
    *sent += taken;
    return err == BMB_OK && taken < g->piece_count ? BMB_AGAIN : err;
}

static void burst_due(bmb_context *x, const bmb_viewer *v)
{
    if (v->pace_us < x->pace_us) x->pace_us = v->pace_us;
}

/* Sends one burst. BMB_OK: go on with the next frame; BMB_AGAIN: more of this one is due later. */
static bmb_err send_burst(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    uint64_t pause;
    size_t burst = burst_of(v, &pause), sent = 0;
    bmb_err err = BMB_OK;
    while (err == BMB_OK && sent < burst && !v->cursor.end) /* a gather may hold less than a burst */
        err = send_packets(x, v, link, burst - sent, &sent);
    if (err != BMB_OK && err != BMB_AGAIN) { /* the network refuses; the session lives as long as its peer does */
        link->answer = err;
        bmb_viewer_abandon(v);
        return BMB_OK;
    }
    if (err == BMB_AGAIN) {
        pause = BMB_BURST_GAP_US;
        v->blocked_us += pause;
    }
    if (!v->cursor.end) {
        v->pace_us = x->now + pause;
        burst_due(x, v);
        return BMB_AGAIN;
    }
    v->pace_us = 0;
#if BMB_WITH_PARITY
    if (link->parity != NULL) bmb_datagram_parity(link, NULL);
#endif
    bmb_viewer_finish_frame(x, v, link);
    return BMB_OK;
}

static bmb_err pump_packets(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    if (v->pace_us > x->now) {
        burst_due(x, v);
        return BMB_AGAIN;
    }
    while (bmb_viewer_take_frame(x, v, link) && send_burst(x, v, link) == BMB_OK) continue;
    return BMB_AGAIN;
}

static bmb_err pump_stream(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    while (bmb_viewer_take_frame(x, v, link)) {
        bmb_err err = bmb_viewer_finish(x, v, link);
        if (err != BMB_OK || v->once) return err;
    }
    return BMB_AGAIN;
}

bmb_err bmb_viewer_pump(bmb_context *x, bmb_viewer *v, bmb_link *link)
{
    return BMB_WITH_RTP && link->kind->packets ? pump_packets(x, v, link) : pump_stream(x, v, link);
}

#if BMB_WITH_VIEWER_RATES
static bool is_share(const bmb_viewer *v)
{
#if BMB_WITH_FOLLOWING
    return v->shared;
#else
    (void)v;
    return false;
#endif
}

/* Less arrives than its share of the uplink. */
static void own_pace(bmb_viewer *v)
{
#if BMB_WITH_FOLLOWING
    v->shared = false;
#else
    (void)v;
#endif
}
#endif

/* Additive increase, multiplicative decrease, of what is lost. Loss that does not go when less is sent is not for want
 * of room: a radio that loses some of everything. */
void bmb_viewer_reported(const bmb_context *x, bmb_viewer *v, uint8_t lost_256)
{
#if BMB_WITH_VIEWER_RATES
    uint32_t mfps, kbps;
    const uint8_t now = (uint8_t)(x->now / BMB_CARRY_PAUSE_US);
    if ((uint8_t)(now - v->heard) < 2) return; /* what was changed has not shown yet */
    v->heard = now;
    bmb_viewer_rate(v, x->now, &mfps, &kbps);
    if (v->framer == NULL || kbps == 0 || v->deaf > 0) {
        if (v->deaf > 0) v->deaf--;
        return;
    }
    bool chance = lost_256 < BMB_LOSS_CERTAIN && v->lost_256 < BMB_LOSS_LEAST && v->carry_kbps == 0;
    if (lost_256 >= BMB_LOSS_LEAST && chance) { /* the next report will show */
        v->lost_256 = lost_256;
    } else if (lost_256 >= BMB_LOSS_LEAST) {
        v->in_vain = lost_256 > v->lost_256 / 2 && v->carry_kbps > 0 ? (uint8_t)(v->in_vain + 1) : 0;
        if (v->carry_kbps > 0 && kbps > v->carry_kbps) kbps = v->carry_kbps; /* some of it was before the last cut */
        uint32_t carried = (uint32_t)((uint64_t)kbps * (256u - lost_256) / 256 * BMB_CARRY_SHARE / 100);
        v->carry_kbps = carried > BMB_CARRY_LEAST ? carried : BMB_CARRY_LEAST;
        own_pace(v);
        v->lost_256 = lost_256;
        if (v->in_vain < BMB_CARRY_TRIES) return;
        v->carry_kbps = 0;
        v->in_vain = 0;
        v->deaf = BMB_CARRY_DEAF;
    } else if (v->carry_kbps == 0 || is_share(v)) {
        v->lost_256 = lost_256;
    } else {
        v->in_vain = 0;
        v->carry_kbps += v->carry_kbps / 16;
        if (v->carry_kbps > 2 * bmb_track_kbps(x, v->track)) v->carry_kbps = 0;
    }
#else
    (void)x, (void)v, (void)lost_256;
#endif
}
