/* Lent links: what has to be remembered of them. */
#include "serve/link.h"
#include "talk/guard.h"

#include <string.h>

#include "base/bounds.h"

#define RECORD "links"
#define RECORD_VERSION 1u
#define ROW 11u
#define RECORD_MAX (2u + BMB_GUARD_LINKS * ROW)

#if BMB_WITH_ACCESS

static uint32_t wall_s(const bmb_context *x)
{
    int64_t wall = bmb_wall(x);
    return wall > 0 ? (uint32_t)(wall / 1000000) : 0;
}

static bmb_lent_link *find(const bmb_guard *g, uint32_t number)
{
    for (size_t i = 0; i < BMB_GUARD_LINKS; i++)
        if (g->kept->links[i].number == number) return &g->kept->links[i];
    return NULL;
}

static bool called_back(const bmb_guard *g, uint32_t number)
{
    const bmb_lent_link *l = find(g, number);
    for (size_t i = 0; i < g->access->links_ended_count; i++)
        if (g->access->links_ended[i] == number) return true;
    return l != NULL && l->ended;
}

static bmb_lent_link *place(bmb_guard *g, const bmb_context *x, uint32_t number, uint32_t until_s);

/* Is it over by time? What was seen to be is remembered, so that a clock that is set back brings nothing back. */
static bool has_ended(bmb_guard *g, const bmb_context *x, uint32_t number, uint32_t until_s)
{
    uint32_t now = wall_s(x);
    if (until_s == 0 || (now != 0 && now < until_s)) return false;
    bmb_lent_link *l = now != 0 ? place(g, x, number, until_s) : NULL;
    if (l != NULL) l->ended = true;
    return true;
}

bool bmb_guard_link(bmb_guard *g, const bmb_context *x, bmb_text link, size_t number, bmb_link_terms *out)
{
    if (g->access == NULL || g->access->link_key == NULL) return false;
    if (!bmb_link_read(x->port, g->access->link_key, x->config->feeds[number].name, link, out)) return false;
    if (called_back(g, out->number)) return false;
    return !has_ended(g, x, out->number, out->until_s);
}

bool bmb_guard_link_spent(const bmb_guard *g, const bmb_link_terms *link)
{
    const bmb_lent_link *l = find(g, link->number);
    return link->viewers != 0 && link->viewers != BMB_LINK_OWNERS && l != NULL && l->used >= link->viewers;
}

bool bmb_guard_holds(bmb_guard *g, const bmb_context *x, const bmb_pass *pass)
{
    if (pass->account == BMB_BY_LINK)
        return !called_back(g, pass->number) && !has_ended(g, x, pass->number, pass->until_s);
    for (size_t i = 0; pass->number != 0 && i < BMB_GUARD_SIGN_INS; i++)
        if (g->kept->sign_ins[i].account != 0 && g->kept->sign_ins[i].serial == pass->number) return true;
    return pass->number == 0;
}

static bool is_over(const bmb_lent_link *l, uint32_t now)
{
    return l->number == 0 || (l->until_s != 0 && now != 0 && now >= l->until_s);
}

/* A place for it; those of links that ended by themselves are free again. */
static bmb_lent_link *place(bmb_guard *g, const bmb_context *x, uint32_t number, uint32_t until_s)
{
    bmb_lent_link *l = find(g, number), *end = g->kept->links + BMB_GUARD_LINKS;
    if (l == NULL) {
        for (l = g->kept->links; l < end && !is_over(l, wall_s(x)); l++) continue;
        if (l == end) return NULL;
        *l = (bmb_lent_link){ .number = number, .until_s = until_s };
    }
    if (g->keep_us == 0) g->keep_us = x->now + BMB_KEEP_AFTER_US;
    return l;
}

bool bmb_guard_link_use(bmb_guard *g, const bmb_context *x, const bmb_link_terms *link)
{
    if (link->viewers == 0) return true;
    bmb_lent_link *l = place(g, x, link->number, link->until_s);
    if (l == NULL || l->used >= link->viewers) return false;
    l->used++;
    return true;
}

bmb_err bmb_guard_lend(bmb_guard *g, bmb_context *x, size_t number, uint32_t minutes, uint16_t viewers,
                       bmb_link_terms *out, char text[BMB_LINK_SIZE])
{
    uint32_t now = wall_s(x);
    if (g->access == NULL || g->access->link_key == NULL) return BMB_UNSUPPORTED;
    if (minutes > 0 && now == 0) return BMB_UNKNOWN;
    *out = (bmb_link_terms){ .until_s = minutes > 0 ? now + minutes * 60 : 0, .viewers = viewers };
    while (out->number == 0) x->port->random(x->port->ctx, &out->number, sizeof out->number);
    bmb_link_write(x->port, g->access->link_key, x->config->feeds[number].name, out, text);
    return BMB_OK;
}

bmb_err bmb_guard_link_end(bmb_guard *g, const bmb_context *x, uint32_t number, uint32_t until_s)
{
    bmb_lent_link *l = place(g, x, number, until_s);
    if (l == NULL) return BMB_LIMIT;
    l->ended = true;
    return BMB_OK;
}

void bmb_guard_load(bmb_guard *g, bmb_context *x)
{
    const bmb_storage *s = &x->port->storage;
    uint8_t data[RECORD_MAX];
    size_t size = 0;
    if (s->load == NULL || s->load(s->ctx, RECORD, data, sizeof data, &size) != BMB_OK || size > sizeof data) return;
    bmb_reader r = bmb_reader_of(data, size);
    if (bmb_get_u8(&r) != RECORD_VERSION) return;
    uint8_t count = bmb_get_u8(&r);
    for (uint8_t i = 0; i < count && i < BMB_GUARD_LINKS; i++) {
        bmb_lent_link l = { .number = bmb_get_u32(&r) };
        l.until_s = bmb_get_u32(&r);
        l.used = bmb_get_u16(&r);
        l.ended = bmb_get_u8(&r) != 0;
        if (!r.failed) g->kept->links[i] = l;
    }
}

static void store(bmb_guard *g, bmb_context *x)
{
    const bmb_storage *s = &x->port->storage;
    uint8_t data[RECORD_MAX];
    bmb_writer w = bmb_writer_of(data, sizeof data);
    g->keep_us = 0;
    if (s->store == NULL) return;
    bmb_put_u8(&w, RECORD_VERSION);
    bmb_put_u8(&w, BMB_GUARD_LINKS);
    for (size_t i = 0; i < BMB_GUARD_LINKS; i++) {
        bmb_put_u32(&w, g->kept->links[i].number);
        bmb_put_u32(&w, g->kept->links[i].until_s);
        bmb_put_u16(&w, g->kept->links[i].used);
        bmb_put_u8(&w, g->kept->links[i].ended);
    }
    bmb_doing was = bmb_turn(x, BMB_DOING_STORING);
    if (s->store(s->ctx, RECORD, data, bmb_written(&w)) != BMB_OK) g->keep_us = x->now + BMB_KEEP_AGAIN_US;
    (void)bmb_turn(x, was);
}

uint64_t bmb_guard_tend(bmb_guard *g, bmb_context *x)
{
    if (g->keep_us != 0 && x->now >= g->keep_us) store(g, x);
    return g->keep_us != 0 ? g->keep_us : UINT64_MAX;
}

void bmb_guard_close(bmb_guard *g, bmb_context *x)
{
    if (g->keep_us != 0) store(g, x);
}

#endif
