/* RTCP from receivers. */
#include <stdlib.h>

#include "wire/rtcp.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    bmb_rtcp_walk walk = { 0 };
    bmb_rtcp_block block;
    size_t blocks = 0;
    while (bmb_rtcp_next(&walk, data, size, &block))
        if (++blocks > size / 24) abort(); /* more than could be there */
    uint16_t missed[16];
    if (size >= 4 && bmb_rtcp_missed(data, size, (uint32_t)data[3], missed, 16) > 16) abort();
    return 0;
}
