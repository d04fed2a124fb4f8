/* Ports are not trusted blindly: which functions a configuration needs, and whether what they return can be used. */
#include "device/contract.h"

#include <stddef.h>
#include <string.h>

bmb_err bmb_blame(bmb_fault *fault, bmb_err err, const char *part, const char *key, const char *name, int64_t asked,
                  int64_t have)
{
    if (fault != NULL)
        *fault = (bmb_fault){ .err = err, .part = part, .key = key, .name = name, .asked = asked, .have = have };
    return err;
}

static bool has_outlet(const bmb_config *config, bmb_outlet_kind kind)
{
    for (size_t i = 0; i < config->outlet_count; i++)
        if (config->outlets[i].kind == kind) return true;
    return false;
}

static bool has_push(const bmb_config *config, bool tcp)
{
    for (size_t i = 0; i < config->push_count; i++)
        if (config->pushes[i].tcp == tcp) return true;
    return false;
}

static bool is_secure(const bmb_config *config)
{
    bool secure = false;
    for (size_t i = 0; i < config->outlet_count; i++) secure = secure || config->outlets[i].secure;
    for (size_t i = 0; i < config->push_count; i++) secure = secure || config->pushes[i].secure;
    return secure;
}

static bool has_group(const bmb_config *config)
{
    for (size_t i = 0; i < config->feed_count; i++)
        if (config->feeds[i].multicast.group.family != 0) return true;
    return false;
}

/* What a function may be needed for. */
typedef enum use { EVERY, OUTLET, STREAM, LOCAL, DIALS, DATAGRAMS, KEPT, SECRETS, USES } use;

#define FUNCTION(name, use)                                                                                            \
    {                                                                                                                  \
#name, offsetof(bmb_port, name), use                                                                           \
    }
static const struct {
    const char *function; /* as in port.h */
    uint16_t at;
    uint8_t use;
} functions[] = {
    FUNCTION(now_us, EVERY),
    FUNCTION(random, EVERY),
    FUNCTION(cameras.count, EVERY),
    FUNCTION(cameras.info, EVERY),
    FUNCTION(cameras.start, EVERY),
    FUNCTION(cameras.stop, EVERY),
    FUNCTION(cameras.take, EVERY),
    FUNCTION(cameras.release, EVERY),
    FUNCTION(net.ready, EVERY),
    FUNCTION(net.close, EVERY),
    FUNCTION(net.watch, EVERY),
    FUNCTION(net.listen, OUTLET),
    FUNCTION(net.accept, OUTLET),
    FUNCTION(net.send, STREAM),
    FUNCTION(net.recv, STREAM),
    FUNCTION(net.local, LOCAL),
    FUNCTION(net.dial, DIALS),
    FUNCTION(net.dialled, DIALS),
    FUNCTION(net.udp_open, DATAGRAMS),
    FUNCTION(net.udp_send, DATAGRAMS),
    FUNCTION(net.udp_recv, DATAGRAMS),
    FUNCTION(storage.load, KEPT),
    FUNCTION(storage.store, KEPT),
#if BMB_WITH_TLS
    FUNCTION(encryption.memory, SECRETS),
    FUNCTION(encryption.open, SECRETS),
    FUNCTION(encryption.close, SECRETS),
    FUNCTION(encryption.listen, SECRETS),
    FUNCTION(encryption.dial, SECRETS),
#endif
};

static bool is_there(const bmb_port *port, size_t at)
{
    void (*function)(void);
    memcpy(&function, (const uint8_t *)port + at, sizeof function);
    return function != NULL;
}

bmb_err bmb_contract_check(const bmb_config *config, bmb_fault *fault)
{
    static const char every[] = "every device";
    const bmb_port *p = config->port;
    if (p == NULL) return bmb_blame(fault, BMB_UNSUPPORTED, "port", "port", every, 0, 0);
    const bmb_net *net = &p->net;
    bool listens = config->outlet_count > 0, dials = has_push(config, true), group = has_group(config);
    bool some_udp = net->udp_open != NULL || net->udp_send != NULL || net->udp_recv != NULL;
    /* Why it is needed; NULL: it is not. */
    const char *const purposes[USES] = {
        [EVERY] = every,
        [OUTLET] = listens ? "an outlet" : NULL,
        [STREAM] = listens || dials ? "a connection" : NULL,
        [LOCAL] = has_outlet(config, BMB_OUTLET_RTSP)            ? "an RTSP outlet"
                  : group && has_outlet(config, BMB_OUTLET_HTTP) ? "a group's description"
                                                                 : NULL,
        [DIALS] = dials ? "a push over TCP" : NULL,
        [DATAGRAMS] = group || has_push(config, false) ? "multicast or a push over UDP"
                      : some_udp                       ? "a port that has one of the udp_ functions"
                                                       : NULL,
        [KEPT] =
            p->storage.load != NULL || p->storage.store != NULL ? "a port that has one of the storage functions" : NULL,
        [SECRETS] = BMB_WITH_TLS && is_secure(config) ? "a secure outlet or push" : NULL,
    };
    for (size_t i = 0; i < sizeof functions / sizeof functions[0]; i++) {
        const char *purpose = purposes[functions[i].use];
        if (purpose != NULL && !is_there(p, functions[i].at))
            return bmb_blame(fault, BMB_UNSUPPORTED, "port", functions[i].function, purpose, 0, 0);
    }
    return BMB_OK;
}
