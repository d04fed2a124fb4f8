/* Settings over HTTP: any request to any of their addresses, by anybody, with any body; and files of settings. What
 * comes back is JSON or a text, and a configuration that was written is read as the same one. */
#include <stdlib.h>

#include "../cli/api.c"
#include "support/fake_port.h"

static const char base[] =
    "[device]\nstate = s\n[http]\nlisten = :8080\n[camera yard]\nview = yard\n[feed yard]\ntitle = Sidings\n"
    "brightness = 4\n[tcp yard]\nlisten = :8600\n[push yard]\nto = udp://192.0.2.9:5000\n";

int cli_error(const char *fmt, ...)
{
    (void)fmt;
    return 1;
}

void cli_capture(char *text, size_t room)
{
    (void)text, (void)room;
}

/* Reading is the real one; what cameras can is not asked. */
cli_draft *cli_draft_make(const cli_device *d, const cli_layer *over, char *why, size_t room, size_t *culprit)
{
    cli_draft *draft = calloc(1, sizeof *draft);
    FILE *f = fmemopen((void *)(uintptr_t)d->layers->base, strlen(d->layers->base), "r");
    if (draft == NULL || f == NULL || !cli_config_parse_over(f, "c.ini", over, why, room, culprit, &draft->d.file)) {
        free(draft);
        return NULL;
    }
    return draft;
}

void cli_draft_free(cli_draft *draft)
{
    free(draft);
}

bool cli_draft_is_live(const cli_device *d, const cli_draft *to)
{
    return d->file.viewers == to->d.file.viewers;
}

bool cli_draft_apply(cli_device *d, cli_draft *to, bool *again, char *why, size_t room)
{
    d->file = to->d.file;
    *again = false;
    (void)why, (void)room;
    free(to);
    return true;
}

bool cli_settings_store(cli_device *d)
{
    char *text = cli_layer_text(&d->layers->kept);
    cli_layer back = { NULL, 0 };
    if (text == NULL || cli_layer_read(&back, text) != 0 || back.count != d->layers->kept.count) abort();
    cli_layer_free(&back);
    free(text);
    return true;
}

bool cli_own_find(const cli_device *d, const char *path, size_t size, bmb_role *needs)
{
    (void)d, (void)path, (void)size, (void)needs;
    return false;
}

bool cli_own_ask(const cli_device *d, const bmb_request *r, bmb_answer *a)
{
    (void)d, (void)r, (void)a;
    return false;
}

cJSON *cli_machine(cli_device *d)
{
    (void)d;
    return cJSON_CreateObject();
}

bool cli_find_camera(const cli_device *d, const char *name, size_t *index, bmb_camera_info *info)
{
    *index = 0;
    return strcmp(name, "yard") == 0 && d->port.cameras.info(d->port.cameras.ctx, 0, info) == BMB_OK;
}

const bmb_mode_row *cli_first_mode(const bmb_camera_info *info, bmb_codec codec)
{
    return info->mode_count > 0 && info->modes[0].codec == codec ? &info->modes[0] : NULL;
}

static void same_again(const cli_config *c)
{
    cli_config *back = malloc(sizeof *back);
    cli_layer apart = { NULL, 0 };
    char *text = cli_config_text(c), why[400];
    size_t culprit, left_out = 0;
    FILE *f = text != NULL && text[0] != '\0' ? fmemopen(text, strlen(text), "r") : NULL;
    if (back == NULL || f == NULL || !cli_config_parse_over(f, "c.ini", NULL, why, sizeof why, &culprit, back)) abort();
    if (!cli_layer_between(&apart, c, back, &left_out) || apart.count > 0) abort();
    cli_layer_free(&apart);
    free(text);
    free(back);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static const char *const paths[] = { "/settings",         "/settings/try/9",   "/settings/keep", "/settings/return",
                                         "/settings/details", "/settings/changes", "/settings/file", "/settings/trial",
                                         "/machine.json",     "/restart" };
    static fake_device t;
    static cli_device d;
    cli_settings s = { .base = (char *)(uintptr_t)base, .stores = true };
    FILE *f = fmemopen((void *)(uintptr_t)base, sizeof base - 1, "r");
    memset(&d, 0, sizeof d);
    if (f == NULL || !cli_config_parse(f, "c.ini", &d.file)) abort();
    if (t.device == NULL) { /* nothing is changed in it: one is enough */
        fake_device_prepare(&t, BMB_CODEC_JPEG);
        fake_device_open(&t);
    }
    d.device = t.device;
    d.port = t.f->port;
    d.layers = &s;
    cli_api_begin(&d);
    /* Several requests, one behind the other: a byte of what is asked, one of by whom, a length, a body. */
    while (size >= 4) {
        size_t length = (size_t)(data[2] | data[3] << 8);
        const char *path = paths[data[0] % (sizeof paths / sizeof paths[0])];
        if (length > size - 4) length = size - 4;
        uint8_t *body = malloc(length > 0 ? length : 1);
        if (body == NULL) abort();
        memcpy(body, data + 4, length);
        const bmb_request r = { .method = (bmb_method)(data[0] >> 4 & 7) % 5,
                                .path = path,
                                .path_size = strlen(path),
                                .type = "application/merge-patch+json",
                                .type_size = 28,
                                .body = body,
                                .body_size = length,
                                .role = (bmb_role)(data[1] & 3),
                                .adjusts = data[1] & 4 ? UINT64_MAX : 0,
                                .port = 8080 };
        bmb_answer a = { .status = 200, .type = "text/plain" };
        bmb_role needs;
        if (!d.service.find(&d, r.method, r.path, r.path_size, &needs)) abort();
        if (r.role >= needs) d.service.ask(&d, &r, &a);
        if (a.body == NULL && a.size > 0) abort();
        if (strstr(a.type, "json") != NULL && a.body != NULL && a.status != 304) {
            cJSON *json = cJSON_ParseWithLength((const char *)a.body, a.size);
            if (json == NULL) abort();
            cJSON_Delete(json);
        }
        d.service.done(&d, a.token);
        s.due = false;
        free(body);
        data += 4 + length;
        size -= 4 + length;
    }
    same_again(&d.file);
    cli_layer_free(&s.kept);
    cli_layer_free(&s.now);
    cli_layer_free(&s.next);
    cli_layer_free(&s.next_kept);
    return 0;
}
