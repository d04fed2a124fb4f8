#include "receive/auth.h"

#include <stdio.h>
#include <string.h>
#include <strings.h>
#include <sys/random.h>

#include "bambino/tls.h"
#include "serve/credentials.h"

/* NAME="VALUE" or NAME=VALUE of a challenge. */
static void member_of(const char *text, const char *name, char *out, size_t room)
{
    size_t n = strlen(name);
    out[0] = '\0';
    for (const char *at = text; (at = strcasestr(at, name)) != NULL; at += n) {
        if ((at > text && at[-1] != ' ' && at[-1] != ',') || at[n] != '=') continue;
        const char *value = at + n + 1;
        size_t size = *value == '"' ? strcspn(++value, "\"") : strcspn(value, ", ");
        snprintf(out, room, "%.*s", (int)size, value);
        return;
    }
}

void auth_take(auth *a, const char *challenge)
{
    char value[64];
    bool digest = strncasecmp(challenge, "Digest ", 7) == 0;
    if (!digest && (strncasecmp(challenge, "Basic", 5) != 0 || a->digest)) return;
    member_of(challenge, "algorithm", value, sizeof value);
    bool sha256 = strcasecmp(value, "SHA-256") == 0;
    if (digest && value[0] != '\0' && !sha256 && strcasecmp(value, "MD5") != 0) return;
    if (a->digest && a->sha256 && !sha256) return;
    a->asked = true;
    a->digest = digest;
    a->sha256 = sha256;
    a->count = 0;
    member_of(challenge, "realm", a->realm, sizeof a->realm);
    member_of(challenge, "nonce", a->nonce, sizeof a->nonce);
    member_of(challenge, "opaque", a->opaque, sizeof a->opaque);
    member_of(challenge, "qop", value, sizeof value);
    a->counted = strcasestr(value, "auth") != NULL;
}

static bmb_text text_of(const char *text)
{
    return (bmb_text){ text, strlen(text) };
}

bool auth_put(auth *a, const receive_address *to, const char *method, const char *uri, char *out, size_t room)
{
    static const bmb_port port = { .hash = bmb_mbedtls_hash };
    char nc[9], cnonce[17], response[2 * BMB_SHA256_SIZE + 1] = "";
    uint8_t ha1[BMB_SHA256_SIZE], random[8];
    out[0] = '\0';
    if (!a->asked) return true;
    if (to->user[0] == '\0') return false;
    if (!a->digest) {
        char plain[200], coded[300];
        snprintf(plain, sizeof plain, "%s:%s", to->user, to->password);
        bmb_writer w = bmb_writer_of(coded, sizeof coded - 1);
        bmb_put_base64(&w, plain, strlen(plain));
        coded[bmb_written(&w)] = '\0';
        return (size_t)snprintf(out, room, "Authorization: Basic %s\r\n", coded) < room;
    }
    if (getrandom(random, sizeof random, 0) != sizeof random) return false;
    for (unsigned i = 0; i < sizeof random; i++) snprintf(cnonce + 2 * i, 3, "%02x", random[i]);
    snprintf(nc, sizeof nc, "%08x", ++a->count);
    const bmb_hash hash = a->sha256 ? BMB_HASH_SHA256 : BMB_HASH_MD5;
    const bmb_slice colon = { ":", 1 };
    const bmb_slice who[] = { { to->user, strlen(to->user) },
                              colon,
                              { a->realm, strlen(a->realm) },
                              colon,
                              { to->password, strlen(to->password) } };
    bmb_mbedtls_hash(NULL, hash, who, 5, ha1);
    const bmb_claim claim = { .scheme = BMB_SCHEME_DIGEST,
                              .hash = hash,
                              .counted = a->counted,
                              .nonce = text_of(a->nonce),
                              .uri = text_of(uri),
                              .nc_text = text_of(nc),
                              .cnonce = text_of(cnonce) };
    response[bmb_claim_response(&port, &claim, ha1, method, response)] = '\0';
    int n =
        snprintf(out, room,
                 "Authorization: Digest username=\"%s\", realm=\"%s\", nonce=\"%s\", uri=\"%s\", response=\"%s\"%s%s%s",
                 to->user, a->realm, a->nonce, uri, response, a->sha256 ? ", algorithm=SHA-256" : "",
                 a->opaque[0] != '\0' ? ", opaque=\"" : "", a->opaque);
    if (n < 0 || (size_t)n >= room) return false;
    size_t at = (size_t)n;
    if (a->opaque[0] != '\0') at += (size_t)snprintf(out + at, room - at, "\"");
    if (a->counted && at < room)
        at += (size_t)snprintf(out + at, room - at, ", qop=auth, nc=%s, cnonce=\"%s\"", nc, cnonce);
    if (at < room) at += (size_t)snprintf(out + at, room - at, "\r\n");
    return at < room;
}

void auth_succeeded(receive *r, const auth *a)
{
    receive_tell(r, RECEIVE_SIGNED_IN, "as %s, %s", r->to.user,
                 !a->digest  ? "Basic: the password is not hidden"
                 : a->sha256 ? "Digest, SHA-256"
                             : "Digest, MD5");
}

void auth_failed(receive *r, const auth *a)
{
    if (r->to.user[0] == '\0')
        receive_tell(r, RECEIVE_FAILED,
                     "\"%s\" asks who you are: give a name in the address (…://NAME@HOST…), and a password with "
                     "--password-file, or in the address",
                     a->realm);
    else
        receive_tell(r, RECEIVE_FAILED, "name or password are wrong for \"%s\", or \"%s\" may not watch this", a->realm,
                     r->to.user);
}
