/* What the files of the TLS port share. */
#ifndef BMB_TLS_STATE_H
#define BMB_TLS_STATE_H

#include <mbedtls/ssl.h>
#include <mbedtls/ssl_ticket.h>

#include "bambino/tls.h"
#include "tls/arena.h"
#include "tls/sizes.h"

#define BMB_TLS_LISTENERS 10u /* as many outlets as a device has */

typedef enum tls_phase {
    TLS_FREE = 0,
    TLS_DIALLING, /* there is no connection yet */
    TLS_SHAKING,
    TLS_OPEN,
    TLS_FAILED, /* the core is told, and closes it */
    TLS_CLOSING /* closed by the core; what it had said is still sent */
} tls_phase;

typedef struct tls_conn {
    uint8_t phase; /* tls_phase */
    bool runnable; /* shaking: there is more to do at once */
    bool client, pinned, trusted, resumed;
    bool finishing, ended; /* no more will be said, which the peer was told */
    uint8_t events;        /* that the core waits for */
    uint8_t watched, heard;
    bool spoke;  /* the peer, and it begins like TLS */
    bmb_err why; /* failed */
    bmb_sock sock;
    uint32_t token, room; /* room: bytes that may still be taken in this call */
    uint64_t until_us;    /* closing */
    bmb_addr peer;
    uint8_t pin[32];
    uint8_t to_sign[64], to_sign_size, to_sign_md; /* what the next step signs */
    mbedtls_ssl_context ssl;
    bmb_arena arena;
    struct bmb_tls_state *state;
} tls_conn;

/* A key, and the certificates that go with it. */
typedef struct tls_identity {
    mbedtls_x509_crt chain;
    mbedtls_pk_context key;
} tls_identity;

typedef struct bmb_tls_state {
    bmb_tls *tls;
    const bmb_port *under;
    size_t count, accepted; /* connections; those that are accepted come first */
    bmb_arena fixed;
    mbedtls_ssl_config server, client;
    mbedtls_ssl_ticket_context tickets;
    tls_identity identity;
    bool own;           /* the identity is ours, and renewed */
    uint64_t look_us;   /* … when it has come to that, which is looked at next */
    const char *unkept; /* why the own identity is not kept; NULL: it is */
    uint64_t told_us;   /* of a failure, … */
    unsigned told;      /* … after so many others */
    bmb_sock listeners[BMB_TLS_LISTENERS];
    bmb_sock dialled; /* last … */
    bmb_addr to;      /* … and where to: for what is told of it */
    size_t turn;      /* whose it is to be reported first */
    bmb_tls_figures figures;
    uint8_t record[BMB_TLS_RECORD_OUT]; /* what becomes one */
    tls_conn conns[];
} bmb_tls_state;

int bmb_tls_random(void *state, unsigned char *out, size_t size);
/* Returns whose it was before. */
bmb_arena *bmb_tls_enter(bmb_tls_state *s, bmb_arena *arena);

/* connection.c */
int bmb_tls_sign_later(mbedtls_ssl_context *ssl, mbedtls_x509_crt *crt, mbedtls_md_type_t md, const unsigned char *sum,
                       size_t size);
int bmb_tls_sign_now(mbedtls_ssl_context *ssl, unsigned char *out, size_t *size, size_t room);
bmb_err bmb_tls_begin(tls_conn *c, bmb_sock sock, bool client, const uint8_t *pin);
/* Goes on until it has to wait, or the time is over. */
void bmb_tls_shake(tls_conn *c, uint64_t until_us);
bmb_err bmb_tls_say(tls_conn *c, const bmb_slice *slices, size_t count, size_t *taken);
bmb_err bmb_tls_hear(tls_conn *c, void *out, size_t room, size_t *got);
bool bmb_tls_flush(tls_conn *c); /* true: nothing is left */
bool bmb_tls_has_more(const tls_conn *c);
void bmb_tls_finish(tls_conn *c);
void bmb_tls_end(tls_conn *c); /* closes the connection below, and gives its memory back */

/* identity.c: each returns NULL, or why not. */
const char *bmb_tls_identity_parse(tls_identity *id, bmb_tls_state *s, const char *certificate, const char *key);
const char *bmb_tls_identity_own(tls_identity *id, bmb_tls_state *s);
void bmb_tls_identity_free(tls_identity *id);
bool bmb_tls_identity_names(const tls_identity *id, const bmb_tls_state *s); /* all that the device is called */
bool bmb_tls_identity_ends(const tls_identity *id, const bmb_tls_state *s);  /* soon, or has ended */
void bmb_tls_fingerprint(const mbedtls_x509_crt *crt, uint8_t out[32]);

#endif
