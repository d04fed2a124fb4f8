/* Framers turn frames into the bytes of one wire format, piece by piece, copying no payload.
 *
 * A piece is what the format cannot split: one packet of a datagram format, one run of a stream format. `fill` appends
 * pieces from the cursor on to a gather, as slices of the frame and of short headers in the gather's scratch memory,
 * and moves the cursor behind them. The same cursor always gives the same bytes, so a piece that a link took only in
 * part needs no buffer: it is made again and its first bytes left out.
 */
#ifndef BMB_WIRE_FRAMER_H
#define BMB_WIRE_FRAMER_H

#include "bambino/options.h"
#include "bambino/port.h"
#include "base/bounds.h"
#include "wire/frame.h"

/* Bounds of one gather, and so of one call to a link. 64 packets are what segmentation offload takes at a time; an RTP
 * packet needs two slices and a header of at most 20 bytes, a few more where it is both JPEG and interleaved; a
 * datagram of a transport stream fourteen, and thirteen of them are a frame of 4 Mbit/s at 30/s. */
#define BMB_GATHER_PIECES ((size_t)BMB_GATHER_MOST)
#define BMB_GATHER_SLICES (BMB_GATHER_MOST > 12 ? 3u * BMB_GATHER_MOST - 4 : 32u) /* a datagram's, and more */
#define BMB_STILL_HEAD (BMB_WITH_ACCESS ? 720u : 320u) /* of a still; with an origin as long as a name can be */
#define BMB_GATHER_SCRATCH (21u * BMB_GATHER_MOST > BMB_STILL_HEAD ? 21u * BMB_GATHER_MOST : BMB_STILL_HEAD)

/* Where in the framed form of a frame a viewer is. All zero: at its beginning. */
typedef struct bmb_cursor {
    uint32_t at;     /* byte within the unit that the framer is in */
    uint16_t unit;   /* NAL unit, for formats that have several in a frame */
    uint16_t pieces; /* pieces before this one in the frame */
    bool end;        /* behind the last piece */
} bmb_cursor;

/* The counts come first: they are near enough to be reached by short instructions. */
typedef struct bmb_gather {
    size_t slice_count, piece_count, scratch_used, bytes;
    bmb_slice slices[BMB_GATHER_SLICES];
    bmb_packet packets[BMB_GATHER_PIECES];
    bmb_cursor starts[BMB_GATHER_PIECES]; /* where each piece begins */
    uint8_t scratch[BMB_GATHER_SCRATCH];
} bmb_gather;

#if BMB_WITH_REPEATS
/* RTP: which packets the last frames were. */
typedef struct bmb_sent {
    uint32_t frame[BMB_SENT_MOST]; /* its number in the reel */
    uint16_t first[BMB_SENT_MOST], pieces[BMB_SENT_MOST];
    uint16_t next;
} bmb_sent;
#endif

/* What a framer remembers of one viewer between frames. */
typedef struct bmb_stream_state {
    union {
        struct { /* RTP */
            uint32_t ssrc;
            uint32_t packets;     /* since the stream began */
            uint32_t time_offset; /* added to the 90 kHz time of each frame */
            uint32_t octets;      /* before the last pause, headers included */
        };
        struct {
            uint64_t clock_us; /* transport stream: its own clock as last sent; framed, still: when the frame began */
            union {
                uint64_t ts_psi_us; /* transport stream: that clock when PAT and PMT last went */
                const char *origin; /* still: of a page that may read it; NULL: none */
            };
        };
    };
    uint16_t next_seq;                  /* RTP: sequence number of the next frame's first packet */
    uint16_t payload_max;               /* datagrams: largest packet, an RTP header included */
    uint16_t feed;                      /* framed: the feed's number */
    uint8_t ts_counter, ts_psi_counter; /* continuity counters of the next packets */
    bool ts_begun;
    uint8_t payload_type; /* RTP; framed: bmb_codec */
    uint8_t channel;      /* interleaved: of RTP */
    bool interleaved;
    bool keep_alive; /* single answers: the connection stays */
    bool old;        /* … to a request of HTTP/1.0 */
    bool head_only;
    bool embeds; /* pages of others may show it */
#if BMB_WITH_REPEATS
    bmb_sent *sent; /* RTP: is noted there; NULL: nowhere */
#endif
} bmb_stream_state;

typedef struct bmb_framer {
    const char *name;
    /* Appends pieces from *cursor on until the frame ends, the gather has no room for one more, or it holds `most`, and
     * moves the cursor behind them; at least one when the gather was empty. Must not be called at the end. */
    void (*fill)(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most);
    /* The frame was sent as far as *cursor, normally its end: moves the state on. NULL: no state. */
    void (*done)(bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor);
    /* Can the format carry this frame? NULL: any. */
    bool (*carries)(const bmb_frame *frame);
    /* A viewer begins the frame now; called once, before `fill`. NULL: nothing to prepare. */
    void (*begin)(bmb_stream_state *state, const bmb_frame *frame, uint64_t now_us);
    /* What the stream carries between frames, so that a receiver knows that it is alive: when the next such piece is
     * due (UINT64_MAX: not before the next frame), and the piece itself, at most BMB_IDLE_MAX bytes. Both or neither.
     */
    uint64_t (*idle_due)(const bmb_stream_state *state);
    size_t (*idle)(bmb_stream_state *state, uint64_t now_us, uint8_t *out);
} bmb_framer;
#define BMB_IDLE_MAX 564u /* three packets of a transport stream */

/* These run for every packet of every viewer, hence inline. */
static inline void bmb_gather_clear(bmb_gather *gather)
{
    gather->slice_count = gather->piece_count = gather->scratch_used = gather->bytes = 0;
}

/* Room for one more piece of so many slices and scratch bytes? */
static inline bool bmb_gather_fits(const bmb_gather *gather, size_t slices, size_t scratch)
{
    return gather->piece_count < BMB_GATHER_PIECES && BMB_GATHER_SLICES - gather->slice_count >= slices &&
           BMB_GATHER_SCRATCH - gather->scratch_used >= scratch;
}

/* Begins a piece; then any number of slices; bmb_gather_fits must have said yes. */
static inline void bmb_gather_begin(bmb_gather *gather, const bmb_cursor *start)
{
    size_t i = gather->piece_count++;
    gather->starts[i] = *start;
    gather->packets[i] = (bmb_packet){ .slices = gather->slices + gather->slice_count, .count = 0, .size = 0 };
}

/* Scratch memory for a header of `room` bytes; bmb_gather_slice commits what was written. */
static inline uint8_t *bmb_gather_scratch(bmb_gather *gather, size_t room)
{
    uint8_t *here = gather->scratch + gather->scratch_used;
    gather->scratch_used += room;
    return here;
}

static inline void bmb_gather_slice(bmb_gather *gather, const void *data, size_t size)
{
    size_t piece = gather->piece_count - 1;
    gather->slices[gather->slice_count++] = (bmb_slice){ .data = data, .size = size };
    gather->packets[piece].count++;
    gather->packets[piece].size += (uint32_t)size;
    gather->bytes += size;
}

/* Formats. */
extern const bmb_framer bmb_framer_multipart; /* JPEG parts of multipart/x-mixed-replace, see multipart.c */
extern const bmb_framer bmb_framer_still;     /* one JPEG as a whole HTTP response, see still.c */

extern const bmb_framer bmb_framer_ts;  /* H.264 in an MPEG-2 transport stream, see ts.c */
extern const bmb_framer bmb_framer_raw; /* nothing but the frames, see raw.c */

/* Boundary of the multipart format; the response head ends with its first delimiter line. */
#define BMB_MULTIPART_BOUNDARY "next-picture"

#endif
