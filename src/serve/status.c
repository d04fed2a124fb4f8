#include "serve/status.h"

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

size_t bmb_status_device(const char *name, const bmb_device_stats *s, void *memory, size_t size, char *out, size_t room)
{
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "name", name);
    bmb_json_text(o, "version", BMB_VERSION);
    bmb_json_milli(o, "uptime_s", (uint32_t)(s->uptime_us / 1000));
    bmb_json_number(o, "viewers", s->viewers);
    bmb_json_number(o, "viewers_most", s->viewers_most);
    bmb_json_number(o, "connections", s->connections);
    bmb_json_number(o, "connections_most", s->connections_most);
    bmb_json_number(o, "rtsp_sessions", s->sessions);
    bmb_json_number(o, "requests", s->requests);
    bmb_json_number(o, "bad_requests", s->bad_requests);
    bmb_json_number(o, "viewers_refused", s->refused);
    bmb_json_number(o, "accept_failed", s->accept_failed);
    bmb_json_number(o, "memory_bytes", (double)s->memory);
    bmb_json_milli(o, "longest_step_ms", s->pace.step_us);
    bmb_json_text(o, "longest_step_doing", bmb_doing_name(s->pace.doing));
    bmb_json_milli(o, "longest_step_at_s", (uint32_t)(s->pace.step_at_us / 1000));
    bmb_json_milli(o, "longest_delay_ms", s->pace.late_us);
    bmb_json_milli(o, "longest_delay_at_s", (uint32_t)(s->pace.late_at_us / 1000));
    return bmb_json_end(o, out, room);
}

static void put_tally(cJSON *o, const bmb_tally *t)
{
    bmb_json_number(o, "sent", (double)t->frames);
    bmb_json_number(o, "bytes_sent", (double)t->bytes);
    bmb_json_number(o, "blocked_ms", (double)(t->blocked_us / 1000));
}

size_t bmb_status_outlet(const bmb_outlet_stats *s, const char *feed, void *memory, size_t size, char *out, size_t room)
{
    static const char *const schemes[BMB_OUTLET_COUNT] = { "http", "rtsp", "tcp" };
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "scheme", schemes[s->kind]);
    bmb_json_number(o, "port", s->addr.port);
    if (s->kind == BMB_OUTLET_TCP) {
        bmb_json_text(o, "format", bmb_stream_format_name(s->format));
        bmb_json_text(o, "feed", feed);
    }
    bmb_json_number(o, "viewers", s->viewers);
    put_tally(o, &s->out);
    return bmb_json_end(o, out, room);
}

size_t bmb_status_push(const char *feed, const bmb_push_stats *s, void *memory, size_t size, char *out, size_t room)
{
    char to[64];
    address_text(&s->config->to, to, sizeof to);
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "feed", feed);
    bmb_json_text(o, "via", s->config->tcp ? "tcp" : "udp");
    bmb_json_text(o, "format", bmb_stream_format_name(s->config->format));
    bmb_json_text(o, "to", to);
    bmb_json_number(o, "to_port", s->config->to.port);
    bmb_json_text(o, "state", bmb_push_state_name(s->state));
    bmb_json_text(o, "error", s->err == BMB_OK ? NULL : bmb_err_name(s->err));
    bmb_json_number(o, "starts", s->starts);
    bmb_json_milli(o, "fps", s->mfps);
    bmb_json_number(o, "kbps", s->kbps);
    bmb_json_number(o, "age_ms", s->age_ms);
    bmb_json_number(o, "skipped", (double)s->skipped);
    put_tally(o, &s->out);
    return bmb_json_end(o, out, room);
}

/* Over HTTP: the suffixes of its addresses. */
static void put_suffixes(cJSON *o, bmb_codec codec)
{
    const bmb_format *format;
    cJSON *list = bmb_json_list(o, "suffixes");
    for (size_t i = 0; (format = bmb_format_row(i)) != NULL; i++)
        if (bmb_format_over_http(format, codec)) bmb_json_item(list, format->info.suffix);
}

size_t bmb_status_feed(const bmb_feed_stats *s, void *memory, size_t size, char *out, size_t room)
{
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "name", s->name);
    bmb_json_text(o, "title", s->title);
    bmb_json_text(o, "codec", bmb_codec_name(s->codec));
    put_suffixes(o, s->codec);
    bmb_json_text(o, "preview", s->preview);
    bmb_json_text(o, "camera", s->camera);
    bmb_json_text(o, "camera_state", bmb_camera_state_name(s->camera_state));
    bmb_json_text(o, "camera_error", s->camera_err == BMB_OK ? NULL : bmb_err_name(s->camera_err));
    bmb_json_number(o, "camera_restarts", s->restarts);
    bmb_json_number(o, "camera_gap_ms_most", s->gap_ms_most);
    bmb_json_number(o, "width", s->width);
    bmb_json_number(o, "height", s->height);
    bmb_json_milli(o, "fps_set", s->mfps_set);
    if (s->asked.width != s->width || s->asked.height != s->height || s->asked.mfps != s->mfps_set) {
        bmb_json_number(o, "width_asked", s->asked.width);
        bmb_json_number(o, "height_asked", s->asked.height);
        bmb_json_milli(o, "fps_asked", s->asked.mfps);
    }
    if (s->keeping != BMB_KEEPING_OFF) {
        bmb_json_number(o, "kbps_set", s->kbps_set);
        bmb_json_number(o, "quality", s->quality);
        bmb_json_text(o, "keeping", bmb_keeping_name(s->keeping));
        bmb_json_number(o, "dropped_for_rate", (double)s->dropped_for_rate);
    }
    bmb_json_milli(o, "fps", s->mfps);
    bmb_json_number(o, "kbps", s->kbps);
    if (s->newest_ms == UINT32_MAX) {
        bmb_json_text(o, "newest_ms", NULL);
    } else {
        bmb_json_number(o, "newest_ms", s->newest_ms);
    }
    bmb_json_number(o, "frames", (double)s->frames);
    bmb_json_number(o, "sent", (double)s->sent);
    bmb_json_number(o, "skipped", (double)s->skipped);
    bmb_json_number(o, "dropped", (double)s->dropped);
    bmb_json_number(o, "bad", (double)s->bad);
    bmb_json_number(o, "too_large", (double)s->too_large);
    bmb_json_number(o, "bytes_sent", (double)s->bytes_sent);
    bmb_json_number(o, "viewers", s->viewers);
    bmb_json_number(o, "viewers_stalled", s->stalled);
    bmb_json_number(o, "viewers_shed", s->shed);
    bmb_json_number(o, "reel_bytes", s->reel_bytes);
    bmb_json_number(o, "reel_used", s->reel_used);
    bmb_json_number(o, "reel_frames", s->reel_frames);
    bmb_json_number(o, "reel_pinned", s->reel_pinned);
    return bmb_json_end(o, out, room);
}

size_t bmb_status_viewer(const char *feed, const bmb_viewer_stats *s, void *memory, size_t size, char *out, size_t room)
{
    char peer[64];
    address_text(&s->peer, peer, sizeof peer);
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "feed", feed);
    bmb_json_text(o, "via", bmb_transport_name(s->transport));
    bmb_json_text(o, "peer", peer);
    bmb_json_number(o, "peer_port", s->peer.port);
    bmb_json_milli(o, "watching_s", s->watching_ms);
    bmb_json_milli(o, "fps", s->mfps);
    bmb_json_number(o, "kbps", s->kbps);
    bmb_json_number(o, "sent", (double)s->sent);
    bmb_json_number(o, "skipped", (double)s->skipped);
    bmb_json_number(o, "bytes", (double)s->bytes);
    bmb_json_number(o, "age_ms", s->age_ms);
    bmb_json_bool(o, "waiting", s->waiting);
    bmb_json_number(o, "blocked_ms", s->blocked_ms);
    if (s->reports) {
        bmb_json_number(o, "lost", s->lost);
        bmb_json_milli(o, "lost_percent", (uint32_t)s->lost_256 * 100000 / 256);
        bmb_json_milli(o, "jitter_ms", s->jitter_us);
        if (s->round_trip_us > 0) bmb_json_milli(o, "round_trip_ms", s->round_trip_us);
    }
    return bmb_json_end(o, out, room);
}
