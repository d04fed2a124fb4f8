#include "serve/status.h"

#include <stddef.h>

#include "bambino/version.h"
#include "base/bytes.h"
#include "serve/formats.h"
#include "serve/json.h"

static void address_text(const bmb_addr *addr, char *out, size_t room)
{
    bmb_writer w = bmb_writer_of(out, room - 1);
    bmb_put_ip(&w, addr);
    out[bmb_written(&w)] = '\0';
}

/* How a member of the figures is told. */
typedef enum telling { NUMBER, YES_NO, THOUSANDTHS, MS_OF_US, S_OF_US } telling;

typedef struct member {
    const char *key;
    uint16_t at;
    uint8_t size, as;
} member;

#define MEMBER(key, type, name, as)                                                                                    \
    {                                                                                                                  \
        key, offsetof(type, name), sizeof((type *)0)->name, as                                                         \
    }
#define PUT(o, stats, table) put_members(o, stats, table, sizeof(table) / sizeof((table)[0]))

static void put_members(cJSON *o, const void *stats, const member *table, size_t count)
{
    for (const member *m = table; m < table + count; m++) {
        uint64_t value = bmb_member(stats, m->at, m->size);
        if (m->as == NUMBER) bmb_json_number(o, m->key, value);
        if (m->as == YES_NO) bmb_json_bool(o, m->key, value != 0);
        if (m->as == THOUSANDTHS) bmb_json_milli(o, m->key, (uint32_t)value);
        if (m->as == MS_OF_US) bmb_json_number(o, m->key, value / 1000);
        if (m->as == S_OF_US) bmb_json_milli(o, m->key, (uint32_t)(value / 1000));
    }
}

size_t bmb_status_device(const char *name, const bmb_device_stats *s, void *memory, size_t size, char *out, size_t room)
{
    static const member figures[] = {
        MEMBER("uptime_s", bmb_device_stats, uptime_us, S_OF_US),
        MEMBER("viewers", bmb_device_stats, viewers, NUMBER),
        MEMBER("viewers_most", bmb_device_stats, viewers_most, NUMBER),
        MEMBER("connections", bmb_device_stats, connections, NUMBER),
        MEMBER("connections_most", bmb_device_stats, connections_most, NUMBER),
        MEMBER("rtsp_sessions", bmb_device_stats, sessions, NUMBER),
        MEMBER("requests", bmb_device_stats, requests, NUMBER),
        MEMBER("bad_requests", bmb_device_stats, bad_requests, NUMBER),
        MEMBER("viewers_refused", bmb_device_stats, refused, NUMBER),
        MEMBER("accept_failed", bmb_device_stats, accept_failed, NUMBER),
        MEMBER("memory_bytes", bmb_device_stats, memory, NUMBER),
        MEMBER("longest_step_ms", bmb_device_stats, pace.step_us, THOUSANDTHS),
    };
    static const member moments[] = {
        MEMBER("longest_step_at_s", bmb_device_stats, pace.step_at_us, S_OF_US),
        MEMBER("longest_delay_ms", bmb_device_stats, pace.late_us, THOUSANDTHS),
        MEMBER("longest_delay_at_s", bmb_device_stats, pace.late_at_us, S_OF_US),
    };
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "name", name);
    bmb_json_text(o, "version", BMB_VERSION);
    if (BMB_WITH_TLS && s->fingerprint != NULL) bmb_json_text(o, "fingerprint", s->fingerprint);
    PUT(o, s, figures);
    bmb_json_text(o, "longest_step_doing", bmb_doing_name(s->pace.doing));
    PUT(o, s, moments);
    return bmb_json_end(o, out, room);
}

static void put_tally(cJSON *o, const bmb_tally *t)
{
    static const member figures[] = {
        MEMBER("sent", bmb_tally, frames, NUMBER),
        MEMBER("bytes_sent", bmb_tally, bytes, NUMBER),
        MEMBER("blocked_ms", bmb_tally, blocked_us, MS_OF_US),
    };
    PUT(o, t, figures);
}

size_t bmb_status_outlet(const bmb_outlet_stats *s, const char *feed, void *memory, size_t size, char *out, size_t room)
{
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "scheme", bmb_outlet_scheme(s->kind, s->secure));
    bmb_json_number(o, "port", s->addr.port);
    if (BMB_WITH_PLAIN && s->kind == BMB_OUTLET_TCP) {
        bmb_json_text(o, "format", bmb_stream_format_name(s->format));
        bmb_json_text(o, "feed", feed);
    }
    bmb_json_number(o, "viewers", s->viewers);
    put_tally(o, &s->out);
    return bmb_json_end(o, out, room);
}

size_t bmb_status_push(const char *feed, const bmb_push_stats *s, bool peers, void *memory, size_t size, char *out,
                       size_t room)
{
    static const member figures[] = {
        MEMBER("starts", bmb_push_stats, starts, NUMBER),
#if BMB_WITH_VIEWER_RATES
        MEMBER("fps", bmb_push_stats, mfps, THOUSANDTHS),
        MEMBER("kbps", bmb_push_stats, kbps, NUMBER),
#endif
        MEMBER("age_ms", bmb_push_stats, age_ms, NUMBER),
        MEMBER("skipped", bmb_push_stats, skipped, NUMBER),
    };
    char to[64];
    if (BMB_WITH_ACCESS && peers) address_text(&s->config->to, to, sizeof to);
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "feed", feed);
    bmb_json_text(o, "via", BMB_WITH_TLS && s->config->secure ? "tls" : s->config->tcp ? "tcp" : "udp");
    bmb_json_text(o, "format", bmb_stream_format_name(s->config->format));
    if (BMB_WITH_ACCESS && peers) {
        bmb_json_text(o, "to", to);
        bmb_json_number(o, "to_port", s->config->to.port);
    }
    bmb_json_text(o, "state", bmb_push_state_name(s->state));
    bmb_json_text(o, "error", s->err == BMB_OK ? NULL : bmb_err_name(s->err));
    bmb_json_bool(o, "confirmed", s->confirmed);
    PUT(o, s, figures);
    put_tally(o, &s->out);
    return bmb_json_end(o, out, room);
}

static void put_verdict(cJSON *o, const bmb_verdict *v)
{
    static const member figures[] = {
        MEMBER("held_is", bmb_verdict, is, NUMBER),
        MEMBER("held_of", bmb_verdict, of, NUMBER),
    };
    if (!BMB_WITH_VERDICTS) return;
    bmb_json_text(o, "held_by", bmb_cause_name(v->cause));
    if (v->cause != BMB_CAUSE_NOTHING) PUT(o, v, figures);
}

/* Over HTTP: the suffixes of its addresses. */
static void put_suffixes(cJSON *o, bmb_codec codec, bool snapshot)
{
    const bmb_format *format;
    cJSON *list = bmb_json_list(o, "suffixes");
    for (size_t i = 0; (format = bmb_format_row(i)) != NULL; i++)
        if (bmb_format_over_http(format, codec) || (BMB_WITH_SIZED_STILLS && snapshot && format == bmb_format_still()))
            bmb_json_item(list, format->info.suffix);
}

/* whole: with what a small buffer may have no room for. */
static size_t put_feed(const bmb_feed_stats *s, bool whole, void *memory, size_t size, char *out, size_t room)
{
    static const member odd[] = {
        MEMBER("camera_dropped", bmb_feed_stats, camera_dropped, NUMBER),
        MEMBER("repaired", bmb_feed_stats, repaired, NUMBER),
    };
    static const member camera[] = {
        MEMBER("camera_restarts", bmb_feed_stats, restarts, NUMBER),
        MEMBER("camera_gap_ms_most", bmb_feed_stats, gap_ms_most, NUMBER),
        MEMBER("width", bmb_feed_stats, width, NUMBER),
        MEMBER("height", bmb_feed_stats, height, NUMBER),
        MEMBER("fps_set", bmb_feed_stats, mfps_set, THOUSANDTHS),
    };
    static const member asked[] = {
        MEMBER("width_asked", bmb_feed_stats, asked.width, NUMBER),
        MEMBER("height_asked", bmb_feed_stats, asked.height, NUMBER),
        MEMBER("fps_asked", bmb_feed_stats, asked.mfps, THOUSANDTHS),
    };
    static const member kept[] = {
        MEMBER("kbps_set", bmb_feed_stats, kbps_set, NUMBER),
        MEMBER("quality", bmb_feed_stats, quality, NUMBER),
    };
    static const member frames[] = {
        MEMBER("frames", bmb_feed_stats, frames, NUMBER),
        MEMBER("sent", bmb_feed_stats, sent, NUMBER),
        MEMBER("skipped", bmb_feed_stats, skipped, NUMBER),
        MEMBER("dropped", bmb_feed_stats, dropped, NUMBER),
        MEMBER("bad", bmb_feed_stats, bad, NUMBER),
        MEMBER("too_large", bmb_feed_stats, too_large, NUMBER),
        MEMBER("bytes_sent", bmb_feed_stats, bytes_sent, NUMBER),
        MEMBER("viewers", bmb_feed_stats, viewers, NUMBER),
        MEMBER("viewers_stalled", bmb_feed_stats, stalled, NUMBER),
        MEMBER("viewers_shed", bmb_feed_stats, shed, NUMBER),
        MEMBER("reel_bytes", bmb_feed_stats, reel_bytes, NUMBER),
        MEMBER("reel_used", bmb_feed_stats, reel_used, NUMBER),
        MEMBER("reel_frames", bmb_feed_stats, reel_frames, NUMBER),
        MEMBER("reel_pinned", bmb_feed_stats, reel_pinned, NUMBER),
    };
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "name", s->name);
    bmb_json_text(o, "title", s->title);
    bmb_json_text(o, "codec", bmb_codec_name(s->codec));
    put_suffixes(o, s->codec, s->snapshot);
    bmb_json_text(o, "preview", s->preview);
    bmb_json_text(o, "camera", s->camera);
    bmb_json_text(o, "camera_state", bmb_camera_state_name(s->camera_state));
    bmb_json_text(o, "camera_error", s->camera_err == BMB_OK ? NULL : bmb_err_name(s->camera_err));
    PUT(o, s, camera);
    if (s->asked.width != s->width || s->asked.height != s->height || s->asked.mfps != s->mfps_set) {
        PUT(o, s, asked);
    }
    if (BMB_WITH_RATE && s->keeping != BMB_KEEPING_OFF) {
        PUT(o, s, kept);
        bmb_json_text(o, "keeping", bmb_keeping_name(s->keeping));
        bmb_json_number(o, "dropped_for_rate", s->dropped_for_rate);
    }
    bmb_json_milli(o, "fps", s->mfps);
    bmb_json_number(o, "kbps", s->kbps);
    if (BMB_WITH_DAYLIGHT && s->brightness >= 0) bmb_json_number(o, "brightness", (uint64_t)s->brightness);
    if (s->newest_ms == UINT32_MAX) {
        bmb_json_text(o, "newest_ms", NULL);
    } else {
        bmb_json_number(o, "newest_ms", s->newest_ms);
    }
    PUT(o, s, frames);
    put_verdict(o, &s->held_by);
    if (BMB_WITH_FOLLOWING && s->follows_kbps > 0) bmb_json_number(o, "follows_kbps", s->follows_kbps);
    if (BMB_WITH_REPAIR && whole) {
        PUT(o, s, odd);
    }
    return bmb_json_end(o, out, room);
}

size_t bmb_status_feed(const bmb_feed_stats *s, void *memory, size_t size, char *out, size_t room)
{
    size_t written = put_feed(s, true, memory, size, out, room);
    return written > 0 || !BMB_WITH_REPAIR ? written : put_feed(s, false, memory, size, out, room);
}

size_t bmb_status_sign_in(size_t number, const char *name, const bmb_addr *peer, uint64_t since_ms, uint64_t idle_ms,
                          void *memory, size_t size, char *out, size_t room)
{
    char text[64];
    address_text(peer, text, sizeof text);
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_number(o, "number", number);
    bmb_json_text(o, "name", name);
    bmb_json_text(o, "peer", text);
    bmb_json_number(o, "since_s", since_ms / 1000);
    bmb_json_number(o, "idle_s", idle_ms / 1000);
    return bmb_json_end(o, out, room);
}

size_t bmb_status_viewer(const char *feed, const char *given, const bmb_viewer_stats *s, bool peers, void *memory,
                         size_t size, char *out, size_t room)
{
    static const member figures[] = {
        MEMBER("watching_s", bmb_viewer_stats, watching_ms, THOUSANDTHS),
#if BMB_WITH_VIEWER_RATES
        MEMBER("fps", bmb_viewer_stats, mfps, THOUSANDTHS),
        MEMBER("kbps", bmb_viewer_stats, kbps, NUMBER),
#endif
        MEMBER("sent", bmb_viewer_stats, sent, NUMBER),
        MEMBER("skipped", bmb_viewer_stats, skipped, NUMBER),
        MEMBER("bytes", bmb_viewer_stats, bytes, NUMBER),
        MEMBER("age_ms", bmb_viewer_stats, age_ms, NUMBER),
        MEMBER("waiting", bmb_viewer_stats, waiting, YES_NO),
        MEMBER("blocked_ms", bmb_viewer_stats, blocked_ms, NUMBER),
    };
    char peer[64];
    if (BMB_WITH_ACCESS && peers) address_text(&s->peer, peer, sizeof peer);
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "feed", feed);
    bmb_json_text(o, "via", bmb_transport_name(s->transport));
    if (BMB_WITH_ACCESS && peers) {
        bmb_json_text(o, "peer", peer);
        bmb_json_number(o, "peer_port", s->peer.port);
    }
    PUT(o, s, figures);
    if (BMB_WITH_RTSP && s->reports) {
        bmb_json_number(o, "lost", s->lost);
        bmb_json_milli(o, "lost_percent", (uint32_t)s->lost_256 * 100000 / 256);
        bmb_json_milli(o, "jitter_ms", s->jitter_us);
        if (s->round_trip_us > 0) bmb_json_milli(o, "round_trip_ms", s->round_trip_us);
    }
    put_verdict(o, &s->held_by);
    if (BMB_WITH_FOLLOWING && s->given != s->feed) bmb_json_text(o, "given", given);
    if (BMB_WITH_FOLLOWING && s->carries_kbps > 0) bmb_json_number(o, "carries_kbps", s->carries_kbps);
    return bmb_json_end(o, out, room);
}
