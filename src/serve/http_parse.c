#include "serve/http_parse.h"

#include <http_parser.h>
#include <string.h>

_Static_assert(sizeof(struct http_parser) <= sizeof((bmb_http_parse *)0)->library, "library state has grown");

static bmb_http_parse *owner(http_parser *lib)
{
    return (bmb_http_parse *)lib->data;
}

static int refuse(bmb_http_parse *p, uint16_t status)
{
    p->error = status;
    return 1; /* stops the library */
}

static int on_url(http_parser *lib, const char *at, size_t length)
{
    bmb_http_parse *p = owner(lib);
    if (length > BMB_HTTP_TARGET_MAX - p->target_size) return refuse(p, 414);
    p->target_size = (uint16_t)(p->target_size + length);
    bmb_path_feed(&p->path, at, length);
    return 0;
}

#define FIELDS_READ (BMB_WITH_ACCESS ? BMB_FIELDS : BMB_FIELD_HOST + 1)
static const char *const fields[FIELDS_READ] = {
    [BMB_FIELD_SESSION_COOKIE] = "x-sessioncookie",
    [BMB_FIELD_HOST] = "host",
#if BMB_WITH_ACCESS
    [BMB_FIELD_AUTHORIZATION] = "authorization",
    [BMB_FIELD_COOKIE] = "cookie",
    [BMB_FIELD_ORIGIN] = "origin",
    [BMB_FIELD_USER_AGENT] = "user-agent",
    [BMB_FIELD_REFERER] = "referer",
    [BMB_FIELD_LAST_EVENT] = "last-event-id",
    [BMB_FIELD_IF_NONE_MATCH] = "if-none-match",
    [BMB_FIELD_IF_MATCH] = "if-match",
    [BMB_FIELD_TYPE] = "content-type",
    [BMB_FIELD_EXPECT] = "expect",
#endif
};
#define AGENT_MOST 8u    /* enough to know a browser by */
#define REFERER_MOST 80u /* an origin, mostly, with a name of the usual length */

static bool is_field(const bmb_http_parse *p, uint8_t field)
{
    return p->matched != UINT8_MAX && p->field == field && fields[field][p->matched] == '\0';
}

#if BMB_WITH_ACCESS
void bmb_http_parse_keep(bmb_http_parse *p, void *memory, size_t room)
{
    p->kept = (char *)memory;
    p->kept_room = (uint16_t)(room < UINT16_MAX ? room : UINT16_MAX);
}

bmb_text bmb_http_parse_value(const bmb_http_parse *p, bmb_http_field field)
{
    const bmb_kept_field *f = &p->value[field - BMB_FIELD_KEPT];
    size_t size = f->size;
    while (size > 0 && (p->kept[f->at + size - 1] == ' ' || p->kept[f->at + size - 1] == '\t')) size--;
    return (bmb_text){ p->kept != NULL ? p->kept + f->at : NULL, size };
}

/* A fragment of the value of a field. What does not fit is refused, but for cookies, most of which are none of ours:
 * they count as not there. */
static int keep(bmb_http_parse *p, const char *at, size_t length, bool first)
{
    bmb_kept_field *f = &p->value[p->field - BMB_FIELD_KEPT];
    if (p->kept == NULL) return 0;
    if (first) *f = (bmb_kept_field){ .at = p->kept_size };
    size_t most = p->field == BMB_FIELD_USER_AGENT ? AGENT_MOST
                  : p->field == BMB_FIELD_REFERER  ? REFERER_MOST
                                                   : SIZE_MAX;
    if (length > most - f->size) length = most - f->size;
    if (length > (size_t)(p->kept_room - p->kept_size)) {
        if (p->field != BMB_FIELD_COOKIE) return refuse(p, 431);
        p->kept_size = f->at;
        f->size = 0;
        p->matched = UINT8_MAX; /* nor the rest of it */
        return 0;
    }
    memcpy(p->kept + p->kept_size, at, length);
    p->kept_size = (uint16_t)(p->kept_size + length);
    f->size = (uint16_t)(f->size + length);
    return 0;
}

/* true: a second one of a field that may be there once. A second line of others takes the place of the first. */
static bool twice(bmb_http_parse *p)
{
    if (is_field(p, BMB_FIELD_AUTHORIZATION)) {
        bool again = p->authorized;
        p->authorized = true;
        return again;
    }
    return false;
}
#else
static int keep(const bmb_http_parse *p, const char *at, size_t length, bool first)
{
    (void)p, (void)at, (void)length, (void)first;
    return 0;
}

static bool twice(const bmb_http_parse *p)
{
    (void)p;
    return false;
}
#endif

static bool is_kept(const bmb_http_parse *p)
{
    return BMB_WITH_ACCESS && p->field >= BMB_FIELD_KEPT && is_field(p, p->field);
}

/* The library tells of fragments, not of fields: a field ends where the next name begins, or the head ends. */
static int end_field(bmb_http_parse *p)
{
    bool host = p->in_value && is_field(p, BMB_FIELD_HOST), again = (host && p->host) || (p->in_value && twice(p));
    p->host = p->host || host;
    p->in_value = false;
    p->matched = 0;
    return again ? refuse(p, 400) : 0; /* RFC 9112 3.2 */
}

/* Of the names that begin as far as it was matched, the one that goes on with c; FIELDS_READ: none does. */
static uint8_t next_field(const bmb_http_parse *p, char c)
{
    uint8_t field = p->matched == 0 ? 0 : p->field;
    if (!BMB_WITH_ACCESS && p->matched == 0) field = c == fields[0][0] ? 0 : 1;
    if (!BMB_WITH_ACCESS) return fields[field][p->matched] == c ? field : FIELDS_READ; /* the two begin differently */
    while (field < FIELDS_READ &&
           (strncmp(fields[field], fields[p->field], p->matched) != 0 || fields[field][p->matched] != c))
        field++;
    return field;
}

/* Field names may arrive in fragments; a match is carried from one to the next. */
static int on_header_field(http_parser *lib, const char *at, size_t length)
{
    bmb_http_parse *p = owner(lib);
    if (p->in_value && end_field(p) != 0) return 1;
    for (size_t i = 0; i < length && p->matched != UINT8_MAX; i++) {
        char c = (char)(at[i] >= 'A' && at[i] <= 'Z' ? at[i] | 0x20 : at[i]);
        uint8_t field = next_field(p, c);
        if (field < FIELDS_READ) p->field = field;
        p->matched = field < FIELDS_READ ? (uint8_t)(p->matched + 1) : UINT8_MAX;
    }
    return 0;
}

/* RFC 9110 5.5: no control characters, the tab aside. */
static int on_header_value(http_parser *lib, const char *at, size_t length)
{
    bmb_http_parse *p = owner(lib);
    bool first = !p->in_value;
    p->in_value = true;
    for (size_t i = 0; i < length; i++)
        if (((uint8_t)at[i] < 0x20 && at[i] != '\t') || at[i] == 0x7F) return refuse(p, 400);
    if (is_field(p, BMB_FIELD_SESSION_COOKIE)) {
        uint32_t hash = p->cookie != 0 ? p->cookie : 2166136261u; /* FNV-1a, over all fragments */
        for (size_t i = 0; i < length; i++) hash = (hash ^ (uint8_t)at[i]) * 16777619u;
        p->cookie = hash != 0 ? hash : 1;
    }
    return is_kept(p) ? keep(p, at, length, first) : 0;
}

static bmb_http_method method_of(const http_parser *lib)
{
    switch (lib->method) {
    case HTTP_GET:
        return BMB_HTTP_GET;
    case HTTP_HEAD:
        return BMB_HTTP_HEAD;
    case HTTP_POST:
        return BMB_HTTP_POST;
    default:
        break;
    }
    if (!BMB_WITH_SERVICE) return BMB_HTTP_OTHER;
    return lib->method == HTTP_PUT      ? BMB_HTTP_PUT
           : lib->method == HTTP_PATCH  ? BMB_HTTP_PATCH
           : lib->method == HTTP_DELETE ? BMB_HTTP_DELETE
                                        : BMB_HTTP_OTHER;
}

static int on_headers_complete(http_parser *lib)
{
    bmb_http_parse *p = owner(lib);
    if (lib->http_major != 1) return refuse(p, 505);
    p->old = lib->http_minor == 0;
    if (end_field(p) != 0) return 1;
    if (!p->old && !p->host) return refuse(p, 400); /* RFC 9112 3.2 */
    p->method = (uint8_t)method_of(lib);
    if (p->method == BMB_HTTP_POST && p->cookie != 0) {
        p->complete = true;
        return 1;
    }
    bool body = (lib->flags & F_CHUNKED) != 0 || (lib->content_length != 0 && lib->content_length != UINT64_MAX);
#if BMB_WITH_SERVICE
    if (p->serves && p->method > BMB_HTTP_HEAD && p->method < BMB_HTTP_OTHER) {
        p->keep_alive = http_should_keep_alive(lib) != 0;
        p->asks_for_room = body;
        if (body) http_parser_pause(lib, 1);
        return 0;
    }
#endif
    bool asks = p->method <= BMB_HTTP_HEAD || (BMB_WITH_ACCESS && p->method == BMB_HTTP_POST && !body);
    if (!asks) return refuse(p, 405); /* whatever its body */
    if (body) return refuse(p, 413);
    p->keep_alive = http_should_keep_alive(lib) != 0;
    return 0;
}

#if BMB_WITH_SERVICE
void bmb_http_parse_body(bmb_http_parse *p, uint8_t *memory, size_t room)
{
    http_parser *lib = (http_parser *)(void *)p->library;
    p->asks_for_room = false;
    p->body = memory;
    p->body_room = (uint32_t)room;
    p->body_size = 0;
    if (lib->content_length != UINT64_MAX && lib->content_length > room) {
        refuse(p, 413);
    } else {
        http_parser_pause(lib, 0);
    }
}

static int on_body(http_parser *lib, const char *at, size_t length)
{
    bmb_http_parse *p = owner(lib);
    if (p->body == NULL || length > p->body_room - p->body_size) return refuse(p, 413);
    memcpy(p->body + p->body_size, at, length);
    p->body_size += (uint32_t)length;
    return 0;
}
#endif

static int on_message_complete(http_parser *lib)
{
    owner(lib)->complete = true;
    http_parser_pause(lib, 1); /* a pipelined request waits its turn */
    return 0;
}

static const http_parser_settings callbacks = { .on_url = on_url,
                                                .on_header_field = on_header_field,
                                                .on_header_value = on_header_value,
                                                .on_headers_complete = on_headers_complete,
#if BMB_WITH_SERVICE
                                                .on_body = on_body,
#endif
                                                .on_message_complete = on_message_complete };

void bmb_http_parse_reset(bmb_http_parse *p)
{
    memset(p, 0, sizeof *p);
    bmb_path_reset(&p->path);
    http_parser *lib = (http_parser *)(void *)p->library;
    http_parser_init(lib, HTTP_REQUEST);
    lib->data = p;
}

enum { SCAN_BEFORE, SCAN_REQUEST, SCAN_BEGIN, SCAN_NAME, SCAN_VALUE, SCAN_OVER };

/* One character of the head. false: the library takes it, and others read it otherwise, so that two who look at one
 * request would see two: a line that does not end with CR LF, one that is folded, a blank before the colon (RFC 9112
 * 2.2, 5.1, 5.2). */
static bool scan(bmb_http_parse *p, uint8_t c)
{
    bool blank = c == ' ' || c == '\t', ends = c == '\n';
    if (ends != (p->before == '\r')) return false;
    p->before = c;
    switch (p->scan) {
    case SCAN_BEFORE: /* empty lines may stand before a request */
        if (c != '\r' && !ends) p->scan = SCAN_REQUEST;
        return true;
    case SCAN_BEGIN:
        if (blank) return false;
        p->scan = ends ? SCAN_OVER : c == '\r' ? SCAN_BEGIN : SCAN_NAME;
        return true;
    case SCAN_NAME:
        if (c == ':') p->scan = SCAN_VALUE;
        return !blank;
    default:
        if (ends) p->scan = SCAN_BEGIN;
        return true;
    }
}

/* false: this part of the head is malformed. */
static bool scan_all(bmb_http_parse *p, const uint8_t *data, size_t size)
{
    for (size_t i = 0; i < size && p->scan != SCAN_OVER; i++)
        if (!scan(p, data[i])) return false;
    return true;
}

size_t bmb_http_parse_feed(bmb_http_parse *p, const uint8_t *data, size_t size)
{
    http_parser *lib = (http_parser *)(void *)p->library;
    if (p->complete || p->error != 0 || size == 0) return 0;
    lib->data = p; /* the connection may have moved since */
    /* Who may do what hangs on one reading; a device without users has no such thing to lose. */
    if (BMB_WITH_ACCESS && !scan_all(p, data, size)) {
        p->begun = true;
        refuse(p, 400);
        return size;
    }
    size_t used = http_parser_execute(lib, &callbacks, (const char *)data, size);
    if (used > 0) p->begun = true;
    if (p->complete || p->error != 0) return used;
#if BMB_WITH_SERVICE
    if (p->asks_for_room) return used;
    if (p->body != NULL) { /* the head is over, and was counted */
        if (HTTP_PARSER_ERRNO(lib) != HPE_OK) refuse(p, 400);
        return used;
    }
#endif
    size_t header = (size_t)p->header_size + used;
    if (header > BMB_HTTP_HEADER_MAX) {
        refuse(p, p->target_size == BMB_HTTP_TARGET_MAX ? 414 : 431);
        return used;
    }
    p->header_size = (uint16_t)header;
    if (lib->upgrade != 0 || HTTP_PARSER_ERRNO(lib) != HPE_OK)
        refuse(p, HTTP_PARSER_ERRNO(lib) == HPE_HEADER_OVERFLOW ? 431 : 400);
    return used;
}
