/* Requests of the framed protocol. */
#include <stdlib.h>

#include "serve/framed_request.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    while (size > 0) {
        bmb_framed_request r;
        size_t used = 0;
        uint32_t skip = 0;
        bmb_err err = bmb_framed_request_read(data, size, &r, &used, &skip);
        if (used > size || skip > BMB_FRAMED_SKIP_MAX) abort();
        if (err == BMB_OK && used == 0) abort();
        if (err != BMB_OK && err != BMB_AGAIN) return 0;
        if (used == 0) return 0;
        used += skip < size - used ? skip : size - used;
        data += used;
        size -= used;
    }
    return 0;
}
