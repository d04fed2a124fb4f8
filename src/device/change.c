#include "device/change.h"

#include <string.h>

#include "device/contract.h"
#include "device/follow.h"
#include "device/pieces.h"
#include "media/controls.h"
#include "media/still.h"
#include "talk/session.h"

#if BMB_WITH_CHANGES

/* The device's own rows, which nobody else writes. */
static bmb_feed_config *feed_row(const bmb_device *d, size_t i)
{
    return (bmb_feed_config *)(uintptr_t)&d->context.config->feeds[i];
}

static bool changes(const bmb_device *d)
{
    return d->pieces != NULL;
}

static void plan_as_it_is(const bmb_device *d, bmb_plan *plan)
{
    for (size_t i = 0; i < BMB_FEEDS_MOST; i++)
        plan->camera[i] = i < d->feeds.count && bmb_piece_of(d, i)->size > 0 ? (uint16_t)d->feeds.feed[i].camera.index
                                                                             : BMB_NO_CAMERA;
}

/* Lays its memory out at a place that is free. Nobody holds a frame of it. */
static void settle(bmb_device *d, bmb_feed *feed, const bmb_plan *plan, uint8_t *at, size_t size)
{
    uint32_t seq = feed->track[0].reel.next_seq;
    bmb_block_give_back(at, size + BMB_ALIGN);
    bmb_block piece = { .base = at };
    bmb_lay_out_feed(&piece, d->context.config, plan, feed->number, feed);
    if (seq > 0) feed->track[0].reel.next_seq = seq; /* viewers count on */
    *bmb_piece_of(d, feed->number) = (bmb_piece){ at, size };
}

/* With the same codec viewers go on: the next frame that they get is of the new kind. Where the memory need not move,
 * they even finish the one that they are in. */
static void move(bmb_device *d, bmb_feed *feed, const bmb_plan *plan, uint8_t *at, size_t size)
{
    const bmb_feed_config *c = feed->config;
    bmb_track *t = bmb_feed_video(feed);
    bool fits = c->storage == BMB_KEPT && t->reel.memory != NULL && c->reel_bytes <= t->reel.capacity &&
                feed->camera.index == plan->camera[feed->number] && t->row == bmb_codec_of(c->mode.codec);
    if (!fits || t->reel.pinned == 0) {
        bmb_track_let_go(t);
        bmb_reel_clear(&t->reel);
        settle(d, feed, plan, at, size);
    } else {
        bmb_reel_clear(&t->reel);
        feed->camera.mode = c->mode;
    }
}

static void end_watching(bmb_device *d, bmb_feed *feed)
{
#if BMB_WITH_FOLLOWING
    bmb_follow_release(d, feed);
#endif
    if (BMB_WITH_PUSH) bmb_pushes_end(&d->pushes, feed);
    bmb_talk_feed_gone(&d->talk, feed);
    for (size_t i = 0; i < feed->tracks; i++) bmb_track_end(&feed->track[i]);
    if (BMB_WITH_MULTICAST) bmb_groups_feed_gone(&d->groups, feed);
}

static void begin_watching(bmb_device *d, const bmb_feed *feed)
{
    if (BMB_WITH_MULTICAST) bmb_lease_groups(d);
    if (BMB_WITH_PUSH) bmb_pushes_resume(&d->pushes, feed);
}

static bool same_memory(const bmb_feed_config *a, const bmb_feed_config *b)
{
    return a->storage == b->storage && a->frame_max == b->frame_max && a->reel_bytes == b->reel_bytes &&
           (a->camera == b->camera || strcmp(a->camera, b->camera) == 0);
}

/* Camera and memory become what its row says. */
static void restart(bmb_device *d, bmb_feed *feed, const bmb_plan *plan, uint8_t *at, size_t size)
{
    bmb_context *x = &d->context;
    bmb_camera *c = &feed->camera;
    bmb_track *t = bmb_feed_video(feed);
    bool other = t->row != bmb_codec_of(feed->config->mode.codec), elsewhere = c->index != plan->camera[feed->number];
    if (BMB_WITH_CONTROLS && (other || elsewhere)) bmb_controls_keep(x, c);
    if (BMB_WITH_SIZED_STILLS) bmb_still_cancel(x, feed, &d->talk.stills);
    bmb_camera_stop(x, c);
    if (other) {
        feed->removed = true; /* nobody joins meanwhile */
        end_watching(d, feed);
        feed->removed = false;
    }
    move(d, feed, plan, at, size);
    if (other || elsewhere) c->restored = false; /* another stream has controls of its own */
#if BMB_WITH_FOLLOWING
    if (other || elsewhere) c->follows_kbps = 0, c->set_kbps = 0;
#endif
    memset(&t->codec, 0, sizeof t->codec);
    feed->governor.kbps = 0;
    feed->governor.state = BMB_KEEPING_OFF;
    t->kbps_most = 0;
    c->state = BMB_CAMERA_OFF;
    c->gap_us = 0;
    c->lent = false;
    c->retry_ms = 0;
    feed->sdp_version++;
    bmb_feed_start(x, feed);
    bmb_talk_feed_changed(&d->talk, feed);
    if (other) begin_watching(d, feed);
}

static bmb_err unsupported(bmb_fault *fault, const char *key, const char *name)
{
    return bmb_blame(fault, BMB_UNSUPPORTED, "feed", key, name, 0, 0);
}

static bool same_group(const bmb_multicast *a, const bmb_multicast *b)
{
    if (a->group.family == 0 && b->group.family == 0) return true; /* the rest tells nothing */
    return a->ttl == b->ttl && a->parity == b->parity && a->group.family == b->group.family &&
           a->group.port == b->group.port && bmb_same_host(&a->group, &b->group);
}

static bool group_fits(const bmb_device *d, const bmb_feed *feed, const bmb_feed_config *to, bmb_fault *fault)
{
    if (BMB_WITH_MULTICAST && bmb_groups_fits(&d->groups, feed, &to->multicast)) return true;
    (void)bmb_blame(fault, BMB_NO_MEMORY, "memory", "reserve", to->name, 0, 0);
    return false;
}

/* Whoever gets the group connects anew, and nobody else: its goodbye still goes to where it was. */
static void regroup(bmb_device *d, bmb_feed *feed, const bmb_feed_config *before, const bmb_feed_config *to)
{
    bmb_feed_config *row = feed_row(d, feed->number);
    *row = *before;
    if (BMB_WITH_RTSP) bmb_session_feed_gone(&d->talk, feed, true);
    bmb_groups_feed_gone(&d->groups, feed);
    *row = *to;
    bmb_groups_assign(&d->groups, feed);
    feed->sdp_version++;
    bmb_lease_groups(d);
}

bmb_err bmb_feed_change(bmb_device *d, size_t index, const bmb_feed_config *to, bmb_fault *fault)
{
    bmb_context *x = &d->context;
    bmb_feed *feed = index < d->feeds.count ? &d->feeds.feed[index] : NULL;
    bmb_plan plan;
    if (feed == NULL || (feed->removed && feed->paused == 0)) return BMB_NOT_FOUND;
    if (!changes(d)) return unsupported(fault, "changes", to->name);
    bmb_feed_config *row = feed_row(d, index);
    const bmb_feed_config before = *row;
    if (strcmp(before.name, to->name) != 0) return unsupported(fault, "name", before.name);
    const bool regroups = !same_group(&before.multicast, &to->multicast);
    if (regroups && !group_fits(d, feed, to, fault)) return BMB_NO_MEMORY;
    x->now = bmb_clock(x);
    plan_as_it_is(d, &plan);
    *row = *to;
    bmb_err err = bmb_feed_check(x->config, index, &plan, fault);
    size_t size = err == BMB_OK ? bmb_feed_piece(x->config, &plan, index) : 0, gap;
    uint8_t *at = err == BMB_OK ? bmb_find_place(d, size, index, &gap) : NULL;
    if (err == BMB_OK && at == NULL)
        err = bmb_blame(fault, BMB_NO_MEMORY, "memory", "reserve", to->name, (int64_t)size, (int64_t)gap);
    if (err != BMB_OK) {
        *row = before;
        return err;
    }
    if (BMB_WITH_MULTICAST && regroups) regroup(d, feed, &before, to);
    bool same = same_memory(&before, to) && bmb_mode_same(&before.mode, &to->mode);
    if (same) {
        bmb_feed_hold_rate(x, feed);
        if (BMB_WITH_MULTICAST) bmb_lease_groups(d);
        return BMB_OK;
    }
    if (feed->paused != 0) { /* it starts as that later */
        settle(d, feed, &plan, at, size);
        feed->camera.restored = false;
        return BMB_OK;
    }
    bool ran = feed->camera.state == BMB_CAMERA_RUNNING || feed->camera.state == BMB_CAMERA_STARTING;
    bmb_tell_of(x, row->name, NULL, BMB_EVENT_FEED_CHANGED, (int64_t)to->mode.width << 16 | to->mode.height,
                to->mode.mfps);
    restart(d, feed, &plan, at, size);
    err = feed->camera.err;
    /* One that failed before may fail on; but what it cannot do is not put up with. */
    if (feed->camera.state != BMB_CAMERA_WAITING || (!ran && err != BMB_UNSUPPORTED)) return BMB_OK;
    /* The driver takes it back only now: what was before goes on. */
    if (BMB_WITH_MULTICAST && regroups) regroup(d, feed, to, &before);
    *row = before;
    plan_as_it_is(d, &plan);
    if (bmb_feed_check(x->config, index, &plan, NULL) == BMB_OK) {
        size = bmb_feed_piece(x->config, &plan, index);
        at = bmb_find_place(d, size, index, &gap);
        if (at != NULL) restart(d, feed, &plan, at, size);
    }
    return bmb_blame(fault, err, "camera", "start", before.camera, 0, 0);
}

bmb_err bmb_limits_change(bmb_device *d, const bmb_config *to, bmb_fault *fault)
{
    bmb_config *config = (bmb_config *)(uintptr_t)d->context.config; /* the device's own */
    if (!changes(d)) return unsupported(fault, "changes", NULL);
    bmb_err err = bmb_values_check(to, fault);
    if (err != BMB_OK) return err;
    config->stall_ms = to->stall_ms;
    config->request_ms = to->request_ms;
    config->idle_ms = to->idle_ms;
    config->unsent_ms = to->unsent_ms;
    config->host_viewers = to->host_viewers;
    config->uplink_kbps = to->uplink_kbps;
    config->names = to->names;
    config->name_count = to->name_count;
    config->origins = to->origins;
    config->origin_count = to->origin_count;
    config->embed = to->embed;
    for (uint16_t i = 0; i < d->talk.conn_most; i++) d->talk.conns[i].origin = 0; /* it counts in the former list */
    return BMB_OK;
}

#else

bmb_err bmb_limits_change(bmb_device *d, const bmb_config *to, bmb_fault *fault)
{
    (void)d, (void)to, (void)fault;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_feed_change(bmb_device *d, size_t index, const bmb_feed_config *to, bmb_fault *fault)
{
    (void)d, (void)index, (void)to, (void)fault;
    return BMB_UNSUPPORTED;
}

#endif

#if BMB_WITH_COMING

bmb_err bmb_feed_add(bmb_device *d, const bmb_feed_config *config, size_t *index, bmb_fault *fault)
{
    bmb_context *x = &d->context;
    bmb_plan plan;
    size_t i = 0, gap;
    *index = SIZE_MAX;
    if (!changes(d)) return unsupported(fault, "changes", config->name);
    while (i < d->feeds.count && bmb_piece_of(d, i)->size > 0) i++;
    if (i == d->feeds.count)
        return bmb_blame(fault, BMB_LIMIT, "config", "feeds", config->name, (int64_t)i + 1, (int64_t)i);
    bmb_feed_config *row = feed_row(d, i);
    bmb_feed *feed = &d->feeds.feed[i];
    if (config->multicast.group.family != 0 && !group_fits(d, feed, config, fault)) return BMB_NO_MEMORY;
    x->now = bmb_clock(x);
    plan_as_it_is(d, &plan);
    *row = *config;
    bmb_err err = bmb_feed_check(x->config, i, &plan, fault);
    size_t size = err == BMB_OK ? bmb_feed_piece(x->config, &plan, i) : 0;
    uint8_t *at = err == BMB_OK ? bmb_find_place(d, size, i, &gap) : NULL;
    if (err == BMB_OK && at == NULL)
        err = bmb_blame(fault, BMB_NO_MEMORY, "memory", "reserve", config->name, (int64_t)size, (int64_t)gap);
    if (err != BMB_OK) {
        *row = (bmb_feed_config){ .name = "" };
        return err;
    }
    memset(feed, 0, sizeof *feed);
    feed->number = (uint16_t)i;
    settle(d, feed, &plan, at, size);
    if (BMB_WITH_MULTICAST) bmb_groups_assign(&d->groups, feed);
    bmb_tell_of(x, row->name, NULL, BMB_EVENT_FEED_ADDED, 0, 0);
    bmb_feed_open(x, feed);
    bmb_talk_feed_changed(&d->talk, feed);
    if (BMB_WITH_MULTICAST) bmb_lease_groups(d);
    *index = i;
    return BMB_OK;
}

/* What happened with the one before is not told of the one that comes. */
static void free_place(bmb_device *d, bmb_feed *feed)
{
#if BMB_WITH_EVENTS
    bmb_history_forget(&d->context.history, feed->number);
#endif
    /* Another feed in its place is no longer the one that an outlet was to have. */
    for (size_t i = 0; i < d->context.config->outlet_count; i++)
        ((bmb_outlet_config *)(uintptr_t)&d->context.config->outlets[i])->only &= ~(1ull << feed->number);
    bmb_piece_of(d, feed->number)->size = 0;
    feed->camera.index = SIZE_MAX;
    feed->paused = 0;
    *feed_row(d, feed->number) = (bmb_feed_config){ .name = "" };
    if (BMB_WITH_MULTICAST) bmb_groups_assign(&d->groups, feed); /* to nobody */
}

void bmb_feed_gone(bmb_device *d, bmb_feed *feed)
{
    if (changes(d)) free_place(d, feed);
}

bmb_err bmb_feed_pause(bmb_device *d, size_t index, bool pause)
{
    bmb_context *x = &d->context;
    bmb_feed *feed = index < d->feeds.count ? &d->feeds.feed[index] : NULL;
    if (feed == NULL || (feed->removed && !feed->paused)) return BMB_NOT_FOUND;
    if (!changes(d)) return BMB_UNSUPPORTED;
    if ((feed->paused != 0) == pause) return BMB_OK;
    x->now = bmb_clock(x);
    feed->paused = pause ? 1 : 0;
    feed->removed = pause;
    if (pause) {
        end_watching(d, feed);
        bmb_feed_close(x, feed);
        feed->camera.state = BMB_CAMERA_OFF;
        feed->camera.lent = false;
        feed->camera.gap_us = 0;
        bmb_tell_of(x, feed->config->name, NULL, BMB_EVENT_FEED_PAUSED, 0, 0);
    } else {
        bmb_feed_start(x, feed);
        begin_watching(d, feed);
    }
    return BMB_OK;
}

#else

bmb_err bmb_feed_add(bmb_device *d, const bmb_feed_config *config, size_t *index, bmb_fault *fault)
{
    (void)d, (void)index, (void)config, (void)fault;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_feed_pause(bmb_device *d, size_t index, bool pause)
{
    (void)d, (void)index, (void)pause;
    return BMB_UNSUPPORTED;
}

#endif
