/* How bright a JPEG image is, from what it was coded with: the mean of the luminance blocks' DC coefficients (ITU-T
 * T.81 F.2.2). The other coefficients are passed over, no pixel is made.
 */
#ifndef BMB_WIRE_JPEG_LIGHT_H
#define BMB_WIRE_JPEG_LIGHT_H

#include "wire/jpeg.h"

/* 0 (black) to 255 (white); -1: it is not known: progressive, 16 bits, tables missing, or garbled. */
int bmb_jpeg_brightness(const uint8_t *data, const bmb_jpeg *jpeg);

#endif
