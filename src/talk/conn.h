/* Connections of every kind: accepted or dialled, read, written, timed and closed. What is said on them is the
 * conversations'.
 */
#ifndef BMB_TALK_CONN_H
#define BMB_TALK_CONN_H

#include "base/bounds.h"
#include "base/timers.h"
#include "flow/repeat.h"
#include "flow/rtp_stream.h"
#include "flow/viewer.h"
#include "media/still.h"
#include "serve/http_parse.h"
#include "serve/http_route.h"
#include "serve/rtsp_parse.h"
#include "serve/status.h"
#include "talk/guard.h"

typedef enum bmb_conn_state {
    BMB_CONN_FREE = 0,
    BMB_CONN_DIALLING,  /* waits for its connection */
    BMB_CONN_READING,   /* waits for a request; an RTSP connection also carries interleaved frames in this state */
    BMB_CONN_WAITING,   /* HTTP: for a still of its own; RTSP: a description is due as soon as the feed's first frame is
                           there */
    BMB_CONN_ANSWERING, /* tx, then body, then further pieces of the status */
    BMB_CONN_WATCHING,  /* tx, then the viewer's frames */
    BMB_CONN_DRAINING   /* everything is said; reads on a while so that the peer gets it */
} bmb_conn_state;

/* What is spoken on a connection. The outlets' kinds come first, in their order. */
typedef enum bmb_conn_kind {
    BMB_CONN_HTTP = BMB_OUTLET_HTTP,
    BMB_CONN_RTSP = BMB_OUTLET_RTSP,
    BMB_CONN_TCP = BMB_OUTLET_TCP,
    BMB_CONN_POST = BMB_OUTLET_COUNT, /* the half of an RTSP tunnel that carries the requests */
    BMB_CONN_KINDS
} bmb_conn_kind;

/* Answers that are made piece by piece. */
typedef enum bmb_more { BMB_MORE_NOTHING = 0, BMB_MORE_STATUS, BMB_MORE_EVENTS } bmb_more;

typedef struct bmb_talk bmb_talk;
typedef struct bmb_conn bmb_conn;
typedef struct bmb_opening bmb_opening;

/* Who dialled a connection, and gets the news of it. */
typedef struct bmb_dialler {
    void (*ready)(bmb_talk *t, bmb_opening *by, bmb_conn *c); /* made, or failed: net.dialled tells */
    void (*closed)(bmb_talk *t, bmb_opening *by, bmb_conn *c, bmb_err why);
} bmb_dialler;

/* What a connection was opened with: by an outlet that accepted it, or by whoever dialled it. */
struct bmb_opening {
    bmb_outlet_kind kind;
    bmb_stream_format format; /* TCP: all of these */
    uint16_t feed;            /* BMB_NO_FEED: the peer chooses */
    bool keep_all, controls;
#if BMB_WITH_TLS
    bool secure;
#endif
#if BMB_WITH_ACCESS
    const bmb_outlet_config *outlet; /* NULL: dialled */
    uint16_t elsewhere;              /* port, where the outlet has something elsewhere */
#endif
    bmb_tally past;             /* of viewers that left */
    const bmb_dialler *dialler; /* NULL: accepted; its viewers take one of the places for viewers */
};

/* What is looked at most comes first, where short instructions reach it. */
struct bmb_conn {
    bmb_sock sock;
    uint8_t state;   /* bmb_conn_state */
    uint8_t kind;    /* bmb_conn_kind */
    uint8_t watched; /* events asked of the port */
    bool keep_alive;
    bmb_opening *by;
    uint8_t *rx, *tx;
    uint16_t rx_size, tx_at, tx_size;
    union { /* by kind */
        struct {
            union {
                struct {            /* HTTP; small ones together */
                    bmb_slice body; /* of the answer, behind tx */
                    bool head_only; /* the request is HEAD */
                    uint8_t more;   /* bmb_more: what follows once tx is out */
                    bool old;       /* HTTP/1.0 */
                    uint8_t part;   /* of the status; index: the row in it */
#if BMB_WITH_ACCESS
                    uint8_t origin; /* of another page, which may read the answer: its index plus 1; 0: none */
                    bool quiet;     /* a browser asks, maybe for a page of somebody else */
                    bool granted;   /* the body of its request comes in, into the one place for that */
                    bool served;    /* the service is to be told when the answer is out, with the token */
#endif
                    uint16_t index;
#if BMB_WITH_EVENTS
                    bool figures;        /* figures each second are asked for … */
                    uint32_t event;      /* number of the next one that is told */
                    uint32_t figured_ms; /* … and were last told then, ms since the start */
#endif
#if BMB_WITH_SERVICE
                    void *token;
#endif
                };
                struct { /* TCP */
                    bool framed, paused;
                    bool ending;        /* the farewell is in tx */
                    uint8_t bye;        /* bmb_err: a farewell is due, for this reason */
                    uint16_t announced; /* feeds that the peer was told of */
                    uint16_t feed;      /* chosen, or BMB_NO_FEED */
                    uint32_t skip;      /* bytes of an unknown request still to come */
#if BMB_WITH_ACCESS
                    uint32_t challenge; /* number of the one that it is to answer; 0: none was sent */
                    bool challenges;    /* one is due */
#endif
                };
            };
            union {
                bmb_viewer viewer;   /* HTTP: in state WATCHING; TCP */
                bmb_http_parse http; /* HTTP: in the others */
            };
        };
        struct {               /* RTSP */
            uint16_t awaited;  /* the feed that is to be described, its number plus 1; 0: it waits for none */
            uint16_t sessions; /* that were set up on it: index plus 1 of the first one */
            uint16_t mid;      /* of them, the one in the middle of an interleaved frame; 0: none */
            uint16_t post;     /* tunnel: connection of the requests, index plus 1; 0: none, or no tunnel */
            uint32_t cookie;   /* tunnel: what joins the two; 0: no tunnel */
            bool closing;      /* ends when tx is out */
            bool active;       /* has said something */
#if BMB_WITH_ACCESS
            uint8_t proof; /* bmb_proof of the request that comes in */
            uint32_t door; /* what nonces of this connection are bound to */
#endif
            bmb_watcher waiting; /* for the first frame of the feed that is awaited */
            bmb_rtsp_parse rtsp;
        };
        struct {            /* POST */
            uint16_t get;   /* connection of the answers, index plus 1; 0: it is gone */
            uint8_t digits; /* of a base64 group that are there … */
            uint32_t group; /* … and their bits */
        } tunnel;
    };
#if BMB_WITH_ACCESS
    bmb_pass pass;
#endif
    bmb_addr peer;
#if BMB_WITH_PATHS
    uint32_t look_us; /* when its path is looked at again, as long as it is not free; 0: it is. The lower half of it */
#endif
    uint64_t since_us;    /* of the state, or of the request's first byte */
    uint64_t progress_us; /* last time that the peer took something, or that it was first waited for */
};

typedef struct bmb_outlet {
    bmb_opening by;
    const bmb_outlet_config *config;
    bmb_sock sock;
    bmb_addr bound;
    uint64_t paused_us; /* no accept before this; 0: not paused */
    bmb_tally reported; /* all that was told in the last report */
} bmb_outlet;

/* What connections do: one row of functions for each kind.
 *
 * One rule of progress holds for all of them, and conn.c keeps it: whoever is waited for to take something must take
 * something within stall_ms, in whatever state. What the peer is waited for to say is the conversation's to bound: due
 * says when, and sweep then acts; neither is called while the peer takes nothing. */
typedef struct bmb_conversation {
    void (*open)(bmb_talk *t, bmb_conn *c);
    void (*receive)(bmb_talk *t, bmb_conn *c); /* acts on what is in rx */
    void (*flush)(bmb_talk *t, bmb_conn *c);
    /* When time limits are to be looked at, at the latest; UINT64_MAX: never, as things are. */
    uint64_t (*due)(const bmb_talk *t, const bmb_conn *c);
    void (*sweep)(bmb_talk *t, bmb_conn *c);
    void (*closed)(bmb_talk *t, bmb_conn *c);
    bool (*idle)(const bmb_conn *c);                            /* nobody would miss it */
    bmb_feed *(*watches)(const bmb_talk *t, const bmb_conn *c); /* whose frames go over it; one of them, or NULL */
    void (*feed_gone)(bmb_talk *t, bmb_conn *c); /* called when its viewer's feed is taken out of service */
    /* The farewell to a connection for which there is no place; nothing in formats that have none. */
    void (*turn_away)(const bmb_talk *t, const bmb_opening *by, bmb_writer *w);
} bmb_conversation;

/* Multicast, which connections ask for and others send. holds: the session has its place already. */
typedef struct bmb_groups {
    bmb_err (*join)(struct bmb_groups *g, bmb_feed *feed, bool holds);
    void (*leave)(struct bmb_groups *g, bmb_feed *feed);  /* pauses and keeps its place */
    void (*let_go)(struct bmb_groups *g, bmb_feed *feed); /* gives its place back; the last one ends the stream */
    /* Lets it send until a time although nobody has a session for it. */
    void (*lease)(struct bmb_groups *g, bmb_feed *feed, uint64_t until_us);
    const bmb_viewer *(*sender)(const struct bmb_groups *g, const bmb_feed *feed); /* NULL: the feed has no group */
} bmb_groups;

/* The figures of the whole device, which nobody here knows: a row of a part of the status. 0: there is none. */
typedef struct bmb_figures {
    size_t (*row)(struct bmb_figures *f, const bmb_status_view *view, bmb_status_part part, size_t index, char *out,
                  size_t room);
} bmb_figures;

#define BMB_SDP_ROOM 1024u     /* of scratch memory, for a description */
#define BMB_FAREWELL_ROOM 512u /* … for the answer to somebody who is turned away */

struct bmb_session;

/* Where the body of a request is gathered. */
typedef struct bmb_body_place {
    uint16_t taken; /* by this connection, index plus 1; 0: it is free */
    uint64_t since_us;
    uint8_t bytes[];
} bmb_body_place;

struct bmb_talk {
    bmb_context *x;
    const bmb_feeds *feeds;
    bmb_groups *groups;
    bmb_figures *figures;
    const bmb_conversation *const *kinds; /* by bmb_conn_kind */
    bmb_conn *conns;
    struct bmb_session *sessions;
#if BMB_WITH_REPEATS
    bmb_repeats *repeats; /* by session; NULL: there are none */
#endif
    uint16_t conn_most, conn_used; /* conn_used: index behind the last one in use */
    uint16_t conn_open;            /* those from this index on are reserved for those who dial */
    uint16_t conn_live;
    uint16_t session_most, session_live;
    uint16_t rx_room, tx_room;
    bmb_timers timers;   /* of connections, and behind them of sessions */
    bmb_udp_pair udp[2]; /* of sessions: IPv4, IPv6; opened with the first session that needs them */
    uint32_t refused, bad_requests, requests, accept_failed;
    bmb_outlet *outlets;           /* as many as are configured */
    bmb_owner viewing, describing; /* connections: with viewers of their own; that wait for a first frame */
    bmb_owner playing, member;     /* sessions: with a stream of their own; of a group */
    bmb_still_taker stills;
#if BMB_WITH_SERVICE
    bmb_body_place *body; /* NULL: there is no service */
#endif
    bmb_guard guard;
};

void bmb_conn_ready(bmb_talk *t, bmb_conn *c, uint32_t events);
void bmb_conn_close(bmb_talk *t, bmb_conn *c);
/* Something of it is due: a piece between frames, or a time limit. */
void bmb_conn_due(bmb_talk *t, bmb_conn *c);
/* A place that is reserved for it is dialling. */
void bmb_conn_dial(bmb_talk *t, bmb_conn *c, bmb_opening *by, bmb_sock sock);
/* Takes a connection into service: one that was accepted, or dialled. */
void bmb_conn_open(bmb_talk *t, bmb_conn *c, bmb_opening *by, bmb_sock sock, const bmb_addr *peer);
/* A fresh frame is there, if it waits for one. */
void bmb_conn_deliver(bmb_talk *t, bmb_conn *c);

/* Its viewer stands in the way of a new frame, in the middle of an old one. */
void bmb_conn_put_out(bmb_talk *t, bmb_conn *c, bmb_feed *feed);

/* For conversations. */
/* Its time limits may be sooner than before, for something that happened elsewhere. */
void bmb_conn_schedule(bmb_talk *t, bmb_conn *c);
/* Moves on whatever is due to be sent, and then acts on requests that waited for their turn. */
void bmb_conn_resume(bmb_talk *t, bmb_conn *c);
/* Reads on; waits: until the peer takes something, too, for which it has stall_ms from now on. */
void bmb_conn_await(bmb_talk *t, bmb_conn *c, bool waits);
bmb_link bmb_conn_link(const bmb_talk *t, bmb_conn *c);
/* tx, and then what is behind it (moved on as it is taken), or NULL. BMB_OK: all is out; BMB_AGAIN: not yet. */
bmb_err bmb_conn_send_pending(bmb_talk *t, bmb_conn *c, bmb_slice *behind);
void bmb_conn_drain(bmb_talk *t, bmb_conn *c); /* says no more, and closes soon */
/* Goes on with another conversation; what was received and not yet taken is its beginning. */
void bmb_conn_turn(bmb_talk *t, bmb_conn *c, bmb_conn_kind kind);
bmb_http_terms bmb_conn_terms(const bmb_talk *t, bool keep_alive, bool old, bool head_only);
/* An event with a text that came from the network. */
void bmb_conn_tell_text(bmb_talk *t, const bmb_conn *c, bmb_event_code code, const char *before, const char *text,
                        size_t size);
/* Something that is not there was asked for. */
void bmb_conn_not_found(bmb_talk *t, const bmb_conn *c, const char *scheme, const char *path, size_t size);
bool bmb_talk_administers(const bmb_talk *t, uint16_t account);
uint16_t bmb_conn_account(const bmb_conn *c); /* 0: nobody's, or nobody has one */
/* A bit for each feed that is not to be named to whoever is at the other end: out of service, or none of his. */
uint64_t bmb_conn_hidden(const bmb_talk *t, const bmb_conn *c);
/* A group has no list of readers: a feed that not everybody may see is sent to one only where that was said. */
bool bmb_talk_may_group(const bmb_talk *t, const bmb_feed *feed);
/* false: all places for viewers are taken, which is told and counted. One more is kept for an administrator. account:
 * of the connection, or 0. */
#if BMB_WITH_FOLLOWING
/* And on the uplink? Whoever leaves too little for those who watch already does not come in. */
bool bmb_talk_fits_uplink(bmb_talk *t, const bmb_feed *feed, const bmb_addr *who);
#else
#define bmb_talk_fits_uplink(t, feed, who) true
#endif
bool bmb_talk_has_place(bmb_talk *t, const bmb_feed *feed, const bmb_addr *who, uint16_t account);
/* Its index plus 1. */
#if BMB_WITH_ACCESS
/* May this feed be had at the outlet that it came by? */
static inline bool bmb_feed_is_here(const bmb_conn *c, uint16_t feed)
{
    const bmb_outlet_config *o = c->by->outlet; /* NULL: it was dialled */
    return o == NULL || o->elsewhere == 0 || (o->only >> feed & 1) != 0;
}
#endif

/* Is it encrypted? */
static inline bool bmb_conn_secure(const bmb_conn *c)
{
#if BMB_WITH_TLS
    return c->by->secure;
#else
    (void)c;
    return false;
#endif
}

/* A browser asks, perhaps without its user. */
static inline bool bmb_conn_quiet(const bmb_conn *c)
{
#if BMB_WITH_ACCESS
    return c->quiet;
#else
    (void)c;
    return false;
#endif
}

static inline uint16_t bmb_conn_number(const bmb_talk *t, const bmb_conn *c)
{
    return (uint16_t)(c - t->conns + 1);
}
static inline bmb_conn *bmb_conn_at(const bmb_talk *t, uint16_t number) /* NULL: 0 */
{
    return number != 0 ? &t->conns[number - 1] : NULL;
}

#endif
