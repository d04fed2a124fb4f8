/* What clients say to prove who they are: headers, cookies, links in addresses. */
#include <stdlib.h>
#include <string.h>

#include "bambino/tls.h"
#include "serve/credentials.h"
#include "serve/link.h"
#include "serve/nonce.h"
#include "serve/path.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static const bmb_port port = { .hash = bmb_mbedtls_hash };
    static const uint8_t key[BMB_NONCE_KEY] = { 1 }, ha1[BMB_SHA256_SIZE] = { 2 };
    char text[BMB_NONCE_SIZE + 8], plain[40], response[2 * BMB_SHA256_SIZE];
    bmb_claim c;
    bmb_text name, password;
    bmb_nonce nonce;
    bmb_link_terms terms;
    bmb_path path;
    const char *words = (const char *)data;
    bmb_claim_read(&c, words, size);
    if (c.scheme == BMB_SCHEME_DIGEST) {
        if (c.response.size != bmb_claim_response(&port, &c, ha1, "GET", response)) abort();
        if (bmb_nonce_read(&port, key, c.nonce, 7, &nonce)) abort(); /* it cannot guess the key */
        const bmb_text all[] = { c.username, c.nonce, c.uri, c.response, c.cnonce, c.nc_text };
        for (size_t i = 0; i < sizeof all / sizeof all[0]; i++)
            if (all[i].size > 0 && (all[i].at < words || all[i].at + all[i].size > words + size)) abort();
    }
    if (c.scheme == BMB_SCHEME_BASIC && bmb_claim_basic(&c, plain, sizeof plain, &name, &password) &&
        name.size + 1 + password.size > sizeof plain)
        abort();
    bmb_text cookie = bmb_cookie_of(words, size, "bambino");
    if (cookie.size > 0 && (cookie.at < words || cookie.at + cookie.size > words + size)) abort();
    bmb_path_of(&path, words, size);
    bmb_text link = bmb_path_take_link(&path);
    if (link.size > 0 && link.size != BMB_LINK_SIZE - 1) abort();
    if (link.size > 0 && bmb_link_read(&port, key, "yard", link, &terms)) abort();
    size_t n = size < sizeof text ? size : sizeof text;
    if (n > 0) memcpy(text, data, n);
    (void)bmb_nonce_read(&port, key, (bmb_text){ text, n }, 0, &nonce);
    return 0;
}
