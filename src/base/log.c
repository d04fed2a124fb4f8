#include "base/log.h"

#define PEERS 0x80u /* a peer can bring it about as often as it likes */

/* How grave each event is. */
static const uint8_t levels[] = {
    [BMB_EVENT_CAMERA_STARTED] = BMB_LEVEL_INFO,
    [BMB_EVENT_CAMERA_ADJUSTED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_CAMERA_FAILED] = BMB_LEVEL_ERROR,
    [BMB_EVENT_CAMERA_STALLED] = BMB_LEVEL_ERROR,
    [BMB_EVENT_CAMERA_BACK] = BMB_LEVEL_INFO,
    [BMB_EVENT_CONTROL_REFUSED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_FRAME_BAD] = BMB_LEVEL_WARNING,
    [BMB_EVENT_FRAME_TOO_LARGE] = BMB_LEVEL_WARNING,
    [BMB_EVENT_CODEC_REFUSED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_VIEWER_CAME] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_VIEWER_LEFT] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_VIEWER_STALLED] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_VIEWER_SHED] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_VIEWER_REFUSED] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_ACCEPT_PAUSED] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_CONNECTIONS_FULL] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_MULTICAST_STARTED] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_MULTICAST_STOPPED] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_VIEWER_BEHIND] = BMB_LEVEL_WARNING,
    [BMB_EVENT_PUSH_STARTED] = BMB_LEVEL_INFO,
    [BMB_EVENT_PUSH_FAILED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_PUSH_LOST] = BMB_LEVEL_WARNING,
    [BMB_EVENT_PUSH_UNREAD] = BMB_LEVEL_WARNING,
    [BMB_EVENT_PUSH_HEARD] = BMB_LEVEL_INFO,
    [BMB_EVENT_STILL_GAP] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_FEED_REMOVED] = BMB_LEVEL_INFO,
    [BMB_EVENT_CONTROLS_RESTORED] = BMB_LEVEL_INFO,
    [BMB_EVENT_CONTROLS_NOT_KEPT] = BMB_LEVEL_WARNING,
    [BMB_EVENT_NOT_FOUND] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_SESSION_ENDED] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_SUPPRESSED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_REPORT] = BMB_LEVEL_DEBUG,
    [BMB_EVENT_CAMERA_SAYS] = BMB_LEVEL_INFO,
    [BMB_EVENT_CONTROL_LOWERED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_SIGNED_IN] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_SIGN_IN_FAILED] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_CHANGED_BY] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_LENT] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_LINK_ENDED] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_GROUP_WITHHELD] = BMB_LEVEL_WARNING,
    [BMB_EVENT_NAME_REFUSED] = BMB_LEVEL_WARNING | PEERS,
    [BMB_EVENT_HANDSHAKE_FAILED] = BMB_LEVEL_WARNING | PEERS,
#if BMB_WITH_CHANGES
    [BMB_EVENT_FEED_CHANGED] = BMB_LEVEL_INFO,
    [BMB_EVENT_FEED_ADDED] = BMB_LEVEL_INFO,
    [BMB_EVENT_FEED_PAUSED] = BMB_LEVEL_INFO,
    [BMB_EVENT_SETTINGS_CHANGED] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_SETTINGS_RETURNED] = BMB_LEVEL_WARNING,
    [BMB_EVENT_SETTINGS_NOT_KEPT] = BMB_LEVEL_WARNING,
#endif
#if BMB_WITH_DAYLIGHT
    [BMB_EVENT_DAYLIGHT] = BMB_LEVEL_INFO,
#endif
#if BMB_WITH_VERDICTS
    [BMB_EVENT_HELD_BACK] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_STEPPED] = BMB_LEVEL_INFO | PEERS,
    [BMB_EVENT_FOLLOWED] = BMB_LEVEL_INFO,
    [BMB_EVENT_UPLINK_FULL] = BMB_LEVEL_WARNING | PEERS,
#endif
#if BMB_WITH_RESTING
    [BMB_EVENT_CAMERA_RESTS] = BMB_LEVEL_INFO,
#endif
#if BMB_WITH_ACCESS
    [BMB_EVENT_USERS_READ] = BMB_LEVEL_INFO,
    [BMB_EVENT_USERS_UNREADABLE] = BMB_LEVEL_ERROR,
    [BMB_EVENT_FRAMING_REFUSED] = BMB_LEVEL_WARNING | PEERS,
#endif
};

static bool may_tell(bmb_log_gate *gate, uint64_t now_us)
{
    uint64_t steps = now_us > gate->refilled_us ? (now_us - gate->refilled_us) / BMB_LOG_STEP_US : 0;
    uint64_t tokens = gate->tokens + steps;
    gate->tokens = (uint8_t)(tokens < BMB_LOG_BURST ? tokens : BMB_LOG_BURST);
    gate->refilled_us += steps * BMB_LOG_STEP_US;
    return gate->tokens > 0;
}

void bmb_log_start(bmb_log_gate *gate, uint64_t now_us)
{
    *gate = (bmb_log_gate){ .refilled_us = now_us, .tokens = BMB_LOG_BURST };
}

bmb_level bmb_log_level(bmb_event_code code)
{
    return (bmb_level)(levels[code] & ~PEERS);
}

static void tell(const bmb_port *port, const bmb_event *event)
{
    bmb_event graded = *event;
    graded.level = bmb_log_level(event->code);
    port->log(port->ctx, &graded);
}

void bmb_log_tend(bmb_log_gate *gate, const bmb_port *port, uint64_t now_us)
{
    if (gate->suppressed == 0 || (BMB_WITH_EVENTS && port->log == NULL) || !may_tell(gate, now_us)) return;
    const bmb_event event = { .code = BMB_EVENT_SUPPRESSED, .value = gate->suppressed };
    gate->suppressed = 0;
    tell(port, &event);
}

bool bmb_log(bmb_log_gate *gate, const bmb_port *port, uint64_t now_us, const bmb_event *event)
{
    if (!BMB_WITH_EVENTS && port->log == NULL) return false;
    if ((levels[event->code] & PEERS) != 0) {
        if (!may_tell(gate, now_us)) {
            gate->suppressed++;
            return false;
        }
        bmb_log_tend(gate, port, now_us);
        gate->tokens--;
    }
    if (!BMB_WITH_EVENTS || port->log != NULL) tell(port, event);
    return true;
}
