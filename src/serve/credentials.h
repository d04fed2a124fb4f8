/* What a client says to prove who it is, taken apart, and the answer that it should have given (RFC 7616, 7617, 6750).
 * Nothing is known here of who there is.
 */
#ifndef BMB_SERVE_CREDENTIALS_H
#define BMB_SERVE_CREDENTIALS_H

#include "bambino/port.h"
#include "base/bytes.h"

/* Of a text that the caller keeps. */
typedef struct bmb_text {
    const char *at;
    size_t size;
} bmb_text;

typedef enum bmb_scheme {
    BMB_SCHEME_NONE = 0,
    BMB_SCHEME_DIGEST,
    BMB_SCHEME_BASIC,
    BMB_SCHEME_BEARER,
    BMB_SCHEME_BAD /* something else, or malformed */
} bmb_scheme;

typedef struct bmb_claim {
    bmb_scheme scheme;
    bmb_hash hash; /* Digest */
    bool counted;  /* Digest: qop is "auth", so that nc counts */
    uint32_t nc;
    bmb_text username, nonce, uri, response, nc_text, cnonce;
    bmb_text token; /* Bearer: it; Basic: still in base64 */
} bmb_claim;

/* Takes the value of an Authorization header apart. */
void bmb_claim_read(bmb_claim *out, const char *text, size_t size);
/* The response to this claim of somebody whose digest of name, realm and password is ha1 (of the claim's hash's size),
 * in hexadecimal. method: "GET". */
size_t bmb_claim_response(const bmb_port *port, const bmb_claim *claim, const uint8_t *ha1, const char *method,
                          char out[2 * BMB_SHA256_SIZE]);
/* NAME:PASSWORD of a Basic claim, decoded; false: it is none, or too long. */
bool bmb_claim_basic(const bmb_claim *claim, char *out, size_t room, bmb_text *name, bmb_text *password);
/* Two digits for each byte, in lower case. */
void bmb_put_hex_bytes(bmb_writer *w, const uint8_t *data, size_t size);
/* The value of a cookie of that name; size 0: it is not there. */
bmb_text bmb_cookie_of(const char *text, size_t size, const char *name);

#endif
