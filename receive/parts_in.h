/* Parts of multipart/x-mixed-replace (RFC 2046 5.1), as JPEG over HTTP comes. */
#ifndef RECEIVE_PARTS_IN_H
#define RECEIVE_PARTS_IN_H

#include "receive/bytes_in.h"

typedef struct parts_in {
    char boundary[80]; /* with the two dashes */
    bytes_in bytes;
    size_t looked; /* bytes in which no end was found */
    size_t given;  /* bytes in front that the last part took */
} parts_in;

/* One part, until the next call. */
typedef struct part {
    const uint8_t *data;
    size_t size;
    char head[1024]; /* its header lines, "" where they are more than that */
} part;

/* Of the media type; false: it names no boundary. */
bool parts_begin(parts_in *p, const char *content_type);
bool parts_add(parts_in *p, const void *data, size_t size); /* false: it is too much */
bool parts_next(parts_in *p, part *out);
void parts_free(parts_in *p);
/* The value of a header line, without spaces around it; NULL: it is not there. */
const char *part_value(const char *head, const char *name, char *out, size_t room);

#endif
