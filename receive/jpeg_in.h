/* JPEG images put together again from RTP (RFC 2435). */
#ifndef RECEIVE_JPEG_IN_H
#define RECEIVE_JPEG_IN_H

#include "receive/bytes_in.h"

typedef struct jpeg_in_head {
    uint8_t type, q;
    uint16_t width, height, restart; /* restart: interval in MCUs; 0: none */
    uint32_t at;                     /* of this payload in the scan */
    const uint8_t *tables;           /* in band; NULL: none in this packet */
    const uint8_t *scan;
    size_t scan_size;
} jpeg_in_head;

/* Takes a packet's payload apart; false: it is none, or of a type that no RFC describes. */
bool jpeg_in_read(const uint8_t *data, size_t size, jpeg_in_head *out);
/* The 128 entries of both tables at this Q, 1 to 99 (RFC 2435 4.2 and appendix A). */
void jpeg_in_tables(uint8_t q, uint8_t out[128]);
/* Writes everything before the scan (appendix B). */
bool jpeg_in_begin(bytes_in *out, const jpeg_in_head *head, const uint8_t tables[128]);

#endif
