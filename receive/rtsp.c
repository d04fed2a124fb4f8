/* RTSP (RFC 2326) as a client: RTP by UDP, through the connection, or by multicast. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <unistd.h>

#include "receive/auth.h"
#include "receive/line.h"
#include "receive/parts_in.h"
#include "receive/session.h"

#define ANSWER_WAIT_MS 5000
#define SILENT_US 4000000u /* so long without a packet: there is something to be told */
#define ALIVE_US 20000000u

typedef struct rtsp {
    receive *r;
    line l;
    auth auth;
    bytes_in in;
    unsigned cseq, status;
    char head[4096], body[8192];
    size_t body_size;
    char uri[900], base[900], session[128];
    session media;
    bool playing;
    int rtp, rtcp;
    uint16_t server_port[2];
    uint64_t heard_us;
} rtsp;

/* '$', channel, length (10.12). What is ours goes to the session. Returns what it takes of the bytes; 0: not whole. */
static size_t take_interleaved(rtsp *t)
{
    const uint8_t *d = t->in.data;
    bool bye = false;
    if (t->in.size < 4) return 0;
    size_t size = (size_t)d[2] << 8 | d[3];
    if (t->in.size < 4 + size) return 0;
    if (t->playing && d[1] == 0) {
        t->heard_us = line_now_us();
        session_packet(&t->media, d + 4, size, t->heard_us);
    }
    if (t->playing && d[1] == 1) rtp_in_rtcp(&t->media.rtp, d + 4, size, line_now_us(), &bye);
    if (bye) receive_tell(t->r, RECEIVE_NOTE, "the sender says goodbye (RTCP BYE)");
    return 4 + size;
}

/* An answer, or a request of the server's, which is passed over. Returns as above; *answer: it was one. */
static size_t take_answer(rtsp *t, bool *answer)
{
    char value[24];
    const char *text = (const char *)t->in.data;
    const char *end = memmem(text, t->in.size, "\r\n\r\n", 4);
    if (end == NULL) return 0;
    size_t head = (size_t)(end - text) + 4, body = 0;
    snprintf(t->head, sizeof t->head, "%.*s", head < sizeof t->head ? (int)head : 0, text);
    if (part_value(t->head, "Content-Length", value, sizeof value) != NULL) body = strtoul(value, NULL, 10);
    if (body > BYTES_IN_MOST / 2 || t->in.size < head + body) return 0;
    *answer = sscanf(t->head, "RTSP/1.%*c %3u", &t->status) == 1;
    t->body_size = body < sizeof t->body ? body : sizeof t->body - 1;
    memcpy(t->body, text + head, t->body_size);
    t->body[t->body_size] = '\0';
    return head + body;
}

/* Takes what has come. true: an answer was among it, and stands in head and body. */
static bool take_all(rtsp *t)
{
    bool answer = false;
    size_t used = 1;
    while (!answer && used > 0 && t->in.size > 0) {
        used = t->in.data[0] == '$' ? take_interleaved(t) : take_answer(t, &answer);
        bytes_in_drop(&t->in, used);
    }
    return answer;
}

static int receive_more(rtsp *t, int wait_ms)
{
    uint8_t data[65536];
    int n = line_recv(&t->l, data, sizeof data, wait_ms);
    if (n > 0 && !bytes_in_add(&t->in, data, (size_t)n)) return -1;
    return n;
}

/* Asks, and waits for the answer; false: there is none, and it was told. */
static bool ask_once(rtsp *t, const char *method, const char *uri, const char *lines)
{
    char request[2600], who[700];
    if (!auth_put(&t->auth, &t->r->to, method, uri, who, sizeof who)) return auth_failed(t->r, &t->auth), false;
    int n =
        snprintf(request, sizeof request, "%s %s RTSP/1.0\r\nCSeq: %u\r\nUser-Agent: bambino-check\r\n%s%s%s%s%s\r\n",
                 method, uri, ++t->cseq, who, t->session[0] != '\0' ? "Session: " : "", t->session,
                 t->session[0] != '\0' ? "\r\n" : "", lines);
    if (n < 0 || (size_t)n >= sizeof request || !line_send(&t->l, request, (size_t)n)) {
        receive_tell(t->r, RECEIVE_FAILED, "the connection broke while %s was asked", method);
        return false;
    }
    uint64_t end = line_now_us() + ANSWER_WAIT_MS * 1000u;
    while (!take_all(t)) {
        int got = receive_more(t, 100);
        if (!receive_goes_on(t->r)) return false;
        if (got == 0 || got == -1) {
            receive_tell(t->r, RECEIVE_FAILED, "the server closed the connection instead of answering %s: is it RTSP?",
                         method);
            return false;
        }
        if (line_now_us() > end) {
            receive_tell(t->r, RECEIVE_FAILED, "the server does not answer %s: is it RTSP that listens there?", method);
            return false;
        }
    }
    return true;
}

static bool ask(rtsp *t, const char *method, const char *uri, const char *lines)
{
    char value[600];
    if (!ask_once(t, method, uri, lines)) return false;
    if (t->status != 401) return true;
    if (t->auth.tries++ > 0 && !strstr(t->head, "stale=true")) return auth_failed(t->r, &t->auth), false;
    for (const char *at = t->head; (at = strcasestr(at, "\nWWW-Authenticate:")) != NULL; at++)
        if (part_value(at + 1, "WWW-Authenticate", value, sizeof value) != NULL) auth_take(&t->auth, value);
    if (!ask_once(t, method, uri, lines)) return false;
    if (t->status == 401) return auth_failed(t->r, &t->auth), false;
    auth_succeeded(t->r, &t->auth);
    return true;
}

/* What the server says beside its number. */
static void tell_refusal(rtsp *t, const char *what)
{
    char reason[80] = "";
    (void)sscanf(t->head, "RTSP/1.%*c %*u %79[^\r\n]", reason);
    if (t->status == 404) {
        receive_tell(t->r, RECEIVE_FAILED, "there is nothing at %s (404)", t->r->to.path);
        if (t->body_size > 0) receive_tell(t->r, RECEIVE_HINT, "the server says:\n%s", t->body);
        return;
    }
    receive_tell(t->r, RECEIVE_FAILED, "%s was refused: %u %s", what, t->status, reason);
    if (t->status == 453 || t->status == 503)
        receive_tell(t->r, RECEIVE_HINT, "as many watch as may: raise the limit of viewers there, or end one");
}

/* A control attribute is absolute, or relative to the session's (RFC 2326 C.1.1). */
static void resolve(const rtsp *t, const char *control, char *out, size_t room)
{
    if (control[0] == '\0' || strcmp(control, "*") == 0)
        snprintf(out, room, "%s", t->base);
    else if (strstr(control, "://") != NULL)
        snprintf(out, room, "%s", control);
    else
        snprintf(out, room, "%s%s%s", t->base, t->base[strlen(t->base) - 1] == '/' ? "" : "/", control);
}

static bool describe(rtsp *t, sdp_in *sdp, const sdp_media **video)
{
    if (!ask(t, "DESCRIBE", t->uri, "Accept: application/sdp\r\n")) return false;
    if (t->status != 200) return tell_refusal(t, "DESCRIBE"), false;
    if (part_value(t->head, "Content-Base", t->base, sizeof t->base) == NULL)
        snprintf(t->base, sizeof t->base, "%s", t->uri);
    if (!sdp_read(t->body, t->body_size, sdp)) {
        receive_tell(t->r, RECEIVE_FAILED, "the description has no stream in it");
        return false;
    }
    *video = sdp_first(sdp, "video");
    const sdp_media *sound = sdp_first(sdp, "audio");
    if (sound != NULL)
        snprintf(t->r->sound, sizeof t->r->sound, "%s", sound->codec[0] != '\0' ? sound->codec : "sound");
    if (*video == NULL) {
        receive_tell(t->r, RECEIVE_FAILED, "there is no video in the description");
        return false;
    }
    char rate[32] = "";
    if ((*video)->mfps > 0) snprintf(rate, sizeof rate, " at %g/s", (*video)->mfps / 1000.0);
    receive_tell(t->r, RECEIVE_DESCRIBED, "%s%s; sound: %s", (*video)->codec, rate,
                 sound != NULL ? t->r->sound : "none");
    if (session_begin(&t->media, t->r, *video)) return true;
    receive_tell(t->r, RECEIVE_FAILED, "\"%s\" is no codec that is looked at here: JPEG and H.264 are",
                 (*video)->codec);
    return false;
}

/* Two ports, one behind the other, the first one even (RFC 3550 11). */
static bool open_ports(rtsp *t)
{
    struct sockaddr_storage at = t->l.own;
    for (unsigned i = 0; i < 50; i++) {
        line_set_port(&at, 0);
        t->rtp = line_datagram(&at, t->l.own_size, NULL);
        if (t->rtp < 0) break;
        socklen_t size = sizeof at;
        (void)getsockname(t->rtp, (struct sockaddr *)(void *)&at, &size);
        if (line_port(&at) % 2 == 0) {
            line_set_port(&at, (uint16_t)(line_port(&at) + 1));
            t->rtcp = line_datagram(&at, t->l.own_size, NULL);
            if (t->rtcp >= 0) return true;
        }
        close(t->rtp);
        t->rtp = -1;
    }
    receive_tell(t->r, RECEIVE_FAILED, "no ports of this machine can be had for RTP: %s", strerror(errno));
    return false;
}

static bool join_group(rtsp *t, const char *transport, const sdp_media *video)
{
    char group[64] = "";
    unsigned port = video->port;
    struct sockaddr_storage at;
    socklen_t size;
    const char *d = strcasestr(transport, "destination="), *p = strcasestr(transport, ";port=");
    if (d != NULL) snprintf(group, sizeof group, "%.*s", (int)strcspn(d + 12, ";\r\n"), d + 12);
    if (d == NULL) snprintf(group, sizeof group, "%s", video->group);
    if (p != NULL) port = (unsigned)strtoul(p + 6, NULL, 10);
    if (port == 0 || port > 65534 || !line_address(group, (uint16_t)port, false, &at, &size) || !line_is_group(&at)) {
        receive_tell(t->r, RECEIVE_FAILED, "the server names no group for multicast");
        return false;
    }
    t->rtp = line_datagram(&at, size, &t->l.own);
    line_set_port(&at, (uint16_t)(port + 1));
    t->rtcp = t->rtp >= 0 ? line_datagram(&at, size, &t->l.own) : -1;
    if (t->rtcp >= 0) return true;
    receive_tell(t->r, RECEIVE_FAILED, "group %s, port %u cannot be listened to: %s", group, port, strerror(errno));
    return false;
}

static bool set_up(rtsp *t, const sdp_media *video, receive_by by)
{
    char uri[1200], lines[160], transport[300], way[40];
    resolve(t, video->control, uri, sizeof uri);
    if (by == RECEIVE_BY_TCP) {
        snprintf(lines, sizeof lines, "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n");
    } else if (by == RECEIVE_BY_MULTICAST) {
        snprintf(lines, sizeof lines, "Transport: RTP/AVP;multicast\r\n");
    } else {
        struct sockaddr_storage at;
        socklen_t size = sizeof at;
        if (!open_ports(t) || getsockname(t->rtp, (struct sockaddr *)(void *)&at, &size) != 0) return false;
        snprintf(lines, sizeof lines, "Transport: RTP/AVP;unicast;client_port=%u-%u\r\n", line_port(&at),
                 line_port(&at) + 1u);
    }
    if (!ask(t, "SETUP", uri, lines)) return false;
    if (t->status != 200) {
        tell_refusal(t, "SETUP");
        if (t->status == 461)
            receive_tell(t->r, RECEIVE_HINT, "the server does not send it this way; try --by %s",
                         by == RECEIVE_BY_TCP ? "udp" : "tcp");
        return false;
    }
    if (part_value(t->head, "Session", t->session, sizeof t->session) != NULL)
        t->session[strcspn(t->session, ";")] = '\0';
    if (part_value(t->head, "Transport", transport, sizeof transport) == NULL) transport[0] = '\0';
    const char *ports = strcasestr(transport, "server_port=");
    if (ports != NULL) t->server_port[0] = (uint16_t)strtoul(ports + 12, NULL, 10);
    t->server_port[1] = (uint16_t)(t->server_port[0] + 1);
    snprintf(way, sizeof way, "%s over %s", t->media.rtp.payload == RTP_IN_TS ? "TS in RTP" : "RTP",
             by == RECEIVE_BY_TCP         ? "TCP"
             : by == RECEIVE_BY_MULTICAST ? "multicast"
                                          : "UDP");
    receive_set_way(t->r, way);
    if (by == RECEIVE_BY_MULTICAST) return join_group(t, transport, video);
    /* Opens the way through what only lets answers in. */
    if (by != RECEIVE_BY_TCP && t->server_port[0] != 0) {
        struct sockaddr_storage to = t->l.peer;
        line_set_port(&to, t->server_port[0]);
        (void)sendto(t->rtp, "\x80\0\0\0\0\0\0\0\0\0\0\0", 12, 0, (struct sockaddr *)(void *)&to, t->l.peer_size);
    }
    return true;
}

static void report(rtsp *t, receive_by by, bool bye)
{
    uint8_t packet[256];
    size_t size = session_report(&t->media, line_now_us(), bye, packet + 4, sizeof packet - 4);
    if (size == 0) return;
    if (by == RECEIVE_BY_TCP) {
        packet[0] = '$';
        packet[1] = 1;
        packet[2] = (uint8_t)(size >> 8);
        packet[3] = (uint8_t)size;
        (void)line_send(&t->l, packet, size + 4);
    } else if (t->server_port[1] > 1) {
        struct sockaddr_storage to = t->l.peer;
        line_set_port(&to, t->server_port[1]);
        (void)sendto(t->rtcp, packet + 4, size, 0, (struct sockaddr *)(void *)&to, t->l.peer_size);
    }
}

/* true: over UDP nothing came, and it is worth another way. */
static bool watch(rtsp *t, receive_by by)
{
    uint64_t begin = line_now_us(), alive = begin + ALIVE_US;
    bool told = false;
    t->heard_us = begin;
    (void)take_all(t); /* what came together with the answer to PLAY */
    while (receive_goes_on(t->r)) {
        uint32_t before = t->r->m.all.packets;
        bool has = line_has(&t->l) || session_wait(&t->media, t->rtp, t->rtcp, t->l.fd, 50);
        uint64_t now = line_now_us();
        if (t->r->m.all.packets != before) t->heard_us = now;
        int n = has ? receive_more(t, 0) : -2;
        if (n > 0) (void)take_all(t);
        if (n == 0 || n == -1) {
            receive_tell(t->r, t->r->m.all.packets > 0 ? RECEIVE_ENDED : RECEIVE_FAILED,
                         "the server closed the connection");
            return false;
        }
        report(t, by, false);
        if (now > alive) { /* its answer is passed over when it comes */
            char request[400];
            int size = snprintf(request, sizeof request, "OPTIONS %.200s RTSP/1.0\r\nCSeq: %u\r\nSession: %s\r\n\r\n",
                                t->base, ++t->cseq, t->session);
            if (size > 0 && (size_t)size < sizeof request) (void)line_send(&t->l, request, (size_t)size);
            alive = now + ALIVE_US;
        }
        if (told || now < t->heard_us + SILENT_US) continue;
        told = true;
        if (t->r->m.all.packets > 0) {
            receive_tell(t->r, RECEIVE_NOTE, "nothing has come for %u s", SILENT_US / 1000000);
            continue;
        }
        if (by == RECEIVE_BY_TCP) {
            receive_tell(t->r, RECEIVE_NOTE, "the server says that it plays, but sends nothing: is its camera there?");
            continue;
        }
        receive_tell(t->r, RECEIVE_NOTE, "the server says that it plays, but no packet arrives");
        receive_tell(t->r, RECEIVE_HINT,
                     by == RECEIVE_BY_MULTICAST
                         ? "a firewall, or a switch that does not pass groups on, may drop it; --by tcp passes both"
                         : "a firewall here or between, or address translation, may drop UDP; over TCP it may come");
        if (t->r->by == RECEIVE_BY_ANY && by == RECEIVE_BY_UDP) return true;
    }
    return false;
}

/* One attempt; true: another way is worth it. */
static bool attempt(rtsp *t, receive_by by)
{
    receive *r = t->r;
    sdp_in sdp;
    const sdp_media *video;
    bool secure = r->to.scheme == RECEIVE_RTSPS, v6 = strchr(r->to.host, ':') != NULL, again = false;
    t->rtp = t->rtcp = -1;
    if (!receive_connect(r, &t->l, secure)) return false;
    snprintf(t->uri, sizeof t->uri, "%s://%s%s%s:%u%s", secure ? "rtsps" : "rtsp", v6 ? "[" : "", r->to.host,
             v6 ? "]" : "", r->to.port, r->to.path);
    if (!describe(t, &sdp, &video) || !set_up(t, video, by)) return false;
    t->playing = true;
    char uri[1200];
    resolve(t, sdp.control, uri, sizeof uri);
    if (!ask(t, "PLAY", uri, "Range: npt=0.000-\r\n")) return false;
    if (t->status != 200) return tell_refusal(t, "PLAY"), false;
    again = watch(t, by);
    report(t, by, true);
    bool stopped = *r->stop;
    if (!r->failed && (stopped || again)) {
        char request[400];
        int size = snprintf(request, sizeof request, "TEARDOWN %.200s RTSP/1.0\r\nCSeq: %u\r\nSession: %s\r\n\r\n", uri,
                            ++t->cseq, t->session);
        if (size > 0 && (size_t)size < sizeof request) (void)line_send(&t->l, request, (size_t)size);
        (void)receive_more(t, 200); /* the server ends it before the connection does */
    }
    return again;
}

void receive_rtsp(receive *r)
{
    rtsp *t = calloc(1, sizeof *t);
    receive_by by = r->by != RECEIVE_BY_ANY ? r->by : r->to.scheme == RECEIVE_RTSPS ? RECEIVE_BY_TCP : RECEIVE_BY_UDP;
    for (bool again = t != NULL; again;) {
        memset(t, 0, sizeof *t);
        t->r = r;
        again = attempt(t, by);
        line_close(&t->l);
        if (t->rtp >= 0) close(t->rtp);
        if (t->rtcp >= 0) close(t->rtcp);
        session_free(&t->media);
        bytes_in_free(&t->in);
        by = RECEIVE_BY_TCP;
    }
    free(t);
}
