/* Opening, stepping and closing the device. */
#include "device/change.h"
#include "device/check_access.h"
#include "device/parts.h"
#include "talk/passes.h"

#include <stddef.h>
#include <string.h>

#include "base/block.h"
#include "base/bytes.h"
#include "device/contract.h"
#include "device/follow.h"
#include "media/still.h"

static uint32_t mix(uint32_t hash, const char *text)
{
    for (; *text != '\0'; text++) hash = (hash ^ (uint8_t)*text) * 16777619u; /* FNV-1a */
    return hash;
}

bmb_addr bmb_multicast_choose(const char *device, const char *feed)
{
    uint32_t hash = mix(mix(mix(2166136261u, device), "/"), feed);
    uint32_t host = hash >> 8 & 0xFFFF, port = hash % 64;
    if ((host & 0xFF) == 0) host |= 1; /* some equipment takes a last byte of 0 for a network */
    return (bmb_addr){ .family = 4,
                       .ip = { 239, 255, (uint8_t)(host >> 8), (uint8_t)host },
                       .port = (uint16_t)(5004 + 2 * port) };
}

void bmb_config_init(bmb_config *config)
{
    memset(config, 0, sizeof *config);
    config->name = "bambino";
    config->viewers = 16;
    config->spare = 8;
    config->request_buffer = 3072;
    config->rtp_packet = 1400;
    config->stall_ms = 10000;
    config->request_ms = 10000;
    config->idle_ms = 30000;
    config->session_ms = 60000;
    config->unsent_ms = 80;
}

bmb_config bmb_config_of(const bmb_port *port, const bmb_feed_config *feeds, size_t feed_count,
                         const bmb_outlet_config *outlets, size_t outlet_count)
{
    bmb_config config;
    bmb_config_init(&config);
    config.port = port;
    config.feeds = feeds;
    config.feed_count = feed_count;
    config.outlets = outlets;
    config.outlet_count = outlet_count;
    return config;
}

bmb_outlet_config bmb_outlet_of(bmb_outlet_kind kind, uint16_t port)
{
    return (bmb_outlet_config){ .kind = kind, .listen = { .family = 4, .port = port } };
}

bmb_feed_config bmb_feed_of(const char *name, bmb_codec codec, uint16_t width, uint16_t height, uint32_t mfps)
{
    bmb_feed_config feed = { .name = name, .camera = name, .mode = { codec, width, height, mfps } };
    feed.frame_max = (uint32_t)width * height / 4 + 16384;
    feed.reel_bytes = feed.frame_max * 8;
    return feed;
}

static bmb_err plan_and_count(const bmb_config *config, bmb_plan *p, bmb_budget *out, bmb_fault *fault)
{
    bmb_err err = bmb_config_check(config, p, fault);
    if (err != BMB_OK) return err;
    (void)bmb_lay_out(NULL, config, p, out);
    return out->total == SIZE_MAX ? bmb_blame(fault, BMB_NO_MEMORY, "memory", "total", NULL, INT64_MAX, 0) : BMB_OK;
}

bmb_err bmb_budget_of(const bmb_config *config, bmb_budget *out, bmb_fault *fault)
{
    bmb_plan p;
    return plan_and_count(config, &p, out, fault);
}

static const char *largest_part(const bmb_budget *b)
{
    const char *name = "reels";
    size_t most = b->reels;
    if (b->viewers > most) {
        most = b->viewers;
        name = "viewers";
    }
    if (b->request_buffers > most) name = "request buffers";
    return name;
}

/* RFC 7022 4.2: unique on the network and over restarts, and tells nothing about the device. */
static void make_cname(bmb_context *x)
{
    uint8_t bits[12];
    x->port->random(x->port->ctx, bits, sizeof bits);
    bmb_writer w = bmb_writer_of(x->cname, sizeof x->cname - 1);
    bmb_put_base64(&w, bits, sizeof bits);
    x->cname[sizeof x->cname - 1] = '\0';
}

/* What groups send is counted with the outlet at which they are asked for. */
static bmb_tally *tally_of_groups(bmb_device *d)
{
    bmb_tally *found = NULL;
    for (size_t i = 0; i < d->context.config->outlet_count; i++)
        if (d->context.config->outlets[i].kind == BMB_OUTLET_RTSP) found = &d->talk.outlets[i].by.past;
    return found;
}

static void start(bmb_device *d)
{
    bmb_context *x = &d->context;
    if (BMB_WITH_MULTICAST) bmb_groups_open(&d->groups, x, &d->feeds, tally_of_groups(d), d->groups.groups);
    for (size_t i = 0; i < d->feeds.count; i++) {
        bmb_feed *feed = &d->feeds.feed[i];
        if (!feed->removed) bmb_feed_open(x, feed);
    }
    if (BMB_WITH_MULTICAST) bmb_lease_groups(d);
    if (BMB_WITH_PUSH) bmb_pushes_open(&d->pushes, x, &d->feeds, &d->talk, d->pushes.pushes);
}

static bmb_err start_encryption(bmb_device *d, void *secrets, bmb_fault *fault)
{
#if BMB_WITH_TLS
    const bmb_port *port = d->context.port;
    if (secrets == NULL) return BMB_OK;
    const bmb_config *config = d->context.config;
    size_t accepted = bmb_secure_accepted(config), dialled = bmb_secure_dialled(config), each;
    size_t size = port->encryption.memory(port->ctx, accepted, dialled, &each);
    bmb_err err = port->encryption.open(port->ctx, secrets, size, accepted, dialled);
    d->encrypts = err == BMB_OK;
    d->accepts = accepted > 0;
    return d->encrypts ? BMB_OK : bmb_blame(fault, err, "port", "encryption", "a secure outlet or push", 0, 0);
#else
    (void)d, (void)secrets, (void)fault;
    return BMB_OK;
#endif
}

/* When all its connections are closed. */
static void end_encryption(bmb_device *d)
{
#if BMB_WITH_TLS
    const bmb_port *port = d->context.port;
    if (d->encrypts) port->encryption.close(port->ctx);
#else
    (void)d;
#endif
}

bmb_err bmb_open(const bmb_config *config, void *memory, size_t size, bmb_device **out, bmb_fault *fault)
{
    bmb_budget budget;
    bmb_plan p;
    *out = NULL;
    bmb_err err = plan_and_count(config, &p, &budget, fault);
    if (err != BMB_OK) return err;
    if (memory == NULL || size < budget.total)
        return bmb_blame(fault, BMB_NO_MEMORY, "memory", largest_part(&budget), NULL, (int64_t)budget.total,
                         (int64_t)size);

    size_t memory_size = budget.total;
    bmb_device *d = bmb_lay_out(memory, config, &p, &budget);
    bmb_context *x = &d->context;
    d->memory = memory_size;
    x->now = x->start_us = bmb_clock(x);
    bmb_log_start(&x->gate, x->now);
    make_cname(x);
    if (x->port->light != NULL) x->port->light(x->port->ctx, (bmb_light)d->light);
    err = start_encryption(d, p.secrets, fault);
    if (err == BMB_OK) err = bmb_talk_open(&d->talk, fault);
    if (err != BMB_OK) {
        bmb_close(d);
        return err;
    }
    start(d);
    *out = d;
    return BMB_OK;
}

void bmb_close(bmb_device *d)
{
    if (d == NULL) return;
    if (BMB_WITH_PUSH) bmb_pushes_end(&d->pushes, NULL);
    bmb_talk_close(&d->talk);
    if (BMB_WITH_MULTICAST) bmb_groups_close(&d->groups);
    for (size_t i = 0; i < d->feeds.count; i++) bmb_feed_close(&d->context, &d->feeds.feed[i]);
    bmb_talk_close_sockets(&d->talk);
    end_encryption(d);
    bmb_block_give_back(d, d->memory);
}

static void take_events(bmb_device *d)
{
    const bmb_port *port = d->context.port;
    bmb_ready ready[BMB_READY_MOST];
    size_t n = port->net.ready(port->ctx, ready, BMB_READY_MOST);
    for (size_t i = 0; i < n && i < BMB_READY_MOST; i++) bmb_talk_ready(&d->talk, ready[i].token, ready[i].events);
}

static bool take_frames(bmb_device *d)
{
    bool fresh = false;
    for (size_t i = 0; i < d->feeds.count; i++) {
        bmb_feed *feed = &d->feeds.feed[i];
        if (BMB_WITH_SIZED_STILLS && feed->still.running) bmb_still_take(&d->context, feed, &d->talk.stills);
        if (!feed->camera.lent) bmb_feed_take(&d->context, feed);
        fresh = bmb_feed_fresh(feed) || fresh;
    }
    return fresh;
}

/* Frames that came in this step go to every viewer that can take them; and bursts whose time has come. */
static void deliver(bmb_device *d, bool fresh)
{
    if (!fresh && d->context.now < d->context.pace_us) return;
    d->context.pace_us = UINT64_MAX;
    for (size_t i = 0; i < d->feeds.count; i++) bmb_feed_deliver(&d->feeds.feed[i]);
    if (BMB_WITH_MULTICAST) bmb_groups_bursts(&d->groups);
    if (BMB_WITH_PUSH) bmb_pushes_bursts(&d->pushes);
}

static void show_light(bmb_device *d)
{
    const bmb_port *port = d->context.port;
    size_t waiting = 0, running = 0;
    for (size_t i = 0; i < d->feeds.count; i++) {
        waiting += d->feeds.feed[i].camera.state == BMB_CAMERA_WAITING;
        running += d->feeds.feed[i].camera.state == BMB_CAMERA_RUNNING;
    }
    bool offline = port->online != NULL && !port->online(port->ctx);
    bmb_light light = waiting > 0                        ? BMB_LIGHT_NO_CAMERA
                      : offline                          ? BMB_LIGHT_NO_NETWORK
                      : running == 0                     ? BMB_LIGHT_STARTING
                      : bmb_feeds_viewers(&d->feeds) > 0 ? BMB_LIGHT_WATCHED
                                                         : BMB_LIGHT_READY;
    if (light == (bmb_light)d->light) return;
    d->light = (uint8_t)light;
    if (port->light != NULL) port->light(port->ctx, light);
}

static uint64_t earlier(uint64_t a, uint64_t b)
{
    return a < b ? a : b;
}

/* Does what is due, and returns when something next is. */
static uint64_t tend(bmb_device *d)
{
    bmb_context *x = &d->context;
    uint64_t next = bmb_talk_tend(&d->talk);
    if (BMB_WITH_MULTICAST) next = earlier(next, bmb_groups_tend(&d->groups));
    if (BMB_WITH_PUSH) next = earlier(next, bmb_pushes_tend(&d->pushes));
    for (size_t i = 0; i < d->feeds.count; i++) next = earlier(next, bmb_feed_tend(x, &d->feeds.feed[i]));
    if ((BMB_WITH_REPORTS || BMB_WITH_VERDICTS) && x->now >= d->report_us) {
        if (BMB_WITH_REPORTS) bmb_report(d);
        if (BMB_WITH_VERDICTS) bmb_judge(d);
        d->report_us = x->now + BMB_REPORT_OUT_US;
    }
    if ((BMB_WITH_REPORTS || BMB_WITH_VERDICTS) &&
        (d->talk.conn_live > 0 || d->talk.session_live > 0 || d->pushes.count > 0))
        next = earlier(next, d->report_us);
    if (x->gate.suppressed > 0) next = earlier(next, x->now + BMB_LOG_STEP_US);
    return next;
}

uint64_t bmb_step(bmb_device *d)
{
    bmb_context *x = &d->context;
    x->now = bmb_clock(x);
    bmb_pace_begin(&x->pace, x->now, x->start_us);
    bmb_log_tend(&x->gate, x->port, x->now);
    take_events(d);
    (void)bmb_turn(x, BMB_DOING_CAMERAS);
    bool fresh = take_frames(d);
    (void)bmb_turn(x, BMB_DOING_DELIVERY);
    deliver(d, fresh);
    (void)bmb_turn(x, BMB_DOING_TIMES);
    uint64_t next = earlier(tend(d), x->pace_us);
    show_light(d);
    bmb_pace_end(&x->pace, bmb_clock(x), x->start_us, next);
    return next;
}

#if BMB_WITH_ACCESS
static bool same_account(const bmb_account *a, const bmb_account *b)
{
    return a->program == b->program && strcmp(a->name, b->name) == 0 &&
           memcmp(a->sha256, b->sha256, sizeof a->sha256) == 0;
}

bmb_err bmb_access_change(bmb_device *d, const bmb_access *access)
{
    uint16_t to[BMB_ACCOUNTS_MOST] = { 0 };
    const bmb_access *before = d->talk.guard.access;
    if (before == NULL || access == NULL) return BMB_UNSUPPORTED;
    if (bmb_access_check(access, d->context.port, NULL) != BMB_OK) return BMB_BAD_ARG;
    d->context.now = bmb_clock(&d->context);
    for (size_t i = 0; i < before->account_count; i++)
        for (size_t k = 0; k < access->account_count; k++)
            if (same_account(&before->accounts[i], &access->accounts[k])) to[i] = (uint16_t)(k + 1);
    bmb_passes_change(&d->talk, access, to);
    if (BMB_WITH_MULTICAST) bmb_lease_groups(d);
    return BMB_OK;
}

size_t bmb_sign_ins_copy(bmb_device *d, bmb_sign_in_copy *out)
{
    d->context.now = bmb_clock(&d->context);
    return bmb_guard_copy(&d->talk.guard, &d->context, out);
}

void bmb_sign_ins_take(bmb_device *d, const bmb_sign_in_copy *copies, size_t count)
{
    d->context.now = bmb_clock(&d->context);
    bmb_guard_take(&d->talk.guard, &d->context, copies, count);
}
#else
size_t bmb_sign_ins_copy(bmb_device *d, bmb_sign_in_copy *out)
{
    (void)d, (void)out;
    return 0;
}

void bmb_sign_ins_take(bmb_device *d, const bmb_sign_in_copy *copies, size_t count)
{
    (void)d, (void)copies, (void)count;
}

bmb_err bmb_access_change(bmb_device *d, const bmb_access *access)
{
    (void)d, (void)access;
    return BMB_UNSUPPORTED;
}
#endif

bmb_err bmb_feed_remove(bmb_device *d, size_t index)
{
    bmb_context *x = &d->context;
    bmb_feed *feed = bmb_feeds_at(&d->feeds, index);
#if BMB_WITH_CHANGES
    if (feed == NULL && index < d->feeds.count && d->feeds.feed[index].paused != 0) feed = &d->feeds.feed[index];
#endif
    if (feed == NULL) return BMB_NOT_FOUND;
    x->now = bmb_clock(x);
    feed->removed = true;
#if BMB_WITH_FOLLOWING
    bmb_follow_release(d, feed);
#endif
    if (BMB_WITH_PUSH) bmb_pushes_end(&d->pushes, feed);
    bmb_talk_feed_gone(&d->talk, feed);
    if (BMB_WITH_MULTICAST) bmb_groups_feed_gone(&d->groups, feed);
    bmb_feed_end(x, feed);
    if (BMB_WITH_COMING) bmb_feed_gone(d, feed);
    return BMB_OK;
}

bmb_err bmb_control_set(bmb_device *d, size_t index, bmb_control control, int32_t value, int32_t *effective)
{
    *effective = 0;
    if (index >= d->feeds.count || !bmb_feed_is_there(&d->feeds.feed[index])) return BMB_NOT_FOUND;
    if (!BMB_WITH_CONTROLS || (size_t)control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    return bmb_feed_set(&d->context, &d->feeds.feed[index], control, value, effective);
}

bmb_err bmb_control_get(const bmb_device *d, size_t index, bmb_control control, int32_t *value)
{
    if (index >= d->feeds.count || !bmb_feed_is_there(&d->feeds.feed[index])) return BMB_NOT_FOUND;
    return bmb_camera_get(&d->context, &d->feeds.feed[index].camera, control, value);
}

bmb_err bmb_push_describe(const bmb_device *d, size_t index, char *out, size_t room, size_t *size)
{
    return BMB_WITH_PUSH && index < d->pushes.count ? bmb_pushes_describe(&d->pushes, index, out, room, size)
                                                    : BMB_NOT_FOUND;
}

void bmb_note(bmb_device *d, const bmb_event *event)
{
    d->context.now = bmb_clock(&d->context);
    bmb_tell(&d->context, event);
}

bmb_err bmb_outlet_addr(const bmb_device *d, size_t outlet, bmb_addr *out)
{
    if (outlet >= d->context.config->outlet_count || d->talk.outlets[outlet].sock == BMB_NO_SOCK) return BMB_NOT_FOUND;
    *out = d->talk.outlets[outlet].bound;
    return BMB_OK;
}
