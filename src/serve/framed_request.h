/* Requests of the framed protocol: bytes in, one request out. docs/framed.md 4 specifies them. */
#ifndef BMB_SERVE_FRAMED_REQUEST_H
#define BMB_SERVE_FRAMED_REQUEST_H

#include "bambino/access.h"
#include "wire/framed.h"

typedef struct bmb_framed_request {
    bmb_framed_type type;
    uint32_t number;
    char name[BMB_ACCOUNT_NAME_MAX]; /* ASK_SIGN_IN: NUL-terminated … */
    uint8_t proof[BMB_SHA256_SIZE];  /* … and the answer to the challenge */
    uint16_t feed;                   /* ASK_FEED, ASK_CONTROL, ASK_STATUS */
    uint8_t control;                 /* ASK_CONTROL: its number */
    int32_t value;                   /* ASK_PAUSE: 0 or 1; ASK_CONTROL */
} bmb_framed_request;

/* Takes the request at the beginning of data. *used gets the bytes that are done with, *skip those of an unknown
 * message that are still to come and mean nothing.
 *   BMB_OK: *out is a request
 *   BMB_AGAIN: not complete yet, or skipped (*used is not 0 then)
 *   BMB_BAD_DATA: not this protocol, or a body that does not fit its type
 *   BMB_UNSUPPORTED: another version */
bmb_err bmb_framed_request_read(const uint8_t *data, size_t size, bmb_framed_request *out, size_t *used,
                                uint32_t *skip);

#endif
