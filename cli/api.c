/* Settings over HTTP: the addresses, and the configuration as a file. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "api.h"

#define TRY_MOST_S 3600u

static void done(void *ctx, void *token)
{
    (void)ctx;
    free(token);
}

static void tell_changes(const cli_device *d, bmb_answer *a)
{
    const cli_settings *s = d->layers;
    cJSON *root = cJSON_CreateObject(), *rows = cJSON_AddArrayToObject(root, "changes");
    cli_config *base = cli_api_base(s);
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
        if (c->value[0] != '\0') cli_api_add_value(o, "value", k, c->value);
        if (was != NULL && cli_key_text(k, was, text, sizeof text)) cli_api_add_value(o, "file", k, text);
    }
    free(base);
    cJSON_AddItemToObject(root, "trial", cli_api_trial(d));
    cli_api_json(a, 200, CLI_API_JSON, root);
}

static void take_file(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    cli_settings *s = d->layers;
    cli_problem p = { .status = 0 };
    cli_layer layer = { NULL, 0 };
    size_t left_out = 0, culprit;
    cli_config *base = cli_api_base(s), *to = malloc(sizeof *to);
    FILE *f = r->body_size > 0 && to != NULL ? fmemopen((void *)(uintptr_t)r->body, r->body_size, "r") : NULL;
    if (base == NULL || f == NULL) {
        cli_api_refuse(&p, 400, "a configuration is expected");
        if (f != NULL) fclose(f);
    } else if (!cli_config_parse_over(f, s->path, NULL, p.detail, sizeof p.detail, &culprit, to)) {
        p.status = 422;
    } else if (!cli_layer_between(&layer, base, to, &left_out)) {
        cli_api_refuse(&p, 500, "there is not enough memory");
    }
    if (p.status != 0) {
        cli_api_problem(a, &p);
    } else {
        cli_api_replace(d, r, &layer, a);
    }
    free(base);
    free(to);
    cli_layer_free(&layer);
}

static void tell_file(const cli_device *d, bmb_answer *a)
{
    cli_api_text(a, 200, "text/plain; charset=utf-8", cli_config_text(&d->file));
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
    cli_problem p = { .status = 0 };
    if (plain || seconds > 0) {
        cli_api_patch(d, r, seconds, a);
        return;
    }
    cli_api_refuse(&p, 404, "1 to %u seconds are expected", TRY_MOST_S);
    cli_api_problem(a, &p);
}

static bool ask_other(cli_device *d, const bmb_request *r, bmb_answer *a)
{
    const char *path = r->path;
    size_t size = r->path_size;
    if (r->method == BMB_METHOD_POST && is(path, size, "/settings/keep")) {
        cli_api_keep(d, r, a);
    } else if (r->method == BMB_METHOD_POST && is(path, size, "/settings/return")) {
        cli_api_give_back(d, r, a);
    } else if (r->method == BMB_METHOD_POST && is(path, size, "/restart")) {
        d->layers->restart = true;
        d->layers->due_us = d->port.now_us(d->port.ctx) + CLI_API_SOON_US;
        a->status = 202;
        a->body = "restarting\n";
        a->size = strlen((const char *)a->body);
    } else if (r->method == BMB_METHOD_DELETE && is(path, size, "/settings/changes")) {
        const cli_layer nothing = { NULL, 0 };
        cli_api_replace(d, r, &nothing, a);
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
        cli_api_tell_document(d, r, a);
    } else if (is(r->path, r->path_size, "/settings/details")) {
        cli_api_tell_details(d, r, a);
    } else if (is(r->path, r->path_size, "/settings/trial")) {
        cJSON *o = cJSON_CreateObject();
        cJSON_AddItemToObject(o, "trial", cli_api_trial(d));
        cli_api_json(a, 200, CLI_API_JSON, o);
    } else if (is(r->path, r->path_size, "/settings/changes")) {
        tell_changes(d, a);
    } else if (is(r->path, r->path_size, "/settings/file")) {
        tell_file(d, a);
    } else if (is(r->path, r->path_size, "/machine.json")) {
        cli_api_json(a, 200, CLI_API_JSON, cli_machine(d));
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
        cli_problem p = { .status = 0 };
        cli_api_refuse(&p, 405, "docs/settings.md says what can be asked for here");
        cli_api_problem(a, &p);
    }
}

void cli_api_begin(cli_device *d)
{
    d->service.ctx = d;
    d->service.find = find;
    d->service.ask = ask;
    d->service.done = done;
}
