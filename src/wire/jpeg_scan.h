/* Goes through the entropy-coded data of a JPEG image (ITU-T T.81 F.2.2), symbol by symbol; no pixel is made.
 */
#ifndef BMB_WIRE_JPEG_SCAN_H
#define BMB_WIRE_JPEG_SCAN_H

#include "wire/jpeg.h"

typedef struct bmb_jpeg_sum {
    int64_t dc;      /* of the DC coefficients of all luminance blocks */
    uint32_t blocks; /* of luminance */
    size_t end;      /* where the data ends, from the image's start */
} bmb_jpeg_sum;

/* true: every block of the picture is there, before `end`. false: some are missing or garbled, or it cannot be told:
 * progressive, 16 bits, tables missing, several scans. jpeg: as far as it was parsed, its first scan at least. */
bool bmb_jpeg_scan(const uint8_t *data, const bmb_jpeg *jpeg, size_t end, bmb_jpeg_sum *out);

#endif
