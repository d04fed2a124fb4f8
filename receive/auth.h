/* Signing in where a server asks for it (RFC 7616, RFC 7617). */
#ifndef RECEIVE_AUTH_H
#define RECEIVE_AUTH_H

#include "receive/receive.h"

typedef struct auth {
    bool asked, digest, sha256, counted;
    unsigned tries;
    uint32_t count;
    char realm[128], nonce[256], opaque[128];
} auth;

/* Takes one WWW-Authenticate value; of several the best one counts. */
void auth_take(auth *a, const char *challenge);
/* The header line with its end; false: it is not known who signs in, or it was tried. */
bool auth_put(auth *a, const receive_address *to, const char *method, const char *uri, char *out, size_t room);
/* Tells how. */
void auth_succeeded(receive *r, const auth *a);
/* Why not, in words. */
void auth_failed(receive *r, const auth *a);

#endif
