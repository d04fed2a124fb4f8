/* A camera's buffers, between its interrupt and the loop. */
#include "bare/board.h"

enum { EMPTY = 0, FILLING, FILLED, OUT };

static bmb_bare_buffer *oldest_filled(const bmb_bare_buffers *b)
{
    bmb_bare_buffer *oldest = NULL;
    for (size_t i = 0; i < b->count; i++)
        if (b->buffer[i].state == FILLED && (oldest == NULL || (int32_t)(b->buffer[i].number - oldest->number) < 0))
            oldest = &b->buffer[i];
    return oldest;
}

uint8_t *bmb_bare_fill(bmb_bare_buffers *b)
{
    bmb_bare_buffer *found = b->filling; /* one that was begun and never filled */
    for (size_t i = 0; i < b->count && found == NULL; i++)
        if (b->buffer[i].state == EMPTY) found = &b->buffer[i];
    if (found == NULL) {
        found = oldest_filled(b);
        b->overwritten++;
    }
    if (found == NULL) return NULL;
    found->state = FILLING;
    b->filling = found;
    return found->data;
}

void bmb_bare_filled(bmb_bare_buffers *b, size_t size, uint64_t capture_us)
{
    bmb_bare_buffer *done = b->filling;
    if (done == NULL) return;
    b->filling = NULL;
    done->size = size;
    done->capture_us = capture_us;
    done->number = b->number++;
    done->state = FILLED;
}

bmb_err bmb_bare_take(bmb_bare_buffers *b, bmb_camera_frame *out)
{
    bmb_bare_board_now->interrupts(false); /* or the one that is chosen is filled anew */
    bmb_bare_buffer *oldest = oldest_filled(b);
    if (oldest != NULL) oldest->state = OUT;
    bmb_bare_board_now->interrupts(true);
    if (oldest == NULL) return BMB_AGAIN;
    if (bmb_bare_board_now->before_read != NULL) bmb_bare_board_now->before_read(oldest->data, oldest->size);
    *out = (bmb_camera_frame){ .data = oldest->data,
                               .size = oldest->size,
                               .capture_us = oldest->capture_us,
                               .key = true,
                               .cookie = (uintptr_t)(oldest - b->buffer) };
    return BMB_OK;
}

void bmb_bare_release(bmb_bare_buffers *b, uintptr_t cookie)
{
    if (cookie < b->count) b->buffer[cookie].state = EMPTY;
}

void bmb_bare_empty(bmb_bare_buffers *b)
{
    bmb_bare_board_now->interrupts(false);
    for (size_t i = 0; i < b->count; i++)
        if (b->buffer[i].state != OUT) b->buffer[i].state = EMPTY;
    b->filling = NULL;
    bmb_bare_board_now->interrupts(true);
}
