/* The figures that people judge by. */
#include "device/pieces.h"

#include <stddef.h>
#include <string.h>

#include "device/follow.h"
#include "flow/verdict.h"

void bmb_device_stats_get(const bmb_device *d, bmb_device_stats *out)
{
    memset(out, 0, sizeof *out);
    out->uptime_us = bmb_clock(&d->context) - d->context.start_us;
    out->viewers = bmb_feeds_viewers(&d->feeds);
    out->viewers_most = d->context.config->viewers;
    out->connections = d->talk.conn_live;
    out->connections_most = d->talk.conn_most;
    out->refused = d->talk.refused;
    out->bad_requests = d->talk.bad_requests;
    out->sessions = d->talk.session_live;
    out->requests = d->talk.requests;
    out->accept_failed = d->talk.accept_failed;
    out->memory = out->memory_most = d->memory;
    out->pace = d->context.pace.most;
    if (BMB_WITH_CHANGES) out->spare = bmb_spare_piece(d);
#if BMB_WITH_TLS
    const bmb_port *port = d->context.port;
    if (d->encrypts && port->encryption.fingerprint != NULL) out->fingerprint = port->encryption.fingerprint(port->ctx);
#endif
}

/* A feed's bits and memory are those of all its tracks; its rate is that of the last one that is added. */
static void add_track(const bmb_track *t, uint64_t now, bmb_feed_stats *out)
{
    uint32_t kbps;
    bmb_rate_read(&t->rate, now, &out->mfps, &kbps);
    out->kbps += kbps;
    out->reel_bytes += t->reel.capacity;
    out->reel_used += t->reel.used;
    out->reel_frames += bmb_reel_live(&t->reel);
    out->reel_pinned += t->reel.pinned;
}

bmb_err bmb_feed_stats_get(const bmb_device *d, size_t index, bmb_feed_stats *out)
{
    if (index >= d->context.config->feed_count) return BMB_NOT_FOUND;
    const bmb_feed *f = &d->feeds.feed[index];
    const bmb_track *track = &f->track[0]; /* its pictures: there is nothing else yet */
    const bmb_reel *reel = &track->reel;
    uint64_t now = bmb_clock(&d->context);
    memset(out, 0, sizeof *out);
    out->name = f->config->name;
    out->title = f->config->title != NULL ? f->config->title : f->config->name;
    out->camera = f->config->camera;
    out->preview = f->config->preview;
    out->codec = f->camera.mode.codec;
    out->camera_state = f->camera.resting ? BMB_CAMERA_RESTING : f->camera.state;
    if (BMB_WITH_REPAIR && f->camera.state == BMB_CAMERA_WAITING && f->camera.err == BMB_NO_SIGNAL)
        out->camera_state = BMB_CAMERA_NO_SIGNAL;
    out->camera_err = f->camera.err;
    out->snapshot = BMB_WITH_SIZED_STILLS && bmb_still_is_beside(&d->context, &d->feeds, f);
    out->width = f->camera.mode.width;
    out->height = f->camera.mode.height;
    out->mfps_set = f->camera.mode.mfps;
    out->asked = f->config->mode;
    out->keeping = (bmb_keeping)f->governor.state;
    out->quality = f->governor.kbps > 0 ? f->governor.quality : 0;
    out->kbps_set = f->governor.kbps;
    out->dropped_for_rate = f->governor.dropped_for_rate;
    out->frames = track->frames;
    out->sent = f->sent;
    out->skipped = f->skipped;
    out->dropped = f->dropped;
    out->bad = f->bad;
    out->too_large = f->too_large;
    out->bytes_sent = f->bytes_sent;
    out->stalled = f->stalled;
    out->shed = f->shed;
    out->restarts = f->camera.restarts;
    out->gap_ms_most = f->camera.gap_ms_most;
#if BMB_WITH_REPAIR
    out->camera_dropped = f->camera.dropped;
    out->repaired = f->repaired;
#endif
    for (size_t i = f->tracks; i-- > 0;) add_track(&f->track[i], now, out); /* the pictures last */
#if BMB_WITH_DAYLIGHT
    out->brightness = -1;
    if (f->config->daylight.dark > 0 && f->daylight.look_us > 0) out->brightness = f->daylight.brightness;
#endif
    out->newest_ms = reel->newest != NULL ? bmb_ms_between(reel->newest->capture_us, now) : UINT32_MAX;
    out->viewers = f->viewers;
    if (BMB_WITH_VERDICTS) out->held_by = bmb_feed_verdict(&d->context, f, out->mfps, out->kbps);
#if BMB_WITH_FOLLOWING
    out->follows_kbps = f->camera.follows_kbps;
#endif
    return BMB_OK;
}

bmb_err bmb_viewer_stats_get(const bmb_device *d, size_t index, bmb_viewer_stats *out)
{
    size_t at = 0;
    for (bmb_watcher *w = bmb_feeds_next(&d->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(&d->feeds, &at, w)) {
        if (w->owner->describe == NULL || !bmb_viewer_of(w)->counted || index-- > 0) continue;
        w->owner->describe(w->owner, w, out);
        return BMB_OK;
    }
    return BMB_NOT_FOUND;
}

/* What all feeds' viewers with this tally have sent so far, and those before them; how many of them take places. */
static bmb_tally sum_of(const bmb_device *d, const bmb_tally *tally, uint16_t *counted)
{
    bmb_tally sum = *tally;
    size_t at = 0;
    *counted = 0;
    for (bmb_watcher *w = bmb_feeds_next(&d->feeds, &at, NULL); w != NULL; w = bmb_feeds_next(&d->feeds, &at, w)) {
        const bmb_viewer *v = w->owner->describe != NULL ? bmb_viewer_of(w) : NULL;
        if (v == NULL || v->tally != tally) continue;
        bmb_viewer_add(&d->context, v, &sum);
        *counted = (uint16_t)(*counted + v->counted);
    }
    return sum;
}

bmb_err bmb_outlet_stats_get(const bmb_device *d, size_t outlet, bmb_outlet_stats *out)
{
    if (outlet >= d->context.config->outlet_count) return BMB_NOT_FOUND;
    const bmb_outlet *o = &d->talk.outlets[outlet];
    if (BMB_WITH_COMING && o->sock == BMB_NO_SOCK) { /* a free place */
        *out = (bmb_outlet_stats){ .feed = BMB_NO_FEED };
        return BMB_OK;
    }
    bool tcp = BMB_WITH_PLAIN && o->config->kind == BMB_OUTLET_TCP;
    *out = (bmb_outlet_stats){ .kind = o->config->kind,
                               .secure = BMB_WITH_TLS && o->config->secure,
                               .format = o->config->format,
                               .addr = o->bound };
    out->feed = tcp ? o->config->feed : BMB_NO_FEED;
    out->out = sum_of(d, &o->by.past, &out->viewers);
    return BMB_OK;
}

bmb_err bmb_push_stats_get(const bmb_device *d, size_t index, bmb_push_stats *out)
{
    if (!BMB_WITH_PUSH || index >= d->context.config->push_count) return BMB_NOT_FOUND;
    const bmb_push *p = &d->pushes.pushes[index];
    if (BMB_WITH_COMING && p->config == NULL) { /* a free place */
        *out = (bmb_push_stats){ .state = BMB_PUSH_OFF };
        return BMB_OK;
    }
    const bmb_viewer *v = bmb_push_viewer(p);
    uint16_t viewers;
    *out =
        (bmb_push_stats){ .config = p->config, .state = (bmb_push_state)p->state, .err = p->err, .starts = p->starts };
    out->out = sum_of(d, &p->by.past, &viewers);
    if (v == NULL) return BMB_OK;
    bmb_viewer_rate(v, bmb_clock(&d->context), &out->mfps, &out->kbps);
    out->age_ms = v->age_ms;
    out->skipped = v->skipped;
    bmb_viewer_stats reported = { .reports = false };
    if (!p->config->tcp) bmb_viewer_figures(&d->context, v, &reported);
    out->confirmed = p->config->tcp || reported.reports;
    return BMB_OK;
}

/* What was added since the last report, if anything happened. */
static void tell_traffic(bmb_device *d, const bmb_tally *sum, bmb_tally *reported, const char *feed,
                         const bmb_addr *where, int64_t viewers)
{
    bmb_traffic traffic = { .frames = (uint32_t)(sum->frames - reported->frames),
                            .bytes = sum->bytes - reported->bytes,
                            .blocked_ms = bmb_ms_between(reported->blocked_us, sum->blocked_us) };
    *reported = *sum;
    if (viewers <= 0 && traffic.bytes == 0 && traffic.blocked_ms == 0) return;
    bmb_tell(
        &d->context,
        &(bmb_event){ .code = BMB_EVENT_REPORT, .feed = feed, .peer = where, .value = viewers, .traffic = &traffic });
}

void bmb_report(bmb_device *d)
{
    uint16_t viewers;
    for (size_t i = 0; i < d->context.config->outlet_count; i++) {
        bmb_outlet *o = &d->talk.outlets[i];
        if (BMB_WITH_COMING && o->sock == BMB_NO_SOCK) continue;
        bmb_tally sum = sum_of(d, &o->by.past, &viewers);
        tell_traffic(d, &sum, &o->reported, NULL, &o->bound, viewers);
    }
    for (size_t i = 0; BMB_WITH_PUSH && i < d->pushes.count; i++) {
        bmb_push *p = &d->pushes.pushes[i];
        if (p->config == NULL || p->state != BMB_PUSH_SENDING) continue;
        bmb_tally sum = sum_of(d, &p->by.past, &viewers);
        tell_traffic(d, &sum, &p->reported, p->feed->config->name, &p->config->to, -1);
    }
}

#if BMB_WITH_VERDICTS
static void judge_viewers(bmb_device *d, bmb_feed *feed)
{
    bmb_viewer_stats now;
#if BMB_WITH_FOLLOWING
    bmb_following sum = { 0 };
#endif
    for (bmb_watcher *w = feed->track[0].first; w != NULL; w = w->next) {
        if (w->owner->describe == NULL) continue;
        bmb_viewer *v = bmb_viewer_of(w);
        memset(&now, 0, sizeof now);
        w->owner->describe(w->owner, w, &now);
        if (v->counted) bmb_verdict_tell(&d->context, &v->held_by, bmb_viewer_feed(v), &now.peer, now.held_by);
#if BMB_WITH_FOLLOWING
        bmb_follow_viewer(d, v, &now, &sum);
#endif
    }
#if BMB_WITH_FOLLOWING
    bmb_follow_feed(d, feed, &sum);
#endif
}
#endif

void bmb_judge(bmb_device *d)
{
#if BMB_WITH_VERDICTS
    bmb_context *x = &d->context;
    bmb_feed_stats feed;
    for (size_t i = 0; i < d->feeds.count; i++) {
        bmb_feed *f = &d->feeds.feed[i];
        if (bmb_feed_is_there(f) && bmb_feed_stats_get(d, i, &feed) == BMB_OK)
            bmb_verdict_tell(x, &f->held, f, NULL, feed.held_by);
        if (!bmb_feed_is_full(x, f)) f->full_bytes = 0; /* before the count of ms comes round again */
    }
#if BMB_WITH_FOLLOWING
    bmb_follow_share(d);
#endif
    for (size_t i = 0; i < d->feeds.count; i++) judge_viewers(d, &d->feeds.feed[i]);
#else
    (void)d;
#endif
}

/* The names of feeds stand in the configuration, also of those that were chosen by nobody. */
static const char *name_of(const bmb_device *d, size_t feed)
{
    return feed < d->feeds.count ? d->context.config->feeds[feed].name : NULL;
}

static bool shows(const bmb_status_view *view, size_t feed)
{
    return !BMB_WITH_ACCESS || feed >= BMB_FEEDS_MOST || (view->feeds >> feed & 1) != 0;
}

/* The index of the row that is the `index`-th of those that are shown: others are passed over as if they were not
 * there. SIZE_MAX: there are no more. */
static size_t shown_feed(const bmb_device *d, const bmb_status_view *view, size_t index)
{
    if (!BMB_WITH_ACCESS && !BMB_WITH_COMING) return index;
    for (size_t i = 0; i < d->feeds.count; i++)
        if (shows(view, i) && name_of(d, i)[0] != '\0' && index-- == 0) return i;
    return SIZE_MAX;
}

/* Of outlets and pushes, free places are passed over likewise. */
static size_t used_outlet(const bmb_device *d, size_t index)
{
    if (!BMB_WITH_COMING) return index;
    for (size_t i = 0; i < d->context.config->outlet_count; i++)
        if (d->talk.outlets[i].sock != BMB_NO_SOCK && index-- == 0) return i;
    return SIZE_MAX;
}

static size_t used_push(const bmb_device *d, size_t index)
{
    if (!BMB_WITH_COMING) return index;
    for (size_t i = 0; i < d->pushes.count; i++)
        if (d->pushes.pushes[i].config != NULL && index-- == 0) return i;
    return SIZE_MAX;
}

static bool shown_viewer(const bmb_device *d, const bmb_status_view *view, size_t index, bmb_viewer_stats *out)
{
    if (!BMB_WITH_ACCESS) return bmb_viewer_stats_get(d, index, out) == BMB_OK;
    for (size_t i = 0; bmb_viewer_stats_get(d, i, out) == BMB_OK; i++)
        if (shows(view, out->feed) && index-- == 0) return true;
    return false;
}

#if BMB_WITH_ACCESS
static size_t sign_in_row(const bmb_device *d, size_t index, void *memory, char *out, size_t room)
{
    const bmb_guard *g = &d->talk.guard;
    uint64_t now = bmb_clock(&d->context);
    for (size_t i = 0; i < BMB_GUARD_SIGN_INS; i++) {
        const bmb_sign_in *s = &g->kept->sign_ins[i];
        if (s->account == 0 || index-- > 0) continue;
        return bmb_status_sign_in(i, g->access->accounts[s->account - 1].name, &s->peer, (now - s->since_us) / 1000,
                                  (now - s->seen_us) / 1000, memory, BMB_STATUS_MEMORY, out, room);
    }
    return 0;
}
#endif

size_t bmb_figures_row(bmb_figures *f, const bmb_status_view *view, bmb_status_part part, size_t index, char *out,
                       size_t room)
{
    const bmb_device *d = (bmb_device *)(void *)((uint8_t *)f - offsetof(bmb_device, figures));
    void *memory = d->context.scratch;
    const size_t size = BMB_STATUS_MEMORY;
    if (part == BMB_STATUS_DEVICE && index == 0) {
        bmb_device_stats stats;
        bmb_device_stats_get(d, &stats);
        return bmb_status_device(d->context.config->name, &stats, memory, size, out, room);
    }
    bmb_outlet_stats outlet;
    if (part == BMB_STATUS_OUTLETS && bmb_outlet_stats_get(d, used_outlet(d, index), &outlet) == BMB_OK)
        return bmb_status_outlet(&outlet, BMB_WITH_PLAIN && shows(view, outlet.feed) ? name_of(d, outlet.feed) : NULL,
                                 memory, size, out, room);
    bmb_push_stats push;
    if (BMB_WITH_PUSH && part == BMB_STATUS_PUSHES && (!BMB_WITH_ACCESS || view->feeds == UINT64_MAX) &&
        bmb_push_stats_get(d, used_push(d, index), &push) == BMB_OK)
        return bmb_status_push(name_of(d, push.config->feed), &push, BMB_WITH_ACCESS && view->peers, memory, size, out,
                               room);
    bmb_feed_stats feed;
    if (part == BMB_STATUS_FEEDS && bmb_feed_stats_get(d, shown_feed(d, view, index), &feed) == BMB_OK)
        return bmb_status_feed(&feed, memory, size, out, room);
    bmb_viewer_stats viewer;
    if (part == BMB_STATUS_VIEWERS && shown_viewer(d, view, index, &viewer))
        return bmb_status_viewer(name_of(d, viewer.feed), BMB_WITH_FOLLOWING ? name_of(d, viewer.given) : NULL, &viewer,
                                 BMB_WITH_ACCESS && view->peers, memory, size, out, room);
#if BMB_WITH_ACCESS
    if (part == BMB_STATUS_SIGN_INS && view->peers) return sign_in_row(d, index, memory, out, room);
#endif
    return 0;
}
