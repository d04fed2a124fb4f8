/* A link: a non-blocking way to one peer, or to a group, or into storage.
 *
 * It takes what it can of a gather and says how much that was: bytes where it is a stream, packets where it carries
 * datagrams. A viewer that is stopped in the middle goes on there; nothing is kept here.
 *
 *     bmb_link link = bmb_stream_link(x, sock, &progress_us);
 *     err = link.kind->send(&link, gather, skip, &taken);
 */
#ifndef BMB_FLOW_LINK_H
#define BMB_FLOW_LINK_H

#include "base/context.h"
#include "wire/framer.h"
#include "wire/parity.h"

typedef struct bmb_link bmb_link;

typedef struct bmb_link_kind {
    bool packets; /* what is taken counts packets, and a frame leaves in bursts; else bytes */
    /* Sends the gather without its first `skip` bytes (of streams), which it may change. BMB_OK: all was taken;
     * BMB_AGAIN: not all; else the peer is gone, or the network refuses. */
    bmb_err (*send)(bmb_link *link, bmb_gather *g, size_t skip, size_t *taken);
    void (*frame_ends)(bmb_link *link, const bmb_frame *frame); /* all of it was taken; NULL: it does not matter */
    void (*follow)(bmb_link *link, uint32_t kbps); /* it is full, and carries so much; NULL: nothing can be tuned */
} bmb_link_kind;

struct bmb_link {
    const bmb_link_kind *kind;
    bmb_context *x;
    bmb_sock sock;
    uint64_t *progress_us; /* streams: gets the time when the peer last took something … */
#if BMB_WITH_PATHS
    uint32_t *look_us; /* streams: … and when the path is to be looked at again, the lower half of that; 0: it is free.
                          NULL: the path does not matter */
#endif
    bmb_slice lent; /* … and bytes that the port may refer to until they are acknowledged; size 0: it copies all */
    const bmb_addr *to; /* datagrams: NULL: the socket's own peer */
    bmb_err answer;     /* datagrams: what the network last said to one of them */
#if BMB_WITH_PARITY
    bmb_parity *parity; /* datagrams: goes along, at the port two higher; NULL: nothing does */
#endif
};

bmb_link bmb_stream_link(bmb_context *x, bmb_sock sock, uint64_t *progress_us);
/* Streams: is what was sent so far nearly there, so that a frame that begins now does not wait behind it? Else *look_us
 * says when to ask again. */
bool bmb_path_is_free(const bmb_link *link);
bmb_link bmb_datagram_link(bmb_context *x, bmb_sock sock, const bmb_addr *to);

#if BMB_WITH_PARITY
/* The packet has gone out; or, NULL, a frame has ended. */
void bmb_datagram_parity(const bmb_link *link, const bmb_packet *packet);
#endif
#if BMB_WITH_REPEATS
/* One packet besides the frames. */
void bmb_datagram_put(const bmb_link *link, const bmb_packet *packet);
#endif
/* The same without a gather: answers of a conversation. */
bmb_err bmb_stream_send(const bmb_link *link, const bmb_slice *slices, size_t count, size_t offered, size_t *taken);
/* One packet, of which nobody waits for the fate. */
void bmb_datagram_send(const bmb_link *link, const void *data, size_t size);
/* Bounds what may wait unsent in the system at a stream of so many kbit/s: more would only grow old there. */
void bmb_bound_unsent(const bmb_context *x, bmb_sock sock, uint32_t kbps);

/* The port's functions, with what they return held against what they were given: BMB_FAILED. */
bmb_err bmb_net_send(const bmb_context *x, bmb_sock sock, const bmb_slice *slices, size_t count, size_t offered,
                     const bmb_slice *lent, size_t *taken);
bmb_err bmb_net_recv(const bmb_context *x, bmb_sock sock, void *out, size_t room, size_t *got);

#endif
