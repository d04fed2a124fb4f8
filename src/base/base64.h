/* Base64 as it comes in (RFC 4648), in both alphabets; bytes.h writes it. */
#ifndef BMB_BASE_BASE64_H
#define BMB_BASE_BASE64_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* Of a character; negative: it is none of base64's, such as padding. */
int bmb_base64_value(char c);
/* Up to the first padding, or the end. false: other characters are among them, or it does not fit. */
bool bmb_base64_read(const char *text, size_t size, void *out, size_t room, size_t *got);

#endif
