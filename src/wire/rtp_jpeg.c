/* JPEG over RTP, RFC 2435. The receiver rebuilds the headers, so they are left out; the quantisation tables travel in
 * the first packet of each frame (3.1.8, Q = 255), as slices of the image itself. */
#include <string.h>

#include "base/bytes.h"
#include "wire/jpeg_tables.h"
#include "wire/rtp.h"

#define MAIN_HEADER 8u
#define RESTART_HEADER 4u
#define QUANT_HEADER 4u
#define QUANT_TABLE 64u
#define Q_IN_BAND 255u
#define TYPE_RESTART 64u
#define DIMENSION_MOST 2040u

/* Absent tables are the standard ones by convention of motion JPEG. */
static bool is_table(const uint8_t *data, uint32_t at, const uint8_t *table, size_t size)
{
    return at == 0 || bmb_equal(data + at, table, size);
}

static bool huffman_is_standard(const uint8_t *data, const bmb_jpeg *j)
{
    for (unsigned i = 0; i < BMB_JPEG_COMPONENTS; i++) {
        const bmb_jpeg_component *c = &j->component[i];
        const uint8_t *dc = i == 0 ? bmb_jpeg_dc_luma : bmb_jpeg_dc_chroma,
                      *ac = i == 0 ? bmb_jpeg_ac_luma : bmb_jpeg_ac_chroma;
        if (c->dc > 3 || c->ac > 3) return false;
        if (i > 1 && c->dc == c[-1].dc && c->ac == c[-1].ac) continue; /* both chroma components have those */
        if (!is_table(data, j->huffman_at[0][c->dc], dc, BMB_JPEG_DC_SIZE)) return false;
        if (!is_table(data, j->huffman_at[1][c->ac], ac, BMB_JPEG_AC_SIZE)) return false;
    }
    return true;
}

static bool quant_is_carried(const bmb_jpeg *j)
{
    uint8_t luma = j->component[0].quant, chroma = j->component[1].quant;
    return chroma == j->component[2].quant && j->quant_at[luma] != 0 && j->quant_at[chroma] != 0 &&
           !j->quant_16bit[luma] && !j->quant_16bit[chroma];
}

/* 0: 4:2:2, 1: 4:2:0, -1: neither. */
static int type_of(const bmb_jpeg *j)
{
    const bmb_jpeg_component *c = j->component;
    bool chroma_whole = c[1].h == 1 && c[1].v == 1 && c[2].h == 1 && c[2].v == 1;
    if (!chroma_whole || c[0].h != 2) return -1;
    return c[0].v == 1 ? 0 : c[0].v == 2 ? 1 : -1;
}

static bmb_jpeg_rtp refusal_of(const uint8_t *data, const bmb_jpeg *j)
{
    if (j->sof != 0xC0 || j->scans != 1) return BMB_JPEG_RTP_NOT_BASELINE;
    if (j->components != 3 || j->precision != 8) return BMB_JPEG_RTP_COMPONENTS;
    if (type_of(j) < 0) return BMB_JPEG_RTP_SAMPLING;
    if (!huffman_is_standard(data, j)) return BMB_JPEG_RTP_HUFFMAN;
    if (!quant_is_carried(j)) return BMB_JPEG_RTP_QUANT;
    bool whole = j->width % 8 == 0 && j->height % 8 == 0;
    return whole && j->width <= DIMENSION_MOST && j->height <= DIMENSION_MOST ? BMB_JPEG_RTP_OK : BMB_JPEG_RTP_SIZE;
}

void bmb_jpeg_facts_of(const uint8_t *data, const bmb_jpeg *j, bmb_jpeg_facts *out)
{
    memset(out, 0, sizeof *out);
    out->refusal = refusal_of(data, j);
    if (out->refusal != BMB_JPEG_RTP_OK) return;
    out->type = (uint8_t)((unsigned)type_of(j) + (j->restart_interval > 0 ? TYPE_RESTART : 0));
    out->width_8 = (uint8_t)(j->width / 8);
    out->height_8 = (uint8_t)(j->height / 8);
    out->restart_interval = j->restart_interval;
    out->quant_at[0] = j->quant_at[j->component[0].quant];
    out->quant_at[1] = j->quant_at[j->component[1].quant];
    out->scan_at = j->scan_at;
    out->scan_size = j->scan_end - j->scan_at;
}

/* cursor->at: bytes of the scan that went before. */
static bool put_packet(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather)
{
    const bmb_jpeg_facts *f = (const bmb_jpeg_facts *)frame->facts;
    bool first = cursor->at == 0, restart = f->type >= TYPE_RESTART;
    size_t more = MAIN_HEADER + (restart ? RESTART_HEADER : 0) + (first ? QUANT_HEADER : 0);
    size_t tables = first ? 2 * QUANT_TABLE : 0;
    if (!bmb_gather_fits(gather, 4, BMB_RTP_INTERLEAVED + BMB_RTP_HEADER + more)) return false;
    size_t room = (size_t)state->payload_max - BMB_RTP_HEADER - more - tables, left = f->scan_size - cursor->at;
    size_t size = left < room ? left : room;

    uint8_t *head = bmb_rtp_begin(state, frame, cursor, gather, more);
    bmb_store_u32(head, cursor->at & 0xFFFFFF); /* type-specific 0, and 24 bits of the place (3.1.1, 3.1.2) */
    head[4] = f->type;
    head[5] = Q_IN_BAND;
    head[6] = f->width_8;
    head[7] = f->height_8;
    head += MAIN_HEADER;
    if (restart) {
        bmb_store_u16(head, f->restart_interval);
        bmb_store_u16(head + 2, 0xFFFF); /* 3.1.7: packets are not aligned to restart intervals */
        head += RESTART_HEADER;
    }
    if (first) {
        bmb_store_u16(head, 0); /* 8-bit precision for both tables */
        bmb_store_u16(head + 2, 2 * QUANT_TABLE);
    }
    bmb_rtp_header_done(state, gather, more, tables + size, size == left);
    for (unsigned i = 0; first && i < 2; i++) bmb_gather_slice(gather, frame->data + f->quant_at[i], QUANT_TABLE);
    bmb_gather_slice(gather, frame->data + f->scan_at + cursor->at, size);
    cursor->at += (uint32_t)size;
    cursor->pieces++;
    cursor->end = size == left;
    return true;
}

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    while (!cursor->end && gather->piece_count < most && put_packet(state, frame, cursor, gather)) continue;
}

static bool carries(const bmb_frame *frame)
{
    return ((const bmb_jpeg_facts *)frame->facts)->refusal == BMB_JPEG_RTP_OK;
}

const bmb_framer bmb_framer_rtp_jpeg = { .name = "rtp-jpeg", .fill = fill, .done = bmb_rtp_done, .carries = carries };
