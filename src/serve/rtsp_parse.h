/* RTSP requests (RFC 2326) and the interleaved data between them (10.12), taken apart line by line: a request may be
 * longer than any buffer, only what is needed of it is kept.
 */
#ifndef BMB_SERVE_RTSP_PARSE_H
#define BMB_SERVE_RTSP_PARSE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/access.h"
#include "bambino/camera.h"
#include "bambino/options.h"
#include "serve/credentials.h"

#define BMB_RTSP_HEADER_MAX 8192u /* request line and headers together; longer: 400 */
#define BMB_RTSP_BODY_MAX 4096u   /* of a request, skipped; longer: 400 */
#define BMB_RTSP_SESSION_SIZE 16u /* characters of our session identifiers */
#define BMB_RTSP_TRANSPORTS 3u    /* how many of the client's choices are looked at */

typedef enum bmb_rtsp_method {
    BMB_RTSP_OPTIONS,
    BMB_RTSP_DESCRIBE,
    BMB_RTSP_SETUP,
    BMB_RTSP_PLAY,
    BMB_RTSP_PAUSE,
    BMB_RTSP_TEARDOWN,
    BMB_RTSP_GET_PARAMETER,
    BMB_RTSP_SET_PARAMETER,
    BMB_RTSP_NOT_ALLOWED, /* known, and not for a server that only sends: 405 */
    BMB_RTSP_OTHER        /* 501 */
} bmb_rtsp_method;

typedef enum bmb_rtsp_transport_kind { BMB_RTSP_UDP, BMB_RTSP_TCP, BMB_RTSP_MULTICAST } bmb_rtsp_transport_kind;

/* One of a client's choices, in its order of preference. */
typedef struct bmb_rtsp_transport {
    uint8_t kind;
    bool ports : 1;     /* client_port or interleaved was given */
    bool feedback : 1;  /* RTP/AVPF */
    uint16_t rtp, rtcp; /* client ports, or interleaved channels */
} bmb_rtsp_transport;

typedef enum bmb_rtsp_part { BMB_RTSP_LINE, BMB_RTSP_HEADERS, BMB_RTSP_BODY, BMB_RTSP_DATA } bmb_rtsp_part;

typedef struct bmb_rtsp_parse {
    uint8_t part;   /* bmb_rtsp_part */
    uint8_t method; /* bmb_rtsp_method */
    uint16_t error; /* status to refuse with; 0: none */
    uint16_t header_size;
    uint16_t skip; /* bytes of a body, or of interleaved data that is not for us */
    bool complete;
    bool broken;    /* what follows cannot be understood: answer and close */
    bool long_line; /* the rest of a line that was too long is skipped */
    bool has_cseq, has_session, has_transport, required;
    bool close;    /* the client wants the connection closed after the answer */
    bool http;     /* this is no RTSP but an HTTP request; nothing of it was consumed */
    bool track;    /* the address names a track */
    bool wildcard; /* the address is "*" */
#if BMB_WITH_REPEATS
    bool feedback; /* the feed's name has ".avpf" behind it */
#endif
    bool body; /* there was one */
    uint8_t transport_count;
    char cseq[11];           /* as it came, at most 10 digits, NUL-terminated */
    char feed[BMB_NAME_MAX]; /* last parts of the address; in lower case; empty: none, or too long to be a feed's */
    char track_name[8];
    char host[BMB_WITH_IPV6 ? 64 : 32]; /* and port, as the client wrote them; empty: too long */
    char session[BMB_RTSP_SESSION_SIZE + 1];
    char require[32]; /* what an unknown Require asked for, cut to fit */
    bmb_rtsp_transport transport[BMB_RTSP_TRANSPORTS];
#if BMB_WITH_ACCESS
    char link[BMB_LINK_SIZE];                  /* a lent link before the feed; empty: none */
    uint16_t credentials_at, credentials_size; /* in what is consumed now; size 0: there are none */
#endif
} bmb_rtsp_parse;

/* Interleaved data that arrived. */
typedef struct bmb_rtsp_data {
    const uint8_t *data; /* in the caller's buffer; NULL: none */
    uint16_t size;
    uint8_t channel;
} bmb_rtsp_data;

void bmb_rtsp_parse_reset(bmb_rtsp_parse *p);
/* NULL: one that we do not know. */
const char *bmb_rtsp_method_name(bmb_rtsp_method method);
/* Consumes bytes and returns how many; the caller keeps the rest and offers it again with more behind it. `room` is the
 * size of the caller's buffer: a line or packet that can never fit in it is skipped or refused. Afterwards `complete`
 * is set (with error 0, or the status of the refusal), or out->data has a packet, or `credentials` what stood in an
 * Authorization header, or more bytes are needed. */
size_t bmb_rtsp_parse_feed(bmb_rtsp_parse *p, const uint8_t *data, size_t size, size_t room, bmb_rtsp_data *out);

#endif
