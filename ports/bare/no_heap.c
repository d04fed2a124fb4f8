/* There is no heap: who asks for one gets nothing, and it is counted. cJSON names these functions as its presets; the
 * device gives it memory of its own. */
#include <stdlib.h>

#include "bambino/bare.h"

unsigned bmb_bare_heap_asked;

void *malloc(size_t size)
{
    (void)size;
    bmb_bare_heap_asked++;
    return NULL;
}

void *calloc(size_t count, size_t size)
{
    (void)count;
    (void)size;
    bmb_bare_heap_asked++;
    return NULL;
}

void *realloc(void *memory, size_t size)
{
    (void)memory;
    (void)size;
    bmb_bare_heap_asked++;
    return NULL;
}

void free(void *memory)
{
    (void)memory;
}
