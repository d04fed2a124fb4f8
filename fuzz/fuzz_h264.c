/* NAL units, parameter sets, and the RTP packets that come of them. */
#include <stdlib.h>

#include "wire/h264.h"
#include "wire/rtp.h"

static void frame_it(const uint8_t *data, size_t size, bmb_h264_facts *facts)
{
    static bmb_gather g;
    const bmb_frame frame = { .data = data, .size = (uint32_t)size, .facts = facts };
    const bmb_stream_state state = { .payload_max = 256, .payload_type = 96, .interleaved = true };
    bmb_cursor cursor = { 0 };
    size_t bytes = 0;
    while (!cursor.end) {
        bmb_gather_clear(&g);
        bmb_framer_rtp_h264.fill(&state, &frame, &cursor, &g, BMB_GATHER_PIECES);
        if (g.piece_count == 0) abort();
        for (size_t i = 0; i < g.piece_count; i++)
            if (g.packets[i].size > 260) abort();
        for (size_t i = 0; i < g.slice_count; i++)
            for (size_t k = 0; k < g.slices[i].size; k++) bytes += ((const uint8_t *)g.slices[i].data)[k];
    }
    if (bytes == SIZE_MAX) abort(); /* every byte was readable */
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    bmb_h264_facts facts;
    bmb_h264_sets sets = { 0 };
    bmb_sps sps;
    (void)bmb_sps_parse(data, size, &sps);
    if (bmb_h264_parse(data, size, &facts) != BMB_OK) return 0;
    for (uint16_t i = 0; i < facts.count; i++)
        if (facts.unit[i].size == 0 || facts.unit[i].at + facts.unit[i].size > size) abort();
    bmb_h264_keep_sets(data, &facts, &sets);
    if (sets.sps_size > 0) (void)bmb_sps_parse(sets.sps, sets.sps_size, &sps);
    frame_it(data, size, &facts);
    return 0;
}
