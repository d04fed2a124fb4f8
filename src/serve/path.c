#include "serve/path.h"

#include <string.h>

#include "base/bytes.h"

/* START: nothing yet; SCHEME: "http" of "http://", if a colon follows; AUTHORITY: behind the colon, `value` counts the
 * slashes; PATH; END: behind '?' or '#'. */
enum { START, SCHEME, AUTHORITY, PATH, END };

static int digit_of(char c)
{
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    return c >= 'A' && c <= 'F' ? c - 'A' + 10 : -1;
}

static void put(bmb_path *p, char c)
{
    bool doubled = c == '/' && p->size > 0 && p->text[p->size - 1] == '/';
    if (!doubled && p->size < BMB_PATH_MAX) p->text[p->size++] = c;
}

static void feed_path(bmb_path *p, char c)
{
    int digit = digit_of(c);
    if (p->escape > 0 && digit >= 0) {
        p->value = (uint8_t)(p->value << 4 | digit);
        if (--p->escape == 0) put(p, (char)p->value);
    } else if (p->escape > 0) { /* no such character: nothing has this address */
        p->size = BMB_PATH_MAX;
        p->escape = 0;
    } else if (c == '%') {
        p->escape = 2;
        p->value = 0;
    } else if (c == '?' || c == '#') {
        p->part = END;
    } else {
        put(p, c);
    }
}

static void feed_one(bmb_path *p, char c)
{
    switch (p->part) {
    case START:
        p->part = c == '/' ? PATH : SCHEME;
        if (p->part == PATH) put(p, c);
        break;
    case SCHEME:
        if (c == ':') p->part = AUTHORITY;
        break;
    case AUTHORITY:
        if (c == '/' && p->value == 2) {
            p->part = PATH;
            put(p, c);
        } else if (p->value < 2) {
            p->value++; /* the two slashes */
        }
        break;
    case PATH:
        feed_path(p, c);
        break;
    default:
        break;
    }
}

void bmb_path_reset(bmb_path *p)
{
    *p = (bmb_path){ .part = START };
}

void bmb_path_feed(bmb_path *p, const char *text, size_t size)
{
    for (size_t i = 0; i < size; i++) feed_one(p, text[i]);
}

void bmb_path_of(bmb_path *p, const char *text, size_t size)
{
    *p = (bmb_path){ .part = PATH };
    bmb_path_feed(p, text, size);
}

bool bmb_path_is(const bmb_path *p, const char *literal)
{
    return bmb_same_nocase(p->text, p->size, literal);
}

bool bmb_path_drop_end(const char *at, size_t *size, const char *end)
{
    const size_t behind = strlen(end);
    if (*size <= behind || !bmb_same_nocase(at + *size - behind, behind, end)) return false;
    *size -= behind;
    return true;
}

#define LENT "lent/"

bmb_text bmb_path_take_link(bmb_path *p)
{
    char link[BMB_LINK_SIZE];
    const size_t slash = p->size > 0 && p->text[0] == '/'; /* RTSP's begin without */
    const size_t before = slash + sizeof LENT - 1, size = BMB_LINK_SIZE - 1;
    bool begins =
        p->size < BMB_PATH_MAX && p->size > before + size && memcmp(p->text + slash, LENT, before - slash) == 0;
    if (!begins || p->text[before + size] != '/') return (bmb_text){ NULL, 0 };
    memcpy(link, p->text + before, size);
    size_t rest = p->size - before - size;
    memmove(p->text, p->text + before + size, rest);
    memcpy(p->text + rest, link, size);
    p->size = (uint8_t)rest;
    return (bmb_text){ p->text + rest, size };
}
