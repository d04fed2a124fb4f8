/* One JPEG frame as a complete HTTP/1.1 response (RFC 9112). */
#include "base/bytes.h"
#include "base/http_text.h"
#include "wire/framer.h"

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    (void)most; /* one piece is the whole */
    if (!bmb_gather_fits(gather, 2, BMB_STILL_HEAD)) return;
    bmb_gather_begin(gather, cursor);
    bmb_writer w = bmb_writer_of(bmb_gather_scratch(gather, BMB_STILL_HEAD), BMB_STILL_HEAD);
    bmb_put_text(&w,
                 "HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\nContent-Length: %u\r\nCache-Control: no-store\r\n"
                 "Frame-Number: %u\r\nFrame-Captured-Us: ",
                 (unsigned)frame->size, (unsigned)frame->seq);
    bmb_put_dec(&w, frame->wall_us > 0 ? (uint64_t)frame->wall_us : frame->capture_us);
    bmb_put_str(&w, frame->wall_us > 0 ? " unix\r\n" : " uptime\r\n");
    if (frame->wall_us > 0) bmb_put_http_date(&w, frame->wall_us + (int64_t)(state->clock_us - frame->capture_us));
    bmb_put_http_policy(&w, state->embeds, state->origin);
    bmb_put_http_end(&w, state->keep_alive, state->old);
    bmb_gather_slice(gather, w.start, bmb_written(&w));
    if (!state->head_only) bmb_gather_slice(gather, frame->data, frame->size);
    cursor->end = true;
}

static void begin(bmb_stream_state *state, const bmb_frame *frame, uint64_t now_us)
{
    (void)frame;
    state->clock_us = now_us; /* of the answer, for its date */
}

const bmb_framer bmb_framer_still = { .name = "still", .fill = fill, .begin = begin };
