#include "wire/jpeg.h"

#include <string.h>

#include "base/bytes.h"

enum {
    SOF0 = 0xC0,
    SOF15 = 0xCF,
    DHT = 0xC4,
    JPG = 0xC8,
    DAC = 0xCC,
    RST0 = 0xD0,
    RST7 = 0xD7,
    SOI = 0xD8,
    EOI = 0xD9,
    SOS = 0xDA,
    DQT = 0xDB,
    DRI = 0xDD
};

typedef struct parse {
    const uint8_t *start;
    bmb_jpeg *out;
} parse;

static uint32_t offset_of(const parse *p, const uint8_t *at)
{
    return (uint32_t)(at - p->start);
}

/* B.2.4.1 */
static bool take_quant(const parse *p, bmb_reader *r)
{
    while (bmb_left(r) > 0) {
        uint8_t pq_tq = bmb_get_u8(r);
        unsigned index = pq_tq & 15, wide = pq_tq >> 4;
        const uint8_t *table = bmb_get_bytes(r, wide ? 128 : 64);
        if (table == NULL || index > 3 || wide > 1) return false;
        p->out->quant_at[index] = offset_of(p, table);
        p->out->quant_16bit[index] = wide != 0;
    }
    return !r->failed;
}

/* B.2.4.2 */
static bool take_huffman(const parse *p, bmb_reader *r)
{
    while (bmb_left(r) > 0) {
        uint8_t tc_th = bmb_get_u8(r);
        unsigned index = tc_th & 15, class = tc_th >> 4, values = 0;
        const uint8_t *counts = bmb_get_bytes(r, 16);
        if (counts == NULL || index > 3 || class > 1) return false;
        for (unsigned i = 0; i < 16; i++) values += counts[i];
        if (values > 256 || bmb_get_bytes(r, values) == NULL) return false;
        p->out->huffman_at[class][index] = offset_of(p, counts);
    }
    return !r->failed;
}

/* B.2.2 */
static bool take_frame_header(const parse *p, bmb_reader *r, uint8_t marker)
{
    bmb_jpeg *out = p->out;
    if (out->sof != 0) return false;
    out->sof = marker;
    out->precision = bmb_get_u8(r);
    out->height = bmb_get_u16(r);
    out->width = bmb_get_u16(r);
    out->components = bmb_get_u8(r);
    if (out->components == 0 || out->width == 0 || out->height == 0) return false;
    for (unsigned i = 0; i < out->components; i++) {
        uint8_t id = bmb_get_u8(r), hv = bmb_get_u8(r), quant = bmb_get_u8(r);
        if ((hv >> 4) < 1 || (hv >> 4) > 4 || (hv & 15) < 1 || (hv & 15) > 4 || quant > 3) return false;
        if (i < BMB_JPEG_COMPONENTS) {
            out->component[i].id = id;
            out->component[i].h = hv >> 4;
            out->component[i].v = hv & 15;
            out->component[i].quant = quant;
        }
    }
    return !r->failed;
}

/* B.2.3 */
static bool take_scan_header(const parse *p, bmb_reader *r)
{
    bmb_jpeg *out = p->out;
    if (out->sof == 0) return false;
    unsigned count = bmb_get_u8(r);
    if (count < 1 || count > 4) return false;
    for (unsigned i = 0; i < count; i++) {
        uint8_t id = bmb_get_u8(r), tables = bmb_get_u8(r);
        for (unsigned c = 0; out->scans == 0 && c < out->components && c < BMB_JPEG_COMPONENTS; c++) {
            if (out->component[c].id != id) continue;
            out->component[c].dc = tables >> 4;
            out->component[c].ac = tables & 15;
        }
    }
    return bmb_get_bytes(r, 3) != NULL;
}

/* Steps over entropy-coded data to the next marker that ends it. This is most of what taking a frame over costs. */
static bool skip_scan(bmb_reader *r)
{
    while (bmb_left(r) >= 2) {
        const uint8_t *ff = bmb_find(r->at, bmb_left(r) - 1, 0xFF);
        if (ff == NULL) return false;
        r->at = ff;
        if (ff[1] == 0 || (ff[1] >= RST0 && ff[1] <= RST7)) {
            r->at += 2;
        } else if (ff[1] == 0xFF) {
            r->at += 1; /* fill byte, B.1.1.2 */
        } else {
            return true;
        }
    }
    return false;
}

static bool take_segment(const parse *p, bmb_reader *r, uint8_t marker)
{
    uint16_t length = bmb_get_u16(r);
    if (length < 2) return false;
    const uint8_t *body = bmb_get_bytes(r, (size_t)length - 2);
    if (body == NULL) return false;
    bmb_reader segment = bmb_reader_of(body, (size_t)length - 2);
    switch (marker) {
    case DQT:
        return take_quant(p, &segment);
    case DHT:
        return take_huffman(p, &segment);
    case DRI:
        p->out->restart_interval = bmb_get_u16(&segment);
        return !segment.failed;
    case SOS:
        return take_scan_header(p, &segment);
    default:
        break;
    }
    if (marker >= SOF0 && marker <= SOF15 && marker != JPG && marker != DAC)
        return take_frame_header(p, &segment, marker);
    return true;
}

bmb_err bmb_jpeg_parse(const uint8_t *data, size_t size, bmb_jpeg *out)
{
    memset(out, 0, sizeof *out);
    if (size > UINT32_MAX) return BMB_BAD_DATA;
    const parse p = { .start = data, .out = out };
    bmb_reader r = bmb_reader_of(data, size);
    if (bmb_get_u16(&r) != (0xFF00 | SOI)) return BMB_BAD_DATA;
    for (;;) {
        if (bmb_get_u8(&r) != 0xFF || r.failed) return BMB_BAD_DATA;
        uint8_t marker = bmb_get_u8(&r);
        while (marker == 0xFF) marker = bmb_get_u8(&r);
        if (r.failed || marker < SOF0 || marker == SOI || (marker >= RST0 && marker <= RST7)) return BMB_BAD_DATA;
        if (marker == EOI) break;
        if (!take_segment(&p, &r, marker)) return BMB_BAD_DATA;
        if (marker != SOS) continue;
        if (out->scans == 0) out->scan_at = offset_of(&p, r.at);
        if (!skip_scan(&r)) return BMB_BAD_DATA;
        if (out->scans++ == 0) out->scan_end = offset_of(&p, r.at);
        if (out->scans == UINT8_MAX) return BMB_BAD_DATA;
    }
    if (out->scans == 0) return BMB_BAD_DATA;
    out->size = (size_t)(r.at - data);
    return BMB_OK;
}
