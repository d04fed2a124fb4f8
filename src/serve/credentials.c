#include "serve/credentials.h"

#include <string.h>

#include "base/base64.h"

static const size_t hash_sizes[BMB_HASH_COUNT] = { BMB_SHA256_SIZE, BMB_MD5_SIZE };

static bool is_space(char c)
{
    return c == ' ' || c == '\t';
}

static void skip_space(bmb_text *t)
{
    while (t->size > 0 && is_space(*t->at)) {
        t->at++;
        t->size--;
    }
}

static void step(bmb_text *t, size_t n)
{
    t->at += n;
    t->size -= n;
}

/* Up to a character of `ends`, or to the end. */
static bmb_text take_until(bmb_text *t, const char *ends)
{
    bmb_text out = { t->at, 0 };
    while (out.size < t->size && strchr(ends, t->at[out.size]) == NULL) out.size++;
    step(t, out.size);
    while (out.size > 0 && is_space(out.at[out.size - 1])) out.size--;
    return out;
}

/* A token or a quoted string (RFC 9110 5.6.4). What is escaped stays so: no name of ours needs it. false: no end. */
static bool take_value(bmb_text *t, bmb_text *out)
{
    if (t->size == 0 || *t->at != '"') {
        *out = take_until(t, ",");
        return true;
    }
    step(t, 1);
    *out = (bmb_text){ t->at, 0 };
    while (out->size < t->size && t->at[out->size] != '"') out->size += t->at[out->size] == '\\' ? 2 : 1;
    if (out->size >= t->size) return false;
    step(t, out->size + 1);
    return true;
}

static bool is(bmb_text t, const char *literal)
{
    return bmb_same_nocase(t.at, t.size, literal);
}

static bool take_hex(bmb_text t, uint32_t *out)
{
    *out = 0;
    for (size_t i = 0; i < t.size; i++) {
        char c = (char)(t.at[i] | 0x20);
        unsigned digit = c >= '0' && c <= '9'   ? (unsigned)(c - '0')
                         : c >= 'a' && c <= 'f' ? (unsigned)(c - 'a') + 10
                                                : 16;
        if (digit > 15) return false;
        *out = *out << 4 | digit;
    }
    return t.size == 8;
}

/* Known members go to their place; others are passed over, as the standard asks. */
static void take_member(bmb_claim *c, bmb_text name, bmb_text value)
{
    if (is(name, "username")) {
        c->username = value;
    } else if (is(name, "nonce")) {
        c->nonce = value;
    } else if (is(name, "uri")) {
        c->uri = value;
    } else if (is(name, "response")) {
        c->response = value;
    } else if (is(name, "cnonce")) {
        c->cnonce = value;
    } else if (is(name, "nc")) {
        c->nc_text = value;
        if (!take_hex(value, &c->nc)) c->scheme = BMB_SCHEME_BAD;
    } else if (is(name, "qop")) {
        c->counted = true;
        if (!is(value, "auth")) c->scheme = BMB_SCHEME_BAD;
    } else if (is(name, "algorithm")) {
        c->hash = is(value, "SHA-256") ? BMB_HASH_SHA256 : BMB_HASH_MD5;
        if (!is(value, "SHA-256") && !is(value, "MD5")) c->scheme = BMB_SCHEME_BAD;
    }
}

static void read_digest(bmb_claim *c, bmb_text t)
{
    c->hash = BMB_HASH_MD5; /* RFC 2069, where it is not said */
    while (t.size > 0) {
        bmb_text name = take_until(&t, "=,"), value = { NULL, 0 };
        if (t.size > 0 && *t.at == '=') {
            step(&t, 1);
            skip_space(&t);
            if (!take_value(&t, &value)) c->scheme = BMB_SCHEME_BAD;
            take_member(c, name, value);
        }
        (void)take_until(&t, ",");
        if (t.size > 0) step(&t, 1);
        skip_space(&t);
        if (c->scheme == BMB_SCHEME_BAD) return;
    }
    /* Who answers by MD5 to an offer of SHA-256, and says its name back, has not looked at it. */
    if (c->hash == BMB_HASH_SHA256 && c->response.size == 2 * BMB_MD5_SIZE) c->hash = BMB_HASH_MD5;
    bool whole = c->username.size > 0 && c->nonce.size > 0 && c->uri.size > 0 && c->response.size > 0;
    bool counts = !c->counted || (c->nc_text.size > 0 && c->cnonce.size > 0);
    if (!whole || !counts || c->response.size != 2 * hash_sizes[c->hash]) c->scheme = BMB_SCHEME_BAD;
}

void bmb_claim_read(bmb_claim *out, const char *text, size_t size)
{
    bmb_text t = { text, size };
    memset(out, 0, sizeof *out);
    skip_space(&t);
    bmb_text scheme = take_until(&t, " \t");
    skip_space(&t);
    if (scheme.size == 0) return;
    if (is(scheme, "Digest")) {
        out->scheme = BMB_SCHEME_DIGEST;
        read_digest(out, t);
        return;
    }
    out->token = take_until(&t, " \t,");
    out->scheme = out->token.size == 0   ? BMB_SCHEME_BAD
                  : is(scheme, "Basic")  ? BMB_SCHEME_BASIC
                  : is(scheme, "Bearer") ? BMB_SCHEME_BEARER
                                         : BMB_SCHEME_BAD;
}

void bmb_put_hex_bytes(bmb_writer *w, const uint8_t *data, size_t size)
{
    static const char digits[] = "0123456789abcdef";
    for (size_t i = 0; i < size; i++) {
        bmb_put_u8(w, (uint8_t)digits[data[i] >> 4]);
        bmb_put_u8(w, (uint8_t)digits[data[i] & 15]);
    }
}

static bmb_slice text_slice(bmb_text t)
{
    return (bmb_slice){ t.at, t.size };
}

size_t bmb_claim_response(const bmb_port *port, const bmb_claim *claim, const uint8_t *ha1, const char *method,
                          char out[2 * BMB_SHA256_SIZE])
{
    uint8_t sum[BMB_SHA256_SIZE];
    char first[2 * BMB_SHA256_SIZE], second[2 * BMB_SHA256_SIZE];
    size_t size = hash_sizes[claim->hash], digits = 2 * size;
    const bmb_slice colon = { ":", 1 };
    bmb_writer w = bmb_writer_of(first, sizeof first);
    bmb_put_hex_bytes(&w, ha1, size);
    const bmb_slice request[] = { { method, strlen(method) }, colon, text_slice(claim->uri) };
    port->hash(port->ctx, claim->hash, request, 3, sum);
    w = bmb_writer_of(second, sizeof second);
    bmb_put_hex_bytes(&w, sum, size);
    const bmb_slice all[] = {
        { first, digits },
        colon,
        text_slice(claim->nonce),
        colon,
        text_slice(claim->nc_text),
        colon,
        text_slice(claim->cnonce),
        colon,
        { "auth", 4 },
        colon,
        { second, digits },
    };
    const bmb_slice old[] = { { first, digits }, colon, text_slice(claim->nonce), colon, { second, digits } };
    if (claim->counted) {
        port->hash(port->ctx, claim->hash, all, sizeof all / sizeof all[0], sum);
    } else {
        port->hash(port->ctx, claim->hash, old, sizeof old / sizeof old[0], sum);
    }
    w = bmb_writer_of(out, 2 * BMB_SHA256_SIZE);
    bmb_put_hex_bytes(&w, sum, size);
    return digits;
}

bool bmb_claim_basic(const bmb_claim *claim, char *out, size_t room, bmb_text *name, bmb_text *password)
{
    size_t size;
    if (!bmb_base64_read(claim->token.at, claim->token.size, out, room, &size)) return false;
    const char *colon = (const char *)memchr(out, ':', size);
    if (colon == NULL) return false;
    *name = (bmb_text){ out, (size_t)(colon - out) };
    *password = (bmb_text){ colon + 1, size - name->size - 1 };
    return true;
}

bmb_text bmb_cookie_of(const char *text, size_t size, const char *name)
{
    bmb_text t = { text, size };
    while (t.size > 0) {
        skip_space(&t);
        bmb_text key = take_until(&t, "=;");
        bmb_text value = { t.at, 0 };
        if (t.size > 0 && *t.at == '=') {
            step(&t, 1);
            value = take_until(&t, ";");
        }
        if (bmb_same(key.at, key.size, name)) return value;
        if (t.size > 0) step(&t, 1);
    }
    return (bmb_text){ NULL, 0 };
}
