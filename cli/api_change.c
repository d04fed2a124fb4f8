/* Settings are changed: tried, kept, given back. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "api.h"

#define TRY_PRESET_S 60u /* what may cut somebody off is tried for so long */
#define DRAG_US 2000000u /* changes that follow each other so closely are told as one */

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

cli_config *cli_api_base(const cli_settings *s)
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
static bool bring_into_force(cli_device *d, asked *k, cli_problem *p, bool *later)
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
    cli_config *base = cli_api_base(s);
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
                    cli_api_refuse(p, 500, "it is in force, and could not be stored: a restart loses it");
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
    s->due_us = d->port.now_us(d->port.ctx) + CLI_API_SOON_US;
    begin_trial(d, k, s->due_us);
    take_layer(&s->next, &k->layer);
    s->keeps = k->seconds == 0; /* once it is seen to open */
    if (s->keeps) take_layer(&s->next_kept, &k->kept);
    return true;
}

static void tell_change(const cli_device *d, const asked *k, bool later, const cli_problem *p, const cJSON *patch,
                        bmb_answer *a)
{
    cJSON *o = cJSON_CreateObject(), *rows;
    cJSON_AddNumberToObject(o, "settings", (double)k->count);
    cJSON_AddStringToObject(o, "in_force", later ? "soon" : "now");
    cJSON_AddBoolToObject(o, "kept", k->seconds == 0 && d->layers->stores && p->status == 0);
    if (p->status != 0) cJSON_AddStringToObject(o, "detail", p->detail);
    cJSON_AddItemToObject(o, "trial", cli_api_trial(d));
    rows = cJSON_AddArrayToObject(o, "now");
    cli_api_item i;
    const key_row *row;
    for (size_t n = 0; !later && patch != NULL && cli_api_item_at(d, n, k->by->adjusts, &i); n++) {
        const cJSON *part = cJSON_GetObjectItemCaseSensitive(patch, cli_section_names[i.section]);
        if (part != NULL && i.name[0] != '\0') part = cJSON_GetObjectItemCaseSensitive(part, i.name);
        for (size_t r = 0; part != NULL && (row = cli_key_at(r)) != NULL; r++)
            if (cli_api_shows(&i, row, k->by->role) && cJSON_GetObjectItemCaseSensitive(part, row->key) != NULL)
                cJSON_AddItemToArray(rows, cli_api_describe(d, &i, row));
    }
    cli_api_json(a, later ? 202 : 200, CLI_API_JSON, o);
}

static bool is_type(const bmb_request *r, const char *type)
{
    size_t n = strlen(type);
    return r->type_size >= n && strncasecmp(r->type, type, n) == 0 &&
           (r->type_size == n || r->type[n] == ';' || r->type[n] == ' ');
}

/* Blanks of JSON are control characters, too. */
static bool is_utf8(const char *text, size_t size)
{
    size_t from = 0;
    for (size_t i = 0; i <= size; i++) {
        if (i < size && strchr(" \t\r\n", text[i]) == NULL) continue;
        if (i < size && text[i] == '\0') return false;
        if (!bmb_text_is_utf8(text + from, i - from)) return false;
        from = i + 1;
    }
    return true;
}

/* One value and nothing behind it; its texts end where they seem to end. */
static cJSON *parse(const char *text, size_t size)
{
    const char *end = NULL;
    if (!is_utf8(text, size)) return NULL;
    for (size_t i = 0; i + 6 <= size; i++) {
        if (text[i] != '\\') continue;
        if (memcmp(text + i + 1, "u0000", 5) == 0) return NULL;
        i++; /* whatever is escaped */
    }
    cJSON *json = cJSON_ParseWithLengthOpts(text, size, &end, false);
    while (json != NULL && end < text + size && strchr(" \t\r\n", *end) != NULL) end++;
    if (json == NULL || end == text + size) return json;
    cJSON_Delete(json);
    return NULL;
}

static bool unchanged_since(const cli_device *d, const bmb_request *r, cli_problem *p)
{
    char etag[24];
    if (r->if_match_size == 0) return true;
    cJSON *json = cli_api_document(d, r);
    char *text = cJSON_PrintUnformatted(json);
    cJSON_Delete(json);
    cli_api_etag(text != NULL ? text : "", etag);
    free(text);
    return cli_api_matches(r->if_match, r->if_match_size, etag) ||
           cli_api_refuse(p, 412, "somebody has changed the settings meanwhile; read them again");
}

void cli_api_patch(cli_device *d, const bmb_request *r, unsigned seconds, bmb_answer *a)
{
    cli_settings *s = d->layers;
    cli_problem p = { .status = 0 };
    asked k = { .seconds = seconds, .by = r };
    bool later = false, good = false;
    cJSON *json = NULL;
    if (!is_type(r, "application/merge-patch+json") && !is_type(r, CLI_API_JSON)) {
        cli_api_refuse(&p, 415, "application/merge-patch+json is expected (RFC 7396)");
    } else if (s->due) {
        cli_api_refuse(&p, 409, "another change is just coming into force; ask again in a second");
    } else if ((json = parse((const char *)r->body, r->body_size)) == NULL) {
        cli_api_refuse(&p, 400, "this is no JSON text: one value in UTF-8 (RFC 8259), without the character NUL");
    } else if (unchanged_since(d, r, &p)) {
        cli_merging m = { d, r->role, r->adjusts, &k.layer, &p, 0 };
        good = cli_layer_copy(&k.layer, &s->now) && cli_api_merge(&m, json);
        k.count = m.count;
        m.layer = &k.kept;
        good = good && cli_layer_copy(&k.kept, &s->kept) && cli_api_merge(&m, json);
        if (good && k.count > 0) good = bring_into_force(d, &k, &p, &later);
    }
    if (good) {
        tell_change(d, &k, later, &p, json, a);
    } else {
        cli_api_problem(a, &p);
    }
    cJSON_Delete(json);
    cli_layer_free(&k.layer);
    cli_layer_free(&k.kept);
}

void cli_api_replace(cli_device *d, const bmb_request *r, const cli_layer *layer, bmb_answer *a)
{
    cli_problem p = { .status = 0 };
    asked k = { .by = r };
    bool later = false;
    if (d->layers->due) {
        cli_api_refuse(&p, 409, "another change is just coming into force; ask again in a second");
    } else if (cli_layer_copy(&k.layer, layer) && cli_layer_copy(&k.kept, layer)) {
        k.count = layer->count > d->layers->now.count ? layer->count : d->layers->now.count;
        if (bring_into_force(d, &k, &p, &later)) {
            tell_change(d, &k, later, &p, NULL, a);
            p.status = 0;
        } else if (p.status == 0) {
            cli_api_refuse(&p, 422, "this cannot be");
        }
    }
    if (a->body == NULL) cli_api_problem(a, &p);
    cli_layer_free(&k.layer);
    cli_layer_free(&k.kept);
}

/* May whoever asks change this row? */
static bool may_row(const cli_device *d, const bmb_request *r, const cli_change *c)
{
    const key_row *k = cli_key_named((section)c->section, c->key);
    size_t place = c->section == SECTION_FEED ? cli_place_of(d, c->name) : SIZE_MAX;
    if (r->role >= BMB_ROLE_ADMINISTER) return true;
    return k != NULL && cli_key_is_adjusted(k) && place < 64 && (r->adjusts >> place & 1) != 0;
}

static const cli_change *same_row(const cli_layer *l, const cli_change *c)
{
    size_t at = cli_layer_find(l, c->section, c->name, c->key);
    return at != SIZE_MAX ? &l->rows[at] : NULL;
}

/* … all that differs between the two. */
static bool may_all(const cli_device *d, const bmb_request *r, const cli_layer *a, const cli_layer *b)
{
    for (size_t i = 0; i < a->count; i++) {
        const cli_change *other = same_row(b, &a->rows[i]);
        bool differs = other == NULL || strcmp(other->value, a->rows[i].value) != 0;
        if (differs && !may_row(d, r, &a->rows[i])) return false;
    }
    return true;
}

/* Confirming a trial, and ending it, takes the rights that the change itself takes. */
static bool may_decide(const cli_device *d, const bmb_request *r)
{
    const cli_settings *s = d->layers;
    return (!s->danger || r->role >= BMB_ROLE_ADMINISTER) && may_all(d, r, &s->now, &s->kept) &&
           may_all(d, r, &s->kept, &s->now);
}

void cli_api_keep(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    cli_settings *s = d->layers;
    cli_problem p = { .status = 0 };
    bool by_new_way =
        (s->ways_in[0] == 0 && s->ways_in[1] == 0) || r->port == s->ways_in[0] || r->port == s->ways_in[1];
    if (!s->tries) {
        cli_api_refuse(&p, 409, "nothing is tried just now");
    } else if (s->due) {
        cli_api_refuse(&p, 409, "it is not in force yet; ask again in a second");
    } else if (!may_decide(d, r)) {
        cli_api_refuse(&p, 403, "this takes somebody who may change what is tried");
    } else if (!by_new_way) {
        cli_api_refuse(&p, 409, "confirm it where it can be reached now, at port %u",
                       s->ways_in[0] != 0 ? s->ways_in[0] : s->ways_in[1]);
    } else {
        cli_layer copy;
        if (cli_layer_copy(&copy, &s->now)) take_layer(&s->kept, &copy);
        s->tries = false;
        if (!cli_settings_store(d))
            cli_api_refuse(&p, 500, "it is in force, and could not be stored: a restart loses it");
    }
    if (p.status != 0) {
        cli_api_problem(a, &p);
    } else {
        a->status = 204;
    }
}

void cli_api_give_back(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    cli_settings *s = d->layers;
    cli_problem p = { .status = 0 };
    if (!s->tries || s->due) {
        cli_api_refuse(&p, 409, "nothing is tried just now");
        cli_api_problem(a, &p);
        return;
    }
    if (!may_decide(d, r)) {
        cli_api_refuse(&p, 403, "this takes somebody who may change what is tried");
        cli_api_problem(a, &p);
        return;
    }
    s->until_us = d->port.now_us(d->port.ctx) + CLI_API_SOON_US;
    a->status = 204;
}
