/* Settings over HTTP: read, understood, changed, tried and kept. docs/settings.md and docs/openapi.json describe it; a
 * test holds the description against the running device. */
#include <cjson/cJSON.h>
#include <inttypes.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "settings.h"

#define TRY_PRESET_S 60u /* what may cut somebody off is tried for so long */
#define TRY_MOST_S 3600u
#define SOON_US 250000u  /* after an answer, so that it is out before its way is closed */
#define DRAG_US 2000000u /* changes that follow each other so closely are told as one */
#define JSON "application/json"
#define PROBLEM "application/problem+json" /* RFC 9457 */

typedef struct problem {
    uint16_t status;
    char detail[700];
    char at[100]; /* a JSON pointer (RFC 6901) to what is wrong; "": nothing in particular */
} problem;

static bool refuse(problem *p, uint16_t status, const char *fmt, ...) __attribute__((format(printf, 3, 4)));

static bool refuse(problem *p, uint16_t status, const char *fmt, ...)
{
    va_list args;
    p->status = status;
    va_start(args, fmt);
    vsnprintf(p->detail, sizeof p->detail, fmt, args);
    va_end(args);
    return false;
}

static const char *title_of(uint16_t status)
{
    switch (status) {
    case 403:
        return "Not allowed";
    case 404:
        return "Not found";
    case 405:
        return "Not that way";
    case 409:
        return "Not now";
    case 412:
        return "Changed meanwhile";
    case 413:
        return "Too large";
    case 415:
        return "Not in this form";
    case 422:
        return "Not possible";
    case 500:
        return "Failed";
    default:
        return "Not understood";
    }
}

/* Answers. Their texts are from the heap, and freed when they are sent. */
static void answer_text(bmb_answer *a, uint16_t status, const char *type, char *text)
{
    a->status = text != NULL ? status : 500;
    a->type = type;
    a->body = a->token = text;
    a->size = text != NULL ? strlen(text) : 0;
}

static void answer_json(bmb_answer *a, uint16_t status, const char *type, cJSON *json)
{
    answer_text(a, status, type, cJSON_PrintUnformatted(json));
    cJSON_Delete(json);
}

static void answer_problem(bmb_answer *a, const problem *p)
{
    cJSON *o = cJSON_CreateObject();
    cJSON_AddStringToObject(o, "title", title_of(p->status));
    cJSON_AddNumberToObject(o, "status", p->status);
    cJSON_AddStringToObject(o, "detail", p->detail);
    if (p->at[0] != '\0') cJSON_AddStringToObject(o, "at", p->at);
    answer_json(a, p->status, PROBLEM, o);
    if (p->status == 405) a->lines = "Allow: GET, HEAD, PATCH\r\n";
}

static void done(void *ctx, void *token)
{
    (void)ctx;
    free(token);
}

static void add_value(cJSON *o, const char *key, const key_row *k, const char *text)
{
    char *end;
    double number = strtod(text, &end);
    if (cli_key_is_number(k) && end != text && *end == '\0') {
        cJSON_AddNumberToObject(o, key, number);
    } else {
        cJSON_AddStringToObject(o, key, text);
    }
}

/* What the device has in force, where that may be something else than what is asked for; false: that is not known. */
static bool in_force(const cli_device *d, const key_row *k, const char *name, char *out, size_t room)
{
    bmb_feed_stats s;
    int32_t value;
    size_t place = k->section == SECTION_FEED ? cli_place_of(d, name) : SIZE_MAX;
    if (place == SIZE_MAX || bmb_feed_stats_get(d->device, place, &s) != BMB_OK) return false;
    if (k->type == KEY_CONTROL && k->at == BMB_CONTROL_KBPS && s.codec == BMB_CODEC_JPEG) {
        snprintf(out, room, "%" PRIu32, s.kbps_set);
        return true;
    }
    if (k->type == KEY_CONTROL) {
        if (bmb_control_get(d->device, place, (bmb_control)k->at, &value) != BMB_OK) return false;
        snprintf(out, room, "%" PRId32, value);
    } else if (k->type == KEY_SIZE) {
        snprintf(out, room, "%ux%u", s.width, s.height);
    } else if (k->type == KEY_RATE) {
        snprintf(out, room, "%.10g", (double)s.mfps_set / 1000.0);
    } else if (strcmp(k->key, "codec") == 0) {
        snprintf(out, room, "%s", bmb_codec_name(s.codec));
    } else {
        return false;
    }
    return true;
}

/* Controls that the feed's camera has not are no settings of it. */
static bool has_control(const key_row *k, const bmb_camera_info *info, const bmb_feed_stats *s)
{
    if (k->type != KEY_CONTROL) return true;
    if (k->at == BMB_CONTROL_KBPS && s->codec == BMB_CODEC_JPEG) return true;
    bool jpeg = k->at == BMB_CONTROL_QUALITY,
         h264 = k->at == BMB_CONTROL_KBPS || k->at == BMB_CONTROL_KEY_MS || k->at == BMB_CONTROL_PROFILE;
    if ((jpeg && s->codec != BMB_CODEC_JPEG) || (h264 && s->codec != BMB_CODEC_H264)) return false;
    return info->controls[k->at].step != 0;
}

/* One item of a section, as it is gone through. */
typedef struct item {
    bool adjusts; /* whoever asks may adjust it */
    section section;
    const char *name; /* "": the section has no names */
    const void *at;
    bmb_camera_info info; /* feeds */
    bmb_feed_stats stats;
} item;

/* The index-th of all sections' items. */
static bool item_at(const cli_device *d, size_t index, uint64_t adjusts, item *out)
{
    const cli_config *f = &d->file;
    memset(out, 0, sizeof *out);
    out->name = "";
    if (index < SECTION_CAMERA) {
        out->section = (section)index;
        out->at = f;
        return true;
    }
    index -= SECTION_CAMERA;
    const size_t counts[] = { f->camera_count, f->feed_count, f->tcp_count, f->push_count };
    for (size_t s = 0; s < 4; s++) {
        if (index >= counts[s]) {
            index -= counts[s];
            continue;
        }
        out->section = (section)(SECTION_CAMERA + s);
        const char *const names[] = { f->cameras[index].name, f->feeds[index].name,
                                      f->tcp[index < CLI_TCP_MOST ? index : 0].name,
                                      f->pushes[index < CLI_PUSHES_MOST ? index : 0].name };
        out->name = names[s];
        out->at = cli_section_item(f, out->section, out->name);
        size_t number, place = out->section == SECTION_FEED ? cli_place_of(d, out->name) : SIZE_MAX;
        if (out->section == SECTION_FEED) (void)cli_find_camera(d, f->feeds[index].camera, &number, &out->info);
        if (place != SIZE_MAX) (void)bmb_feed_stats_get(d->device, place, &out->stats);
        out->adjusts = place < 64 ? (adjusts >> place & 1) != 0 : adjusts == UINT64_MAX;
        return true;
    }
    return false;
}

static bool shows(const item *i, const key_row *k, bmb_role role)
{
    return k->section == i->section && !cli_key_is_local(k) && (k->section != SECTION_FEED || i->adjusts) &&
           (role >= BMB_ROLE_ADMINISTER || cli_key_is_adjusted(k)) && has_control(k, &i->info, &i->stats);
}

/* What is asked for, or holds where nothing is: it changes when somebody changes it, and not by itself as what is in
 * force may. */
static bool asked_for(const cli_device *d, const item *i, const key_row *k, char *out, size_t room)
{
    if (cli_key_text(k, i->at, out, room) && strcmp(out, "auto") != 0) return true;
    if (k->type != KEY_CONTROL) return in_force(d, k, i->name, out, room) || cli_key_text(k, i->at, out, room);
    if (i->info.controls[k->at].step == 0) return false;
    snprintf(out, room, "%" PRId32, i->info.controls[k->at].preset);
    return true;
}

/* The settings as one object. */
static cJSON *document(const cli_device *d, const bmb_request *asker)
{
    cJSON *root = cJSON_CreateObject();
    const bmb_role role = asker->role;
    item i;
    const key_row *k;
    char text[CLI_TEXT_MAX + 8];
    for (size_t n = 0; item_at(d, n, asker->adjusts, &i); n++) {
        cJSON *o = cJSON_CreateObject();
        for (size_t r = 0; (k = cli_key_at(r)) != NULL; r++)
            if (shows(&i, k, role) && asked_for(d, &i, k, text, sizeof text)) add_value(o, k->key, k, text);
        bool list = cli_section_is_list(i.section);
        const char *name = cli_section_names[i.section];
        cJSON *to = list ? cJSON_GetObjectItemCaseSensitive(root, name) : root;
        if (o->child == NULL && (!list || role < BMB_ROLE_ADMINISTER)) {
            cJSON_Delete(o);
            continue;
        }
        if (to == NULL) to = cJSON_AddObjectToObject(root, name);
        cJSON_AddItemToObject(to, list ? i.name : name, o);
    }
    return root;
}

static void etag_of(const char *text, char out[24])
{
    uint64_t hash = 14695981039346656037u; /* FNV-1a */
    for (; *text != '\0'; text++) hash = (hash ^ (uint8_t)*text) * 1099511628211u;
    snprintf(out, 24, "\"%016" PRIx64 "\"", hash);
}

/* Is the tag in a list of them, or is it any? (RFC 9110 13.1) */
static bool matches(const char *list, size_t size, const char *etag)
{
    size_t tag = strlen(etag);
    if (size == 1 && list[0] == '*') return true;
    for (size_t i = 0; i + tag <= size; i++)
        if (memcmp(list + i, etag, tag) == 0) return true;
    return false;
}

static void add_sizes(cJSON *o, const item *i, const key_row *k)
{
    cJSON *list = NULL;
    char text[24];
    uint32_t fastest = 0;
    for (size_t n = 0; n < i->info.mode_count; n++) {
        const bmb_mode_row *m = &i->info.modes[n];
        if (m->codec != i->stats.codec) continue;
        if (k->type == KEY_RATE) {
            bool here = m->width == i->stats.width && m->height == i->stats.height;
            if (m->mfps_most > fastest || here) fastest = m->mfps_most;
            if (here) break;
        } else {
            if (list == NULL) list = cJSON_AddArrayToObject(o, "choices");
            snprintf(text, sizeof text, "%ux%u", m->width, m->height);
            cJSON_AddItemToArray(list, cJSON_CreateString(text));
        }
    }
    if (fastest > 0) cJSON_SetNumberValue(cJSON_GetObjectItem(o, "most"), (double)fastest / 1000.0);
}

static void add_codecs(cJSON *o, const item *i)
{
    cJSON *list = cJSON_AddArrayToObject(o, "choices");
    for (int c = 0; c < BMB_CODEC_COUNT; c++)
        if (cli_first_mode(&i->info, (bmb_codec)c) != NULL)
            cJSON_AddItemToArray(list, cJSON_CreateString(bmb_codec_name((bmb_codec)c)));
}

static void add_choices(cJSON *o, const item *i, const key_row *k)
{
    if (k->section == SECTION_FEED && strcmp(k->key, "codec") == 0 && i->info.mode_count > 0) {
        add_codecs(o, i);
    } else if (k->choices != NULL) {
        cJSON *list = cJSON_AddArrayToObject(o, "choices");
        for (size_t n = 0; k->choices[n] != NULL; n++) cJSON_AddItemToArray(list, cJSON_CreateString(k->choices[n]));
    } else if (k->section == SECTION_FEED && k->type == KEY_SIZE) {
        add_sizes(o, i, k);
    }
}

static const char *why_differs(const cli_device *d, const item *i, const key_row *k)
{
    (void)d;
    if (k->type == KEY_CONTROL && k->at == BMB_CONTROL_QUALITY && i->stats.kbps_set > 0)
        return "the bit rate that is held decides it";
    if (k->type == KEY_CONTROL && k->at == BMB_CONTROL_QUALITY) return "larger pictures would not fit its memory";
    if (i->stats.camera_state == BMB_CAMERA_OFF) return "the feed is paused";
    if (i->stats.camera_state == BMB_CAMERA_WAITING) return "the camera does not answer";
    return "the camera chose what is nearest to it";
}

/* All that can be said of one setting. */
static cJSON *describe(const cli_device *d, const item *i, const key_row *k)
{
    const cli_settings *s = d->layers;
    cJSON *o = cJSON_CreateObject();
    char force[CLI_TEXT_MAX + 8] = "", asked[CLI_TEXT_MAX + 8] = "", preset[CLI_TEXT_MAX];
    bool is_asked = cli_key_text(k, i->at, asked, sizeof asked),
         is_known = in_force(d, k, i->name, force, sizeof force);
    cJSON_AddStringToObject(o, "section", cli_section_names[i->section]);
    if (i->name[0] != '\0') cJSON_AddStringToObject(o, "name", i->name);
    cJSON_AddStringToObject(o, "key", k->key);
    if (is_known || is_asked) add_value(o, "value", k, is_known ? force : asked);
    if (is_asked) add_value(o, "asked", k, asked);
    const bmb_range *range = k->type == KEY_CONTROL ? &i->info.controls[k->at] : NULL;
    bool held = range != NULL && k->at == BMB_CONTROL_KBPS && i->stats.codec == BMB_CODEC_JPEG;
    bool ranged = range != NULL && range->step != 0 && !held;
    snprintf(preset, sizeof preset, "%s", held ? "none" : k->preset);
    if (ranged) snprintf(preset, sizeof preset, "%" PRId32, range->preset);
    add_value(o, "preset", k, preset);
    cJSON_AddBoolToObject(o, "changed", cli_layer_find(&s->now, (uint8_t)i->section, i->name, k->key) != SIZE_MAX);
    if (cli_key_is_number(k)) {
        double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
        cJSON_AddNumberToObject(o, "least", ranged ? range->least : (double)k->least / scale);
        cJSON_AddNumberToObject(o, "most", ranged ? range->most : (double)k->most / scale);
        cJSON_AddNumberToObject(o, "step", ranged ? range->step : k->type == KEY_RATE ? 0.001 : 1);
    }
    if (k->section == SECTION_FEED && k->type == KEY_RATE) add_sizes(o, i, k);
    add_choices(o, i, k);
    cJSON_AddStringToObject(o, "unit", k->unit);
    cJSON_AddStringToObject(o, "notice", cli_key_notice(k));
    cJSON_AddStringToObject(o, "needs", cli_key_is_adjusted(k) ? "adjust" : "administer");
    cJSON_AddBoolToObject(o, "tried", cli_key_is_dangerous(k));
    cJSON_AddStringToObject(o, "help", k->help);
    if (is_known && is_asked && strcmp(force, asked) != 0 && strcmp(asked, "auto") != 0)
        cJSON_AddStringToObject(o, "why", why_differs(d, i, k));
    return o;
}

static cJSON *trial_of(const cli_device *d)
{
    const cli_settings *s = d->layers;
    uint64_t now = d->port.now_us(d->port.ctx);
    if (!s->tries) return cJSON_CreateNull();
    cJSON *o = cJSON_CreateObject();
    cJSON_AddNumberToObject(o, "settings", s->tried);
    cJSON_AddNumberToObject(o, "seconds_left", s->until_us > now ? (double)((s->until_us - now) / 1000000) : 0);
    cJSON *ports = cJSON_AddArrayToObject(o, "confirm_at");
    for (size_t i = 0; i < 2; i++)
        if (s->ways_in[i] != 0) cJSON_AddItemToArray(ports, cJSON_CreateNumber(s->ways_in[i]));
    return o;
}

static void tell_details(const cli_device *d, const bmb_request *asker, bmb_answer *a)
{
    cJSON *root = cJSON_CreateObject(), *rows = cJSON_AddArrayToObject(root, "settings");
    item i;
    const key_row *k;
    for (size_t n = 0; item_at(d, n, asker->adjusts, &i); n++)
        for (size_t r = 0; (k = cli_key_at(r)) != NULL; r++)
            if (shows(&i, k, asker->role)) cJSON_AddItemToArray(rows, describe(d, &i, k));
    cJSON_AddItemToObject(root, "trial", trial_of(d));
    cJSON_AddBoolToObject(root, "kept", d->layers->stores);
    bmb_device_stats stats;
    bmb_device_stats_get(d->device, &stats);
    cJSON_AddNumberToObject(root, "spare_bytes", (double)stats.spare);
    answer_json(a, 200, JSON, root);
}

static void tell_document(const cli_device *d, const bmb_request *r, bmb_answer *a)
{
    static char etag[24];
    answer_json(a, 200, JSON, document(d, r));
    if (a->body == NULL) return;
    etag_of((const char *)a->body, etag);
    a->etag = etag;
    if (r->if_none_match_size > 0 && matches(r->if_none_match, r->if_none_match_size, etag)) a->status = 304;
}

/* Merging (RFC 7396). Values become texts, as a file would say them. */
typedef struct merging {
    const cli_device *d;
    bmb_role role;
    uint64_t adjusts;
    cli_layer *layer;
    problem *p;
    size_t count;
} merging;

static bool take_value(merging *m, const key_row *k, const char *name, const cJSON *value)
{
    cli_change c = { .section = (uint8_t)k->section };
    snprintf(c.name, sizeof c.name, "%s", name);
    snprintf(c.key, sizeof c.key, "%s", k->key);
    if (cJSON_IsNumber(value)) {
        snprintf(c.value, sizeof c.value, "%.10g", value->valuedouble);
    } else if (cJSON_IsBool(value)) {
        snprintf(c.value, sizeof c.value, "%d", cJSON_IsTrue(value) != 0);
    } else if (cJSON_IsString(value)) {
        if (strlen(value->valuestring) >= sizeof c.value) return refuse(m->p, 422, "the text is too long");
        snprintf(c.value, sizeof c.value, "%s", value->valuestring);
        for (const char *at = c.value; *at != '\0'; at++)
            if ((unsigned char)*at < 0x20) return refuse(m->p, 422, "a text of one line is expected");
        if (c.value[0] == '\0') return refuse(m->p, 422, "a text is expected; null: the preset");
    } else if (!cJSON_IsNull(value)) {
        return refuse(m->p, 422, "a number, a text or null is expected");
    }
    m->count++;
    return cli_layer_set(m->layer, &c) || refuse(m->p, 422, "there are too many changes already");
}

static bool take_key(merging *m, section s, const char *name, const cJSON *value)
{
    const key_row *k = cli_key_named(s, value->string);
    if (name[0] != '\0') {
        snprintf(m->p->at, sizeof m->p->at, "/%s/%s/%.40s", cli_section_names[s], name, value->string);
    } else {
        snprintf(m->p->at, sizeof m->p->at, "/%s/%.40s", cli_section_names[s], value->string);
    }
    if (k == NULL) {
        const char *names[CLI_KEYS_MOST];
        size_t count = 0;
        for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++)
            if (k->section == s) names[count++] = k->key;
        const char *near = cli_nearest(value->string, names, count);
        return refuse(m->p, 422, "there is no such setting%s%s%s", near != NULL ? "; did you mean " : "",
                      near != NULL ? near : "", near != NULL ? "?" : "");
    }
    if (cli_key_is_local(k))
        return refuse(m->p, 403, "this is set in the configuration file alone, on the device itself");
    if (m->role < BMB_ROLE_ADMINISTER && !cli_key_is_adjusted(k))
        return refuse(m->p, 403, "this takes somebody who may administer");
    return take_value(m, k, name, value);
}

static bool is_fine_name(const char *name)
{
    size_t n = strspn(name, "abcdefghijklmnopqrstuvwxyz0123456789-_");
    return n > 0 && name[n] == '\0' && n < BMB_NAME_MAX;
}

/* A section of that name: taken away, changed, or a new one. */
static bool take_item(merging *m, section s, const cJSON *said)
{
    const char *name = said->string;
    snprintf(m->p->at, sizeof m->p->at, "/%s/%.40s", cli_section_names[s], name);
    if (!is_fine_name(name)) return refuse(m->p, 422, "a name of 1 to %d of a-z 0-9 - _ is expected", BMB_NAME_MAX - 1);
    bool there = cli_section_item(&m->d->file, s, name) != NULL;
    if ((cJSON_IsNull(said) || !there) && m->role < BMB_ROLE_ADMINISTER)
        return refuse(m->p, there ? 403 : 404, there ? "this takes somebody who may administer" : "there is no such %s",
                      cli_section_names[s]);
    size_t place = s == SECTION_FEED ? cli_place_of(m->d, name) : SIZE_MAX;
    if (place < 64 && (m->adjusts >> place & 1) == 0)
        return refuse(m->p, 403, "this feed is none of those that you may adjust");
    if (!cJSON_IsNull(said) && !cJSON_IsObject(said)) return refuse(m->p, 422, "an object or null is expected");
    if (cJSON_IsNull(said)) {
        if (!there) return refuse(m->p, 404, "there is no such %s", cli_section_names[s]);
        for (size_t at; (at = cli_layer_find(m->layer, (uint8_t)s, name, NULL)) != SIZE_MAX;)
            cli_layer_drop(m->layer, at);
        cli_change c = { .section = (uint8_t)s };
        snprintf(c.name, sizeof c.name, "%s", name);
        m->count++;
        return cli_layer_set(m->layer, &c) || refuse(m->p, 422, "there are too many changes already");
    }
    /* What was taken away begins anew; whatever the file says of it. */
    size_t gone = cli_layer_find(m->layer, (uint8_t)s, name, "");
    if (gone != SIZE_MAX) cli_layer_drop(m->layer, gone);
    for (const cJSON *value = said->child; value != NULL; value = value->next)
        if (!take_key(m, s, name, value)) return false;
    return true;
}

static bool take_document(merging *m, const cJSON *root)
{
    if (!cJSON_IsObject(root)) return refuse(m->p, 400, "an object of JSON is expected");
    for (const cJSON *part = root->child; part != NULL; part = part->next) {
        section s;
        snprintf(m->p->at, sizeof m->p->at, "/%.40s", part->string);
        if (!cli_section_named(part->string, &s)) return refuse(m->p, 422, "there is no such section");
        if (!cJSON_IsObject(part)) return refuse(m->p, 422, "an object is expected");
        for (const cJSON *child = part->child; child != NULL; child = child->next)
            if (!(cli_section_is_list(s) ? take_item(m, s, child) : take_key(m, s, "", child))) return false;
    }
    m->p->at[0] = '\0';
    return true;
}

/* What says the same as the file is no change. */
static void prune(cli_layer *l, const cli_config *base, const cli_config *to)
{
    char one[CLI_TEXT_MAX + 8], other[CLI_TEXT_MAX + 8];
    for (size_t i = l->count; i-- > 0;) {
        const cli_change *c = &l->rows[i];
        const void *was = cli_section_item(base, (section)c->section, c->name),
                   *is = cli_section_item(to, (section)c->section, c->name);
        const key_row *k = cli_key_named((section)c->section, c->key);
        if (c->key[0] == '\0' ? was == NULL : is == NULL) {
            cli_layer_drop(l, i); /* it is gone, and was never in the file */
        } else if (k != NULL && was != NULL && is != NULL) {
            bool a = cli_key_text(k, was, one, sizeof one), b = cli_key_text(k, is, other, sizeof other);
            if (a == b && (!a || strcmp(one, other) == 0)) cli_layer_drop(l, i);
        }
    }
}

/* The file alone, without what was changed. */
static cli_config *base_of(const cli_settings *s)
{
    char why[400];
    size_t culprit;
    cli_config *c = malloc(sizeof *c);
    FILE *f = c != NULL ? fmemopen(s->base, strlen(s->base), "r") : NULL;
    if (f == NULL || !cli_config_parse_over(f, s->path, NULL, why, sizeof why, &culprit, c)) {
        free(c);
        return NULL;
    }
    return c;
}

static bool differs(const key_row *k, const cli_config *a, const cli_config *b)
{
    char one[CLI_TEXT_MAX + 8] = "", other[CLI_TEXT_MAX + 8] = "";
    bool has = cli_key_text(k, a, one, sizeof one), have = cli_key_text(k, b, other, sizeof other);
    return has != have || (has && strcmp(one, other) != 0);
}

static bool is_dangerous(const cli_config *a, const cli_config *b)
{
    const key_row *k;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++)
        if (!cli_section_is_list(k->section) && cli_key_is_dangerous(k) && differs(k, a, b)) return true;
    return false;
}

static bool same_addr(const bmb_addr *a, const bmb_addr *b)
{
    return a->family == b->family && a->port == b->port && memcmp(a->ip, b->ip, sizeof a->ip) == 0;
}

/* Where a change of addresses has to be confirmed. */
static void note_ways_in(cli_settings *s, const cli_config *from, const cli_config *to)
{
    s->ways_in[0] = same_addr(&from->http, &to->http) ? 0 : to->http.port;
    s->ways_in[1] = same_addr(&from->https, &to->https) ? 0 : to->https.port;
}

static void take_layer(cli_layer *to, cli_layer *from)
{
    cli_layer_free(to);
    *to = *from;
    *from = (cli_layer){ NULL, 0 };
}

/* What is asked for comes into force: now, or once the answer is out. */
typedef struct asked {
    cli_layer layer, kept; /* … and what is kept of it, where it is not tried */
    bool danger;
    unsigned seconds; /* it is tried for so long; 0: kept */
    size_t count;
    const bmb_request *by;
} asked;

/* Whoever drags a slider makes many changes, and one event. */
static bool goes_on(cli_settings *s, const asked *k, uint64_t now)
{
    bool same =
        k->seconds == 0 && now < s->noted_us + DRAG_US && memcmp(&s->noted, &k->by->peer.ip, sizeof s->noted) == 0;
    s->noted_us = now;
    memcpy(&s->noted, &k->by->peer.ip, sizeof s->noted);
    return same;
}

static void note_change(cli_device *d, const asked *k)
{
    if (goes_on(d->layers, k, d->port.now_us(d->port.ctx))) return;
    bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_CHANGED,
                                      .peer = &k->by->peer,
                                      .text = k->by->who,
                                      .value = (int64_t)k->count,
                                      .extra = (int64_t)k->seconds });
}

static void begin_trial(cli_device *d, const asked *k, uint64_t from_us)
{
    cli_settings *s = d->layers;
    if (k->seconds == 0) return;
    s->danger = k->danger || (s->tries && s->danger);
    s->tried = (unsigned)(k->count + (s->tries ? s->tried : 0));
    s->tries = true;
    s->until_us = from_us + (uint64_t)k->seconds * 1000000;
}

/* false: p says why not. *later: it does once the answer is out. */
static bool bring_into_force(cli_device *d, asked *k, problem *p, bool *later)
{
    cli_settings *s = d->layers;
    size_t culprit;
    bool again = false;
    *later = false;
    cli_draft *to = cli_draft_make(d, &k->layer, p->detail, sizeof p->detail, &culprit);
    if (to == NULL) {
        p->status = 422;
        if (culprit < k->layer.count) {
            const cli_change *c = &k->layer.rows[culprit];
            snprintf(p->at, sizeof p->at, c->name[0] != '\0' ? "/%s/%s/%s" : "/%s%s/%s", cli_section_names[c->section],
                     c->name, c->key);
        }
        return false;
    }
    cli_config *base = base_of(s);
    if (base != NULL) prune(&k->layer, base, &to->d.file);
    if (base != NULL) prune(&k->kept, base, &to->d.file);
    free(base);
    bool danger = is_dangerous(&d->file, &to->d.file), live = cli_draft_is_live(d, to);
    k->danger = danger;
    if (danger && k->seconds == 0) k->seconds = TRY_PRESET_S;
    if (danger)
        note_ways_in(s, &d->file, &to->d.file);
    else if (!s->tries)
        s->ways_in[0] = s->ways_in[1] = 0;
    if (live && !danger) {
        if (cli_draft_apply(d, to, &again, p->detail, sizeof p->detail)) {
            note_change(d, k);
            take_layer(&s->now, &k->layer);
            begin_trial(d, k, d->port.now_us(d->port.ctx));
            if (k->seconds == 0) {
                take_layer(&s->kept, &k->kept);
                if (!cli_settings_store(d))
                    refuse(p, 500, "it is in force, and could not be stored: a restart loses it");
            }
            return true;
        }
        if (!again) {
            p->status = p->status != 0 ? p->status : 422;
            return false;
        }
    } else {
        cli_draft_free(to);
    }
    note_change(d, k);
    *later = true;
    s->due = true;
    s->again = again || !live;
    s->due_us = d->port.now_us(d->port.ctx) + SOON_US;
    begin_trial(d, k, s->due_us);
    take_layer(&s->next, &k->layer);
    s->keeps = k->seconds == 0; /* once it is seen to open */
    if (s->keeps) take_layer(&s->next_kept, &k->kept);
    return true;
}

static void tell_change(const cli_device *d, const asked *k, bool later, const problem *p, const cJSON *patch,
                        bmb_answer *a)
{
    cJSON *o = cJSON_CreateObject(), *rows;
    cJSON_AddNumberToObject(o, "settings", (double)k->count);
    cJSON_AddStringToObject(o, "in_force", later ? "soon" : "now");
    cJSON_AddBoolToObject(o, "kept", k->seconds == 0 && d->layers->stores && p->status == 0);
    if (p->status != 0) cJSON_AddStringToObject(o, "detail", p->detail);
    cJSON_AddItemToObject(o, "trial", trial_of(d));
    rows = cJSON_AddArrayToObject(o, "now");
    item i;
    const key_row *row;
    for (size_t n = 0; !later && patch != NULL && item_at(d, n, k->by->adjusts, &i); n++) {
        const cJSON *part = cJSON_GetObjectItemCaseSensitive(patch, cli_section_names[i.section]);
        if (part != NULL && i.name[0] != '\0') part = cJSON_GetObjectItemCaseSensitive(part, i.name);
        for (size_t r = 0; part != NULL && (row = cli_key_at(r)) != NULL; r++)
            if (shows(&i, row, k->by->role) && cJSON_GetObjectItemCaseSensitive(part, row->key) != NULL)
                cJSON_AddItemToArray(rows, describe(d, &i, row));
    }
    answer_json(a, later ? 202 : 200, JSON, o);
}

static bool is_type(const bmb_request *r, const char *type)
{
    size_t n = strlen(type);
    return r->type_size >= n && strncasecmp(r->type, type, n) == 0 &&
           (r->type_size == n || r->type[n] == ';' || r->type[n] == ' ');
}

static bool unchanged_since(const cli_device *d, const bmb_request *r, problem *p)
{
    char etag[24];
    if (r->if_match_size == 0) return true;
    cJSON *json = document(d, r);
    char *text = cJSON_PrintUnformatted(json);
    cJSON_Delete(json);
    etag_of(text != NULL ? text : "", etag);
    free(text);
    return matches(r->if_match, r->if_match_size, etag) ||
           refuse(p, 412, "somebody has changed the settings meanwhile; read them again");
}

static void patch(cli_device *d, const bmb_request *r, unsigned seconds, bmb_answer *a)
{
    cli_settings *s = d->layers;
    problem p = { .status = 0 };
    asked k = { .seconds = seconds, .by = r };
    bool later = false, good = false;
    cJSON *json = NULL;
    if (!is_type(r, "application/merge-patch+json") && !is_type(r, JSON)) {
        refuse(&p, 415, "application/merge-patch+json is expected (RFC 7396)");
    } else if (s->due) {
        refuse(&p, 409, "another change is just coming into force; ask again in a second");
    } else if ((json = cJSON_ParseWithLength((const char *)r->body, r->body_size)) == NULL) {
        refuse(&p, 400, "this is no JSON");
    } else if (unchanged_since(d, r, &p)) {
        merging m = { d, r->role, r->adjusts, &k.layer, &p, 0 };
        good = cli_layer_copy(&k.layer, &s->now) && take_document(&m, json);
        k.count = m.count;
        m.layer = &k.kept;
        good = good && cli_layer_copy(&k.kept, &s->kept) && take_document(&m, json);
        if (good) good = bring_into_force(d, &k, &p, &later);
    }
    if (good) {
        tell_change(d, &k, later, &p, json, a);
    } else {
        answer_problem(a, &p);
    }
    cJSON_Delete(json);
    cli_layer_free(&k.layer);
    cli_layer_free(&k.kept);
}

/* A whole layer takes the place of the present one: nothing, or what a file comes to. */
static void replace(cli_device *d, const bmb_request *r, const cli_layer *layer, size_t left_out, bmb_answer *a)
{
    problem p = { .status = 0 };
    asked k = { .by = r };
    bool later = false;
    if (d->layers->due) {
        refuse(&p, 409, "another change is just coming into force; ask again in a second");
    } else if (cli_layer_copy(&k.layer, layer) && cli_layer_copy(&k.kept, layer)) {
        k.count = layer->count > d->layers->now.count ? layer->count : d->layers->now.count;
        if (bring_into_force(d, &k, &p, &later)) {
            tell_change(d, &k, later, &p, NULL, a);
            p.status = 0;
        } else if (p.status == 0) {
            refuse(&p, 422, "this cannot be");
        }
    }
    if (a->body == NULL) answer_problem(a, &p);
    (void)left_out;
    cli_layer_free(&k.layer);
    cli_layer_free(&k.kept);
}

static void keep(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    cli_settings *s = d->layers;
    problem p = { .status = 0 };
    bool by_new_way =
        (s->ways_in[0] == 0 && s->ways_in[1] == 0) || r->port == s->ways_in[0] || r->port == s->ways_in[1];
    if (!s->tries) {
        refuse(&p, 409, "nothing is tried just now");
    } else if (s->due) {
        refuse(&p, 409, "it is not in force yet; ask again in a second");
    } else if (s->danger && r->role < BMB_ROLE_ADMINISTER) {
        refuse(&p, 403, "this takes somebody who may administer");
    } else if (!by_new_way) {
        refuse(&p, 409, "confirm it where it can be reached now, at port %u",
               s->ways_in[0] != 0 ? s->ways_in[0] : s->ways_in[1]);
    } else {
        cli_layer copy;
        if (cli_layer_copy(&copy, &s->now)) take_layer(&s->kept, &copy);
        s->tries = false;
        if (!cli_settings_store(d)) refuse(&p, 500, "it is in force, and could not be stored: a restart loses it");
    }
    if (p.status != 0) {
        answer_problem(a, &p);
    } else {
        a->status = 204;
    }
}

static void give_back(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    cli_settings *s = d->layers;
    problem p = { .status = 0 };
    if (s->danger && r->role < BMB_ROLE_ADMINISTER) {
        refuse(&p, 403, "this takes somebody who may administer");
        answer_problem(a, &p);
        return;
    }
    if (!s->tries || s->due) {
        refuse(&p, 409, "nothing is tried just now");
        answer_problem(a, &p);
        return;
    }
    s->until_us = d->port.now_us(d->port.ctx) + SOON_US;
    a->status = 204;
}

static void tell_changes(const cli_device *d, bmb_answer *a)
{
    const cli_settings *s = d->layers;
    cJSON *root = cJSON_CreateObject(), *rows = cJSON_AddArrayToObject(root, "changes");
    cli_config *base = base_of(s);
    char text[CLI_TEXT_MAX + 8];
    for (size_t i = 0; i < s->now.count; i++) {
        const cli_change *c = &s->now.rows[i];
        const key_row *k = cli_key_named((section)c->section, c->key);
        const void *was = base != NULL ? cli_section_item(base, (section)c->section, c->name) : NULL;
        cJSON *o = cJSON_CreateObject();
        cJSON_AddItemToArray(rows, o);
        cJSON_AddStringToObject(o, "section", cli_section_names[c->section]);
        if (c->name[0] != '\0') cJSON_AddStringToObject(o, "name", c->name);
        if (k == NULL) {
            cJSON_AddBoolToObject(o, "removed", true);
            continue;
        }
        cJSON_AddStringToObject(o, "key", k->key);
        if (c->value[0] != '\0') add_value(o, "value", k, c->value);
        if (was != NULL && cli_key_text(k, was, text, sizeof text)) add_value(o, "file", k, text);
    }
    free(base);
    cJSON_AddItemToObject(root, "trial", trial_of(d));
    answer_json(a, 200, JSON, root);
}

static void take_file(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    cli_settings *s = d->layers;
    problem p = { .status = 0 };
    cli_layer layer = { NULL, 0 };
    size_t left_out = 0, culprit;
    cli_config *base = base_of(s), *to = malloc(sizeof *to);
    FILE *f = r->body_size > 0 && to != NULL ? fmemopen((void *)(uintptr_t)r->body, r->body_size, "r") : NULL;
    if (base == NULL || f == NULL) {
        refuse(&p, 400, "a configuration is expected");
        if (f != NULL) fclose(f);
    } else if (!cli_config_parse_over(f, s->path, NULL, p.detail, sizeof p.detail, &culprit, to)) {
        p.status = 422;
    } else if (!cli_layer_between(&layer, base, to, &left_out)) {
        refuse(&p, 500, "there is not enough memory");
    }
    if (p.status != 0) {
        answer_problem(a, &p);
    } else {
        replace(d, r, &layer, left_out, a);
    }
    free(base);
    free(to);
    cli_layer_free(&layer);
}

static void tell_file(const cli_device *d, bmb_answer *a)
{
    answer_text(a, 200, "text/plain; charset=utf-8", cli_config_text(&d->file));
    a->lines = "Content-Disposition: attachment; filename=\"settings.ini\"\r\n";
}

/* The addresses, and what each answers to. */
static bool is(const char *path, size_t size, const char *literal)
{
    return size == strlen(literal) && memcmp(path, literal, size) == 0;
}

#define TRY "/settings/try/"

static bool find_settings(const char *path, size_t size, bmb_role *needs)
{
    bool begins = size > sizeof TRY - 1 && memcmp(path, TRY, sizeof TRY - 1) == 0;
    *needs = BMB_ROLE_ADMINISTER;
    if (is(path, size, "/settings") || is(path, size, "/settings/details") || begins) {
        *needs = BMB_ROLE_ADJUST;
        return true;
    }
    if (is(path, size, "/settings/trial") || is(path, size, "/settings/keep") || is(path, size, "/settings/return")) {
        *needs = BMB_ROLE_ADJUST;
        return true;
    }
    if (is(path, size, "/machine.json")) {
        *needs = BMB_ROLE_WATCH;
        return true;
    }
    return is(path, size, "/settings/changes") || is(path, size, "/settings/file") || is(path, size, "/restart");
}

static bool find(void *ctx, bmb_method method, const char *path, size_t size, bmb_role *needs)
{
    return find_settings(path, size, needs) ||
           (method == BMB_METHOD_GET && cli_own_find((const cli_device *)ctx, path, size, needs));
}

static unsigned seconds_of(const bmb_request *r)
{
    char text[8] = "";
    size_t n = r->path_size - (sizeof TRY - 1);
    if (n >= sizeof text) return 0;
    memcpy(text, r->path + sizeof TRY - 1, n);
    long seconds = strspn(text, "0123456789") == n ? strtol(text, NULL, 10) : 0;
    return seconds > 0 && seconds <= (long)TRY_MOST_S ? (unsigned)seconds : 0;
}

static void ask_patch(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    bool plain = is(r->path, r->path_size, "/settings");
    unsigned seconds = plain ? 0 : seconds_of(r);
    problem p = { .status = 0 };
    if (plain || seconds > 0) {
        patch(d, r, seconds, a);
        return;
    }
    refuse(&p, 404, "1 to %u seconds are expected", TRY_MOST_S);
    answer_problem(a, &p);
}

static bool ask_other(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    const char *path = r->path;
    size_t size = r->path_size;
    if (r->method == BMB_METHOD_POST && is(path, size, "/settings/keep")) {
        keep(d, r, a);
    } else if (r->method == BMB_METHOD_POST && is(path, size, "/settings/return")) {
        give_back(d, r, a);
    } else if (r->method == BMB_METHOD_POST && is(path, size, "/restart")) {
        d->layers->restart = true;
        d->layers->due_us = d->port.now_us(d->port.ctx) + SOON_US;
        a->status = 202;
        a->body = "restarting\n";
        a->size = strlen((const char *)a->body);
    } else if (r->method == BMB_METHOD_DELETE && is(path, size, "/settings/changes")) {
        const cli_layer nothing = { NULL, 0 };
        replace(d, r, &nothing, 0, a);
    } else if (r->method == BMB_METHOD_PUT && is(path, size, "/settings/file")) {
        take_file(d, r, a);
    } else {
        return false;
    }
    return true;
}

static bool ask_get(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    if (is(r->path, r->path_size, "/settings")) {
        tell_document(d, r, a);
    } else if (is(r->path, r->path_size, "/settings/details")) {
        tell_details(d, r, a);
    } else if (is(r->path, r->path_size, "/settings/trial")) {
        cJSON *o = cJSON_CreateObject();
        cJSON_AddItemToObject(o, "trial", trial_of(d));
        answer_json(a, 200, JSON, o);
    } else if (is(r->path, r->path_size, "/settings/changes")) {
        tell_changes(d, a);
    } else if (is(r->path, r->path_size, "/settings/file")) {
        tell_file(d, a);
    } else if (is(r->path, r->path_size, "/machine.json")) {
        answer_json(a, 200, JSON, cli_machine(d));
    } else {
        return cli_own_ask(d, r, a);
    }
    return true;
}

static void ask(void *ctx, const bmb_request *r, bmb_answer *a)
{
    cli_device *d = (cli_device *)ctx;
    bool tries = r->path_size >= sizeof TRY - 1 && memcmp(r->path, TRY, sizeof TRY - 1) == 0;
    bool patches = r->method == BMB_METHOD_PATCH && (is(r->path, r->path_size, "/settings") || tries);
    if (patches) {
        ask_patch(d, r, a);
    } else if (!(r->method == BMB_METHOD_GET ? ask_get(d, r, a) : ask_other(d, r, a))) {
        problem p = { .status = 0 };
        refuse(&p, 405, "docs/settings.md says what can be asked for here");
        answer_problem(a, &p);
    }
}

void cli_api_begin(cli_device *d)
{
    d->service.ctx = d;
    d->service.find = find;
    d->service.ask = ask;
    d->service.done = done;
}
