/* The JPEG structure parser: whatever it accepts, its offsets lie within the image. */
#include <stdlib.h>

#include "wire/jpeg_light.h"

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
    /* A copy of its own, so that a byte too far is found. */
    uint8_t *copy = malloc(j.size);
    if (copy == NULL) return 0;
    for (size_t i = 0; i < j.size; i++) copy[i] = data[i];
    int brightness = j.width <= 4096 && j.height <= 4096 ? bmb_jpeg_brightness(copy, &j) : 0;
    free(copy);
    if (brightness < -1 || brightness > 255) abort();
    return 0;
}
