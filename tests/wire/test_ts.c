/* The transport stream, taken apart packet by packet. */
#include "support/check.h"

#include "wire/framer.h"

#define PACKETS_MOST 2000
static uint8_t stream[PACKETS_MOST * 188];
static uint8_t frame_data[200000], pes[210000];
static bmb_gather g;

static size_t transmit(bmb_stream_state *state, const bmb_frame *frame)
{
    bmb_cursor cursor = { 0 };
    size_t size = 0;
    bmb_framer_ts.begin(state, frame, frame->capture_us + 20000);
    while (!cursor.end) {
        bmb_gather_clear(&g);
        bmb_framer_ts.fill(state, frame, &cursor, &g, BMB_GATHER_PIECES);
        assert_true(g.piece_count > 0);
        for (size_t i = 0; i < g.piece_count; i++) {
            bool last = cursor.end && i + 1 == g.piece_count;
            assert_true(last ? g.packets[i].size % 188 == 0 : g.packets[i].size == 1316);
        }
        for (size_t i = 0; i < g.slice_count; i++) {
            memcpy(stream + size, g.slices[i].data, g.slices[i].size);
            size += g.slices[i].size;
        }
    }
    bmb_framer_ts.done(state, frame, &cursor);
    assert_int_equal(size % 188, 0);
    return size;
}

typedef struct reading {
    int counter[8192]; /* last of each PID, -1: none */
    size_t pes_size, tables;
    uint64_t pcr, pts;
    bool random_access;
} reading;

static void read_adaptation(reading *r, const uint8_t *field)
{
    if (field[0] == 0) return;
    if (field[1] & 0x40) r->random_access = true;
    if (!(field[1] & 0x10)) return;
    uint64_t base = (uint64_t)field[2] << 25 | (uint64_t)field[3] << 17 | (uint64_t)field[4] << 9 |
                    (uint64_t)field[5] << 1 | field[6] >> 7;
    r->pcr = base * 300 + (uint64_t)((field[6] & 1) << 8 | field[7]);
}

static void read_stream(reading *r, size_t size)
{
    r->pes_size = r->tables = 0;
    r->random_access = false;
    for (size_t at = 0; at < size; at += 188) {
        const uint8_t *p = stream + at;
        assert_int_equal(p[0], 0x47);
        unsigned pid = (unsigned)((p[1] & 31) << 8 | p[2]), adaptation = p[3] >> 4 & 3;
        if (r->counter[pid] >= 0) assert_int_equal(p[3] & 15, (r->counter[pid] + 1) & 15);
        r->counter[pid] = p[3] & 15;
        size_t payload = 4 + ((adaptation & 2) ? 1u + p[4] : 0);
        assert_true(payload <= 188 && (adaptation & 1));
        if (adaptation & 2) read_adaptation(r, p + 4);
        if (pid != 0x7A1) {
            r->tables++;
            continue;
        }
        assert_int_equal((p[1] & 0x40) != 0, r->pes_size == 0);
        memcpy(pes + r->pes_size, p + payload, 188 - payload);
        r->pes_size += 188 - payload;
    }
    assert_memory_equal(pes, "\0\0\1\xE0\0\0", 6);
    r->pts = (uint64_t)(pes[9] >> 1 & 7) << 30 | (uint64_t)pes[10] << 22 | (uint64_t)(pes[11] >> 1) << 15 |
             (uint64_t)pes[12] << 7 | pes[13] >> 1;
}

static void begin(reading *r)
{
    memset(r, 0, sizeof *r);
    for (size_t i = 0; i < 8192; i++) r->counter[i] = -1;
}

static void frames_of_every_size_come_back_whole(void **state)
{
    (void)state;
    static reading r;
    bmb_stream_state s = { 0 };
    begin(&r);
    memcpy(frame_data, "\0\0\0\1\x41", 5);
    for (size_t i = 5; i < sizeof frame_data; i++) frame_data[i] = (uint8_t)(i * 13 % 251) | 1;
    uint64_t time = 1000000;
    for (uint32_t size = 1; size < 700; size++, time += 33333) {
        const bmb_frame f = { .data = frame_data, .size = size, .capture_us = time };
        read_stream(&r, transmit(&s, &f));
        assert_int_equal(r.pes_size, 14 + 6 + size);
        assert_memory_equal(pes + 14, "\0\0\0\1\x09\xF0", 6);
        assert_memory_equal(pes + 20, frame_data, size);
        assert_true(r.pcr == (time + 20000) * 27); /* when it left */
        assert_int_equal(r.pts, (time + 150000) * 9 / 100);
    }
    const bmb_frame large = { .data = frame_data, .size = sizeof frame_data, .capture_us = time, .key = true };
    read_stream(&r, transmit(&s, &large));
    assert_int_equal(r.pes_size, 20 + sizeof frame_data);
    assert_memory_equal(pes + 20, frame_data, sizeof frame_data);
    assert_true(r.random_access);
    for (size_t i = 0; i < g.slice_count; i++) /* the frame's bytes are where the frame is */
        if (g.slices[i].size > 40 && ((const uint8_t *)g.slices[i].data)[0] != 0xFF)
            assert_in_range((uintptr_t)g.slices[i].data, (uintptr_t)frame_data,
                            (uintptr_t)frame_data + sizeof frame_data);
}

static void tables_come_often_enough(void **state)
{
    (void)state;
    static reading r;
    bmb_stream_state s = { 0 };
    begin(&r);
    memcpy(frame_data, "\0\0\0\1\x41", 5);
    uint64_t last = 0;
    for (uint64_t time = 5000000; time < 8000000; time += 33333) {
        const bmb_frame f = {
            .data = frame_data, .size = 1000, .capture_us = time, .key = time == 5000000 || time > 7000000
        };
        read_stream(&r, transmit(&s, &f));
        if (f.key) assert_int_equal(r.tables, 2); /* whoever begins here knows what it is */
        if (r.tables == 2) {
            if (last != 0) assert_true(time - last <= 100000);
            last = time;
        }
    }
}

static void a_delimiter_is_not_doubled(void **state)
{
    (void)state;
    static reading r;
    bmb_stream_state s = { 0 };
    const uint8_t with[] = { 0, 0, 0, 1, 9, 0xF0, 0, 0, 1, 0x65, 7 },
                  with_short[] = { 0, 0, 1, 9, 0xF0, 0, 0, 1, 0x65, 7 };
    begin(&r);
    bmb_frame f = { .data = with, .size = sizeof with };
    read_stream(&r, transmit(&s, &f));
    assert_int_equal(r.pes_size, 14 + sizeof with);
    f = (bmb_frame){ .data = with_short, .size = sizeof with_short };
    read_stream(&r, transmit(&s, &f));
    assert_int_equal(r.pes_size, 14 + sizeof with_short);
}

static void the_clock_wraps_where_the_standard_says(void **state)
{
    (void)state;
    static reading r;
    bmb_stream_state s = { 0 };
    begin(&r);
    memcpy(frame_data, "\0\0\0\1\x41", 5);
    const uint64_t wrap = UINT64_C(95443717689); /* 2^33 ticks of 90 kHz, in us */
    const bmb_frame before = { .data = frame_data, .size = 100, .capture_us = wrap - 1000000 };
    const bmb_frame after = { .data = frame_data, .size = 100, .capture_us = wrap + 1000000 };
    read_stream(&r, transmit(&s, &before));
    assert_in_range(r.pts, (UINT64_C(1) << 33) - 90000 + 13490, (UINT64_C(1) << 33) - 90000 + 13510);
    read_stream(&r, transmit(&s, &after));
    assert_in_range(r.pts, 103490, 103510);
    assert_in_range(r.pcr / 300, 91790, 91810);
}

/* Two frames a second: what goes between them keeps the clock and the tables coming. */
static void slow_streams_keep_their_clock(void **state)
{
    (void)state;
    static reading r;
    bmb_stream_state s = { 0 };
    begin(&r);
    memcpy(frame_data, "\0\0\0\1\x41", 5);
    assert_true(bmb_framer_ts.idle_due(&s) == UINT64_MAX); /* nothing before the first frame */
    uint64_t pcr = 0, tables = 0;
    unsigned between = 0;
    for (uint64_t time = 5000000; time < 8000000; time += 500000) {
        const bmb_frame f = { .data = frame_data, .size = 700, .capture_us = time };
        read_stream(&r, transmit(&s, &f));
        pcr = r.pcr;
        if (r.tables == 2) tables = r.pcr;
        uint64_t due;
        while ((due = bmb_framer_ts.idle_due(&s)) < time + 510000) {
            size_t size = bmb_framer_ts.idle(&s, due + 1000, stream);
            assert_true(size == 188 || size == 564);
            for (size_t at = 0; at < size; at += 188) {
                const uint8_t *p = stream + at;
                unsigned pid = (unsigned)((p[1] & 31) << 8 | p[2]), payload = p[3] >> 4 & 1;
                assert_int_equal(p[3] & 15, (r.counter[pid] + payload) & 15); /* without payload it stays */
                r.counter[pid] = p[3] & 15;
                if (pid == 0x7A1) read_adaptation(&r, p + 4);
            }
            if (size > 188) {
                if (tables > 0) assert_in_range(r.pcr - tables, 1, 100000 * 27);
                tables = r.pcr;
            }
            if (pcr > 0) assert_in_range(r.pcr - pcr, 1, 40000 * 27);
            pcr = r.pcr;
            between++;
        }
    }
    assert_true(between > 60);
}

/* A frame that waited long is not shown before its own clock. */
static void a_late_frame_holds_the_clock_back(void **state)
{
    (void)state;
    bmb_stream_state s = { 0 };
    const bmb_frame late = { .data = frame_data, .size = 10, .capture_us = 1000000 };
    bmb_framer_ts.begin(&s, &late, 3000000);
    assert_int_equal(s.clock_us, 1150000); /* the first one sets the clock */
    const bmb_frame older = { .data = frame_data, .size = 10, .capture_us = 900000 };
    bmb_framer_ts.begin(&s, &older, 3000000);
    assert_int_equal(s.clock_us, 1150000); /* and never goes back */
}

/* However late the sender gets round to it: two PCRs are at most 40 ms apart, until the gap is so long that it is said.
 */
static void the_clock_catches_up_in_steps(void **state)
{
    (void)state;
    static reading r;
    bmb_stream_state s = { 0 };
    begin(&r);
    memcpy(frame_data, "\0\0\0\1\x41", 5);
    const bmb_frame first = { .data = frame_data, .size = 700, .capture_us = 5000000 };
    read_stream(&r, transmit(&s, &first));
    uint64_t before = r.pcr, now = 5020000 + 250000; /* the machine stood still */
    unsigned steps = 0;
    while (bmb_framer_ts.idle_due(&s) <= now) {
        (void)bmb_framer_ts.idle(&s, now, stream);
        assert_in_range(s.clock_us * 27 - before, 1, 40000 * 27);
        before = s.clock_us * 27;
        steps++;
    }
    assert_in_range(steps, 6, 8);
    const bmb_frame late = { .data = frame_data, .size = 700, .capture_us = now + 900000 };
    size_t size = transmit(&s, &late);
    const uint8_t *p = stream + (size > 940 ? 376 : 0); /* behind the tables, when they are due */
    while (((p[1] & 31) << 8 | p[2]) != 0x7A1) p += 188;
    assert_int_equal(p[5] & 0x80, 0); /* the clock is the device's, which went on all the time */
    assert_int_equal(s.clock_us, now + 920000);
    const bmb_frame next = { .data = frame_data, .size = 700, .capture_us = now + 933000 };
    (void)transmit(&s, &next);
    for (p = stream; ((p[1] & 31) << 8 | p[2]) != 0x7A1;) p += 188;
    assert_int_equal(p[5] & 0x80, 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(frames_of_every_size_come_back_whole),
        cmocka_unit_test(tables_come_often_enough),
        cmocka_unit_test(a_delimiter_is_not_doubled),
        cmocka_unit_test(the_clock_catches_up_in_steps),
        cmocka_unit_test(slow_streams_keep_their_clock),
        cmocka_unit_test(a_late_frame_holds_the_clock_back),
        cmocka_unit_test(the_clock_wraps_where_the_standard_says),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
