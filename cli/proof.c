/* Does a change hold? A camera that takes a mode and then delivers nothing has not taken it. */
#include "settings.h"

#include <string.h>

static bool runs(const cli_device *d, const char *feed, bmb_camera_state *state)
{
    bmb_feed_stats stats;
    size_t place = cli_place_of(d, feed);
    if (place == SIZE_MAX || bmb_feed_stats_get(d->device, place, &stats) != BMB_OK) return false;
    *state = stats.camera_state;
    return true;
}

static bool is_among(const cli_proof *p, const char *feed)
{
    for (size_t i = 0; i < p->count; i++)
        if (strcmp(p->feeds[i], feed) == 0) return true;
    return false;
}

static void add(cli_proof *p, const char *feed)
{
    if (p->count < CLI_FEEDS_MOST && !is_among(p, feed)) memcpy(p->feeds[p->count++], feed, BMB_NAME_MAX);
}

/* Does its camera start anew? */
static bool is_another(const cli_feed *a, const cli_feed *b)
{
    return a->width != b->width || a->height != b->height || a->mfps != b->mfps || a->codec != b->codec ||
           a->storage != b->storage || a->frame_max != b->frame_max || a->reel != b->reel ||
           strcmp(a->camera, b->camera) != 0;
}

void cli_proof_note(cli_device *d, const cli_config *to)
{
    cli_settings *s = d->layers;
    cli_proof *p = &s->noted_proof;
    p->count = 0;
    for (size_t i = 0; i < d->file.feed_count; i++) {
        const cli_feed *f = &d->file.feeds[i], *after = to != NULL ? cli_section_item(to, SECTION_FEED, f->name) : f;
        bmb_camera_state state;
        if (after == NULL || after->paused != 0 || (to != NULL && !is_another(f, after))) continue;
        if (!runs(d, f->name, &state)) continue;
        if (state == BMB_CAMERA_RUNNING || state == BMB_CAMERA_RESTING) add(p, f->name);
    }
}

void cli_proof_begin(cli_device *d)
{
    cli_settings *s = d->layers;
    if (s->noted_proof.count == 0) return;
    /* Of several changes in a row the first one knows what was good. */
    if (s->proof.count == 0) {
        cli_proof_end(s);
        if (!cli_layer_copy(&s->proof.now, &s->now) || !cli_layer_copy(&s->proof.kept, &s->kept)) return;
    }
    for (size_t i = 0; i < s->noted_proof.count; i++) add(&s->proof, s->noted_proof.feeds[i]);
    s->noted_proof.count = 0;
}

bool cli_proof_failed(cli_device *d)
{
    cli_proof *p = &d->layers->proof;
    if (p->count == 0) return false;
    for (size_t i = p->count; i-- > 0;) {
        bmb_camera_state state;
        bool there = runs(d, p->feeds[i], &state);
        if (there && state == BMB_CAMERA_STARTING) continue;
        if (there && state == BMB_CAMERA_WAITING) return true;
        memmove(p->feeds[i], p->feeds[--p->count], BMB_NAME_MAX);
    }
    if (p->count == 0) cli_proof_end(d->layers);
    return false;
}

void cli_proof_end(cli_settings *s)
{
    s->proof.count = 0;
    cli_layer_free(&s->proof.now);
    cli_layer_free(&s->proof.kept);
}
