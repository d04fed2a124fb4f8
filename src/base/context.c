#include "base/context.h"

uint64_t bmb_clock(const bmb_context *x)
{
    return x->port->now_us(x->port->ctx);
}

uint32_t bmb_ms_between(uint64_t from_us, uint64_t to_us)
{
    uint64_t ms = (to_us - from_us) / 1000;
    return ms < UINT32_MAX ? (uint32_t)ms : UINT32_MAX;
}

void bmb_sock_close(const bmb_context *x, bmb_sock sock)
{
    x->port->net.close(x->port->ctx, sock);
}

bmb_doing bmb_turn(bmb_context *x, bmb_doing doing)
{
    return bmb_pace_turn(&x->pace, bmb_clock(x), doing);
}

static void note(bmb_context *x, const bmb_event *event)
{
#if BMB_WITH_EVENTS
    bmb_event graded = *event;
    graded.level = bmb_log_level(event->code);
    bmb_history_note(&x->history, x->config, x->now, &graded);
#else
    (void)x, (void)event;
#endif
}

void bmb_tell(bmb_context *x, const bmb_event *event)
{
    bmb_doing was = bmb_turn(x, BMB_DOING_LOGGING);
    if (bmb_log(&x->gate, x->port, x->now, event)) note(x, event);
    (void)bmb_turn(x, was);
}

void bmb_tell_of(bmb_context *x, const char *feed, const bmb_addr *peer, bmb_event_code code, int64_t value,
                 int64_t extra)
{
    bmb_tell(x, &(bmb_event){ .code = code, .feed = feed, .peer = peer, .value = value, .extra = extra });
}

bool bmb_older_than(const bmb_context *x, uint64_t since_us, uint64_t limit_us)
{
    return x->now > since_us && x->now - since_us >= limit_us;
}

bool bmb_older_than_ms(const bmb_context *x, uint64_t since_us, uint32_t limit_ms)
{
    return bmb_older_than(x, since_us, (uint64_t)limit_ms * 1000);
}

int64_t bmb_wall(const bmb_context *x)
{
    const bmb_port *port = x->port;
    int64_t wall;
    return BMB_WITH_WALL_CLOCK && port->wall_us != NULL && port->wall_us(port->ctx, &wall) == BMB_OK ? wall : 0;
}
