/* RTSP requests and the interleaved data between them, as they fill a connection's buffer. */
#include <stdlib.h>
#include <string.h>

#include "serve/rtsp_answer.h"

#define ROOM 512u /* the least that a connection has */

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    uint8_t rx[ROOM], out[1024];
    size_t held = 0;
    bmb_rtsp_parse p;
    if (size < 1) return 0;
    size_t piece = 1 + data[0];
    data++;
    size--;
    bmb_rtsp_parse_reset(&p);
    while (size > 0) {
        size_t n = size < piece ? size : piece;
        if (n > ROOM - held) n = ROOM - held;
        memcpy(rx + held, data, n);
        held += n;
        data += n;
        size -= n;
        for (;;) {
            bmb_rtsp_data d;
            size_t used = bmb_rtsp_parse_feed(&p, rx, held, ROOM, &d);
            if ((size_t)p.credentials_at + p.credentials_size > used && p.credentials_size > 0) abort();
            if (used > held || (d.data != NULL && (d.data < rx || d.data + d.size > rx + held))) abort();
            if (used == 0 && !p.complete && held == ROOM) abort(); /* stuck */
            memmove(rx, rx + used, held - used);
            held -= used;
            if (p.http) return 0;
            if (p.complete) {
                bmb_writer w = bmb_writer_of(out, sizeof out);
                bmb_rtsp_status(&w, p.error != 0 ? p.error : 551, &p);
                if (w.failed || memchr(out, 0, bmb_written(&w)) != NULL) abort();
                bool broken = p.broken;
                bmb_rtsp_parse_reset(&p);
                if (broken) return 0;
            } else if (used == 0) {
                break;
            }
        }
    }
    return 0;
}
