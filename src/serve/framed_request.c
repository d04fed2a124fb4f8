#include "serve/framed_request.h"

/* What the body of each request holds, in this order. */
typedef struct body_row {
    uint8_t type, length;
    bool feed, control, flag, value;
} body_row;

static const body_row bodies[] = {
    { BMB_FRAMED_ASK_HELLO, 0, false, false, false, false }, { BMB_FRAMED_ASK_FEED, 2, true, false, false, false },
    { BMB_FRAMED_ASK_KEY, 0, false, false, false, false },   { BMB_FRAMED_ASK_PAUSE, 1, false, false, true, false },
    { BMB_FRAMED_ASK_CONTROL, 8, true, true, false, true },  { BMB_FRAMED_ASK_STATUS, 2, true, false, false, false },
    { BMB_FRAMED_ASK_ALIVE, 0, false, false, false, false },
};

static const body_row *body_of(uint8_t type)
{
    for (size_t i = 0; i < sizeof bodies / sizeof bodies[0]; i++)
        if (bodies[i].type == type) return &bodies[i];
    return NULL;
}

static void read_body(const body_row *row, bmb_reader *r, bmb_framed_request *out)
{
    if (row->feed) out->feed = bmb_get_u16(r);
    if (row->control) {
        out->control = bmb_get_u8(r);
        (void)bmb_get_u8(r); /* reserved */
    }
    if (row->flag) out->value = bmb_get_u8(r);
    if (row->value) out->value = (int32_t)bmb_get_u32(r);
}

bmb_err bmb_framed_request_read(const uint8_t *data, size_t size, bmb_framed_request *out, size_t *used, uint32_t *skip)
{
    bmb_framed_message m;
    *used = 0;
    *skip = 0;
    bmb_err err = bmb_framed_read(data, size, &m);
    if (err != BMB_OK) return err;
    if (m.version != BMB_FRAMED_VERSION) return BMB_UNSUPPORTED;
    const body_row *row = body_of(m.type);
    if (row == NULL) {
        if (m.length > BMB_FRAMED_SKIP_MAX) return BMB_BAD_DATA;
        *used = BMB_FRAMED_HEADER;
        *skip = m.length;
        return BMB_AGAIN;
    }
    /* A later minor revision may append members; what is known comes first. */
    if (m.length < row->length || m.length > BMB_FRAMED_REQUEST_MAX) return BMB_BAD_DATA;
    if (size - BMB_FRAMED_HEADER < m.length) return BMB_AGAIN;
    bmb_reader r = bmb_reader_of(data + BMB_FRAMED_HEADER, m.length);
    *out = (bmb_framed_request){ .type = (bmb_framed_type)m.type, .number = m.number };
    read_body(row, &r, out);
    *used = BMB_FRAMED_HEADER + m.length;
    return BMB_OK;
}
