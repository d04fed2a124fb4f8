/* Result codes.
 *
 * Every call that can fail returns a bmb_err. A code says what kind of thing went wrong; the facts (which feed, how
 * many bytes) come beside it in a bmb_fault or a bmb_event. The core holds no interface text: bambino/text.h turns both
 * into sentences for the programs that want them.
 */
#ifndef BAMBINO_ERR_H
#define BAMBINO_ERR_H

#ifdef __cplusplus
extern "C" {
#endif

typedef enum bmb_err {
    BMB_OK = 0,
    BMB_AGAIN,       /* nothing to take, or the peer takes no more just now: call again when ready */
    BMB_GONE,        /* the peer or the thing behind a handle is gone for good */
    BMB_BAD_ARG,     /* a value outside its documented range */
    BMB_BAD_DATA,    /* bytes that do not follow their format */
    BMB_NO_MEMORY,   /* the block handed over is too small */
    BMB_NO_ROOM,     /* a bounded store is full, or a frame is larger than it */
    BMB_LIMIT,       /* a configured or system limit is reached (viewers, open files) */
    BMB_IN_USE,      /* address, port or camera is taken by somebody else */
    BMB_NOT_FOUND,   /* no feed, camera, file or host of that name */
    BMB_DENIED,      /* the system forbids it */
    BMB_UNKNOWN,     /* a fact that is not known, such as the wall clock before it was set */
    BMB_UNSUPPORTED, /* a mode, control or call that this port or camera does not have */
    BMB_TIMED_OUT,   /* it took longer than its bound */
    BMB_NO_ROUTE,    /* the network has no way to that address */
    BMB_REFUSED,     /* the peer answered that nobody listens there */
    BMB_FAILED,      /* anything else that the port reports */
    BMB_NO_SIGNAL    /* the video input is there, and nothing that it could capture arrives at it */
} bmb_err;

/* A short lower-case name of the code for logs and JSON, for example "no-room". Never NULL; static storage. */
const char *bmb_err_name(bmb_err err);

#ifdef __cplusplus
}
#endif
#endif
