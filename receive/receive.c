#include "receive/receive.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "receive/line.h"
#include "receive/see.h"
#include "wire/h264.h"
#include "wire/jpeg.h"

#define CONNECT_MS 5000
#define RECORDED_US 60000000 /* what is so far from now was not taken now */

static const struct {
    const char *name;
    receive_scheme scheme;
    uint16_t port;
} schemes[] = {
    { "rtsp://", RECEIVE_RTSP, 554 },   { "rtsps://", RECEIVE_RTSPS, 322 }, { "http://", RECEIVE_HTTP, 80 },
    { "https://", RECEIVE_HTTPS, 443 }, { "tcp://", RECEIVE_TCP, 0 },       { "tls://", RECEIVE_TLS, 0 },
    { "udp://", RECEIVE_UDP, 0 },
};
#define SCHEMES (sizeof schemes / sizeof schemes[0])

const char *receive_step_name(receive_step step)
{
    static const char *const names[] = { "resolved",  "connected",    "encrypted",     "signed in",
                                         "described", "first packet", "first picture", "note",
                                         "hint",      "failed",       "ended" };
    return names[step];
}

/* %41 and the like, as names and passwords have them (RFC 3986 2.1). A text with signs that would have to be written so
 * is one as it was typed, and so are its per cent signs. */
static void put_unescaped(char *out, size_t room, const char *from, size_t size)
{
    size_t n = 0;
    bool typed = false;
    for (size_t i = 0; i < size; i++)
        typed = typed || strchr("/?#[]@\"<>\\^`{|} ", from[i]) != NULL || (unsigned char)from[i] >= 0x80;
    for (size_t i = 0; i < size && n + 1 < room; i++) {
        char hex[3] = { 0 }, *end = hex;
        if (from[i] == '%' && i + 2 < size && !typed) memcpy(hex, from + i + 1, 2);
        long v = strtol(hex, &end, 16);
        bool escaped = end == hex + 2;
        out[n++] = escaped ? (char)v : from[i];
        if (escaped) i += 2;
    }
    out[n] = '\0';
}

/* Could a host stand here, up to `end`, that nobody takes for a piece of a password? */
static bool is_host(const char *at, const char *end)
{
    const char *colon = memchr(at, ':', (size_t)(end - at));
    bool port = colon != NULL && colon + 1 < end && strspn(colon + 1, "0123456789") >= (size_t)(end - colon - 1);
    return at < end && (*at == '[' || port || (colon == NULL && memchr(at, '.', (size_t)(end - at)) != NULL));
}

/* Where the name and the password end; NULL: there are none. Inside a password / and ? should be written as %2F and %3F
 * (RFC 3986 3.2.1); one as it is typed is understood where nothing else can be meant. */
static const char *end_of_user(const char *host)
{
    const char *path = host + strcspn(host, "/?"), *at = NULL, *last = strrchr(host, '@');
    for (const char *c = host; c < path; c++)
        if (*c == '@') at = c;
    if (last == NULL || last == at || memchr(host, ':', (size_t)(path - host)) == NULL) return at;
    bool meant = is_host(at != NULL ? at + 1 : host, path);
    return meant || !is_host(last + 1, last + 1 + strcspn(last + 1, "/?")) ? at : last;
}

bool receive_address_read(const char *text, receive_address *out, char *why, size_t room)
{
    size_t i = 0, size = strlen(text);
    unsigned long port = 0;
    memset(out, 0, sizeof *out);
    if (size >= sizeof out->path) return snprintf(why, room, "that is too long for an address"), false;
    if (size > 4 && strcasecmp(text + size - 4, ".sdp") == 0 && strstr(text, "://") == NULL) {
        out->scheme = RECEIVE_FILE;
        snprintf(out->path, sizeof out->path, "%s", text);
        snprintf(out->text, sizeof out->text, "%s", text);
        return true;
    }
    while (i < SCHEMES && strncasecmp(text, schemes[i].name, strlen(schemes[i].name)) != 0) i++;
    if (i == SCHEMES)
        return snprintf(why, room,
                        "an address such as rtsp://192.0.2.20:8554/yard, http://192.0.2.20:8080/yard.mjpeg, "
                        "tcp://192.0.2.20:8600, udp://:5000 or a file that ends in .sdp is expected"),
               false;
    out->scheme = schemes[i].scheme;
    const char *host = text + strlen(schemes[i].name), *at = end_of_user(host);
    if (at != NULL) {
        const char *colon = memchr(host, ':', (size_t)(at - host));
        put_unescaped(out->user, sizeof out->user, host, (size_t)((colon != NULL ? colon : at) - host));
        if (colon != NULL) put_unescaped(out->password, sizeof out->password, colon + 1, (size_t)(at - colon - 1));
        host = at + 1;
    }
    const char *path = host + strcspn(host, "/?");
    const char *end = *host == '[' ? memchr(host, ']', (size_t)(path - host)) : NULL;
    const char *colon = memchr(end != NULL ? end : host, ':', (size_t)(path - (end != NULL ? end : host)));
    size_t length = (size_t)((end != NULL ? end : colon != NULL ? colon : path) - host - (end != NULL));
    if (length >= sizeof out->host) return snprintf(why, room, "the host's name is too long"), false;
    memcpy(out->host, host + (end != NULL), length);
    if (out->host[0] == '\0' && out->scheme != RECEIVE_UDP)
        return snprintf(why, room, "the host is missing: %s192.0.2.20…", schemes[i].name), false;
    char *rest = NULL;
    if (colon != NULL) port = strtoul(colon + 1, &rest, 10);
    if (colon == NULL) port = schemes[i].port;
    if (port == 0 || port > 65535 || (rest != NULL && rest != path))
        return snprintf(why, room, "%s",
                        colon != NULL ? "the port is a number from 1 to 65535" : "a port is missing, such as :5000"),
               false;
    out->port = (uint16_t)port;
    bool names_feed = out->scheme == RECEIVE_TCP || out->scheme == RECEIVE_TLS;
    snprintf(out->path, sizeof out->path, "%s", names_feed && *path == '/' ? path + 1 : *path != '\0' ? path : "/");
    if (names_feed && *path == '\0') out->path[0] = '\0';
    snprintf(out->text, sizeof out->text, "%s%s%s%s", schemes[i].name, out->user, out->user[0] != '\0' ? "@" : "",
             host);
    return true;
}

void receive_tell(receive *r, receive_step step, const char *fmt, ...)
{
    char text[RECEIVE_TEXT];
    va_list args;
    va_start(args, fmt);
    vsnprintf(text, sizeof text, fmt, args);
    va_end(args);
    for (char *c = text; *c != '\0'; c++) { /* what a peer says must not steer a terminal: C0, and C1 in UTF-8 */
        const unsigned char at = (unsigned char)*c, next = (unsigned char)c[1];
        if ((at < 0x20 && at != '\n') || at == 0x7F || (at == 0xC2 && next < 0xA0)) *c = '?';
    }
    pthread_mutex_lock(&r->lock);
    uint64_t us = line_now_us() - r->begin_us;
    bool first = r->step_us[step] == 0;
    if (first) r->step_us[step] = us > 0 ? us : 1;
    if (step == RECEIVE_FAILED) r->failed = true;
    pthread_mutex_unlock(&r->lock);
    if (first || step >= RECEIVE_NOTE) r->say(r->ctx, r, step, us, text);
}

bool receive_goes_on(const receive *r)
{
    return !*r->stop;
}

void receive_set_way(receive *r, const char *way)
{
    pthread_mutex_lock(&r->lock);
    snprintf(r->way, sizeof r->way, "%s", way);
    pthread_mutex_unlock(&r->lock);
}

void receive_first_bytes(receive *r)
{
    if (r->step_us[RECEIVE_PACKET] == 0) receive_tell(r, RECEIVE_PACKET, "%s", r->from[0] != '\0' ? r->from : r->way);
}

static void tell_failure(receive *r, line_state state, int error)
{
    const receive_address *a = &r->to;
    char others[400];
    switch (state) {
    case LINE_UNKNOWN_HOST:
        receive_tell(r, RECEIVE_FAILED,
                     "no host of the name \"%s\" is known: check its spelling, or use the IP address", a->host);
        return;
    case LINE_REFUSED:
        receive_tell(r, RECEIVE_FAILED, "the host is there, but nothing listens at port %u", a->port);
        receive_find(a->host, r->stop, others, sizeof others);
        if (others[0] != '\0') receive_tell(r, RECEIVE_HINT, "of this host answer: %s", others);
        if (others[0] == '\0')
            receive_tell(r, RECEIVE_HINT, "none of the usual ports answers either: is the program started there?");
        return;
    case LINE_SILENT:
        receive_tell(
            r, RECEIVE_FAILED,
            "no answer from %s: is it switched on and on this network? A firewall may drop what is sent to port %u",
            a->host, a->port);
        return;
    case LINE_NO_ROUTE:
        receive_tell(r, RECEIVE_FAILED, "no network of this machine leads to %s, or nobody has that address there",
                     a->host);
        return;
    case LINE_NO_TLS:
        receive_tell(r, RECEIVE_FAILED, "this build has no TLS");
        return;
    case LINE_BAD_TLS:
        receive_tell(r, RECEIVE_FAILED,
                     "connected, but nothing that speaks TLS 1.2 answers at port %u: is it a plain one?", a->port);
        return;
    default:
        receive_tell(r, RECEIVE_FAILED, "it cannot be connected to: %s", strerror(error));
        return;
    }
}

bool receive_connect(receive *r, line *l, bool secure)
{
    line_state state = line_open(l, r->to.host, r->to.port, secure, CONNECT_MS, r->stop);
    if (l->resolved_us > 0) receive_tell(r, RECEIVE_RESOLVED, "%s", l->peer_text);
    if (state != LINE_OPEN && receive_goes_on(r)) tell_failure(r, state, l->error);
    if (state != LINE_OPEN) return false;
    receive_tell(r, RECEIVE_CONNECTED, "in %.1f ms", (double)(l->connected_us - l->resolved_us) / 1000.0);
    if (secure) receive_tell(r, RECEIVE_ENCRYPTED, "%s; certificate %s", l->cipher, l->fingerprint);
    return true;
}

/* ITU-T H.264 A.2 and A.3: what the three bytes mean. */
static void put_profile(char *out, size_t room, const bmb_sps *sps)
{
    const char *name = sps->profile == 66 && (sps->constraints & 0x40) != 0 ? "constrained baseline"
                       : sps->profile == 66                                 ? "baseline"
                       : sps->profile == 77                                 ? "main"
                       : sps->profile == 88                                 ? "extended"
                       : sps->profile == 100                                ? "high"
                                                                            : NULL;
    if (name != NULL)
        snprintf(out, room, "%s %u.%u", name, sps->level / 10, sps->level % 10);
    else
        snprintf(out, room, "profile %u, level %u.%u", sps->profile, sps->level / 10, sps->level % 10);
}

/* What the picture says of itself. false: it is not whole. */
static bool read_structure(receive *r, const receive_came *came, measure_picture *p)
{
    bmb_h264_facts facts;
    bmb_jpeg j;
    bmb_sps sps;
    p->width = r->m.width;
    p->height = r->m.height;
    if (came->codec == BMB_CODEC_JPEG) {
        p->key = true;
        if (bmb_jpeg_parse(came->data, came->size, &j) != BMB_OK) return false;
        p->width = j.width;
        p->height = j.height;
        return true;
    }
    if (bmb_h264_parse(came->data, came->size, &facts) != BMB_OK || !facts.picture) return false;
    p->key = facts.key;
    for (size_t i = 0; i < facts.count; i++) {
        const uint8_t *unit = came->data + facts.unit[i].at;
        if (bmb_nal_type_of(unit[0]) != BMB_NAL_SPS || bmb_sps_parse(unit, facts.unit[i].size, &sps) != BMB_OK)
            continue;
        p->width = sps.width;
        p->height = sps.height;
        put_profile(r->profile, sizeof r->profile, &sps);
        if (r->m.mfps == 0) r->m.mfps = sps.mfps;
    }
    return true;
}

static void take_light(receive *r, const see_facts *seen, measure_picture *p)
{
    p->clock = MEASURE_NO_CLOCK;
    pthread_mutex_lock(&r->lock);
    if (seen->shown && measure_lamp_seen(&r->lamp, seen->brightness, p->at_us)) {
        p->clock = MEASURE_LIGHT;
        p->capture_us = p->wall_us - (int64_t)(p->at_us - r->lamp.switched_us);
    }
    pthread_mutex_unlock(&r->lock);
}

void receive_picture(receive *r, const receive_came *came)
{
    measure_picture p = { .size = came->size,
                          .has_number = came->has_number,
                          .number = came->number,
                          .has_media = came->has_media,
                          .media_us = came->media_us,
                          .at_us = came->at_us,
                          .capture_us = came->capture_us,
                          .clock = came->capture_us > 0 ? came->clock : MEASURE_NO_CLOCK };
    see_facts seen = { .decoded = false };
    p.wall_us = line_wall_us() - (int64_t)(line_now_us() - came->at_us);
    receive_first_bytes(r);
    pthread_mutex_lock(&r->lock);
    p.broken = !read_structure(r, came, &p) || came->broken;
    r->codec = came->codec;
    r->known = true;
    pthread_mutex_unlock(&r->lock);
    bool looks = r->see != NULL && !r->blind && see_can(r->see, came->codec);
    if (!p.broken && looks) {
        see_picture(r->see, came->codec, came->data, came->size, &seen);
        /* A picture that hangs on a key frame which has not come is none that anybody sees. */
        p.broken = !seen.decoded;
        p.seen = seen.shown;
        p.same = seen.same;
        p.black = seen.black;
        if (r->lit) take_light(r, &seen, &p);
        if (p.broken && p.key && !r->saw) { /* not for want of another picture */
            p.broken = false;
            r->blind = true;
            receive_tell(r, RECEIVE_NOTE,
                         "the decoder here cannot read this (%s): nothing is known of what is to be seen",
                         r->profile[0] != '\0' ? r->profile : "a kind of JPEG");
        }
        r->saw = r->saw || seen.shown;
        int64_t age_us = p.wall_us - (int64_t)seen.strip.capture_us;
        if (r->lit) {
            age_us = 0; /* nothing else counts */
        } else if (seen.has_strip && (age_us > RECORDED_US || age_us < -RECORDED_US)) {
            if (r->step_us[RECEIVE_NOTE] == 0)
                receive_tell(r, RECEIVE_NOTE, "the strip in the picture is %lld s old: this is a recording",
                             (long long)(age_us / 1000000));
        } else if (seen.has_strip) {
            p.clock = MEASURE_STRIP;
            p.capture_us = (int64_t)seen.strip.capture_us;
            if (!p.has_number) p.number = seen.strip.frame;
            p.has_number = true;
        }
    } else if (!p.broken && !p.key && r->m.all.keys == 0) { /* whoever comes waits for a key frame */
        p.broken = true;
    }
    pthread_mutex_lock(&r->lock);
    measure_picture_came(&r->m, &p);
    pthread_mutex_unlock(&r->lock);
    if (!p.broken)
        receive_tell(r, RECEIVE_PICTURE, "%ux%u, %.1f KB, %s", p.width, p.height, (double)p.size / 1000.0,
                     came->codec == BMB_CODEC_JPEG ? "JPEG" : "H.264");
}

static void *run(void *ctx)
{
    receive *r = ctx;
    switch (r->to.scheme) {
    case RECEIVE_RTSP:
    case RECEIVE_RTSPS:
        receive_rtsp(r);
        break;
    case RECEIVE_HTTP:
    case RECEIVE_HTTPS:
        receive_http(r);
        break;
    case RECEIVE_TCP:
    case RECEIVE_TLS:
        receive_plain(r);
        break;
    default:
        receive_datagrams(r);
        break;
    }
    pthread_mutex_lock(&r->lock);
    r->ended = true;
    pthread_mutex_unlock(&r->lock);
    return NULL;
}

bool receive_begin(receive *r)
{
    pthread_mutexattr_t again; /* numbers are locked as a whole, and a picture within them */
    pthread_mutexattr_init(&again);
    pthread_mutexattr_settype(&again, PTHREAD_MUTEX_RECURSIVE);
    pthread_mutex_init(&r->lock, &again);
    pthread_mutexattr_destroy(&again);
    if (!r->blind) r->see = see_open();
    r->begin_us = line_now_us();
    measure_begin(&r->m, r->begin_us);
    measure_lamp_begin(&r->lamp);
    if (pthread_create(&r->thread, NULL, run, r) == 0) return true;
    see_close(r->see);
    pthread_mutex_destroy(&r->lock);
    return false;
}

void receive_end(receive *r)
{
    pthread_join(r->thread, NULL);
    see_close(r->see);
    pthread_mutex_destroy(&r->lock);
}
