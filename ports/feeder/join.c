/* Several camera drivers as one. */
#include "bambino/feeder.h"

#define TOGETHER_MOST 8u /* streams of one camera that the core asks about */

/* The driver of a camera; *index becomes its own number of it. NULL: there is no such camera. */
static const bmb_cameras *part_of(void *ctx, size_t *index)
{
    const bmb_joined *joined = (bmb_joined *)ctx;
    for (size_t i = 0; i < joined->count; i++) {
        const bmb_cameras *part = &joined->part[i];
        size_t count = part->count(part->ctx);
        if (*index < count) return part;
        *index -= count;
    }
    return NULL;
}

static size_t count(void *ctx)
{
    const bmb_joined *joined = (bmb_joined *)ctx;
    size_t sum = 0;
    for (size_t i = 0; i < joined->count; i++) sum += joined->part[i].count(joined->part[i].ctx);
    return sum;
}

static bmb_err info(void *ctx, size_t index, bmb_camera_info *out)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL ? c->info(c->ctx, index, out) : BMB_NOT_FOUND;
}

static bmb_err start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL ? c->start(c->ctx, index, asked, effective) : BMB_NOT_FOUND;
}

static void stop(void *ctx, size_t index)
{
    const bmb_cameras *c = part_of(ctx, &index);
    if (c != NULL) c->stop(c->ctx, index);
}

static bmb_err take(void *ctx, size_t index, bmb_camera_frame *out)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL ? c->take(c->ctx, index, out) : BMB_GONE;
}

static void release(void *ctx, size_t index, uintptr_t cookie)
{
    const bmb_cameras *c = part_of(ctx, &index);
    if (c != NULL) c->release(c->ctx, index, cookie);
}

static bmb_err key_frame(void *ctx, size_t index)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->key_frame != NULL ? c->key_frame(c->ctx, index) : BMB_UNSUPPORTED;
}

static bmb_err set(void *ctx, size_t index, bmb_control control, int32_t value, int32_t *effective)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->set != NULL ? c->set(c->ctx, index, control, value, effective) : BMB_UNSUPPORTED;
}

static bmb_err get(void *ctx, size_t index, bmb_control control, int32_t *value)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->get != NULL ? c->get(c->ctx, index, control, value) : BMB_UNSUPPORTED;
}

static bmb_camera_fault fault(void *ctx, size_t index)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->fault != NULL ? c->fault(c->ctx, index) : BMB_CAMERA_FAULT_NONE;
}

static bool want(void *ctx, size_t index, bool wanted)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->want != NULL && c->want(c->ctx, index, wanted);
}

static uint16_t busy(void *ctx, size_t index)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->busy != NULL ? c->busy(c->ctx, index) : 0;
}

static bool present(void *ctx, size_t index)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && (c->present == NULL || c->present(c->ctx, index));
}

/* Streams of one camera are those of one driver. */
static bmb_err together(void *ctx, const size_t *indices, const bmb_mode *modes, size_t n, size_t *culprit)
{
    size_t own[TOGETHER_MOST];
    const bmb_cameras *c = NULL;
    for (size_t i = 0; i < n && i < TOGETHER_MOST; i++) {
        own[i] = indices[i];
        c = part_of(ctx, &own[i]);
    }
    if (c == NULL || c->together == NULL || n > TOGETHER_MOST) return BMB_OK;
    return c->together(c->ctx, own, modes, n, culprit);
}

static const char *trouble(void *ctx, size_t index)
{
    const bmb_cameras *c = part_of(ctx, &index);
    return c != NULL && c->trouble != NULL ? c->trouble(c->ctx, index) : NULL;
}

bmb_cameras bmb_cameras_join(bmb_joined *joined, const bmb_cameras *more)
{
    if (joined->count < BMB_JOINED_MOST) joined->part[joined->count++] = *more;
    return (bmb_cameras){ joined, count, info,  start, stop, take,    release,  key_frame,
                          set,    get,   fault, want,  busy, present, together, trouble };
}
