#include "receive/sdp_in.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

/* RFC 3551 table 5: what needs no a=rtpmap. */
static void set_static(sdp_media *m)
{
    m->clock = 90000;
    if (m->type == 26) snprintf(m->codec, sizeof m->codec, "JPEG");
    if (m->type == 33) snprintf(m->codec, sizeof m->codec, "MP2T");
    if (m->type == 0) snprintf(m->codec, sizeof m->codec, "PCMU");
    if (m->type == 8) snprintf(m->codec, sizeof m->codec, "PCMA");
}

static void take_attribute(sdp_in *out, sdp_media *m, const char *a)
{
    unsigned type;
    char name[24];
    double rate;
    if (strncasecmp(a, "control:", 8) == 0)
        snprintf(m != NULL ? m->control : out->control, sizeof out->control, "%.255s", a + 8);
    if (m == NULL) return;
    if (sscanf(a, "rtpmap:%u %23[^/]/%u", &type, name, &m->clock) == 3 && type == m->type)
        snprintf(m->codec, sizeof m->codec, "%s", name);
    if (sscanf(a, "framerate:%lf", &rate) == 1 && rate > 0 && rate < 1000) m->mfps = (uint32_t)(rate * 1000);
    const char *space = strchr(a, ' ');
    if (sscanf(a, "fmtp:%u ", &type) == 1 && type == m->type && space != NULL)
        snprintf(m->fmtp, sizeof m->fmtp, "%s", space + 1);
}

static void take_line(sdp_in *out, const char *line, char *session_group)
{
    sdp_media *m = out->count > 0 ? &out->media[out->count - 1] : NULL;
    char address[64];
    if (line[0] == 'm' && out->count < SDP_MEDIA_MOST) {
        sdp_media next = { .clock = 90000 };
        if (sscanf(line, "m=%15s %u%*[/0-9] RTP/%*s %u", next.kind, &next.port, &next.type) < 3 &&
            sscanf(line, "m=%15s %u RTP/%*s %u", next.kind, &next.port, &next.type) < 3)
            return;
        set_static(&next);
        snprintf(next.group, sizeof next.group, "%s", session_group);
        out->media[out->count++] = next;
    } else if (line[0] == 'c' && sscanf(line, "c=IN IP%*1[46] %63[^/ ]", address) == 1) {
        snprintf(m != NULL ? m->group : session_group, sizeof address, "%s", address);
    } else if (line[0] == 'a') {
        take_attribute(out, m, line + 2);
    }
}

bool sdp_read(const char *text, size_t size, sdp_in *out)
{
    char line[1024], group[64] = "";
    memset(out, 0, sizeof *out);
    for (size_t at = 0; at < size;) {
        const char *end = memchr(text + at, '\n', size - at);
        size_t length = end != NULL ? (size_t)(end - (text + at)) : size - at, kept = length;
        if (kept > 0 && text[at + kept - 1] == '\r') kept--;
        if (kept > 2 && kept < sizeof line && text[at + 1] == '=') {
            memcpy(line, text + at, kept);
            line[kept] = '\0';
            take_line(out, line, group);
        }
        at += length + 1;
    }
    return out->count > 0;
}

const sdp_media *sdp_first(const sdp_in *sdp, const char *kind)
{
    for (size_t i = 0; i < sdp->count; i++)
        if (strcmp(sdp->media[i].kind, kind) == 0) return &sdp->media[i];
    return NULL;
}
