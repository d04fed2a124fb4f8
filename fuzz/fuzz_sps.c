/* A sequence parameter set that a camera or an encoder wrote: it is understood, and the frame rate is added to it. What
 * is written must be understood again, and say that rate and the same size. */
#include <stdlib.h>

#include "codec/encoder.h"
#include "wire/h264.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    uint8_t out[300];
    bmb_sps before, after;
    if (size < 3 || size > 400) return 0;
    const uint32_t mfps = (uint32_t)data[0] * 1000 + data[1];
    data += 2;
    size -= 2;
    bool good = bmb_sps_parse(data, size, &before) == BMB_OK;
    size_t n = mfps > 0 ? codec_sps_with_rate(data, size, mfps, out, sizeof out) : 0;
    if (n > sizeof out) abort();
    if (!good || n == 0) return 0;
    if (bmb_sps_parse(out, n, &after) != BMB_OK || after.width != before.width || after.height != before.height)
        abort();
    if (before.mfps == 0 && after.mfps != mfps) abort();
    return 0;
}
