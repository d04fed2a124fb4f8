#include "support/check.h"

#include "media/reel.h"

static uint8_t memory[1000];
static bmb_frame slots[8];

static bmb_reel kept(uint32_t frame_max)
{
    bmb_reel r;
    bmb_reel_init_kept(&r, memory, sizeof memory, frame_max, slots, 8);
    return r;
}

static bmb_frame *add(bmb_reel *r, uint32_t size)
{
    bmb_frame *f = bmb_reel_reserve(r, size);
    if (f == NULL) return NULL;
    memset(bmb_reel_bytes(r, f), (int)r->next_seq, size);
    bmb_reel_publish(r, f);
    return f;
}

static void check_whole(const bmb_frame *f)
{
    for (uint32_t i = 0; i < f->size; i++) assert_int_equal(f->data[i], (uint8_t)f->seq);
}

static void frames_of_any_size_follow_each_other(void **state)
{
    (void)state;
    bmb_reel r = kept(300);
    for (uint32_t i = 0; i < 200; i++) {
        const bmb_frame *f = add(&r, 1 + i * 37 % 300);
        assert_non_null(f);
        assert_ptr_equal(r.newest, f);
        assert_int_equal(f->seq, i + 1);
        for (size_t k = 0; k < 8; k++)
            if (slots[k].live) check_whole(&slots[k]);
    }
    assert_true(r.used <= sizeof memory);
}

static void a_pinned_frame_is_stepped_over(void **state)
{
    (void)state;
    bmb_reel r = kept(200);
    bmb_frame *slow = add(&r, 200);
    bmb_reel_pin(&r, slow);
    for (int i = 0; i < 50; i++) assert_non_null(add(&r, 200));
    assert_true(slow->live);
    check_whole(slow);
    bmb_reel_unpin(&r, slow);
    for (int i = 0; i < 5; i++) add(&r, 200);
    assert_null(bmb_reel_oldest_pinned(&r));
    assert_true(bmb_reel_after(&r, 0)->seq > 40); /* the slow one is gone */
}

static void pins_in_the_way_are_told(void **state)
{
    (void)state;
    bmb_reel r = kept(300);
    bmb_frame *pinned[3];
    for (int i = 0; i < 3; i++) {
        pinned[i] = add(&r, 300);
        bmb_reel_pin(&r, pinned[i]);
    }
    assert_null(bmb_reel_reserve(&r, 300));
    assert_ptr_equal(bmb_reel_oldest_pinned(&r), pinned[0]);
    bmb_reel_unpin(&r, pinned[0]);
    assert_non_null(add(&r, 300));
    assert_null(bmb_reel_reserve(&r, 1001));
}

static void slow_viewers_may_not_take_the_last_room(void **state)
{
    (void)state;
    bmb_reel r = kept(300); /* room for three: two pins at most */
    assert_int_equal(r.pin_most, 2);
    bmb_frame *a = add(&r, 300);
    bmb_reel_pin(&r, a);
    bmb_frame *b = add(&r, 300);
    bmb_reel_pin(&r, b);
    const bmb_frame *c = add(&r, 300);
    assert_false(bmb_reel_may_pin(&r, c));
    assert_true(bmb_reel_may_pin(&r, b)); /* to share a pinned one costs nothing */
}

static uint32_t given_back;
static void release(void *ctx, size_t camera, uintptr_t cookie)
{
    (void)ctx;
    assert_int_equal(camera, 3);
    given_back |= 1u << cookie;
}

static bmb_frame *lend(bmb_reel *r, uintptr_t cookie)
{
    bmb_frame *f = bmb_reel_reserve(r, 10);
    if (f == NULL) return NULL;
    f->cookie = cookie;
    f->data = memory;
    bmb_reel_publish(r, f);
    return f;
}

static void borrowed_buffers_go_back_when_the_last_viewer_is_done(void **state)
{
    (void)state;
    const bmb_cameras cameras = { .release = release };
    bmb_reel r;
    given_back = 0;
    bmb_reel_init_borrowed(&r, slots, 3, &cameras, 3);
    bmb_frame *first = lend(&r, 0);
    bmb_reel_pin(&r, first);
    bmb_reel_pin(&r, first);
    lend(&r, 1);
    lend(&r, 2); /* takes 1's place as the newest */
    assert_int_equal(given_back, 1u << 1);
    bmb_reel_unpin(&r, first);
    assert_int_equal(given_back, 1u << 1);
    bmb_reel_unpin(&r, first);
    assert_int_equal(given_back, 3u);
    bmb_reel_clear(&r);
    assert_int_equal(given_back, 7u);
    assert_int_equal(bmb_reel_live(&r), 0);
}

static void a_driver_always_keeps_one_buffer(void **state)
{
    (void)state;
    const bmb_cameras cameras = { .release = release };
    bmb_reel r;
    bmb_reel_init_borrowed(&r, slots, 3, &cameras, 3); /* a driver with four */
    for (uintptr_t i = 0; i < 3; i++) bmb_reel_pin(&r, lend(&r, i));
    assert_null(bmb_reel_reserve(&r, 10));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(frames_of_any_size_follow_each_other),
        cmocka_unit_test(a_pinned_frame_is_stepped_over),
        cmocka_unit_test(pins_in_the_way_are_told),
        cmocka_unit_test(slow_viewers_may_not_take_the_last_room),
        cmocka_unit_test(borrowed_buffers_go_back_when_the_last_viewer_is_done),
        cmocka_unit_test(a_driver_always_keeps_one_buffer),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
