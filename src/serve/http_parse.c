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

/* The fields that mean something here. */
enum { FIELD_HOST, FIELD_COOKIE, FIELDS };
static const char *const fields[FIELDS] = { "host", "x-sessioncookie" };

static bool is_field(const bmb_http_parse *p, uint8_t field)
{
    return p->matched != UINT8_MAX && p->field == field && fields[field][p->matched] == '\0';
}

/* The library tells of fragments, not of fields: a field ends where the next name begins, or the head ends. */
static int end_field(bmb_http_parse *p)
{
    bool host = p->in_value && is_field(p, FIELD_HOST), twice = host && p->host;
    p->host = p->host || host;
    p->in_value = false;
    p->matched = 0;
    return twice ? refuse(p, 400) : 0; /* RFC 9112 3.2 */
}

/* Field names may arrive in fragments; a match is carried from one to the next. */
static int on_header_field(http_parser *lib, const char *at, size_t length)
{
    bmb_http_parse *p = owner(lib);
    if (p->in_value && end_field(p) != 0) return 1;
    for (size_t i = 0; i < length && p->matched != UINT8_MAX; i++) {
        char c = (char)(at[i] >= 'A' && at[i] <= 'Z' ? at[i] | 0x20 : at[i]);
        if (p->matched == 0) p->field = c == fields[FIELD_COOKIE][0] ? FIELD_COOKIE : FIELD_HOST;
        p->matched = fields[p->field][p->matched] == c ? (uint8_t)(p->matched + 1) : UINT8_MAX;
    }
    return 0;
}

/* RFC 9110 5.5: no control characters, the tab aside. */
static int on_header_value(http_parser *lib, const char *at, size_t length)
{
    bmb_http_parse *p = owner(lib);
    p->in_value = true;
    for (size_t i = 0; i < length; i++)
        if (((uint8_t)at[i] < 0x20 && at[i] != '\t') || at[i] == 0x7F) return refuse(p, 400);
    if (is_field(p, FIELD_COOKIE)) {
        uint32_t hash = p->cookie != 0 ? p->cookie : 2166136261u; /* FNV-1a, over all fragments */
        for (size_t i = 0; i < length; i++) hash = (hash ^ (uint8_t)at[i]) * 16777619u;
        p->cookie = hash != 0 ? hash : 1;
    }
    return 0;
}

static int on_headers_complete(http_parser *lib)
{
    bmb_http_parse *p = owner(lib);
    if (lib->http_major != 1) return refuse(p, 505);
    p->old = lib->http_minor == 0;
    if (end_field(p) != 0) return 1;
    if (!p->old && !p->host) return refuse(p, 400); /* RFC 9112 3.2 */
    p->method = (uint8_t)(lib->method == HTTP_GET    ? BMB_HTTP_GET
                          : lib->method == HTTP_HEAD ? BMB_HTTP_HEAD
                          : lib->method == HTTP_POST ? BMB_HTTP_POST
                                                     : BMB_HTTP_OTHER);
    if (p->method == BMB_HTTP_POST && p->cookie != 0) {
        p->complete = true;
        return 1;
    }
    if (p->method > BMB_HTTP_HEAD) return refuse(p, 405); /* whatever its body */
    bool body = (lib->flags & F_CHUNKED) != 0 || (lib->content_length != 0 && lib->content_length != UINT64_MAX);
    if (body) return refuse(p, 413);
    p->keep_alive = http_should_keep_alive(lib) != 0;
    return 0;
}

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
                                                .on_message_complete = on_message_complete };

void bmb_http_parse_reset(bmb_http_parse *p)
{
    memset(p, 0, sizeof *p);
    bmb_path_reset(&p->path);
    http_parser *lib = (http_parser *)(void *)p->library;
    http_parser_init(lib, HTTP_REQUEST);
    lib->data = p;
}

size_t bmb_http_parse_feed(bmb_http_parse *p, const uint8_t *data, size_t size)
{
    http_parser *lib = (http_parser *)(void *)p->library;
    if (p->complete || p->error != 0 || size == 0) return 0;
    lib->data = p; /* the connection may have moved since */
    size_t used = http_parser_execute(lib, &callbacks, (const char *)data, size);
    if (used > 0) p->begun = true;
    if (p->complete || p->error != 0) return used;
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
