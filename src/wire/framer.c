#include "wire/framer.h"

void bmb_gather_clear(bmb_gather *gather)
{
    gather->slice_count = 0;
    gather->piece_count = 0;
    gather->scratch_used = 0;
    gather->bytes = 0;
}

bool bmb_gather_fits(const bmb_gather *gather, size_t slices, size_t scratch)
{
    return gather->piece_count < BMB_GATHER_PIECES && BMB_GATHER_SLICES - gather->slice_count >= slices &&
           BMB_GATHER_SCRATCH - gather->scratch_used >= scratch;
}

void bmb_gather_begin(bmb_gather *gather, const bmb_cursor *start)
{
    size_t i = gather->piece_count++;
    gather->starts[i] = *start;
    gather->sizes[i] = 0;
    gather->packets[i] = (bmb_packet){ .slices = gather->slices + gather->slice_count, .count = 0 };
}

uint8_t *bmb_gather_scratch(bmb_gather *gather, size_t room)
{
    uint8_t *here = gather->scratch + gather->scratch_used;
    gather->scratch_used += room;
    return here;
}

void bmb_gather_slice(bmb_gather *gather, const void *data, size_t size)
{
    size_t piece = gather->piece_count - 1;
    gather->slices[gather->slice_count++] = (bmb_slice){ .data = data, .size = size };
    gather->packets[piece].count++;
    gather->sizes[piece] += (uint32_t)size;
    gather->bytes += size;
}
