/* A stream of bytes that is cut into pictures: whatever comes, in whatever pieces, pictures lie within what came, in
 * order, and nothing is counted twice. The first byte says what is known of it and how large the pieces are. */
#include <stdlib.h>

#include "codec/split.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    splitter s = { 0 };
    const uint8_t *picture;
    size_t n, out = 0, piece;
    if (size < 2) return 0;
    splitter_begin(&s, (split_kind)(data[0] % 4), data[0] % 4 == SPLIT_RAW ? 1u + data[1] : 0);
    piece = data[0] / 4 + 1u;
    for (size_t at = 1; at < size; at += piece) {
        size_t part = size - at < piece ? size - at : piece;
        if (!splitter_add(&s, data + at, part)) abort();
        while (splitter_next(&s, at + part == size, &picture, &n)) {
            volatile uint8_t last = n > 0 ? picture[n - 1] : 0;
            (void)last;
            if (n == 0) abort();
            out += n;
        }
    }
    if (out + s.skipped + s.size != size - 1) abort();
    splitter_free(&s);
    return 0;
}
