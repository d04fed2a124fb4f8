/* What clients say to prove who they are, against the examples of the standards; nonces and lent links. */
#include "support/check.h"

#include "bambino/tls.h"
#include "base/base64.h"
#include "base/hmac.h"
#include "serve/credentials.h"
#include "serve/link.h"
#include "serve/nonce.h"
#include "serve/path.h"

static const bmb_port port = { .hash = bmb_mbedtls_hash };

static bmb_claim claim_of(const char *text)
{
    bmb_claim c;
    bmb_claim_read(&c, text, strlen(text));
    return c;
}

static void digest_of(bmb_hash which, const char *text, uint8_t *out)
{
    const bmb_slice slice = { text, strlen(text) };
    bmb_mbedtls_hash(NULL, which, &slice, 1, out);
}

/* RFC 7616 3.9.1 */
#define SAID                                                                                                           \
    "username=\"Mufasa\", realm=\"http-auth@example.org\", uri=\"/dir/index.html\", "                                  \
    "nonce=\"7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v\", nc=00000001, "                                            \
    "cnonce=\"f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ\", qop=auth, opaque=\"x\", "
#define ACCOUNT "Mufasa:http-auth@example.org:Circle of Life"

static void the_standards_example_is_answered_as_there(void **state)
{
    (void)state;
    uint8_t ha1[32];
    char out[64];
    bmb_claim c =
        claim_of("Digest " SAID
                 "algorithm=SHA-256, response=\"753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1\"");
    assert_int_equal(c.scheme, BMB_SCHEME_DIGEST);
    assert_int_equal(c.hash, BMB_HASH_SHA256);
    assert_int_equal(c.nc, 1);
    digest_of(BMB_HASH_SHA256, ACCOUNT, ha1);
    assert_int_equal(bmb_claim_response(&port, &c, ha1, "GET", out), 64);
    assert_memory_equal(out, c.response.at, 64);
    c = claim_of("digest " SAID "algorithm=MD5, response=\"8ca523f5e9506fed4657c9700eebdbec\"");
    assert_int_equal(c.hash, BMB_HASH_MD5);
    digest_of(BMB_HASH_MD5, ACCOUNT, ha1);
    assert_int_equal(bmb_claim_response(&port, &c, ha1, "GET", out), 32);
    assert_memory_equal(out, c.response.at, 32);
    assert_int_equal(bmb_claim_response(&port, &c, ha1, "POST", out), 32);
    assert_memory_not_equal(out, c.response.at, 32);
}

/* RFC 2617 3.5's account, without counts as RFC 2069 has it */
static void old_players_count_nothing(void **state)
{
    (void)state;
    uint8_t ha1[16];
    char out[64];
    bmb_claim c = claim_of("Digest username=\"Mufasa\", realm=\"testrealm@host.com\", "
                           "nonce=\"dcd98b7102dd2f0e8b11d0f600bfb0c093\", uri=\"/dir/index.html\", "
                           "response=\"670fd8c2df070c60b045671b8b24ff02\"");
    assert_int_equal(c.scheme, BMB_SCHEME_DIGEST);
    assert_false(c.counted);
    digest_of(BMB_HASH_MD5, "Mufasa:testrealm@host.com:Circle Of Life", ha1);
    assert_int_equal(bmb_claim_response(&port, &c, ha1, "GET", out), 32);
    assert_memory_equal(out, c.response.at, 32);
    /* One that was offered SHA-256 first, looks at no algorithm, and says it back. */
    c = claim_of("Digest username=\"a\", realm=\"b\", nonce=\"c\", uri=\"/\", algorithm=SHA-256, "
                 "response=\"670fd8c2df070c60b045671b8b24ff02\"");
    assert_int_equal(c.scheme, BMB_SCHEME_DIGEST);
    assert_int_equal(c.hash, BMB_HASH_MD5);
}

static void what_is_malformed_is_no_claim(void **state)
{
    (void)state;
    static const char *const bad[] = {
        "Digest",
        "Digest username=\"a\"",
        "Digest username=\"a\", nonce=\"b\", uri=\"/\", response=\"short\"",
        "Digest username=\"a, nonce=b",
        "Digest username=\"a\\\"",
        "Digest " SAID "algorithm=SHA-512-256, response=\"x\"",
        "Digest " SAID "algorithm=MD5, qop=auth-int, response=\"8ca523f5e9506fed4657c9700eebdbec\"",
        ("Digest username=\"a\", nonce=\"b\", uri=\"/\", qop=auth, nc=1, cnonce=\"c\", "
         "response=\"8ca523f5e9506fed4657c9700eebdbec\""),
        "Digest username=\"a\", nonce=\"b\", uri=\"/\", qop=auth, response=\"8ca523f5e9506fed4657c9700eebdbec\"",
        "Negotiate abc",
        "Bearer",
        "Basic ",
    };
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) {
        bmb_claim c = claim_of(bad[i]);
        if (c.scheme != BMB_SCHEME_BAD) fail_msg("%s", bad[i]);
    }
    assert_int_equal(claim_of("").scheme, BMB_SCHEME_NONE);
    assert_int_equal(claim_of("   ").scheme, BMB_SCHEME_NONE);
}

static void names_and_passwords_in_base64(void **state)
{
    (void)state;
    char plain[32];
    bmb_text name, password;
    bmb_claim c = claim_of("Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ=="); /* RFC 7617 2 */
    assert_true(bmb_claim_basic(&c, plain, sizeof plain, &name, &password));
    assert_true(bmb_same(name.at, name.size, "Aladdin"));
    assert_true(bmb_same(password.at, password.size, "open sesame"));
    assert_false(bmb_claim_basic(&c, plain, 18, &name, &password)); /* one byte too few */
    c = claim_of("Basic QWxhZGRpbg==");                             /* no colon */
    assert_false(bmb_claim_basic(&c, plain, sizeof plain, &name, &password));
    c = claim_of("Basic QWxh!");
    assert_false(bmb_claim_basic(&c, plain, sizeof plain, &name, &password));
    c = claim_of("Bearer abc.def-_~+/");
    assert_true(bmb_same(c.token.at, c.token.size, "abc.def-_~+/"));
    size_t got;
    assert_true(bmb_base64_read("_-A=", 4, plain, sizeof plain, &got)); /* RFC 4648 5 */
    assert_int_equal(got, 2);
    assert_memory_equal(plain, "\xFF\xE0", 2);
}

static void a_cookie_is_found_among_others(void **state)
{
    (void)state;
    static const char *const texts[] = { "bambino=1234", "a=b; bambino=1234", "bambino=1234; c=d",
                                         "x; bambino=1234 ;y=" };
    for (size_t i = 0; i < 4; i++) {
        bmb_text v = bmb_cookie_of(texts[i], strlen(texts[i]), "bambino");
        if (!bmb_same(v.at, v.size, "1234")) fail_msg("%s", texts[i]);
    }
    static const char *const others[] = { "", "xbambino=1", "bambinox=1", "bambino", "a=bambino=1" };
    for (size_t i = 0; i < 5; i++) assert_int_equal(bmb_cookie_of(others[i], strlen(others[i]), "bambino").size, 0);
}

static void keyed_hashes_are_the_standards(void **state)
{
    (void)state;
    uint8_t out[32];
    const bmb_slice halves[] = { { "what do ya want ", 16 }, { "for nothing?", 12 } }; /* RFC 4231 4.3 */
    bmb_hmac(&port, "Jefe", 4, halves, 2, out);
    char text[64];
    bmb_writer w = bmb_writer_of(text, sizeof text);
    bmb_put_hex_bytes(&w, out, 32);
    assert_memory_equal(text, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843", 64);
    assert_true(bmb_equal_secret("abcd", "abcd", 4));
    for (int i = 0; i < 4; i++) {
        char other[5] = "abcd";
        other[i] ^= 0x80;
        assert_false(bmb_equal_secret("abcd", other, 4));
    }
}

static void a_nonce_is_ours_and_bound(void **state)
{
    (void)state;
    uint8_t key[BMB_NONCE_KEY] = { 1, 2, 3 }, other[BMB_NONCE_KEY] = { 1, 2, 4 };
    char text[BMB_NONCE_SIZE];
    bmb_nonce n = { .made_us = 0x123456789ABCDEF0u, .serial = 77 }, back;
    bmb_nonce_write(&port, key, &n, 5, text);
    const bmb_text t = { text, sizeof text };
    assert_true(bmb_nonce_read(&port, key, t, 5, &back));
    assert_int_equal(back.made_us, n.made_us);
    assert_int_equal(back.serial, 77);
    assert_false(bmb_nonce_read(&port, key, t, 6, &back));
    assert_false(bmb_nonce_read(&port, other, t, 5, &back));
    assert_false(bmb_nonce_read(&port, key, (bmb_text){ text, sizeof text - 1 }, 5, &back));
    for (size_t i = 0; i < sizeof text; i++) {
        text[i] ^= 1;
        assert_false(bmb_nonce_read(&port, key, t, 5, &back));
        text[i] ^= 1;
    }
}

static void a_link_is_for_its_feed(void **state)
{
    (void)state;
    uint8_t key[BMB_LINK_KEY_SIZE] = { 9 };
    char text[BMB_LINK_SIZE];
    const bmb_link_terms terms = { .number = 0xFEDCBA98u, .until_s = 1790000000, .viewers = 300 };
    bmb_link_terms back;
    bmb_link_write(&port, key, "yard", &terms, text);
    assert_int_equal(strlen(text), BMB_LINK_SIZE - 1);
    assert_int_equal(strspn(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"),
                     BMB_LINK_SIZE - 1);
    bmb_text t = { text, BMB_LINK_SIZE - 1 };
    assert_true(bmb_link_read(&port, key, "yard", t, &back));
    assert_true(back.number == terms.number && back.until_s == terms.until_s && back.viewers == terms.viewers);
    assert_false(bmb_link_read(&port, key, "loco", t, &back));
    assert_false(bmb_link_read(&port, key, "yar", t, &back));
    key[31] = 1;
    assert_false(bmb_link_read(&port, key, "yard", t, &back));
    key[31] = 0;
    for (size_t i = 0; i < t.size; i++) { /* its terms, too */
        char was = text[i];
        text[i] = was == 'A' ? 'B' : 'A';
        assert_false(bmb_link_read(&port, key, "yard", t, &back));
        text[i] = was;
    }
    /* In an address. */
    char address[100];
    bmb_path p;
    snprintf(address, sizeof address, "/lent/%s/yard.mjpeg?player=1", text);
    bmb_path_of(&p, address, strlen(address));
    t = bmb_path_take_link(&p);
    assert_true(bmb_same(t.at, t.size, text));
    assert_true(bmb_path_is(&p, "/yard.mjpeg"));
    static const char *const others[] = { "/lent/", "/lent/short/yard.jpg", "/yard.jpg", "" };
    for (size_t i = 0; i < 4; i++) {
        bmb_path_of(&p, others[i], strlen(others[i]));
        assert_int_equal(bmb_path_take_link(&p).size, 0);
        assert_true(bmb_path_is(&p, others[i]));
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_standards_example_is_answered_as_there),
        cmocka_unit_test(old_players_count_nothing),
        cmocka_unit_test(what_is_malformed_is_no_claim),
        cmocka_unit_test(names_and_passwords_in_base64),
        cmocka_unit_test(a_cookie_is_found_among_others),
        cmocka_unit_test(keyed_hashes_are_the_standards),
        cmocka_unit_test(a_nonce_is_ours_and_bound),
        cmocka_unit_test(a_link_is_for_its_feed),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
