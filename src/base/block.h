/* Parts of one block of memory that the caller owns, handed out one behind the other.
 *
 *     bmb_block b = bmb_block_of(memory);          NULL: it only counts, so that a budget and what is then built are
 *     rows *r = bmb_block_take(&b, n * sizeof *r); the same arithmetic
 *
 * Under AddressSanitizer a gap lies behind each part that nobody may touch: whoever reads or writes behind what is his
 * is found, although the block is one to the allocator.
 */
#ifndef BMB_BASE_BLOCK_H
#define BMB_BASE_BLOCK_H

#include <stddef.h>
#include <stdint.h>

#if defined(__has_feature)
#define BMB_BLOCK_ASAN __has_feature(address_sanitizer)
#elif defined(__SANITIZE_ADDRESS__)
#define BMB_BLOCK_ASAN 1
#else
#define BMB_BLOCK_ASAN 0
#endif
#define BMB_BLOCK_GAP (BMB_BLOCK_ASAN ? 1024u : 0u) /* over any struct here: one element too far is in it */

typedef struct bmb_block {
    uint8_t *base; /* NULL: counts */
    size_t used;   /* SIZE_MAX: more than can be */
    size_t told;   /* of that, what bmb_block_since told of */
} bmb_block;

/* base: at any address. Counting takes the most into account that may be lost to align it. */
bmb_block bmb_block_of(void *base);
/* An aligned part, with what was in it before; NULL while it counts. */
void *bmb_block_take(bmb_block *b, size_t size);
/* The same, zeroed. */
void *bmb_block_take_zeroed(bmb_block *b, size_t count, size_t size);
/* How much was handed out since this was last asked. */
size_t bmb_block_since(bmb_block *b);
/* All memory from the first part on is its owner's again. size: as counted. */
void bmb_block_give_back(void *first, size_t size);

#endif
