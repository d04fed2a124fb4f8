/* JPEG frames as parts of multipart/x-mixed-replace (RFC 2046 5.1 for the delimiters).
 *
 * The delimiter follows each picture at once instead of preceding the next one: a browser shows a part when it sees the
 * part's end, so a delimiter that came with the next frame would delay every picture by one frame interval.
 */
#include "base/bytes.h"
#include "wire/framer.h"

#define HEAD_MAX 192u
static const char tail[] = "\r\n--" BMB_MULTIPART_BOUNDARY "\r\n";

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    (void)most; /* one piece is the whole */
    (void)state;
    if (!bmb_gather_fits(gather, 3, HEAD_MAX)) return;
    bmb_gather_begin(gather, cursor);
    bmb_writer w = bmb_writer_of(bmb_gather_scratch(gather, HEAD_MAX), HEAD_MAX);
    bmb_put_text(&w, "Content-Type: image/jpeg\r\nContent-Length: %u\r\nFrame-Number: %u\r\nFrame-Captured-Us: ",
                 (unsigned)frame->size, (unsigned)frame->seq);
    bmb_put_dec(&w, frame->wall_us > 0 ? (uint64_t)frame->wall_us : frame->capture_us);
    bmb_put_str(&w, frame->wall_us > 0 ? " unix\r\n\r\n" : " uptime\r\n\r\n");
    bmb_gather_slice(gather, w.start, bmb_written(&w));
    bmb_gather_slice(gather, frame->data, frame->size);
    bmb_gather_slice(gather, tail, sizeof tail - 1);
    cursor->end = true;
}

const bmb_framer bmb_framer_multipart = { .name = "multipart", .fill = fill };
