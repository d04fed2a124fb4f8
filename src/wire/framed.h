/* Messages of the framed protocol: whole frames with their facts over TCP, and a way back. docs/framed.md specifies it
 * byte by byte; this file reads and writes its headers, and is the framer of its frame messages.
 */
#ifndef BMB_WIRE_FRAMED_H
#define BMB_WIRE_FRAMED_H

#include "base/bytes.h"
#include "wire/framer.h"

#define BMB_FRAMED_VERSION 1u
#define BMB_FRAMED_HEADER 16u
#define BMB_FRAMED_FRAME_HEAD 20u  /* of a frame message's body, before the picture */
#define BMB_FRAMED_REQUEST_MAX 64u /* body of a request that means something to the device */
#define BMB_FRAMED_SKIP_MAX                                                                                            \
    65536u                           /* body of an unknown request, which is skipped; a longer one ends the connection \
                                      */
#define BMB_FRAMED_NO_FEED 0xFFFFu   /* in place of a feed's number */
#define BMB_FRAMED_ALIVE_US 2000000u /* a device that has nothing else to say says this as often */

typedef enum bmb_framed_type {
    /* from the device */
    BMB_FRAMED_HELLO = 1,
    BMB_FRAMED_FEED,
    BMB_FRAMED_FRAME,
    BMB_FRAMED_ALIVE,
    BMB_FRAMED_ANSWER,
    BMB_FRAMED_STATUS,
    BMB_FRAMED_BYE,
    BMB_FRAMED_CHALLENGE,
    /* from the peer */
    BMB_FRAMED_ASK_HELLO = 65,
    BMB_FRAMED_ASK_FEED,
    BMB_FRAMED_ASK_KEY,
    BMB_FRAMED_ASK_PAUSE,
    BMB_FRAMED_ASK_CONTROL,
    BMB_FRAMED_ASK_STATUS,
    BMB_FRAMED_ASK_ALIVE,
    BMB_FRAMED_ASK_SIGN_IN
} bmb_framed_type;

#define BMB_FRAMED_KEY 1u /* flag of a frame message: it can be decoded on its own */

typedef struct bmb_framed_message {
    uint8_t version, type, flags;
    uint32_t number; /* of the request, or of the frame */
    uint32_t length; /* bytes behind the header */
} bmb_framed_message;

/* Reads a header. BMB_AGAIN: fewer than 16 bytes are there; BMB_BAD_DATA: it is none. The version is not judged. */
bmb_err bmb_framed_read(const uint8_t *data, size_t size, bmb_framed_message *out);
/* Writes one, of our version. */
void bmb_framed_write(uint8_t out[BMB_FRAMED_HEADER], const bmb_framed_message *message);

/* Whole messages, built in a writer: begin, write the body, end. */
uint8_t *bmb_framed_begin(bmb_writer *w);
void bmb_framed_end(bmb_writer *w, uint8_t *begun, bmb_framed_type type, uint32_t number);

extern const bmb_framer bmb_framer_framed;

#endif
