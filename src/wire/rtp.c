#include "wire/rtp.h"

#include "base/bytes.h"

uint32_t bmb_rtp_time(uint64_t us)
{
    return (uint32_t)(us * 9 / 100);
}

static size_t prefix_of(const bmb_stream_state *state)
{
    return state->interleaved ? BMB_RTP_INTERLEAVED : 0;
}

void bmb_rtp_write_header(const bmb_stream_state *state, const bmb_frame *frame, uint8_t *out)
{
    if (state->interleaved) {
        out[0] = '$';
        out[1] = state->channel;
        out += BMB_RTP_INTERLEAVED;
    }
    out[0] = 0x80; /* version 2 */
    out[1] = state->payload_type;
    bmb_store_u32(out + 4, state->time_offset + bmb_rtp_time(frame->capture_us));
    bmb_store_u32(out + 8, state->ssrc);
}

uint8_t *bmb_rtp_begin(const bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor,
                       bmb_gather *gather, size_t more)
{
    size_t prefix = prefix_of(state);
    bmb_gather_begin(gather, cursor);
    uint8_t *head = bmb_gather_scratch(gather, prefix + BMB_RTP_HEADER + more);
    bmb_rtp_write_header(state, frame, head);
    bmb_rtp_number(state, cursor, head, 0);
    return head + prefix + BMB_RTP_HEADER;
}

void bmb_rtp_header_done(const bmb_stream_state *state, bmb_gather *gather, size_t more, size_t payload, bool marker)
{
    size_t prefix = prefix_of(state), size = prefix + BMB_RTP_HEADER + more;
    uint8_t *head = gather->scratch + gather->scratch_used - size;
    if (marker) head[prefix + 1] |= 0x80;
    if (prefix > 0) bmb_store_u16(head + 2, (uint16_t)(BMB_RTP_HEADER + more + payload));
    bmb_gather_slice(gather, head, size);
}

void bmb_rtp_done(bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor)
{
#if BMB_WITH_REPEATS
    bmb_sent *sent = state->sent;
    if (sent != NULL) {
        const size_t at = sent->next++ % BMB_SENT_MOST;
        sent->frame[at] = frame->seq;
        sent->first[at] = state->next_seq;
        sent->pieces[at] = cursor->pieces;
    }
#else
    (void)frame;
#endif
    state->next_seq = (uint16_t)(state->next_seq + cursor->pieces);
    state->packets += cursor->pieces;
}
