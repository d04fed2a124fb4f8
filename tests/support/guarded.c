#include "support/guarded.h"

#include <mbedtls/md5.h>
#include <mbedtls/sha256.h>

#include "support/check.h"

fake_device t;

uint8_t jpeg[20000];

size_t jpeg_size;

bmb_account accounts[8];

bmb_access access_of;

const uint8_t link_key[BMB_LINK_KEY_SIZE] = "a key that nobody else has seen";

/* Reckoned by the library itself: nothing here asks the code that is tested. */
static void hex(const uint8_t *data, size_t size, char *out)
{
    for (size_t i = 0; i < size; i++) sprintf(out + 2 * i, "%02x", data[i]);
}

static const char *hash_of(bool md5, const char *text, char *out)
{
    uint8_t sum[32];
    if (md5) {
        mbedtls_md5_ret((const unsigned char *)text, strlen(text), sum);
    } else {
        mbedtls_sha256_ret((const unsigned char *)text, strlen(text), sum, 0);
    }
    hex(sum, md5 ? 16 : 32, out);
    return out;
}

void person(const char *name, bmb_role role, uint64_t feeds, const char *password)
{
    char text[100];
    bmb_account *a = &accounts[access_of.account_count++];
    *a = (bmb_account){ .role = role, .feeds = feeds };
    snprintf(a->name, sizeof a->name, "%s", name);
    snprintf(text, sizeof text, "%s:railway:%s", name, password);
    mbedtls_sha256_ret((const unsigned char *)text, strlen(text), a->sha256, 0);
    mbedtls_md5_ret((const unsigned char *)text, strlen(text), a->md5);
}

void program(const char *name, bmb_role role, uint64_t feeds, const char *token)
{
    bmb_account *a = &accounts[access_of.account_count++];
    *a = (bmb_account){ .role = role, .feeds = feeds, .program = true };
    snprintf(a->name, sizeof a->name, "%s", name);
    mbedtls_sha256_ret((const unsigned char *)token, strlen(token), a->sha256, 0);
}

int prepare(void **state)
{
    (void)state;
    jpeg_size = fake_jpeg(jpeg, 640, 480, 3000);
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    fake_camera_add(t.f, "loco", BMB_CODEC_JPEG);
    t.feeds[1] = t.feeds[0];
    t.feeds[1].name = t.feeds[1].camera = "loco";
    t.config.feed_count = 2;
    t.outlets[1] = (bmb_outlet_config){ .kind = BMB_OUTLET_RTSP, .listen = { .family = 4, .port = 8554 } };
    t.outlets[2] = (bmb_outlet_config){ .kind = BMB_OUTLET_TCP,
                                        .listen = { .family = 4, .port = 8600 },
                                        .format = BMB_FORMAT_FRAMED,
                                        .feed = BMB_NO_FEED,
                                        .controls = true };
    t.config.outlet_count = 3;
    access_of = (bmb_access){ .realm = "railway", .accounts = accounts, .link_key = link_key };
    person("anna", BMB_ROLE_ADMINISTER, UINT64_MAX, "the red signal");
    person("ben", BMB_ROLE_WATCH, 1, "the green one");
    person("cleo", BMB_ROLE_ADJUST, 1, "points and crossings");
    program("recorder", BMB_ROLE_WATCH, 2, "token-of-the-recorder");
    t.config.access = &access_of;
    return 0;
}

int clean_up(void **state)
{
    (void)state;
    fake_device_close(&t);
    return 0;
}

void picture(void)
{
    fake_frame(t.f, 0, jpeg, jpeg_size, true);
    fake_frame(t.f, 1, jpeg, jpeg_size, true);
    fake_settle(t.f, t.device);
}

void begin(void)
{
    fake_device_open(&t);
    fake_run(t.f, t.device, 100000);
    picture();
}

/* A connection from another host than the usual one, where `host` is not 99. */
bmb_sock connect_from(uint8_t host, size_t outlet)
{
    bmb_sock s = fake_connect(t.f, outlet);
    t.f->socks[s].peer.ip[3] = host;
    fake_settle(t.f, t.device);
    return s;
}

char answer[40000];

unsigned http_from(uint8_t host, const char *method, const char *path, const char *headers)
{
    char text[2000];
    size_t size;
    bmb_sock s = connect_from(host, 0);
    snprintf(text, sizeof text, "%s %s HTTP/1.1\r\nHost: a\r\n%s\r\n", method, path, headers);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    const char *got = fake_take(t.f, s, &size);
    memcpy(answer, got, size < sizeof answer ? size : sizeof answer - 1);
    answer[size < sizeof answer ? size : sizeof answer - 1] = '\0';
    fake_hang_up(t.f, s);
    fake_settle(t.f, t.device);
    return strncmp(answer, "HTTP/1.1 ", 9) == 0 ? (unsigned)atoi(answer + 9) : 0;
}

unsigned get(const char *path, const char *headers)
{
    return http_from(99, "GET", path, headers);
}

unsigned post(const char *path, const char *headers)
{
    return http_from(99, "POST", path, headers);
}

char nonce[60];

void take_nonce(void)
{
    const char *at = strstr(answer, "nonce=\"");
    size_t skip = 7;
    if (at == NULL) {
        at = strstr(answer, "\"nonce\":\"");
        skip = 9;
    }
    assert_non_null(at);
    memcpy(nonce, at + skip, 56);
    nonce[56] = '\0';
}

/* The header of somebody who knows the password. count 0: as RFC 2069. */
const char *digest(bool md5, const char *name, const char *password, const char *method, const char *uri,
                   unsigned count)
{
    static char out[700];
    char one[70], two[70], three[70], text[400], counts[60] = "";
    snprintf(text, sizeof text, "%s:railway:%s", name, password);
    hash_of(md5, text, one);
    snprintf(text, sizeof text, "%s:%s", method, uri);
    hash_of(md5, text, two);
    if (count > 0) {
        snprintf(text, sizeof text, "%s:%s:%08x:xyz:auth:%s", one, nonce, count, two);
        snprintf(counts, sizeof counts, ", qop=auth, nc=%08x, cnonce=\"xyz\"", count);
    } else {
        snprintf(text, sizeof text, "%s:%s:%s", one, nonce, two);
    }
    snprintf(out, sizeof out,
             "Authorization: Digest username=\"%s\", realm=\"railway\", nonce=\"%s\", uri=\"%s\", algorithm=%s, "
             "response=\"%s\"%s\r\n",
             name, nonce, uri, md5 ? "MD5" : "SHA-256", hash_of(md5, text, three), counts);
    return out;
}

const char *bearer(const char *token)
{
    static char out[100];
    snprintf(out, sizeof out, "Authorization: Bearer %s\r\n", token);
    return out;
}

unsigned as(const char *name, const char *password, const char *path)
{
    (void)get("/who.json", "");
    take_nonce();
    return get(path, digest(false, name, password, "GET", path, 1));
}

char cookie[80];

void sign_in(const char *name, const char *password)
{
    (void)get("/who.json", "");
    take_nonce();
    assert_int_equal(post("/sign-in", digest(false, name, password, "POST", "/sign-in", 1)), 204);
    const char *at = strstr(answer, "Set-Cookie: bambino=");
    assert_non_null(at);
    assert_non_null(strstr(at, "; Path=/; HttpOnly; SameSite=Strict\r\n"));
    snprintf(cookie, sizeof cookie, "Cookie: other=1; bambino=%.36s\r\n", at + 20);
    assert_null(strstr(answer, "Content-Length"));
}

unsigned status_of(const char *text)
{
    return strncmp(text, "RTSP/1.0 ", 9) == 0 ? (unsigned)atoi(text + 9) : 0;
}

const char *rtsp(bmb_sock s, const char *method, const char *path, const char *headers)
{
    char text[1500];
    static unsigned cseq;
    snprintf(text, sizeof text, "%s rtsp://h/%s RTSP/1.0\r\nCSeq: %u\r\n%s\r\n", method, path, ++cseq, headers);
    fake_take(t.f, s, NULL);
    fake_say_text(t.f, s, text);
    fake_settle(t.f, t.device);
    size_t size;
    const char *got = fake_take(t.f, s, &size);
    snprintf(answer, sizeof answer, "%s", got);
    return answer;
}

const char *link_to(const char *feed, const bmb_link_terms *terms)
{
    static char out[120];
    char link[BMB_LINK_SIZE];
    bmb_link_write(&t.f->port, link_key, feed, terms, link);
    snprintf(out, sizeof out, "/lent/%s/%s", link, feed);
    return out;
}
