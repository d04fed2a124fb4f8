/* Descriptions with odd names: no line of ours may be opened or closed by them. */
#include <stdlib.h>
#include <string.h>

#include "wire/sdp.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    char title[64] = "", out[2048];
    bmb_h264_sets sets = { 0 };
    bmb_sdp s = { .title = title, .origin = { .family = 4 } };
    bmb_sdp_media *m = &s.media[0];
    if (size < 8) return 0;
    s.id = data[0];
    *m = (bmb_sdp_media){ .kind = "video", .describe = data[1] & 1 ? bmb_sdp_h264 : bmb_sdp_jpeg, .codec = &sets };
    s.media_count = data[1] & 16 ? 2 : 1;
    s.origin.family = data[1] & 2 ? 6 : 4;
    s.group.family = data[1] & 4 ? s.origin.family : 0;
    m->mfps = (uint32_t)(data[2] << 8 | data[3]);
    m->kbps = data[4];
    s.control = (data[1] & 8) != 0;
    sets.sps_size = data[5] & 127;
    sets.pps_size = data[6] & 63;
    s.media[1] = *m;
    memcpy(title, data + 8, size - 8 < 63 ? size - 8 : 63);
    bmb_writer w = bmb_writer_of(out, sizeof out);
    bmb_sdp_write(&w, &s);
    size_t n = bmb_written(&w);
    if (n == 0) abort();
    for (size_t i = 0, start = 0; i + 1 < n; i++) {
        if (i == start && (out[i] < 'a' || out[i] > 'z' || out[i + 1] != '=')) abort();
        if (out[i] == '\n' && (i == 0 || out[i - 1] != '\r')) abort();
        if (out[i] == '\n') start = i + 1;
    }
    return 0;
}
