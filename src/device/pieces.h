/* The memory of feeds that may change: where there is room in it. */
#ifndef BMB_DEVICE_PIECES_H
#define BMB_DEVICE_PIECES_H

#include "device/parts.h"

#if BMB_WITH_CHANGES
bmb_piece *bmb_piece_of(const bmb_device *d, size_t feed);
/* A place for `size` bytes among the pieces of all feeds but one; NULL: there is none. *gap gets the largest that was
 * met. */
uint8_t *bmb_find_place(const bmb_device *d, size_t size, size_t except, size_t *gap);
#endif
/* The largest piece of frame memory that no feed has. */
size_t bmb_spare_piece(const bmb_device *d);

#endif
