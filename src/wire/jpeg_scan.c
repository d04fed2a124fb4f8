#include "wire/jpeg_scan.h"

typedef struct bits {
    const uint8_t *at, *end;
    uint32_t held;
    uint8_t count; /* of bits held */
    bool failed;
} bits;

static unsigned next_bit(bits *b)
{
    if (b->count == 0) {
        if (b->at == b->end) {
            b->failed = true;
            return 0;
        }
        b->held = *b->at++;
        if (b->held == 0xFF) { /* a stuffed zero, or a marker, behind which nothing of this interval is */
            if (b->at == b->end || *b->at != 0) {
                b->at--;
                b->failed = true;
                return 0;
            }
            b->at++;
        }
        b->count = 8;
    }
    return b->held >> --b->count & 1;
}

static unsigned take_bits(bits *b, unsigned n)
{
    unsigned value = 0;
    while (n-- > 0) value = value << 1 | next_bit(b);
    return value;
}

/* counts: 16 of them, and behind them the symbols (C.1): as many as the counts say, which the parser has seen. */
static unsigned take_symbol(bits *b, const uint8_t *counts)
{
    unsigned code = 0, first = 0, index = 0;
    for (unsigned length = 0; length < 16 && !b->failed; length++) {
        code |= next_bit(b);
        if (code - first < counts[length]) return counts[16 + index + (code - first)];
        index += counts[length];
        first = (first + counts[length]) << 1;
        code <<= 1;
    }
    b->failed = true;
    return 0;
}

/* A block: its DC difference; the rest is passed over. */
static int take_block(bits *b, const uint8_t *dc, const uint8_t *ac)
{
    unsigned size = take_symbol(b, dc);
    if (size > 11) b->failed = true;
    if (b->failed) return 0;
    int value = (int)take_bits(b, size), difference = value;
    if (size > 0 && value < 1 << (size - 1)) difference = value - (1 << size) + 1;
    for (unsigned k = 1; k < 64 && !b->failed;) {
        unsigned symbol = take_symbol(b, ac), run = symbol >> 4, bits_of = symbol & 15;
        if (bits_of == 0 && run < 15) break;
        (void)take_bits(b, bits_of);
        k += run + 1;
    }
    return difference;
}

/* To the next interval: behind the marker, if it is one. */
static bool restart(bits *b)
{
    b->count = 0;
    if (b->end - b->at < 2 || b->at[0] != 0xFF || (b->at[1] & 0xF8) != 0xD0) return false;
    b->at += 2;
    return true;
}

/* Can the entropy-coded data be gone through? */
static bool known(const bmb_jpeg *j)
{
    bool plain = (j->sof == 0xC0 || j->sof == 0xC1) && j->scans <= 1 && j->scan_at != 0 && j->precision == 8 &&
                 (j->components == 1 || j->components == 3) && j->width > 0 && j->height > 0;
    for (unsigned i = 0; plain && i < j->components; i++) {
        const bmb_jpeg_component *c = &j->component[i];
        plain = c->quant < 4 && c->dc < 4 && c->ac < 4 && c->h >= 1 && c->h <= 4 && c->v >= 1 && c->v <= 4 &&
                j->huffman_at[0][c->dc] != 0 && j->huffman_at[1][c->ac] != 0;
    }
    return plain;
}

bool bmb_jpeg_scan(const uint8_t *data, const bmb_jpeg *j, size_t end, bmb_jpeg_sum *out)
{
    *out = (bmb_jpeg_sum){ 0 };
    if (!known(j) || end <= j->scan_at) return false;
    bool alone = j->components == 1; /* then a unit is one block (A.2.2) */
    unsigned wide = 8u * (alone ? 1 : j->component[0].h), high = 8u * (alone ? 1 : j->component[0].v);
    uint32_t units = ((j->width + wide - 1) / wide) * ((j->height + high - 1) / high);
    bits b = { .at = data + j->scan_at, .end = data + end };
    int before[BMB_JPEG_COMPONENTS] = { 0 };
    for (uint32_t unit = 0; unit < units && !b.failed; unit++) {
        if (j->restart_interval != 0 && unit > 0 && unit % j->restart_interval == 0) {
            if (!restart(&b)) return false;
            before[0] = before[1] = before[2] = 0;
        }
        for (unsigned i = 0; i < j->components; i++) {
            const bmb_jpeg_component *c = &j->component[i];
            for (unsigned n = alone ? 1 : c->h * c->v; n > 0; n--) {
                before[i] += take_block(&b, data + j->huffman_at[0][c->dc], data + j->huffman_at[1][c->ac]);
                if (i == 0) out->dc += before[0];
                out->blocks += i == 0;
            }
        }
    }
    out->end = (size_t)(b.at - data);
    return !b.failed && out->blocks > 0;
}
