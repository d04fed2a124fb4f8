/* Who may watch, and who may change.
 *
 * Whoever runs the device gives it a bmb_access: what anybody may do, and the accounts of those who sign in. The core
 * keeps no password: an account has digests of it, which are worth as much as the password on this device and nothing
 * elsewhere. Accounts may change while the device runs (bmb_access_change()); connections of those who may not watch
 * any more are closed.
 *
 * How people and programs sign in, by outlet:
 *
 *   HTTP    Digest (RFC 7616, SHA-256 and MD5), Bearer (RFC 6750 2.1) for programs, and sign-ins of the page, which are
 *           kept as a cookie. Over TLS also Basic (RFC 7617)
 *   RTSP    Digest (RFC 7616, and as RFC 2069 described it, for players that know no better)
 *   framed  a challenge and an answer, docs/framed.md 5
 *   TCP     nobody is asked: a feed that not everybody may see goes to the device's own host, to those that the outlet
 *           names, and to who sends a program's token as the first line
 *
 * Besides, a feed may be lent: its address then carries what allows it, and ends by itself.
 */
#ifndef BAMBINO_ACCESS_H
#define BAMBINO_ACCESS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/err.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Each contains the one before. */
typedef enum bmb_role {
    BMB_ROLE_NONE = 0,
    BMB_ROLE_WATCH,      /* pictures, sound, descriptions, figures without the peers' addresses */
    BMB_ROLE_ADJUST,     /* controls, stills of another size, key frames */
    BMB_ROLE_ADMINISTER, /* who watches from where, who is signed in, lending */
    BMB_ROLE_COUNT
} bmb_role;

/* "none", "watch", "adjust", "administer"; NULL when out of range. */
const char *bmb_role_name(bmb_role role);

typedef enum bmb_hash { BMB_HASH_SHA256 = 0, BMB_HASH_MD5, BMB_HASH_COUNT } bmb_hash;
#define BMB_SHA256_SIZE 32u
#define BMB_MD5_SIZE 16u

#define BMB_ACCOUNT_NAME_MAX 24u /* with its NUL: a..z A..Z 0..9 . - _ */
#define BMB_ACCOUNTS_MOST 64u
#define BMB_LINK_KEY_SIZE 32u

typedef struct bmb_account {
    char name[BMB_ACCOUNT_NAME_MAX];
    bool program;   /* it has a token instead of a password */
    bmb_role role;  /* at least BMB_ROLE_WATCH */
    uint64_t feeds; /* a bit for each that it counts for, by its index; UINT64_MAX: for all, those to come, too */
    uint8_t sha256[BMB_SHA256_SIZE]; /* person: of "NAME:REALM:PASSWORD" (RFC 7616 3.4.2); program: of the token */
    uint8_t md5[BMB_MD5_SIZE];       /* person: the same, by MD5 */
} bmb_account;

typedef struct bmb_access {
    bmb_role anybody;  /* what they may who do not sign in; not BMB_ROLE_ADMINISTER */
    const char *realm; /* of the digests; 1 to 63 bytes without quotes, backslashes and control characters */
    const bmb_account *accounts;
    size_t account_count;        /* 0 to BMB_ACCOUNTS_MOST */
    const uint8_t *link_key;     /* BMB_LINK_KEY_SIZE bytes that nobody else knows; NULL: nothing is lent */
    const uint32_t *links_ended; /* numbers of links that were called back */
    size_t links_ended_count;
    bool locked; /* there should be accounts, and none could be read: nobody gets in, programs of the device's own host
                    included, but to feeds that are open and with what `anybody` says */
    bool stale;  /* the accounts are those that were read last: they cannot be read any more */
} bmb_access;

#define BMB_LINK_SIZE 37u /* a link's text with its NUL */

#define BMB_LINK_OWNERS UINT16_MAX

/* What a lent link allows. */
typedef struct bmb_link_terms {
    uint32_t number;  /* of the link, for calling it back; drawn by who makes it, not 0 */
    uint32_t until_s; /* Unix time at which it ends; 0: never by time */
    uint16_t viewers; /* how often a viewer may come by it; 0: any number; BMB_LINK_OWNERS: by a program of the owner's,
                         which has the key: also stills of another size */
} bmb_link_terms;

#ifdef __cplusplus
}
#endif
#endif
