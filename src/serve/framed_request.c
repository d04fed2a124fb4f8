#include "serve/framed_request.h"

#include <string.h>

/* What the body of each request holds, in this order. */
typedef struct body_row {
    uint8_t type, length;
    bool feed, control, flag, value, proof;
} body_row;

static const body_row bodies[] = {
    { .type = BMB_FRAMED_ASK_HELLO },
    { .type = BMB_FRAMED_ASK_FEED, .length = 2, .feed = true },
    { .type = BMB_FRAMED_ASK_KEY },
    { .type = BMB_FRAMED_ASK_PAUSE, .length = 1, .flag = true },
    { .type = BMB_FRAMED_ASK_CONTROL, .length = 8, .feed = true, .control = true, .value = true },
    { .type = BMB_FRAMED_ASK_STATUS, .length = 2, .feed = true },
    { .type = BMB_FRAMED_ASK_ALIVE },
#if BMB_WITH_ACCESS
    { .type = BMB_FRAMED_ASK_SIGN_IN, .length = BMB_SHA256_SIZE + 2, .proof = true },
#endif
};

static const body_row *body_of(uint8_t type)
{
    for (size_t i = 0; i < sizeof bodies / sizeof bodies[0]; i++)
        if (bodies[i].type == type) return &bodies[i];
    return NULL;
}

/* A name that is cut off or too long is nobody's. */
static void read_proof(bmb_reader *r, bmb_framed_request *out)
{
    const uint8_t *proof = bmb_get_bytes(r, sizeof out->proof);
    uint8_t length = bmb_get_u8(r);
    const uint8_t *name = bmb_get_bytes(r, length);
    if (proof == NULL || name == NULL || length >= sizeof out->name || memchr(name, 0, length) != NULL) return;
    memcpy(out->proof, proof, sizeof out->proof);
    memcpy(out->name, name, length);
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
    if (BMB_WITH_ACCESS && row->proof) read_proof(r, out);
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
