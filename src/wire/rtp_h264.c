/* H.264 over RTP, RFC 6184: single NAL unit packets (5.6), STAP-A for parameter sets (5.7.1), FU-A (5.8). */
#include <string.h>

#include "base/bytes.h"
#include "wire/h264.h"
#include "wire/rtp.h"

#define STAP_A 24u
#define FU_A 28u
#define STAP_UNITS 4u /* SPS, PPS, SEI: more in one packet gains nothing */

static size_t payload_room(const bmb_stream_state *state)
{
    return (size_t)state->payload_max - BMB_RTP_HEADER;
}

/* How many units from this one on go into one aggregation packet; fewer than two: none. */
static uint16_t stap_count(const bmb_stream_state *state, const bmb_frame *frame, const bmb_h264_facts *facts,
                           uint16_t unit, size_t *payload)
{
    uint16_t n = 0;
    size_t size = 1;
    for (; n < STAP_UNITS && unit + n < facts->count; n++) {
        const bmb_nal *nal = &facts->unit[unit + n];
        bmb_nal_type type = bmb_nal_type_of(frame->data[nal->at]);
        if (type != BMB_NAL_SPS && type != BMB_NAL_PPS && type != BMB_NAL_SEI) break;
        if (size + 2 + nal->size > payload_room(state)) break;
        size += 2 + nal->size;
    }
    *payload = size;
    return n;
}

static void put_stap(const bmb_stream_state *state, const bmb_frame *frame, const bmb_h264_facts *facts,
                     bmb_cursor *cursor, bmb_gather *gather, uint16_t count, size_t payload)
{
    bool last = cursor->unit + count == facts->count;
    uint8_t importance = 0; /* the highest of all */
    for (uint16_t i = 0; i < count; i++) {
        uint8_t nri = frame->data[facts->unit[cursor->unit + i].at] & 0x60;
        if (nri > importance) importance = nri;
    }
    uint8_t *head = bmb_rtp_begin(state, frame, cursor, gather, 1);
    head[0] = (uint8_t)(importance | STAP_A);
    bmb_rtp_header_done(state, gather, 1, payload - 1, last);
    for (uint16_t i = 0; i < count; i++) {
        const bmb_nal *nal = &facts->unit[cursor->unit + i];
        uint8_t *size = bmb_gather_scratch(gather, 2);
        bmb_writer w = bmb_writer_of(size, 2);
        bmb_put_u16(&w, (uint16_t)nal->size);
        bmb_gather_slice(gather, size, 2);
        bmb_gather_slice(gather, frame->data + nal->at, nal->size);
    }
    cursor->unit = (uint16_t)(cursor->unit + count);
}

static void put_single(const bmb_stream_state *state, const bmb_frame *frame, const bmb_h264_facts *facts,
                       bmb_cursor *cursor, bmb_gather *gather)
{
    const bmb_nal *nal = &facts->unit[cursor->unit];
    bool last = cursor->unit + 1u == facts->count;
    (void)bmb_rtp_begin(state, frame, cursor, gather, 0);
    bmb_rtp_header_done(state, gather, 0, nal->size, last);
    bmb_gather_slice(gather, frame->data + nal->at, nal->size);
    cursor->unit++;
}

/* How many of `wanted` packets of two slices each the gather takes; a model is copied whole, hence room for one. */
static size_t fragments_that_fit(const bmb_gather *gather, size_t most, size_t model, size_t wanted)
{
    size_t pieces = (most < BMB_GATHER_PIECES ? most : BMB_GATHER_PIECES) - gather->piece_count;
    size_t slices = (BMB_GATHER_SLICES - gather->slice_count) / 2;
    size_t heads = (BMB_GATHER_SCRATCH - gather->scratch_used) / model;
    size_t least = pieces < slices ? pieces : slices;
    if (heads < least) least = heads;
    return wanted < least ? wanted : least;
}

/* The packets of one unit that is too large for a single one. cursor->at counts the unit's bytes that went before, its
 * header byte not among them. Nearly all packets of a stream are made here, so each is copied from a model and only
 * what differs is written. */
static void put_fragments(const bmb_stream_state *state, const bmb_frame *frame, const bmb_h264_facts *facts,
                          bmb_cursor *cursor, bmb_gather *gather, size_t most)
{
    const bmb_nal *nal = &facts->unit[cursor->unit];
    const uint8_t *unit = frame->data + nal->at;
    size_t prefix = state->interleaved ? BMB_RTP_INTERLEAVED : 0, head_size = prefix + BMB_RTP_HEADER + 2;
    size_t room = payload_room(state) - 2, at = cursor->at, size_left = nal->size - 1 - at;
    bool last_unit = cursor->unit + 1u == facts->count;
    uint8_t model[BMB_RTP_HEADER_MOST] = { 0 };
    bmb_rtp_write_header(state, frame, model);
    model[head_size - 2] = (uint8_t)((unit[0] & 0x60) | FU_A);
    model[head_size - 1] = (uint8_t)((at == 0 ? 0x80 : 0) | (unit[0] & 31));

    size_t count = fragments_that_fit(gather, most, sizeof model, (size_left + room - 1) / room);
    size_t piece = gather->piece_count, bytes = 0;
    bmb_slice *slice = gather->slices + gather->slice_count;
    uint8_t *head = gather->scratch + gather->scratch_used;
    for (size_t i = 0; i < count; i++, piece++, slice += 2, head += head_size) {
        size_t size = size_left < room ? size_left : room;
        memcpy(head, model, sizeof model);
        bmb_rtp_number(state, cursor, head, BMB_RTP_HEADER + 2 + size);
        model[head_size - 1] &= 0x7F; /* only the first one begins the unit */
        size_left -= size;
        if (size_left == 0) {
            head[head_size - 1] |= 0x40;
            if (last_unit) head[prefix + 1] |= 0x80;
        }
        slice[0] = (bmb_slice){ head, head_size };
        slice[1] = (bmb_slice){ unit + 1 + at, size };
        gather->packets[piece] = (bmb_packet){ slice, 2, (uint32_t)(head_size + size) };
        gather->starts[piece] = *cursor;
        bytes += head_size + size;
        at += size;
        cursor->at = (uint32_t)at;
        cursor->pieces++;
    }
    gather->piece_count = piece;
    gather->slice_count += 2 * count;
    gather->scratch_used += head_size * count;
    gather->bytes += bytes;
    if (size_left > 0) return;
    cursor->at = 0;
    cursor->unit++;
}

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    const bmb_h264_facts *facts = (const bmb_h264_facts *)frame->facts;
    while (cursor->unit < facts->count && gather->piece_count < most &&
           bmb_gather_fits(gather, 1 + 2 * STAP_UNITS, BMB_RTP_HEADER_MOST + 2 * STAP_UNITS)) {
        size_t payload;
        uint16_t together = cursor->at == 0 ? stap_count(state, frame, facts, cursor->unit, &payload) : 0;
        if (together > 1) {
            put_stap(state, frame, facts, cursor, gather, together, payload);
            cursor->pieces++;
        } else if (facts->unit[cursor->unit].size <= payload_room(state)) {
            put_single(state, frame, facts, cursor, gather);
            cursor->pieces++;
        } else {
            put_fragments(state, frame, facts, cursor, gather, most);
        }
    }
    cursor->end = cursor->unit == facts->count;
}

const bmb_framer bmb_framer_rtp_h264 = { .name = "rtp-h264", .fill = fill, .done = bmb_rtp_done };
