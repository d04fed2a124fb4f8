/* The JPEG images that RFC 2435 can carry, and their packets. */
#include <stdlib.h>

#include "wire/rtp.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static bmb_gather g;
    bmb_jpeg jpeg;
    bmb_jpeg_facts facts;
    if (bmb_jpeg_parse(data, size, &jpeg) != BMB_OK) return 0;
    bmb_jpeg_facts_of(data, &jpeg, &facts);
    if (facts.refusal != BMB_JPEG_RTP_OK) return 0;
    const bmb_frame frame = { .data = data, .size = (uint32_t)jpeg.size, .facts = &facts };
    const bmb_stream_state state = { .payload_max = 256, .payload_type = 26 };
    bmb_cursor cursor = { 0 };
    size_t scan = 0;
    while (!cursor.end) {
        bmb_gather_clear(&g);
        bmb_framer_rtp_jpeg.fill(&state, &frame, &cursor, &g, BMB_GATHER_PIECES);
        for (size_t i = 0; i < g.slice_count; i++)
            for (size_t k = 0; k < g.slices[i].size; k++) scan += ((const uint8_t *)g.slices[i].data)[k];
    }
    if (scan == SIZE_MAX || cursor.at != facts.scan_size) abort();
    return 0;
}
