/* The path of an address as clients write it, made plain: percent-encoded characters are decoded, runs of slashes
 * become one, and what stands before it in an absolute address (RFC 9112 3.2.2) and behind it (query, fragment) is left
 * out. It is fed character by character, so that an address may be longer than any buffer.
 */
#ifndef BMB_SERVE_PATH_H
#define BMB_SERVE_PATH_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/options.h"
#include "serve/credentials.h"

/* Longest path that anything could have, and one more: "/" + name + extension; or that behind "/lent/" + link. */
#define BMB_PATH_MAX (BMB_WITH_ACCESS ? 84u : 40u)

typedef struct bmb_path {
    char text[BMB_PATH_MAX]; /* without a NUL */
    uint8_t size;            /* BMB_PATH_MAX: too long to be anything that exists */
    uint8_t part;            /* where in the address the next character stands */
    uint8_t escape;          /* hexadecimal digits still to come … */
    uint8_t value;           /* … and what was read of them */
} bmb_path;

void bmb_path_reset(bmb_path *p); /* the address may be absolute or a path */
void bmb_path_feed(bmb_path *p, const char *text, size_t size);
/* The same for a path alone, which may be empty. */
void bmb_path_of(bmb_path *p, const char *text, size_t size);
/* Cuts "/lent/LINK" off its beginning, and tells the link; size 0: it does not begin so. The link is in p->text, behind
 * what is left. */
/* A part of it without that end, such as ".avpf", in any case; false: it has another one. */
bool bmb_path_drop_end(const char *at, size_t *size, const char *end);
bmb_text bmb_path_take_link(bmb_path *p);
/* ASCII, regardless of case. */
bool bmb_path_is(const bmb_path *p, const char *literal);

#endif
