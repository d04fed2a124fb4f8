#include "wire/parity.h"

#if BMB_WITH_PARITY

#include <string.h>

#include "base/bytes.h"
#include "wire/rtp.h"

/* With the first `skip` bytes left out. */
static void add_bytes(bmb_parity *p, const bmb_packet *packet, size_t skip)
{
    size_t at = 0;
    for (uint32_t i = 0; i < packet->count; i++) {
        const uint8_t *from = (const uint8_t *)packet->slices[i].data;
        size_t size = packet->slices[i].size, less = skip < size ? skip : size;
        skip -= less;
        for (size_t k = less; k < size && at < p->room; k++) p->data[at++] ^= from[k];
    }
    if (at > p->size) p->size = (uint16_t)at;
}

void bmb_parity_add(bmb_parity *p, const bmb_packet *packet)
{
    const uint8_t *head = (const uint8_t *)packet->slices[0].data;
    bmb_reader r = bmb_reader_of(head, BMB_RTP_HEADER);
    uint8_t first = bmb_get_u8(&r), second = bmb_get_u8(&r);
    uint16_t seq = bmb_get_u16(&r);
    p->now = bmb_get_u32(&r);
    p->ssrc = bmb_get_u32(&r);
    if (p->count > 0 && (uint16_t)(seq - p->base) >= BMB_PARITY_MOST) bmb_parity_clear(p);
    if (p->count++ == 0) p->base = seq;
    p->mask |= (uint16_t)(0x8000u >> (uint16_t)(seq - p->base));
    p->first[0] ^= first;
    p->first[1] ^= second;
    p->time ^= p->now;
    p->length ^= (uint16_t)(packet->size - BMB_RTP_HEADER);
    add_bytes(p, packet, BMB_RTP_HEADER);
}

bool bmb_parity_is_due(const bmb_parity *p, bool frame_ends)
{
    return p->count >= p->of || (frame_ends && p->count * 2u >= p->of);
}

/* RFC 5109 7.2, 7.3, 7.4. */
void bmb_parity_write(bmb_parity *p, uint8_t head[BMB_PARITY_HEAD])
{
    bmb_writer w = bmb_writer_of(head, BMB_PARITY_HEAD);
    bmb_put_u8(&w, 0x80);
    bmb_put_u8(&w, BMB_RTP_TYPE_PARITY);
    bmb_put_u16(&w, p->seq++);
    bmb_put_u32(&w, p->now);
    bmb_put_u32(&w, p->ssrc);
    bmb_put_u8(&w, p->first[0] & 0x3F); /* no extension, masks of 16 bits, and what the packets' first bytes say */
    bmb_put_u8(&w, p->first[1]);
    bmb_put_u16(&w, p->base);
    bmb_put_u32(&w, p->time);
    bmb_put_u16(&w, p->length);
    bmb_put_u16(&w, p->size);
    bmb_put_u16(&w, p->mask);
}

void bmb_parity_clear(bmb_parity *p)
{
    memset(p->data, 0, p->size);
    p->size = p->count = p->mask = p->length = 0;
    p->first[0] = p->first[1] = 0;
    p->time = 0;
}

#endif
