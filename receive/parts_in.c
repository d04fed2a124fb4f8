#include "receive/parts_in.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

bool parts_begin(parts_in *p, const char *content_type)
{
    memset(p, 0, sizeof *p);
    const char *b = strcasestr(content_type, "boundary=");
    if (b == NULL) return false;
    b += 9;
    if (*b == '"') b++;
    /* Some write the dashes into the parameter, too. */
    if (strncmp(b, "--", 2) == 0) b += 2;
    size_t size = strcspn(b, "\"; \r\n");
    if (size == 0 || size > sizeof p->boundary - 3) return false;
    snprintf(p->boundary, sizeof p->boundary, "--%.*s", (int)size, b);
    return true;
}

bool parts_add(parts_in *p, const void *data, size_t size)
{
    return bytes_in_add(&p->bytes, data, size);
}

const char *part_value(const char *head, const char *name, char *out, size_t room)
{
    size_t n = strlen(name);
    for (const char *line = head; *line != '\0';) {
        size_t size = strcspn(line, "\n");
        if (size > n && strncasecmp(line, name, n) == 0 && line[n] == ':') {
            const char *from = line + n + 1, *to = line + size;
            while (from < to && isspace((unsigned char)*from)) from++;
            while (to > from && isspace((unsigned char)to[-1])) to--;
            snprintf(out, room, "%.*s", (int)(to - from), from);
            return out;
        }
        line += size + (line[size] == '\n');
    }
    return NULL;
}

/* Where the delimiter stands from `from` on; NULL: it is not there yet. */
static const uint8_t *delimiter(const parts_in *p, size_t from)
{
    return from <= p->bytes.size ? memmem(p->bytes.data + from, p->bytes.size - from, p->boundary, strlen(p->boundary))
                                 : NULL;
}

bool parts_next(parts_in *p, part *out)
{
    char length[24];
    bytes_in *b = &p->bytes;
    bytes_in_drop(b, p->given);
    p->given = 0;
    for (;;) {
        const uint8_t *begin = b->size > 0 ? delimiter(p, 0) : NULL;
        if (begin == NULL) return false;
        size_t at = (size_t)(begin - b->data) + strlen(p->boundary);
        const uint8_t *end = memmem(b->data + at, b->size - at, "\r\n\r\n", 4);
        if (end == NULL) return false;
        size_t body = (size_t)(end - b->data) + 4, head = body - 4 - at;
        snprintf(out->head, sizeof out->head, "%.*s", head < sizeof out->head ? (int)head : 0,
                 (const char *)b->data + at);
        unsigned long size = 0;
        if (part_value(out->head, "Content-Length", length, sizeof length) != NULL) {
            size = strtoul(length, NULL, 10);
            if (size > BYTES_IN_MOST) return false;
            if (b->size < body + size) return false;
        } else {
            const uint8_t *next = delimiter(p, p->looked > body ? p->looked : body);
            if (next == NULL) {
                p->looked = b->size > strlen(p->boundary) ? b->size - strlen(p->boundary) : 0;
                return false;
            }
            size = (unsigned long)(next - b->data) - body;
            if (size >= 2) size -= 2; /* the line's end before the delimiter */
        }
        p->looked = 0;
        if (size == 0) { /* between two delimiters is nothing, or no part */
            bytes_in_drop(b, body);
            continue;
        }
        p->given = body + size;
        out->data = b->data + body;
        out->size = size;
        return true;
    }
}

void parts_free(parts_in *p)
{
    bytes_in_free(&p->bytes);
}
