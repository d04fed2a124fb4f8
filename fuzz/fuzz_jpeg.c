/* The JPEG structure parser: whatever it accepts, its offsets lie within the image. */
#include <stdlib.h>

#include "wire/jpeg.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    bmb_jpeg j;
    if (bmb_jpeg_parse(data, size, &j) != BMB_OK) return 0;
    if (j.size > size || j.scan_at > j.scan_end || j.scan_end >= j.size) abort();
    for (int i = 0; i < 4; i++) {
        if (j.quant_at[i] + (j.quant_16bit[i] ? 128u : 64u) > j.size && j.quant_at[i] != 0) abort();
        for (int c = 0; c < 2; c++)
            if (j.huffman_at[c][i] + 16u > j.size && j.huffman_at[c][i] != 0) abort();
    }
    return 0;
}
