/* Nonces that need no table: each tells when it was made, and is signed with a key of this start. What they are bound
 * to (a connection) is signed with them.
 */
#ifndef BMB_SERVE_NONCE_H
#define BMB_SERVE_NONCE_H

#include "bambino/port.h"
#include "serve/credentials.h"

#define BMB_NONCE_SIZE 56u /* characters */
#define BMB_NONCE_KEY 32u

typedef struct bmb_nonce {
    uint64_t made_us;
    uint32_t serial;
} bmb_nonce;

void bmb_nonce_write(const bmb_port *port, const uint8_t *key, const bmb_nonce *nonce, uint64_t bound,
                     char out[BMB_NONCE_SIZE]);
/* false: not one of ours, or bound to something else. */
bool bmb_nonce_read(const bmb_port *port, const uint8_t *key, bmb_text text, uint64_t bound, bmb_nonce *out);

#endif
