/* The figures that people judge by. */
#include <string.h>

#include "device/state.h"

void bmb_device_stats_get(const bmb_device *d, bmb_device_stats *out)
{
    memset(out, 0, sizeof *out);
    out->uptime_us = d->port->now_us(d->port->ctx) - d->start_us;
    out->viewers = d->viewers;
    out->viewers_most = d->config->viewers;
    out->connections = d->conn_live;
    out->connections_most = d->conn_most;
    out->refused = d->refused;
    out->bad_requests = d->bad_requests;
    out->sessions = d->session_live;
    out->requests = d->requests;
    out->accept_failed = d->accept_failed;
    out->memory = out->memory_most = d->memory;
}

bmb_err bmb_feed_stats_get(const bmb_device *d, size_t index, bmb_feed_stats *out)
{
    if (index >= d->config->feed_count) return BMB_NOT_FOUND;
    const bmb_feed *f = &d->feeds[index];
    const bmb_reel *reel = &f->reel;
    uint64_t now = d->port->now_us(d->port->ctx);
    memset(out, 0, sizeof *out);
    out->name = f->config->name;
    out->title = f->config->title != NULL ? f->config->title : f->config->name;
    out->camera = f->config->camera;
    out->preview = f->config->preview;
    out->codec = f->mode.codec;
    out->camera_state = f->camera_state;
    out->camera_err = f->camera_err;
    out->width = f->mode.width;
    out->height = f->mode.height;
    out->mfps_set = f->mode.mfps;
    bmb_rate_read(&f->rate, now, &out->mfps, &out->kbps);
    out->frames = f->frames;
    out->sent = f->sent;
    out->skipped = f->skipped;
    out->dropped = f->dropped;
    out->bad = f->bad;
    out->too_large = f->too_large;
    out->bytes_sent = f->bytes_sent;
    out->stalled = f->stalled;
    out->shed = f->shed;
    out->restarts = f->restarts;
    out->reel_bytes = reel->capacity;
    out->reel_used = reel->used;
    out->reel_frames = bmb_reel_live(reel);
    out->reel_pinned = reel->pinned;
    out->newest_ms = reel->newest != NULL ? (uint32_t)((now - reel->newest->capture_us) / 1000) : UINT32_MAX;
    out->viewers = f->viewers;
    return BMB_OK;
}

static void read_viewer(const bmb_device *d, const bmb_viewer *v, const bmb_addr *peer, bmb_viewer_stats *out)
{
    uint64_t now = d->port->now_us(d->port->ctx);
    memset(out, 0, sizeof *out);
    out->feed = (uint16_t)(v->feed - d->feeds);
    out->transport = BMB_VIA_HTTP;
    out->peer = *peer;
    out->sent = v->sent;
    out->skipped = v->skipped;
    out->bytes = v->bytes;
    bmb_rate_read(&v->rate, now, &out->mfps, &out->kbps);
    out->age_ms = v->age_ms;
    out->watching_ms = (uint32_t)((now - v->since_us) / 1000);
    out->waiting = v->blocked;
}

static void read_session(const bmb_device *d, const bmb_session *s, bmb_viewer_stats *out)
{
    /* A group's viewers share one sender; only the place that they take is their own. */
    const bmb_viewer *v = s->via == BMB_VIA_RTP_MULTICAST ? &s->feed->group.viewer : &s->viewer;
    read_viewer(d, v, &s->peer, out);
    out->transport = (bmb_transport)s->via;
    out->watching_ms = (uint32_t)((d->port->now_us(d->port->ctx) - s->viewer.since_us) / 1000);
    out->reports = s->reports;
    out->lost = s->lost > 0 ? (uint32_t)s->lost : 0;
    out->lost_256 = s->lost_256;
    out->jitter_us = s->jitter_us;
    out->round_trip_us = s->round_trip_us;
}

bmb_err bmb_viewer_stats_get(const bmb_device *d, size_t index, bmb_viewer_stats *out)
{
    for (uint16_t i = 0; i < d->conn_used; i++) {
        const bmb_conn *c = &d->conns[i];
        bool watching = c->kind == BMB_OUTLET_HTTP && c->state == BMB_CONN_WATCHING && c->viewer.counted;
        if (!watching || index-- > 0) continue;
        read_viewer(d, &c->viewer, &c->peer, out);
        return BMB_OK;
    }
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++) {
        if (d->sessions[i].state != BMB_SESSION_PLAYING || index-- > 0) continue;
        read_session(d, &d->sessions[i], out);
        return BMB_OK;
    }
    return BMB_NOT_FOUND;
}
