/* A camera's controls: from the configuration, from callers, and kept over restarts by the port's storage.
 *
 * A record holds what was set last and what the configuration said then. A value is restored as long as the
 * configuration still says the same: who edits the file is obeyed.
 */
#include "media/controls.h"

#include <string.h>

#include "base/bounds.h"
#include "base/bytes.h"

#define RECORD_VERSION 1u
#define ROW 10u /* control, flags, value, the configuration's value */
#define CONFIGURED 1u
#define RECORD_MAX (2 + BMB_CONTROL_COUNT * ROW)

static const bmb_setting *configured(const bmb_camera *c, bmb_control control)
{
    const bmb_setting *found = NULL; /* the last one counts */
    for (size_t i = 0; i < c->config->setting_count; i++)
        if (c->config->settings[i].control == control) found = &c->config->settings[i];
    return found;
}

/* Each stream of a camera has a record of its own: bit rates and qualities are the stream's. */
static void record_name(const bmb_context *x, const bmb_camera *c, char *out, size_t room)
{
    const bmb_cameras *cameras = &x->port->cameras;
    bmb_writer w = bmb_writer_of(out, room - 1);
    bmb_camera_info info = { 0 };
    (void)cameras->info(cameras->ctx, c->index, &info);
    bmb_put_text(&w, info.stream == 0 ? "controls-%s" : "controls-%s-%u", c->config->camera, info.stream);
    out[bmb_written(&w)] = '\0';
}

static bool keeps(const bmb_context *x, const bmb_camera *c)
{
    return c->config->keep_controls && x->port->storage.load != NULL && x->port->storage.store != NULL;
}

typedef struct kept_row {
    uint8_t control, flags;
    int32_t value, config;
} kept_row;

/* Reads the record; rows of controls that are not known any more are left out. */
static size_t load_rows(const bmb_context *x, const bmb_camera *c, kept_row *rows)
{
    const bmb_storage *s = &x->port->storage;
    char name[48];
    uint8_t data[RECORD_MAX];
    size_t size = 0, count = 0;
    record_name(x, c, name, sizeof name);
    if (s->load(s->ctx, name, data, sizeof data, &size) != BMB_OK || size > sizeof data) return 0;
    bmb_reader r = bmb_reader_of(data, size);
    if (bmb_get_u8(&r) != RECORD_VERSION) return 0;
    for (uint8_t n = bmb_get_u8(&r); n > 0 && !r.failed && count < BMB_CONTROL_COUNT; n--) {
        kept_row row = { .control = bmb_get_u8(&r) };
        row.flags = bmb_get_u8(&r);
        row.value = (int32_t)bmb_get_u32(&r);
        row.config = (int32_t)bmb_get_u32(&r);
        if (!r.failed && row.control < BMB_CONTROL_COUNT) rows[count++] = row;
    }
    return count;
}

/* The row of a control; a new one where there is none. There is one more row than controls. */
static kept_row *row_of(kept_row *rows, size_t *count, uint8_t control)
{
    size_t at = 0;
    while (at < *count && rows[at].control != control) at++;
    if (at == *count && *count < BMB_CONTROL_COUNT) ++*count;
    return &rows[at];
}

static bmb_err store_rows(const bmb_context *x, const bmb_camera *c, const kept_row *rows, size_t count)
{
    const bmb_storage *s = &x->port->storage;
    uint8_t data[RECORD_MAX];
    char name[48];
    bmb_writer w = bmb_writer_of(data, sizeof data);
    bmb_put_u8(&w, RECORD_VERSION);
    bmb_put_u8(&w, (uint8_t)count);
    for (size_t i = 0; i < count; i++) {
        bmb_put_u8(&w, rows[i].control);
        bmb_put_u8(&w, rows[i].flags);
        bmb_put_u32(&w, (uint32_t)rows[i].value);
        bmb_put_u32(&w, (uint32_t)rows[i].config);
    }
    record_name(x, c, name, sizeof name);
    return s->store(s->ctx, name, data, bmb_written(&w));
}

void bmb_controls_keep(bmb_context *x, bmb_camera *c)
{
    kept_row rows[BMB_CONTROL_COUNT + 1];
    if (c->changed == 0) return;
    bmb_doing was = bmb_turn(x, BMB_DOING_STORING);
    size_t count = load_rows(x, c, rows);
    for (uint8_t i = 0; i < BMB_CONTROL_COUNT; i++) {
        int32_t value;
        if ((c->changed >> i & 1) == 0 || bmb_camera_get(x, c, (bmb_control)i, &value) != BMB_OK) continue;
        const bmb_setting *conf = configured(c, (bmb_control)i);
        *row_of(rows, &count, i) = (kept_row){ .control = i,
                                               .flags = conf != NULL ? CONFIGURED : 0,
                                               .value = value,
                                               .config = conf != NULL ? conf->value : 0 };
    }
    bmb_err err = store_rows(x, c, rows, count);
    (void)bmb_turn(x, was);
    if (err == BMB_OK) {
        c->changed = 0;
        c->keep_us = x->now + BMB_KEEP_PAUSE_US;
    } else { /* what is to be kept stays known, and is tried again */
        c->keep_us = x->now + BMB_KEEP_AGAIN_US;
        bmb_camera_tell(x, c, BMB_EVENT_CONTROLS_NOT_KEPT, err, 0, 0);
    }
}

uint64_t bmb_controls_tend(bmb_context *x, bmb_camera *c)
{
    if (c->changed == 0 || c->lent) return UINT64_MAX; /* a still has controls of its own meanwhile */
    if (x->now >= c->keep_us) bmb_controls_keep(x, c);
    return c->changed != 0 ? c->keep_us : UINT64_MAX;
}

static void restore(bmb_context *x, bmb_camera *c)
{
    kept_row rows[BMB_CONTROL_COUNT + 1];
    int32_t effective;
    size_t count = load_rows(x, c, rows), restored = 0;
    for (size_t i = 0; i < count; i++) {
        const bmb_setting *conf = configured(c, (bmb_control)rows[i].control);
        bool same = (rows[i].flags & CONFIGURED) != 0 ? conf != NULL && conf->value == rows[i].config : conf == NULL;
        if (!same) continue;
        bmb_control control = (bmb_control)rows[i].control;
        restored += bmb_camera_set(x, c, control, rows[i].value, &effective) == BMB_OK;
    }
    if (restored > 0) bmb_camera_tell(x, c, BMB_EVENT_CONTROLS_RESTORED, BMB_OK, (int64_t)restored, 0);
}

void bmb_controls_apply(bmb_context *x, bmb_camera *c)
{
    if (c->restored) return; /* a camera that is started again has its controls still, as they were last set */
    c->restored = true;
    for (size_t i = 0; i < c->config->setting_count; i++) {
        const bmb_setting *s = &c->config->settings[i];
        int32_t effective;
        bmb_err err = bmb_camera_set(x, c, s->control, s->value, &effective);
        if (err != BMB_OK) bmb_camera_tell(x, c, BMB_EVENT_CONTROL_REFUSED, err, (int64_t)s->control, s->value);
    }
    if (keeps(x, c)) restore(x, c);
}

bmb_err bmb_controls_set(bmb_context *x, bmb_camera *c, bmb_control control, int32_t value, int32_t *effective)
{
    if (c->lent) return BMB_AGAIN; /* its controls are those of the still, for a moment */
    bmb_err err = bmb_camera_set(x, c, control, value, effective);
#if BMB_WITH_FOLLOWING
    if (err == BMB_OK && control == BMB_CONTROL_KBPS) c->follows_kbps = 0, c->set_kbps = 0;
#endif
    if (err != BMB_OK || !keeps(x, c)) return err;
    /* Peers may turn a control as often as they like: storage is written once for all changes of a while. */
    uint64_t soon = bmb_clock(x) + BMB_KEEP_AFTER_US;
    if (c->changed == 0 && c->keep_us < soon) c->keep_us = soon;
    c->changed |= 1u << control;
    return BMB_OK;
}
