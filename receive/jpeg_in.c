#include "receive/jpeg_in.h"

#include <string.h>

#include "base/bytes.h"
#include "wire/jpeg_tables.h"

/* ITU-T T.81 tables K.1 and K.2, in zigzag order as images have them. */
static const uint8_t quant[128] = {
    16,  11, 12, 14,  12,  10,  16,  14,  13, 14,  18,  17, 16, 19, 24, 40, 26, 24, 22, 22,  24, 49, 35, 37, 29,  40,
    58,  51, 61, 60,  57,  51,  56,  55,  64, 72,  92,  78, 64, 68, 87, 69, 55, 56, 80, 109, 81, 87, 95, 98, 103, 104,
    103, 62, 77, 113, 121, 112, 100, 120, 92, 101, 103, 99, 17, 18, 18, 24, 21, 24, 47, 26,  26, 47, 99, 66, 56,  66,
    99,  99, 99, 99,  99,  99,  99,  99,  99, 99,  99,  99, 99, 99, 99, 99, 99, 99, 99, 99,  99, 99, 99, 99, 99,  99,
    99,  99, 99, 99,  99,  99,  99,  99,  99, 99,  99,  99, 99, 99, 99, 99, 99, 99, 99, 99,  99, 99, 99, 99
};

bool jpeg_in_read(const uint8_t *data, size_t size, jpeg_in_head *out)
{
    bmb_reader r = bmb_reader_of(data, size);
    memset(out, 0, sizeof *out);
    (void)bmb_get_u8(&r); /* type-specific: interlaced pictures, which are shown as they are */
    out->at = bmb_get_u24(&r);
    out->type = bmb_get_u8(&r);
    out->q = bmb_get_u8(&r);
    out->width = (uint16_t)(bmb_get_u8(&r) * 8);
    out->height = (uint16_t)(bmb_get_u8(&r) * 8);
    if (out->type >= 64 && out->type < 128) {
        out->restart = bmb_get_u16(&r);
        (void)bmb_get_u16(&r);
    }
    if (out->at == 0 && out->q >= 128) {
        (void)bmb_get_u8(&r);
        uint8_t precision = bmb_get_u8(&r);
        uint16_t length = bmb_get_u16(&r);
        const uint8_t *tables = bmb_get_bytes(&r, length);
        if (precision != 0 || (length != 0 && length != 128)) return false; /* of 16 bits, or another count */
        out->tables = length == 128 ? tables : NULL;
    }
    out->scan_size = bmb_left(&r);
    out->scan = bmb_get_bytes(&r, out->scan_size);
    return !r.failed && out->scan_size > 0 && (out->type & 63) <= 1 && out->type < 128 && out->q != 0;
}

void jpeg_in_tables(uint8_t q, uint8_t out[128])
{
    unsigned factor = q < 1 ? 1 : q > 99 ? 99 : q, scale = factor < 50 ? 5000 / factor : 200 - factor * 2;
    for (unsigned i = 0; i < 128; i++) {
        unsigned v = (quant[i] * scale + 50) / 100;
        out[i] = (uint8_t)(v < 1 ? 1 : v > 255 ? 255 : v);
    }
}

static void put_huffman(bmb_writer *w, uint8_t which, const uint8_t *table, size_t size)
{
    bmb_put_u16(w, 0xFFC4);
    bmb_put_u16(w, (uint16_t)(size + 3));
    bmb_put_u8(w, which);
    bmb_put_bytes(w, table, size);
}

bool jpeg_in_begin(bytes_in *out, const jpeg_in_head *h, const uint8_t tables[128])
{
    uint8_t memory[768];
    bmb_writer w = bmb_writer_of(memory, sizeof memory);
    bmb_put_u16(&w, 0xFFD8);
    for (unsigned i = 0; i < 2; i++) {
        bmb_put_u16(&w, 0xFFDB);
        bmb_put_u16(&w, 67);
        bmb_put_u8(&w, (uint8_t)i);
        bmb_put_bytes(&w, tables + 64 * i, 64);
    }
    if (h->restart > 0) {
        bmb_put_u16(&w, 0xFFDD);
        bmb_put_u16(&w, 4);
        bmb_put_u16(&w, h->restart);
    }
    bmb_put_u16(&w, 0xFFC0);
    bmb_put_u16(&w, 17);
    bmb_put_u8(&w, 8);
    bmb_put_u16(&w, h->height);
    bmb_put_u16(&w, h->width);
    bmb_put_u8(&w, 3);
    bmb_put_u24(&w, (h->type & 63) == 0 ? 0x012100u : 0x012200u); /* 4:2:2 or 4:2:0 */
    bmb_put_u24(&w, 0x021101u);
    bmb_put_u24(&w, 0x031101u);
    put_huffman(&w, 0x00, bmb_jpeg_dc_luma, BMB_JPEG_DC_SIZE);
    put_huffman(&w, 0x10, bmb_jpeg_ac_luma, BMB_JPEG_AC_SIZE);
    put_huffman(&w, 0x01, bmb_jpeg_dc_chroma, BMB_JPEG_DC_SIZE);
    put_huffman(&w, 0x11, bmb_jpeg_ac_chroma, BMB_JPEG_AC_SIZE);
    bmb_put_u16(&w, 0xFFDA);
    bmb_put_u16(&w, 12);
    bmb_put_u8(&w, 3);
    bmb_put_u16(&w, 0x0100);
    bmb_put_u16(&w, 0x0211);
    bmb_put_u16(&w, 0x0311);
    bmb_put_u24(&w, 0x003F00);
    return bytes_in_add(out, memory, bmb_written(&w));
}
