/* Who somebody is, and what he may: judges what clients say of themselves, in fixed memory.
 *
 * Nonces need none (serve/nonce.h), but for those that somebody used who knew the password: of each the counts are
 * noted, so that nothing can be said twice. Where there is no room, the oldest is forgotten and every nonce of before
 * counts as stale.
 *
 * Guessing. Wrong words are counted by the name that they were said for, whoever said them, so that thousands of
 * addresses guess no faster than one. A name has a few wrong ones free, then one every two seconds; what comes beyond
 * that is answered "later", whether it is right or not. Two rules see to it that nobody who knows the password stays
 * out: a place that was right before has an allowance of its own, and what was right and answered "later" is let in
 * when the same place says it again a minute after. Only right words take a place in that list, so that guesses cannot
 * fill it. Tokens are drawn, too long to be guessed, and not counted.
 */
#ifndef BMB_TALK_GUARD_H
#define BMB_TALK_GUARD_H

#include "base/context.h"
#include "serve/credentials.h"
#include "serve/nonce.h"

#define BMB_GUARD_NONCES 32u
#define BMB_GUARD_NAMES 32u  /* rows for names; two that share one share its allowance */
#define BMB_GUARD_PLACES 16u /* from where somebody was right */
#define BMB_GUARD_PROVEN 8u  /* right, and answered "later" */
#define BMB_GUARD_SIGN_INS BMB_SIGN_INS_MOST
#define BMB_GUARD_OWN_SIGN_INS 4u /* of one account */
#define BMB_GUARD_LINKS 16u

typedef struct bmb_seen {
    bmb_nonce nonce;  /* made_us 0: free */
    uint32_t highest; /* count that was seen with it, and a bit for each of the 64 before */
    uint64_t before;
} bmb_seen;

/* An allowance of wrong words: when it will be whole again (a generic cell rate). */
typedef uint64_t bmb_allowance;

/* A host that was right for a name of this row. */
typedef struct bmb_place {
    bmb_addr host; /* family 0: free */
    uint8_t row;
    uint64_t used_us;
    bmb_allowance wrong; /* of a place that is known; of what was right too early not used */
} bmb_place;

/* Somebody who signed in at the page. The cookie is number, and what it is signed with. */
typedef struct bmb_sign_in {
    uint16_t account; /* index plus 1; 0: free */
    uint8_t secret[16];
    uint32_t serial;
    uint64_t since_us, seen_us;
    bmb_addr peer;
} bmb_sign_in;

/* A link that may be used so often, or that was called back; until it would have ended anyway. */
typedef struct bmb_lent_link {
    uint32_t number; /* 0: free */
    uint32_t until_s;
    uint16_t used;
    bool ended;
} bmb_lent_link;

#if BMB_WITH_ACCESS
/* What is remembered of clients; there with access only. */
typedef struct bmb_guard_memory {
    bmb_seen seen[BMB_GUARD_NONCES];
    bmb_allowance wrong[BMB_GUARD_NAMES]; /* by row */
    bmb_place known[BMB_GUARD_PLACES], proven[BMB_GUARD_PROVEN];
    bmb_sign_in sign_ins[BMB_GUARD_SIGN_INS];
    bmb_lent_link links[BMB_GUARD_LINKS];
    uint16_t told; /* whose sign-in the last proof told of; 0: of none */
} bmb_guard_memory;

typedef struct bmb_guard {
    const bmb_access *access; /* NULL: none was given, everybody may all but administer */
    uint8_t key[BMB_NONCE_KEY];
    uint32_t serial, doors;
    uint64_t look_us;  /* when passes that may end are looked at; 0: nobody has one */
    uint64_t floor_us; /* nonces from before this that are not in `seen` are stale */
    uint64_t keep_us;  /* when links are to be stored; 0: nothing changed */
    bmb_guard_memory *kept;
} bmb_guard;
#else
typedef struct bmb_guard {
    const bmb_access *access;
} bmb_guard;
#endif

typedef enum bmb_proof {
    BMB_PROOF_NONE = 0, /* nothing was said */
    BMB_PROOF_GOOD,
    BMB_PROOF_STALE, /* right, but the nonce is not valid any more */
    BMB_PROOF_WRONG,
    BMB_PROOF_PAUSED /* "later": there were too many wrong ones for this name; nothing is said of this one */
} bmb_proof;

/* What is known of whoever asks for something. */
typedef struct bmb_who {
    uint16_t account; /* index plus 1; 0: nobody */
    uint8_t proof;    /* bmb_proof */
    bool local;       /* a program on the device itself: as long as there are no accounts, its owner's */
    uint64_t lent;    /* feeds that a link allows */
} bmb_who;

/* By what right somebody watches, who may lose it while he does. */
typedef struct bmb_pass {
    uint16_t account; /* as above; BMB_BY_LINK */
    uint32_t number;  /* of the lent link; of somebody who has an account, of his sign-in at the page; 0: otherwise */
    uint32_t until_s; /* end of the link; 0: none by time */
} bmb_pass;

#define BMB_BY_LINK UINT16_MAX /* nobody's account: by a lent link */

void bmb_guard_open(bmb_guard *g, bmb_context *x);
/* Somebody claims to be somebody. bound: what its nonces are bound to; 0: nothing, which asks for counts. secure: over
 * TLS. */
bmb_proof bmb_guard_judge(bmb_guard *g, bmb_context *x, const bmb_claim *claim, const char *method, uint64_t bound,
                          bool secure, const bmb_addr *peer, uint16_t *account);
/* A fresh nonce. */
void bmb_guard_nonce(bmb_guard *g, bmb_context *x, uint64_t bound, char out[BMB_NONCE_SIZE]);
/* For ways in that judge by themselves. account: index plus 1; 0: none of that name. */
uint16_t bmb_guard_account(const bmb_guard *g, bmb_text name, bool program);
/* What comes of words that are right or not, said for `name` by `peer`. */
bmb_proof bmb_guard_conclude(bmb_guard *g, bmb_context *x, const bmb_addr *peer, bmb_text name, uint16_t account,
                             bool right);
/* A program's token; 0: nobody's, which is told. */
uint16_t bmb_guard_token(bmb_guard *g, bmb_context *x, const bmb_addr *peer, bmb_text token);

/* May he do this to feed `number`? Open feeds may be watched by everybody. */
bool bmb_guard_may(const bmb_guard *g, const bmb_context *x, const bmb_who *who, bmb_role role, size_t number);
/* … and to any feed, or the device. */
bool bmb_guard_may_any(const bmb_guard *g, const bmb_context *x, const bmb_who *who, bmb_role role);
bmb_role bmb_guard_role(const bmb_guard *g, const bmb_who *who);

/* The feeds that he may watch, a bit for each. */
uint64_t bmb_guard_feeds(const bmb_guard *g, const bmb_context *x, const bmb_who *who);

/* Sign-ins of the page. */
#define BMB_COOKIE "bambino"
#define BMB_COOKIE_SIZE 36u /* characters: place, and secret */
void bmb_guard_sign_in(bmb_guard *g, bmb_context *x, uint16_t account, const bmb_addr *peer, char out[BMB_COOKIE_SIZE]);
/* NULL: no such sign-in. */
bmb_sign_in *bmb_guard_signed_in(bmb_guard *g, const bmb_context *x, bmb_text cookie);
/* For a device that is opened anew. */
size_t bmb_guard_copy(const bmb_guard *g, const bmb_context *x, bmb_sign_in_copy *out);
void bmb_guard_take(bmb_guard *g, const bmb_context *x, const bmb_sign_in_copy *copies, size_t count);
/* Lent links. true: it allows to watch feed `number` now; a viewer who comes by it is counted by _use. */
bool bmb_guard_link(bmb_guard *g, const bmb_context *x, bmb_text link, size_t number, bmb_link_terms *out);
/* Was it used as often as it may be? */
bool bmb_guard_link_spent(const bmb_guard *g, const bmb_link_terms *link);
/* false: it was used as often as it may be, or no room is left to count. */
bool bmb_guard_link_use(bmb_guard *g, const bmb_context *x, const bmb_link_terms *link);
/* Makes one: BMB_UNKNOWN: it is to end by time, and what time it is is not known; BMB_UNSUPPORTED: there is no key. */
bmb_err bmb_guard_lend(bmb_guard *g, bmb_context *x, size_t number, uint32_t minutes, uint16_t viewers,
                       bmb_link_terms *out, char text[BMB_LINK_SIZE]);
/* until_s: when it would end by itself and need not be remembered any longer; 0: not known, for ever. BMB_LIMIT: so
 * many are called back already that no more can be remembered. */
bmb_err bmb_guard_link_end(bmb_guard *g, const bmb_context *x, uint32_t number, uint32_t until_s);
void bmb_guard_load(bmb_guard *g, bmb_context *x); /* what is remembered of links */
/* Stores what is to be remembered of links over a restart; returns when it wants to be called again. */
uint64_t bmb_guard_tend(bmb_guard *g, bmb_context *x);
void bmb_guard_close(bmb_guard *g, bmb_context *x);

/* Does it still hold, but for its account, which changes at once for all? */
bool bmb_guard_holds(bmb_guard *g, const bmb_context *x, const bmb_pass *pass);

/* Other accounts: sign-ins of those that are gone or changed end. to[i]: what account i is now, plus 1; 0: gone. */
void bmb_guard_change(bmb_guard *g, const bmb_access *access, const uint16_t *to);

#endif
