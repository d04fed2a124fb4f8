/* Opening, stepping and closing the device. */
#include <string.h>

#include "base/block.h"
#include "device/state.h"
#include "serve/formats.h"

static uint16_t conns_of(const bmb_config *config)
{
    size_t pushes = 0;
    for (size_t i = 0; i < config->push_count; i++) pushes += config->pushes[i].tcp;
    return (uint16_t)(config->viewers + config->spare + pushes);
}

/* Without an RTSP outlet there are no sessions, and they cost nothing. */
static uint16_t sessions_of(const bmb_config *config)
{
    for (size_t i = 0; i < config->outlet_count; i++)
        if (config->outlets[i].kind == BMB_OUTLET_RTSP) return config->viewers;
    return 0;
}

static bmb_err find_camera(const bmb_port *port, const char *name, size_t *index, bmb_camera_info *info)
{
    size_t count = port->cameras.count(port->cameras.ctx);
    for (size_t i = 0; i < count && i < UINT16_MAX; i++) {
        if (port->cameras.info(port->cameras.ctx, i, info) != BMB_OK ||
            strncmp(info->name, name, sizeof info->name) != 0)
            continue;
        *index = i;
        return BMB_OK;
    }
    return BMB_NOT_FOUND;
}

/* What is asked of the port once, so that the counting and the laying out cannot see different answers. */
typedef struct plan {
    uint16_t camera[BMB_FEEDS_MOST], slots[BMB_FEEDS_MOST];
} plan;

static uint16_t slots_of(const bmb_feed_config *feed, const bmb_camera_info *info)
{
    if (feed->storage == BMB_BORROWED) return (uint16_t)(info->buffers - 1);
    size_t slots = feed->reel_bytes / feed->frame_max * BMB_SLOTS_PER_FRAME;
    if (slots < BMB_SLOTS_LEAST) slots = BMB_SLOTS_LEAST;
    return (uint16_t)(slots > BMB_SLOTS_MOST ? BMB_SLOTS_MOST : slots);
}

/* What one configuration value may be. */
typedef struct bound {
    const char *key;
    int64_t value, least, most;
} bound;

bmb_err bmb_blame(bmb_fault *fault, bmb_err err, const char *part, const char *key, const char *name, int64_t asked,
                  int64_t have)
{
    if (fault != NULL)
        *fault = (bmb_fault){ .err = err, .part = part, .key = key, .name = name, .asked = asked, .have = have };
    return err;
}

static bmb_err check_bounds(const bound *bounds, size_t count, const char *part, const char *name, bmb_fault *fault)
{
    for (size_t i = 0; i < count; i++) {
        const bound *b = &bounds[i];
        if (b->value < b->least) return bmb_blame(fault, BMB_BAD_ARG, part, b->key, name, b->value, b->least);
        if (b->value > b->most) return bmb_blame(fault, BMB_BAD_ARG, part, b->key, name, b->value, b->most);
    }
    return BMB_OK;
}
#define COUNT(a) (sizeof(a) / sizeof((a)[0]))

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

static bool same_group(const bmb_addr *a, const bmb_addr *b)
{
    return a->family != 0 && bmb_same_host(a, b) && a->port == b->port;
}

static bool good_group(const bmb_multicast *m)
{
    const bmb_addr *g = &m->group;
    if (g->family == 0) return true;
    bool multicast = g->family == 6 ? g->ip[0] == 0xFF : g->ip[0] >= 224 && g->ip[0] <= 239;
    return multicast && g->port >= 1024 && g->port % 2 == 0;
}

static bmb_err check_feed(const bmb_config *config, size_t index, plan *out, bmb_fault *fault)
{
    const bmb_feed_config *f = &config->feeds[index];
    bmb_camera_info info = { 0 };
    size_t camera;
    if (!good_group(&f->multicast)) {
        bmb_blame(fault, BMB_BAD_ARG, "feed", "multicast", f->name, f->multicast.group.port, 0);
        return BMB_BAD_ARG;
    }
    if (!good_name(f->name)) return bmb_blame(fault, BMB_BAD_ARG, "feed", "name", f->name, 0, 0);
    if (f->title != NULL && strlen(f->title) > 63)
        return bmb_blame(fault, BMB_BAD_ARG, "feed", "title", f->name, (int64_t)strlen(f->title), 63);
    for (size_t i = 0; i < index; i++) {
        if (same_group(&f->multicast.group, &config->feeds[i].multicast.group))
            return bmb_blame(fault, BMB_IN_USE, "feed", "multicast", f->name, 0, 0);
        if (strcmp(config->feeds[i].name, f->name) == 0)
            return bmb_blame(fault, BMB_IN_USE, "feed", "name", f->name, 0, 0);
        if (f->camera != NULL && strcmp(config->feeds[i].camera, f->camera) == 0)
            return bmb_blame(fault, BMB_IN_USE, "feed", "camera", f->camera, 0, 0);
    }
    if (f->camera == NULL || find_camera(config->port, f->camera, &camera, &info) != BMB_OK)
        return bmb_blame(fault, BMB_NOT_FOUND, "camera", "camera", f->camera, 0, 0);
    const bound bounds[] = {
        { "codec", (int64_t)f->mode.codec, 0, BMB_CODEC_COUNT - 1 },
        { "width", f->mode.width, 16, 8192 },
        { "height", f->mode.height, 16, 8192 },
        { "rate", f->mode.mfps, 1, 240000 },
        { "frame_max", f->frame_max, 256, INT32_MAX },
        { "reel_bytes", f->storage == BMB_KEPT ? f->reel_bytes : f->frame_max, f->frame_max, INT32_MAX },
        { "buffers", f->storage == BMB_BORROWED ? info.buffers : 3, 3, 255 },
    };
    bmb_err err = check_bounds(bounds, COUNT(bounds), "feed", f->name, fault);
    if (err != BMB_OK) return err;
    out->camera[index] = (uint16_t)camera;
    out->slots[index] = slots_of(f, &info);
    return BMB_OK;
}

static bmb_err check_stream(const bmb_config *config, const char *part, uint16_t feed, bmb_stream_format format,
                            bool tcp, const bmb_addr *addr, bmb_fault *fault)
{
    bmb_err err = BMB_OK;
    const char *name = NULL;
    if (feed >= config->feed_count && (feed != BMB_NO_FEED || format != BMB_FORMAT_FRAMED)) {
        err = bmb_blame(fault, BMB_NOT_FOUND, part, "feed", NULL, feed, (int64_t)config->feed_count);
    } else if (feed == BMB_NO_FEED) {
        return BMB_OK;
    } else if (bmb_stream_framer(format, config->feeds[feed].mode.codec, tcp) == NULL) {
        name = config->feeds[feed].name;
        err = bmb_blame(fault, BMB_UNSUPPORTED, part, "format", name, (int64_t)format,
                        (int64_t)config->feeds[feed].mode.codec);
    }
    if (err != BMB_OK && fault != NULL) fault->addr = *addr;
    return err;
}

static bmb_err check_outlets(const bmb_config *config, bmb_fault *fault)
{
    bmb_err err = BMB_OK;
    for (size_t i = 0; err == BMB_OK && i < config->outlet_count; i++) {
        const bmb_outlet_config *o = &config->outlets[i];
        if (o->kind == BMB_OUTLET_TCP)
            err = check_stream(config, "outlet", o->feed, o->format, true, &o->listen, fault);
    }
    for (size_t i = 0; err == BMB_OK && i < config->push_count; i++) {
        const bmb_push_config *p = &config->pushes[i];
        err = check_stream(config, "push", p->feed, p->format, p->tcp, &p->to, fault);
        if (err == BMB_OK && (p->to.family == 0 || p->to.port == 0 || p->feed >= config->feed_count))
            err = bmb_blame(fault, BMB_BAD_ARG, "push", "to", NULL, p->to.port, 0);
    }
    return err;
}

static bmb_err check(const bmb_config *config, plan *out, bmb_fault *fault)
{
    const bound bounds[] = {
        { "feeds", (int64_t)config->feed_count, 1, BMB_FEEDS_MOST },
        { "outlets", (int64_t)config->outlet_count, config->push_count > 0 ? 0 : 1, BMB_OUTLETS_MOST },
        { "pushes", (int64_t)config->push_count, 0, BMB_PUSHES_MOST },
        { "viewers", config->viewers, 1, 4000 },
        { "spare", config->spare, 1, 64 },
        { "request_buffer", config->request_buffer, 1536, 16384 },
        { "rtp_packet", config->rtp_packet, 256, 8900 },
        { "stall_ms", config->stall_ms, 100, 600000 },
        { "request_ms", config->request_ms, 100, 600000 },
        { "idle_ms", config->idle_ms, 100, 600000 },
        { "session_ms", config->session_ms, 1000, 600000 },
        { "unsent_ms", config->unsent_ms, 20, 5000 },
    };
    bmb_err err = check_bounds(bounds, COUNT(bounds), "config", NULL, fault);
    if (err == BMB_OK) err = bmb_contract_check(config, fault);
    for (size_t i = 0; err == BMB_OK && i < config->feed_count; i++) err = check_feed(config, i, out, fault);
    return err == BMB_OK ? check_outlets(config, fault) : err;
}

void bmb_config_init(bmb_config *config)
{
    memset(config, 0, sizeof *config);
    config->name = "bambino";
    config->viewers = 16;
    config->spare = 8;
    config->request_buffer = 3072;
    config->rtp_packet = 1400;
    config->stall_ms = 5000;
    config->request_ms = 10000;
    config->idle_ms = 30000;
    config->session_ms = 60000;
    config->unsent_ms = 80;
}

static void lay_out_reel(bmb_block *b, const bmb_feed_config *config, const bmb_port *port, size_t camera,
                         uint16_t slots, bmb_feed *feed)
{
    bmb_frame *frames = (bmb_frame *)bmb_block_take(b, slots * sizeof(bmb_frame));
    uint8_t *memory = config->storage == BMB_KEPT ? (uint8_t *)bmb_block_take(b, config->reel_bytes) : NULL;
    size_t facts_size = config->mode.codec == BMB_CODEC_H264 ? sizeof(bmb_h264_facts) : sizeof(bmb_jpeg_facts);
    uint8_t *facts = (uint8_t *)bmb_block_take(b, slots * bmb_align(facts_size));
    if (feed == NULL) return;
    feed->config = config;
    feed->camera = camera;
    feed->mode = config->mode;
    if (config->storage == BMB_KEPT) {
        bmb_reel_init_kept(&feed->reel, memory, config->reel_bytes, config->frame_max, frames, slots);
    } else {
        bmb_reel_init_borrowed(&feed->reel, frames, slots, &port->cameras, camera);
    }
    for (uint16_t i = 0; i < slots; i++) frames[i].facts = facts + i * bmb_align(facts_size);
}

/* The whole block, in the order of the budget's parts. With memory it also builds the device. */
static bmb_device *lay_out(void *memory, const bmb_config *config, const plan *p, bmb_budget *budget)
{
    bmb_block b = bmb_block_of(memory);
    size_t mark = 0;
    size_t *const parts[] = { &budget->device,  &budget->feeds,  &budget->reels,
                              &budget->viewers, &budget->pushes, &budget->request_buffers };
    size_t part = 0;
    memset(budget, 0, sizeof *budget);
#define END_OF_PART (*parts[part++] = b.used - mark, mark = b.used)

    bmb_device *d = (bmb_device *)bmb_block_take_zeroed(&b, 1, sizeof *d);
    END_OF_PART;
    bmb_feed *feeds = (bmb_feed *)bmb_block_take_zeroed(&b, config->feed_count, sizeof *feeds);
    END_OF_PART;
    for (size_t i = 0; i < config->feed_count; i++)
        lay_out_reel(&b, &config->feeds[i], config->port, p->camera[i], p->slots[i], feeds != NULL ? &feeds[i] : NULL);
    END_OF_PART;
    uint16_t conn_most = conns_of(config);
    bmb_conn *conns = (bmb_conn *)bmb_block_take_zeroed(&b, conn_most, sizeof *conns);
    uint16_t session_most = sessions_of(config);
    bmb_session *sessions = (bmb_session *)bmb_block_take_zeroed(&b, session_most, sizeof *sessions);
    END_OF_PART;
    bmb_push *pushes = (bmb_push *)bmb_block_take_zeroed(&b, config->push_count, sizeof *pushes);
    END_OF_PART;
    uint16_t rx_room = config->request_buffer / 3, tx_room = (uint16_t)(config->request_buffer - rx_room);
    for (uint16_t i = 0; i < conn_most; i++) {
        uint8_t *rx = (uint8_t *)bmb_block_take(&b, rx_room), *tx = (uint8_t *)bmb_block_take(&b, tx_room);
        if (conns == NULL) continue;
        conns[i].rx = rx;
        conns[i].tx = tx;
    }
    END_OF_PART;
#undef END_OF_PART

    budget->total = b.used;
    budget->per_feed = sizeof(bmb_feed);
    budget->per_viewer_http = sizeof(bmb_conn);
    budget->per_viewer_tcp = sizeof(bmb_conn);
    budget->per_viewer_rtsp = sizeof(bmb_conn) + sizeof(bmb_session);
    if (d == NULL) return NULL;
    d->config = config;
    d->port = config->port;
    d->feeds = feeds;
    d->conns = conns;
    d->conn_most = conn_most;
    d->sessions = sessions;
    d->session_most = session_most;
    d->pace_us = d->idle_us = UINT64_MAX;
    d->pushes = pushes;
    d->conn_open = (uint16_t)(config->viewers + config->spare);
    d->rx_room = rx_room;
    d->tx_room = tx_room;
    return d;
}

static bmb_err plan_and_count(const bmb_config *config, plan *p, bmb_budget *out, bmb_fault *fault)
{
    bmb_err err = check(config, p, fault);
    if (err != BMB_OK) return err;
    (void)lay_out(NULL, config, p, out);
    return out->total == SIZE_MAX ? bmb_blame(fault, BMB_NO_MEMORY, "memory", "total", NULL, INT64_MAX, 0) : BMB_OK;
}

bmb_err bmb_budget_of(const bmb_config *config, bmb_budget *out, bmb_fault *fault)
{
    plan p;
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

static bmb_err open_outlets(bmb_device *d, bmb_fault *fault)
{
    const bmb_config *config = d->config;
    for (size_t i = 0; i < BMB_OUTLETS_MOST; i++) d->outlets[i].sock = BMB_NO_SOCK;
    for (size_t i = 0; i < config->outlet_count; i++) {
        bmb_outlet *o = &d->outlets[i];
        o->config = &config->outlets[i];
        bmb_err err = d->port->net.listen(d->port->ctx, &o->config->listen, &o->sock, &o->bound);
        if (err == BMB_OK) err = d->port->net.watch(d->port->ctx, o->sock, BMB_READABLE, (uint32_t)i);
        if (err == BMB_OK) continue;
        bmb_blame(fault, err, "outlet", "listen", NULL, 0, 0);
        if (fault != NULL) fault->addr = o->config->listen;
        return err;
    }
    return BMB_OK;
}

/* RFC 7022 4.2: unique on the network and over restarts, and tells nothing about the device. */
static void make_cname(bmb_device *d)
{
    uint8_t bits[12];
    d->port->random(d->port->ctx, bits, sizeof bits);
    bmb_writer w = bmb_writer_of(d->cname, sizeof d->cname - 1);
    bmb_put_base64(&w, bits, sizeof bits);
    d->cname[sizeof d->cname - 1] = '\0';
}

bmb_err bmb_open(const bmb_config *config, void *memory, size_t size, bmb_device **out, bmb_fault *fault)
{
    bmb_budget budget;
    plan p;
    *out = NULL;
    bmb_err err = plan_and_count(config, &p, &budget, fault);
    if (err != BMB_OK) return err;
    if (memory == NULL || size < budget.total)
        return bmb_blame(fault, BMB_NO_MEMORY, "memory", largest_part(&budget), NULL, (int64_t)budget.total,
                         (int64_t)size);

    size_t memory_size = budget.total;
    bmb_device *d = lay_out(memory, config, &p, &budget);
    d->memory = memory_size;
    d->now = d->start_us = d->port->now_us(d->port->ctx);
    bmb_log_start(&d->gate, d->now);
    make_cname(d);
    if (d->port->light != NULL) d->port->light(d->port->ctx, d->light);
    err = open_outlets(d, fault);
    if (err != BMB_OK) {
        bmb_close(d);
        return err;
    }
    for (size_t i = 0; i < config->feed_count; i++) {
        bmb_rate_start(&d->feeds[i].rate, d->now);
        d->port->random(d->port->ctx, &d->feeds[i].sdp_id, sizeof d->feeds[i].sdp_id);
        d->feeds[i].sdp_id >>= 1; /* it is a number for those who read it with a sign, too */
        d->feeds[i].sdp_version = 1;
        bmb_feed_start(d, &d->feeds[i]);
        if (config->feeds[i].multicast.group.family != 0 && config->feeds[i].multicast.always)
            bmb_group_lease(d, &d->feeds[i], UINT64_MAX);
    }
    for (size_t i = 0; i < config->push_count; i++) bmb_push_start(d, &d->pushes[i], i);
    *out = d;
    return BMB_OK;
}

void bmb_close(bmb_device *d)
{
    if (d == NULL) return;
    for (size_t i = 0; i < d->config->push_count; i++) bmb_push_end(d, &d->pushes[i]);
    for (uint16_t i = 0; i < d->conn_most; i++) bmb_conn_close(d, &d->conns[i]);
    bmb_session_close_all(d);
    for (size_t i = 0; i < d->config->feed_count; i++) {
        bmb_feed *feed = &d->feeds[i];
        bmb_controls_keep(d, feed);
        if (feed->camera_state == BMB_CAMERA_STARTING || feed->camera_state == BMB_CAMERA_RUNNING)
            d->port->cameras.stop(d->port->cameras.ctx, feed->camera);
        bmb_reel_clear(&feed->reel);
    }
    for (size_t i = 0; i < d->config->outlet_count; i++)
        if (d->outlets[i].sock != BMB_NO_SOCK) d->port->net.close(d->port->ctx, d->outlets[i].sock);
    bmb_block_give_back(d, d->memory);
}

static void take_events(bmb_device *d)
{
    bmb_ready ready[BMB_READY_MOST];
    size_t n = d->port->net.ready(d->port->ctx, ready, BMB_READY_MOST);
    for (size_t i = 0; i < n && i < BMB_READY_MOST; i++) {
        if (ready[i].token < BMB_OUTLETS_MOST) {
            if (ready[i].token >= d->config->outlet_count) continue;
            bmb_conn_accept(d, &d->outlets[ready[i].token]);
            continue;
        }
        if (ready[i].token < BMB_TOKEN_CONN) {
            const bmb_udp_pair *pair = &d->udp[(ready[i].token - BMB_TOKEN_UDP) / 2 % 2];
            if (pair->port != 0) bmb_session_datagrams(d, ready[i].token % 2 == 0 ? pair->rtp : pair->rtcp);
            continue;
        }
        size_t index = ready[i].token - BMB_TOKEN_CONN;
        if (index < d->conn_most) bmb_conn_ready(d, &d->conns[index], ready[i].events);
    }
}

/* Frames that came in this step go to every viewer that can take them. */
static void deliver(bmb_device *d)
{
    for (uint16_t i = 0; i < d->conn_used; i++) {
        bmb_conn *c = &d->conns[i];
        if (c->state == BMB_CONN_WAITING) bmb_conn_sweep(d, c); /* a description may be possible now */
        (void)bmb_conn_deliver(d, c);
    }
    bmb_session_deliver(d, false);
    bmb_push_deliver(d, false);
    for (size_t i = 0; i < d->config->feed_count; i++) d->feeds[i].fresh = false;
}

/* What streams say between frames that are far apart. */
static void speak_between(bmb_device *d)
{
    d->idle_us = UINT64_MAX;
    for (uint16_t i = 0; i < d->conn_used; i++) bmb_conn_idle(d, &d->conns[i]);
    bmb_push_idle(d);
}

static void sweep(bmb_device *d)
{
    for (uint16_t i = 0; i < d->conn_used; i++) bmb_conn_sweep(d, &d->conns[i]);
    bmb_session_sweep(d);
    for (size_t i = 0; i < d->config->outlet_count; i++) {
        bmb_outlet *o = &d->outlets[i];
        if (o->paused_us == 0 || d->now < o->paused_us) continue;
        o->paused_us = 0;
        (void)d->port->net.watch(d->port->ctx, o->sock, BMB_READABLE, (uint32_t)i);
    }
}

static void show_light(bmb_device *d)
{
    size_t waiting = 0, running = 0;
    for (size_t i = 0; i < d->config->feed_count; i++) {
        waiting += d->feeds[i].camera_state == BMB_CAMERA_WAITING;
        running += d->feeds[i].camera_state == BMB_CAMERA_RUNNING;
    }
    bool offline = d->port->online != NULL && !d->port->online(d->port->ctx);
    bmb_light light = waiting > 0      ? BMB_LIGHT_NO_CAMERA
                      : offline        ? BMB_LIGHT_NO_NETWORK
                      : running == 0   ? BMB_LIGHT_STARTING
                      : d->viewers > 0 ? BMB_LIGHT_WATCHED
                                       : BMB_LIGHT_READY;
    if (light == d->light) return;
    d->light = light;
    if (d->port->light != NULL) d->port->light(d->port->ctx, light);
}

uint64_t bmb_step(bmb_device *d)
{
    d->now = d->port->now_us(d->port->ctx);
    bmb_pace_begin(&d->pace, d->now, d->start_us);
    bmb_log_tend(&d->gate, d->port, d->now);
    take_events(d);
    (void)bmb_turn(d, BMB_DOING_CAMERAS);
    bool fresh = false;
    for (size_t i = 0; i < d->config->feed_count; i++) {
        bmb_feed_take(d, &d->feeds[i]);
        fresh = fresh || d->feeds[i].fresh;
    }
    (void)bmb_turn(d, BMB_DOING_DELIVERY);
    if (fresh) {
        deliver(d);
    } else if (d->now >= d->pace_us) {
        bmb_session_deliver(d, true);
        bmb_push_deliver(d, true);
    }
    if (d->now >= d->idle_us) speak_between(d);
    (void)bmb_turn(d, BMB_DOING_TIMES);

    bool paused = false;
    for (size_t i = 0; i < d->config->outlet_count; i++) paused = paused || d->outlets[i].paused_us != 0;
    if (d->now >= d->sweep_us) {
        sweep(d);
        d->sweep_us = d->now + BMB_SWEEP_US;
    }
    bool leased = false;
    for (size_t i = 0; i < d->config->feed_count; i++) leased = leased || d->feeds[i].group.lease_us != 0;
    uint64_t push = bmb_push_sweep(d);
    if (d->now >= d->report_us) {
        bmb_report(d);
        d->report_us = d->now + BMB_REPORT_OUT_US;
    }
    bool busy = d->gate.suppressed > 0 || d->conn_live > 0 || d->config->push_count > 0 || d->session_live > 0 ||
                leased || paused;
    uint64_t next = busy ? d->sweep_us : UINT64_MAX;
    if (d->pace_us < next) next = d->pace_us;
    if (d->idle_us < next) next = d->idle_us;
    if (push < next) next = push;
    for (size_t i = 0; i < d->config->feed_count; i++) {
        uint64_t due = bmb_feed_tend(d, &d->feeds[i]);
        if (due < next) next = due;
    }
    show_light(d);
    bmb_pace_end(&d->pace, d->port->now_us(d->port->ctx), d->start_us, next);
    return next;
}

bmb_err bmb_outlet_addr(const bmb_device *d, size_t outlet, bmb_addr *out)
{
    if (outlet >= d->config->outlet_count) return BMB_NOT_FOUND;
    *out = d->outlets[outlet].bound;
    return BMB_OK;
}
