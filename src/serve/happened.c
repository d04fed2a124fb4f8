#include "serve/happened.h"

#include "base/bytes.h"
#include "serve/json.h"

#if BMB_WITH_EVENTS

static void put_signed(cJSON *o, const char *key, int64_t value)
{
    (void)cJSON_AddNumberToObject(o, key, (double)value);
}

static void put_mode(cJSON *o, const bmb_moment *m)
{
    put_signed(o, "width", m->value >> 16);
    put_signed(o, "height", m->value & 0xFFFF);
    bmb_json_milli(o, "fps", (uint32_t)m->extra);
}

/* Its text is no name of somebody, and told to everybody. */
static bool says_text(uint8_t code)
{
    return code == BMB_EVENT_HELD_BACK || code == BMB_EVENT_STEPPED;
}

/* What value and extra are, where that is more than two numbers. */
static void put_values(cJSON *o, const bmb_moment *m)
{
    switch ((bmb_event_code)m->code) {
    case BMB_EVENT_CAMERA_STARTED:
    case BMB_EVENT_CAMERA_ADJUSTED:
    case BMB_EVENT_FEED_CHANGED:
        put_mode(o, m);
        break;
    case BMB_EVENT_CHANGED_BY:
        bmb_json_text(o, "control", bmb_control_name((bmb_control)m->value));
        put_signed(o, "from", (int32_t)(m->extra >> 32));
        put_signed(o, "to", (int32_t)m->extra);
        break;
    case BMB_EVENT_CONTROL_REFUSED:
    case BMB_EVENT_CONTROL_LOWERED:
        bmb_json_text(o, "control", bmb_control_name((bmb_control)m->value));
        put_signed(o, "to", m->extra);
        break;
    case BMB_EVENT_HELD_BACK:
        bmb_json_text(o, "cause", m->text);
        put_signed(o, "is", m->value);
        put_signed(o, "of", m->extra);
        break;
    case BMB_EVENT_STEPPED:
        bmb_json_text(o, "given", m->text);
        put_signed(o, "down", m->value);
        put_signed(o, "kbps", m->extra);
        break;
    default:
        put_signed(o, "value", m->value);
        put_signed(o, "extra", m->extra);
        break;
    }
}

size_t bmb_happened(const bmb_moment *m, const char *feed, uint64_t uptime_us, int64_t unix_us, bool peers,
                    void *memory, size_t size, char *out, size_t room)
{
    char peer[64];
    cJSON *o = bmb_json_begin(memory, size);
    bmb_json_text(o, "event", bmb_event_name((bmb_event_code)m->code));
    bmb_json_text(o, "level", bmb_level_name((bmb_level)m->level));
    bmb_json_milli(o, "uptime_s", (uint32_t)(uptime_us / 1000));
    if (unix_us != 0) put_signed(o, "unix_s", unix_us / 1000000);
    if (feed != NULL) bmb_json_text(o, "feed", feed);
    if (m->err != BMB_OK) bmb_json_text(o, "error", bmb_err_name((bmb_err)m->err));
    put_values(o, m);
    if (peers && m->peer.family != 0) {
        bmb_writer w = bmb_writer_of(peer, sizeof peer - 1);
        bmb_put_ip(&w, &m->peer);
        peer[bmb_written(&w)] = '\0';
        bmb_json_text(o, "peer", peer);
    }
    if (peers && m->text[0] != '\0' && !says_text(m->code)) bmb_json_text(o, "text", m->text);
    return bmb_json_end(o, out, room);
}

#endif
