#include "serve/nonce.h"

#include <string.h>

#include "base/hmac.h"

#define PLAIN 24u /* characters of time and serial number */
#define MAC 16u   /* bytes */

static void sign(const bmb_port *port, const uint8_t *key, const char *plain, uint64_t bound,
                 uint8_t out[BMB_SHA256_SIZE])
{
    const bmb_slice slices[] = { { "nonce", 5 }, { plain, PLAIN }, { &bound, sizeof bound } };
    bmb_hmac(port, key, BMB_NONCE_KEY, slices, 3, out);
}

void bmb_nonce_write(const bmb_port *port, const uint8_t *key, const bmb_nonce *nonce, uint64_t bound,
                     char out[BMB_NONCE_SIZE])
{
    uint8_t mac[BMB_SHA256_SIZE];
    bmb_writer w = bmb_writer_of(out, BMB_NONCE_SIZE);
    bmb_put_hex(&w, nonce->made_us, 16);
    bmb_put_hex(&w, nonce->serial, 8);
    sign(port, key, out, bound, mac);
    bmb_put_hex_bytes(&w, mac, MAC);
}

static bool read_hex(const char *text, size_t digits, uint64_t *out)
{
    *out = 0;
    for (size_t i = 0; i < digits; i++) {
        char c = text[i];
        if (!((c >= '0' && c <= '9') || (c >= 'A' && c <= 'F'))) return false;
        *out = *out << 4 | (uint64_t)(c <= '9' ? c - '0' : c - 'A' + 10);
    }
    return true;
}

bool bmb_nonce_read(const bmb_port *port, const uint8_t *key, bmb_text text, uint64_t bound, bmb_nonce *out)
{
    uint8_t mac[BMB_SHA256_SIZE];
    char digits[2 * MAC];
    uint64_t serial;
    if (text.size != BMB_NONCE_SIZE || !read_hex(text.at, 16, &out->made_us) || !read_hex(text.at + 16, 8, &serial))
        return false;
    out->serial = (uint32_t)serial;
    sign(port, key, text.at, bound, mac);
    bmb_writer w = bmb_writer_of(digits, sizeof digits);
    bmb_put_hex_bytes(&w, mac, MAC);
    return bmb_equal_secret(digits, text.at + PLAIN, sizeof digits);
}
