#include "tls/arena.h"

#include <string.h>

#define USED 1u
#define ALIGN 8u

/* In front of each piece. */
typedef struct piece {
    uint32_t size; /* with this header, a multiple of ALIGN; USED in its lowest bit */
    uint32_t unused;
} piece;

_Static_assert(sizeof(piece) == ALIGN, "pieces keep their alignment");

#ifdef __linux__
#define EACH_THREAD _Thread_local /* devices of one process may run in threads of their own */
#else
#define EACH_THREAD
#endif

static EACH_THREAD struct {
    bmb_arena *arena, *shared;
    long long now_s;
} here;

void *bmb_tls_calloc(size_t count, size_t size);
void bmb_tls_free(void *data);
long long bmb_tls_time(long long *out);

static piece *at(const bmb_arena *a, uint32_t offset)
{
    return (piece *)(void *)(a->memory + offset);
}

void bmb_arena_init(bmb_arena *a, void *memory, uint32_t size)
{
    *a = (bmb_arena){ .memory = (uint8_t *)memory, .size = size & ~(ALIGN - 1) };
    *at(a, 0) = (piece){ a->size, 0 };
}

bmb_arena *bmb_arena_enter(bmb_arena *arena, bmb_arena *shared, long long now_s)
{
    bmb_arena *before = here.arena;
    here.arena = arena;
    here.shared = shared;
    here.now_s = now_s;
    return before;
}

void bmb_arena_leave(void)
{
    here.arena = here.shared = NULL;
}

long long bmb_tls_time(long long *out)
{
    if (out != NULL) *out = here.now_s;
    return here.now_s;
}

/* The free ones behind this become one with it. */
static void join(const bmb_arena *a, uint32_t offset)
{
    piece *p = at(a, offset);
    for (;;) {
        uint32_t next = offset + p->size;
        if (next >= a->size || (at(a, next)->size & USED) != 0) return;
        p->size += at(a, next)->size;
    }
}

/* The first one that is large enough: what lives long is made early, and ends up at the begin. */
void *bmb_tls_calloc(size_t count, size_t size)
{
    bmb_arena *a = here.arena;
    if (a == NULL || (size != 0 && count > UINT32_MAX / 2 / size)) return NULL;
    uint32_t need = (uint32_t)((count * size + sizeof(piece) + ALIGN - 1) & ~(size_t)(ALIGN - 1));
    for (uint32_t offset = 0, step; offset < a->size; offset += step) {
        piece *p = at(a, offset);
        step = p->size & ~USED;
        if ((p->size & USED) != 0) continue;
        join(a, offset);
        step = p->size;
        if (step < need) continue;
        if (step > need) *at(a, offset + need) = (piece){ step - need, 0 };
        p->size = need | USED;
        a->count++;
        if (offset + need > a->most) a->most = offset + need;
        return memset(p + 1, 0, need - sizeof *p);
    }
    a->failed = true;
    return NULL;
}

static bool give_back(bmb_arena *a, uint8_t *data)
{
    if (a == NULL || data < a->memory || data >= a->memory + a->size) return false;
    piece *p = (piece *)(void *)data - 1;
    p->size &= ~USED;
    a->count--;
    return true;
}

void bmb_tls_free(void *data)
{
    if (data != NULL && !give_back(here.arena, (uint8_t *)data)) (void)give_back(here.shared, (uint8_t *)data);
}
