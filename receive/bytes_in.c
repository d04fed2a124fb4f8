#include "receive/bytes_in.h"

#include <stdlib.h>
#include <string.h>

bool bytes_in_add(bytes_in *b, const void *data, size_t size)
{
    if (size > BYTES_IN_MOST - b->size) return false;
    if (b->size + size > b->room) {
        size_t room = b->room > 0 ? b->room : 65536;
        while (room < b->size + size) room *= 2;
        uint8_t *grown = realloc(b->data, room);
        if (grown == NULL) return false;
        b->data = grown;
        b->room = room;
    }
    if (size > 0) memcpy(b->data + b->size, data, size);
    b->size += size;
    return true;
}

void bytes_in_drop(bytes_in *b, size_t size)
{
    b->size -= size;
    if (b->size > 0) memmove(b->data, b->data + size, b->size);
}

void bytes_in_free(bytes_in *b)
{
    free(b->data);
    *b = (bytes_in){ NULL, 0, 0 };
}
