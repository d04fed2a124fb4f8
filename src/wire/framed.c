#include "wire/framed.h"

#include <string.h>

/* No text begins so, and neither codec has this sequence at the head of anything. */
static const uint8_t sync[4] = { 0x8F, 'b', 'm', 'b' };
#define CHECK_AT 7u
#define CHECK_SUM 0x5Au /* what all sixteen bytes come to */

static uint8_t sum_of(const uint8_t *header)
{
    uint8_t sum = 0;
    for (size_t i = 0; i < BMB_FRAMED_HEADER; i++) sum = (uint8_t)(sum ^ header[i]);
    return sum;
}

bmb_err bmb_framed_read(const uint8_t *data, size_t size, bmb_framed_message *out)
{
    size_t there = size < sizeof sync ? size : sizeof sync;
    if (memcmp(data, sync, there) != 0) return BMB_BAD_DATA; /* told as soon as it can be */
    if (size < BMB_FRAMED_HEADER) return BMB_AGAIN;
    if (sum_of(data) != CHECK_SUM) return BMB_BAD_DATA;
    bmb_reader r = bmb_reader_of(data + 8, 8);
    *out = (bmb_framed_message){ .version = data[4], .type = data[5], .flags = data[6] };
    out->number = bmb_get_u32(&r);
    out->length = bmb_get_u32(&r);
    return BMB_OK;
}

void bmb_framed_write(uint8_t out[BMB_FRAMED_HEADER], const bmb_framed_message *m)
{
    memcpy(out, sync, sizeof sync);
    out[4] = BMB_FRAMED_VERSION;
    out[5] = m->type;
    out[6] = m->flags;
    out[CHECK_AT] = 0;
    bmb_store_u32(out + 8, m->number);
    bmb_store_u32(out + 12, m->length);
    out[CHECK_AT] = sum_of(out) ^ CHECK_SUM;
}

uint8_t *bmb_framed_begin(bmb_writer *w)
{
    static const uint8_t blank[BMB_FRAMED_HEADER];
    uint8_t *here = w->at;
    bmb_put_bytes(w, blank, sizeof blank);
    return here;
}

void bmb_framed_end(bmb_writer *w, uint8_t *begun, bmb_framed_type type, uint32_t number)
{
    if (w->failed) return;
    uint32_t length = (uint32_t)(w->at - begun) - BMB_FRAMED_HEADER;
    bmb_framed_write(begun, &(bmb_framed_message){ .type = (uint8_t)type, .number = number, .length = length });
}

static void store_u64(uint8_t *at, uint64_t v)
{
    bmb_store_u32(at, (uint32_t)(v >> 32));
    bmb_store_u32(at + 4, (uint32_t)v);
}

static void fill(const bmb_stream_state *state, const bmb_frame *frame, bmb_cursor *cursor, bmb_gather *gather,
                 size_t most)
{
    (void)most; /* one piece is the whole */
    if (!bmb_gather_fits(gather, 2, BMB_FRAMED_HEADER + BMB_FRAMED_FRAME_HEAD)) return;
    bmb_gather_begin(gather, cursor);
    uint8_t *head = bmb_gather_scratch(gather, BMB_FRAMED_HEADER + BMB_FRAMED_FRAME_HEAD);
    uint8_t *body = head + BMB_FRAMED_HEADER;
    bmb_framed_write(head, &(bmb_framed_message){ .type = BMB_FRAMED_FRAME,
                                                  .flags = frame->key ? BMB_FRAMED_KEY : 0,
                                                  .number = frame->seq,
                                                  .length = BMB_FRAMED_FRAME_HEAD + frame->size });
    bmb_store_u16(body, state->feed);
    body[2] = state->payload_type; /* the codec */
    body[3] = 0;                   /* track: the pictures */
    store_u64(body + 4, frame->capture_us);
    store_u64(body + 12, frame->wall_us > 0 ? (uint64_t)frame->wall_us : 0);
    bmb_gather_slice(gather, head, BMB_FRAMED_HEADER + BMB_FRAMED_FRAME_HEAD);
    bmb_gather_slice(gather, frame->data, frame->size);
    cursor->end = true;
}

static void begin(bmb_stream_state *state, const bmb_frame *frame, uint64_t now_us)
{
    (void)frame;
    state->clock_us = now_us;
}

const bmb_framer bmb_framer_framed = { .name = "framed", .fill = fill, .begin = begin };
