/* Outlets and pushes that come and go while the device runs. */
#include "device/parts.h"

#include <string.h>

#include "device/contract.h"

#if BMB_WITH_COMING

static bool changes(const bmb_device *d)
{
    return d->pieces != NULL;
}

bmb_err bmb_outlet_add(bmb_device *d, const bmb_outlet_config *config, size_t *index, bmb_fault *fault)
{
    bmb_context *x = &d->context;
    size_t count = x->config->outlet_count, i = 0;
    *index = SIZE_MAX;
    if (!changes(d)) return bmb_blame(fault, BMB_UNSUPPORTED, "outlet", "changes", NULL, 0, 0);
    while (i < count && d->talk.outlets[i].sock != BMB_NO_SOCK) i++;
    if (i == count) return bmb_blame(fault, BMB_LIMIT, "config", "outlets", NULL, (int64_t)i + 1, (int64_t)i);
    bmb_outlet_config *row = (bmb_outlet_config *)(uintptr_t)&x->config->outlets[i];
    const bmb_outlet_config before = *row;
    *row = *config;
    x->now = bmb_clock(x);
    bmb_err err = bmb_outlet_check(x->config, i, fault);
    /* Sessions, and the memory of what is encrypted, are laid out with the first configuration. */
    if (err == BMB_OK && config->kind == BMB_OUTLET_RTSP && d->talk.session_most == 0)
        err = bmb_blame(fault, BMB_NO_MEMORY, "outlet", "sessions", NULL, 0, 0);
#if BMB_WITH_TLS
    if (err == BMB_OK && config->secure && (!d->encrypts || !d->accepts))
        err = bmb_blame(fault, BMB_NO_MEMORY, "outlet", "secure", NULL, 0, 0);
#endif
    if (err == BMB_OK) {
        memset(&d->talk.outlets[i], 0, sizeof d->talk.outlets[i]);
        err = bmb_talk_listen(&d->talk, i, fault);
        if (err != BMB_OK) bmb_talk_deafen(&d->talk, i);
    }
    if (err == BMB_OK) {
        *index = i;
    } else {
        *row = before;
    }
    return err;
}

bmb_err bmb_outlet_remove(bmb_device *d, size_t index)
{
    bmb_context *x = &d->context;
    if (!changes(d)) return BMB_UNSUPPORTED;
    if (index >= x->config->outlet_count || d->talk.outlets[index].sock == BMB_NO_SOCK) return BMB_NOT_FOUND;
    x->now = bmb_clock(x);
    bmb_talk_deafen(&d->talk, index);
    return BMB_OK;
}

bmb_err bmb_push_add(bmb_device *d, const bmb_push_config *config, size_t *index, bmb_fault *fault)
{
    bmb_context *x = &d->context;
    size_t i = 0;
    *index = SIZE_MAX;
    if (!BMB_WITH_PUSH || !changes(d)) return bmb_blame(fault, BMB_UNSUPPORTED, "push", "changes", NULL, 0, 0);
    while (i < d->pushes.count && d->pushes.pushes[i].config != NULL) i++;
    if (i == d->pushes.count) return bmb_blame(fault, BMB_LIMIT, "config", "pushes", NULL, (int64_t)i + 1, (int64_t)i);
    bmb_push_config *row = (bmb_push_config *)(uintptr_t)&x->config->pushes[i];
    *row = *config;
    x->now = bmb_clock(x);
    bmb_err err = bmb_push_check(x->config, i, fault);
    if (err == BMB_OK && bmb_feeds_at(&d->feeds, config->feed) == NULL)
        err = bmb_blame(fault, BMB_NOT_FOUND, "push", "feed", NULL, config->feed, 0);
    if (err == BMB_OK && config->tcp && bmb_pushes_dialling(&d->pushes) + d->talk.conn_open == d->talk.conn_most)
        err = bmb_blame(fault, BMB_LIMIT, "push", "connections", NULL, 0, 0);
#if BMB_WITH_TLS
    if (err == BMB_OK && config->secure) err = bmb_blame(fault, BMB_NO_MEMORY, "push", "secure", NULL, 0, 0);
#endif
    if (err != BMB_OK) {
        *row = (bmb_push_config){ .tcp = false };
        return err;
    }
    memset(&d->pushes.pushes[i], 0, sizeof d->pushes.pushes[i]);
    bmb_pushes_start(&d->pushes, &d->feeds, i);
    *index = i;
    return BMB_OK;
}

bmb_err bmb_push_remove(bmb_device *d, size_t index)
{
    if (!BMB_WITH_PUSH || !changes(d)) return BMB_UNSUPPORTED;
    if (index >= d->pushes.count || d->pushes.pushes[index].config == NULL) return BMB_NOT_FOUND;
    d->context.now = bmb_clock(&d->context);
    bmb_pushes_remove(&d->pushes, index);
    return BMB_OK;
}

#else

bmb_err bmb_outlet_add(bmb_device *d, const bmb_outlet_config *config, size_t *index, bmb_fault *fault)
{
    (void)d, (void)index, (void)config, (void)fault;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_outlet_remove(bmb_device *d, size_t index)
{
    (void)d, (void)index;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_push_add(bmb_device *d, const bmb_push_config *config, size_t *index, bmb_fault *fault)
{
    (void)d, (void)index, (void)config, (void)fault;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_push_remove(bmb_device *d, size_t index)
{
    (void)d, (void)index;
    return BMB_UNSUPPORTED;
}

#endif
