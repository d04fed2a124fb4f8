/* The names of codes, as configuration files, JSON and logs spell them. */
#include <string.h>

#include "bambino/device.h"
#include "bambino/options.h"

/* The names stand one behind the other, each with its end, and an empty one behind the last: a quarter smaller than an
 * array of pointers with what they point to. */
static const char *name_at(const char *names, size_t index)
{
    for (; index > 0 && *names != '\0'; index--) names += strlen(names) + 1;
    return *names != '\0' ? names : NULL;
}

const char *bmb_err_name(bmb_err err)
{
    static const char names[] =
        "ok\0again\0gone\0bad-argument\0bad-data\0no-memory\0no-room\0limit\0in-use\0not-found\0"
        "denied\0unknown\0unsupported\0timed-out\0no-route\0refused\0failed\0no-signal\0";
    const char *name = name_at(names, (size_t)err);
    return name != NULL ? name : "failed";
}

const char *bmb_control_name(bmb_control control)
{
    static const char names[] =
#if BMB_WITH_CONTROLS
        "quality\0kbps\0key-ms\0flip-h\0flip-v\0brightness\0contrast\0saturation\0sharpness\0"
        "rotate\0exposure-us\0gain\0white-k\0flicker\0night\0illumination\0focus\0zoom\0pan\0tilt\0hue\0gamma\0"
        "backlight\0profile\0"
#endif
        "";
    return name_at(names, (size_t)control);
}

const char *bmb_role_name(bmb_role role)
{
    static const char names[] = "none\0watch\0adjust\0administer\0";
    return name_at(names, (size_t)role);
}

const char *bmb_event_name(bmb_event_code code)
{
#if BMB_WITH_EVENTS
    static const char names[] =
        "camera-started\0camera-adjusted\0camera-failed\0camera-stalled\0camera-back\0control-refused\0"
        "frame-bad\0frame-too-large\0codec-refused\0viewer-came\0viewer-left\0viewer-stalled\0viewer-shed\0"
        "viewer-refused\0accept-paused\0connections-full\0multicast-started\0multicast-stopped\0viewer-behind\0"
        "push-started\0push-failed\0push-lost\0push-unread\0push-heard\0still-gap\0feed-removed\0"
        "controls-restored\0controls-not-kept\0not-found\0session-ended\0suppressed\0report\0camera-says\0"
        "control-lowered\0signed-in\0sign-in-failed\0changed-by\0lent\0link-ended\0group-withheld\0"
        "name-refused\0handshake-failed\0feed-changed\0feed-added\0feed-paused\0"
        "settings-changed\0settings-returned\0settings-not-kept\0daylight\0held-back\0"
        "stepped\0followed\0uplink-full\0camera-rests\0users-read\0users-unreadable\0framing-refused\0";
    return name_at(names, (size_t)code);
#else
    (void)code;
    return NULL;
#endif
}

const char *bmb_cause_name(bmb_cause cause)
{
    static const char names[] = "nothing\0camera\0processor\0memory\0limit\0link\0reader\0loss\0";
    return name_at(names, (size_t)cause);
}

const char *bmb_level_name(bmb_level level)
{
    static const char names[] = "error\0warning\0info\0debug\0";
    return name_at(names, (size_t)level);
}

const char *bmb_codec_name(bmb_codec codec)
{
    static const char names[] = "jpeg\0h264\0";
    return name_at(names, (size_t)codec);
}

const char *bmb_keeping_name(bmb_keeping keeping)
{
    static const char names[] = "off\0steady\0best-quality\0least-quality\0dropping-frames\0";
    return name_at(names, (size_t)keeping);
}

const char *bmb_doing_name(bmb_doing doing)
{
    static const char names[] = "events\0cameras\0delivery\0times\0storing\0logging\0";
    return name_at(names, (size_t)doing);
}

const char *bmb_camera_state_name(bmb_camera_state state)
{
    static const char names[] = "off\0starting\0running\0waiting\0"
#if BMB_WITH_RESTING || BMB_WITH_REPAIR
                                "resting\0no-signal\0"
#endif
        ;
    return name_at(names, (size_t)state);
}

const char *bmb_push_state_name(bmb_push_state state)
{
    static const char names[] = "off\0waiting\0dialling\0sending\0";
    return name_at(names, (size_t)state);
}

const char *bmb_transport_name(bmb_transport transport)
{
    static const char names[] = "http\0rtp-udp\0rtp-tcp\0rtp-multicast\0tcp\0";
    return name_at(names, (size_t)transport);
}

const char *bmb_outlet_scheme(bmb_outlet_kind kind, bool secure)
{
#if BMB_WITH_TLS
    static const char names[] = "http\0rtsp\0tcp\0https\0rtsps\0tls\0";
    if (kind >= BMB_OUTLET_COUNT) return NULL;
    return name_at(names, (size_t)kind + (secure ? BMB_OUTLET_COUNT : 0u));
#else
    static const char names[] = "http\0rtsp\0tcp\0";
    (void)secure;
    return name_at(names, (size_t)kind);
#endif
}
