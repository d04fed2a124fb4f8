/* Feeds over HTTP: JPEG as parts, transport streams, single pictures, session descriptions. */
#include <http_parser.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "receive/auth.h"
#include "receive/line.h"
#include "receive/parts_in.h"
#include "receive/session.h"

#define REDIRECTS_MOST 3u
#define TEXT_MOST 8192u /* of an answer that is no feed */

typedef enum http_kind { HTTP_OTHER = 0, HTTP_PARTS, HTTP_TS, HTTP_PICTURE, HTTP_SDP } http_kind;

typedef struct http {
    receive *r;
    line l;
    auth auth;
    http_parser parser;
    char name[64], value[800];
    bool in_value;
    char type[256], where[600], reason[80];
    bool asks, done;
    http_kind kind;
    parts_in parts;
    session media;
    bytes_in body;
    uint64_t at_us;
    bool good;
} http;

static void end_field(http *t)
{
    if (!t->in_value) return;
    if (strcasecmp(t->name, "Content-Type") == 0) snprintf(t->type, sizeof t->type, "%.255s", t->value);
    if (strcasecmp(t->name, "Location") == 0) snprintf(t->where, sizeof t->where, "%.599s", t->value);
    if (strcasecmp(t->name, "WWW-Authenticate") == 0) {
        auth_take(&t->auth, t->value);
        t->asks = true;
    }
    t->name[0] = t->value[0] = '\0';
    t->in_value = false;
}

static void append(char *out, size_t room, const char *at, size_t size)
{
    size_t n = strlen(out);
    snprintf(out + n, room - n, "%.*s", (int)size, at);
}

static int on_name(http_parser *p, const char *at, size_t size)
{
    http *t = p->data;
    end_field(t);
    append(t->name, sizeof t->name, at, size);
    return 0;
}

static int on_value(http_parser *p, const char *at, size_t size)
{
    http *t = p->data;
    t->in_value = true;
    append(t->value, sizeof t->value, at, size);
    return 0;
}

static int on_reason(http_parser *p, const char *at, size_t size)
{
    http *t = p->data;
    append(t->reason, sizeof t->reason, at, size);
    return 0;
}

static int on_head(http_parser *p)
{
    http *t = p->data;
    end_field(t);
    if (p->status_code != 200) return 0;
    if (strncasecmp(t->type, "multipart/", 10) == 0 && parts_begin(&t->parts, t->type)) t->kind = HTTP_PARTS;
    if (strncasecmp(t->type, "video/mp2t", 10) == 0) t->kind = HTTP_TS;
    if (strncasecmp(t->type, "image/jpeg", 10) == 0) t->kind = HTTP_PICTURE;
    if (strncasecmp(t->type, "application/sdp", 15) == 0) t->kind = HTTP_SDP;
    t->good = t->kind != HTTP_OTHER;
    if (!t->good) return 0;
    if (t->auth.asked) auth_succeeded(t->r, &t->auth);
    receive_set_way(t->r, t->kind == HTTP_PARTS ? "JPEG over HTTP" : t->kind == HTTP_TS ? "TS over HTTP" : "HTTP");
    receive_tell(t->r, RECEIVE_DESCRIBED, "%s", t->type);
    return 0;
}

/* "1764226018000000 unix" as our devices say it. */
static void read_part_facts(const char *head, receive_came *came)
{
    char value[64], clock[16];
    long long us;
    if (part_value(head, "Frame-Number", value, sizeof value) != NULL) {
        came->has_number = true;
        came->number = (uint32_t)strtoul(value, NULL, 10);
    }
    if (part_value(head, "Frame-Captured-Us", value, sizeof value) == NULL ||
        sscanf(value, "%lld %15s", &us, clock) != 2)
        return;
    came->has_media = true;
    came->media_us = us;
    if (strcmp(clock, "unix") == 0) came->capture_us = us;
    came->clock = MEASURE_STATED;
}

static void picture(http *t, const uint8_t *data, size_t size, const char *head)
{
    receive_came came = { .codec = BMB_CODEC_JPEG, .data = data, .size = size, .at_us = t->at_us };
    read_part_facts(head, &came);
    receive_picture(t->r, &came);
}

static int on_body(http_parser *p, const char *at, size_t size)
{
    http *t = p->data;
    part one;
    if (t->good) receive_first_bytes(t->r);
    if (t->kind == HTTP_TS) session_stream(&t->media, (const uint8_t *)at, size, t->at_us);
    if (t->kind == HTTP_PARTS) {
        if (!parts_add(&t->parts, at, size)) return 1;
        while (parts_next(&t->parts, &one)) picture(t, one.data, one.size, one.head);
    }
    if (t->kind == HTTP_PICTURE || t->kind == HTTP_SDP || (t->kind == HTTP_OTHER && t->body.size < TEXT_MOST))
        return bytes_in_add(&t->body, at, size) ? 0 : 1;
    return 0;
}

static int on_end(http_parser *p)
{
    ((http *)p->data)->done = true;
    return 0;
}

/* Reads until the answer is over; false: it broke, and that was told. */
static bool read_answer(http *t)
{
    static const http_parser_settings settings = { .on_status = on_reason,
                                                   .on_header_field = on_name,
                                                   .on_header_value = on_value,
                                                   .on_headers_complete = on_head,
                                                   .on_body = on_body,
                                                   .on_message_complete = on_end };
    uint8_t data[65536];
    uint64_t heard = line_now_us();
    bool told = false;
    while (!t->done && receive_goes_on(t->r)) {
        int n = line_recv(&t->l, data, sizeof data, 100);
        t->at_us = line_now_us();
        if (n >= 0) {
            size_t used = http_parser_execute(&t->parser, &settings, (const char *)data, (size_t)n);
            if (HTTP_PARSER_ERRNO(&t->parser) != HPE_OK || used != (size_t)n) {
                receive_tell(t->r, RECEIVE_FAILED, "what answers at port %u is not HTTP, or broken", t->r->to.port);
                return false;
            }
            heard = t->at_us;
        }
        if (n == 0 || n == -1) {
            if (t->done) break;
            receive_tell(t->r, t->good && t->r->m.all.pictures > 0 ? RECEIVE_ENDED : RECEIVE_FAILED,
                         "the server closed the connection%s", t->good ? "" : " without an answer");
            return false;
        }
        if (!told && t->at_us - heard > 4000000u) {
            told = true;
            receive_tell(t->r, RECEIVE_NOTE,
                         t->good ? "nothing has come for 4 s: is its camera there?" : "no answer for 4 s");
        }
    }
    return t->done;
}

static bool ask(http *t)
{
    char request[1800], who[700];
    const receive_address *a = &t->r->to;
    bool v6 = strchr(a->host, ':') != NULL;
    if (!auth_put(&t->auth, a, "GET", a->path, who, sizeof who)) return auth_failed(t->r, &t->auth), false;
    int n = snprintf(request, sizeof request,
                     "GET %s HTTP/1.1\r\nHost: %s%s%s:%u\r\nUser-Agent: bambino-check\r\n%sConnection: close\r\n\r\n",
                     a->path, v6 ? "[" : "", a->host, v6 ? "]" : "", a->port, who);
    http_parser_init(&t->parser, HTTP_RESPONSE);
    t->parser.data = t;
    t->asks = t->done = t->good = false;
    t->kind = HTTP_OTHER;
    t->type[0] = t->where[0] = t->reason[0] = '\0';
    t->body.size = 0;
    return n > 0 && (size_t)n < sizeof request && line_send(&t->l, request, (size_t)n) && read_answer(t);
}

/* Another address of the same kind; false: there is none, or it was told. */
static bool follow(http *t)
{
    receive_address to;
    char why[200], full[1200];
    receive_address *a = &t->r->to;
    bool v6 = strchr(a->host, ':') != NULL;
    if (t->where[0] == '/')
        snprintf(full, sizeof full, "%s://%s%s%s:%u%s", a->scheme == RECEIVE_HTTPS ? "https" : "http", v6 ? "[" : "",
                 a->host, v6 ? "]" : "", a->port, t->where);
    else
        snprintf(full, sizeof full, "%s", t->where);
    if (!receive_address_read(full, &to, why, sizeof why) ||
        (to.scheme != RECEIVE_HTTP && to.scheme != RECEIVE_HTTPS)) {
        receive_tell(t->r, RECEIVE_FAILED, "it points to %s, which is no address that can be followed", t->where);
        return false;
    }
    receive_tell(t->r, RECEIVE_NOTE, "it points to %s", to.text);
    /* Name and password were given for this host, and not to be shown where they were hidden before. */
    bool same = strcasecmp(to.host, a->host) == 0 && (to.scheme == a->scheme || to.scheme == RECEIVE_HTTPS);
    memcpy(to.user, same ? a->user : "", same ? sizeof to.user : 1);
    memcpy(to.password, same ? a->password : "", same ? sizeof to.password : 1);
    if (!same) memset(&t->auth, 0, sizeof t->auth);
    memcpy(to.text, a->text, sizeof to.text);
    *a = to;
    return true;
}

static void tell_refusal(http *t)
{
    unsigned status = t->parser.status_code;
    char text[TEXT_MOST + 1];
    bool plain = strncasecmp(t->type, "text/plain", 10) == 0;
    snprintf(text, sizeof text, "%.*s", (int)(t->body.size < TEXT_MOST ? t->body.size : TEXT_MOST),
             t->body.data != NULL ? (const char *)t->body.data : "");
    if (status == 200)
        receive_tell(t->r, RECEIVE_FAILED, "this is no feed, but %s",
                     t->type[0] != '\0' ? t->type : "something without a type");
    else
        receive_tell(t->r, RECEIVE_FAILED, "%s: %u %s", t->r->to.path, status, t->reason);
    const char *list = strchr(text, '\n');
    if (plain && list != NULL && list[1] != '\0') receive_tell(t->r, RECEIVE_HINT, "the server says:\n%s", list + 1);
    if (status == 200)
        receive_tell(t->r, RECEIVE_HINT, "a feed of JPEG has an address that ends in .mjpeg, of H.264 in .ts");
    if (status == 503) receive_tell(t->r, RECEIVE_HINT, "its camera is missing, or as many watch as may");
}

void receive_http(receive *r)
{
    http *t = calloc(1, sizeof *t);
    const sdp_media ts = { .codec = "MP2T", .clock = 90000 };
    if (t == NULL) return;
    t->r = r;
    (void)session_begin(&t->media, r, &ts);
    for (unsigned i = 0; i <= REDIRECTS_MOST + 1; i++) {
        bool whole = receive_connect(r, &t->l, r->to.scheme == RECEIVE_HTTPS) && ask(t);
        unsigned status = t->parser.status_code;
        line_close(&t->l);
        if (!whole) break;
        if (status == 401 && t->asks && t->auth.tries++ == 0 && r->to.user[0] != '\0') continue;
        if (status == 401) {
            auth_failed(r, &t->auth);
            break;
        }
        if (status >= 301 && status <= 308 && t->where[0] != '\0' && i < REDIRECTS_MOST && follow(t)) continue;
        if (t->kind == HTTP_PICTURE) {
            picture(t, t->body.data, t->body.size, "");
            receive_tell(r, RECEIVE_ENDED, "that is one picture; a feed is at the same address with .mjpeg");
        } else if (t->kind == HTTP_SDP) {
            receive_described(r, (const char *)t->body.data, t->body.size);
        } else if (!t->good) {
            tell_refusal(t);
        } else {
            receive_tell(r, RECEIVE_ENDED, "the server ended it");
        }
        break;
    }
    session_free(&t->media);
    parts_free(&t->parts);
    bytes_in_free(&t->body);
    free(t);
}
