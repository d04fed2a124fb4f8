#include "talk/passes.h"

#include "base/bounds.h"
#include "talk/session.h"

#if BMB_WITH_ACCESS

void bmb_passes_watch(bmb_talk *t)
{
    if (t->guard.look_us == 0) t->guard.look_us = t->x->now + BMB_PASS_US;
}

static bool may_go_on(bmb_talk *t, const bmb_pass *pass, const bmb_feed *feed)
{
    const bmb_who who = { .account = pass->account };
    const bmb_who nobody = { 0 };
    if (bmb_guard_may(&t->guard, t->x, &nobody, BMB_ROLE_WATCH, feed->number)) return true;
    if (!bmb_guard_holds(&t->guard, t->x, pass)) return false;
    return pass->account == BMB_BY_LINK || bmb_guard_may(&t->guard, t->x, &who, BMB_ROLE_WATCH, feed->number);
}

static bool may_end(const bmb_pass *pass)
{
    return pass->number != 0;
}

static void look_at_session(bmb_talk *t, bmb_session *s)
{
    bool group = s->via != BMB_VIA_RTP_MULTICAST || bmb_talk_may_group(t, s->track->feed);
    bool stays = s->state == BMB_SESSION_READY || may_go_on(t, &s->pass, s->track->feed);
    if (!group || !stays) bmb_session_end(t, s, BMB_ENDING_DENIED);
}

/* Is there anybody left whose pass may end? */
static bool look(bmb_talk *t)
{
    bool any = false;
    for (bmb_session *s = t->sessions; BMB_WITH_RTSP && s < t->sessions + t->session_most; s++) {
        if (s->state != BMB_SESSION_FREE) look_at_session(t, s);
        any = any || (s->state != BMB_SESSION_FREE && may_end(&s->pass));
    }
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++) {
        bool watches = c->state != BMB_CONN_FREE && c->kind != BMB_CONN_POST && c->kind != BMB_CONN_RTSP;
        const bmb_feed *feed = watches ? t->kinds[c->kind]->watches(t, c) : NULL;
        if (feed == NULL) continue;
        if (may_go_on(t, &c->pass, feed)) {
            any = any || may_end(&c->pass);
        } else {
            bmb_conn_close(t, c);
        }
    }
    return any;
}

uint64_t bmb_passes_tend(bmb_talk *t)
{
    bmb_guard *g = &t->guard;
    if (g->look_us != 0 && t->x->now >= g->look_us) g->look_us = look(t) ? t->x->now + BMB_PASS_US : 0;
    return g->look_us != 0 ? g->look_us : UINT64_MAX;
}

static void renumber(bmb_pass *pass, const uint16_t *to)
{
    if (pass->account != 0 && pass->account != BMB_BY_LINK) pass->account = to[pass->account - 1];
}

void bmb_passes_change(bmb_talk *t, const bmb_access *access, const uint16_t *to)
{
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_most; c++) renumber(&c->pass, to);
    for (bmb_session *s = t->sessions; BMB_WITH_RTSP && s < t->sessions + t->session_most; s++) renumber(&s->pass, to);
    bmb_guard_change(&t->guard, access, to);
    (void)look(t);
}

#endif
