/* Ports are not trusted blindly: which functions a configuration needs, and whether what they return can be used. */
#include "device/state.h"

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

/* The layout holds for the codec that was asked for; a size of nothing would be divided by. */
bmb_err bmb_contract_mode(const bmb_mode *asked, const bmb_mode *effective)
{
    bool good = effective->codec == asked->codec && effective->width > 0 && effective->height > 0;
    return good ? BMB_OK : BMB_UNSUPPORTED;
}

bool bmb_mode_same(const bmb_mode *a, const bmb_mode *b)
{
    return a->codec == b->codec && a->width == b->width && a->height == b->height && a->mfps == b->mfps;
}

bmb_err bmb_camera_set(const bmb_device *d, const bmb_feed *feed, bmb_control control, int32_t value,
                       int32_t *effective)
{
    const bmb_cameras *cameras = &d->port->cameras;
    *effective = value;
    if (cameras->set == NULL) return BMB_UNSUPPORTED;
    return cameras->set(cameras->ctx, feed->camera, control, value, effective);
}

bmb_err bmb_camera_get(const bmb_device *d, const bmb_feed *feed, bmb_control control, int32_t *value)
{
    const bmb_cameras *cameras = &d->port->cameras;
    return cameras->get != NULL ? cameras->get(cameras->ctx, feed->camera, control, value) : BMB_UNSUPPORTED;
}

bmb_err bmb_net_send(const bmb_device *d, bmb_sock sock, const bmb_slice *slices, size_t count, size_t offered,
                     size_t *taken)
{
    *taken = 0;
    bmb_err err = d->port->net.send(d->port->ctx, sock, slices, count, taken);
    if (*taken > offered) {
        *taken = 0;
        return BMB_FAILED;
    }
    return err == BMB_OK && *taken == 0 && offered > 0 ? BMB_AGAIN : err;
}

bmb_err bmb_net_recv(const bmb_device *d, bmb_sock sock, void *out, size_t room, size_t *got)
{
    *got = 0;
    bmb_err err = d->port->net.recv(d->port->ctx, sock, out, room, got);
    if (*got > room) {
        *got = 0;
        return BMB_FAILED;
    }
    return err == BMB_OK && *got == 0 ? BMB_AGAIN : err;
}

bmb_err bmb_net_send_packets(const bmb_device *d, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets,
                             size_t count, size_t *taken)
{
    *taken = 0;
    bmb_err err = d->port->net.udp_send(d->port->ctx, sock, to, packets, count, taken);
    if (*taken > count) {
        *taken = 0;
        return BMB_FAILED;
    }
    return err == BMB_OK && *taken < count ? BMB_AGAIN : err;
}
