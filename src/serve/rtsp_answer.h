/* RTSP answers (RFC 2326 6, 7). */
#ifndef BMB_SERVE_RTSP_ANSWER_H
#define BMB_SERVE_RTSP_ANSWER_H

#include "bambino/device.h"
#include "base/bytes.h"
#include "serve/rtsp_parse.h"

/* Status line, CSeq and Server; more headers may follow, then bmb_rtsp_end. */
void bmb_rtsp_begin(bmb_writer *w, unsigned status, const bmb_rtsp_parse *request);
/* The blank line, or the body with its headers. */
void bmb_rtsp_end(bmb_writer *w);
void bmb_rtsp_body(bmb_writer *w, const char *type, const void *body, size_t size);
/* A whole answer of a status alone, with the headers that belong to it (Public for 405, Unsupported for 551 …). */
void bmb_rtsp_status(bmb_writer *w, unsigned status, const bmb_rtsp_parse *request);

/* The addresses of all feeds, a line each, as the client would write them, as far as there is room. removed: a bit for
 * each feed that is out of service. */
void bmb_rtsp_addresses(bmb_writer *w, const bmb_rtsp_parse *request, const bmb_config *config, uint64_t removed,
                        bool secure);

#define BMB_RTSP_PUBLIC "Public: OPTIONS, DESCRIBE, SETUP, PLAY, PAUSE, TEARDOWN, GET_PARAMETER, SET_PARAMETER\r\n"

#endif
