/* What Mbed TLS does for a port: hashes, and encryption (TLS 1.2, RFC 5246) that is laid over any other port.
 *
 *     bmb_tls tls;
 *     bmb_port port;                                      // the one that the device is given
 *     bmb_tls_config secrecy = { .under = &board_port, .name = "yard" };
 *     bmb_tls_lay_over(&tls, &secrecy, &port);
 *     outlet.secure = true;                               // HTTPS, RTSPS, framed over TLS; likewise pushes
 *
 * All its memory is of the device's block, where bmb_budget names it: a connection can use up nobody's but its own.
 * Handshakes go on in steps between the frames. The port's `random` makes the keys: it has to be fit for that.
 */
#ifndef BAMBINO_TLS_H
#define BAMBINO_TLS_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* For bmb_port.hash; ctx is not looked at. */
void bmb_mbedtls_hash(void *ctx, bmb_hash which, const bmb_slice *slices, size_t count, uint8_t *out);

/* Was this library built with TLS? Without, bmb_tls_lay_over() says BMB_UNSUPPORTED. */
bool bmb_tls_there(void);

typedef struct bmb_tls_config {
    const bmb_port *under; /* is copied; what its functions need stays until bmb_close() */
    const char *name;      /* of the device; it stands in the certificate */
    /* What clients may call this host: names without a port, and addresses. They stand in the certificate, too, and
     * stay until bmb_close(). */
    const char *const *names;
    size_t name_count;
    const bmb_addr *addresses;
    size_t address_count;
    /* The owner's certificate with those that it was signed by, and its key: PEM (RFC 7468), both or none; read by
     * bmb_open(), and not after it. Keys on the curves P-256 and P-384, and of RSA with 2048 bits: larger ones would
     * hold pictures up. NULL: the device makes a certificate of its own (P-256, signed by itself), keeps it in the
     * port's storage as the records "tls.key" (DER, RFC 5915) and "tls.crt" (PEM, RFC 7468), and renews it before it
     * ends or when a name or an address of IPv4 is not in it; where there is no storage, with each start. */
    const char *certificate, *key;
} bmb_tls_config;

#define BMB_FINGERPRINT_SIZE 96u /* with its NUL */

/* Its members are for reading only. It stays until bmb_close(). */
typedef struct bmb_tls {
    bmb_layer layer; /* the port's ctx */
    bmb_tls_config config;
    struct bmb_tls_state *state;            /* while a device is open */
    char fingerprint[BMB_FINGERPRINT_SIZE]; /* of the certificate in use: SHA-256, "AB:CD:…"; "" : none yet */
    const char *trouble;                    /* why the last call failed, as a sentence; or NULL */
} bmb_tls;

/* Fills in *out, which is for one device. BMB_UNSUPPORTED: this library has no TLS. */
bmb_err bmb_tls_lay_over(bmb_tls *tls, const bmb_tls_config *config, bmb_port *out);

/* Another certificate and key while the device runs, or NULL: its own. Connections that are there go on; those that
 * were in their handshake end. On failure (BMB_BAD_DATA, BMB_UNSUPPORTED, BMB_NO_MEMORY; trouble says why) the former
 * stays. */
bmb_err bmb_tls_use(bmb_tls *tls, const char *certificate, const char *key);

/* What clients may call this host from now on: names and addresses as in bmb_tls_config, which stay until the next call
 * or bmb_close(). The device's own certificate is made anew where a name or an address of IPv4 is not in it; the
 * owner's stays as it is. BMB_BAD_ARG: no device is open; otherwise as bmb_tls_use(). */
bmb_err bmb_tls_names_change(bmb_tls *tls, const char *const *names, size_t name_count, const bmb_addr *addresses,
                             size_t address_count);

/* What was really used, for those who set the sizes for another processor (ports/tls/sizes.h). */
typedef struct bmb_tls_figures {
    uint32_t accepted_size, accepted_most; /* bytes of the memory of a connection, and used of one at most */
    uint32_t dialled_size, dialled_most;
    uint32_t fixed_size, fixed_most; /* of what all share */
    uint32_t strays;                 /* pieces that closed connections did not give back: none */
    uint32_t step_us;                /* the longest step of a handshake */
    uint32_t handshakes, resumed, failed;
} bmb_tls_figures;
void bmb_tls_figures_get(const bmb_tls *tls, bmb_tls_figures *out);

#ifdef __cplusplus
}
#endif
#endif
