/* Ports are not trusted blindly: which functions a configuration needs, and whether what they return can be used. */
#include "device/contract.h"

bmb_err bmb_blame(bmb_fault *fault, bmb_err err, const char *part, const char *key, const char *name, int64_t asked,
                  int64_t have)
{
    if (fault != NULL)
        *fault = (bmb_fault){ .err = err, .part = part, .key = key, .name = name, .asked = asked, .have = have };
    return err;
}

typedef struct need {
    bool there, needed;
    const char *function; /* as in port.h */
    const char *purpose;
} need;

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

static bool has_group(const bmb_config *config)
{
    for (size_t i = 0; i < config->feed_count; i++)
        if (config->feeds[i].multicast.group.family != 0) return true;
    return false;
}

bmb_err bmb_contract_check(const bmb_config *config, bmb_fault *fault)
{
    const bmb_port *p = config->port;
    if (p == NULL) return bmb_blame(fault, BMB_UNSUPPORTED, "port", "port", "every device", 0, 0);
    const bmb_net *net = &p->net;
    const bmb_cameras *cameras = &p->cameras;
    const bmb_storage *storage = &p->storage;
    bool listens = config->outlet_count > 0, dials = has_push(config, true), group = has_group(config);
    bool streams = listens || dials, udp = group || has_push(config, false);
    bool some_udp = net->udp_open != NULL || net->udp_send != NULL || net->udp_recv != NULL;
    bool some_storage = storage->load != NULL || storage->store != NULL;
    bool rtsp = has_outlet(config, BMB_OUTLET_RTSP);
    const char *every = "every device", *outlet = "an outlet", *tcp = "a connection", *push = "a push over TCP";
    const char *datagrams = udp ? "multicast or a push over UDP" : "a port that has one of the udp_ functions";
    const char *kept = "a port that has one of the storage functions";
    const need needs[] = {
        { p->now_us != NULL, true, "now_us", every },
        { p->random != NULL, true, "random", every },
        { cameras->count != NULL, true, "cameras.count", every },
        { cameras->info != NULL, true, "cameras.info", every },
        { cameras->start != NULL, true, "cameras.start", every },
        { cameras->stop != NULL, true, "cameras.stop", every },
        { cameras->take != NULL, true, "cameras.take", every },
        { cameras->release != NULL, true, "cameras.release", every },
        { net->ready != NULL, true, "net.ready", every },
        { net->close != NULL, true, "net.close", every },
        { net->watch != NULL, true, "net.watch", every },
        { net->listen != NULL, listens, "net.listen", outlet },
        { net->accept != NULL, listens, "net.accept", outlet },
        { net->send != NULL, streams, "net.send", tcp },
        { net->recv != NULL, streams, "net.recv", tcp },
        { net->local != NULL, rtsp, "net.local", "an RTSP outlet" },
        { net->local != NULL, group && has_outlet(config, BMB_OUTLET_HTTP), "net.local", "a group's description" },
        { net->dial != NULL, dials, "net.dial", push },
        { net->dialled != NULL, dials, "net.dialled", push },
        { net->udp_open != NULL, udp || some_udp, "net.udp_open", datagrams },
        { net->udp_send != NULL, udp || some_udp, "net.udp_send", datagrams },
        { net->udp_recv != NULL, udp || some_udp, "net.udp_recv", datagrams },
        { storage->load != NULL, some_storage, "storage.load", kept },
        { storage->store != NULL, some_storage, "storage.store", kept },
    };
    for (size_t i = 0; i < sizeof needs / sizeof needs[0]; i++)
        if (needs[i].needed && !needs[i].there)
            return bmb_blame(fault, BMB_UNSUPPORTED, "port", needs[i].function, needs[i].purpose, 0, 0);
    return BMB_OK;
}
