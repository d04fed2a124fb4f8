/* Mbed TLS as the TLS port wants it: TLS 1.2 with forward secrecy, elliptic curves, memory from where we say. A board
 * that compiles the library by itself uses this file, or sets the numbers at its top.
 */
#ifndef BMB_MBEDTLS_CONFIG_H
#define BMB_MBEDTLS_CONFIG_H

/* What one record holds. Coming in: requests, which are small; a peer that sends larger records is cut off. Going out:
 * also the largest chain of certificates, in one. */
#ifndef BMB_TLS_RECORD_IN
#define BMB_TLS_RECORD_IN 4096
#endif
#ifndef BMB_TLS_RECORD_OUT
#define BMB_TLS_RECORD_OUT 4096
#endif
#define MBEDTLS_SSL_IN_CONTENT_LEN BMB_TLS_RECORD_IN
#define MBEDTLS_SSL_OUT_CONTENT_LEN BMB_TLS_RECORD_OUT

/* Memory and time come from the port (arena.h). */
#define MBEDTLS_PLATFORM_C
#define MBEDTLS_PLATFORM_MEMORY
#define MBEDTLS_PLATFORM_CALLOC_MACRO bmb_tls_calloc
#define MBEDTLS_PLATFORM_FREE_MACRO bmb_tls_free
#define MBEDTLS_HAVE_TIME
#define MBEDTLS_PLATFORM_TIME_TYPE_MACRO long long
#define MBEDTLS_PLATFORM_TIME_MACRO bmb_tls_time
#include <stddef.h>
void *bmb_tls_calloc(size_t count, size_t size);
void bmb_tls_free(void *data);
long long bmb_tls_time(long long *out);

#define MBEDTLS_HAVE_ASM
#if defined(__x86_64__)
#define MBEDTLS_AESNI_C
#endif

#define MBEDTLS_AES_C
#define MBEDTLS_AES_ROM_TABLES
#define MBEDTLS_GCM_C
#define MBEDTLS_CHACHA20_C
#define MBEDTLS_POLY1305_C
#define MBEDTLS_CHACHAPOLY_C
#define MBEDTLS_CIPHER_C
#define MBEDTLS_MD_C
#define MBEDTLS_MD5_C /* digests of old clients */
#define MBEDTLS_SHA256_C
#define MBEDTLS_SHA512_C

#define MBEDTLS_BIGNUM_C
#define MBEDTLS_MPI_MAX_SIZE 512 /* RSA of 4096 bits */
#define MBEDTLS_MPI_WINDOW_SIZE 3
#define MBEDTLS_ECP_C
#define MBEDTLS_ECP_NIST_OPTIM
#define MBEDTLS_ECP_NO_INTERNAL_RNG /* every call here has random numbers */
#define MBEDTLS_ECP_DP_SECP256R1_ENABLED
#define MBEDTLS_ECP_DP_SECP384R1_ENABLED
#define MBEDTLS_ECP_WINDOW_SIZE 4
#define MBEDTLS_ECP_FIXED_POINT_OPTIM 0 /* it would keep tables in a key that several connections use */
#define MBEDTLS_ECDH_C
#define MBEDTLS_ECDSA_C
#define MBEDTLS_RSA_C
#define MBEDTLS_PKCS1_V15

#define MBEDTLS_OID_C
#define MBEDTLS_ASN1_PARSE_C
#define MBEDTLS_ASN1_WRITE_C
#define MBEDTLS_BASE64_C
#define MBEDTLS_PEM_PARSE_C
#define MBEDTLS_PEM_WRITE_C
#define MBEDTLS_PK_C
#define MBEDTLS_PK_PARSE_C
#define MBEDTLS_PK_WRITE_C
#define MBEDTLS_X509_USE_C
#define MBEDTLS_X509_CRT_PARSE_C
#define MBEDTLS_X509_CREATE_C
#define MBEDTLS_X509_CRT_WRITE_C
#define MBEDTLS_X509_CHECK_KEY_USAGE
#define MBEDTLS_X509_CHECK_EXTENDED_KEY_USAGE
#define MBEDTLS_ERROR_STRERROR_DUMMY

#define MBEDTLS_SSL_TLS_C
#define MBEDTLS_SSL_SRV_C
#define MBEDTLS_SSL_ASYNC_PRIVATE /* so that making a key and signing are two steps */
#define MBEDTLS_SSL_CLI_C
#define MBEDTLS_SSL_PROTO_TLS1_2
#define MBEDTLS_SSL_EXTENDED_MASTER_SECRET
#define MBEDTLS_SSL_MAX_FRAGMENT_LENGTH
#define MBEDTLS_SSL_SERVER_NAME_INDICATION
#define MBEDTLS_SSL_SESSION_TICKETS
#define MBEDTLS_SSL_TICKET_C
#define MBEDTLS_KEY_EXCHANGE_ECDHE_ECDSA_ENABLED
#define MBEDTLS_KEY_EXCHANGE_ECDHE_RSA_ENABLED
#define MBEDTLS_SSL_CIPHERSUITES                                                                                       \
    MBEDTLS_TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, MBEDTLS_TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,                    \
        MBEDTLS_TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256, MBEDTLS_TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,    \
        MBEDTLS_TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384, MBEDTLS_TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384

#include "mbedtls/check_config.h"

#endif
