#include "base/hmac.h"

#include <string.h>

#define BLOCK 64u /* of SHA-256 */
#define SLICES_MOST 6u

static void pass(const bmb_port *port, const uint8_t *key, size_t key_size, uint8_t pad, const bmb_slice *slices,
                 size_t count, uint8_t *out)
{
    uint8_t block[BLOCK];
    bmb_slice all[SLICES_MOST + 1] = { { block, sizeof block } };
    memset(block, pad, sizeof block);
    for (size_t i = 0; i < key_size && i < BLOCK; i++) block[i] ^= key[i];
    memcpy(all + 1, slices, count * sizeof *slices);
    port->hash(port->ctx, BMB_HASH_SHA256, all, count + 1, out);
}

void bmb_hmac(const bmb_port *port, const void *key, size_t key_size, const bmb_slice *slices, size_t count,
              uint8_t out[BMB_SHA256_SIZE])
{
    uint8_t inner[BMB_SHA256_SIZE];
    const bmb_slice half = { inner, sizeof inner };
    pass(port, (const uint8_t *)key, key_size, 0x36, slices, count < SLICES_MOST ? count : SLICES_MOST, inner);
    pass(port, (const uint8_t *)key, key_size, 0x5C, &half, 1, out);
}

bool bmb_equal_secret(const void *a, const void *b, size_t size)
{
    const volatile uint8_t *x = (const volatile uint8_t *)a, *y = (const volatile uint8_t *)b;
    uint8_t differs = 0;
    for (size_t i = 0; i < size; i++) differs |= x[i] ^ y[i];
    return differs == 0;
}
