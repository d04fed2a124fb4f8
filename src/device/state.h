/* What the device consists of. Private to src/device. */
#ifndef BMB_DEVICE_STATE_H
#define BMB_DEVICE_STATE_H

#include "bambino/device.h"
#include "base/bytes.h"
#include "base/log.h"
#include "base/rate.h"
#include "device/reel.h"
#include "serve/http_route.h"
#include "serve/status.h"
#include "wire/framer.h"

/* Bounds, each with the reason for its value. */
#define BMB_FEEDS_MOST 64u
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
#define BMB_BACKLOG_LEAST 16384u /* bytes in a socket's buffer: less would cost a call per few packets */
#define BMB_CHUNK_ROOM 16u       /* of a tx buffer: chunk size line, line ends, separators */

typedef struct bmb_feed {
    const bmb_feed_config *config;
    size_t camera;
    bmb_reel reel;
    bmb_mode mode; /* in force */
    bmb_camera_state camera_state;
    bmb_err camera_err;
    bool fresh;    /* frames came in this step */
    bool was_back; /* a gap is over when the next frame comes */
    uint32_t retry_ms;
    uint64_t heard_us; /* last frame, or start */
    uint64_t retry_us; /* next start */
    uint64_t gap_us;   /* when the present gap began */
    uint64_t quiet_us; /* no more reports of bad frames before this */
    bmb_rate rate;
    uint64_t frames, sent, skipped, dropped, bad, too_large, bytes_sent;
    uint32_t stalled, shed, restarts;
    uint16_t viewers;
} bmb_feed;

typedef struct bmb_viewer {
    const bmb_framer *framer; /* NULL: nobody watches */
    bmb_feed *feed;
    bmb_frame *frame;  /* in the middle of it, pinned */
    bmb_cursor cursor; /* in the frame: the piece to be sent next … */
    uint32_t taken;    /* … and how many of its bytes the link has already */
    uint32_t seq;      /* last frame sent or passed over */
    bmb_stream_state state;
    bool once;    /* ends after one frame */
    bool counted; /* takes one of the places for viewers */
    bool blocked; /* the link takes no more just now */
    bool slow;    /* was blocked within the last frame */
    bool begun;   /* at least one frame was sent */
    uint32_t age_ms;
    uint64_t since_us, progress_us;
    uint64_t sent, skipped, bytes;
    bmb_rate rate;
} bmb_viewer;

typedef enum bmb_conn_state {
    BMB_CONN_FREE = 0,
    BMB_CONN_READING,   /* waits for a request */
    BMB_CONN_ANSWERING, /* tx, then body, then further pieces of the status */
    BMB_CONN_WATCHING,  /* tx, then the viewer's frames */
    BMB_CONN_DRAINING   /* everything is said; reads on a while so that the peer gets it */
} bmb_conn_state;

typedef struct bmb_conn {
    bmb_sock sock;
    uint8_t state;   /* bmb_conn_state */
    uint8_t kind;    /* bmb_outlet_kind */
    uint8_t watched; /* events asked of the port */
    bool keep_alive;
    bmb_addr peer;
    uint8_t *rx, *tx;
    uint16_t rx_size, tx_at, tx_size;
    uint64_t since_us;    /* of the state, or of the request's first byte */
    uint64_t progress_us; /* last time that the peer took something */
    const uint8_t *body;
    size_t body_left;
    /* HTTP */
    bmb_http_parse http;
    bool status;    /* more pieces of the status are due */
    bool old;       /* HTTP/1.0 */
    uint8_t part;   /* of the status … */
    uint16_t index; /* … and the row in it */
    bmb_viewer viewer;
} bmb_conn;

typedef struct bmb_outlet {
    const bmb_outlet_config *config;
    bmb_sock sock;
    bmb_addr bound;
    uint64_t paused_us; /* no accept before this; 0: not paused */
} bmb_outlet;

struct bmb_device {
    const bmb_config *config;
    const bmb_port *port;
    size_t memory;
    uint64_t start_us, now, sweep_us;
    bmb_feed *feeds;
    bmb_conn *conns;
    uint16_t conn_most, conn_used; /* conn_used: index behind the last one in use */
    uint16_t conn_live, viewers;
    uint16_t rx_room, tx_room;
    bmb_light light;
    uint32_t refused, bad_requests, requests, accept_failed;
    bmb_outlet outlets[BMB_OUTLETS_MOST];
    /* Needed only within one call, never both at once. */
    union {
        bmb_gather gather;
        uint8_t json[BMB_STATUS_MEMORY];
    } work;
};

/* feed.c: cameras and ingestion */
void bmb_feed_start(bmb_device *d, bmb_feed *feed);
void bmb_feed_take(bmb_device *d, bmb_feed *feed);
/* Looks at stalls and retries; returns when it wants to be called again. */
uint64_t bmb_feed_tend(bmb_device *d, bmb_feed *feed);

/* viewer.c */
void bmb_viewer_begin(bmb_device *d, bmb_viewer *v, bmb_feed *feed, const bmb_framer *framer, bool once);
void bmb_viewer_end(bmb_device *d, bmb_viewer *v);
/* Sends what there is over a TCP connection. BMB_AGAIN: nothing new, or blocked; BMB_OK: a single answer is complete;
 * BMB_GONE: the peer is gone. */
bmb_err bmb_viewer_pump(bmb_device *d, bmb_viewer *v, bmb_sock sock);

/* conn.c: connections of every kind */
void bmb_conn_accept(bmb_device *d, bmb_outlet *outlet);
void bmb_conn_ready(bmb_device *d, bmb_conn *c, uint32_t events);
void bmb_conn_close(bmb_device *d, bmb_conn *c);
void bmb_conn_sweep(bmb_device *d, bmb_conn *c);
/* Moves on whatever is due to be sent. */
void bmb_conn_flush(bmb_device *d, bmb_conn *c);
/* The same, and then acts on requests that waited for their turn. */
void bmb_conn_resume(bmb_device *d, bmb_conn *c);
/* Closes the viewers that are in the middle of this frame. */
void bmb_conn_shed(bmb_device *d, bmb_feed *feed, const bmb_frame *frame);

/* http_conn.c: what an HTTP connection does */
void bmb_http_conn_open(bmb_device *d, bmb_conn *c);
void bmb_http_conn_receive(bmb_device *d, bmb_conn *c);
/* Puts the next piece of the status into tx. */
void bmb_http_conn_status(bmb_device *d, bmb_conn *c);
/* A time limit passed: answers with a status and drains. */
void bmb_http_conn_refuse(bmb_device *d, bmb_conn *c, uint16_t status);

#endif
