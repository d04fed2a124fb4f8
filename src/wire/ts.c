/* H.264 in an MPEG-2 transport stream (ISO/IEC 13818-1): one program, one video stream. Its clock is the one of the
 * captures; a PCR is the time at which its packet leaves, a PTS the capture plus a fixed delay. A piece is seven
 * packets, which is what a datagram carries; the last one of a frame may have fewer. Between frames that are far apart
 * go packets with a PCR alone, and the tables.
 *
 * A frame becomes: PAT and PMT where they are due; one PES packet (2.4.3.6) of unbounded length with an access unit
 * delimiter before the frame where it has none; stuffing in the adaptation field of the last packet (2.4.3.4).
 */
#include <string.h>

#include "base/bytes.h"
#include "wire/framer.h"
#include "wire/h264.h"

#define PACKET 188u
#define HEADER 4u
#define TOGETHER 7u /* packets in a piece: 1316 bytes, the most that fits an Ethernet frame */
#define PID_PAT 0x0000u
#define PID_PMT 0x07A0u
#define PID_VIDEO 0x07A1u
#define STREAM_TYPE_H264 0x1Bu
#define STREAM_ID_VIDEO 0xE0u
#define PCR_FIELD 8u /* adaptation field with a PCR, its length byte included */
#define PES_HEADER 14u
#define DELIMITER 6u
#define PCR_INTERVAL_US 36000u  /* receivers expect one in 40 ms; longer than the interval of 30 frames/s */
#define PCR_STEP_MOST_US 38000u /* two PCRs are never further apart, however late the second one leaves */
#define PCR_CATCH_UP_US 400000u /* after a longer silence it catches up at once: a receiver has noticed anyway */
#define PSI_INTERVAL_US 55000u  /* with one such interval on top still under the 100 ms that receivers expect */
#define PTS_DELAY_US 150000u    /* from capture to display: time enough to be encoded, sent and decoded */
/* Of a piece: header and payload of each packet. Each table has stuffing besides; the frame's first packet stuffing and
 * the PES header, its last one stuffing. */
#define SLICES_PLAIN (2 * TOGETHER)
#define SLICES_FIRST 4u
#define SLICES_LAST 1u
#define SCRATCH_MOST (TOGETHER * (HEADER + 2u) + PCR_FIELD + PES_HEADER + DELIMITER)

static const uint8_t stuffing[PACKET] = {
#define FF8 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF
    FF8, FF8, FF8, FF8, FF8, FF8, FF8, FF8, FF8, FF8,  FF8,  FF8,  FF8, FF8,
    FF8, FF8, FF8, FF8, FF8, FF8, FF8, FF8, FF8, 0xFF, 0xFF, 0xFF, 0xFF
#undef FF8
};

/* 2.4.4.3, 2.4.4.8: with their CRC-32s, for nothing in them ever changes. */
static const uint8_t pat[] = { 0x00, 0x00, 0xB0, 0x0D, 0x00, 0x01, 0xC1, 0x00, 0x00,
                               0x00, 0x01, 0xE7, 0xA0, 0xFC, 0x00, 0xB7, 0xD5 };
static const uint8_t pmt[] = { 0x00, 0x02, 0xB0, 0x12, 0x00, 0x01, 0xC1, 0x00, 0x00, 0xE7, 0xA1,
                               0xF0, 0x00, 0x1B, 0xE7, 0xA1, 0xF0, 0x00, 0x5B, 0x99, 0x4B, 0x8F };

/* How a frame is laid out; the same for the same frame and state. */
typedef struct layout {
    uint16_t psi;        /* 2 when PAT and PMT come first, else 0 */
    uint32_t packets;    /* in all */
    uint32_t lead;       /* bytes of PES header and delimiter */
    uint32_t first_room; /* payload of the first video packet, `lead` included */
} layout;

static bool psi_is_due(const bmb_stream_state *state, const bmb_frame *frame)
{
    return frame->key || !state->ts_begun || state->clock_us - state->ts_psi_us >= PSI_INTERVAL_US;
}

static bool has_delimiter(const bmb_frame *frame)
{
    size_t at = frame->size > 4 && frame->data[2] == 1 ? 3 : 4;
    return frame->size > at && bmb_nal_type_of(frame->data[at]) == BMB_NAL_DELIMITER;
}

static layout lay_out(const bmb_stream_state *state, const bmb_frame *frame)
{
    layout l = { .psi = psi_is_due(state, frame) ? 2 : 0 };
    l.lead = PES_HEADER + (has_delimiter(frame) ? 0 : DELIMITER);
    l.first_room = PACKET - HEADER - PCR_FIELD;
    uint32_t payload = l.lead + frame->size, room = PACKET - HEADER;
    uint32_t video = payload <= l.first_room ? 1 : 1 + (payload - l.first_room + room - 1) / room;
    l.packets = l.psi + video;
    return l;
}

static void put_header(uint8_t *out, uint16_t pid, bool start, unsigned adaptation, unsigned counter)
{
    out[0] = 0x47;
    bmb_store_u16(out + 1, (uint16_t)((start ? 0x4000 : 0) | pid));
    out[3] = (uint8_t)(adaptation << 4 | (counter & 15));
}

/* Moves the clock on towards an instant, but never so far that a receiver would miss a PCR: what is lacking comes with
 * the next ones. */
static void advance(bmb_stream_state *state, uint64_t to_us, uint64_t step_us)
{
    uint64_t step = to_us > state->clock_us ? to_us - state->clock_us : 0;
    if (state->ts_begun && step <= PCR_CATCH_UP_US && step > step_us) step = step_us;
    state->clock_us += step;
}

/* A frame that comes late must not have its PTS behind its PCR. */
static void begin(bmb_stream_state *state, const bmb_frame *frame, uint64_t now_us)
{
    uint64_t latest = frame->capture_us + PTS_DELAY_US;
    advance(state, now_us < latest ? now_us : latest, PCR_STEP_MOST_US);
}

static void put_table(const bmb_stream_state *state, bmb_gather *gather, bool first)
{
    const uint8_t *table = first ? pat : pmt;
    size_t size = first ? sizeof pat : sizeof pmt;
    uint8_t *head = bmb_gather_scratch(gather, HEADER);
    put_header(head, first ? PID_PAT : PID_PMT, true, 1, state->ts_psi_counter);
    bmb_gather_slice(gather, head, HEADER);
    bmb_gather_slice(gather, table, size);
    bmb_gather_slice(gather, stuffing, PACKET - HEADER - size);
}

/* 2.4.3.5: 33 bits of 90 kHz, and nine of 27 MHz. The time base is the device's clock, which never jumps: there is no
 * discontinuity to indicate, however long a silence was. */
static void put_pcr(uint8_t *out, uint64_t us, bool key)
{
    uint64_t base = us * 9 / 100 & 0x1FFFFFFFF, extension = us * 27 % 300;
    out[0] = PCR_FIELD - 1;
    out[1] = (uint8_t)(0x10 | (key ? 0x40 : 0)); /* PCR, random access */
    bmb_store_u32(out + 2, (uint32_t)(base >> 1));
    bmb_store_u16(out + 6, (uint16_t)((base & 1) << 15 | 0x7E00 | extension));
}

static void put_pes_header(uint8_t *out, uint64_t us)
{
    uint64_t pts = (us + PTS_DELAY_US) * 9 / 100 & 0x1FFFFFFFF;
    const uint8_t head[] = { 0, 0, 1, STREAM_ID_VIDEO, 0, 0, 0x84, 0x80, 5 };
    memcpy(out, head, sizeof head);
    out[9] = (uint8_t)(0x21 | (pts >> 29 & 0x0E));
    bmb_store_u16(out + 10, (uint16_t)((pts >> 14 & 0xFFFE) | 1));
    bmb_store_u16(out + 12, (uint16_t)((pts << 1 & 0xFFFE) | 1));
}

static void put_first(const bmb_stream_state *state, const bmb_frame *frame, const layout *l, bmb_gather *gather)
{
    static const uint8_t delimiter[DELIMITER] = { 0, 0, 0, 1, 9, 0xF0 };
    uint32_t left = l->lead + frame->size, room = l->first_room;
    uint32_t unused = left < room ? room - left : 0, size = (left < room ? left : room) - l->lead;
    uint8_t *head = bmb_gather_scratch(gather, HEADER + PCR_FIELD);
    put_header(head, PID_VIDEO, true, 3, state->ts_counter);
    put_pcr(head + HEADER, state->clock_us, frame->key);
    head[HEADER] = (uint8_t)(head[HEADER] + unused); /* a short frame: the field grows */
    bmb_gather_slice(gather, head, HEADER + PCR_FIELD);
    if (unused > 0) bmb_gather_slice(gather, stuffing, unused);
    uint8_t *lead = bmb_gather_scratch(gather, l->lead);
    put_pes_header(lead, frame->capture_us);
    if (l->lead > PES_HEADER) memcpy(lead + PES_HEADER, delimiter, DELIMITER);
    bmb_gather_slice(gather, lead, l->lead);
    bmb_gather_slice(gather, frame->data, size);
}

static void put_next(const bmb_stream_state *state, const bmb_frame *frame, const layout *l, uint32_t index,
                     bmb_gather *gather)
{
    uint32_t room = PACKET - HEADER, at = l->first_room - l->lead + (index - 1) * room;
    uint32_t left = frame->size - at, unused = left < room ? room - left : 0;
    uint8_t *head = bmb_gather_scratch(gather, HEADER + 2);
    size_t field = unused > 1 ? 2 : unused; /* length and flags, or a length of 0 alone */
    put_header(head, PID_VIDEO, false, unused > 0 ? 3 : 1, state->ts_counter + index);
    head[HEADER] = (uint8_t)(unused > 0 ? unused - 1 : 0);
    head[HEADER + 1] = 0;
    bmb_gather_slice(gather, head, HEADER + field);
    if (unused > 2) bmb_gather_slice(gather, stuffing, unused - 2);
    bmb_gather_slice(gather, frame->data + at, room - unused);
}

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    const layout l = lay_out(state, frame);
    while (
        cursor->at < l.packets && gather->piece_count < most &&
        bmb_gather_fits(gather, SLICES_PLAIN + (cursor->at <= l.psi ? SLICES_FIRST : 0) + SLICES_LAST, SCRATCH_MOST)) {
        bmb_gather_begin(gather, cursor);
        for (unsigned i = 0; i < TOGETHER && cursor->at < l.packets; i++, cursor->at++) {
            if (cursor->at < l.psi) {
                put_table(state, gather, cursor->at == 0);
            } else if (cursor->at == l.psi) {
                put_first(state, frame, &l, gather);
            } else {
                put_next(state, frame, &l, cursor->at - l.psi, gather);
            }
        }
        cursor->pieces++;
    }
    cursor->end = cursor->at == l.packets;
}

static void done(bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor)
{
    const layout l = lay_out(state, frame);
    uint32_t video = cursor->at > l.psi ? cursor->at - l.psi : 0;
    state->ts_counter = (uint8_t)((state->ts_counter + video) & 15);
    if (cursor->at == 0) return;
    state->ts_begun = true;
    if (l.psi == 0) return;
    state->ts_psi_counter = (uint8_t)((state->ts_psi_counter + 1) & 15);
    state->ts_psi_us = state->clock_us;
}

static uint64_t idle_due(const bmb_stream_state *state)
{
    return state->ts_begun ? state->clock_us + PCR_INTERVAL_US : UINT64_MAX;
}

static uint8_t *put_whole_table(uint8_t *out, const bmb_stream_state *state, uint16_t pid, const uint8_t *table,
                                size_t size)
{
    put_header(out, pid, true, 1, state->ts_psi_counter);
    memcpy(out + HEADER, table, size);
    memset(out + HEADER + size, 0xFF, PACKET - HEADER - size);
    return out + PACKET;
}

static size_t idle(bmb_stream_state *state, uint64_t now_us, uint8_t *out)
{
    uint8_t *at = out;
    advance(state, now_us, PCR_INTERVAL_US);
    if (state->clock_us - state->ts_psi_us >= PSI_INTERVAL_US) {
        at = put_whole_table(at, state, PID_PAT, pat, sizeof pat);
        at = put_whole_table(at, state, PID_PMT, pmt, sizeof pmt);
        state->ts_psi_counter = (uint8_t)((state->ts_psi_counter + 1) & 15);
        state->ts_psi_us = state->clock_us;
    }
    /* No payload, so the continuity counter stays (2.4.3.3). */
    put_header(at, PID_VIDEO, false, 2, state->ts_counter + 15u);
    memset(at + HEADER, 0xFF, PACKET - HEADER);
    put_pcr(at + HEADER, state->clock_us, false);
    at[HEADER] = PACKET - HEADER - 1;
    return (size_t)(at + PACKET - out);
}

const bmb_framer bmb_framer_ts = {
    .name = "mpeg-ts", .fill = fill, .done = done, .begin = begin, .idle_due = idle_due, .idle = idle
};
