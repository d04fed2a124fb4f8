/* What a request asks for, and the heads of answers. No socket and no device is known here. */
#ifndef BMB_SERVE_HTTP_ROUTE_H
#define BMB_SERVE_HTTP_ROUTE_H

#include "bambino/device.h"
#include "base/bytes.h"
#include "serve/formats.h"
#include "serve/http_parse.h"

typedef enum bmb_route_kind {
    BMB_ROUTE_ERROR,   /* status */
    BMB_ROUTE_ASSET,   /* asset */
    BMB_ROUTE_STATUS,  /* the JSON document */
    BMB_ROUTE_FEED,    /* feed, format */
    BMB_ROUTE_STILL,   /* feed, width, height: a picture of its own, in a size of the camera's */
    BMB_ROUTE_SDP,     /* feed: description of its multicast group */
    BMB_ROUTE_TUNNEL,  /* one half of an RTSP conversation */
    BMB_ROUTE_EVENTS,  /* what happened, and what happens */
    BMB_ROUTE_SERVICE, /* the program's own; role */
    /* Who may do what. All but WHO are asked for by POST. */
    BMB_ROUTE_WHO,         /* who asks, and what he needs to sign in */
    BMB_ROUTE_SIGN_IN,     /* keeps who asks signed in */
    BMB_ROUTE_SIGN_OUT,    /* … and not any longer */
    BMB_ROUTE_END_SIGN_IN, /* value: somebody else's, by its number */
    BMB_ROUTE_LEND,        /* feed, value: minutes, times: makes a link */
    BMB_ROUTE_END_LINK     /* value, until: calls the link of that number back */
} bmb_route_kind;

typedef struct bmb_route {
    bmb_route_kind kind;
    uint16_t status;
    uint16_t feed;
    bool of_feed; /* an error 405: about this feed */
    uint16_t width, height;
    uint32_t value; /* of an error 405: 1: it may be posted; EVENTS: 1: with figures */
    uint16_t times;
    uint8_t role;   /* SERVICE: bmb_role that it needs */
    uint32_t until; /* END_LINK: Unix time; 0: not said */
    bmb_text link;  /* that it was asked for with; size 0: none */
    const bmb_format *format;
    const bmb_asset *asset;
} bmb_route;

/* Are there settings to be asked for? The page wants to know before it asks. */
bool bmb_http_has_settings(const bmb_config *config);
/* The method by the program's name of it. */
bmb_method bmb_http_method_of(uint8_t method);
/* Decides on a complete or refused request. A lent link is cut off its path. */
bmb_route bmb_http_route(const bmb_config *config, bmb_http_parse *request);

/* What an answer's head depends on besides its document. */
typedef struct bmb_http_terms {
    int64_t wall_us;      /* Unix time, for Date; 0: not known */
    bool keep_alive, old; /* old: to a request of HTTP/1.0 */
    bool head_only;
#if BMB_WITH_PAGE
    const bmb_asset *asset; /* that it is about; NULL: none */
#endif
#if BMB_WITH_ACCESS
    const bmb_config *config; /* who may show what, and read it; NULL: nobody but our own page */
    const char *origin;       /* another page's, which may read this; NULL: none */
    const char *extra;        /* further lines; NULL: none */
    const char *etag;         /* of the answer; NULL: none */
#endif
#if BMB_WITH_ACCESS || BMB_WITH_FOLLOWING
    const char *why; /* of a refusal, a line of its document; NULL: it says enough */
#endif
} bmb_http_terms;

/* Further lines of the head; NULL: none. */
static inline const char *bmb_http_extra(const bmb_http_terms *terms)
{
#if BMB_WITH_ACCESS
    return terms->extra;
#else
    (void)terms;
    return NULL;
#endif
}

static inline void bmb_http_set_extra(bmb_http_terms *terms, const char *extra)
{
#if BMB_WITH_ACCESS
    terms->extra = extra;
#else
    (void)terms, (void)extra;
#endif
}

/* The head of an answer; reason.c must have the status. length SIZE_MAX: chunked, or until the connection closes with
 * HTTP/1.0. */
void bmb_http_head(bmb_writer *w, unsigned status, const char *type, size_t length, const bmb_http_terms *terms);
/* A whole answer for an error: head and one line of text, which is left out for HEAD. With 404 the line is followed by
 * the addresses that there are, as many as fit, but for feeds with a bit in `removed`. config NULL: it is not. rtsp: it
 * was asked at an outlet of RTSP. */
void bmb_http_error(bmb_writer *w, unsigned status, const bmb_http_terms *terms, const bmb_config *config,
                    uint64_t removed, bool rtsp);

#endif
