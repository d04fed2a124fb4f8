/* Bytes that Mbed TLS takes, measured: tests/ports/test_tls.c holds them against every kind of key and handshake, to
 * the byte. Another processor, or another mbedtls_config.h: bmb_tls_figures_get() tells what they are there. */
#ifndef BMB_TLS_SIZES_H
#define BMB_TLS_SIZES_H

#include <stdint.h>

/* Of a connection that is accepted: with the largest key of our own, RSA of 2048 bits. */
#ifndef BMB_TLS_ACCEPTED
#define BMB_TLS_ACCEPTED (BMB_TLS_WIDE ? 15504u : 15504u)
#endif
/* … that is dialled: to a receiver with RSA of 4096 bits. */
#ifndef BMB_TLS_DIALLED
#define BMB_TLS_DIALLED (BMB_TLS_WIDE ? 20816u : 20816u)
#endif
/* Keys and certificates, twice where the owner's are replaced. */
#ifndef BMB_TLS_FIXED
#define BMB_TLS_FIXED (BMB_TLS_WIDE ? 17456u : 17456u)
#endif
/* The 32-bit ones are not measured, but no larger. */
#define BMB_TLS_WIDE (UINTPTR_MAX > 0xFFFFFFFFu)

#endif
