#include "talk/places.h"

#include "base/bounds.h"
#include "talk/session.h"

#define BUCKETS 64u /* of hosts; two that share one are taken for one */

/* Of an IPv6 host its network counts: it has as many addresses there as it likes. */
static uint8_t bucket_of(const bmb_addr *a)
{
    uint32_t hash = 2166136261u;
    for (size_t i = 0; i < (a->family == 6 ? 8u : 4u); i++) hash = (hash ^ a->ip[i]) * 16777619u;
    return (uint8_t)((hash ^ hash >> 16) % BUCKETS);
}

static bool plays(const bmb_talk *t, const bmb_conn *c)
{
    for (const bmb_session *s = bmb_session_at(t, c->sessions); s != NULL; s = bmb_session_at(t, s->next))
        if (s->state == BMB_SESSION_PLAYING) return true;
    return false;
}

/* A still is fetched, not watched. */
static bool watching(const bmb_talk *t, const bmb_conn *c)
{
    if (c->state == BMB_CONN_DRAINING) return false;
    if (BMB_WITH_TUNNEL && c->kind == BMB_CONN_POST) {
        const bmb_conn *get = bmb_conn_at(t, c->tunnel.get);
        return get != NULL && plays(t, get);
    }
    if (BMB_WITH_RTSP && c->kind == BMB_CONN_RTSP) return plays(t, c);
    return t->kinds[c->kind]->watches(t, c) != NULL && !c->viewer.once;
}

static bool older(const bmb_conn *a, const bmb_conn *b)
{
    return b == NULL || a->since_us < b->since_us;
}

/* How many connections of each bucket watch nothing. */
static void count(const bmb_talk *t, uint16_t *counts)
{
    for (const bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++)
        if (!watching(t, c)) counts[bucket_of(&c->peer)]++;
}

static bmb_conn *share(const bmb_talk *t, const bmb_addr *newcomer)
{
    uint16_t counts[BUCKETS] = { 0 };
    uint8_t own = bucket_of(newcomer), heaviest = own;
    bmb_conn *idle = NULL, *other = NULL;
    count(t, counts);
    for (uint8_t i = 0; i < BUCKETS; i++)
        if (counts[i] > counts[heaviest]) heaviest = i;
    /* Where no host has two, the one that is only kept alive goes, whoever's it is. */
    bool any = counts[heaviest] < 2;
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++) {
        if (watching(t, c) || (!any && bucket_of(&c->peer) != heaviest)) continue;
        bool waits = c->state == BMB_CONN_DRAINING || t->kinds[c->kind]->idle(c);
        bmb_conn **best = waits ? &idle : &other;
        if (older(c, *best)) *best = c;
    }
    if (idle != NULL || heaviest == own) return idle;
    return other;
}

static bmb_conn *oldest_idle(const bmb_talk *t)
{
    bmb_conn *idle = NULL;
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++)
        if ((c->state == BMB_CONN_DRAINING || t->kinds[c->kind]->idle(c)) && older(c, idle)) idle = c;
    return idle;
}

static bmb_conn *find(const bmb_talk *t, const bmb_addr *newcomer)
{
    for (uint16_t i = 0; i < t->conn_open; i++)
        if (t->conns[i].state == BMB_CONN_FREE) return &t->conns[i];
    return BMB_WITH_ACCESS ? share(t, newcomer) : oldest_idle(t); /* nobody misses one that is only kept alive */
}

/* No connection is left for it: one sentence, and away. */
static void turn_away(bmb_talk *t, const bmb_outlet *outlet, bmb_sock sock, const bmb_addr *peer)
{
    size_t taken;
    bmb_writer w = bmb_writer_of(t->x->scratch, BMB_FAREWELL_ROOM);
    t->kinds[outlet->by.kind]->turn_away(t, &outlet->by, &w);
    const bmb_slice slice = { .data = t->x->scratch, .size = bmb_written(&w) };
    if (slice.size > 0) (void)bmb_net_send(t->x, sock, &slice, 1, slice.size, NULL, &taken);
    bmb_sock_close(t->x, sock);
    t->refused++;
    bmb_tell(t->x,
             &(bmb_event){ .code = BMB_EVENT_CONNECTIONS_FULL, .err = BMB_LIMIT, .peer = peer, .value = t->conn_most });
}

void bmb_places_accept(bmb_talk *t, bmb_outlet *outlet)
{
    for (unsigned i = 0; i < BMB_READY_MOST; i++) {
        bmb_sock sock;
        bmb_addr peer;
        bmb_err err = t->x->port->net.accept(t->x->port->ctx, outlet->sock, &sock, &peer);
        if (err == BMB_AGAIN) return;
        if (err != BMB_OK) {
            t->accept_failed++;
            outlet->paused_us = t->x->now + BMB_ACCEPT_PAUSE_US;
            (void)t->x->port->net.watch(t->x->port->ctx, outlet->sock, 0, (uint32_t)(outlet - t->outlets));
            bmb_tell(t->x,
                     &(bmb_event){ .code = BMB_EVENT_ACCEPT_PAUSED, .err = err, .value = BMB_ACCEPT_PAUSE_US / 1000 });
            return;
        }
        bmb_conn *c = find(t, &peer);
        if (c == NULL) {
            turn_away(t, outlet, sock, &peer);
        } else {
            bmb_conn_close(t, c); /* which whoever has it gives up for this one */
            bmb_conn_open(t, c, &outlet->by, sock, &peer);
        }
    }
}
