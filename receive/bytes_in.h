/* Bytes that grow, up to a bound: pictures while they arrive. */
#ifndef RECEIVE_BYTES_IN_H
#define RECEIVE_BYTES_IN_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define BYTES_IN_MOST (24u << 20) /* no picture is larger; what claims to be is none */

typedef struct bytes_in {
    uint8_t *data;
    size_t size, room;
} bytes_in;

/* false: it is too large, or there is no memory. */
bool bytes_in_add(bytes_in *b, const void *data, size_t size);
void bytes_in_drop(bytes_in *b, size_t size); /* from the front */
void bytes_in_free(bytes_in *b);

#endif
