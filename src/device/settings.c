#include "bambino/settings.h"

#include <string.h>

#include "base/bytes.h"
#include "device/settings_patch.h"

#if BMB_WITH_SETTINGS

#define BODY_MOST 512u

static void put_signed(bmb_writer *w, int32_t v)
{
    if (v < 0) bmb_put_u8(w, '-');
    bmb_put_dec(w, v < 0 ? 0u - (uint32_t)v : (uint32_t)v);
}

static void put_value(bmb_writer *w, const bmb_device *d, size_t feed, unsigned key)
{
    const bmb_mode *mode = &d->feeds.feed[feed].camera.mode;
    int32_t value = 0;
    if (key == BMB_SETTING_SIZE) {
        bmb_put_text(w, "\"%ux%u\"", mode->width, mode->height);
    } else if (key == BMB_SETTING_RATE) {
        bmb_put_milli(w, mode->mfps);
    } else {
        (void)bmb_control_get(d, feed, (bmb_control)key, &value);
        put_signed(w, value);
    }
}

static void put_document(bmb_writer *w, const bmb_device *d, uint64_t adjusts)
{
    bmb_camera_info info;
    const char *before = "{\"feed\":{";
    for (size_t i = 0; i < d->feeds.count; i++) {
        if ((adjusts >> i & 1) == 0 || !bmb_setting_camera(d, i, &info)) continue;
        bmb_put_text(w, "%s\"%s\":", before, d->feeds.feed[i].config->name);
        const char *mark = "{";
        for (unsigned key = 0; key < BMB_SETTINGS; key++) {
            if (!bmb_setting_is_there(d, i, &info, key)) continue;
            bmb_put_text(w, "%s\"%s\":", mark, bmb_setting_name(key));
            put_value(w, d, i, key);
            mark = ",";
        }
        bmb_put_str(w, "}");
        before = ",";
    }
    bmb_put_str(w, *before == ',' ? "}}" : "{}");
}

static void put_range(bmb_writer *w, int32_t preset, int32_t least, int32_t most, int32_t step)
{
    bmb_put_str(w, "\"preset\":");
    put_signed(w, preset);
    bmb_put_str(w, ",\"least\":");
    put_signed(w, least);
    bmb_put_str(w, ",\"most\":");
    put_signed(w, most);
    bmb_put_str(w, ",\"step\":");
    put_signed(w, step);
}

static void put_sizes(bmb_writer *w, const bmb_camera_info *info, bmb_codec codec)
{
    const char *mark = "\"preset\":\"\",\"choices\":[";
    for (uint8_t i = 0; i < info->mode_count; i++) {
        if (info->modes[i].codec != codec) continue;
        bmb_put_text(w, "%s\"%ux%u\"", mark, info->modes[i].width, info->modes[i].height);
        mark = ",";
    }
    bmb_put_str(w, "]");
}

static void put_row(bmb_writer *w, const bmb_device *d, size_t feed, const bmb_camera_info *info, unsigned key)
{
    const bmb_mode *mode = &d->feeds.feed[feed].camera.mode;
    bmb_put_text(w, "{\"section\":\"feed\",\"name\":\"%s\",\"key\":\"%s\",\"value\":", d->feeds.feed[feed].config->name,
                 bmb_setting_name(key));
    put_value(w, d, feed, key);
    bmb_put_str(w, ",");
    if (key == BMB_SETTING_SIZE) {
        put_sizes(w, info, mode->codec);
    } else if (key == BMB_SETTING_RATE) {
        uint32_t most = bmb_setting_fastest(info, mode);
        put_range(w, 15, 1, most >= 1000 ? (int32_t)(most / 1000) : 1, 1);
    } else {
        const bmb_range *r = &info->controls[key];
        put_range(w, r->preset, r->least, r->most, r->step);
    }
    bmb_put_text(
        w, ",\"changed\":false,\"unit\":\"\",\"notice\":\"%s\",\"needs\":\"adjust\",\"tried\":false,\"help\":\"\"}",
        key >= BMB_SETTING_SIZE ? "gap" : "nothing");
}

static bool keeps(const bmb_device *d)
{
    const bmb_storage *s = &d->context.port->storage;
    return s->load != NULL && s->store != NULL && d->context.config->feeds[0].keep_controls;
}

static void put_details(bmb_writer *w, const bmb_device *d, uint64_t adjusts)
{
    bmb_camera_info info;
    const char *mark = "{\"settings\":[";
    for (size_t i = 0; i < d->feeds.count; i++) {
        if ((adjusts >> i & 1) == 0 || !bmb_setting_camera(d, i, &info)) continue;
        for (unsigned key = 0; key < BMB_SETTINGS; key++) {
            if (!bmb_setting_is_there(d, i, &info, key)) continue;
            bmb_put_str(w, mark);
            put_row(w, d, i, &info, key);
            mark = ",";
        }
    }
    bmb_put_text(w, "%s],\"trial\":null,\"kept\":%s,\"spare_bytes\":0}", *mark == ',' ? "" : mark,
                 keeps(d) ? "true" : "false");
}

static void put_problem(bmb_writer *w, const bmb_patch *p, unsigned status)
{
    bmb_put_text(w, "{\"title\":\"%s\",\"status\":%u,\"detail\":\"%s\"",
                 status == 400 ? "Not understood" : "Not possible", status,
                 p->detail != NULL ? p->detail : "this is no JSON of settings");
    bool plain = p->key.size < 40 && p->name.size < BMB_NAME_MAX && p->detail != NULL;
    for (size_t i = 0; i < p->key.size; i++) plain = plain && (uint8_t)p->key.at[i] < 0x80;
    for (size_t i = 0; i < p->name.size; i++) plain = plain && (uint8_t)p->name.at[i] < 0x80;
    if (plain && p->name.size > 0) {
        bmb_put_str(w, ",\"at\":\"/feed/");
        bmb_put_bytes(w, p->name.at, p->name.size);
        if (p->key.size > 0) bmb_put_str(w, "/");
        bmb_put_bytes(w, p->key.at, p->key.size);
        bmb_put_str(w, "\"");
    }
    bmb_put_str(w, "}");
}

static void tell_change(bmb_device *d, const bmb_request *r, size_t count)
{
    bmb_note(d, &(bmb_event){
                    .code = BMB_EVENT_SETTINGS_CHANGED, .peer = &r->peer, .text = r->who, .value = (int64_t)count });
}

static unsigned change_settings(bmb_settings *self, const bmb_request *r, bmb_writer *w)
{
    bmb_patch p = { .d = self->device, .adjusts = r->adjusts };
    bmb_text body = { (const char *)r->body, r->body_size };
    if (!bmb_patch_take(&p, body) || !bmb_patch_apply(&p)) {
        unsigned status = p.detail != NULL ? 422 : 400;
        put_problem(w, &p, status);
        return status;
    }
    tell_change(self->device, r, p.count);
    bmb_put_text(w, "{\"settings\":%u,\"in_force\":\"now\",\"kept\":%s,\"trial\":null,\"now\":[", (unsigned)p.count,
                 keeps(self->device) ? "true" : "false");
    bmb_camera_info info;
    for (size_t i = 0; i < p.count; i++) {
        if (i > 0) bmb_put_str(w, ",");
        if (bmb_setting_camera(self->device, p.changes[i].feed, &info))
            put_row(w, self->device, p.changes[i].feed, &info, p.changes[i].key);
    }
    bmb_put_str(w, "]}");
    return 200;
}

static bool is(const char *path, size_t size, const char *literal)
{
    return bmb_same(path, size, literal);
}

static bool find(void *ctx, bmb_method method, const char *path, size_t size, bmb_role *needs)
{
    (void)ctx;
    (void)method;
    *needs = BMB_ROLE_ADJUST;
    return is(path, size, "/settings") || is(path, size, "/settings/details") || is(path, size, "/settings/trial");
}

/* FNV-1a, as the tag of a document. */
static void tag(bmb_settings *self, size_t size)
{
    uint32_t hash = 2166136261u;
    for (size_t i = 0; i < size; i++) hash = (hash ^ (uint8_t)self->out[i]) * 16777619u;
    bmb_writer w = bmb_writer_of(self->etag, sizeof self->etag - 1);
    bmb_put_str(&w, "\"");
    bmb_put_hex(&w, hash, 8);
    bmb_put_str(&w, "\"");
}

static bool matches(const char *list, size_t size, const char *etag)
{
    for (size_t i = 0; i + 10 <= size; i++)
        if (memcmp(list + i, etag, 10) == 0) return true;
    return size == 1 && *list == '*';
}

static void ask(void *ctx, const bmb_request *r, bmb_answer *a)
{
    bmb_settings *self = (bmb_settings *)ctx;
    bmb_writer w = bmb_writer_of(self->out, self->room);
    bool whole = is(r->path, r->path_size, "/settings"), patches = whole && r->method == BMB_METHOD_PATCH;
    a->type = "application/json";
    if (self->busy || self->device == NULL) {
        a->status = 503;
        return;
    }
    if (!patches && r->method != BMB_METHOD_GET) {
        a->status = 405;
        a->lines = whole ? "Allow: GET, HEAD, PATCH\r\n" : "Allow: GET, HEAD\r\n";
        return;
    }
    if (whole) {
        put_document(&w, self->device, r->adjusts);
        tag(self, bmb_written(&w));
        if (patches && r->if_match_size > 0 && !matches(r->if_match, r->if_match_size, self->etag)) {
            a->status = 412;
            return;
        }
    }
    if (patches) {
        w = bmb_writer_of(self->out, self->room);
        a->status = (uint16_t)change_settings(self, r, &w);
        if (a->status >= 400) a->type = "application/problem+json";
    } else if (whole) {
        a->etag = self->etag;
        if (r->if_none_match_size > 0 && matches(r->if_none_match, r->if_none_match_size, self->etag)) a->status = 304;
    } else if (is(r->path, r->path_size, "/settings/details")) {
        put_details(&w, self->device, r->adjusts);
    } else {
        bmb_put_str(&w, "{\"trial\":null}");
    }
    if (w.failed) { /* the memory is not enough for this camera's */
        a->status = 500;
        return;
    }
    a->body = self->out;
    a->size = bmb_written(&w);
    a->token = self;
    self->busy = true;
}

static void done(void *ctx, void *token)
{
    if (token != NULL) ((bmb_settings *)ctx)->busy = false;
}

void bmb_settings_prepare(bmb_settings *self, bmb_config *config, void *memory, size_t size)
{
    *self = (bmb_settings){ .service = { .ctx = self, .find = find, .ask = ask, .done = done, .body_most = BODY_MOST },
                            .out = (char *)memory,
                            .room = size };
    config->service = &self->service;
    config->reserve.changes = true;
}

void bmb_settings_begin(bmb_settings *self, bmb_device *device)
{
    self->device = device;
    for (size_t i = 0; i < device->feeds.count; i++) {
        const bmb_feed *f = bmb_feeds_at(&device->feeds, i);
        if (f == NULL) continue;
        bmb_mode mode = f->config->mode;
        bmb_setting_keep_mode(device, f->config, true, &mode);
        if (!bmb_mode_same(&mode, &f->config->mode)) (void)bmb_setting_set_mode(device, i, &mode);
    }
}

#else

void bmb_settings_prepare(bmb_settings *self, bmb_config *config, void *memory, size_t size)
{
    (void)self, (void)config, (void)memory, (void)size;
}

void bmb_settings_begin(bmb_settings *self, bmb_device *device)
{
    (void)self, (void)device;
}

#endif
