#include "device/check.h"

#include <stddef.h>
#include <string.h>

#include "base/bounds.h"
#include "base/bytes.h"
#include "device/check_access.h"
#include "device/check_outlets.h"
#include "device/contract.h"
#include "device/follow.h"

/* Has it a mode of this codec? */
static bool has_codec(const bmb_camera_info *info, bmb_codec codec)
{
    for (uint8_t i = 0; info->modes != NULL && i < info->mode_count; i++)
        if (info->modes[i].codec == codec) return true;
    return false;
}

/* A stream of that camera that no other feed has: the first with the feed's codec, or the first. BMB_IN_USE:
 * all are taken. */
static bmb_err find_stream(const bmb_config *config, size_t feed, const uint16_t *taken, uint16_t *out,
                           bmb_camera_info *info)
{
    const bmb_cameras *cameras = &config->port->cameras;
    const bmb_feed_config *f = &config->feeds[feed];
    size_t count = cameras->count(cameras->ctx);
    bmb_err err = BMB_NOT_FOUND;
    bmb_camera_info one;
    for (size_t i = 0; i < count && i < UINT16_MAX; i++) {
        if (cameras->info(cameras->ctx, i, &one) != BMB_OK || strncmp(one.name, f->camera, sizeof one.name) != 0)
            continue;
        bool free = true;
        for (size_t k = 0; k < (BMB_WITH_CHANGES ? config->feed_count : feed); k++)
            free = free && (k == feed || taken[k] != i);
        if (err == BMB_NOT_FOUND) err = BMB_IN_USE;
        if (!free || (err == BMB_OK && !has_codec(&one, f->mode.codec))) continue;
        err = BMB_OK;
        *info = one;
        *out = (uint16_t)i;
        if (has_codec(info, f->mode.codec)) break;
    }
    return err;
}

static uint16_t slots_of(const bmb_feed_config *feed, const bmb_camera_info *info)
{
    if (feed->storage == BMB_BORROWED) return (uint16_t)(info->buffers - 1);
    size_t slots = feed->reel_bytes / feed->frame_max * BMB_SLOTS_PER_FRAME;
    if (slots < BMB_SLOTS_LEAST) slots = BMB_SLOTS_LEAST;
    return (uint16_t)(slots > BMB_SLOTS_MOST ? BMB_SLOTS_MOST : slots);
}

/* What one member of the configuration may be. */
typedef struct bound {
    const char *key;
    uint16_t at, size;
    uint32_t least, most;
} bound;

#define MEMBER(type, name) offsetof(type, name), sizeof((type *)0)->name
#define COUNT(a) (sizeof(a) / sizeof((a)[0]))

static const bound config_bounds[] = {
    { "feeds", MEMBER(bmb_config, feed_count), 1, BMB_FEEDS_MOST },
    { "outlets", MEMBER(bmb_config, outlet_count), 0, BMB_OUTLETS_MOST },
    { "pushes", MEMBER(bmb_config, push_count), 0, BMB_PUSHES_MOST },
    { "viewers", MEMBER(bmb_config, viewers), 1, 4000 },
    { "host_viewers", MEMBER(bmb_config, host_viewers), 0, 4000 },
    { "spare", MEMBER(bmb_config, spare), 1, 64 },
    { "events", MEMBER(bmb_config, events), 0, 4096 },
    { "request_buffer", MEMBER(bmb_config, request_buffer), 1536, 16384 },
    { "rtp_packet", MEMBER(bmb_config, rtp_packet), 256, 8900 },
    { "stall_ms", MEMBER(bmb_config, stall_ms), 100, 600000 },
    { "request_ms", MEMBER(bmb_config, request_ms), 100, 600000 },
    { "idle_ms", MEMBER(bmb_config, idle_ms), 100, 600000 },
    { "session_ms", MEMBER(bmb_config, session_ms), 1000, 600000 },
    { "unsent_ms", MEMBER(bmb_config, unsent_ms), 20, 5000 },
};

static const bound feed_bounds[] = {
    { "codec", MEMBER(bmb_feed_config, mode.codec), 0, BMB_CODEC_COUNT - 1 },
    { "width", MEMBER(bmb_feed_config, mode.width), 16, 8192 },
    { "height", MEMBER(bmb_feed_config, mode.height), 16, 8192 },
    { "rate", MEMBER(bmb_feed_config, mode.mfps), 1, 240000 },
    { "frame_max", MEMBER(bmb_feed_config, frame_max), 256, INT32_MAX },
    { "storage", MEMBER(bmb_feed_config, storage), BMB_KEPT, BMB_BORROWED },
};

static bmb_err check_bound(const char *part, const char *key, const char *name, int64_t value, uint32_t least,
                           uint32_t most, bmb_fault *fault)
{
    if (value >= least && value <= most) return BMB_OK;
    return bmb_blame(fault, BMB_BAD_ARG, part, key, name, value, value < least ? least : most);
}

static bmb_err check_bounds(const void *of, const bound *bounds, size_t count, const char *part, const char *name,
                            bmb_fault *fault)
{
    bmb_err err = BMB_OK;
    for (const bound *b = bounds; err == BMB_OK && b < bounds + count; b++)
        err = check_bound(part, b->key, name, (int64_t)bmb_member(of, b->at, b->size), b->least, b->most, fault);
    return err;
}

static bmb_err blame_feed(bmb_fault *fault, bmb_err err, const char *key, const char *name)
{
    return bmb_blame(fault, err, "feed", key, name, 0, 0);
}

static bool good_name(const char *name)
{
    size_t n = 0;
    for (; name != NULL && name[n] != '\0'; n++) {
        char c = name[n];
        bool ok = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-' || c == '_';
        if (!ok || n + 1 >= BMB_NAME_MAX) return false;
    }
    return n > 0;
}

static bool same_group(const bmb_addr *a, const bmb_addr *b)
{
    return a->family != 0 && bmb_same_host(a, b) && a->port == b->port;
}

/* Parity goes two ports higher. */
static bool groups_meet(const bmb_multicast *a, const bmb_multicast *b)
{
    bmb_addr above_a = a->group, above_b = b->group;
    above_a.port = (uint16_t)(above_a.port + 2);
    above_b.port = (uint16_t)(above_b.port + 2);
    return same_group(&a->group, &b->group) || (BMB_WITH_PARITY && a->parity > 0 && same_group(&above_a, &b->group)) ||
           (BMB_WITH_PARITY && b->parity > 0 && same_group(&a->group, &above_b));
}

static bool good_group(const bmb_multicast *m)
{
    const bmb_addr *g = &m->group;
    if (g->family == 0) return true;
    bool multicast = g->family == 6 ? g->ip[0] == 0xFF : g->ip[0] >= 224 && g->ip[0] <= 239;
    return multicast && g->port >= 1024 && g->port % 2 == 0 && m->parity != 1 && m->parity <= 16;
}

static bmb_err check_feed_names(const bmb_config *config, size_t index, const bmb_plan *plan, bmb_fault *fault)
{
    const bmb_feed_config *f = &config->feeds[index];
    if (!good_group(&f->multicast)) {
        bmb_blame(fault, BMB_BAD_ARG, "feed", "multicast", f->name, f->multicast.group.port, 0);
        return BMB_BAD_ARG;
    }
    if (!good_name(f->name)) return blame_feed(fault, BMB_BAD_ARG, "name", f->name);
    /* Firmware has its texts from its source. */
    if (BMB_WITH_SERVICE && f->title != NULL && !bmb_text_is_utf8(f->title, strlen(f->title)))
        return blame_feed(fault, BMB_BAD_DATA, "title", f->name);
    if (f->title != NULL && strlen(f->title) > 63)
        return bmb_blame(fault, BMB_BAD_ARG, "feed", "title", f->name, (int64_t)strlen(f->title), 63);
    for (size_t i = 0; i < config->feed_count; i++) {
        if (i == index || plan->camera[i] == BMB_NO_CAMERA) continue;
        if (groups_meet(&f->multicast, &config->feeds[i].multicast))
            return blame_feed(fault, BMB_IN_USE, "multicast", f->name);
        if (strcmp(config->feeds[i].name, f->name) == 0) return blame_feed(fault, BMB_IN_USE, "name", f->name);
    }
    return BMB_OK;
}

static bmb_err check_feed_values(const bmb_feed_config *f, const bmb_camera_info *info, bmb_fault *fault)
{
    bmb_err err = check_bounds(f, feed_bounds, COUNT(feed_bounds), "feed", f->name, fault);
    if (err == BMB_OK && f->storage == BMB_KEPT)
        err = check_bound("feed", "reel_bytes", f->name, f->reel_bytes, f->frame_max, INT32_MAX, fault);
    const bmb_daylight_config *day = &f->daylight;
    if (BMB_WITH_DAYLIGHT && err == BMB_OK && day->dark > 0)
        err = check_bound("feed", "bright", f->name, day->bright, day->dark, 254, fault);
    if (BMB_WITH_DAYLIGHT && err == BMB_OK && day->dark > 0 && f->mode.codec != BMB_CODEC_JPEG)
        err = blame_feed(fault, BMB_UNSUPPORTED, "dark", f->name);
    if (err == BMB_OK && f->storage == BMB_BORROWED)
        err = check_bound("feed", "buffers", f->name, info->buffers, 3, 255, fault);
    return err;
}

static bmb_err plan_feed(const bmb_config *config, size_t index, bmb_plan *out, bmb_fault *fault)
{
    const bmb_feed_config *f = &config->feeds[index];
    bmb_camera_info info = { 0 };
    bmb_err err = BMB_WITH_CHECKS ? check_feed_names(config, index, out, fault) : BMB_OK;
    if (err != BMB_OK) return err;
    err = f->camera != NULL ? find_stream(config, index, out->camera, &out->camera[index], &info) : BMB_NOT_FOUND;
    if (err == BMB_IN_USE) return blame_feed(fault, err, "camera", f->camera);
    if (err != BMB_OK) return bmb_blame(fault, err, "camera", "camera", f->camera, 0, 0);
    if (BMB_WITH_CHECKS) err = check_feed_values(f, &info, fault);
    if (err == BMB_OK) out->slots[index] = slots_of(f, &info);
    return err;
}

/* Feeds of one camera: can it have them all at a time? */
static bmb_err check_together(const bmb_config *config, const bmb_plan *plan, bmb_fault *fault)
{
    const bmb_cameras *cameras = &config->port->cameras;
    for (size_t first = 0; cameras->together != NULL && first < config->feed_count; first++) {
        if (plan->camera[first] == BMB_NO_CAMERA) continue;
        size_t indices[BMB_STREAMS_MOST], feeds[BMB_STREAMS_MOST], count = 0, culprit = 0;
        bmb_mode modes[BMB_STREAMS_MOST];
        const char *name = config->feeds[first].camera;
        for (size_t i = 0; i < config->feed_count && count < BMB_STREAMS_MOST; i++) {
            if (plan->camera[i] == BMB_NO_CAMERA || strcmp(config->feeds[i].camera, name) != 0) continue;
            if (i < first) break; /* asked already, with that one */
            indices[count] = plan->camera[i];
            modes[count] = config->feeds[i].mode;
            feeds[count++] = i;
        }
        if (count == 0 || cameras->together(cameras->ctx, indices, modes, count, &culprit) == BMB_OK) continue;
        return blame_feed(fault, BMB_UNSUPPORTED, "together", config->feeds[feeds[culprit < count ? culprit : 0]].name);
    }
    return BMB_OK;
}

static const char *missing_for(bmb_stream_format format);

static const char *missing_for_push(const bmb_push_config *p)
{
    return !BMB_WITH_TLS && p->secure ? "BMB_WITH_TLS" : missing_for(p->format);
}

/* The option that a plain connection or a push needs for its format; NULL: it is there. */
static const char *missing_for(bmb_stream_format format)
{
    if (!BMB_WITH_TS && format == BMB_FORMAT_TS) return "BMB_WITH_TS";
    return !BMB_WITH_FRAMED && format == BMB_FORMAT_FRAMED ? "BMB_WITH_FRAMED" : NULL;
}

static const char *missing_for_outlet(const bmb_outlet_config *o)
{
    if (!BMB_WITH_HTTP && o->kind == BMB_OUTLET_HTTP) return "BMB_WITH_HTTP";
    if (!BMB_WITH_RTSP && o->kind == BMB_OUTLET_RTSP) return "BMB_WITH_RTSP";
    if (!BMB_WITH_TLS && o->secure) return "BMB_WITH_TLS";
    /* Elsewhere is an outlet that is secure: without TLS, that one is asked about. */
    if (BMB_WITH_TLS && !BMB_WITH_ACCESS && o->elsewhere != 0) return "BMB_WITH_ACCESS";
    if (o->kind != BMB_OUTLET_TCP) return NULL;
    return BMB_WITH_PLAIN ? missing_for(o->format) : "BMB_WITH_PLAIN";
}

static const char *missing_for_feed(const bmb_feed_config *f)
{
    if (!BMB_WITH_H264 && f->mode.codec == BMB_CODEC_H264) return "BMB_WITH_H264";
    if (!BMB_WITH_MULTICAST && f->multicast.group.family != 0) return "BMB_WITH_MULTICAST";
    if (!BMB_WITH_PARITY && BMB_WITH_MULTICAST && f->multicast.parity > 0) return "BMB_WITH_PARITY";
    if (!BMB_WITH_CONTROLS && (f->setting_count > 0 || f->keep_controls)) return "BMB_WITH_CONTROLS";
    if (!BMB_WITH_DAYLIGHT && f->daylight.dark > 0) return "BMB_WITH_DAYLIGHT";
    if (!BMB_WITH_FOLLOWING && (f->step != NULL || f->follow != BMB_FOLLOW_NOBODY)) return "BMB_WITH_FOLLOWING";
    if (!BMB_WITH_RESTING && f->camera_rests) return "BMB_WITH_RESTING";
    return !BMB_WITH_RATE && f->kbps > 0 ? "BMB_WITH_RATE" : NULL;
}

/* What was left out when the core was compiled (bambino/options.h) and is asked for; NULL: nothing. */
static const char *missing(const bmb_config *config)
{
    const char *option = NULL;
    if (!BMB_WITH_PAGE && config->asset_count > 0) return "BMB_WITH_PAGE";
    if (!BMB_WITH_PUSH && config->push_count > 0) return "BMB_WITH_PUSH";
    if (!BMB_WITH_EVENTS && config->events > 0) return "BMB_WITH_EVENTS";
    if (!BMB_WITH_SERVICE && config->service != NULL) return "BMB_WITH_SERVICE";
    if (!BMB_WITH_CHANGES && bmb_reserves(config)) return "BMB_WITH_CHANGES";
    const bmb_reserve *more = &config->reserve;
    if (!BMB_WITH_COMING && bmb_reserves(config) && (more->feeds > 0 || more->outlets > 0 || more->pushes > 0))
        return "BMB_WITH_COMING";
    if (!BMB_WITH_REPEATS && BMB_WITH_RTSP && config->repeats) return "BMB_WITH_REPEATS";
    if (!BMB_WITH_FOLLOWING && config->uplink_kbps > 0) return "BMB_WITH_FOLLOWING";
    if (!BMB_WITH_ACCESS && (config->access != NULL || config->name_count > 0 || config->origin_count > 0))
        return "BMB_WITH_ACCESS";
    for (size_t i = 0; i < config->feed_count && option == NULL; i++) option = missing_for_feed(&config->feeds[i]);
    for (size_t i = 0; i < config->outlet_count && option == NULL; i++)
        option = missing_for_outlet(&config->outlets[i]);
    for (size_t i = 0; i < config->push_count && option == NULL; i++) option = missing_for_push(&config->pushes[i]);
    return option;
}

static bmb_err check_values(const bmb_config *config, bmb_fault *fault)
{
    if (BMB_WITH_SERVICE && config->name != NULL && !bmb_text_is_utf8(config->name, strlen(config->name)))
        return bmb_blame(fault, BMB_BAD_DATA, "config", "name", NULL, 0, 0);
    const bmb_reserve nothing = { .changes = false }, *more = bmb_reserves(config) ? &config->reserve : &nothing;
    bmb_err err = check_bounds(config, config_bounds, COUNT(config_bounds), "config", NULL, fault);
    if (err == BMB_OK)
        err = check_bound("config", "feeds", NULL, (int64_t)config->feed_count + more->feeds, 1, BMB_FEEDS_MOST, fault);
    if (err == BMB_OK)
        err = check_bound("config", "outlets", NULL, (int64_t)config->outlet_count + more->outlets, 0, BMB_OUTLETS_MOST,
                          fault);
    if (err == BMB_OK)
        err = check_bound("config", "pushes", NULL, (int64_t)config->push_count + more->pushes, 0, BMB_PUSHES_MOST,
                          fault);
    if (err == BMB_OK && config->push_count == 0) /* it would send nothing to anybody */
        err = check_bound("config", "outlets", NULL, (int64_t)config->outlet_count, 1, BMB_OUTLETS_MOST, fault);
    return err;
}

static bmb_err blame_build(bmb_fault *fault, const char *option)
{
    return option != NULL ? bmb_blame(fault, BMB_UNSUPPORTED, "build", option, NULL, 0, 0) : BMB_OK;
}

bmb_err bmb_config_check(const bmb_config *config, bmb_plan *out, bmb_fault *fault)
{
    bmb_err err = BMB_WITH_CHECKS ? check_values(config, fault) : BMB_OK;
    if (err == BMB_OK) err = blame_build(fault, missing(config));
    if (BMB_WITH_CHECKS && err == BMB_OK) err = bmb_contract_check(config, fault);
    if (BMB_WITH_ACCESS && err == BMB_OK) err = bmb_access_check(config->access, config->port, fault);
    for (size_t i = 0; (BMB_WITH_CHANGES || BMB_WITH_CHECKS) && i < BMB_FEEDS_MOST; i++) out->camera[i] = BMB_NO_CAMERA;
    for (size_t i = 0; err == BMB_OK && i < config->feed_count; i++) err = plan_feed(config, i, out, fault);
    if (BMB_WITH_CHECKS && err == BMB_OK) err = check_together(config, out, fault);
#if BMB_WITH_FOLLOWING
    for (size_t i = 0; BMB_WITH_CHECKS && err == BMB_OK && i < config->feed_count; i++)
        err = bmb_follow_check(config, i, fault);
#endif
    return BMB_WITH_CHECKS && err == BMB_OK ? bmb_check_outlets(config, fault) : err;
}

#if BMB_WITH_CHANGES
bmb_err bmb_feed_check(const bmb_config *config, size_t index, bmb_plan *plan, bmb_fault *fault)
{
    bmb_err err = blame_build(fault, missing_for_feed(&config->feeds[index]));
    if (err == BMB_OK) err = plan_feed(config, index, plan, fault);
    if (err == BMB_OK) err = check_together(config, plan, fault);
#if BMB_WITH_FOLLOWING
    if (err == BMB_OK) err = bmb_follow_check(config, index, fault);
#endif
    for (size_t i = 0; err == BMB_OK && i < config->outlet_count; i++) {
        const bmb_outlet_config *o = &config->outlets[i];
        if (o->kind == BMB_OUTLET_TCP && o->listen.family != 0 && o->feed == index)
            err = bmb_check_stream(config, "outlet", o->feed, o->format, true, &o->listen, fault);
    }
    for (size_t i = 0; err == BMB_OK && i < config->push_count; i++) {
        const bmb_push_config *p = &config->pushes[i];
        if (p->to.family != 0 && p->feed == index)
            err = bmb_check_stream(config, "push", p->feed, p->format, p->tcp, &p->to, fault);
    }
    return err;
}

bmb_err bmb_values_check(const bmb_config *config, bmb_fault *fault)
{
    return check_bounds(config, config_bounds, COUNT(config_bounds), "config", NULL, fault);
}

bmb_err bmb_outlet_check(const bmb_config *config, size_t index, bmb_fault *fault)
{
    bmb_err err = blame_build(fault, missing_for_outlet(&config->outlets[index]));
    return err == BMB_OK ? bmb_check_outlet(config, index, fault) : err;
}

bmb_err bmb_push_check(const bmb_config *config, size_t index, bmb_fault *fault)
{
    bmb_err err = blame_build(fault, missing_for_push(&config->pushes[index]));
    return err == BMB_OK ? bmb_check_push(config, index, fault) : err;
}
#endif
