/* What is sent to a UDP port, or a group: RTP or a transport stream, by what comes or as a description says. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "receive/line.h"
#include "receive/session.h"

#define SILENT_US 5000000u

/* What a first datagram is; false: neither RTP nor a transport stream. */
static bool recognise(receive *r, const uint8_t *data, size_t size, sdp_media *m)
{
    *m = (sdp_media){ .clock = 90000 };
    if (size >= TS_IN_PACKET && data[0] == 0x47) {
        snprintf(m->codec, sizeof m->codec, "MP2T");
        receive_set_way(r, "TS over UDP");
        receive_tell(r, RECEIVE_DESCRIBED, "a transport stream");
        return true;
    }
    if (size < 13 || data[0] >> 6 != 2 || (data[1] >= 192 && data[1] <= 223)) return false;
    m->type = data[1] & 127;
    snprintf(m->codec, sizeof m->codec, "%s", m->type == 26 ? "JPEG" : m->type == 33 ? "MP2T" : "H264");
    receive_set_way(r, m->type == 33 ? "TS in RTP over UDP" : "RTP over UDP");
    receive_tell(r, RECEIVE_DESCRIBED, "RTP of type %u, %s", m->type,
                 m->type >= 96 ? "taken for H.264: a description (.sdp) would say it" : m->codec);
    return true;
}

static void tell_silence(receive *r, bool group)
{
    receive_tell(r, RECEIVE_NOTE, "nothing has come at port %u", r->to.port);
    receive_tell(r, RECEIVE_HINT,
                 group
                     ? "does the sender use this group and port? A switch that does not pass groups on, or a firewall, "
                       "drops them without a word"
                     : "does the sender have this machine's address and this port? A firewall here drops UDP without a "
                       "word: let port %u in",
                 r->to.port);
}

/* Of a transport stream without RTP, or of RTP; s is begun as soon as it is known what comes. */
static void listen_to(receive *r, int rtp, int rtcp, session *s, bool known, bool group)
{
    uint8_t packet[65536], out[256];
    struct sockaddr_storage from = { 0 };
    uint64_t begin = line_now_us(), at_us;
    bool plain_ts = false, told = false;
    char text[64];
    while (receive_goes_on(r)) {
        int n = 0;
        if (known && !plain_ts) {
            (void)session_wait(s, rtp, rtcp, -1, 50);
            size_t size = session_report(s, line_now_us(), false, out, sizeof out);
            if (size > 0 && from.ss_family != 0 && !group) { /* to the port behind the one that it comes from */
                struct sockaddr_storage to = from;
                line_set_port(&to, (uint16_t)(line_port(&from) + 1));
                (void)sendto(rtcp, out, size, 0, (struct sockaddr *)(void *)&to, sizeof to);
            }
        } else {
            n = line_take(rtp, packet, sizeof packet, &at_us, &from);
            if (n == -2) usleep(2000);
        }
        if (n > 0) {
            sdp_media m;
            if (!known && r->from[0] == '\0')
                snprintf(r->from, sizeof r->from, "from %s", line_text(&from, true, text, sizeof text));
            if (!known) {
                if (recognise(r, packet, (size_t)n, &m)) {
                    (void)session_begin(s, r, &m);
                    known = true;
                    plain_ts = packet[0] == 0x47;
                } else {
                    receive_tell(r, RECEIVE_FAILED, "what comes %s is neither RTP nor a transport stream", r->from);
                    return;
                }
            }
            if (plain_ts)
                session_stream(s, packet, (size_t)n, at_us);
            else
                session_packet(s, packet, (size_t)n, at_us);
        }
        if (!told && r->step_us[RECEIVE_PACKET] == 0 && line_now_us() - begin > SILENT_US) {
            told = true;
            tell_silence(r, group);
        }
    }
}

static bool open_at(receive *r, const struct sockaddr_storage *at, socklen_t size, int *rtp, int *rtcp)
{
    struct sockaddr_storage second = *at;
    *rtp = line_datagram(at, size, NULL);
    if (*rtp < 0) {
        receive_tell(r, RECEIVE_FAILED, "port %u cannot be listened at: %s", line_port(at),
                     errno == EADDRINUSE ? "another program of this machine does already" : strerror(errno));
        return false;
    }
    line_set_port(&second, (uint16_t)(line_port(at) + 1));
    *rtcp = line_datagram(&second, size, NULL); /* without it there is no delay to be known */
    return true;
}

static void listen_at(receive *r, const struct sockaddr_storage *at, socklen_t size, const sdp_media *m)
{
    session *s = calloc(1, sizeof *s);
    int rtp, rtcp;
    char text[64];
    if (s == NULL || !open_at(r, at, size, &rtp, &rtcp)) {
        free(s);
        return;
    }
    bool known = m != NULL && session_begin(s, r, m);
    receive_tell(r, RECEIVE_CONNECTED, "listening at %s", line_text(at, true, text, sizeof text));
    if (m != NULL && !known)
        receive_tell(r, RECEIVE_FAILED, "\"%s\" is no codec that is looked at here: JPEG and H.264 are", m->codec);
    else
        listen_to(r, rtp, rtcp, s, known, line_is_group(at));
    close(rtp);
    if (rtcp >= 0) close(rtcp);
    session_free(s);
    free(s);
}

void receive_described(receive *r, const char *text, size_t size)
{
    sdp_in sdp;
    const sdp_media *video = sdp_read(text, size, &sdp) ? sdp_first(&sdp, "video") : NULL;
    struct sockaddr_storage at;
    socklen_t length;
    if (video == NULL || video->port == 0) {
        receive_tell(r, RECEIVE_FAILED,
                     video == NULL ? "there is no video in the description" : "the description names no port");
        return;
    }
    receive_tell(r, RECEIVE_DESCRIBED, "%s to %s, port %u", video->codec,
                 video->group[0] != '\0' ? video->group : "this machine", video->port);
    receive_set_way(r, "RTP over UDP");
    r->to.port = (uint16_t)video->port;
    bool found = line_address(video->group, (uint16_t)video->port, true, &at, &length);
    if (found && line_is_group(&at)) receive_set_way(r, "RTP over multicast");
    /* An address that is not a group is the sender's idea of ours: any will do. */
    if (found && !line_is_group(&at))
        found = line_address(at.ss_family == AF_INET6 ? "::" : "0.0.0.0", (uint16_t)video->port, true, &at, &length);
    if (found) listen_at(r, &at, length, video);
}

void receive_datagrams(receive *r)
{
    struct sockaddr_storage at;
    socklen_t size;
    if (r->to.scheme == RECEIVE_FILE) {
        char text[8192];
        FILE *f = fopen(r->to.path, "r");
        size_t n = f != NULL ? fread(text, 1, sizeof text, f) : 0;
        if (f != NULL) fclose(f);
        if (n == 0) {
            receive_tell(r, RECEIVE_FAILED, "%s cannot be read: %s", r->to.path,
                         f == NULL ? strerror(errno) : "it is empty");
            return;
        }
        receive_described(r, text, n);
        return;
    }
    if (!line_address(r->to.host[0] != '\0' ? r->to.host : "::", r->to.port, true, &at, &size) &&
        !line_address("0.0.0.0", r->to.port, true, &at, &size)) {
        receive_tell(r, RECEIVE_FAILED, "\"%s\" is no address of this machine, and no group", r->to.host);
        return;
    }
    listen_at(r, &at, size, NULL);
}
