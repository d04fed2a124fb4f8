/* Settings as they are: the document, its details, what is tried. */
#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

#include "api.h"

void cli_api_add_value(cJSON *o, const char *key, const key_row *k, const char *text)
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

bool cli_api_item_at(const cli_device *d, size_t index, uint64_t adjusts, cli_api_item *out)
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

bool cli_api_shows(const cli_api_item *i, const key_row *k, bmb_role role)
{
    return k->section == i->section && !cli_key_is_local(k) && (k->section != SECTION_FEED || i->adjusts) &&
           (role >= BMB_ROLE_ADMINISTER || cli_key_is_adjusted(k)) && has_control(k, &i->info, &i->stats);
}

/* What is asked for, or holds where nothing is: it changes when somebody changes it, and not by itself as what is in
 * force may. */
static bool asked_for(const cli_device *d, const cli_api_item *i, const key_row *k, char *out, size_t room)
{
    if (cli_key_text(k, i->at, out, room) && strcmp(out, "auto") != 0) return true;
    if (k->type != KEY_CONTROL) return in_force(d, k, i->name, out, room) || cli_key_text(k, i->at, out, room);
    if (i->info.controls[k->at].step == 0) return false;
    snprintf(out, room, "%" PRId32, i->info.controls[k->at].preset);
    return true;
}

bool cli_api_tells(const cli_device *d, section s, const char *name, const key_row *k, char *out, size_t room)
{
    cli_api_item i;
    for (size_t n = 0; cli_api_item_at(d, n, UINT64_MAX, &i); n++)
        if (i.section == s && strcmp(i.name, name) == 0)
            return cli_api_shows(&i, k, BMB_ROLE_ADMINISTER) && asked_for(d, &i, k, out, room);
    return false;
}

cJSON *cli_api_document(const cli_device *d, const bmb_request *asker)
{
    cJSON *root = cJSON_CreateObject();
    const bmb_role role = asker->role;
    cli_api_item i;
    const key_row *k;
    char text[CLI_TEXT_MAX + 8];
    for (size_t n = 0; cli_api_item_at(d, n, asker->adjusts, &i); n++) {
        cJSON *o = cJSON_CreateObject();
        for (size_t r = 0; (k = cli_key_at(r)) != NULL; r++)
            if (cli_api_shows(&i, k, role) && asked_for(d, &i, k, text, sizeof text))
                cli_api_add_value(o, k->key, k, text);
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

void cli_api_etag(const char *text, char out[24])
{
    uint64_t hash = 14695981039346656037u; /* FNV-1a */
    for (; *text != '\0'; text++) hash = (hash ^ (uint8_t)*text) * 1099511628211u;
    snprintf(out, 24, "\"%016" PRIx64 "\"", hash);
}

bool cli_api_matches(const char *list, size_t size, const char *etag)
{
    size_t tag = strlen(etag);
    if (size == 1 && list[0] == '*') return true;
    for (size_t i = 0; i + tag <= size; i++)
        if (memcmp(list + i, etag, tag) == 0) return true;
    return false;
}

static void add_sizes(cJSON *o, const cli_api_item *i, const key_row *k)
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

static void add_codecs(cJSON *o, const cli_api_item *i)
{
    cJSON *list = cJSON_AddArrayToObject(o, "choices");
    for (int c = 0; c < BMB_CODEC_COUNT; c++)
        if (cli_first_mode(&i->info, (bmb_codec)c) != NULL)
            cJSON_AddItemToArray(list, cJSON_CreateString(bmb_codec_name((bmb_codec)c)));
}

static void add_choices(cJSON *o, const cli_api_item *i, const key_row *k)
{
    if (k->section == SECTION_FEED && strcmp(k->key, "codec") == 0 && i->info.mode_count > 0) {
        add_codecs(o, i);
    } else if (cli_key_choices(k) != NULL) {
        cJSON *list = cJSON_AddArrayToObject(o, "choices");
        for (size_t n = 0; cli_key_choices(k)[n] != NULL; n++)
            cJSON_AddItemToArray(list, cJSON_CreateString(cli_key_choices(k)[n]));
    } else if (k->section == SECTION_FEED && k->type == KEY_SIZE) {
        add_sizes(o, i, k);
    }
}

static const char *why_differs(const cli_device *d, const cli_api_item *i, const key_row *k)
{
    (void)d;
    if (k->type == KEY_CONTROL && k->at == BMB_CONTROL_QUALITY && i->stats.kbps_set > 0)
        return "the bit rate that is held decides it";
    if (k->type == KEY_CONTROL && k->at == BMB_CONTROL_QUALITY) return "larger pictures would not fit its memory";
    if (i->stats.camera_state == BMB_CAMERA_OFF) return "the feed is paused";
    if (i->stats.camera_state == BMB_CAMERA_WAITING) return "the camera does not answer";
    return "the camera chose what is nearest to it";
}

cJSON *cli_api_describe(const cli_device *d, const cli_api_item *i, const key_row *k)
{
    const cli_settings *s = d->layers;
    cJSON *o = cJSON_CreateObject();
    char force[CLI_TEXT_MAX + 8] = "", asked[CLI_TEXT_MAX + 8] = "", preset[CLI_TEXT_MAX];
    bool is_asked = cli_key_text(k, i->at, asked, sizeof asked),
         is_known = in_force(d, k, i->name, force, sizeof force);
    cJSON_AddStringToObject(o, "section", cli_section_names[i->section]);
    if (i->name[0] != '\0') cJSON_AddStringToObject(o, "name", i->name);
    cJSON_AddStringToObject(o, "key", k->key);
    if (is_known || is_asked) cli_api_add_value(o, "value", k, is_known ? force : asked);
    if (is_asked) cli_api_add_value(o, "asked", k, asked);
    const bmb_range *range = k->type == KEY_CONTROL ? &i->info.controls[k->at] : NULL;
    bool held = range != NULL && k->at == BMB_CONTROL_KBPS && i->stats.codec == BMB_CODEC_JPEG;
    bool ranged = range != NULL && range->step != 0 && !held;
    snprintf(preset, sizeof preset, "%s", held ? "none" : cli_key_preset(k));
    if (ranged) snprintf(preset, sizeof preset, "%" PRId32, range->preset);
    cli_api_add_value(o, "preset", k, preset);
    cJSON_AddBoolToObject(o, "changed", cli_layer_find(&s->now, (uint8_t)i->section, i->name, k->key) != SIZE_MAX);
    if (cli_key_is_number(k)) {
        double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
        cJSON_AddNumberToObject(o, "least", ranged ? range->least : (double)k->least / scale);
        cJSON_AddNumberToObject(o, "most", ranged ? range->most : (double)k->most / scale);
        cJSON_AddNumberToObject(o, "step", ranged ? range->step : k->type == KEY_RATE ? 0.001 : 1);
    }
    if (k->section == SECTION_FEED && k->type == KEY_RATE) add_sizes(o, i, k);
    add_choices(o, i, k);
    cJSON_AddStringToObject(o, "unit", cli_key_unit(k));
    cJSON_AddStringToObject(o, "notice", cli_key_notice(k));
    cJSON_AddStringToObject(o, "needs", cli_key_is_adjusted(k) ? "adjust" : "administer");
    cJSON_AddBoolToObject(o, "tried", cli_key_is_dangerous(k));
    cJSON_AddStringToObject(o, "help", cli_key_help(k));
    if (is_known && is_asked && strcmp(force, asked) != 0 && strcmp(asked, "auto") != 0)
        cJSON_AddStringToObject(o, "why", why_differs(d, i, k));
    return o;
}

cJSON *cli_api_trial(const cli_device *d)
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

void cli_api_tell_details(const cli_device *d, const bmb_request *asker, bmb_answer *a)
{
    cJSON *root = cJSON_CreateObject(), *rows = cJSON_AddArrayToObject(root, "settings");
    cli_api_item i;
    const key_row *k;
    for (size_t n = 0; cli_api_item_at(d, n, asker->adjusts, &i); n++)
        for (size_t r = 0; (k = cli_key_at(r)) != NULL; r++)
            if (cli_api_shows(&i, k, asker->role)) cJSON_AddItemToArray(rows, cli_api_describe(d, &i, k));
    cJSON_AddItemToObject(root, "trial", cli_api_trial(d));
    cJSON_AddBoolToObject(root, "kept", d->layers->stores);
    bmb_device_stats stats;
    bmb_device_stats_get(d->device, &stats);
    cJSON_AddNumberToObject(root, "spare_bytes", (double)stats.spare);
    cli_api_json(a, 200, CLI_API_JSON, root);
}

void cli_api_tell_document(const cli_device *d, const bmb_request *r, bmb_answer *a)
{
    static char etag[24];
    cli_api_json(a, 200, CLI_API_JSON, cli_api_document(d, r));
    if (a->body == NULL) return;
    cli_api_etag((const char *)a->body, etag);
    a->etag = etag;
    if (r->if_none_match_size > 0 && cli_api_matches(r->if_none_match, r->if_none_match_size, etag)) a->status = 304;
}
