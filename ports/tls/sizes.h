/* Bytes that Mbed TLS takes on 64 bits, measured: tests/ports/test_tls.c holds them against every kind of key and
 * handshake, those of a viewer to the byte; what a receiver's or the owner's certificate adds differs by a few. With 32
 * bits it is less, and with another mbedtls_config.h something else: bmb_tls_figures_get() tells what is used, and what
 * is set here can be set when the port is compiled. */
#ifndef BMB_TLS_SIZES_H
#define BMB_TLS_SIZES_H

/* Of a connection that is accepted: with the largest key of our own, RSA of 2048 bits. */
#ifndef BMB_TLS_ACCEPTED
#define BMB_TLS_ACCEPTED 15504u
#endif
/* … that is dialled: to a receiver with RSA of 4096 bits. */
#ifndef BMB_TLS_DIALLED
#define BMB_TLS_DIALLED 20816u
#endif
/* Keys and certificates, twice where the owner's are replaced. */
#ifndef BMB_TLS_FIXED
#define BMB_TLS_FIXED 30720u
#endif

#endif
