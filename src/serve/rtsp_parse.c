#include "serve/rtsp_parse.h"

#include <string.h>

#include "base/bytes.h"
#include "serve/path.h"

/* A text within a line. */
typedef struct span {
    const char *at;
    size_t size;
} span;

static span trimmed(span s)
{
    while (s.size > 0 && (s.at[0] == ' ' || s.at[0] == '\t')) {
        s.at++;
        s.size--;
    }
    while (s.size > 0 && (s.at[s.size - 1] == ' ' || s.at[s.size - 1] == '\t')) s.size--;
    return s;
}

/* Cuts off and returns what stands before the separator; the whole when there is none. */
static span cut(span *rest, char separator)
{
    const char *end = rest->size > 0 ? (const char *)memchr(rest->at, separator, rest->size) : NULL;
    span first = { rest->at, end != NULL ? (size_t)(end - rest->at) : rest->size };
    size_t gone = end != NULL ? first.size + 1 : first.size;
    rest->at += gone;
    rest->size -= gone;
    return first;
}

/* As cut, without the blanks around it. */
static span word(span *rest, char separator)
{
    return trimmed(cut(rest, separator));
}

static bool is(span s, const char *text)
{
    return bmb_same_nocase(s.at, s.size, text);
}

static void keep(char *out, size_t room, span s)
{
    size_t n = s.size < room ? s.size : room - 1;
    memcpy(out, s.at, n);
    out[n] = '\0';
}

static void refuse(bmb_rtsp_parse *p, uint16_t status)
{
    if (p->error == 0) p->error = status;
}

/* In the middle of a request: where the next one begins cannot be known any more. */
static void give_up(bmb_rtsp_parse *p, uint16_t status)
{
    refuse(p, status);
    p->broken = true;
    p->complete = true;
}

static const struct {
    const char *name;
    bmb_rtsp_method method;
} methods[] = {
    { "OPTIONS", BMB_RTSP_OPTIONS },
    { "DESCRIBE", BMB_RTSP_DESCRIBE },
    { "SETUP", BMB_RTSP_SETUP },
    { "PLAY", BMB_RTSP_PLAY },
    { "PAUSE", BMB_RTSP_PAUSE },
    { "TEARDOWN", BMB_RTSP_TEARDOWN },
    { "GET_PARAMETER", BMB_RTSP_GET_PARAMETER },
    { "SET_PARAMETER", BMB_RTSP_SET_PARAMETER },
    { "ANNOUNCE", BMB_RTSP_NOT_ALLOWED },
    { "RECORD", BMB_RTSP_NOT_ALLOWED },
    { "REDIRECT", BMB_RTSP_NOT_ALLOWED },
};

const char *bmb_rtsp_method_name(bmb_rtsp_method method)
{
    for (size_t i = 0; i < sizeof methods / sizeof methods[0]; i++)
        if (methods[i].method == method && method != BMB_RTSP_NOT_ALLOWED) return methods[i].name;
    return NULL;
}

/* rtsp[s]://host[:port]/FEED[/TRACK][/][?query], or the path alone */
static void take_address(bmb_rtsp_parse *p, span address)
{
    bmb_path path;
    if (is(address, "*")) {
        p->wildcard = true;
        return;
    }
    size_t before = sizeof "rtsp" - 1;
    bool absolute = address.size > before && bmb_same_nocase(address.at, before, "rtsp");
    if (absolute) {
        before += (address.at[before] | 0x20) == 's'; /* whatever it was asked through */
        absolute = address.size >= before + 3 && memcmp(address.at + before, "://", 3) == 0;
    }
    if (!absolute && address.at[0] != '/') {
        refuse(p, 400);
        return;
    }
    if (absolute) {
        address = (span){ address.at + before + 3, address.size - before - 3 };
        span host = cut(&address, '/');
        if (host.size < sizeof p->host) keep(p->host, sizeof p->host, host);
    }
    bmb_path_of(&path, address.at, address.size);
#if BMB_WITH_ACCESS
    bmb_text link = bmb_path_take_link(&path);
    if (link.size > 0) keep(p->link, sizeof p->link, (span){ link.at, link.size });
#endif
    span rest = { path.text, path.size < BMB_PATH_MAX ? path.size : 0 };
    if (rest.size > 0 && rest.at[0] == '/') (void)cut(&rest, '/'); /* the slash itself, or a second one */
    span feed = cut(&rest, '/'), track = cut(&rest, '/');
#if BMB_WITH_REPEATS
    p->feedback = bmb_path_drop_end(feed.at, &feed.size, ".avpf");
#endif
    if (feed.size >= sizeof p->feed || rest.size > 0) feed.size = 0; /* nothing has such an address */
    keep(p->feed, sizeof p->feed, feed);
    for (char *c = p->feed; *c != '\0'; c++)
        if (*c >= 'A' && *c <= 'Z') *c = (char)(*c | 0x20);
    keep(p->track_name, sizeof p->track_name, track);
    p->track = track.size > 0;
}

static bool is_http(span line)
{
    (void)cut(&line, ' ');
    (void)cut(&line, ' ');
    return line.size >= 5 && bmb_same(line.at, 5, "HTTP/");
}

static void take_request_line(bmb_rtsp_parse *p, span line)
{
    span method = cut(&line, ' '), address = cut(&line, ' '), version = trimmed(line);
    p->method = BMB_RTSP_OTHER;
    for (size_t i = 0; i < sizeof methods / sizeof methods[0]; i++)
        if (bmb_same(method.at, method.size, methods[i].name)) p->method = (uint8_t)methods[i].method;
    if (method.size == 0 || address.size == 0 || version.size < 6 || !bmb_same(version.at, 5, "RTSP/")) {
        refuse(p, 400);
        return;
    }
    if (!bmb_same(version.at + 5, version.size - 5, "1.0")) refuse(p, 505);
    take_address(p, address);
}

/* "4000-4001" or "4000": a pair, or one and the next. */
static bool take_pair(span text, uint32_t most, uint16_t *first, uint16_t *second)
{
    uint32_t a, b;
    span low = word(&text, '-'), high = trimmed(text);
    if (!bmb_read_dec(low.at, low.size, most, &a)) return false;
    if (high.size == 0) {
        b = a < most ? a + 1 : a;
    } else if (!bmb_read_dec(high.at, high.size, most, &b)) {
        return false;
    }
    *first = (uint16_t)a;
    *second = (uint16_t)b;
    return true;
}

/* One choice of the Transport header (12.39); false: nothing that we could do. */
static bool take_transport(span text, bmb_rtsp_transport *out)
{
    span protocol = word(&text, ';');
    bool unicast = false, multicast = false;
    const size_t before = 7; /* "RTP/AVP", and "F" or not */
    *out = (bmb_rtsp_transport){ 0 };
    if (protocol.size < before || !bmb_same_nocase(protocol.at, before, "RTP/AVP")) return false;
    out->feedback = BMB_WITH_REPEATS && protocol.size > before && (protocol.at[before] | 0x20) == 'f';
    protocol = (span){ protocol.at + before + out->feedback, protocol.size - before - out->feedback };
    out->kind = is(protocol, "/TCP") ? BMB_RTSP_TCP : BMB_RTSP_UDP;
    if (out->kind == BMB_RTSP_UDP && protocol.size > 0 && !is(protocol, "/UDP")) return false;
    while (text.size > 0) {
        span value = cut(&text, ';'), key = word(&value, '=');
        value = trimmed(value);
        if (is(key, "unicast")) {
            unicast = true;
        } else if (is(key, "multicast")) {
            multicast = true;
        } else if (is(key, "mode") && !is(value, "play") && !is(value, "\"play\"")) {
            return false;
        } else if (is(key, "client_port") && out->kind != BMB_RTSP_TCP) {
            if (!take_pair(value, UINT16_MAX, &out->rtp, &out->rtcp) || out->rtp == 0 || out->rtcp == 0 ||
                out->rtcp == out->rtp) /* port 0 is nobody's */
                return false;
            out->ports = true;
        } else if (is(key, "interleaved")) {
            if (!take_pair(value, 255, &out->rtp, &out->rtcp) || out->rtp == out->rtcp) return false;
            out->ports = true;
        }
    }
    /* By the letter of 12.39 multicast is meant unless "unicast" says otherwise. Clients that leave that word out and
     * name their ports wait for packets there, and would see nothing wherever multicast does not pass. */
    if (out->kind == BMB_RTSP_UDP && (multicast || (!unicast && !out->ports))) out->kind = BMB_RTSP_MULTICAST;
    return out->kind != BMB_RTSP_UDP || out->ports;
}

static void take_header(bmb_rtsp_parse *p, span line)
{
    uint32_t number;
#if BMB_WITH_ACCESS
    const char *begin = line.at;
#endif
    span name = word(&line, ':'), value = trimmed(line);
    if (is(name, "CSeq")) {
        if (!bmb_read_dec(value.at, value.size, UINT32_MAX, &number)) {
            refuse(p, 400);
            return;
        }
        keep(p->cseq, sizeof p->cseq, value);
        p->has_cseq = true;
#if BMB_WITH_ACCESS
    } else if (is(name, "Authorization")) {
        p->credentials_at = (uint16_t)(value.at - begin); /* the line's place is added by who knows it */
        p->credentials_size = (uint16_t)value.size;
#endif
    } else if (is(name, "Session")) {
        span id = word(&value, ';');
        p->has_session = true;
        if (id.size <= BMB_RTSP_SESSION_SIZE) keep(p->session, sizeof p->session, id);
    } else if (is(name, "Transport")) {
        p->has_transport = true;
        while (value.size > 0 && p->transport_count < BMB_RTSP_TRANSPORTS)
            if (take_transport(cut(&value, ','), &p->transport[p->transport_count])) p->transport_count++;
    } else if (is(name, "Connection")) {
        p->close = p->close || is(value, "close");
    } else if (is(name, "Require") || is(name, "Proxy-Require")) {
        p->required = true;
        keep(p->require, sizeof p->require, value);
    } else if (is(name, "Content-Length")) {
        if (!bmb_read_dec(value.at, value.size, BMB_RTSP_BODY_MAX, &number)) {
            give_up(p, 400);
            return;
        }
        p->skip = (uint16_t)number;
        p->body = number > 0;
    }
}

static void end_of_headers(bmb_rtsp_parse *p)
{
    if (!p->has_cseq) { /* the client could not tell to what the answer belongs */
        refuse(p, 400);
        p->broken = true;
    }
    p->part = BMB_RTSP_BODY;
    p->complete = p->skip == 0;
}

/* Control characters have no place in a request, the tab aside: some of it is sent back. */
static bool is_clean(span line)
{
    for (size_t i = 0; i < line.size; i++)
        if (((uint8_t)line.at[i] < 0x20 && line.at[i] != '\t') || line.at[i] == 0x7F) return false;
    return true;
}

/* A whole line without its end. */
static void take_line(bmb_rtsp_parse *p, span line)
{
    if (!is_clean(line)) {
        give_up(p, 400);
        return;
    }
    if (p->part == BMB_RTSP_LINE) {
        if (line.size == 0) return; /* blank lines between requests are forgiven */
        take_request_line(p, line);
        p->part = BMB_RTSP_HEADERS;
    } else if (line.size == 0) {
        end_of_headers(p);
    } else {
        take_header(p, line);
    }
}

/* Consumes one line, or as much of one as there is when it is too long to matter. 0: it is not complete yet. */
static size_t feed_line(bmb_rtsp_parse *p, const uint8_t *data, size_t size, size_t room)
{
    const uint8_t *end = (const uint8_t *)memchr(data, '\n', size);
    size_t used = end != NULL ? (size_t)(end - data) + 1 : size;
    if (end == NULL && size < room && !p->long_line) return 0;
    if (p->part == BMB_RTSP_LINE && end != NULL && is_http((span){ (const char *)data, used - 1 })) {
        p->http = p->complete = true;
        return 0;
    }
    if ((size_t)p->header_size + used > BMB_RTSP_HEADER_MAX) {
        give_up(p, 400);
        return used;
    }
    p->header_size = (uint16_t)(p->header_size + used);
    if (end == NULL) { /* it fills the buffer: only headers that nobody needs are so long */
        if (p->part == BMB_RTSP_LINE) give_up(p, 414);
        p->long_line = true;
        return used;
    }
    if (p->long_line) {
        p->long_line = false;
        return used;
    }
    size_t length = used - 1;
    if (length > 0 && data[length - 1] == '\r') length--;
    take_line(p, (span){ (const char *)data, length });
    return used;
}

/* 10.12: '$', channel, 16-bit length, data. */
static size_t feed_data(bmb_rtsp_parse *p, const uint8_t *data, size_t size, size_t room, bmb_rtsp_data *out)
{
    if (size < 4) return 0;
    bmb_reader r = bmb_reader_of(data + 2, 2);
    uint16_t length = bmb_get_u16(&r);
    if (4u + length > room) {
        p->skip = length;
        p->part = BMB_RTSP_DATA;
        return 4;
    }
    if (size < 4u + length) return 0;
    *out = (bmb_rtsp_data){ .data = data + 4, .size = length, .channel = data[1] };
    return 4u + length;
}

static size_t feed_skip(bmb_rtsp_parse *p, size_t size)
{
    size_t used = size < p->skip ? size : p->skip;
    p->skip = (uint16_t)(p->skip - used);
    if (p->skip > 0) return used;
    if (p->part == BMB_RTSP_DATA) {
        p->part = BMB_RTSP_LINE;
    } else {
        p->complete = true;
    }
    return used;
}

void bmb_rtsp_parse_reset(bmb_rtsp_parse *p)
{
    memset(p, 0, sizeof *p);
}

#if BMB_WITH_ACCESS
static void forget_credentials(bmb_rtsp_parse *p)
{
    p->credentials_size = 0;
}

static bool has_credentials(const bmb_rtsp_parse *p)
{
    return p->credentials_size > 0;
}
static void place_credentials(bmb_rtsp_parse *p, size_t at)
{
    if (has_credentials(p)) p->credentials_at = (uint16_t)(p->credentials_at + at);
}
#else
static void place_credentials(const bmb_rtsp_parse *p, size_t at)
{
    (void)p;
    (void)at;
}

static void forget_credentials(const bmb_rtsp_parse *p)
{
    (void)p;
}

static bool has_credentials(const bmb_rtsp_parse *p)
{
    (void)p;
    return false;
}
#endif

size_t bmb_rtsp_parse_feed(bmb_rtsp_parse *p, const uint8_t *data, size_t size, size_t room, bmb_rtsp_data *out)
{
    size_t used = 0;
    out->data = NULL;
    forget_credentials(p);
    while (used < size && !p->complete && out->data == NULL && !has_credentials(p)) {
        size_t step;
        if (p->part == BMB_RTSP_BODY || p->part == BMB_RTSP_DATA) {
            step = feed_skip(p, size - used);
        } else if (p->part == BMB_RTSP_LINE && data[used] == '$') {
            step = feed_data(p, data + used, size - used, room, out);
        } else {
            step = feed_line(p, data + used, size - used, room);
        }
        if (step == 0) break;
        place_credentials(p, used);
        used += step;
    }
    return used;
}
