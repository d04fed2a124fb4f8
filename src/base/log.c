#include "base/log.h"

/* Can a peer bring this about as often as it likes? */
static bool by_peers(bmb_event_code code)
{
    switch (code) {
    case BMB_EVENT_VIEWER_CAME:
    case BMB_EVENT_VIEWER_LEFT:
    case BMB_EVENT_VIEWER_STALLED:
    case BMB_EVENT_VIEWER_SHED:
    case BMB_EVENT_VIEWER_REFUSED:
    case BMB_EVENT_SESSION_ENDED:
    case BMB_EVENT_CONNECTIONS_FULL:
    case BMB_EVENT_ACCEPT_PAUSED:
    case BMB_EVENT_MULTICAST_STARTED:
    case BMB_EVENT_MULTICAST_STOPPED:
    case BMB_EVENT_STILL_GAP:
    case BMB_EVENT_NOT_FOUND:
        return true;
    default:
        return false;
    }
}

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

void bmb_log_tend(bmb_log_gate *gate, const bmb_port *port, uint64_t now_us)
{
    if (gate->suppressed == 0 || !may_tell(gate, now_us)) return;
    const bmb_event event = { .level = BMB_LEVEL_WARNING, .code = BMB_EVENT_SUPPRESSED, .value = gate->suppressed };
    gate->suppressed = 0;
    port->log(port->ctx, &event);
}

void bmb_log(bmb_log_gate *gate, const bmb_port *port, uint64_t now_us, const bmb_event *event)
{
    if (port->log == NULL) return;
    if (by_peers(event->code)) {
        if (!may_tell(gate, now_us)) {
            gate->suppressed++;
            return;
        }
        bmb_log_tend(gate, port, now_us);
        gate->tokens--;
    }
    port->log(port->ctx, event);
}
