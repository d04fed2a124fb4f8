/* H.264 over RTP, RFC 6184: single NAL unit packets (5.6), STAP-A for parameter sets (5.7.1), FU-A (5.8). */
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

/* cursor->at counts the unit's bytes that went before, its header byte not among them. */
static void put_fragment(const bmb_stream_state *state, const bmb_frame *frame, const bmb_h264_facts *facts,
                         bmb_cursor *cursor, bmb_gather *gather)
{
    const bmb_nal *nal = &facts->unit[cursor->unit];
    uint8_t header = frame->data[nal->at];
    size_t room = payload_room(state) - 2, left = nal->size - 1 - cursor->at, size = left < room ? left : room;
    bool first = cursor->at == 0, end = size == left;
    uint8_t *fu = bmb_rtp_begin(state, frame, cursor, gather, 2);
    fu[0] = (uint8_t)((header & 0x60) | FU_A);
    fu[1] = (uint8_t)((first ? 0x80 : 0) | (end ? 0x40 : 0) | (header & 31));
    bmb_rtp_header_done(state, gather, 2, size, end && cursor->unit + 1u == facts->count);
    bmb_gather_slice(gather, frame->data + nal->at + 1 + cursor->at, size);
    cursor->at += (uint32_t)size;
    if (!end) return;
    cursor->at = 0;
    cursor->unit++;
}

static bool next(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather)
{
    const bmb_h264_facts *facts = (const bmb_h264_facts *)frame->facts;
    if (!bmb_gather_fits(gather, 1 + 2 * STAP_UNITS, BMB_RTP_INTERLEAVED + BMB_RTP_HEADER + 1 + 2 * STAP_UNITS))
        return false;
    size_t payload;
    uint16_t together = cursor->at == 0 ? stap_count(state, frame, facts, cursor->unit, &payload) : 0;
    if (together > 1) {
        put_stap(state, frame, facts, cursor, gather, together, payload);
    } else if (facts->unit[cursor->unit].size <= payload_room(state)) {
        put_single(state, frame, facts, cursor, gather);
    } else {
        put_fragment(state, frame, facts, cursor, gather);
    }
    cursor->pieces++;
    cursor->end = cursor->unit == facts->count;
    return true;
}

const bmb_framer bmb_framer_rtp_h264 = { .name = "rtp-h264", .next = next, .done = bmb_rtp_done };
