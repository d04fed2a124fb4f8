#include "serve/rtsp_answer.h"

#include <string.h>

#include "bambino/version.h"
#include "serve/reason.h"

void bmb_rtsp_begin(bmb_writer *w, unsigned status, const bmb_rtsp_parse *request)
{
    const char *phrase = bmb_reason(BMB_REASON_RTSP, status);
    bmb_put_text(w, "RTSP/1.0 %u %s\r\n", status, phrase != NULL ? phrase : "Internal Server Error");
    if (request->has_cseq) bmb_put_text(w, "CSeq: %s\r\n", request->cseq);
    bmb_put_str(w, "Server: Bambino/" BMB_VERSION "\r\n");
    if (request->close) bmb_put_str(w, "Connection: close\r\n");
}

void bmb_rtsp_end(bmb_writer *w)
{
    bmb_put_str(w, "\r\n");
}

void bmb_rtsp_body(bmb_writer *w, const char *type, const void *body, size_t size)
{
    bmb_put_text(w, "Content-Type: %s\r\nContent-Length: %u\r\n\r\n", type, (unsigned)size);
    bmb_put_bytes(w, body, size);
}

void bmb_rtsp_status(bmb_writer *w, unsigned status, const bmb_rtsp_parse *request)
{
    bmb_rtsp_begin(w, status, request);
    if (status == 405 || status == 501) bmb_put_str(w, BMB_RTSP_PUBLIC);
    if (status == 453 || status == 503) bmb_put_str(w, "Retry-After: 5\r\n");
    if (status == 551) bmb_put_text(w, "Unsupported: %s\r\n", request->require);
    bmb_rtsp_end(w);
}

void bmb_rtsp_addresses(bmb_writer *w, const bmb_rtsp_parse *request, const bmb_config *config, uint64_t removed,
                        bool secure)
{
    bmb_put_str(w, "There are:\n");
    for (size_t i = 0; i < config->feed_count; i++) {
        size_t size = strlen(request->host) + strlen(config->feeds[i].name) + sizeof "rtsps:///\n";
        if ((removed >> i & 1) != 0) continue;
        if ((size_t)(w->end - w->at) < size) return;
        bmb_put_text(w, "%s://%s/%s\n", bmb_outlet_scheme(BMB_OUTLET_RTSP, secure), request->host,
                     config->feeds[i].name);
    }
}
