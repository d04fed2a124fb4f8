#include "device/check_outlets.h"

#include "device/contract.h"
#include "serve/formats.h"

bmb_err bmb_check_stream(const bmb_config *config, const char *part, uint16_t feed, bmb_stream_format format, bool tcp,
                         const bmb_addr *addr, bmb_fault *fault)
{
    bmb_err err = BMB_OK;
    const char *name = NULL;
    if (feed >= config->feed_count && (feed != BMB_NO_FEED || format != BMB_FORMAT_FRAMED)) {
        err = bmb_blame(fault, BMB_NOT_FOUND, part, "feed", NULL, feed, (int64_t)config->feed_count);
    } else if (feed == BMB_NO_FEED) {
        return BMB_OK;
    } else if (bmb_stream_framer(format, config->feeds[feed].mode.codec, tcp) == NULL) {
        name = config->feeds[feed].name;
        err = bmb_blame(fault, BMB_UNSUPPORTED, part, "format", name, (int64_t)format,
                        (int64_t)config->feeds[feed].mode.codec);
    }
    if (err != BMB_OK && fault != NULL) fault->addr = *addr;
    return err;
}

bmb_err bmb_check_outlet(const bmb_config *config, size_t index, bmb_fault *fault)
{
    const bmb_outlet_config *o = &config->outlets[index];
    bmb_err err = BMB_OK;
    if (o->kind >= BMB_OUTLET_COUNT)
        err = bmb_blame(fault, BMB_BAD_ARG, "outlet", "kind", NULL, (int64_t)o->kind, BMB_OUTLET_COUNT - 1);
    const bmb_outlet_config *other = &config->outlets[o->elsewhere > 0 ? o->elsewhere - 1u : index];
    if (err == BMB_OK && o->only != 0 && o->elsewhere == 0)
        err = bmb_blame(fault, BMB_BAD_ARG, "outlet", "elsewhere", NULL, 0, 0);
    if (BMB_WITH_ACCESS && err == BMB_OK && o->elsewhere > 0 &&
        (o->elsewhere > config->outlet_count || o->secure || !other->secure || other->kind != o->kind))
        err = bmb_blame(fault, BMB_BAD_ARG, "outlet", "elsewhere", NULL, o->elsewhere, 0);
    if (err == BMB_OK && o->kind == BMB_OUTLET_TCP)
        err = bmb_check_stream(config, "outlet", o->feed, o->format, true, &o->listen, fault);
    return err;
}

bmb_err bmb_check_push(const bmb_config *config, size_t index, bmb_fault *fault)
{
    const bmb_push_config *p = &config->pushes[index];
    bmb_err err = bmb_check_stream(config, "push", p->feed, p->format, p->tcp, &p->to, fault);
    if (err == BMB_OK && (p->to.family == 0 || p->to.port == 0 || p->feed == BMB_NO_FEED))
        err = bmb_blame(fault, BMB_BAD_ARG, "push", "to", NULL, p->to.port, 0);
    if (BMB_WITH_TLS && err == BMB_OK && p->secure && !p->tcp) /* datagrams are not encrypted here */
        err = bmb_blame(fault, BMB_UNSUPPORTED, "push", "secure", NULL, 0, 0);
    return err;
}

bmb_err bmb_check_outlets(const bmb_config *config, bmb_fault *fault)
{
    bmb_err err = BMB_OK;
    for (size_t i = 0; err == BMB_OK && i < config->outlet_count; i++) err = bmb_check_outlet(config, i, fault);
    for (size_t i = 0; err == BMB_OK && i < config->push_count; i++) err = bmb_check_push(config, i, fault);
    return err;
}
