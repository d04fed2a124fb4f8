/* The RTSP conversation with its sessions, over interleaved, UDP and multicast transports. */
#include <string.h>

#include "conversation.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static const uint8_t key[] = { 0, 0, 0,    1,    0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80, 0, 0,
                                   0, 1, 0x68, 0xCE, 0x3C, 0x80, 0,    0,    0,    1,    0x65, 1,    2,    3, 4 };
    converse(1, BMB_CODEC_H264, key, sizeof key, data, size);
    return 0;
}
