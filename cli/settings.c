/* The two layers of what is set: read at the start, and what becomes of changes while the device runs. */
#include "settings.h"

#include <stdlib.h>
#include <string.h>

cli_settings *cli_settings_open(const char *path, const char *text, cli_config *out)
{
    cli_settings *s = calloc(1, sizeof *s);
    if (s == NULL) return NULL;
    snprintf(s->path, sizeof s->path, "%s", path != NULL ? path : "the configuration without a file");
    s->base = path != NULL ? cli_read_whole(path, 0) : strdup(text);
    if (s->base == NULL)
        cli_error("%s: the configuration cannot be read; check the path, or try `bambino demo`", s->path);
    if (s->base == NULL || !cli_parse_layers(s->base, s->path, &s->kept, NULL, out) ||
        !cli_layer_copy(&s->now, &s->kept)) {
        cli_settings_close(s);
        return NULL;
    }
    s->stores = out->state[0] != '\0';
    return s;
}

void cli_settings_close(cli_settings *s)
{
    if (s == NULL) return;
    cli_drafts_end(s);
    cli_proof_end(s);
    cli_layer_free(&s->kept);
    cli_layer_free(&s->now);
    cli_layer_free(&s->next);
    cli_layer_free(&s->last);
    cli_layer_free(&s->next_kept);
    free(s->base);
    free(s);
}

/* Asked to begin again: the file is read anew, as it would be by a new start. */
void cli_settings_reread(cli_settings *s)
{
    cli_config *c = malloc(sizeof *c);
    char *text = cli_read_whole(s->path, 0), why[400];
    size_t culprit;
    FILE *f = text != NULL && c != NULL ? fmemopen(text, strlen(text), "r") : NULL;
    if (f != NULL && cli_config_parse_over(f, s->path, NULL, why, sizeof why, &culprit, c)) {
        free(s->base);
        s->base = text;
        text = NULL;
    } else if (f != NULL) {
        cli_error("%s: %s; what was read before still counts", s->path, why);
    }
    free(text);
    free(c);
}

bool cli_settings_parse(cli_settings *s, cli_config *out)
{
    return cli_parse_over(s->base, s->path, &s->now, out);
}

static void move_layer(cli_layer *to, cli_layer *from)
{
    cli_layer_free(to);
    *to = *from;
    *from = (cli_layer){ NULL, 0 };
}

/* The device is to be opened anew with what is next. */
static void open_again(cli_device *d)
{
    cli_settings *s = d->layers;
    cli_proof_note(d, NULL);
    cli_proof_begin(d);
    move_layer(&s->last, &s->now);
    move_layer(&s->now, &s->next);
    d->again = true;
}

static void go_over(cli_device *d, bool again)
{
    cli_settings *s = d->layers;
    char why[700] = "there is not enough memory";
    size_t culprit;
    cli_draft *to = again ? NULL : cli_draft_make(d, &s->next, why, sizeof why, &culprit);
    bool live = to != NULL && cli_draft_is_live(d, to);
    if (live && cli_draft_apply(d, to, &again, why, sizeof why)) {
        move_layer(&s->now, &s->next);
        cli_settings_arrived(d);
    } else if (again || (to != NULL && !live)) {
        if (!live) cli_draft_free(to);
        open_again(d);
    } else {
        cli_error("what was to be changed cannot be: %s; all is as before", why);
        bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = s->tried });
        cli_layer_free(&s->next);
        s->tries = s->keeps = false;
    }
}

/* What a camera cannot do after all is undone, also where it was stored. */
static void undo(cli_device *d)
{
    cli_settings *s = d->layers;
    cli_error("feed \"%s\": its camera failed right after the change; all is as before", s->proof.feeds[0]);
    bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = 1 });
    cli_layer_free(&s->next);
    cli_layer_free(&s->next_kept);
    bool good = cli_layer_copy(&s->next, &s->proof.now) && cli_layer_copy(&s->next_kept, &s->proof.kept);
    cli_proof_end(s);
    s->tries = s->due = false;
    s->keeps = good;
    if (good) go_over(d, false);
    cli_proof_end(s); /* what was before is not asked again */
}

uint64_t cli_settings_tend(cli_device *d, uint64_t next)
{
    cli_settings *s = d->layers;
    uint64_t now = d->port.now_us(d->port.ctx), due = UINT64_MAX;
    if (s == NULL) return next;
    if (s->restart && now >= s->due_us) d->again = true;
    if (cli_proof_failed(d)) undo(d);
    if (s->due && now >= s->due_us) {
        s->due = false;
        go_over(d, s->again);
    } else if (s->tries && !s->due && now >= s->until_us) {
        s->tries = false;
        bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = s->tried });
        if (cli_layer_copy(&s->next, &s->kept)) go_over(d, false);
    }
    if (s->restart || s->due) due = s->due_us;
    if (s->tries && s->until_us < due) due = s->until_us;
    return next < due ? next : due;
}

void cli_settings_arrived(cli_device *d)
{
    cli_settings *s = d->layers;
    if (s->keeps) move_layer(&s->kept, &s->next_kept);
    if (s->keeps || s->fell) (void)cli_settings_store(d);
    if (s->fell) bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_RETURNED, .value = 1 });
    s->keeps = s->fell = false;
}

bool cli_settings_fall_back(cli_settings *s, bool first)
{
    if (s->fell || s->now.count + s->last.count == 0) return false;
    s->tries = s->keeps = false;
    move_layer(&s->now, &s->last); /* at the start: nothing, what is kept stays as it is */
    s->fell = !first;
    if (first) cli_layer_free(&s->now);
    return true;
}
