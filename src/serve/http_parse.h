/* The only place that knows which library parses HTTP requests: bytes in, one request out.
 *
 * Nothing of a request is stored but its path, so its size costs no memory; its limits are counted.
 */
#ifndef BMB_SERVE_HTTP_PARSE_H
#define BMB_SERVE_HTTP_PARSE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/options.h"
#include "serve/credentials.h"
#include "serve/path.h"

#define BMB_HTTP_TARGET_MAX 1024u /* longer: 414 */
#define BMB_HTTP_HEADER_MAX 8192u /* request line and headers; longer: 431 */

/* The header fields that mean something here; those from BMB_FIELD_KEPT on are kept as they came, where the caller
 * gives room for it. */
typedef enum bmb_http_field {
    BMB_FIELD_SESSION_COOKIE = 0,
    BMB_FIELD_KEPT,
    BMB_FIELD_HOST = BMB_FIELD_KEPT,
    BMB_FIELD_AUTHORIZATION,
    BMB_FIELD_COOKIE,
    BMB_FIELD_ORIGIN,
    BMB_FIELD_USER_AGENT, /* its beginning */
    BMB_FIELD_REFERER,    /* its beginning */
    BMB_FIELD_LAST_EVENT,
    BMB_FIELD_IF_NONE_MATCH,
    BMB_FIELD_IF_MATCH,
    BMB_FIELD_TYPE,
    BMB_FIELD_EXPECT,
    BMB_FIELDS
} bmb_http_field;

typedef struct bmb_kept_field {
    uint16_t at, size;
} bmb_kept_field;

typedef enum bmb_http_method {
    BMB_HTTP_GET,
    BMB_HTTP_HEAD,
    BMB_HTTP_POST,
    BMB_HTTP_PUT, /* from here on for those who serve them */
    BMB_HTTP_PATCH,
    BMB_HTTP_DELETE,
    BMB_HTTP_OTHER
} bmb_http_method;

/* State of one connection; zero it to begin, then bmb_http_parse_reset. */
typedef struct bmb_http_parse {
    uint16_t target_size;
    uint16_t header_size;
    uint16_t error;  /* status to answer with, 0: none */
    uint8_t method;  /* bmb_http_method */
    uint8_t field;   /* which known field name the present one may still become … */
    uint8_t matched; /* … and how many of its characters are there; UINT8_MAX: it is none */
    uint8_t scan;    /* where in the head the look at its form is */
    uint8_t before;  /* … and the character before */
    bool in_value;   /* of that field */
    bool host;       /* a Host header was there */
    bool authorized; /* so was Authorization */
    bool begun;      /* at least one byte of the request arrived */
    bool complete;
    bool keep_alive;
    bool old; /* HTTP/1.0: no chunked answers */
#if BMB_WITH_SERVICE
    bool serves;        /* requests may have bodies, and methods that change things */
    bool asks_for_room; /* the head is there, a body follows: bmb_http_parse_body or bmb_http_parse_refuse is due */
    uint32_t body_size, body_room;
    uint8_t *body; /* the caller's; NULL: none yet */
#endif
    uint32_t cookie;     /* hash of x-sessioncookie, which joins the two halves of a tunnel; 0: there was none */
    uint64_t library[4]; /* the library's own state */
    bmb_path path;       /* of the target, made plain */
#if BMB_WITH_ACCESS
    char *kept; /* what was kept of the fields' values, in memory of the caller's … */
    uint16_t kept_size, kept_room;
    bmb_kept_field value[BMB_FIELDS - BMB_FIELD_KEPT]; /* … where each stands in it; size 0: it was not there */
#endif
} bmb_http_parse;

void bmb_http_parse_reset(bmb_http_parse *p);
/* Gives it room for what is to be kept, which must stay until the request has been acted on. */
void bmb_http_parse_keep(bmb_http_parse *p, void *memory, size_t room);
/* The value of a field that was kept. */
bmb_text bmb_http_parse_value(const bmb_http_parse *p, bmb_http_field field);
/* Gives it room for the body that it asks for, or refuses it with a status. */
void bmb_http_parse_body(bmb_http_parse *p, uint8_t *memory, size_t room);
/* Consumes bytes up to the end of one request and returns how many. Afterwards `complete` is set, or `error` is the
 * status of the refusal (400, 405, 413, 414, 431, 505), or more bytes are needed. A POST with a cookie is complete with
 * its head: what follows is the tunnel's; other ones must not have a body. */
size_t bmb_http_parse_feed(bmb_http_parse *p, const uint8_t *data, size_t size);

#endif
