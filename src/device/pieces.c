#include "device/pieces.h"

#if BMB_WITH_CHANGES

bmb_piece *bmb_piece_of(const bmb_device *d, size_t feed)
{
    return &d->pieces->of[feed];
}

/* A place for `size` bytes among the pieces of all feeds but one; NULL: there is none. *gap gets the largest that was
 * met. */
uint8_t *bmb_find_place(const bmb_device *d, size_t size, size_t except, size_t *gap)
{
    uint8_t *at = d->pieces->memory, *end = at + d->pieces->size;
    *gap = 0;
    for (;;) {
        const bmb_piece *next = NULL; /* the first one from there on */
        for (size_t i = 0; i < d->feeds.count; i++) {
            const bmb_piece *p = bmb_piece_of(d, i);
            if (i != except && p->size > 0 && p->at >= at && (next == NULL || p->at < next->at)) next = p;
        }
        size_t free = (size_t)((next != NULL ? next->at : end) - at);
        if (free > *gap) *gap = free;
        if (free >= size && size > 0) return at;
        if (next == NULL) return NULL;
        at = next->at + next->size;
    }
}

size_t bmb_spare_piece(const bmb_device *d)
{
    size_t gap = 0;
    if (d->pieces != NULL) (void)bmb_find_place(d, 0, SIZE_MAX, &gap);
    return gap;
}

#endif
