#include "talk/places.h"

#include "base/bounds.h"
#include "talk/session.h"

#define BUCKETS 64u /* of hosts, or networks; two that share one are taken for one */

/* A host is an address, as with all limits by host. One of IPv6 has as many as it likes: where no address holds much,
 * those of a network are taken together. */
static uint8_t bucket_of(const bmb_addr *a, bool network)
{
    uint32_t hash = 2166136261u;
    for (size_t i = 0; i < (a->family != 6 ? 4u : network ? 8u : 16u); i++) hash = (hash ^ a->ip[i]) * 16777619u;
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

/* The bucket with the most connections that watch nothing, and how many these are; `own` where none has more. */
static uint8_t heaviest(const bmb_talk *t, uint8_t own, bool network, uint16_t *count)
{
    uint16_t counts[BUCKETS] = { 0 };
    uint8_t most = own;
    for (const bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++)
        if (!watching(t, c)) counts[bucket_of(&c->peer, network)]++;
    for (uint8_t i = 0; i < BUCKETS; i++)
        if (counts[i] > counts[most]) most = i;
    *count = counts[most];
    return most;
}

static bmb_conn *share(const bmb_talk *t, const bmb_addr *newcomer)
{
    uint16_t count;
    bool network = false;
    uint8_t own = bucket_of(newcomer, false), from = heaviest(t, own, false, &count);
    bmb_conn *idle = NULL, *other = NULL;
    if (BMB_WITH_IPV6 && count < 2 && newcomer->family == 6) {
        network = true;
        own = bucket_of(newcomer, true);
        from = heaviest(t, own, true, &count);
    }
    /* Where nobody has two, the one that is only kept alive goes, whoever's it is. */
    bool any = count < 2;
    for (bmb_conn *c = t->conns; c < t->conns + t->conn_open; c++) {
        if (watching(t, c) || (!any && bucket_of(&c->peer, network) != from)) continue;
        bool waits = c->state == BMB_CONN_DRAINING || t->kinds[c->kind]->idle(c);
        bmb_conn **best = waits ? &idle : &other;
        if (older(c, *best)) *best = c;
    }
    /* A host does not put its own requests out; of its network others may be meant. */
    if (idle != NULL || (from == own && (!network || any))) return idle;
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
