/* Reason phrases of statuses: of HTTP (RFC 9110 15) and RTSP (RFC 2326 7.1.1), which share many. */
#ifndef BMB_SERVE_REASON_H
#define BMB_SERVE_REASON_H

typedef enum bmb_reason_of { BMB_REASON_HTTP = 1, BMB_REASON_RTSP = 2 } bmb_reason_of;

/* NULL: we say no such status there. */
const char *bmb_reason(bmb_reason_of protocol, unsigned status);

#endif
