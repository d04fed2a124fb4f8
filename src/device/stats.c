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
    out->pace = d->pace.most;
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
    out->asked = f->config->mode;
    out->keeping = (bmb_keeping)f->governor.state;
    out->quality = f->governor.kbps > 0 ? f->governor.quality : 0;
    out->kbps_set = f->governor.kbps;
    out->dropped_for_rate = f->governor.dropped_for_rate;
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
    out->gap_ms_most = f->gap_ms_most;
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
    out->blocked_ms = (uint32_t)(bmb_viewer_blocked_us(d, v) / 1000);
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
        bmb_conn *c = &d->conns[i];
        const bmb_viewer *v = c->kind != BMB_CONN_RTSP ? bmb_conn_viewer(d, c, 0) : NULL;
        if (v == NULL || !v->counted || index-- > 0) continue;
        read_viewer(d, v, &c->peer, out);
        if (c->kind == BMB_OUTLET_TCP) out->transport = BMB_VIA_TCP;
        return BMB_OK;
    }
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++) {
        if (d->sessions[i].state != BMB_SESSION_PLAYING || index-- > 0) continue;
        read_session(d, &d->sessions[i], out);
        return BMB_OK;
    }
    return BMB_NOT_FOUND;
}

static void add_viewer(const bmb_device *d, bmb_tally *sum, const bmb_viewer *v)
{
    sum->frames += v->sent;
    sum->bytes += v->bytes;
    sum->blocked_us += bmb_viewer_blocked_us(d, v);
}

bmb_tally bmb_outlet_tally(const bmb_device *d, size_t outlet, uint16_t *viewers)
{
    bmb_tally sum = d->outlets[outlet].past;
    *viewers = 0;
    for (uint16_t i = 0; i < d->conn_used; i++) {
        bmb_conn *c = &d->conns[i];
        const bmb_viewer *v = c->kind != BMB_CONN_RTSP && c->outlet == outlet ? bmb_conn_viewer(d, c, 0) : NULL;
        if (v == NULL || !v->counted) continue;
        add_viewer(d, &sum, v);
        ++*viewers;
    }
    for (size_t i = 0; i < d->config->feed_count; i++) {
        const bmb_group *g = &d->feeds[i].group;
        if (g->members > 0 && g->viewer.tally == outlet) add_viewer(d, &sum, &g->viewer);
    }
    for (uint16_t i = 0; i < d->session_most && d->session_live > 0; i++) {
        const bmb_session *s = &d->sessions[i];
        if (s->state != BMB_SESSION_PLAYING || s->outlet != outlet) continue;
        add_viewer(d, &sum, &s->viewer);
        ++*viewers;
    }
    return sum;
}

bmb_tally bmb_push_tally(const bmb_device *d, const bmb_push *p)
{
    bmb_tally sum = p->past;
    bmb_conn *c = &d->conns[p->conn];
    const bmb_viewer *v =
        p->config->tcp ? (p->state == BMB_PUSH_SENDING ? bmb_conn_viewer(d, c, 0) : NULL) : &p->viewer;
    if (v != NULL && v->framer != NULL) add_viewer(d, &sum, v);
    return sum;
}

bmb_err bmb_outlet_stats_get(const bmb_device *d, size_t outlet, bmb_outlet_stats *out)
{
    if (outlet >= d->config->outlet_count) return BMB_NOT_FOUND;
    const bmb_outlet *o = &d->outlets[outlet];
    bool tcp = o->config->kind == BMB_OUTLET_TCP;
    *out = (bmb_outlet_stats){ .kind = o->config->kind, .format = o->config->format, .addr = o->bound };
    out->feed = tcp ? o->config->feed : BMB_NO_FEED;
    out->out = bmb_outlet_tally(d, outlet, &out->viewers);
    return BMB_OK;
}

bmb_err bmb_push_stats_get(const bmb_device *d, size_t index, bmb_push_stats *out)
{
    if (index >= d->config->push_count) return BMB_NOT_FOUND;
    const bmb_push *p = &d->pushes[index];
    const bmb_viewer *v = p->config->tcp ? bmb_conn_viewer(d, &d->conns[p->conn], 0) : &p->viewer;
    *out =
        (bmb_push_stats){ .config = p->config, .state = (bmb_push_state)p->state, .err = p->err, .starts = p->starts };
    out->out = bmb_push_tally(d, p);
    if (p->state != BMB_PUSH_SENDING || v == NULL) return BMB_OK;
    bmb_rate_read(&v->rate, d->port->now_us(d->port->ctx), &out->mfps, &out->kbps);
    out->age_ms = v->age_ms;
    out->skipped = v->skipped;
    return BMB_OK;
}

/* What was added since the last report, if anything happened. */
static void tell_traffic(bmb_device *d, const bmb_tally *sum, bmb_tally *reported, const char *feed,
                         const bmb_addr *where, int64_t viewers)
{
    bmb_traffic traffic = { .frames = (uint32_t)(sum->frames - reported->frames),
                            .bytes = sum->bytes - reported->bytes,
                            .blocked_ms = (uint32_t)((sum->blocked_us - reported->blocked_us) / 1000) };
    *reported = *sum;
    if (viewers <= 0 && traffic.bytes == 0 && traffic.blocked_ms == 0) return;
    bmb_tell(d, &(bmb_event){ .level = BMB_LEVEL_DEBUG,
                              .code = BMB_EVENT_REPORT,
                              .feed = feed,
                              .peer = where,
                              .value = viewers,
                              .traffic = &traffic });
}

void bmb_report(bmb_device *d)
{
    for (size_t i = 0; i < d->config->outlet_count; i++) {
        bmb_outlet *o = &d->outlets[i];
        uint16_t viewers;
        bmb_tally sum = bmb_outlet_tally(d, i, &viewers);
        tell_traffic(d, &sum, &o->reported, NULL, &o->bound, viewers);
    }
    for (size_t i = 0; i < d->config->push_count; i++) {
        bmb_push *p = &d->pushes[i];
        if (p->state != BMB_PUSH_SENDING) continue;
        bmb_tally sum = bmb_push_tally(d, p);
        tell_traffic(d, &sum, &p->reported, p->feed->config->name, &p->config->to, -1);
    }
}
