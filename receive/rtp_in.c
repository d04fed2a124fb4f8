#include "receive/rtp_in.h"

#include <string.h>

#include "base/bytes.h"
#include "receive/jpeg_in.h"
#include "wire/rtp.h"

#define START_CODE "\0\0\0\1"
enum { SR = 200, RR = 201, SDES = 202, BYE = 203 };
#define SINCE_1900_S 2208988800u

/* The payload of a packet (RFC 3550 5.1); false: it is malformed. */
typedef struct packet {
    bool marker;
    uint8_t type;
    uint16_t number;
    uint32_t time, ssrc;
    const uint8_t *payload;
    size_t size;
} packet;

static bool read_packet(const uint8_t *data, size_t size, packet *out)
{
    bmb_reader r = bmb_reader_of(data, size);
    uint8_t first = bmb_get_u8(&r), second = bmb_get_u8(&r);
    out->marker = second >> 7;
    out->type = second & 127;
    out->number = bmb_get_u16(&r);
    out->time = bmb_get_u32(&r);
    out->ssrc = bmb_get_u32(&r);
    (void)bmb_get_bytes(&r, 4u * (first & 15));
    if ((first & 16) != 0) {
        (void)bmb_get_u16(&r);
        (void)bmb_get_bytes(&r, 4u * bmb_get_u16(&r));
    }
    if (r.failed || first >> 6 != 2) return false;
    out->size = bmb_left(&r);
    out->payload = r.at;
    if ((first & 32) == 0) return true;
    uint8_t padding = out->size > 0 ? out->payload[out->size - 1] : 0;
    if (padding == 0 || padding > out->size) return false;
    out->size -= padding;
    return true;
}

static void end_picture(rtp_in *r)
{
    if (r->any && r->picture.size == 0) r->counts->broken++; /* not one byte of it can be used */
    if (r->picture.size > 0) {
        const rtp_in_picture p = {
            .data = r->picture.data, .size = r->picture.size, .broken = r->broken, .time = r->time, .at_us = r->at_us
        };
        r->out(r->ctx, &p);
    }
    r->picture.size = 0;
    r->broken = r->any = false;
}

static void add(rtp_in *r, const void *data, size_t size)
{
    if (!bytes_in_add(&r->picture, data, size)) r->broken = true;
}

static void add_unit(rtp_in *r, const uint8_t *data, size_t size)
{
    add(r, START_CODE, 4);
    add(r, data, size);
}

/* RFC 6184 5.6 to 5.8 */
static void take_h264(rtp_in *r, const packet *p)
{
    const uint8_t *d = p->payload;
    if (p->size < 2) return;
    unsigned type = d[0] & 31;
    if (type > 0 && type < 24) {
        add_unit(r, d, p->size);
    } else if (type == 24) { /* STAP-A */
        bmb_reader in = bmb_reader_of(d + 1, p->size - 1);
        while (bmb_left(&in) > 2) {
            uint16_t size = bmb_get_u16(&in);
            const uint8_t *unit = bmb_get_bytes(&in, size);
            if (unit == NULL || size == 0) {
                r->broken = true;
                break;
            }
            add_unit(r, unit, size);
        }
    } else if (type == 28 && p->size > 2) { /* FU-A */
        const uint8_t header = (uint8_t)((d[0] & 0xE0) | (d[1] & 31));
        if ((d[1] & 0x80) != 0) add_unit(r, &header, 1);
        if (r->picture.size == 0) r->broken = true; /* its beginning is missing */
        add(r, d + 2, p->size - 2);
    } else {
        r->broken = true;
    }
}

static void take_jpeg(rtp_in *r, const packet *p)
{
    jpeg_in_head h;
    if (!jpeg_in_read(p->payload, p->size, &h)) {
        r->broken = true;
        return;
    }
    if (h.at == 0) {
        if (h.tables != NULL) {
            memcpy(r->quant, h.tables, sizeof r->quant);
        } else if (h.q < 128) {
            jpeg_in_tables(h.q, r->quant);
        } else if (h.q != r->quant_q) {
            r->broken = true; /* tables that were sent before we came */
        }
        r->quant_q = h.q;
        r->picture.size = 0;
        if (!jpeg_in_begin(&r->picture, &h, r->quant)) r->broken = true;
    }
    if (r->picture.size == 0) r->broken = true;
    if (r->picture.size > 0) add(r, h.scan, h.scan_size);
    if (p->marker && r->picture.size > 0) add(r, "\xFF\xD9", 2);
}

/* In order. lost: something before it is missing. */
static void take(rtp_in *r, const uint8_t *data, size_t size, uint64_t at_us, bool lost)
{
    packet p;
    if (!read_packet(data, size, &p)) return;
    if (r->payload == RTP_IN_TS) {
        const rtp_in_picture whole = {
            .data = p.payload, .size = p.size, .broken = lost, .time = p.time, .at_us = at_us
        };
        if (p.size > 0) r->out(r->ctx, &whole);
        return;
    }
    if (r->any && p.time != r->time) {
        r->broken = true; /* its last packet, with the marker, did not come; what is lost was of it */
        end_picture(r);
    }
    /* What is missing before the first packet of a picture may have been the end of one before it. */
    if (lost) r->broken = true;
    r->any = true;
    r->time = p.time;
    r->at_us = at_us;
    if (r->payload == RTP_IN_JPEG) {
        jpeg_in_head h;
        if (lost && jpeg_in_read(p.payload, p.size, &h) && h.at == 0)
            r->broken = false; /* this one is from its begin */
        take_jpeg(r, &p);
    } else {
        take_h264(r, &p);
    }
    if (p.marker) end_picture(r);
}

static void give_waiting(rtp_in *r, uint64_t now_us)
{
    for (;;) {
        bool any = false;
        uint32_t nearest = 0;
        uint64_t oldest_us = UINT64_MAX;
        for (unsigned i = 0; i < RTP_IN_WAITING; i++) {
            if (r->waiting[i].number == 0) continue;
            if (!any || r->waiting[i].number < nearest) nearest = r->waiting[i].number;
            if (r->waiting[i].at_us < oldest_us) oldest_us = r->waiting[i].at_us;
            any = true;
        }
        if (!any) return;
        bool in_order = nearest == r->next;
        if (!in_order && r->highest - r->next < RTP_IN_WAITING / 2 && now_us - oldest_us < RTP_IN_WAIT_US) return;
        unsigned at = nearest % RTP_IN_WAITING;
        r->waiting[at].number = 0;
        r->next = nearest + 1;
        take(r, r->waiting[at].data, r->waiting[at].size, r->waiting[at].at_us, !in_order);
    }
}

static void count_lost(rtp_in *r)
{
    uint32_t expected = r->highest - r->first + 1;
    r->counts->lost = r->lost_before + (expected > r->received ? expected - r->received : 0);
}

/* RFC 3550 A.8 */
static void count_jitter(rtp_in *r, uint32_t time, uint64_t at_us)
{
    int64_t arrival = (int64_t)(at_us * r->clock / 1000000);
    int64_t transit = (int64_t)(uint32_t)((uint32_t)arrival - time);
    int32_t difference = (int32_t)(uint32_t)(transit - r->transit);
    if (r->received > 1) r->jitter += ((difference < 0 ? -(double)difference : difference) - r->jitter) / 16.0;
    r->transit = transit;
    *r->jitter_ms = r->jitter * 1000.0 / r->clock;
    if (r->received > 16 && *r->jitter_ms > *r->jitter_most_ms) *r->jitter_most_ms = *r->jitter_ms;
}

void rtp_in_packet(rtp_in *r, const uint8_t *data, size_t size, uint64_t at_us)
{
    packet p;
    if (size > RTP_IN_PACKET_MOST || !read_packet(data, size, &p) || p.type != r->type) return;
    if (!r->begun || p.ssrc != r->ssrc) { /* another source begins anew */
        end_picture(r);
        r->lost_before = r->counts->lost;
        r->begun = true;
        r->ssrc = p.ssrc;
        r->first = r->highest = r->next = 0x10000u + p.number;
        r->received = r->expected_before = r->received_before = 0;
        memset(r->seen, 0, sizeof r->seen);
        for (unsigned i = 0; i < RTP_IN_WAITING; i++) r->waiting[i].number = 0;
    }
    const uint32_t ahead = (uint16_t)(p.number - (uint16_t)r->highest);
    const uint32_t number = ahead < 0x8000 ? r->highest + ahead : r->highest - (0x10000 - ahead);
    if (r->seen[number % RTP_IN_SEEN] == number) {
        r->counts->doubled++;
        return;
    }
    if (number < r->first) return; /* from before we began */
    r->seen[number % RTP_IN_SEEN] = number;
    r->counts->packets++;
    r->received++;
    if (number < r->highest) r->counts->late++;
    if (number > r->highest) r->highest = number;
    count_lost(r);
    count_jitter(r, p.time, at_us);
    if (number < r->next) return; /* too late for its picture */
    unsigned at = number % RTP_IN_WAITING;
    if (number != r->next) give_waiting(r, at_us);
    if (number == r->next) {
        r->next++;
        take(r, data, size, at_us, false);
    } else if (number > r->next) {
        if (r->waiting[at].number != 0 && r->waiting[at].number != number) { /* a leap: nothing of before will come */
            for (unsigned i = 0; i < RTP_IN_WAITING; i++) r->waiting[i].number = 0;
            r->broken = true;
        }
        r->waiting[at].number = number;
        r->waiting[at].size = (uint16_t)size;
        r->waiting[at].at_us = at_us;
        memcpy(r->waiting[at].data, data, size);
    }
    give_waiting(r, at_us);
}

void rtp_in_wait(rtp_in *r, uint64_t now_us)
{
    if (r->begun) give_waiting(r, now_us);
}

void rtp_in_rtcp(rtp_in *r, const uint8_t *data, size_t size, uint64_t at_us, bool *bye)
{
    bmb_reader all = bmb_reader_of(data, size);
    while (bmb_left(&all) >= 8) {
        uint8_t first = bmb_get_u8(&all), type = bmb_get_u8(&all);
        uint16_t words = bmb_get_u16(&all);
        const uint8_t *body = bmb_get_bytes(&all, 4u * words);
        if (body == NULL || first >> 6 != 2) return;
        bmb_reader p = bmb_reader_of(body, 4u * words);
        uint32_t ssrc = bmb_get_u32(&p);
        if (type == BYE && (first & 31) > 0 && r->begun && ssrc == r->ssrc) *bye = true;
        if (type != SR || (r->begun && ssrc != r->ssrc)) continue;
        uint32_t s = bmb_get_u32(&p), fraction = bmb_get_u32(&p), time = bmb_get_u32(&p);
        if (p.failed) return;
        r->report_at_us = at_us;
        r->report_middle = s << 16 | fraction >> 16;
        r->report_time = time;
        r->report_wall_us = s > SINCE_1900_S
                                ? (int64_t)(s - SINCE_1900_S) * 1000000 + (int64_t)((uint64_t)fraction * 1000000 >> 32)
                                : 0;
    }
}

size_t rtp_in_report(rtp_in *r, uint64_t now_us, bool bye, uint8_t *out, size_t room)
{
    static const char name[] = "check@bambino";
    const uint32_t own = r->ssrc ^ 0x62616D62u;
    bmb_writer w = bmb_writer_of(out, room);
    uint32_t expected = r->begun ? r->highest - r->first + 1 : 0;
    uint32_t due = expected - r->expected_before, got = r->received - r->received_before;
    r->expected_before = expected;
    r->received_before = r->received;
    bmb_put_u16(&w, r->begun ? 0x8100 | RR : 0x8000 | RR);
    bmb_put_u16(&w, r->begun ? 7 : 1);
    bmb_put_u32(&w, own);
    if (r->begun) {
        bmb_put_u32(&w, r->ssrc);
        bmb_put_u8(&w, (uint8_t)(due > got ? ((uint64_t)(due - got) << 8) / due : 0));
        bmb_put_u24(&w, r->counts->lost & 0x7FFFFF);
        bmb_put_u32(&w, r->highest - 0x10000u);
        bmb_put_u32(&w, (uint32_t)r->jitter);
        bmb_put_u32(&w, r->report_at_us > 0 ? r->report_middle : 0);
        bmb_put_u32(&w, r->report_at_us > 0 ? (uint32_t)((now_us - r->report_at_us) * 65536 / 1000000) : 0);
    }
    bmb_put_u16(&w, 0x8100 | SDES);
    bmb_put_u16(&w, 5);
    bmb_put_u32(&w, own);
    bmb_put_u8(&w, 1);
    bmb_put_u8(&w, sizeof name - 1);
    bmb_put_bytes(&w, name, sizeof name); /* its NUL ends the list; 16 bytes with the two before it */
    if (bye) {
        bmb_put_u16(&w, 0x8100 | BYE);
        bmb_put_u16(&w, 1);
        bmb_put_u32(&w, own);
    }
    return bmb_written(&w);
}

int64_t rtp_in_wall(const rtp_in *r, uint32_t time)
{
    if (r->report_wall_us == 0) return 0;
    return r->report_wall_us + (int64_t)(int32_t)(time - r->report_time) * 1000000 / r->clock;
}

void rtp_in_free(rtp_in *r)
{
    bytes_in_free(&r->picture);
}
