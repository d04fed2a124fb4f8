/* Huffman tables that every receiver of JPEG over RTP knows (ITU-T T.81 tables K.3 to K.6, RFC 2435 appendix B): 16
 * counts, then the values.
 */
#ifndef BMB_WIRE_JPEG_TABLES_H
#define BMB_WIRE_JPEG_TABLES_H

#include <stdint.h>

#define BMB_JPEG_DC_SIZE 28u
#define BMB_JPEG_AC_SIZE 178u

extern const uint8_t bmb_jpeg_dc_luma[BMB_JPEG_DC_SIZE], bmb_jpeg_dc_chroma[BMB_JPEG_DC_SIZE];
extern const uint8_t bmb_jpeg_ac_luma[BMB_JPEG_AC_SIZE], bmb_jpeg_ac_chroma[BMB_JPEG_AC_SIZE];

#endif
