/* Who the device is: its key, and the certificate. */
#include <stdio.h>
#include <string.h>

#include <mbedtls/asn1write.h>
#include <mbedtls/ecp.h>
#include <mbedtls/oid.h>
#include <mbedtls/pem.h>
#include <mbedtls/sha256.h>
#include <mbedtls/x509_crt.h>

#include "tls/state.h"

#define KEY_RECORD "tls.key"
#define CERTIFICATE_RECORD "tls.crt"
#define KEY_MOST 256u
#define CERTIFICATE_MOST 3072u
#define PEM_CERTIFICATE_MOST                                                                                           \
    (CERTIFICATE_MOST / 48 * 65 + 65 + 64) /* RFC 7468: lines of 64 characters for 48 bytes                            \
                                            */
#define NAMES_MOST 2048u                   /* of the certificate: names and addresses */
#define DAYS 825                           /* as long as browsers take one for that is not vouched for by others */
#define RENEW_DAYS 30
#define DAY_S 86400
/* Where nobody knows what time it is: from before the first clock of a board to after its last. */
#define EPOCH_S 1577836800 /* 2020 */
#define FOR_EVER_S 2524607999

void bmb_tls_fingerprint(const mbedtls_x509_crt *crt, uint8_t out[32])
{
    if (mbedtls_sha256_ret(crt->raw.p, crt->raw.len, out, 0) != 0) memset(out, 0, 32);
}

/* RFC 5280 4.2.1.6, written from its end: the names of DNS, and the addresses. */
static int put_one(unsigned char **at, unsigned char *begin, const void *data, size_t size, unsigned char tag)
{
    int total = 0, part;
    if ((part = mbedtls_asn1_write_raw_buffer(at, begin, (const unsigned char *)data, size)) < 0) return part;
    total += part;
    if ((part = mbedtls_asn1_write_len(at, begin, size)) < 0) return part;
    total += part;
    part = mbedtls_asn1_write_tag(at, begin, (unsigned char)(MBEDTLS_ASN1_CONTEXT_SPECIFIC | tag));
    return part < 0 ? part : total + part;
}

#define TAG_DNS 2
#define TAG_IP 7

/* *begin: where it begins in `room`. Returns its size; 0: no room. */
static size_t put_names(const bmb_tls_config *config, unsigned char *room, size_t size, unsigned char **begin)
{
    unsigned char *at = room + size;
    int total = 0, part;
    for (size_t i = config->address_count; i-- > 0;) {
        const bmb_addr *a = &config->addresses[i];
        if ((part = put_one(&at, room, a->ip, a->family == 6 ? 16 : 4, TAG_IP)) < 0) return 0;
        total += part;
    }
    for (size_t i = config->name_count; i-- > 0;) {
        if ((part = put_one(&at, room, config->names[i], strlen(config->names[i]), TAG_DNS)) < 0) return 0;
        total += part;
    }
    if ((part = mbedtls_asn1_write_len(&at, room, (size_t)total)) < 0) return 0;
    total += part;
    if ((part = mbedtls_asn1_write_tag(&at, room, MBEDTLS_ASN1_SEQUENCE | MBEDTLS_ASN1_CONSTRUCTED)) < 0) return 0;
    *begin = at;
    return (size_t)(total + part);
}

/* Proleptic Gregorian calendar, from days since 1970-01-01. */
static void time_text(int64_t unix_s, char out[16])
{
    int64_t days = unix_s / DAY_S, rest = unix_s % DAY_S;
    int64_t z = days + 719468, era = z / 146097, doe = z - era * 146097;
    int64_t yoe = (doe - doe / 1460 + doe / 36524 - doe / 146096) / 365, doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    int64_t mp = (5 * doy + 2) / 153, day = doy - (153 * mp + 2) / 5 + 1, month = mp < 10 ? mp + 3 : mp - 9;
    int64_t year = yoe + era * 400 + (month <= 2);
    snprintf(out, 16, "%04u%02u%02u%02u%02u%02u", (unsigned)year % 10000, (unsigned)month % 100, (unsigned)day % 100,
             (unsigned)(rest / 3600) % 100, (unsigned)(rest / 60 % 60) % 100, (unsigned)(rest % 60) % 100);
}

static bool wall_s(const bmb_tls_state *s, int64_t *out)
{
    int64_t us = 0;
    if (s->under->wall_us == NULL || s->under->wall_us(s->under->ctx, &us) != BMB_OK) return false;
    *out = us / 1000000;
    return true;
}

static int64_t seconds_of(const mbedtls_x509_time *t)
{
    int64_t y = t->year - (t->mon <= 2), era = y / 400, yoe = y - era * 400;
    int64_t doy = (153 * (t->mon + (t->mon > 2 ? -3 : 9)) + 2) / 5 + t->day - 1;
    int64_t doe = yoe * 365 + yoe / 4 - yoe / 100 + doy;
    return (era * 146097 + doe - 719468) * DAY_S + t->hour * 3600 + t->min * 60 + t->sec;
}

bool bmb_tls_identity_ends(const tls_identity *id, const bmb_tls_state *s)
{
    int64_t now;
    return wall_s(s, &now) && (now > seconds_of(&id->chain.valid_to) - (int64_t)RENEW_DAYS * DAY_S ||
                               now < seconds_of(&id->chain.valid_from));
}

/* Signed by itself; DER into the end of `room`. Returns its size, or an error. */
static int write_certificate(bmb_tls_state *s, mbedtls_pk_context *key, uint8_t *room)
{
    const bmb_tls_config *config = &s->tls->config;
    mbedtls_x509write_cert w;
    mbedtls_mpi serial;
    unsigned char names[NAMES_MOST], *begin = NULL, number[12];
    char subject[80], from[16], to[16];
    int64_t now;
    bool known = wall_s(s, &now);
    size_t names_size = put_names(config, names, sizeof names, &begin);
    /* The name as it can stand in a distinguished one, where commas and the like mean something. */
    size_t n = (size_t)snprintf(subject, sizeof subject, "CN=");
    for (const char *c = config->name; *c != '\0' && n < 60; c++)
        subject[n++] = (char)(*c < 0x20 || *c > 0x7E || strchr(",=+<>#;\"\\", *c) != NULL ? '-' : *c);
    subject[n] = '\0';
    time_text(known ? now - DAY_S : EPOCH_S, from);
    time_text(known ? now + (int64_t)DAYS * DAY_S : FOR_EVER_S, to);
    s->under->random(s->under->ctx, number, sizeof number);
    number[0] = (unsigned char)((number[0] & 0x7F) | 0x40); /* positive, and of full length (RFC 5280 4.1.2.2) */
    mbedtls_x509write_crt_init(&w);
    mbedtls_mpi_init(&serial);
    mbedtls_x509write_crt_set_version(&w, MBEDTLS_X509_CRT_VERSION_3);
    mbedtls_x509write_crt_set_md_alg(&w, MBEDTLS_MD_SHA256);
    mbedtls_x509write_crt_set_subject_key(&w, key);
    mbedtls_x509write_crt_set_issuer_key(&w, key);
    int err = mbedtls_mpi_read_binary(&serial, number, sizeof number);
    if (err == 0) err = mbedtls_x509write_crt_set_serial(&w, &serial);
    if (err == 0) err = mbedtls_x509write_crt_set_subject_name(&w, subject);
    if (err == 0) err = mbedtls_x509write_crt_set_issuer_name(&w, subject);
    if (err == 0) err = mbedtls_x509write_crt_set_validity(&w, from, to);
    if (err == 0) err = mbedtls_x509write_crt_set_basic_constraints(&w, 0, 0);
    if (names_size == 0) err = MBEDTLS_ERR_ASN1_BUF_TOO_SMALL;
    if (err == 0 && config->name_count + config->address_count > 0)
        err = mbedtls_x509write_crt_set_extension(&w, MBEDTLS_OID_SUBJECT_ALT_NAME,
                                                  MBEDTLS_OID_SIZE(MBEDTLS_OID_SUBJECT_ALT_NAME), 0, begin, names_size);
    if (err == 0) err = mbedtls_x509write_crt_der(&w, room, CERTIFICATE_MOST, bmb_tls_random, s);
    mbedtls_mpi_free(&serial);
    mbedtls_x509write_crt_free(&w);
    return err;
}

static size_t load(const bmb_tls_state *s, const char *name, uint8_t *out, size_t room)
{
    const bmb_storage *storage = &s->under->storage;
    size_t got = 0;
    return storage->load != NULL && storage->load(storage->ctx, name, out, room, &got) == BMB_OK ? got : 0;
}

/* A device whose storage fails serves all the same. */
static void keep(bmb_tls_state *s, const char *name, const uint8_t *data, size_t size)
{
    const bmb_storage *storage = &s->under->storage;
    if (storage->store == NULL) {
        s->unkept = "there is no storage, so that the certificate is another one with each start";
    } else if (storage->store(storage->ctx, name, data, size) != BMB_OK) {
        s->unkept = "the storage does not keep the certificate, so that it is another one with each start";
    }
}

/* The key that is kept, or a new one. */
static const char *own_key(mbedtls_pk_context *key, bmb_tls_state *s)
{
    uint8_t der[KEY_MOST];
    s->unkept = NULL;
    size_t size = load(s, KEY_RECORD, der, sizeof der);
    bool right =
        size > 0 && mbedtls_pk_parse_key(key, der, size, NULL, 0) == 0 && mbedtls_pk_get_type(key) == MBEDTLS_PK_ECKEY;
    memset(der, 0, sizeof der);
    if (right) return NULL;
    mbedtls_pk_free(key);
    mbedtls_pk_init(key);
    int err = mbedtls_pk_setup(key, mbedtls_pk_info_from_type(MBEDTLS_PK_ECKEY));
    if (err == 0) err = mbedtls_ecp_gen_key(MBEDTLS_ECP_DP_SECP256R1, mbedtls_pk_ec(*key), bmb_tls_random, s);
    if (err == 0) err = mbedtls_pk_write_key_der(key, der, sizeof der); /* into its end */
    if (err <= 0) return "a key could not be made";
    keep(s, KEY_RECORD, der + sizeof der - err, (size_t)err);
    memset(der, 0, sizeof der);
    return NULL;
}

static bool contains(const mbedtls_x509_crt *crt, const void *data, size_t size, unsigned char tag)
{
    unsigned char one[260], *at = one + sizeof one;
    int written = size < 250 ? put_one(&at, one, data, size, tag) : -1;
    for (size_t i = 0; written > 0 && i + (size_t)written <= crt->raw.len; i++)
        if (memcmp(crt->raw.p + i, at, (size_t)written) == 0) return true;
    return false;
}

/* Addresses of IPv6 come and go by the day, and are no reason for another certificate: people would have to trust it
 * anew. */
bool bmb_tls_identity_names(const tls_identity *id, const bmb_tls_state *s)
{
    const bmb_tls_config *config = &s->tls->config;
    bool all = true;
    for (size_t i = 0; all && i < config->name_count; i++)
        all = contains(&id->chain, config->names[i], strlen(config->names[i]), TAG_DNS);
    for (size_t i = 0; all && i < config->address_count; i++)
        all = config->addresses[i].family != 4 || contains(&id->chain, config->addresses[i].ip, 4, TAG_IP);
    return all;
}

/* The certificate that is kept; false: none, or one that is not for this key, these names or this time. Earlier
 * versions kept it as DER. */
static bool own_certificate(tls_identity *id, bmb_tls_state *s, uint8_t *room)
{
    size_t size = load(s, CERTIFICATE_RECORD, room, PEM_CERTIFICATE_MOST - 1);
    bool pem = size > 0 && room[0] == '-';
    room[size] = '\0';
    return size > 0 && mbedtls_x509_crt_parse(&id->chain, room, size + pem) == 0 &&
           mbedtls_pk_check_pair(&id->chain.pk, &id->key) == 0 && bmb_tls_identity_names(id, s) &&
           !bmb_tls_identity_ends(id, s);
}

const char *bmb_tls_identity_own(tls_identity *id, bmb_tls_state *s)
{
    uint8_t room[PEM_CERTIFICATE_MOST];
    size_t size;
    mbedtls_x509_crt_init(&id->chain);
    mbedtls_pk_init(&id->key);
    const char *trouble = own_key(&id->key, s);
    if (trouble != NULL || own_certificate(id, s, room)) return trouble;
    mbedtls_x509_crt_free(&id->chain);
    mbedtls_x509_crt_init(&id->chain);
    int n = write_certificate(s, &id->key, room);
    if (n <= 0 || mbedtls_x509_crt_parse_der(&id->chain, room + CERTIFICATE_MOST - n, (size_t)n) != 0)
        return "a certificate could not be made: are there too many names and addresses?";
    const mbedtls_x509_buf *der = &id->chain.raw;
    if (mbedtls_pem_write_buffer("-----BEGIN CERTIFICATE-----\n", "-----END CERTIFICATE-----\n", der->p, der->len, room,
                                 sizeof room, &size) != 0)
        return "the certificate could not be written";
    keep(s, CERTIFICATE_RECORD, room, size - 1);
    return NULL;
}

/* What a key allocates when it is first used stays with it: that is not to be a connection's memory. */
static bool warm_up(mbedtls_pk_context *key, bmb_tls_state *s)
{
    unsigned char sum[32] = { 1 }, signature[MBEDTLS_PK_SIGNATURE_MAX_SIZE];
    size_t size;
    for (int i = 0; i < 2; i++)
        if (mbedtls_pk_sign(key, MBEDTLS_MD_SHA256, sum, sizeof sum, signature, &size, bmb_tls_random, s) != 0)
            return false;
    return true;
}

static const char *judge_key(const mbedtls_pk_context *key)
{
    size_t bits = mbedtls_pk_get_bitlen(key);
    if (mbedtls_pk_can_do(key, MBEDTLS_PK_RSA))
        return bits == 2048 ? NULL
                            : "an RSA key has to have 2048 bits, since larger ones hold pictures up; better is one on "
                              "the curve P-256";
    return mbedtls_pk_can_do(key, MBEDTLS_PK_ECDSA) ? NULL : "the key is of a kind that cannot be used here";
}

/* With what stands around it, it has to go into one record. */
static bool fits_record(const mbedtls_x509_crt *chain)
{
    size_t size = 16;
    for (; chain != NULL; chain = chain->next) size += 3 + chain->raw.len;
    return size <= BMB_TLS_RECORD_OUT;
}

const char *bmb_tls_identity_parse(tls_identity *id, bmb_tls_state *s, const char *certificate, const char *key)
{
    mbedtls_x509_crt_init(&id->chain);
    mbedtls_pk_init(&id->key);
    int err = mbedtls_x509_crt_parse(&id->chain, (const unsigned char *)certificate, strlen(certificate) + 1);
    if (err != 0)
        return err > 0 || err == MBEDTLS_ERR_X509_ALLOC_FAILED || s->fixed.failed
                   ? "the certificates are too many or too large, or one of them is damaged"
                   : "the certificate is no PEM that can be read";
    err = mbedtls_pk_parse_key(&id->key, (const unsigned char *)key, strlen(key) + 1, NULL, 0);
    if (err != 0 && strstr(key, "ENCRYPTED") != NULL)
        return "the key is locked with a pass phrase; nobody is there to type it";
    if (err != 0) return "the key is no PEM that can be read, or of a kind that cannot be used here";
    const char *trouble = judge_key(&id->key);
    if (trouble != NULL) return trouble;
    if (mbedtls_pk_check_pair(&id->chain.pk, &id->key) != 0)
        return "the key is another one than the first certificate's";
    if (!fits_record(&id->chain)) return "the chain of certificates is larger than what is sent at once";
    return warm_up(&id->key, s) ? NULL : "the key does not work, or needs more memory than there is";
}

void bmb_tls_identity_free(tls_identity *id)
{
    mbedtls_x509_crt_free(&id->chain);
    mbedtls_pk_free(&id->key);
}
