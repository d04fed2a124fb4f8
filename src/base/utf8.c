/* Texts that people read, and JSON carries. */
#include "bambino/device.h"

/* The sequence of UTF-8 at the beginning (RFC 3629 4): its bytes; 0: it is none. */
static size_t utf8_at(const uint8_t *at, size_t size)
{
    uint8_t first = size > 0 ? at[0] : 0x80;
    size_t length = first < 0x80                    ? 1
                    : first >= 0xC2 && first < 0xE0 ? 2
                    : first >= 0xE0 && first < 0xF0 ? 3
                    : first >= 0xF0 && first < 0xF5 ? 4
                                                    : 0;
    if (size == 0 || length == 0 || length > size) return 0;
    for (size_t i = 1; i < length; i++)
        if ((at[i] & 0xC0) != 0x80) return 0;
    /* Longer than needed, halves of UTF-16's pairs, and beyond the last code point. */
    bool bad = (first == 0xE0 && at[1] < 0xA0) || (first == 0xED && at[1] > 0x9F) || (first == 0xF0 && at[1] < 0x90) ||
               (first == 0xF4 && at[1] > 0x8F);
    return bad ? 0 : length;
}

bool bmb_text_is_utf8(const char *text, size_t size)
{
    const uint8_t *at = (const uint8_t *)text;
    for (size_t n; size > 0; at += n, size -= n)
        if ((n = utf8_at(at, size)) == 0 || at[0] < 0x20 || at[0] == 0x7F) return false;
    return true;
}
