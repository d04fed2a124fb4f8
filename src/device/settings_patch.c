#include "device/settings_patch.h"

#include <string.h>

#include "base/bytes.h"

#if BMB_WITH_SETTINGS

const char *bmb_setting_name(unsigned key)
{
    return key == BMB_SETTING_SIZE ? "size" : key == BMB_SETTING_RATE ? "rate" : bmb_control_name((bmb_control)key);
}

bool bmb_setting_camera(const bmb_device *d, size_t feed, bmb_camera_info *info)
{
    const bmb_feed *f = bmb_feeds_at(&d->feeds, feed);
    const bmb_cameras *cameras = &d->context.port->cameras;
    return f != NULL && cameras->info(cameras->ctx, f->camera.index, info) == BMB_OK;
}

bool bmb_setting_is_there(const bmb_device *d, size_t feed, const bmb_camera_info *info, unsigned key)
{
    bmb_codec codec = d->feeds.feed[feed].camera.mode.codec;
    if (key >= BMB_SETTING_SIZE) return info->mode_count > 0;
    if (key == BMB_CONTROL_QUALITY && codec != BMB_CODEC_JPEG) return false;
    return info->controls[key].step != 0;
}

uint32_t bmb_setting_fastest(const bmb_camera_info *info, const bmb_mode *mode)
{
    uint32_t most = 0;
    for (uint8_t i = 0; i < info->mode_count; i++) {
        const bmb_mode_row *r = &info->modes[i];
        if (r->codec == mode->codec && r->width == mode->width && r->height == mode->height && r->mfps_most > most)
            most = r->mfps_most;
    }
    return most;
}

/* A patch is objects in objects: nothing else of JSON (RFC 8259) than what can be a setting is understood. */
typedef struct scan {
    const char *at, *end;
} scan;

static char next(scan *s)
{
    while (s->at < s->end && (*s->at == ' ' || *s->at == '\t' || *s->at == '\r' || *s->at == '\n')) s->at++;
    return s->at < s->end ? *s->at : '\0';
}

static bool takes(scan *s, char c)
{
    if (next(s) != c) return false;
    s->at++;
    return true;
}

/* A text without escapes, which none that is known here needs. */
static bool take_text(scan *s, bmb_text *out)
{
    if (!takes(s, '"')) return false;
    *out = (bmb_text){ s->at, 0 };
    while (s->at < s->end && *s->at != '"' && *s->at != '\\' && (uint8_t)*s->at >= 0x20) s->at++;
    out->size = (size_t)(s->at - out->at);
    return s->at < s->end && *s->at++ == '"';
}

/* In thousandths; false: none, or over what counts. */
static bool take_number(scan *s, int64_t *milli)
{
    bool minus = takes(s, '-');
    int64_t value = 0, place = 1000;
    const char *from = s->at;
    for (; s->at < s->end && *s->at >= '0' && *s->at <= '9' && value < 10000000000; s->at++)
        value = value * 10 + (*s->at - '0');
    bool digits = s->at > from;
    value *= 1000;
    if (digits && s->at < s->end && *s->at == '.')
        for (s->at++; s->at < s->end && *s->at >= '0' && *s->at <= '9'; s->at++)
            value += (place /= 10) * (*s->at - '0');
    *milli = minus ? -value : value;
    return digits && value < 10000000000000;
}

static bool refuse(bmb_patch *p, const char *why)
{
    p->detail = why;
    return false;
}

static bool take_size(const bmb_text *text, bmb_change *c)
{
    size_t cross = 0;
    uint32_t width, height;
    while (cross < text->size && text->at[cross] != 'x') cross++;
    if (cross == text->size || !bmb_read_dec(text->at, cross, 8192, &width) ||
        !bmb_read_dec(text->at + cross + 1, text->size - cross - 1, 8192, &height))
        return false;
    c->width = (uint16_t)width;
    c->height = (uint16_t)height;
    return true;
}

static bool take_value(bmb_patch *p, scan *s, bmb_change *c)
{
    bmb_text text;
    int64_t milli;
    if (next(s) == 'n' && s->end - s->at >= 4 && memcmp(s->at, "null", 4) == 0) {
        s->at += 4;
        c->preset = true;
        return c->key < BMB_SETTING_SIZE || refuse(p, "the camera has no preset of this");
    }
    if (c->key == BMB_SETTING_SIZE)
        return (take_text(s, &text) && take_size(&text, c)) || refuse(p, "WIDTHxHEIGHT is expected");
    if (!take_number(s, &milli)) return refuse(p, "a number is expected");
    if (c->key != BMB_SETTING_RATE && milli % 1000 != 0) return refuse(p, "a whole number is expected");
    int64_t value = c->key == BMB_SETTING_RATE ? milli : milli / 1000;
    if (value < INT32_MIN || value > INT32_MAX) return refuse(p, "this is out of range");
    c->value = (int32_t)value;
    return true;
}

static bool take_setting(bmb_patch *p, scan *s)
{
    const size_t feed = p->feed;
    bmb_camera_info info;
    unsigned key = 0;
    if (!take_text(s, &p->key) || !takes(s, ':')) return refuse(p, NULL);
    if (!bmb_setting_camera(p->d, feed, &info)) return refuse(p, "its camera is not there");
    while (key < BMB_SETTINGS && !bmb_same(p->key.at, p->key.size, bmb_setting_name(key))) key++;
    if (key == BMB_SETTINGS || !bmb_setting_is_there(p->d, feed, &info, key))
        return refuse(p, "there is no such setting");
    if (p->count == BMB_PATCH_MOST) return refuse(p, "these are too many at a time");
    bmb_change *c = &p->changes[p->count];
    *c = (bmb_change){ .feed = (uint8_t)feed, .key = (uint8_t)key };
    if (!take_value(p, s, c)) return false;
    if (key < BMB_SETTING_SIZE) {
        const bmb_range *r = &info.controls[key];
        if (c->preset) c->value = r->preset;
        if (c->value < r->least || c->value > r->most || (c->value - r->least) % r->step != 0)
            return refuse(p, "the camera has another range");
    }
    p->count++;
    return true;
}

/* Members of an object, one after the other. */
static bool each_member(bmb_patch *p, scan *s, bool (*take)(bmb_patch *p, scan *s))
{
    if (!takes(s, '{')) return refuse(p, NULL);
    if (takes(s, '}')) return true;
    do {
        if (!take(p, s)) return false;
    } while (takes(s, ','));
    return takes(s, '}') || refuse(p, NULL);
}

static bool take_feed(bmb_patch *p, scan *s)
{
    if (!take_text(s, &p->name) || !takes(s, ':')) return refuse(p, NULL);
    size_t feed = 0;
    while (feed < p->d->feeds.count && !bmb_same(p->name.at, p->name.size, p->d->feeds.feed[feed].config->name)) feed++;
    if (feed == p->d->feeds.count || (p->adjusts >> feed & 1) == 0) return refuse(p, "there is no such feed");
    p->feed = feed;
    return each_member(p, s, take_setting);
}

static bool take_section(bmb_patch *p, scan *s)
{
    bmb_text name;
    if (!take_text(s, &name) || !takes(s, ':')) return refuse(p, NULL);
    if (!bmb_same(name.at, name.size, "feed")) return refuse(p, "there are settings of feeds only");
    return each_member(p, s, take_feed);
}

bool bmb_patch_take(bmb_patch *p, bmb_text body)
{
    scan whole = { body.at, body.size > 0 ? body.at + body.size : body.at }, *s = &whole;
    return each_member(p, s, take_section) && (next(s) == '\0' || refuse(p, NULL));
}

void bmb_setting_keep_mode(const bmb_device *d, const bmb_feed_config *row, bool load, bmb_mode *mode)
{
    const bmb_storage *s = &d->context.port->storage;
    char name[32];
    uint8_t data[8];
    size_t size = 0;
    bmb_writer n = bmb_writer_of(name, sizeof name - 1), w = bmb_writer_of(data, sizeof data);
    if (!row->keep_controls || s->load == NULL || s->store == NULL) return;
    bmb_put_text(&n, "mode-%s", row->name);
    name[bmb_written(&n)] = '\0';
    bmb_put_u16(&w, mode->width);
    bmb_put_u16(&w, mode->height);
    bmb_put_u32(&w, mode->mfps);
    if (!load) (void)s->store(s->ctx, name, data, sizeof data);
    if (!load || s->load(s->ctx, name, data, sizeof data, &size) != BMB_OK || size != sizeof data) return;
    bmb_reader r = bmb_reader_of(data, sizeof data);
    mode->width = bmb_get_u16(&r);
    mode->height = bmb_get_u16(&r);
    mode->mfps = bmb_get_u32(&r);
}

/* A mode that the camera's list has; memory of its own grows with the picture. */
bmb_err bmb_setting_set_mode(bmb_device *d, size_t feed, const bmb_mode *mode)
{
    bmb_camera_info info;
    bmb_feed_config row = *d->feeds.feed[feed].config;
    if (!bmb_setting_camera(d, feed, &info) || mode->mfps < 1000 || mode->mfps > bmb_setting_fastest(&info, mode))
        return BMB_UNSUPPORTED;
    row.mode = *mode;
    uint32_t most = bmb_feed_of(row.name, mode->codec, mode->width, mode->height, mode->mfps).frame_max;
    if (row.storage == BMB_KEPT && most > row.frame_max) row.frame_max = most;
    if (row.storage == BMB_KEPT && row.reel_bytes < 2 * row.frame_max) row.reel_bytes = 2 * row.frame_max;
    return bmb_feed_change(d, feed, &row, NULL);
}

/* A feed's mode with what the patch says of it. */
static bool mode_with(const bmb_patch *p, size_t feed, bmb_mode *mode)
{
    bool changes = false;
    *mode = p->d->feeds.feed[feed].camera.mode;
    for (size_t i = 0; i < p->count; i++) {
        const bmb_change *c = &p->changes[i];
        if (c->feed != feed || c->key < BMB_SETTING_SIZE) continue;
        changes = true;
        if (c->key == BMB_SETTING_RATE) mode->mfps = c->value > 0 ? (uint32_t)c->value : 0;
        if (c->key == BMB_SETTING_SIZE) mode->width = c->width;
        if (c->key == BMB_SETTING_SIZE) mode->height = c->height;
    }
    return changes;
}

/* Modes first: they are what may fail. What came into force before something failed goes back. */
bool bmb_patch_apply(bmb_patch *p)
{
    bmb_mode before[BMB_STREAMS_MOST], mode;
    int32_t was[BMB_PATCH_MOST], effective;
    size_t feeds = p->d->feeds.count < BMB_STREAMS_MOST ? p->d->feeds.count : BMB_STREAMS_MOST, done = 0, i = 0;
    bool good = true;
    for (; good && i < feeds; i++) {
        before[i] = p->d->feeds.feed[i].camera.mode;
        if (mode_with(p, i, &mode)) good = bmb_setting_set_mode(p->d, i, &mode) == BMB_OK;
    }
    for (; good && done < p->count; done++) {
        const bmb_change *c = &p->changes[done];
        was[done] = 0;
        if (c->key >= BMB_SETTING_SIZE) continue;
        (void)bmb_control_get(p->d, c->feed, (bmb_control)c->key, &was[done]);
        good = bmb_control_set(p->d, c->feed, (bmb_control)c->key, c->value, &effective) == BMB_OK;
    }
    for (size_t k = 0; good && k < feeds; k++)
        if (mode_with(p, k, &mode)) bmb_setting_keep_mode(p->d, p->d->feeds.feed[k].config, false, &mode);
    if (good) return true;
    while (done-- > 0)
        if (p->changes[done].key < BMB_SETTING_SIZE)
            (void)bmb_control_set(p->d, p->changes[done].feed, (bmb_control)p->changes[done].key, was[done],
                                  &effective);
    for (size_t k = 0; k < i; k++)
        if (mode_with(p, k, &mode)) (void)bmb_setting_set_mode(p->d, k, &before[k]);
    return refuse(p, "the camera cannot, or the memory is not enough; all is as before");
}

#endif
