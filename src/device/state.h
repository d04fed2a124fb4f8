/* What the device consists of. Private to src/device. */
#ifndef BMB_DEVICE_STATE_H
#define BMB_DEVICE_STATE_H

#include "bambino/device.h"
#include "base/bytes.h"
#include "base/log.h"
#include "base/rate.h"
#include "device/governor.h"
#include "device/pace.h"
#include "device/reel.h"
#include "serve/http_route.h"
#include "serve/status.h"
#include "serve/rtsp_parse.h"
#include "wire/framer.h"
#include "wire/h264.h"
#include "wire/rtcp.h"
#include "wire/rtp.h"
#include "wire/sdp.h"

#define BMB_NO_TALLY UINT8_MAX

/* Bounds, each with the reason for its value. */
#define BMB_FEEDS_MOST 64u /* a bit each in a word */
#define BMB_OUTLETS_MOST 8u
#define BMB_READY_MOST 32u          /* events per step: bounds one step's time, the rest comes with the next */
#define BMB_SLOTS_LEAST 6u          /* frames in a reel however small */
#define BMB_SLOTS_MOST 64u          /* two seconds at 30/s; beyond that a viewer goes on at a key frame anyway */
#define BMB_SLOTS_PER_FRAME 4u      /* frames are mostly far smaller than the largest one */
#define BMB_SWEEP_US 100000u        /* how often time limits are looked at */
#define BMB_DRAIN_US 1000000u       /* after a refusal: time for the peer to read it before the connection is closed */
#define BMB_STILL_WAIT_US 3000000u  /* a still waits so long for the first frame */
#define BMB_ACCEPT_PAUSE_US 500000u /* after the system refused a connection */
#define BMB_STALL_LEAST_US 2000000u /* a camera may be silent so long, or ten frame intervals if that is more */
#define BMB_RETRY_FIRST_MS 500u     /* first pause before a camera is started again; doubles up to … */
#define BMB_RETRY_MOST_MS 30000u
#define BMB_UNSENT_LEAST 16384u  /* bytes in a socket's buffer: less would cost a call per few packets */
#define BMB_TUNE_US 1000000u     /* between two looks at what a slow viewer's link carries */
#define BMB_LAG_US 500000u       /* an H.264 viewer that is further behind the newest frame goes on at a key frame */
#define BMB_KEY_PAUSE_US 500000u /* least time between two requests for a key frame, over all viewers of a feed */
#define BMB_BURST 16u            /* packets that leave at once: about 22 KB, what a small switch or radio buffers */
#define BMB_BURST_GAP_US 1000u   /* least pause between bursts, the resolution of the port's wait */
#define BMB_REPORT_US 5000000u   /* between two RTCP sender reports (RFC 3550 6.2) */
#define BMB_DATAGRAMS 16u        /* RTCP datagrams taken in one step */
#define BMB_ORPHAN_US                                                                                                  \
    10000000u                    /* a receiver whose control connection is gone must report within: receivers of such  \
                                    streams report every 2.5 to 7.5 s (RFC 3550 6.2) */
#define BMB_UNREACHABLE_LEAST 6u /* answers "port unreachable" in a row, no sign of life between them, … */
#define BMB_UNREACHABLE_US 2000000u /* … over so long: the receiver is gone */
#define BMB_SETTLED_US 2000000u     /* a stream's bit rate is told once it was measured for so long */
#define BMB_KEEP_AFTER_US 2000000u  /* changed controls are stored after: one write for a hand that turns a knob */
#define BMB_KEEP_PAUSE_US 10000000u /* and not again before: a medium may take long for a write, and wears out */
#define BMB_KEEP_AGAIN_US 30000000u /* and again, where the storage failed */
#define BMB_PUSHES_MOST 16u
#define BMB_DIAL_MOST_US 5000000u    /* a connection that is not made by then is given up */
#define BMB_PUSH_RETRY_FIRST_MS 500u /* first pause before a push is tried again; doubles up to … */
#define BMB_PUSH_RETRY_MOST_MS 10000u
#define BMB_PUSH_TELL_US 10000000u /* a destination that goes on refusing is reported again after */
#define BMB_REPORT_OUT_US 1000000u /* between two reports of what went out */
#define BMB_QUALITY_FIRST 75       /* JPEG bit rate: where a camera does not tell its quality */
#define BMB_QUALITY_LEAST 20u      /* below, blocks are all that is seen */
#define BMB_QUALITY_MOST 90u       /* above, images grow without looking better */
#define BMB_TS_BURST_US 25000u     /* a frame of a transport stream leaves within, so that PCRs stay close */
#define BMB_TOKEN_UDP 8u           /* tokens of sockets: outlets first, then UDP sockets, then connections */
#define BMB_TOKEN_CONN 16u
#define BMB_CHUNK_ROOM 16u /* of a tx buffer: chunk size line, line ends, separators */

typedef struct bmb_feed bmb_feed;

typedef struct bmb_viewer {
    const bmb_framer *framer; /* NULL: nobody watches */
    bmb_feed *feed;
    bmb_frame *frame;  /* in the middle of it, pinned */
    bmb_cursor cursor; /* in the frame: the piece to be sent next … */
    uint32_t taken;    /* … and how many of its bytes the link has already */
    uint32_t seq;      /* last frame sent or passed over */
    bmb_stream_state state;
    bool once;      /* ends after one frame */
    bool counted;   /* takes one of the places for viewers */
    bool blocked;   /* the link takes no more just now */
    bool slow;      /* was blocked within the last frame */
    bool begun;     /* at least one frame was sent */
    bool needs_key; /* can go on at a key frame only */
    bool keep_all;  /* frames in order as long as the reel has them */
    uint8_t tally;  /* whose figures it adds to when it ends: an outlet, or BMB_OUTLETS_MOST + a push */
    uint32_t age_ms;
    uint64_t since_us;
    union {
        uint64_t tuned_us; /* TCP: when what may wait unsent is next fitted to what the link really carries */
        uint64_t pace_us;  /* datagrams: the next burst is due; 0: none is under way */
    };
    uint64_t blocked_us;    /* since when, while blocked; else how long altogether */
    uint32_t sent, skipped; /* frames: enough for four years at 30/s */
    uint64_t bytes;
    bmb_rate rate;
} bmb_viewer;

/* One sender to a multicast group, whatever the number of its viewers. */
typedef struct bmb_group {
    bmb_sock sock;    /* open while somebody holds it */
    uint16_t holders; /* sessions and the lease: they have it, playing or paused */
    uint16_t members; /* of them, those that want to see something now */
    uint64_t report_us;
    uint64_t lease_us; /* sends until then for receivers that have fetched its description; 0: no lease */
    bmb_viewer viewer;
} bmb_group;

/* A still of another size, taken while the feed streams. */
typedef struct bmb_still {
    bool active;     /* a connection waits for it, or is being sent it */
    bool taking;     /* the camera is in the still's mode */
    bool held;       /* the picture is in the driver's buffer, under this cookie */
    bool gap;        /* the gap that it made is to be told */
    uint8_t quality; /* of the stream, to be set again; 0: it was not changed */
    uint8_t settled;
    uint16_t conn; /* index plus 1; 0: nobody */
    uint16_t width, height;
    uintptr_t cookie;
    uint64_t since_us;
} bmb_still;

struct bmb_feed {
    const bmb_feed_config *config;
    size_t camera;
    bmb_reel reel;
    bmb_mode mode; /* in force */
    bmb_camera_state camera_state;
    bmb_err camera_err;
    bool fresh;    /* frames came in this step */
    bool was_back; /* a gap is over when the next frame comes */
    uint32_t retry_ms;
    uint32_t gap_ms_most;
    uint64_t heard_us; /* last frame, or start */
    uint64_t retry_us; /* next start */
    uint64_t gap_us;   /* when the present gap began */
    uint64_t quiet_us; /* no more reports of bad frames before this */
    bmb_rate rate;
    uint64_t frames, sent, skipped, dropped, bad, too_large, bytes_sent;
    uint32_t stalled, shed, restarts;
    uint16_t viewers;
    bmb_jpeg_rtp refusal; /* why RTP cannot carry the newest frame */
    bool removed;
    bool needs_key;  /* H.264: nothing before the next key frame can be decoded */
    bool key_wanted; /* a key frame is to be asked for as soon as the pause allows */
    uint64_t key_us; /* when one was last asked for */
    bmb_governor governor;
    bmb_still still;
    bool restored;    /* saved controls were looked for */
    uint32_t changed; /* controls that are to be stored, a bit each … */
    uint64_t keep_us; /* … at that time; else not before it */
    bmb_h264_sets sets;
    bmb_sps sps;
    uint64_t sdp_id;      /* of its descriptions, drawn at opening … */
    uint32_t sdp_version; /* … and a number that moves when what they say does */
    uint32_t kbps_most;   /* highest bit rate seen, in coarse steps */
    bmb_group group;
};

/* A feed that is sent to an address by itself. */
typedef struct bmb_push {
    const bmb_push_config *config;
    bmb_feed *feed;
    uint8_t state; /* bmb_push_state */
    bmb_err err;
    uint16_t conn;       /* TCP: index of the connection that is reserved for it */
    bmb_sock sock, rtcp; /* UDP; rtcp: RTP's second one */
    uint32_t starts, retry_ms;
    uint64_t retry_us, since_us;
    uint64_t told_us;   /* UDP: when a refusal was last reported */
    uint64_t report_us; /* RTP: next sender report */
    bmb_tally past, reported;
    bmb_viewer viewer; /* UDP */
} bmb_push;

typedef enum bmb_session_state { BMB_SESSION_FREE = 0, BMB_SESSION_READY, BMB_SESSION_PLAYING } bmb_session_state;

/* An RTSP session: one feed over one transport. */
typedef struct bmb_session {
    uint8_t state;                     /* bmb_session_state */
    uint8_t via;                       /* bmb_transport */
    uint8_t rtp_channel, rtcp_channel; /* interleaved */
    bool reports;                      /* the receiver has reported; the four below are set */
    uint8_t lost_256;
    uint8_t outlet;      /* where it was set up */
    uint8_t unreachable; /* answers "port unreachable" since the last sign of life … */
    bool holds;          /* a place in the feed's group */
    bool departed;       /* interleaved: it has said goodbye, and ends with the frame under way */
    uint16_t rtcp_port;
    uint16_t conn; /* index of the connection that has it, plus 1; 0: that is gone */
    uint16_t next; /* session of the same connection, its index plus 1; 0: the last one */
    int32_t lost;
    uint32_t jitter_us, round_trip_us;
    uint64_t id;
    uint64_t alive_us;       /* last sign of life */
    uint64_t orphan_us;      /* when its connection was closed */
    uint64_t unreachable_us; /* … the first of them */
    uint64_t report_us;      /* next sender report; 0: with the first frame */
    bmb_feed *feed;
    bmb_addr peer; /* where RTP goes */
    bmb_viewer viewer;
} bmb_session;

/* The UDP sockets of all sessions of one address family: RTP on an even port, RTCP on the next (RFC 3550 11). */
typedef struct bmb_udp_pair {
    bmb_sock rtp, rtcp;
    uint16_t port;
} bmb_udp_pair;

/* Where the packets of an RTP sender go, and its reports. NULL: to the sockets' own peers. */
typedef struct bmb_rtp_way {
    bmb_sock rtp, rtcp;
    const bmb_addr *to, *rtcp_to;
} bmb_rtp_way;

typedef enum bmb_conn_state {
    BMB_CONN_FREE = 0,
    BMB_CONN_DIALLING,  /* a push waits for its connection */
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

typedef struct bmb_conn {
    bmb_sock sock;
    uint8_t state;   /* bmb_conn_state */
    uint8_t kind;    /* bmb_conn_kind */
    uint8_t outlet;  /* its index; behind the last one: of a push, in this order */
    uint8_t watched; /* events asked of the port */
    bool keep_alive;
    bmb_addr peer;
    uint8_t *rx, *tx;
    uint16_t rx_size, tx_at, tx_size;
    uint64_t since_us;    /* of the state, or of the request's first byte */
    uint64_t progress_us; /* last time that the peer took something, or that it was first waited for */
    const uint8_t *body;
    size_t body_left;
    union { /* by kind */
        struct {
            bmb_viewer viewer; /* HTTP, TCP */
            union {
                struct { /* HTTP */
                    bmb_http_parse http;
                    bool status;    /* more pieces of the status are due */
                    bool old;       /* HTTP/1.0 */
                    uint8_t part;   /* of the status … */
                    uint16_t index; /* … and the row in it */
                };
                struct { /* TCP */
                    bool framed, paused;
                    bool ending;        /* the farewell is in tx */
                    uint8_t bye;        /* bmb_err: a farewell is due, for this reason */
                    uint16_t announced; /* feeds that the peer was told of */
                    uint16_t feed;      /* chosen, or BMB_NO_FEED */
                    uint32_t skip;      /* bytes of an unknown request still to come */
                };
            };
        };
        struct { /* RTSP */
            bmb_rtsp_parse rtsp;
            uint16_t sessions; /* that were set up on it: index plus 1 of the first one */
            uint16_t mid;      /* of them, the one in the middle of an interleaved frame; 0: none */
            uint16_t post;     /* tunnel: connection of the requests, index plus 1; 0: none, or no tunnel */
            uint32_t cookie;   /* tunnel: what joins the two; 0: no tunnel */
            bool closing;      /* ends when tx is out */
            bool active;       /* has said something */
        };
        struct {            /* POST */
            uint16_t get;   /* connection of the answers, index plus 1; 0: it is gone */
            uint8_t digits; /* of a base64 group that are there … */
            uint32_t group; /* … and their bits */
        } tunnel;
    };
} bmb_conn;

typedef struct bmb_outlet {
    const bmb_outlet_config *config;
    bmb_sock sock;
    bmb_addr bound;
    uint64_t paused_us;       /* no accept before this; 0: not paused */
    bmb_tally past, reported; /* of viewers that left; and all that was told in the last report */
} bmb_outlet;

struct bmb_device {
    const bmb_config *config;
    const bmb_port *port;
    size_t memory;
    uint64_t start_us, now, sweep_us;
    bmb_feed *feeds;
    bmb_conn *conns;
    bmb_push *pushes;
    uint16_t conn_most, conn_used; /* conn_used: index behind the last one in use */
    uint16_t conn_open;            /* those from this index on are reserved for pushes */
    uint16_t conn_live, viewers;
    bmb_session *sessions;
    uint16_t session_most, session_live;
    bmb_udp_pair udp[2]; /* IPv4, IPv6; opened with the first session that needs them */
    uint64_t pace_us;    /* the earliest burst that is due; UINT64_MAX: none */
    uint64_t idle_us;    /* the earliest piece between frames that is due; UINT64_MAX: none */
    uint64_t report_us;  /* the next report of what went out */
    uint64_t behind_us;  /* no more reports of recorders that lost frames before this */
    uint16_t rx_room, tx_room;
    bmb_light light;
    bmb_log_gate gate;
    char cname[17]; /* of all RTP streams */
    uint32_t refused, bad_requests, requests, accept_failed;
    bmb_pace pace; /* how steadily it is stepped */
    bmb_outlet outlets[BMB_OUTLETS_MOST];
    /* Needed only within one call, never two at once. */
    union {
        bmb_gather gather;
        uint8_t json[BMB_STATUS_MEMORY];
        uint8_t sdp[1024];
        union {
            bmb_jpeg_facts jpeg;
            bmb_h264_facts h264;
        } arrived; /* what the frame being taken turned out to be */
    } work;
};

/* What the step is doing from now on; returns what it was doing. */
static inline bmb_doing bmb_turn(bmb_device *d, bmb_doing doing)
{
    return bmb_pace_turn(&d->pace, d->port->now_us(d->port->ctx), doing);
}

static inline void bmb_tell(bmb_device *d, const bmb_event *event)
{
    bmb_doing was = bmb_turn(d, BMB_DOING_LOGGING);
    bmb_log(&d->gate, d->port, d->now, event);
    (void)bmb_turn(d, was);
}

/* A bit for each feed that is out of service. */
static inline uint64_t bmb_removed(const bmb_device *d)
{
    uint64_t removed = 0;
    for (size_t i = 0; i < d->config->feed_count; i++) removed |= (uint64_t)d->feeds[i].removed << i;
    return removed;
}

/* device.c: fills a fault in, where there is one, and returns err */
bmb_err bmb_blame(bmb_fault *fault, bmb_err err, const char *part, const char *key, const char *name, int64_t asked,
                  int64_t have);

/* contract.c: BMB_UNSUPPORTED: a function that the configuration needs is not there; the fault names it. */
bmb_err bmb_contract_check(const bmb_config *config, bmb_fault *fault);
/* May a camera that was asked for one mode deliver another? BMB_UNSUPPORTED. */
bmb_err bmb_contract_mode(const bmb_mode *asked, const bmb_mode *effective);
bool bmb_mode_same(const bmb_mode *a, const bmb_mode *b);
/* A camera without controls has neither function: BMB_UNSUPPORTED. */
bmb_err bmb_camera_set(const bmb_device *d, const bmb_feed *feed, bmb_control control, int32_t value,
                       int32_t *effective);
bmb_err bmb_camera_get(const bmb_device *d, const bmb_feed *feed, bmb_control control, int32_t *value);
/* The port's functions, with what they return held against what they were given: BMB_FAILED. */
bmb_err bmb_net_send(const bmb_device *d, bmb_sock sock, const bmb_slice *slices, size_t count, size_t offered,
                     size_t *taken);
bmb_err bmb_net_recv(const bmb_device *d, bmb_sock sock, void *out, size_t room, size_t *got);
bmb_err bmb_net_send_packets(const bmb_device *d, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets,
                             size_t count, size_t *taken);

/* feed.c: cameras and ingestion */
void bmb_feed_start(bmb_device *d, bmb_feed *feed);
void bmb_feed_take(bmb_device *d, bmb_feed *feed);
/* Looks at stalls and retries; returns when it wants to be called again. */
uint64_t bmb_feed_tend(bmb_device *d, bmb_feed *feed);
/* Asks the camera for a key frame, now or as soon as the pause since the last request is over. */
void bmb_feed_want_key(bmb_device *d, bmb_feed *feed);

/* still.c: BMB_IN_USE: another one is being taken, or the camera does not run; BMB_UNSUPPORTED: no such size */
bmb_err bmb_still_begin(bmb_device *d, bmb_feed *feed, const bmb_conn *c, uint16_t width, uint16_t height);
void bmb_still_take(bmb_device *d, bmb_feed *feed);
void bmb_still_fail(bmb_device *d, bmb_feed *feed);
/* The connection has its picture, or goes. */
void bmb_still_done(bmb_device *d, const bmb_conn *c);
/* http_conn.c: size 0: there is none after all */
void bmb_http_answer_still(bmb_device *d, bmb_conn *c, const uint8_t *data, size_t size);

/* controls.c: settings of cameras, and what is kept of them */
void bmb_controls_apply(bmb_device *d, bmb_feed *feed);
/* Stores what is to be stored, now; or when its time has come, and returns when that is. */
void bmb_controls_keep(bmb_device *d, bmb_feed *feed);
uint64_t bmb_controls_tend(bmb_device *d, bmb_feed *feed);

/* viewer.c */
void bmb_viewer_begin(bmb_device *d, bmb_viewer *v, bmb_feed *feed, const bmb_framer *framer, bool once, bool counted);
void bmb_viewer_end(bmb_device *d, bmb_viewer *v);
void bmb_viewer_leave(bmb_device *d, bmb_viewer *v, const bmb_addr *peer); /* the same, and tells it */
/* Takes the frame to begin with, where there is one already: it is known before anything is sent. */
bool bmb_viewer_prime(bmb_device *d, bmb_viewer *v);
/* Sends what there is over a TCP connection. BMB_AGAIN: nothing new, or blocked; BMB_OK: a single answer is complete;
 * BMB_GONE: the peer is gone. */
bmb_err bmb_viewer_pump(bmb_device *d, bmb_viewer *v, bmb_conn *c);
/* Bounds what may wait unsent in the system at a stream of so many kbit/s: more would only grow old there. */
void bmb_viewer_bound_unsent(bmb_device *d, bmb_sock sock, uint32_t kbps);
uint32_t bmb_feed_kbps(const bmb_device *d, const bmb_feed *feed); /* measured at the input */
/* Sends the rest of the present frame only. BMB_OK: there is none any more. */
bmb_err bmb_viewer_finish(bmb_device *d, bmb_viewer *v, bmb_conn *c);
/* Sends the next burst of datagrams, when one is due. Not BMB_OK: what the network answered; sending goes on. */
bmb_err bmb_viewer_pump_datagrams(bmb_device *d, bmb_viewer *v, bmb_sock sock, const bmb_addr *to);
/* The link takes bytes again. */
void bmb_viewer_unblock(const bmb_device *d, bmb_viewer *v);
uint64_t bmb_viewer_blocked_us(const bmb_device *d, const bmb_viewer *v);
/* Remembers when the stream next wants to say something between frames. */
void bmb_viewer_note_idle(bmb_device *d, const bmb_viewer *v);
/* Gives the present frame up, as far as it was not sent. */
void bmb_viewer_abandon(bmb_viewer *v);

/* conn.c: connections of every kind */
void bmb_conn_accept(bmb_device *d, bmb_outlet *outlet);
void bmb_conn_ready(bmb_device *d, bmb_conn *c, uint32_t events);
void bmb_conn_close(bmb_device *d, bmb_conn *c);
void bmb_conn_sweep(bmb_device *d, bmb_conn *c);
/* Moves on whatever is due to be sent, and then acts on requests that waited for their turn. */
void bmb_conn_resume(bmb_device *d, bmb_conn *c);
/* The parts of that: for conversations. */
/* Reads on; waits: until the peer takes something, too, for which it has stall_ms from now on. */
void bmb_conn_await(bmb_device *d, bmb_conn *c, bool waits);
/* Every byte over a connection leaves here. BMB_AGAIN: not all was taken. */
bmb_err bmb_conn_send(bmb_device *d, bmb_conn *c, const bmb_slice *slices, size_t count, size_t offered, size_t *taken);
bmb_err bmb_conn_send_pending(bmb_device *d, bmb_conn *c); /* BMB_OK: tx and body are out */
bmb_http_terms bmb_conn_terms(const bmb_device *d, bool keep_alive, bool old, bool head_only);
/* Something that is not there was asked for. */
void bmb_conn_not_found(bmb_device *d, const bmb_conn *c, const char *scheme, const char *path, size_t size);
void bmb_conn_drain(bmb_device *d, bmb_conn *c); /* says no more, and closes soon */
bool bmb_conn_older_than(const bmb_device *d, uint64_t since_us, uint64_t limit_us);
/* Closes the viewers that are in the middle of this frame. */
void bmb_conn_shed(bmb_device *d, bmb_feed *feed, const bmb_frame *frame);
/* The n-th viewer that gets its frames over this connection, or NULL: only RTSP's interleaved sessions are several. */
bmb_viewer *bmb_conn_viewer(const bmb_device *d, const bmb_conn *c, unsigned n);
/* Takes a connection into service: one that was accepted, or dialled. */
void bmb_conn_open(bmb_device *d, bmb_conn *c, bmb_outlet_kind kind, size_t outlet, bmb_sock sock,
                   const bmb_addr *peer);
/* Goes on with another conversation; what was received and not yet taken is its beginning. */
void bmb_conn_turn(bmb_device *d, bmb_conn *c, bmb_conn_kind kind);
void bmb_conn_idle(bmb_device *d, bmb_conn *c);    /* sends what is due between frames */
bool bmb_conn_deliver(bmb_device *d, bmb_conn *c); /* a fresh frame, if it waits for one */
void bmb_viewer_event(bmb_device *d, const bmb_feed *feed, const bmb_addr *peer, bmb_level level, bmb_event_code code,
                      int64_t value, int64_t extra);

/* What connections do: one row of functions for each kind.
 *
 * One rule of progress holds for all of them, and conn.c keeps it: whoever is waited for to take something must take
 * something within stall_ms, in whatever state. What the peer is waited for to say is the conversation's to bound:
 * sweep looks at that alone, and is not called while the peer takes nothing. */
typedef struct bmb_conversation {
    void (*open)(bmb_device *d, bmb_conn *c);
    void (*receive)(bmb_device *d, bmb_conn *c); /* acts on what is in rx */
    void (*flush)(bmb_device *d, bmb_conn *c);
    void (*sweep)(bmb_device *d, bmb_conn *c);
    void (*closed)(bmb_device *d, bmb_conn *c);
    bool (*idle)(const bmb_device *d, const bmb_conn *c);                      /* nobody would miss it */
    bmb_viewer *(*viewer)(const bmb_device *d, const bmb_conn *c, unsigned n); /* as bmb_conn_viewer */
    void (*feed_removed)(bmb_device *d, bmb_conn *c); /* called when such a viewer's feed is taken out of service */
} bmb_conversation;
extern const bmb_conversation bmb_http_conversation, bmb_rtsp_conversation, bmb_tcp_conversation, bmb_post_conversation;
/* tunnel.c: begins the half that a request asks for, GET or POST. false: there is no such tunnel. */
bool bmb_tunnel_begin(bmb_device *d, bmb_conn *c, bmb_http_method method, uint32_t cookie);
/* Moves requests from one half to the other, as far as there is room. */
void bmb_tunnel_pull(bmb_device *d, bmb_conn *get);
void bmb_tunnel_closed(bmb_device *d, bmb_conn *get);
/* The farewell to a connection for which there is no place; nothing in formats that have none. */
void bmb_tcp_turn_away(bmb_writer *w, bmb_stream_format format);

/* push.c: feeds that are sent to an address by themselves */
void bmb_push_start(bmb_device *d, bmb_push *p, size_t index);
void bmb_push_dialled(bmb_device *d, bmb_conn *c);
/* The TCP connection of a push has ended, or could not be made. */
void bmb_push_closed(bmb_device *d, const bmb_conn *c, bmb_err why);
bmb_push *bmb_push_of(const bmb_device *d, const bmb_conn *c); /* NULL: an accepted connection */
/* What its plain connection is: of an outlet or of a push. */
typedef struct bmb_plain {
    bmb_stream_format format;
    uint16_t feed;
    bool keep_all, controls;
} bmb_plain;
bmb_plain bmb_conn_plain(const bmb_device *d, const bmb_conn *c);
void bmb_push_deliver(bmb_device *d, bool due_only);
void bmb_push_idle(bmb_device *d);
void bmb_push_shed(bmb_device *d, const bmb_frame *frame);
uint64_t bmb_push_sweep(bmb_device *d);
void bmb_push_end(bmb_device *d, bmb_push *p);

/* stats.c */
bmb_tally bmb_outlet_tally(const bmb_device *d, size_t outlet, uint16_t *viewers);
bmb_tally bmb_push_tally(const bmb_device *d, const bmb_push *p);
/* Tells what went out in the last second, over every outlet and push. */
void bmb_report(bmb_device *d);

/* session.c: RTSP sessions */
bmb_session *bmb_session_open(bmb_device *d, bmb_feed *feed); /* NULL: no place is free */
bmb_session *bmb_session_find(bmb_device *d, const char *id);
bmb_session *bmb_session_at(const bmb_device *d, uint16_t number); /* its index plus 1; NULL: 0 */
bmb_session *bmb_session_of(bmb_viewer *v);                        /* whose viewer it is */
void bmb_session_move(bmb_device *d, bmb_session *s, bmb_conn *c); /* it belongs to this connection from now on */
void bmb_session_conn_closed(bmb_device *d, bmb_conn *c);          /* interleaved ones end; others live on */
/* NULL: the sockets cannot be had. */
bmb_udp_pair *bmb_session_sockets(bmb_device *d, uint8_t family);
bmb_err bmb_session_play(bmb_device *d, bmb_session *s, const bmb_addr *who); /* BMB_LIMIT */
void bmb_session_pause(bmb_device *d, bmb_session *s, const bmb_addr *who);
void bmb_session_close(bmb_device *d, bmb_session *s, const bmb_addr *who);
const bmb_viewer *bmb_session_sender(const bmb_session *s); /* its own, or the group's */
/* A report that is due, as one RTCP packet; false: none is. */
bool bmb_session_report(bmb_device *d, bmb_session *s, bmb_writer *w);
bool bmb_session_rtcp(bmb_device *d, bmb_session *s, const uint8_t *data, size_t size); /* true: it says goodbye */
void bmb_session_datagrams(bmb_device *d, bmb_sock sock); /* RTCP that arrived, and what came back as unreachable */
void bmb_session_sweep(bmb_device *d);
/* Frames came (for fresh feeds), or only bursts that are due. */
void bmb_session_deliver(bmb_device *d, bool due_only);
void bmb_session_shed(bmb_device *d, const bmb_frame *frame);
void bmb_session_feed_removed(bmb_device *d, bmb_feed *feed);
void bmb_session_close_all(bmb_device *d);

/* group.c: multicast. holds: the session has its place already. */
bmb_err bmb_group_join(bmb_device *d, bmb_feed *feed, bool holds);
void bmb_group_leave(bmb_device *d, bmb_feed *feed);  /* pauses and keeps its place */
void bmb_group_let_go(bmb_device *d, bmb_feed *feed); /* gives its place back; the last one ends the stream */
/* Lets a group send until a time although nobody has a session for it. */
void bmb_group_lease(bmb_device *d, bmb_feed *feed, uint64_t until_us);
void bmb_group_end_lease(bmb_device *d, bmb_feed *feed);
void bmb_group_deliver(bmb_device *d, bmb_feed *feed, bool due_only);

/* rtp_sender.c: what every RTP sender has in common */
const bmb_framer *bmb_rtp_framer(const bmb_feed *feed);
/* RFC 3550 5.1: random SSRC, sequence number and time offset. */
void bmb_rtp_start_stream(bmb_device *d, const bmb_feed *feed, bmb_stream_state *state);
/* What a feed's description says; group NULL: unicast. */
bmb_sdp bmb_rtp_describe(const bmb_device *d, const bmb_feed *feed, const bmb_addr *origin, const bmb_multicast *group,
                         bool control);
bmb_err bmb_rtp_open_pair(bmb_device *d, uint8_t family, const bmb_udp_options *options, bmb_udp_pair *pair);
void bmb_rtp_put_report(bmb_device *d, const bmb_viewer *v, bool bye, bmb_writer *w);
void bmb_rtp_send_report(bmb_device *d, const bmb_viewer *v, bool bye, bmb_sock sock, const bmb_addr *to);
/* The next burst, and a sender report where one is due. Not BMB_OK: what the network answered. */
bmb_err bmb_rtp_pump(bmb_device *d, bmb_viewer *v, const bmb_rtp_way *way, uint64_t *report_us);
void bmb_rtp_pause(bmb_device *d, bmb_viewer *v);

#endif
