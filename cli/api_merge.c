/* A change as it is asked for: a JSON merge patch (RFC 7396) onto a layer. */
#include <stdio.h>
#include <string.h>

#include "api.h"

static bool take_value(cli_merging *m, const key_row *k, const char *name, const cJSON *value)
{
    cli_change c = { .section = (uint8_t)k->section };
    snprintf(c.name, sizeof c.name, "%s", name);
    snprintf(c.key, sizeof c.key, "%s", k->key);
    if (cJSON_IsNumber(value)) {
        snprintf(c.value, sizeof c.value, "%.10g", value->valuedouble);
    } else if (cJSON_IsBool(value)) {
        snprintf(c.value, sizeof c.value, "%d", cJSON_IsTrue(value) != 0);
    } else if (cJSON_IsString(value)) {
        if (strlen(value->valuestring) >= sizeof c.value) return cli_api_refuse(m->p, 422, "the text is too long");
        snprintf(c.value, sizeof c.value, "%s", value->valuestring);
        for (const char *at = c.value; *at != '\0'; at++)
            if ((unsigned char)*at < 0x20) return cli_api_refuse(m->p, 422, "a text of one line is expected");
        for (const char *at = c.value; at[0] != '\0'; at++)
            if ((at[0] == ' ' || at[0] == '\t') && (at[1] == '#' || at[1] == ';'))
                return cli_api_refuse(m->p, 422, "a blank and %c begin a comment; leave the blank out", at[1]);
        if (c.value[0] == '\0') return cli_api_refuse(m->p, 422, "a text is expected; null: the preset");
    } else if (!cJSON_IsNull(value)) {
        return cli_api_refuse(m->p, 422, "a number, a text or null is expected");
    }
    /* What it is already is no change: the document that was read may be sent back. What is tried may be kept so. */
    char is[CLI_TEXT_MAX + 8];
    bool there = cli_layer_find(m->layer, (uint8_t)k->section, name, "") == SIZE_MAX;
    if (!m->d->layers->tries && there && !cJSON_IsNull(value) &&
        cli_api_tells(m->d, k->section, name, k, is, sizeof is) && strcmp(is, c.value) == 0)
        return true;
    m->count++;
    return cli_layer_set(m->layer, &c) || cli_api_refuse(m->p, 422, "there are too many changes already");
}

static bool take_key(cli_merging *m, section s, const char *name, const cJSON *value)
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
        return cli_api_refuse(m->p, 422, "there is no such setting%s%s%s", near != NULL ? "; did you mean " : "",
                              near != NULL ? near : "", near != NULL ? "?" : "");
    }
    if (cli_key_is_local(k))
        return cli_api_refuse(m->p, 403, "this is set in the configuration file alone, on the device itself");
    if (m->role < BMB_ROLE_ADMINISTER && !cli_key_is_adjusted(k))
        return cli_api_refuse(m->p, 403, "this takes somebody who may administer");
    return take_value(m, k, name, value);
}

static bool is_fine_name(const char *name)
{
    size_t n = strspn(name, "abcdefghijklmnopqrstuvwxyz0123456789-_");
    return n > 0 && name[n] == '\0' && n < BMB_NAME_MAX;
}

/* A section of that name: taken away, changed, or a new one. */
static bool take_item(cli_merging *m, section s, const cJSON *said)
{
    const char *name = said->string;
    snprintf(m->p->at, sizeof m->p->at, "/%s/%.40s", cli_section_names[s], name);
    if (!is_fine_name(name))
        return cli_api_refuse(m->p, 422, "a name of 1 to %d of a-z 0-9 - _ is expected", BMB_NAME_MAX - 1);
    bool there = cli_section_item(&m->d->file, s, name) != NULL;
    size_t place = s == SECTION_FEED ? cli_place_of(m->d, name) : SIZE_MAX;
    bool hidden = place < 64 && (m->adjusts >> place & 1) == 0; /* not his, and so not there */
    if ((!there && m->role < BMB_ROLE_ADMINISTER) || hidden)
        return cli_api_refuse(m->p, 404, "there is no such %s", cli_section_names[s]);
    if (cJSON_IsNull(said) && m->role < BMB_ROLE_ADMINISTER)
        return cli_api_refuse(m->p, 403, "this takes somebody who may administer");
    if (!cJSON_IsNull(said) && !cJSON_IsObject(said)) return cli_api_refuse(m->p, 422, "an object or null is expected");
    if (cJSON_IsNull(said)) {
        if (!there) return cli_api_refuse(m->p, 404, "there is no such %s", cli_section_names[s]);
        for (size_t at; (at = cli_layer_find(m->layer, (uint8_t)s, name, NULL)) != SIZE_MAX;)
            cli_layer_drop(m->layer, at);
        cli_change c = { .section = (uint8_t)s };
        snprintf(c.name, sizeof c.name, "%s", name);
        m->count++;
        return cli_layer_set(m->layer, &c) || cli_api_refuse(m->p, 422, "there are too many changes already");
    }
    /* What was taken away begins anew; whatever the file says of it. */
    size_t gone = cli_layer_find(m->layer, (uint8_t)s, name, "");
    if (gone != SIZE_MAX) cli_layer_drop(m->layer, gone);
    for (const cJSON *value = said->child; value != NULL; value = value->next)
        if (!take_key(m, s, name, value)) return false;
    return true;
}

bool cli_api_merge(cli_merging *m, const cJSON *root)
{
    if (!cJSON_IsObject(root)) return cli_api_refuse(m->p, 400, "an object of JSON is expected");
    for (const cJSON *part = root->child; part != NULL; part = part->next) {
        section s;
        snprintf(m->p->at, sizeof m->p->at, "/%.40s", part->string);
        if (!cli_section_named(part->string, &s)) return cli_api_refuse(m->p, 422, "there is no such section");
        if (!cJSON_IsObject(part)) return cli_api_refuse(m->p, 422, "an object is expected");
        for (const cJSON *child = part->child; child != NULL; child = child->next)
            if (!(cli_section_is_list(s) ? take_item(m, s, child) : take_key(m, s, "", child))) return false;
    }
    m->p->at[0] = '\0';
    return true;
}
