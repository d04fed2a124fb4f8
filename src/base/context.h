/* What every room gets: the port, the time of this step, memory for one call, and what is due first. */
#ifndef BMB_BASE_CONTEXT_H
#define BMB_BASE_CONTEXT_H

#include "bambino/device.h"
#include "bambino/options.h"
#include "base/history.h"
#include "base/log.h"
#include "base/pace.h"

typedef struct bmb_context {
    const bmb_port *port;
    const bmb_config *config;
    uint64_t start_us, now; /* when the device was opened; the time of this step */
    uint64_t pace_us;       /* the earliest burst that is due; UINT64_MAX: none */
    void *scratch;          /* needed within one call only, never by two at once: each room's largest need is asked */
    char cname[17];         /* of all RTP streams (RFC 7022) */
    bmb_log_gate gate;
#if BMB_WITH_EVENTS
    bmb_history history;
#endif
    bmb_pace pace; /* how steadily it is stepped */
} bmb_context;

/* What the step is doing from now on; returns what it was doing. */
bmb_doing bmb_turn(bmb_context *x, bmb_doing doing);
void bmb_tell(bmb_context *x, const bmb_event *event);
/* An event about a feed, and a peer or NULL. */
void bmb_tell_of(bmb_context *x, const char *feed, const bmb_addr *peer, bmb_event_code code, int64_t value,
                 int64_t extra);
/* What the port's clock says, which goes on within a step. */
uint64_t bmb_clock(const bmb_context *x);
/* In ms, at most UINT32_MAX. */
uint32_t bmb_ms_between(uint64_t from_us, uint64_t to_us);
void bmb_sock_close(const bmb_context *x, bmb_sock sock);
/* It was so long ago, in us or in ms. */
bool bmb_older_than(const bmb_context *x, uint64_t since_us, uint64_t limit_us);
bool bmb_older_than_ms(const bmb_context *x, uint64_t since_us, uint32_t limit_ms);
/* Unix time by the port, in us; 0: not known. */
int64_t bmb_wall(const bmb_context *x);

#endif
