/* The framed protocol's requests, with everything behind them. */
#include "conversation.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static uint8_t jpeg[4000];
    static size_t jpeg_size;
    if (jpeg_size == 0) jpeg_size = fake_jpeg(jpeg, 64, 48, 1500);
    converse(2, BMB_CODEC_JPEG, jpeg, jpeg_size, data, size);
    return 0;
}
