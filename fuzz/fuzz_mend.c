/* A JPEG image that is made whole in its own buffer: it stays within it, and what could be parsed still can. */
#include <stdlib.h>
#include <string.h>

#include "v4l2/mend.h"
#include "wire/jpeg.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    bmb_jpeg before, after;
    uint64_t copied = 0;
    if (size < 2) return 0;
    size_t room = size - 1 + data[0] * 3u;
    uint8_t *buffer = malloc(room);
    if (buffer == NULL) return 0;
    memcpy(buffer, data + 1, size - 1);
    bool good = bmb_jpeg_parse(buffer, size - 1, &before) == BMB_OK;
    size_t now = v4l2_mend_jpeg(buffer, size - 1, room, data[0] % 2 != 0, &copied);
    if (now > room) abort();
    if (good && now > 0 && bmb_jpeg_parse(buffer, now, &after) != BMB_OK) abort();
    if (good && now > 0 && (after.width != before.width || after.height != before.height)) abort();
    free(buffer);
    return 0;
}
