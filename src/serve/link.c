#include "serve/link.h"

#include <string.h>

#include "base/base64.h"
#include "base/hmac.h"

#define TERMS 10u
#define MAC 17u
#define BYTES (TERMS + MAC)

static void sign(const bmb_port *port, const uint8_t *key, const char *feed, uint8_t *bytes)
{
    uint8_t mac[BMB_SHA256_SIZE];
    const bmb_slice slices[] = { { "link", 4 }, { bytes, TERMS }, { feed, strlen(feed) } };
    bmb_hmac(port, key, BMB_LINK_KEY_SIZE, slices, 3, mac);
    memcpy(bytes + TERMS, mac, MAC);
}

void bmb_link_write(const bmb_port *port, const uint8_t *key, const char *feed, const bmb_link_terms *terms, char *text)
{
    uint8_t bytes[BYTES];
    bmb_store_u32(bytes, terms->number);
    bmb_store_u32(bytes + 4, terms->until_s);
    bmb_store_u16(bytes + 8, terms->viewers);
    sign(port, key, feed, bytes);
    bmb_writer w = bmb_writer_of(text, BMB_LINK_SIZE - 1);
    bmb_put_base64(&w, bytes, sizeof bytes); /* a multiple of three: no padding */
    for (char *c = text; c < text + BMB_LINK_SIZE - 1; c++) *c = (char)(*c == '+' ? '-' : *c == '/' ? '_' : *c);
    text[BMB_LINK_SIZE - 1] = '\0';
}

bool bmb_link_read(const bmb_port *port, const uint8_t *key, const char *feed, bmb_text text, bmb_link_terms *out)
{
    uint8_t bytes[BYTES], said[BYTES];
    size_t got;
    if (text.size != BMB_LINK_SIZE - 1 || !bmb_base64_read(text.at, text.size, said, sizeof said, &got) || got != BYTES)
        return false;
    memcpy(bytes, said, sizeof bytes);
    sign(port, key, feed, bytes);
    bmb_reader r = bmb_reader_of(bytes, TERMS);
    out->number = bmb_get_u32(&r);
    out->until_s = bmb_get_u32(&r);
    out->viewers = bmb_get_u16(&r);
    return bmb_equal_secret(bytes, said, sizeof bytes);
}
