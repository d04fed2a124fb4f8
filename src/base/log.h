/* Reports an event through the port, when the port wants any. */
#ifndef BMB_BASE_LOG_H
#define BMB_BASE_LOG_H

#include "bambino/port.h"

static inline void bmb_log(const bmb_port *port, const bmb_event *event)
{
    if (port->log != NULL) port->log(port->ctx, event);
}

#endif
