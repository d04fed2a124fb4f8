#include "support/check.h"
#include "support/fake_port.h"

#include "wire/framer.h"
#include "wire/jpeg.h"

static void a_whole_image_is_described(void **state)
{
    (void)state;
    uint8_t data[8192];
    bmb_jpeg j;
    size_t size = fake_jpeg(data, 640, 480, 4000);
    assert_int_equal(bmb_jpeg_parse(data, size, &j), BMB_OK);
    assert_int_equal(j.size, size);
    assert_int_equal(j.width, 640);
    assert_int_equal(j.height, 480);
    assert_int_equal(j.sof, 0xC0);
    assert_int_equal(j.components, 3);
    assert_int_equal(j.component[0].h, 2);
    assert_int_equal(j.component[1].quant, 1);
    assert_int_equal(j.component[2].ac, 1);
    assert_int_equal(data[j.quant_at[1]], 101);
    assert_int_equal(data[j.scan_end], 0xFF);
    assert_int_equal(data[j.scan_end + 1], 0xD9);
}

static void padding_behind_the_end_is_left_out(void **state)
{
    (void)state;
    uint8_t data[8192];
    bmb_jpeg j;
    size_t size = fake_jpeg(data, 64, 48, 1000);
    memset(data + size, 0, 100);
    assert_int_equal(bmb_jpeg_parse(data, size + 100, &j), BMB_OK);
    assert_int_equal(j.size, size);
}

static void an_image_cut_off_anywhere_is_refused(void **state)
{
    (void)state;
    uint8_t data[8192];
    bmb_jpeg j;
    size_t size = fake_jpeg(data, 64, 48, 1500);
    for (size_t n = 0; n < size; n++) {
        uint8_t *exact = malloc(n + 1); /* of just that size, so that a read behind it is noticed */
        memcpy(exact, data, n);
        assert_int_equal(bmb_jpeg_parse(exact, n, &j), BMB_BAD_DATA);
        free(exact);
    }
}

static void a_marker_in_the_picture_is_noticed(void **state)
{
    (void)state;
    uint8_t data[8192];
    bmb_jpeg j;
    size_t size = fake_jpeg(data, 64, 48, 3000);
    data[2000] = 0xFF;
    data[2001] = 0x17;
    assert_int_equal(bmb_jpeg_parse(data, size, &j), BMB_BAD_DATA);
    data[2001] = 0x00; /* a stuffed byte is fine */
    assert_int_equal(bmb_jpeg_parse(data, size, &j), BMB_OK);
    data[2001] = 0xD3; /* and so is a restart marker */
    assert_int_equal(bmb_jpeg_parse(data, size, &j), BMB_OK);
}

/* All that a gather holds, as one text. */
static size_t flatten(const bmb_gather *g, char *out)
{
    size_t n = 0;
    for (size_t i = 0; i < g->slice_count; i++) {
        memcpy(out + n, g->slices[i].data, g->slices[i].size);
        n += g->slices[i].size;
    }
    out[n] = '\0';
    return n;
}

static void a_part_ends_with_the_next_delimiter(void **state)
{
    (void)state;
    static bmb_gather g;
    char text[512];
    const bmb_frame frame = { .data = (const uint8_t *)"JPEG", .size = 4, .seq = 7, .wall_us = 1790000000000001 };
    const bmb_stream_state s = { 0 };
    bmb_cursor cursor = { 0 };
    bmb_gather_clear(&g);
    bmb_framer_multipart.fill(&s, &frame, &cursor, &g, 1);
    assert_int_equal(g.piece_count, 1);
    assert_true(cursor.end);
    assert_int_equal(flatten(&g, text), g.bytes);
    assert_string_equal(text, "Content-Type: image/jpeg\r\nContent-Length: 4\r\nFrame-Number: 7\r\n"
                              "Frame-Captured-Us: 1790000000000001 unix\r\n\r\nJPEG\r\n--next-picture\r\n");
    assert_ptr_equal(g.slices[1].data, frame.data); /* the picture is not copied */
}

static void a_still_is_a_whole_response(void **state)
{
    (void)state;
    static bmb_gather g;
    char text[512];
    const bmb_frame frame = { .data = (const uint8_t *)"JPEG", .size = 4, .seq = 7, .capture_us = 12 };
    const bmb_stream_state close = { 0 }, head = { .keep_alive = true, .head_only = true };
    bmb_cursor cursor = { 0 };
    bmb_gather_clear(&g);
    bmb_framer_still.fill(&close, &frame, &cursor, &g, 1);
    assert_int_equal(g.piece_count, 1);
    flatten(&g, text);
    assert_string_equal(text, "HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\nContent-Length: 4\r\n"
                              "Cache-Control: no-store\r\nFrame-Number: 7\r\nFrame-Captured-Us: 12 uptime\r\n"
                              "X-Content-Type-Options: nosniff\r\nCross-Origin-Resource-Policy: same-origin\r\n"
                              "Connection: close\r\n\r\nJPEG");
    cursor = (bmb_cursor){ 0 };
    bmb_gather_clear(&g);
    bmb_framer_still.fill(&head, &frame, &cursor, &g, 1);
    assert_int_equal(g.piece_count, 1);
    flatten(&g, text);
    assert_non_null(strstr(text, "Content-Length: 4\r\n"));
    assert_null(strstr(text, "JPEG"));
    assert_null(strstr(text, "close"));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_whole_image_is_described),           cmocka_unit_test(padding_behind_the_end_is_left_out),
        cmocka_unit_test(an_image_cut_off_anywhere_is_refused), cmocka_unit_test(a_marker_in_the_picture_is_noticed),
        cmocka_unit_test(a_part_ends_with_the_next_delimiter),  cmocka_unit_test(a_still_is_a_whole_response),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
