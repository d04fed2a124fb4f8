/* The machine-readable strip: four rows of 24 cells at the bottom of a picture.
 *
 * 96 bits, most significant first, row by row from the top: 32 bits frame number, 48 bits capture time (Unix, in units
 * of 100 us), 16 bits checksum (CRC-16/CCITT of the ten bytes before). A cell is white for 1, black for 0. Only the
 * middle of a cell is read, so that blocks blurred by strong compression still count right.
 */
#include <stdbool.h>
#include <string.h>

#include "bambino/sim.h"

#define COLUMNS 24u
#define ROWS 4u
#define BYTES (COLUMNS * ROWS / 8u)
#define WHITE 235u
#define BLACK 16u
#define UNIT_US 100u

static uint16_t cell_height(uint16_t height)
{
    unsigned rows = height / 60u;
    return (uint16_t)(rows < 6 ? 6 : rows);
}

uint16_t bmb_strip_rows(uint16_t height)
{
    return (uint16_t)(cell_height(height) * ROWS);
}

static uint16_t crc16(const uint8_t *data, size_t size)
{
    uint16_t crc = 0xFFFF;
    for (size_t i = 0; i < size; i++) {
        crc = (uint16_t)(crc ^ data[i] << 8);
        for (int b = 0; b < 8; b++) crc = (uint16_t)((crc & 0x8000) != 0 ? crc << 1 ^ 0x1021 : crc << 1);
    }
    return crc;
}

static void put(uint8_t *at, uint64_t value, unsigned bytes)
{
    for (unsigned i = 0; i < bytes; i++) at[i] = (uint8_t)(value >> (8 * (bytes - 1 - i)));
}

static uint64_t get(const uint8_t *at, unsigned bytes)
{
    uint64_t v = 0;
    for (unsigned i = 0; i < bytes; i++) v = v << 8 | at[i];
    return v;
}

void bmb_strip_draw(uint8_t *luma, size_t stride, uint16_t width, uint16_t height, const bmb_strip *strip)
{
    uint8_t bytes[BYTES];
    put(bytes, strip->frame, 4);
    put(bytes + 4, strip->capture_us / UNIT_US, 6);
    put(bytes + 10, crc16(bytes, 10), 2);
    unsigned tall = cell_height(height), top = height - tall * ROWS;
    for (unsigned bit = 0; bit < COLUMNS * ROWS; bit++) {
        unsigned column = bit % COLUMNS, row = bit / COLUMNS;
        unsigned from = column * width / COLUMNS, to = (column + 1) * width / COLUMNS;
        bool one = (bytes[bit / 8] >> (7 - bit % 8) & 1) != 0;
        for (unsigned y = 0; y < tall; y++)
            memset(luma + (top + row * tall + y) * stride + from, one ? WHITE : BLACK, to - from);
    }
}

bmb_err bmb_strip_read(const uint8_t *luma, size_t stride, uint16_t width, uint16_t height, bmb_strip *out)
{
    uint8_t bytes[BYTES] = { 0 };
    unsigned tall = cell_height(height);
    if (width < 128 || height < 64) return BMB_BAD_DATA;
    unsigned top = height - tall * ROWS;
    for (unsigned bit = 0; bit < COLUMNS * ROWS; bit++) {
        unsigned column = bit % COLUMNS, row = bit / COLUMNS;
        unsigned from = column * width / COLUMNS, wide = (column + 1) * width / COLUMNS - from;
        unsigned sum = 0, count = 0;
        for (unsigned y = tall / 3; y < tall - tall / 3; y++)
            for (unsigned x = wide / 3; x < wide - wide / 3; x++, count++)
                sum += luma[(top + row * tall + y) * stride + from + x];
        if (sum > count * ((WHITE + BLACK) / 2)) bytes[bit / 8] |= (uint8_t)(1 << (7 - bit % 8));
    }
    if (crc16(bytes, 10) != get(bytes + 10, 2)) return BMB_BAD_DATA;
    out->frame = (uint32_t)get(bytes, 4);
    out->capture_us = get(bytes + 4, 6) * UNIT_US;
    return BMB_OK;
}
