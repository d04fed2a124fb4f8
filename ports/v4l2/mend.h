/* JPEG images as cameras write them, made whole. Private to ports/. */
#ifndef BMB_V4L2_MEND_H
#define BMB_V4L2_MEND_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define V4L2_TABLES 420u /* bytes that are put in where an image has no Huffman tables */

/* Cuts off what lies behind the first image where there is something (thorough: also where it ends as an image does,
 * such as a second image, which takes reading all of it), and puts the standard Huffman tables (ITU-T T.81 K.3) in
 * where there are none, which many cameras leave out. Returns the new size, in the same place; 0: it is no JPEG image,
 * or room is too small; *copied counts bytes that had to be moved. An image that is cut off stays as it is: whoever
 * checks it says so. */
size_t v4l2_mend_jpeg(uint8_t *data, size_t size, size_t room, bool thorough, uint64_t *copied);

#endif
