/* The structure of a JPEG image (ITU-T T.81 annex B): enough to know that it is whole, how large the picture is, and
 * what RTP needs of it. No pixel is decoded.
 */
#ifndef BMB_WIRE_JPEG_H
#define BMB_WIRE_JPEG_H

#include "bambino/err.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define BMB_JPEG_COMPONENTS 3

typedef struct bmb_jpeg_component {
    uint8_t id, h, v; /* sampling factors */
    uint8_t quant;    /* quantisation table, 0 to 3 */
    uint8_t dc, ac;   /* Huffman tables of the first scan */
} bmb_jpeg_component;

typedef struct bmb_jpeg {
    size_t size; /* bytes up to and with the end-of-image marker; what follows it is padding */
    uint16_t width, height;
    uint8_t sof;   /* start-of-frame marker: 0xC0 baseline, 0xC2 progressive … */
    uint8_t scans; /* 1 for baseline as cameras write it */
    uint8_t components;
    uint8_t precision; /* bits per sample */
    bmb_jpeg_component component[BMB_JPEG_COMPONENTS];
    uint16_t restart_interval; /* in MCUs; 0: none */
    /* Offsets from the image's start; 0: absent. */
    uint32_t quant_at[4]; /* first of the table's 64 (or 128) entries, zigzag order */
    bool quant_16bit[4];
    uint32_t huffman_at[2][4]; /* [0] DC, [1] AC: first of the 16 counts */
    uint32_t scan_at;          /* first byte of entropy-coded data of the first scan */
    uint32_t scan_end;         /* its end: the next marker that is not RSTn */
} bmb_jpeg;

/* Checks the image from start-of-image to end-of-image. BMB_BAD_DATA: cut off, garbled in a way that the structure
 * shows, or no JPEG; *out has what stands before that: scans 0 and a scan_at: its first scan was begun. */
bmb_err bmb_jpeg_parse(const uint8_t *data, size_t size, bmb_jpeg *out);

#endif
