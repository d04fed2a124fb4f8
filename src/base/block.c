#include "base/block.h"

#include <string.h>

#include "base/bytes.h"

#if BMB_BLOCK_ASAN
#include <sanitizer/asan_interface.h>
#else
#define ASAN_POISON_MEMORY_REGION(at, size) ((void)(at))
#define ASAN_UNPOISON_MEMORY_REGION(at, size) ((void)(at))
#endif

bmb_block bmb_block_of(void *base)
{
    size_t skew = (BMB_ALIGN - (uintptr_t)base % BMB_ALIGN) % BMB_ALIGN;
    return (bmb_block){ .base = base, .used = base != NULL ? skew : BMB_ALIGN };
}

void *bmb_block_take(bmb_block *b, size_t size)
{
    uint8_t *here = b->base != NULL ? b->base + b->used : NULL;
    size_t whole = size > 0 ? bmb_align(bmb_add(size, BMB_BLOCK_GAP)) : 0;
    b->used = bmb_add(b->used, whole);
    if (here != NULL) ASAN_POISON_MEMORY_REGION(here + size, whole - size);
    return here;
}

void *bmb_block_take_zeroed(bmb_block *b, size_t count, size_t size)
{
    void *here = bmb_block_take(b, bmb_mul(count, size));
    if (here != NULL) memset(here, 0, count * size);
    return here;
}

size_t bmb_block_since(bmb_block *b)
{
    size_t since = b->used - b->told;
    b->told = b->used;
    return since;
}

void bmb_block_give_back(void *first, size_t size)
{
    ASAN_UNPOISON_MEMORY_REGION(first, size - BMB_ALIGN);
    (void)size;
}
