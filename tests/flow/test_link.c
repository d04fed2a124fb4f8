/* A viewer walks frames onto whatever is a link: here onto memory, which takes a few bytes at a time and keeps a list
 * of where frames end, as storage would. No device, no socket.
 */
#include "support/check.h"
#include "support/fake_port.h"

#include "flow/viewer.h"

static uint8_t stored[20000];
static size_t stored_size, room, ends[8], end_count;
static bmb_gather scratch;

static bmb_err store(bmb_link *link, bmb_gather *g, size_t skip, size_t *taken)
{
    (void)link;
    for (size_t i = 0; i < g->slice_count; i++) {
        const uint8_t *data = g->slices[i].data;
        for (size_t k = 0; k < g->slices[i].size; k++) {
            if (skip > 0) {
                skip--;
                continue;
            }
            if (room == 0) return BMB_AGAIN;
            room--;
            ++*taken;
            stored[stored_size++] = data[k];
        }
    }
    return BMB_OK;
}

static void frame_ends(bmb_link *link, const bmb_frame *frame)
{
    (void)link;
    (void)frame;
    ends[end_count++] = stored_size;
}

static unsigned news;

static void frame_there(bmb_owner *owner, bmb_watcher *w)
{
    (void)owner;
    (void)w;
    news++;
}

static void storage_is_a_link(void **state)
{
    (void)state;
    static const bmb_link_kind kind = { .send = store, .frame_ends = frame_ends };
    fake_device t;
    fake_device_prepare(&t, BMB_CODEC_JPEG);
    bmb_context x = { .port = &t.f->port, .config = &t.config, .now = 1000000, .scratch = &scratch };
    bmb_link link = { .kind = &kind, .x = &x };
    static uint8_t memory[8000], jpegs[2][2000];
    static bmb_frame slots[6];
    static bmb_jpeg_facts facts[6];
    bmb_feed feed = { .config = &t.feeds[0],
                      .camera = { .config = &t.feeds[0], .mode = t.feeds[0].mode },
                      .tracks = 1 };
    bmb_track *track = bmb_feed_video(&feed);
    track->feed = &feed;
    track->row = bmb_codec_of(BMB_CODEC_JPEG);
    bmb_owner owner = { .frame_there = frame_there };
    bmb_viewer v = { .state = { .feed = 0 } };
    bmb_reel_init_kept(&track->reel, memory, sizeof memory, 2000, slots, 6);
    for (size_t i = 0; i < 6; i++) slots[i].facts = &facts[i];
    bmb_feed_open(&x, &feed);
    bmb_viewer_begin(&x, &v, track, &(bmb_viewing){ .owner = &owner, .framer = &bmb_framer_raw, .keep_all = true });
    size_t sizes[2], total = 0;
    for (size_t i = 0; i < 2; i++) {
        sizes[i] = fake_jpeg(jpegs[i], 640, 480, 1000 + 200 * i);
        fake_frame(t.f, 0, jpegs[i], sizes[i], true);
        bmb_feed_take(&x, &feed);
        bmb_feed_deliver(&feed);
        assert_int_equal(news, i + 1);
        bmb_feed_deliver(&feed); /* there is nothing more */
        total += sizes[i];
    }
    while (stored_size < total) { /* ever so little at a time, and nothing is lost or twice */
        room = 7;
        assert_int_equal(bmb_viewer_pump(&x, &v, &link), BMB_AGAIN);
        assert_true(room == 0 || stored_size == total);
        bmb_viewer_unblock(&x, &v);
    }
    assert_memory_equal(stored, jpegs[0], sizes[0]);
    assert_memory_equal(stored + sizes[0], jpegs[1], sizes[1]);
    assert_int_equal(end_count, 2);
    assert_int_equal(ends[0], sizes[0]);
    assert_int_equal(ends[1], total);
    bmb_viewer_end(&x, &v);
    assert_null(track->first);
    assert_int_equal(track->reel.pinned, 0);
    fake_destroy(t.f);
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(storage_is_a_link) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
