/* Parity over RTP packets (RFC 5109): any one of a group that is lost is made again from the others, byte for byte. */
#include <stdlib.h>

#include "base/bytes.h"
#include "support/check.h"
#include "wire/parity.h"

#define ROOM 400

typedef struct made {
    uint8_t data[ROOM];
    size_t size;
} made;

static uint8_t memory[ROOM];

static made rtp(uint16_t seq, uint32_t time, bool marker, size_t payload)
{
    made m = { .size = 12 + payload };
    bmb_writer w = bmb_writer_of(m.data, sizeof m.data);
    bmb_put_u8(&w, 0x80);
    bmb_put_u8(&w, (uint8_t)(96 | (marker ? 0x80 : 0)));
    bmb_put_u16(&w, seq);
    bmb_put_u32(&w, time);
    bmb_put_u32(&w, 0xCAFE1234);
    for (size_t i = 0; i < payload; i++) bmb_put_u8(&w, (uint8_t)(seq * 31 + i * 7));
    return m;
}

/* As a sender hands it over: in slices that are cut anywhere behind the header. */
static void add(bmb_parity *p, const made *m)
{
    const bmb_slice slices[3] = { { m->data, 14 }, { m->data + 14, 0 }, { m->data + 14, m->size - 14 } };
    const bmb_packet packet = { slices, 3, (uint32_t)m->size };
    bmb_parity_add(p, &packet);
}

/* What a receiver does (RFC 5109 9.2), from the packet of parity and all but one. */
static made recover(const uint8_t *head, const uint8_t *data, size_t size, const made *packets, size_t count,
                    size_t lost)
{
    made m = { 0 };
    uint8_t first = (uint8_t)(head[12] & 0x3F), second = head[13];
    uint32_t time = (uint32_t)head[16] << 24 | (uint32_t)head[17] << 16 | (uint32_t)head[18] << 8 | head[19];
    unsigned length = (unsigned)head[20] << 8 | head[21];
    uint8_t payload[ROOM] = { 0 };
    assert_int_equal((head[22] << 8 | head[23]), size);
    memcpy(payload, data, size);
    for (size_t i = 0; i < count; i++) {
        if (i == lost) continue;
        const made *p = &packets[i];
        first ^= p->data[0] & 0x3F;
        second ^= p->data[1];
        time ^= (uint32_t)p->data[4] << 24 | (uint32_t)p->data[5] << 16 | (uint32_t)p->data[6] << 8 | p->data[7];
        length ^= (unsigned)(p->size - 12);
        for (size_t k = 12; k < p->size; k++) payload[k - 12] ^= p->data[k];
    }
    bmb_writer w = bmb_writer_of(m.data, sizeof m.data);
    bmb_put_u8(&w, (uint8_t)(0x80 | first));
    bmb_put_u8(&w, second);
    bmb_put_u16(&w, (uint16_t)((head[14] << 8 | head[15]) + lost));
    bmb_put_u32(&w, time);
    bmb_put_bytes(&w, head + 8, 4);
    assert_true(length <= size);
    bmb_put_bytes(&w, payload, length);
    m.size = bmb_written(&w);
    return m;
}

static void any_one_comes_again(void **state)
{
    (void)state;
    bmb_parity p = { .data = memory, .room = sizeof memory, .of = 5, .seq = 77 };
    uint8_t head[BMB_PARITY_HEAD];
    for (unsigned round = 0; round < 3; round++) {
        made packets[5];
        uint16_t seq = (uint16_t)(65533 + round * 5); /* over the end of the numbers */
        for (unsigned i = 0; i < 5; i++) {
            packets[i] =
                rtp((uint16_t)(seq + i), 9000 + round * 3000 + i / 3 * 3000, i == 2, 40 + (i * 97 + round * 53) % 300);
            assert_false(bmb_parity_is_due(&p, false));
            add(&p, &packets[i]);
        }
        assert_true(bmb_parity_is_due(&p, false));
        bmb_parity_write(&p, head);
        assert_int_equal(head[0], 0x80);
        assert_int_equal(head[1], BMB_RTP_TYPE_PARITY);
        assert_int_equal((head[2] << 8 | head[3]), 77 + round);
        assert_int_equal((head[24] << 8 | head[25]), 0xF800);
        for (size_t lost = 0; lost < 5; lost++) {
            made again = recover(head, p.data, p.size, packets, 5, lost);
            assert_int_equal(again.size, packets[lost].size);
            assert_memory_equal(again.data, packets[lost].data, again.size);
        }
        bmb_parity_clear(&p);
    }
}

static void a_frames_end_waits_for_half_of_them(void **state)
{
    (void)state;
    bmb_parity p = { .data = memory, .room = sizeof memory, .of = 10 };
    for (uint16_t i = 0; i < 4; i++) {
        const made m = rtp(i, 1, false, 50);
        add(&p, &m);
    }
    assert_false(bmb_parity_is_due(&p, true)); /* small frames share one */
    const made m = rtp(4, 1, true, 50);
    add(&p, &m);
    assert_false(bmb_parity_is_due(&p, false));
    assert_true(bmb_parity_is_due(&p, true));
    bmb_parity_clear(&p);
}

static void numbers_too_far_apart_begin_anew(void **state)
{
    (void)state;
    bmb_parity p = { .data = memory, .room = sizeof memory, .of = 10 };
    uint8_t head[BMB_PARITY_HEAD];
    made packets[2] = { rtp(100, 5, false, 200), rtp(900, 6, false, 30) };
    add(&p, &packets[0]);
    add(&p, &packets[1]);
    assert_int_equal(p.count, 1);
    bmb_parity_write(&p, head);
    made again = recover(head, p.data, p.size, &packets[1], 1, 0);
    assert_int_equal(again.size, packets[1].size);
    assert_memory_equal(again.data, packets[1].data, again.size);
    bmb_parity_clear(&p);
    for (size_t i = 0; i < sizeof memory; i++) assert_int_equal(memory[i], 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(any_one_comes_again),
        cmocka_unit_test(a_frames_end_waits_for_half_of_them),
        cmocka_unit_test(numbers_too_far_apart_begin_anew),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
