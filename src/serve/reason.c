#include "serve/reason.h"

#include <stddef.h>
#include <stdint.h>

#include "bambino/options.h"

#define BOTH (BMB_REASON_HTTP | BMB_REASON_RTSP)

static const struct {
    const char *phrase;
    uint16_t status;
    uint8_t of;
} rows[] = {
    { "OK", 200, BOTH },
    { "Bad Request", 400, BOTH },
    { "Not Found", 404, BOTH },
    { "Method Not Allowed", 405, BOTH },
    { "Request Timeout", 408, BMB_REASON_HTTP },
    { "Request Time-out", 408, BMB_REASON_RTSP },
    { "Conflict", 409, BMB_REASON_HTTP },
    { "Content Too Large", 413, BMB_REASON_HTTP },
    { "URI Too Long", 414, BMB_REASON_HTTP },
    { "Request-URI Too Large", 414, BMB_REASON_RTSP },
    { "Unsupported Media Type", 415, BMB_REASON_RTSP },
    { "Request Header Fields Too Large", 431, BMB_REASON_HTTP },
    { "Parameter Not Understood", 451, BMB_REASON_RTSP },
    { "Not Enough Bandwidth", 453, BMB_REASON_RTSP },
    { "Session Not Found", 454, BMB_REASON_RTSP },
    { "Method Not Valid in This State", 455, BMB_REASON_RTSP },
    { "Aggregate Operation Not Allowed", 459, BMB_REASON_RTSP },
    { "Unsupported Transport", 461, BMB_REASON_RTSP },
    { "Internal Server Error", 500, BMB_REASON_RTSP },
    { "Not Implemented", 501, BMB_REASON_RTSP },
    { "Service Unavailable", 503, BOTH },
    { "HTTP Version Not Supported", 505, BMB_REASON_HTTP },
    { "RTSP Version Not Supported", 505, BMB_REASON_RTSP },
    { "Option not supported", 551, BMB_REASON_RTSP },
#if BMB_WITH_ACCESS
    { "No Content", 204, BMB_REASON_HTTP },
    { "Moved Permanently", 301, BMB_REASON_RTSP },
    { "Not Modified", 304, BMB_REASON_HTTP },
    { "Permanent Redirect", 308, BMB_REASON_HTTP },
    { "Unauthorized", 401, BOTH },
    { "Forbidden", 403, BOTH },
    { "Misdirected Request", 421, BMB_REASON_HTTP },
    { "Too Many Requests", 429, BMB_REASON_HTTP },
#endif
#if BMB_WITH_SERVICE
    { "Created", 201, BMB_REASON_HTTP },
    { "Accepted", 202, BMB_REASON_HTTP },
    { "Precondition Failed", 412, BMB_REASON_HTTP },
    { "Unsupported Media Type", 415, BMB_REASON_HTTP },
    { "Unprocessable Content", 422, BMB_REASON_HTTP },
    { "Precondition Required", 428, BMB_REASON_HTTP },
    { "Internal Server Error", 500, BMB_REASON_HTTP },
#endif
};

const char *bmb_reason(bmb_reason_of protocol, unsigned status)
{
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (rows[i].status == status && (rows[i].of & protocol) != 0) return rows[i].phrase;
    return NULL;
}
