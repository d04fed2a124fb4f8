/* What Mbed TLS does for a port: hashes. */
#ifndef BAMBINO_TLS_H
#define BAMBINO_TLS_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* For bmb_port.hash; ctx is not looked at. */
void bmb_mbedtls_hash(void *ctx, bmb_hash which, const bmb_slice *slices, size_t count, uint8_t *out);

#ifdef __cplusplus
}
#endif
#endif
