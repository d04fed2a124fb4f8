/* Frames as they are, one behind the other: an Annex B byte stream of H.264 (ITU-T H.264 annex B), or JPEG images, each
 * of which ends with its own marker. */
#include "wire/framer.h"

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    (void)most; /* one piece is the whole */
    (void)state;
    if (!bmb_gather_fits(gather, 1, 0)) return;
    bmb_gather_begin(gather, cursor);
    bmb_gather_slice(gather, frame->data, frame->size);
    cursor->end = true;
}

const bmb_framer bmb_framer_raw = { .name = "raw", .fill = fill };
