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

uint8_t *bmb_rtp_begin(const bmb_stream_state *state, const bmb_frame *frame, const bmb_cursor *cursor,
                       bmb_gather *gather, size_t more)
{
    size_t prefix = prefix_of(state);
    bmb_gather_begin(gather, cursor);
    uint8_t *head = bmb_gather_scratch(gather, prefix + BMB_RTP_HEADER + more);
    bmb_writer w = bmb_writer_of(head + prefix, BMB_RTP_HEADER);
    bmb_put_u8(&w, 0x80); /* version 2 */
    bmb_put_u8(&w, state->payload_type);
    bmb_put_u16(&w, (uint16_t)(state->next_seq + cursor->pieces));
    bmb_put_u32(&w, state->time_offset + bmb_rtp_time(frame->capture_us));
    bmb_put_u32(&w, state->ssrc);
    return head + prefix + BMB_RTP_HEADER;
}

void bmb_rtp_header_done(const bmb_stream_state *state, bmb_gather *gather, size_t more, size_t payload, bool marker)
{
    size_t prefix = prefix_of(state), size = prefix + BMB_RTP_HEADER + more;
    uint8_t *head = gather->scratch + gather->scratch_used - size;
    if (marker) head[prefix + 1] |= 0x80;
    if (state->interleaved) {
        bmb_writer w = bmb_writer_of(head, prefix);
        bmb_put_u8(&w, '$');
        bmb_put_u8(&w, state->channel);
        bmb_put_u16(&w, (uint16_t)(BMB_RTP_HEADER + more + payload));
    }
    bmb_gather_slice(gather, head, size);
}

void bmb_rtp_done(bmb_stream_state *state, const bmb_cursor *cursor)
{
    state->next_seq = (uint16_t)(state->next_seq + cursor->pieces);
    state->packets += cursor->pieces;
}
