#include "bambino/tls.h"

#include <mbedtls/md5.h>
#include <mbedtls/sha256.h>
#include <string.h>

/* With contexts on the stack: the library's common interface to all hashes allocates them. */
static bool sha256(const bmb_slice *slices, size_t count, uint8_t *out)
{
    mbedtls_sha256_context c;
    mbedtls_sha256_init(&c);
    bool done = mbedtls_sha256_starts_ret(&c, 0) == 0;
    for (size_t i = 0; i < count && done; i++)
        done = mbedtls_sha256_update_ret(&c, (const unsigned char *)slices[i].data, slices[i].size) == 0;
    done = done && mbedtls_sha256_finish_ret(&c, out) == 0;
    mbedtls_sha256_free(&c);
    return done;
}

static bool md5(const bmb_slice *slices, size_t count, uint8_t *out)
{
    mbedtls_md5_context c;
    mbedtls_md5_init(&c);
    bool done = mbedtls_md5_starts_ret(&c) == 0;
    for (size_t i = 0; i < count && done; i++)
        done = mbedtls_md5_update_ret(&c, (const unsigned char *)slices[i].data, slices[i].size) == 0;
    done = done && mbedtls_md5_finish_ret(&c, out) == 0;
    mbedtls_md5_free(&c);
    return done;
}

void bmb_mbedtls_hash(void *ctx, bmb_hash which, const bmb_slice *slices, size_t count, uint8_t *out)
{
    (void)ctx;
    bool done = which == BMB_HASH_MD5 ? md5(slices, count, out) : sha256(slices, count, out);
    if (!done) memset(out, 0, which == BMB_HASH_MD5 ? BMB_MD5_SIZE : BMB_SHA256_SIZE);
}
