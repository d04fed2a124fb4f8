/* HMAC-SHA-256 (RFC 2104), made of the port's hash. */
#ifndef BMB_BASE_HMAC_H
#define BMB_BASE_HMAC_H

#include "bambino/port.h"

/* key_size: at most 64 bytes; count: at most 6 slices. */
void bmb_hmac(const bmb_port *port, const void *key, size_t key_size, const bmb_slice *slices, size_t count,
              uint8_t out[BMB_SHA256_SIZE]);
/* true: the same bytes, found out in a time that does not tell where they differ. */
bool bmb_equal_secret(const void *a, const void *b, size_t size);

#endif
