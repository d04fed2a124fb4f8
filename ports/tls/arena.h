/* Memory for Mbed TLS, which allocates without saying for whom: whoever calls it enters an arena first. Each connection
 * has one of its own, so that a peer can use up nobody's but his, and so that a budget can name what one takes at most.
 */
#ifndef BMB_TLS_ARENA_H
#define BMB_TLS_ARENA_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef struct bmb_arena {
    uint8_t *memory; /* aligned for anything */
    uint32_t size;
    uint32_t most;  /* bytes from its begin that were in use at a time, at most */
    uint32_t count; /* pieces in use */
    bool failed;    /* something did not fit */
} bmb_arena;

void bmb_arena_init(bmb_arena *arena, void *memory, uint32_t size);
/* From here on it is allocated from this one; `now_s` is what time it is for the library. Pieces of `shared` may be
 * given back meanwhile, too. Returns the one of before. */
bmb_arena *bmb_arena_enter(bmb_arena *arena, bmb_arena *shared, long long now_s);
void bmb_arena_leave(void);

#endif
