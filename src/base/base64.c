#include "base/base64.h"

int bmb_base64_value(char c)
{
    if (c >= 'A' && c <= 'Z') return c - 'A';
    if (c >= 'a' && c <= 'z') return c - 'a' + 26;
    if (c >= '0' && c <= '9') return c - '0' + 52;
    return c == '+' || c == '-' ? 62 : c == '/' || c == '_' ? 63 : -1;
}

bool bmb_base64_read(const char *text, size_t size, void *out, size_t room, size_t *got)
{
    uint8_t *bytes = (uint8_t *)out;
    uint32_t group = 0;
    unsigned bits = 0;
    *got = 0;
    for (size_t i = 0; i < size && text[i] != '='; i++) {
        int value = bmb_base64_value(text[i]);
        if (value < 0) return false;
        group = (group << 6 | (uint32_t)value) & 0xFFFFFF;
        bits += 6;
        if (bits < 8) continue;
        bits -= 8;
        if (*got == room) return false;
        bytes[(*got)++] = (uint8_t)(group >> bits);
    }
    return true;
}
