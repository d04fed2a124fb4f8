#include "receive/ts_in.h"

#include <string.h>

#include "base/bytes.h"

#define SYNC 0x47u
#define NONE_PID 0x1FFFu

static void end_unit(ts_in *t)
{
    if (t->any && t->unit.size > 0) {
        const ts_in_picture p = { .data = t->unit.data,
                                  .size = t->unit.size,
                                  .broken = t->broken,
                                  .has_pts = t->has_pts,
                                  .pts_us = t->pts * 100 / 9,
                                  .at_us = t->at_us };
        t->out(t->ctx, &p);
    }
    t->unit.size = 0;
    t->any = t->broken = false;
}

/* A section that begins in this packet (2.4.4); a longer one is none that a camera has. */
static bool section(const uint8_t *data, size_t size, uint8_t id, bmb_reader *out)
{
    bmb_reader r = bmb_reader_of(data, size);
    (void)bmb_get_bytes(&r, bmb_get_u8(&r)); /* pointer_field */
    uint8_t table = bmb_get_u8(&r);
    uint16_t length = bmb_get_u16(&r) & 0xFFF;
    const uint8_t *body = bmb_get_bytes(&r, length);
    if (body == NULL || table != id || length < 9) return false;
    *out = bmb_reader_of(body + 5, length - 9u); /* without what is before the rows, and the checksum */
    return true;
}

static void read_programs(ts_in *t, const uint8_t *data, size_t size)
{
    bmb_reader r;
    if (!section(data, size, 0, &r)) return;
    while (bmb_left(&r) >= 4) {
        uint16_t program = bmb_get_u16(&r), pid = bmb_get_u16(&r) & NONE_PID;
        if (program != 0) {
            t->table_pid = pid;
            return;
        }
    }
}

static void read_program(ts_in *t, const uint8_t *data, size_t size)
{
    bmb_reader r;
    if (!section(data, size, 2, &r)) return;
    (void)bmb_get_u16(&r);
    (void)bmb_get_bytes(&r, bmb_get_u16(&r) & 0xFFF);
    t->sound_pid = 0;
    uint16_t video = 0;
    while (bmb_left(&r) >= 5) {
        uint8_t kind = bmb_get_u8(&r);
        uint16_t pid = bmb_get_u16(&r) & NONE_PID;
        (void)bmb_get_bytes(&r, bmb_get_u16(&r) & 0xFFF);
        bool is_video = kind == 0x01 || kind == 0x02 || kind == 0x10 || kind == 0x1B || kind == 0x24;
        if (is_video && video == 0) {
            video = pid;
            t->kind = kind;
        }
        if (kind == 0x03 || kind == 0x04 || kind == 0x0F || kind == 0x11) t->sound_pid = pid;
    }
    if (video != 0) t->video_pid = video;
}

/* The header of a PES packet (2.4.3.6); returns where its bytes begin; 0: it is none. */
static size_t read_pes(ts_in *t, const uint8_t *data, size_t size)
{
    bmb_reader r = bmb_reader_of(data, size);
    if (bmb_get_u24(&r) != 1) return 0;
    (void)bmb_get_u8(&r);
    uint16_t length = bmb_get_u16(&r);
    (void)bmb_get_u8(&r);
    uint8_t flags = bmb_get_u8(&r), header = bmb_get_u8(&r);
    const uint8_t *more = bmb_get_bytes(&r, header);
    if (more == NULL || (length > 0 && length < 3u + header)) return 0;
    t->unit_left = length > 0 ? length - 3u - header : SIZE_MAX;
    t->has_pts = (flags & 0x80) != 0 && header >= 5;
    if (t->has_pts)
        t->pts = (int64_t)(more[0] >> 1 & 7) << 30 | (int64_t)more[1] << 22 | (int64_t)(more[2] >> 1) << 15 |
                 (int64_t)more[3] << 7 | more[4] >> 1;
    return 9u + header;
}

static void take_video(ts_in *t, const uint8_t *data, size_t size, bool begins, uint64_t at_us)
{
    if (begins) {
        end_unit(t);
        size_t head = read_pes(t, data, size);
        if (head == 0) return;
        t->any = true;
        data += head;
        size -= head;
    }
    if (!t->any || size == 0) return;
    if (size > t->unit_left) size = t->unit_left;
    if (t->unit_left != SIZE_MAX) t->unit_left -= size;
    if (!bytes_in_add(&t->unit, data, size)) t->broken = true;
    t->at_us = at_us; /* a unit is known to be whole when the next one begins, and was there before */
    if (t->unit_left == 0) end_unit(t);
}

/* Counters (2.4.3.3): one more with each payload; the same packet may come twice. false: it is to be passed over. */
static bool in_order(ts_in *t, uint16_t pid, uint8_t counter, bool payload, bool announced)
{
    uint8_t last = t->last[pid];
    t->last[pid] = 0x10 | counter;
    if (last == 0 || announced || pid == NONE_PID) return true;
    last &= 15;
    if (payload && counter == last) {
        t->counts->doubled++;
        return false;
    }
    if (counter == (payload ? (last + 1) & 15 : last)) return true;
    t->counts->faults++;
    if (pid == t->video_pid) t->broken = true;
    return true;
}

static void take_packet(ts_in *t, const uint8_t *p, uint64_t at_us)
{
    uint16_t pid = (uint16_t)((p[1] & 31) << 8 | p[2]);
    bool begins = (p[1] & 0x40) != 0, payload = (p[3] & 0x10) != 0, adapts = (p[3] & 0x20) != 0;
    size_t at = adapts ? 5u + p[4] : 4u;
    t->counts->packets++;
    bool announced = adapts && p[4] > 0 && (p[5] & 0x80) != 0;
    if (!in_order(t, pid, p[3] & 15, payload, announced)) return;
    if ((p[1] & 0x80) != 0) t->broken = true; /* damaged on its way */
    if (!payload || at >= TS_IN_PACKET) return;
    size_t size = TS_IN_PACKET - at;
    if (pid == 0 && begins) read_programs(t, p + at, size);
    if (pid != 0 && pid == t->table_pid && begins) read_program(t, p + at, size);
    if (pid != 0 && pid == t->video_pid) take_video(t, p + at, size, begins, at_us);
}

void ts_in_add(ts_in *t, const uint8_t *data, size_t size, uint64_t at_us)
{
    while (size > 0) {
        if (t->rest_size == 0 && data[0] != SYNC) { /* not in step */
            const uint8_t *sync = bmb_find(data, size, SYNC);
            size_t gone = sync != NULL ? (size_t)(sync - data) : size;
            t->skipped += gone;
            data += gone;
            size -= gone;
            continue;
        }
        size_t n = TS_IN_PACKET - t->rest_size;
        if (n > size) n = size;
        memcpy(t->rest + t->rest_size, data, n);
        t->rest_size += n;
        data += n;
        size -= n;
        if (t->rest_size == TS_IN_PACKET) take_packet(t, t->rest, at_us);
        if (t->rest_size == TS_IN_PACKET) t->rest_size = 0;
    }
}

void ts_in_free(ts_in *t)
{
    bytes_in_free(&t->unit);
}
