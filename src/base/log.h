/* Reports events through the port, where the port wants any.
 *
 * What peers can provoke is bounded: a burst of BMB_LOG_BURST events, then one for each BMB_LOG_STEP_US. The rest is
 * counted, and the number told as BMB_EVENT_SUPPRESSED as soon as there is room again, so that nobody can fill a disk,
 * a serial line or a person's patience from the network.
 */
#ifndef BMB_BASE_LOG_H
#define BMB_BASE_LOG_H

#include "bambino/port.h"

#define BMB_LOG_BURST 32u       /* as many viewers as come at once after a power cut */
#define BMB_LOG_STEP_US 250000u /* four a second can still be read */

typedef struct bmb_log_gate {
    uint64_t refilled_us;
    uint32_t suppressed;
    uint8_t tokens;
} bmb_log_gate;

void bmb_log_start(bmb_log_gate *gate, uint64_t now_us);
/* event: without its level, which goes with its code. false: it is not told. */
bool bmb_log(bmb_log_gate *gate, const bmb_port *port, uint64_t now_us, const bmb_event *event);
bmb_level bmb_log_level(bmb_event_code code);
/* Tells what was suppressed, when that is possible. Call from time to time. */
void bmb_log_tend(bmb_log_gate *gate, const bmb_port *port, uint64_t now_us);

#endif
