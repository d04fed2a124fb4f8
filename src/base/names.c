/* The names of codes, as configuration files, JSON and logs spell them. */
#include "bambino/device.h"

static const char *name_at(const char *const *names, size_t count, size_t index)
{
    return index < count ? names[index] : NULL;
}
#define COUNT(table) (sizeof(table) / sizeof((table)[0]))

const char *bmb_err_name(bmb_err err)
{
    static const char *const names[] = { "ok",        "again",   "gone",        "bad-argument", "bad-data",
                                         "no-memory", "no-room", "limit",       "in-use",       "not-found",
                                         "denied",    "unknown", "unsupported", "timed-out",    "no-route",
                                         "refused",   "failed" };
    const char *name = name_at(names, COUNT(names), (size_t)err);
    return name != NULL ? name : "failed";
}

const char *bmb_control_name(bmb_control control)
{
    static const char *const names[BMB_CONTROL_COUNT] = { "quality",   "kbps",       "key-ms",      "flip-h",
                                                          "flip-v",    "brightness", "contrast",    "saturation",
                                                          "sharpness", "rotate",     "exposure-us", "gain",
                                                          "white-k",   "flicker",    "night",       "illumination" };
    return name_at(names, COUNT(names), (size_t)control);
}

const char *bmb_codec_name(bmb_codec codec)
{
    static const char *const names[BMB_CODEC_COUNT] = { "jpeg", "h264" };
    return name_at(names, COUNT(names), (size_t)codec);
}

const char *bmb_keeping_name(bmb_keeping keeping)
{
    static const char *const names[] = { "off", "steady", "best-quality", "least-quality", "dropping-frames" };
    return name_at(names, COUNT(names), (size_t)keeping);
}

const char *bmb_doing_name(bmb_doing doing)
{
    static const char *const names[BMB_DOING_COUNT] = {
        "events", "cameras", "delivery", "times", "storing", "logging"
    };
    return name_at(names, COUNT(names), (size_t)doing);
}

const char *bmb_camera_state_name(bmb_camera_state state)
{
    static const char *const names[] = { "off", "starting", "running", "waiting" };
    return name_at(names, COUNT(names), (size_t)state);
}

const char *bmb_push_state_name(bmb_push_state state)
{
    static const char *const names[] = { "off", "waiting", "dialling", "sending" };
    return name_at(names, COUNT(names), (size_t)state);
}

const char *bmb_transport_name(bmb_transport transport)
{
    static const char *const names[] = { "http", "rtp-udp", "rtp-tcp", "rtp-multicast", "tcp" };
    return name_at(names, COUNT(names), (size_t)transport);
}
