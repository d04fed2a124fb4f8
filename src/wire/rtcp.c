#include "wire/rtcp.h"

#include <string.h>

enum { SR = 200, RR = 201, SDES = 202, BYE = 203, FEEDBACK = 206, TRANSPORT_FEEDBACK = 205 };
enum { PLI = 1, FIR = 4, NACK = 1 };
#define CNAME 1u
#define SINCE_1900_S 2208988800u
#define HEADER 4u
#define SENDER_INFO 20u
#define BLOCK 24u

static uint64_t ntp_of(int64_t wall_us)
{
    if (wall_us <= 0) return 0;
    uint64_t us = (uint64_t)wall_us, s = us / 1000000 + SINCE_1900_S;
    return s << 32 | ((us % 1000000) << 32) / 1000000;
}

uint32_t bmb_ntp_middle(int64_t wall_us)
{
    return (uint32_t)(ntp_of(wall_us) >> 16);
}

static void put_head(bmb_writer *w, unsigned count, unsigned type, size_t size)
{
    bmb_put_u8(w, (uint8_t)(0x80 | count));
    bmb_put_u8(w, (uint8_t)type);
    bmb_put_u16(w, (uint16_t)(size / 4 - 1));
}

void bmb_rtcp_report(bmb_writer *w, const bmb_rtcp_sender *s, bool bye)
{
    uint64_t ntp = ntp_of(s->wall_us);
    put_head(w, 0, SR, HEADER + 4 + SENDER_INFO);
    bmb_put_u32(w, s->ssrc);
    bmb_put_u32(w, (uint32_t)(ntp >> 32));
    bmb_put_u32(w, (uint32_t)ntp);
    bmb_put_u32(w, s->rtp_time);
    bmb_put_u32(w, s->packets);
    bmb_put_u32(w, s->octets);

    size_t name = strlen(s->cname), item = 4 + 2 + name + 1, padded = (item + 3) / 4 * 4;
    put_head(w, 1, SDES, HEADER + padded);
    bmb_put_u32(w, s->ssrc);
    bmb_put_u8(w, CNAME);
    bmb_put_u8(w, (uint8_t)name);
    bmb_put_bytes(w, s->cname, name);
    for (size_t i = item - 1; i < padded; i++) bmb_put_u8(w, 0); /* the list's end, and padding */
    if (!bye) return;
    put_head(w, 1, BYE, HEADER + 4);
    bmb_put_u32(w, s->ssrc);
}

static void read_block(bmb_reader *r, bmb_rtcp_block *out)
{
    out->ssrc = bmb_get_u32(r);
    out->lost_256 = bmb_get_u8(r);
    uint32_t lost = bmb_get_u24(r);
    out->lost = lost < 0x800000 ? (int32_t)lost : (int32_t)lost - 0x1000000;
    out->highest = bmb_get_u32(r);
    out->jitter = bmb_get_u32(r);
    out->last_report = bmb_get_u32(r);
    out->delay = bmb_get_u32(r);
}

bool bmb_rtcp_next(bmb_rtcp_walk *walk, const uint8_t *data, size_t size, bmb_rtcp_block *out)
{
    while (walk->at < size) {
        bmb_reader r = bmb_reader_of(data + walk->at, size - walk->at);
        uint8_t first = bmb_get_u8(&r), type = bmb_get_u8(&r);
        size_t length = ((size_t)bmb_get_u16(&r) + 1) * 4, count = first & 31;
        if (r.failed || first >> 6 != 2 || length > size - walk->at) return false;
        size_t blocks_at = HEADER + 4 + (type == SR ? SENDER_INFO : 0);
        bool reports = (type == SR || type == RR) && blocks_at + count * BLOCK <= length;
        uint32_t from = bmb_get_u32(&r);
        if (type == BYE) {
            walk->bye = true;
            walk->left = count > 0 && length >= HEADER + 4 ? from : 0;
        }
        if (BMB_WITH_H264 && type == FEEDBACK && (count == PLI || count == FIR)) { /* of FIR the first entry counts */
            uint32_t media = bmb_get_u32(&r), entry = count == FIR ? bmb_get_u32(&r) : media;
            if (!r.failed && length >= (count == FIR ? 16u : 12u)) walk->key_of = entry;
        }
        if (reports && walk->blocks < count) {
            bmb_reader b = bmb_reader_of(data + walk->at + blocks_at + walk->blocks * BLOCK, BLOCK);
            read_block(&b, out);
            out->from = from;
            walk->blocks++;
            return true;
        }
        walk->at += length;
        walk->blocks = 0;
    }
    return false;
}

#if BMB_WITH_REPEATS
/* Each entry is a number, and a bit for each of the sixteen behind it. */
static size_t take_missed(bmb_reader *r, size_t entries, uint16_t *out, size_t room)
{
    size_t count = 0;
    for (size_t i = 0; i < entries; i++) {
        uint16_t first = bmb_get_u16(r), more = bmb_get_u16(r);
        if (count < room) out[count++] = first;
        for (unsigned k = 0; k < 16 && count < room; k++)
            if ((more >> k & 1) != 0) out[count++] = (uint16_t)(first + 1 + k);
    }
    return count;
}

size_t bmb_rtcp_missed(const uint8_t *data, size_t size, uint32_t ssrc, uint16_t *out, size_t room)
{
    size_t count = 0, at = 0;
    while (at < size) {
        bmb_reader r = bmb_reader_of(data + at, size - at);
        uint8_t first = bmb_get_u8(&r), type = bmb_get_u8(&r);
        size_t length = ((size_t)bmb_get_u16(&r) + 1) * 4;
        (void)bmb_get_u32(&r); /* who says so */
        uint32_t media = bmb_get_u32(&r);
        if (first >> 6 != 2 || length > size - at) return count;
        if (!r.failed && type == TRANSPORT_FEEDBACK && (first & 31) == NACK && media == ssrc && length >= HEADER + 8)
            count += take_missed(&r, (length - HEADER - 8) / 4, out + count, room - count);
        at += length;
    }
    return count;
}
#endif
