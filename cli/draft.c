/* From a configuration that is in force to another one, while the device runs: what differs is changed, and nothing
 * else. */
#include "settings.h"

#include <stdlib.h>
#include <string.h>

static void add_way(cli_way *ways, size_t *count, section s, const char *name, bool secure, size_t row)
{
    cli_way *w = &ways[(*count)++];
    *w = (cli_way){ .section = s, .secure = secure, .row = row, .place = row };
    snprintf(w->name, sizeof w->name, "%s", name);
}

/* In the order in which rows are prepared. */
static size_t ways_of(const cli_config *f, cli_way *ways)
{
    size_t n = 0, row = 0;
    const bmb_addr *plain[] = { &f->http, &f->rtsp }, *secure[] = { &f->https, &f->rtsps };
    const char *what[] = { f->http_plain, f->rtsp_plain };
    for (size_t i = 0; i < 2; i++) {
        section s = i == 0 ? SECTION_HTTP : SECTION_RTSP;
        if (plain[i]->family != 0 && strcmp(what[i], "off") != 0) add_way(ways, &n, s, "", false, row++);
        if (secure[i]->family != 0) add_way(ways, &n, s, "", true, row++);
    }
    for (size_t i = 0; i < f->tcp_count; i++)
        if (f->tcp[i].paused == 0) add_way(ways, &n, SECTION_TCP, f->tcp[i].name, false, row++);
    row = 0;
    for (size_t i = 0; i < f->push_count; i++)
        if (f->pushes[i].paused == 0) add_way(ways, &n, SECTION_PUSH, f->pushes[i].name, false, row++);
    return n;
}

/* What the command line says counts whatever the file does. */
static void override(const cli_settings *s, cli_config *f)
{
    if (s->said[0]) f->http = s->say[0];
    if (s->said[1]) f->rtsp = s->say[1];
    if (s->said[2]) f->https = s->say[2];
    if (s->said[3]) f->rtsps = s->say[3];
    if (s->said[4] && f->tcp_count > 0) f->tcp[0].listen = s->say[4];
}

static bool same_value(const key_row *k, const void *a, const void *b)
{
    char one[CLI_TEXT_MAX + 8] = "", other[CLI_TEXT_MAX + 8] = "";
    bool has = cli_key_text(k, a, one, sizeof one), have = cli_key_text(k, b, other, sizeof other);
    return has == have && (!has || strcmp(one, other) == 0);
}

/* All that a section says; keep: those that do not count. */
static bool same_section(section s, const void *a, const void *b, bool (*counts)(const key_row *k))
{
    const key_row *k;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++)
        if (k->section == s && (counts == NULL || counts(k)) && !same_value(k, a, b)) return false;
    return true;
}

/* Keys that only an opening takes over. */
static bool takes_opening(const key_row *k)
{
    return cli_key_effect(k) == EFFECT_ALL;
}

static bool is_encrypted(const cli_plain *p, bool push)
{
    return push ? strncmp(p->to, "tls://", 6) == 0 : p->secure != 0;
}

bool cli_draft_is_live(const cli_device *d, const cli_draft *to)
{
    const cli_config *a = &d->file, *b = &to->d.file;
    for (int s = 0; s < SECTION_CAMERA; s++)
        if (!same_section((section)s, a, b, takes_opening)) return false;
    if (a->camera_count != b->camera_count) return false;
    for (size_t i = 0; i < a->camera_count; i++) {
        const void *other = cli_section_item(b, SECTION_CAMERA, a->cameras[i].name);
        if (other == NULL || !same_section(SECTION_CAMERA, &a->cameras[i], other, NULL)) return false;
    }
    for (size_t i = 0; i < b->feed_count; i++) {
        const void *other = cli_section_item(a, SECTION_FEED, b->feeds[i].name);
        if (other == NULL ? b->feeds[i].multicast_auto || b->feeds[i].multicast.family != 0
                          : !same_section(SECTION_FEED, other, &b->feeds[i], takes_opening))
            return false;
    }
    for (size_t i = 0; i < b->tcp_count; i++)
        if (is_encrypted(&b->tcp[i], false) && cli_section_item(a, SECTION_TCP, b->tcp[i].name) == NULL) return false;
    return true;
}

cli_draft *cli_draft_make(const cli_device *d, const cli_layer *over, char *why, size_t room, size_t *culprit)
{
    const cli_settings *s = d->layers;
    cli_draft *draft = calloc(1, sizeof *draft);
    FILE *f = draft != NULL ? fmemopen(s->base, strlen(s->base), "r") : NULL;
    if (f == NULL) {
        snprintf(why, room, "there is not enough memory");
        free(draft);
        return NULL;
    }
    cli_device *n = &draft->d;
    if (!cli_config_parse_over(f, s->path, over, why, room, culprit, &n->file)) {
        free(draft);
        return NULL;
    }
    override(s, &n->file);
    n->port = d->port;
    n->linux_port = d->linux_port;
    n->sim = d->sim;
    n->intake = d->intake;
    n->v4l2 = d->v4l2;
    n->board = d->board;
    n->board_data = d->board_data;
    n->has_board = d->has_board;
    n->tolerant = d->tolerant;
    n->quiet = true;
    bool same_cameras = n->file.camera_count == d->file.camera_count;
    for (size_t i = 0; same_cameras && i < d->file.camera_count; i++) {
        const void *other = cli_section_item(&n->file, SECTION_CAMERA, d->file.cameras[i].name);
        same_cameras = other != NULL && same_section(SECTION_CAMERA, &d->file.cameras[i], other, NULL);
    }
    if (!same_cameras) return draft; /* what they can is seen when they are there */
    cli_capture(why, room);
    bool good = cli_prepare_rows(n);
    cli_capture(NULL, 0);
    if (good) return draft;
    free(draft);
    return NULL;
}

void cli_draft_free(cli_draft *draft)
{
    free(draft);
}

bool cli_draft_begin(cli_device *d)
{
    cli_settings *s = d->layers;
    cli_drafts_end(s);
    s->way_count = ways_of(&d->file, s->ways);
    return true;
}

void cli_drafts_end(cli_settings *s)
{
    while (s->drafts != NULL) {
        cli_draft *next = s->drafts->next;
        free(s->drafts);
        s->drafts = next;
    }
}

/* Drafts that no row of the device belongs to any longer; the first one is that of all feeds. */
static void forget_drafts(cli_settings *s)
{
    for (cli_draft **at = &s->drafts->next; *at != NULL;) {
        bool used = false;
        for (size_t i = 0; i < s->way_count; i++) used = used || s->ways[i].from == &(*at)->d;
        cli_draft *here = *at;
        if (used) {
            at = &here->next;
        } else {
            *at = here->next;
            free(here);
        }
    }
}

/* One change of many. */
typedef struct step {
    cli_device *d;
    const cli_config *from;
    cli_device *to;
    bmb_err err;
    bmb_fault fault;
} step;

static bool failed(step *s, bmb_err err)
{
    s->err = err;
    return false;
}

static void control_failed(step *s, const char *feed, size_t control, bmb_err err)
{
    (void)failed(s, err);
    s->fault =
        (bmb_fault){ .part = "control", .key = bmb_control_name((bmb_control)control), .name = feed, .err = err };
}

static bool set_controls(step *s, size_t place, const cli_feed *before, const cli_feed *after)
{
    bmb_camera_info info = { .stream = 0 };
    size_t index;
    bool known = cli_find_camera(s->d, after->camera, &index, &info);
    for (size_t c = 0; c < BMB_CONTROL_COUNT; c++) {
        int32_t effective, value = (int32_t)after->control[c];
        bool same = before->control_set[c] == after->control_set[c] && before->control[c] == after->control[c];
        /* A rate that is not held any longer leaves the quality where it was last. */
        if (c == BMB_CONTROL_QUALITY && before->control_set[BMB_CONTROL_KBPS] && !after->control_set[BMB_CONTROL_KBPS])
            same = false;
        bool rate = c == BMB_CONTROL_KBPS && s->to->feeds[after - s->to->file.feeds].mode.codec == BMB_CODEC_JPEG;
        if (same || rate || (!after->control_set[c] && (!known || info.controls[c].step == 0))) continue;
        if (!after->control_set[c]) value = info.controls[c].preset;
        bmb_err err = bmb_control_set(s->d->device, place, (bmb_control)c, value, &effective);
        if (err == BMB_OK) continue;
        control_failed(s, after->name, c, err);
        return false;
    }
    return true;
}

static bool change_feeds(step *s)
{
    const cli_config *f = &s->to->file;
    for (size_t i = 0; i < s->from->feed_count; i++) {
        const char *name = s->from->feeds[i].name;
        size_t place = cli_place_of(s->d, name);
        if (place != SIZE_MAX && cli_section_item(f, SECTION_FEED, name) == NULL)
            (void)bmb_feed_remove(s->d->device, place);
    }
    for (size_t i = 0; i < f->feed_count; i++) {
        const cli_feed *feed = &f->feeds[i], *before = cli_section_item(s->from, SECTION_FEED, feed->name);
        size_t place = cli_place_of(s->d, feed->name);
        bmb_err err = place != SIZE_MAX ? bmb_feed_change(s->d->device, place, &s->to->feeds[i], &s->fault)
                                        : bmb_feed_add(s->d->device, &s->to->feeds[i], &place, &s->fault);
        if (err != BMB_OK) return failed(s, err);
        if (before != NULL && !set_controls(s, place, before, feed)) return false;
        (void)bmb_feed_pause(s->d->device, place, feed->paused != 0);
    }
    return true;
}

static bool same_way(const step *s, const cli_way *a, const cli_way *b)
{
    if (a->section != b->section || a->secure != b->secure || strcmp(a->name, b->name) != 0) return false;
    const void *one = cli_section_item(s->from, a->section, a->name),
               *other = cli_section_item(&s->to->file, b->section, b->name);
    return one != NULL && other != NULL && same_section(a->section, one, other, NULL);
}

static uint16_t place_of_feed(const step *s, uint16_t row)
{
    return row == BMB_NO_FEED ? row : (uint16_t)cli_place_of(s->d, s->to->file.feeds[row].name);
}

/* The feeds of an outlet that has only some, by their places instead of their rows. */
static uint64_t places_of_feeds(const step *s, uint64_t rows)
{
    uint64_t places = 0;
    for (size_t row = 0; row < s->to->file.feed_count; row++) {
        size_t place = (rows >> row & 1) != 0 ? cli_place_of(s->d, s->to->file.feeds[row].name) : SIZE_MAX;
        if (place < 64) places |= 1ull << place;
    }
    return places;
}

/* Its encrypted counterpart, by its place and plus 1; that one was added first. */
static uint16_t counterpart(const step *s, const cli_way *w)
{
    const cli_settings *set = s->d->layers;
    for (size_t i = 0; i < set->way_count; i++)
        if (set->ways[i].section == w->section && set->ways[i].secure) return (uint16_t)(set->ways[i].place + 1);
    return 0;
}

static bool add_way_of(step *s, cli_way *w)
{
    bmb_err err;
    w->from = s->to;
    if (w->section == SECTION_PUSH) {
        bmb_push_config row = s->to->pushes[w->row];
        row.feed = place_of_feed(s, row.feed);
        err = bmb_push_add(s->d->device, &row, &w->place, &s->fault);
    } else {
        bmb_outlet_config row = s->to->outlets[w->row];
        row.feed = row.kind == BMB_OUTLET_TCP ? place_of_feed(s, row.feed) : 0;
        if (row.elsewhere > 0) row.elsewhere = counterpart(s, w);
        row.only = places_of_feeds(s, row.only);
        err = bmb_outlet_add(s->d->device, &row, &w->place, &s->fault);
    }
    return err == BMB_OK || failed(s, err);
}

/* Ways that stay keep their places; others go first, so that their addresses are free. */
static bool change_ways(step *s)
{
    cli_settings *set = s->d->layers;
    cli_way ways[CLI_WAYS_MOST];
    size_t count = ways_of(&s->to->file, ways), kept = 0;
    bool there[CLI_WAYS_MOST] = { false };
    for (size_t i = 0; i < set->way_count; i++) {
        cli_way *w = &set->ways[i];
        size_t same = 0;
        while (same < count && !same_way(s, w, &ways[same])) same++;
        if (same < count) {
            there[same] = true;
            set->ways[kept++] = *w;
        } else if (w->section == SECTION_PUSH) {
            (void)bmb_push_remove(s->d->device, w->place);
        } else {
            (void)bmb_outlet_remove(s->d->device, w->place);
        }
    }
    set->way_count = kept;
    /* Encrypted ones first: those beside them lead there. */
    for (size_t i = 0; i < 2 * count; i++) {
        cli_way w = ways[i % count];
        if (there[i % count] || w.secure != (i < count)) continue;
        if (!add_way_of(s, &w)) return false;
        set->ways[set->way_count++] = w;
    }
    return true;
}

static void tell_why(const step *s, char *why, size_t room)
{
    if (s->fault.part != NULL && strcmp(s->fault.part, "control") == 0) {
        snprintf(why, room, "feed \"%s\": %s is refused: %s", s->fault.name, s->fault.key,
                 s->err == BMB_IN_USE
                     ? "a bit rate is held, which the quality follows; take kbps away (null), or change that"
                 : s->err == BMB_AGAIN ? "the camera takes a snapshot in another size just now; try again in a second"
                                       : bmb_err_text(s->err));
    } else if (s->fault.part != NULL && strcmp(s->fault.part, "camera") == 0) {
        snprintf(why, room, "camera \"%s\" cannot: %s; all is as before", s->fault.name, bmb_err_text(s->err));
    } else {
        (void)bmb_fault_text(&s->fault, why, room);
    }
}

/* What takes more than was reserved takes opening anew. What is not supported is not by that either. */
static bool needs_opening(const step *s)
{
    bool control = s->fault.part != NULL && strcmp(s->fault.part, "control") == 0;
    return (s->err == BMB_NO_MEMORY || s->err == BMB_LIMIT) && !control;
}

/* Opening anew ends who watches: of feeds that are the same before and after it takes nobody. */
static bool disturbs_others(const step *s)
{
    bmb_feed_stats stats;
    for (size_t i = 0; i < s->from->feed_count; i++) {
        const cli_feed *before = &s->from->feeds[i],
                       *after = cli_section_item(&s->to->file, SECTION_FEED, before->name);
        size_t place = cli_place_of(s->d, before->name);
        if (after == NULL || !same_section(SECTION_FEED, before, after, NULL) || place == SIZE_MAX) continue;
        if (bmb_feed_stats_get(s->d->device, place, &stats) == BMB_OK && stats.viewers > 0) return true;
    }
    return false;
}

static bool changes_feeds(const step *s)
{
    if (s->from->feed_count != s->to->file.feed_count) return true;
    for (size_t i = 0; i < s->from->feed_count; i++) {
        const void *after = cli_section_item(&s->to->file, SECTION_FEED, s->from->feeds[i].name);
        if (after == NULL || !same_section(SECTION_FEED, &s->from->feeds[i], after, NULL)) return true;
    }
    return false;
}

bool cli_draft_apply(cli_device *d, cli_draft *to, bool *again, char *why, size_t room)
{
    cli_settings *set = d->layers;
    cli_proof_note(d, &to->d.file);
    cli_config *before = malloc(sizeof *before);
    if (before == NULL) return false;
    *before = d->file;
    step s = { .d = d, .from = before, .to = &to->d };
    bool good = change_feeds(&s) && change_ways(&s);
    *again = false;
    to->next = set->drafts;
    set->drafts = to;
    if (good) {
        cli_proof_begin(d);
        d->file = to->d.file;
        bmb_linux_log_level(d->linux_port, (bmb_level)d->file.log);
        cli_limits_of(&d->file, &d->config);
        cli_access_refresh(d);
        (void)bmb_limits_change(d->device, &d->config, NULL);
    } else {
        *again = needs_opening(&s);
        tell_why(&s, why, room);
        if (*again && changes_feeds(&s) && disturbs_others(&s)) {
            size_t at = strlen(why);
            snprintf(
                why + at, room - at,
                "; the device would have to be opened anew, which ends others that watch: raise reserve in [device] "
                "first");
            *again = false;
        }
        /* Back to what was, as far as it had come. */
        size_t culprit;
        char text[400];
        cli_draft *back = cli_draft_make(d, &set->now, text, sizeof text, &culprit);
        if (back != NULL) {
            step undo = { .d = d, .from = &to->d.file, .to = &back->d };
            (void)(change_feeds(&undo) && change_ways(&undo));
            back->next = set->drafts;
            set->drafts = back;
        }
    }
    forget_drafts(set);
    free(before);
    return good;
}
