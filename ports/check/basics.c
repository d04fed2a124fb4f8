/* Clock, waiting, randomness, storage. */
#include "check/check.h"

static void the_clock_goes_on(void **state)
{
    (void)state;
    uint64_t before = b.port->now_us(b.port->ctx);
    for (unsigned i = 0; i < 1000; i++) {
        uint64_t now = b.port->now_us(b.port->ctx);
        assert_true(now >= before);
        before = now;
    }
    pass(20000);
    assert_true(b.port->now_us(b.port->ctx) >= before + 20000);
    int64_t wall = 0;
    if (b.port->wall_us == NULL) return;
    bmb_err err = b.port->wall_us(b.port->ctx, &wall);
    assert_true(err == BMB_UNKNOWN || (err == BMB_OK && wall > 0));
}

static void a_wake_ends_a_wait(void **state)
{
    (void)state;
    if (b.port->wait == NULL || b.port->wake == NULL || b.check->pass != NULL) skip();
    uint64_t before = b.port->now_us(b.port->ctx);
    b.port->wake(b.port->ctx); /* comes first: it must not be lost */
    b.port->wait(b.port->ctx, before + 2000000);
    assert_true(b.port->now_us(b.port->ctx) < before + 1900000);
    (void)events_now(UINT32_MAX); /* takes the wake */
    before = b.port->now_us(b.port->ctx);
    for (unsigned i = 0; i < 100 && b.port->now_us(b.port->ctx) < before + 50000; i++)
        b.port->wait(b.port->ctx, before + 50000); /* may return early, but not for ever */
    assert_true(b.port->now_us(b.port->ctx) >= before + 50000);
}

static void random_bytes_differ(void **state)
{
    (void)state;
    uint8_t one[32] = { 0 }, two[32] = { 0 }, guard[3] = { 1, 2, 3 };
    b.port->random(b.port->ctx, one, sizeof one);
    b.port->random(b.port->ctx, two, sizeof two);
    assert_memory_not_equal(one, two, sizeof one);
    b.port->random(b.port->ctx, guard + 1, 1);
    assert_int_equal(guard[0], 1);
    assert_int_equal(guard[2], 3);
    b.port->random(b.port->ctx, guard, 0);
}

static void a_record_is_whole_or_not_there(void **state)
{
    (void)state;
    const bmb_storage *s = &b.port->storage;
    uint8_t out[64], data[48];
    size_t got = 99;
    if (s->load == NULL && s->store == NULL) skip();
    assert_non_null(s->load); /* both or neither */
    assert_non_null(s->store);
    assert_int_equal(s->load(s->ctx, "check-nothing", out, sizeof out, &got), BMB_NOT_FOUND);
    for (uint8_t round = 0; round < 3; round++) {
        size_t size = round == 1 ? 1 : sizeof data;
        memset(data, round + 1, sizeof data);
        assert_int_equal(s->store(s->ctx, "check-record", data, size), BMB_OK);
        assert_int_equal(s->load(s->ctx, "check-record", out, sizeof out, &got), BMB_OK);
        assert_int_equal(got, size); /* the former one is gone, also where it was longer */
        assert_memory_equal(out, data, size);
    }
    assert_int_equal(s->load(s->ctx, "check-record", out, 8, &got), BMB_NO_ROOM);
}

const struct CMUnitTest check_basics[] = {
    cmocka_unit_test(the_clock_goes_on),
    cmocka_unit_test(a_wake_ends_a_wait),
    cmocka_unit_test(random_bytes_differ),
    cmocka_unit_test(a_record_is_whole_or_not_there),
};
const size_t check_basics_count = sizeof check_basics / sizeof check_basics[0];
