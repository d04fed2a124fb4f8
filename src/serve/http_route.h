/* What a request asks for, and the heads of answers. No socket and no device is known here. */
#ifndef BMB_SERVE_HTTP_ROUTE_H
#define BMB_SERVE_HTTP_ROUTE_H

#include "bambino/device.h"
#include "base/bytes.h"
#include "serve/formats.h"
#include "serve/http_parse.h"

typedef enum bmb_route_kind {
    BMB_ROUTE_ERROR,  /* status */
    BMB_ROUTE_ASSET,  /* asset */
    BMB_ROUTE_STATUS, /* the JSON document */
    BMB_ROUTE_FEED,   /* feed, format */
    BMB_ROUTE_STILL,  /* feed, width, height: a picture of its own, in a size of the camera's */
    BMB_ROUTE_SDP,    /* feed: description of its multicast group */
    BMB_ROUTE_TUNNEL  /* one half of an RTSP conversation */
} bmb_route_kind;

typedef struct bmb_route {
    bmb_route_kind kind;
    uint16_t status;
    uint16_t feed;
    uint16_t width, height;
    const bmb_format *format;
    const bmb_asset *asset;
} bmb_route;

/* Decides on a complete or refused request. */
bmb_route bmb_http_route(const bmb_config *config, const bmb_http_parse *request);

/* What an answer's head depends on besides its document. */
typedef struct bmb_http_terms {
    int64_t wall_us;      /* Unix time, for Date; 0: not known */
    bool keep_alive, old; /* old: to a request of HTTP/1.0 */
    bool head_only;
} bmb_http_terms;

/* The head of an answer; reason.c must have the status. length SIZE_MAX: chunked, or until the connection closes with
 * HTTP/1.0. */
void bmb_http_head(bmb_writer *w, unsigned status, const char *type, size_t length, const bmb_http_terms *terms);
/* A whole answer for an error: head and one line of text, which is left out for HEAD. With 404 the line is followed by
 * the addresses that there are, as many as fit, but for feeds with a bit in `removed`. config NULL: it is not. rtsp: it
 * was asked at an outlet of RTSP. */
void bmb_http_error(bmb_writer *w, unsigned status, const bmb_http_terms *terms, const bmb_config *config,
                    uint64_t removed, bool rtsp);

#endif
