/* The port contract: everything that Bambino's core asks of hardware and operating system.
 *
 * A port fills in one bmb_port. The rules:
 *
 *  1. Every function gets `ctx` (or the camera's `ctx`) back as its first argument; the core never looks into it.
 *  2. The core calls from one thread only, the one that calls bmb_step(). The single function that others may call is
 *     `wake`, from any thread or interrupt handler.
 *  3. Nothing blocks, except `wait`. A call that could block returns BMB_AGAIN instead.
 *  4. The core hands out no memory to keep: pointers in arguments are valid during the call. What a port hands to the
 *     core (frames, mode lists) stays valid as long as its comment says.
 *  5. A function that a board does not have may be NULL where its comment says "optional"; the core then does without.
 *
 *  6. The errors named at a function are those with a meaning of their own. Any other one counts as a failure of that
 * one socket, camera or record, and what is returned is checked before it is used.
 *  7. Indices and sockets that the core passes were given out by the port and not closed since. A camera's index is
 * below `count`, but for `info`, which is asked behind the last one, too.
 *
 * To write a port: begin with clock, random and wait; add TCP (HTTP works then); add one camera; add UDP (RTP works
 * then). docs/porting.md walks through it. `tests/support/fake_port.c` is a complete port in memory.
 * bambino/port_check.h asks a port whether it keeps all this.
 */
#ifndef BAMBINO_PORT_H
#define BAMBINO_PORT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/access.h"
#include "bambino/camera.h"
#include "bambino/err.h"
#include "bambino/event.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A run of bytes to send, in the manner of POSIX struct iovec. */
typedef struct bmb_slice {
    const void *data;
    size_t size; /* bytes */
} bmb_slice;

/* A socket: an index that means something to the port alone. */
typedef int32_t bmb_sock;
#define BMB_NO_SOCK ((bmb_sock)-1)

/* What the core wants to hear about a socket, and what the port reports. */
#define BMB_READABLE 1u /* bytes, a datagram, a connection to accept, or the peer's end of stream */
#define BMB_WRITABLE 2u /* send would take at least one byte */
#define BMB_BROKEN 4u   /* only reported: the connection failed; recv or send will say BMB_GONE */

typedef struct bmb_ready {
    uint32_t token;  /* as given to watch */
    uint32_t events; /* BMB_READABLE | BMB_WRITABLE | BMB_BROKEN */
} bmb_ready;

/* One datagram as a few slices. */
typedef struct bmb_packet {
    const bmb_slice *slices;
    uint32_t count; /* slices of this packet */
    uint32_t size;  /* bytes of all of them */
} bmb_packet;

typedef struct bmb_udp_options {
    uint8_t ttl;             /* multicast hop limit; 0: the system's default of 1 */
    uint32_t interface_ipv4; /* multicast: address of the interface to use, host byte order; 0: the system chooses */
    uint32_t send_buffer;    /* bytes the system should hold for sending; 0: its default */
    const bmb_addr *peer; /* the only destination, which may be a broadcast address: then udp_send is called with `to`
                             NULL, and tells what that host or the network answered (BMB_REFUSED, BMB_NO_ROUTE).
                             NULL: any destination */
} bmb_udp_options;

/* The way to the peer of a connection, as the system sees it. */
typedef struct bmb_net_path {
    uint32_t waiting; /* bytes that `send` took and the peer has not acknowledged, sent or not */
    uint32_t kbps;    /* what the peer acknowledges, measured lately while there was enough to send; 0: not known */
    uint32_t round_trip_us; /* the least of late: what the way itself takes, without queues; 0: not known */
    bool unread;            /* the peer has no room for more: it does not read what it has */
} bmb_net_path;

/* TCP and UDP. */
typedef struct bmb_net {
    /* Opens a listening TCP socket at addr; port 0 lets the system choose. *bound gets the real address. The
     * wildcard of IPv6 may take IPv4 peers, too (dual stack); their addresses are then told with family 4.
     * BMB_IN_USE, BMB_DENIED, BMB_NOT_FOUND (no such local address), BMB_LIMIT. */
    bmb_err (*listen)(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound);
    /* Takes one waiting connection. BMB_AGAIN: none waits. BMB_LIMIT: the system has no file or memory left; the
     * connection stays in the queue and the core pauses before it tries again. A port should find out by itself, within
     * a minute or so, when the peer of a connection over which nothing passes has vanished (TCP keep-alive). */
    bmb_err (*accept)(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer);
    /* Begins a connection to `to` and returns at once; `dialled` tells what became of it. Optional, both: without them
     * nothing can be pushed over TCP. BMB_NO_ROUTE, BMB_LIMIT, BMB_REFUSED. */
    bmb_err (*dial)(void *ctx, const bmb_addr *to, bmb_sock *out);
    /* Asked when the socket became writable or broken. BMB_OK: connected; BMB_AGAIN: not yet; else why it failed:
     * BMB_REFUSED (nobody listens there), BMB_NO_ROUTE, BMB_TIMED_OUT, BMB_GONE. */
    bmb_err (*dialled)(void *ctx, bmb_sock sock);
    /* The local address of a connection (what the peer dialled). */
    bmb_err (*local)(void *ctx, bmb_sock sock, bmb_addr *out);
    /* Gathers the slices into the stream and says how many bytes were taken, possibly fewer than offered. There are at
     * most 188, some of them may be empty, and together they may be larger than anything that the system takes at once.
     * What was taken arrives, in order, whatever is called next, unless the peer or the network goes.
     * BMB_AGAIN with *taken 0: full, wait for BMB_WRITABLE. BMB_GONE: closed by the peer. */
    bmb_err (*send)(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken);
    /* The same, but bytes that lie within *lent need not be copied: they stay as they are until `unacked` no more
     * counts them, or the socket is closed. A port that still refers to some of them then ends the connection by a
     * reset rather than send anything else. Optional, both; sent by this way are the frames of streams over HTTP and of
     * plain connections. */
    bmb_err (*send_lent)(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, const bmb_slice *lent,
                         size_t *taken);
    /* How many of the bytes that were taken the port may still refer to, counted from the last one back: what is not
     * yet sent, or not yet acknowledged. */
    uint32_t (*unacked)(void *ctx, bmb_sock sock);
    /* Reads what is there, which may be less than has arrived. BMB_AGAIN: nothing. BMB_GONE: failure, or the end of the
     * stream behind its last byte; a peer that says no more (a half-closed connection) counts as gone. */
    bmb_err (*recv)(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got);
    /* Says that no more will be sent; what was taken still is, and recv goes on. Optional. */
    void (*finish)(void *ctx, bmb_sock sock);
    /* Asks the system to hold at most `bytes` of unsent data for this connection: what is in that buffer has left the
     * core's control and only grows older. Optional; a hint. */
    void (*bound_unsent)(void *ctx, bmb_sock sock, uint32_t bytes);
    /* Asks the system to hold at most `bytes` of this connection altogether, unsent or not yet acknowledged. Called for
     * a connection whose peer takes less than the stream, sized by what it takes. Optional; a hint. */
    void (*bound_buffer)(void *ctx, bmb_sock sock, uint32_t bytes);
    /* How it stands with a connection. Called before each frame for a peer that takes less than the stream, so that no
     * frame grows old in a queue: it is begun when those before it have nearly arrived. Optional: without it `send`
     * alone says when there is room. BMB_UNKNOWN. */
    bmb_err (*path)(void *ctx, bmb_sock sock, bmb_net_path *out);

    /* Opens a UDP socket bound to addr (port 0: any), for peers of addr.family alone. Optional, with the other udp_
     * functions: without them there is no RTP over UDP. BMB_IN_USE, BMB_DENIED, BMB_NOT_FOUND (no such local address),
     * BMB_LIMIT; with a peer BMB_NO_ROUTE. */
    bmb_err (*udp_open)(void *ctx, const bmb_addr *addr, const bmb_udp_options *options, bmb_sock *out,
                        bmb_addr *bound);
    /* Sends packets in order to one destination; *taken counts the whole packets that the system took. All packets of
     * one call but the last have the same size whenever the caller can manage it, so that a port may use segmentation
     * offload. At most 64 packets, of a few slices each. `to` NULL: to the peer that the socket was opened for.
     * BMB_AGAIN: *taken may be less than count. BMB_REFUSED, BMB_NO_ROUTE: what the network answered to a packet of an
     * earlier call; those from *taken on were not sent, and the call may be made again at once. */
    bmb_err (*udp_send)(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                        size_t *taken);
    /* Takes one datagram; longer ones are cut to `room`. BMB_AGAIN: none waits. */
    bmb_err (*udp_recv)(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got, bmb_addr *from);
    /* Tells one destination whose host answered that nobody listens at the port, for a socket without a peer; such a
     * socket is readable while there is one to tell. BMB_AGAIN: none. Optional: viewers that vanished are then noticed
     * by their silence alone. Anybody can forge such an answer: where the system tells more of it, udp_answer of the
     * port takes the place of this. */
    bmb_err (*udp_unreachable)(void *ctx, bmb_sock sock, bmb_addr *to);

    /* Closes any of the sockets above and forgets its watch. */
    void (*close)(void *ctx, bmb_sock sock);
    /* Says which events of a socket are wanted from now on, level-triggered: an event is reported as long as its
     * cause lasts. events 0: none but BMB_BROKEN. */
    bmb_err (*watch)(void *ctx, bmb_sock sock, uint32_t events, uint32_t token);
    /* Reports up to `room` sockets that are ready now; never blocks. Where more are ready than there is room for, each
     * gets its turn with the next calls. */
    size_t (*ready)(void *ctx, bmb_ready *out, size_t room);
} bmb_net;

/* Cameras, numbered from 0.
 *
 * A camera that can deliver several streams of the same exposures at once (other sizes, rates, codecs) stands here as
 * so many entries, one next to the other: with the same name, and in `stream` their number. Each is started, read and
 * stopped by itself, in a mode of its own list; frames of one exposure have the same capture time in all of them.
 * Controls of the sensor are those of all its entries, those of an encoder (quality, bit rate, key frames) of one.
 * Where the modes of some exclude those of others, `together` says so. A sensor with one stream is one entry. */
typedef struct bmb_cameras {
    void *ctx;
    /* How many are attached. */
    size_t (*count)(void *ctx);
    /* What camera `index` is and can do. */
    bmb_err (*info)(void *ctx, size_t index, bmb_camera_info *out);
    /* Starts delivery. *effective gets the mode really in force: size and rate may differ from those asked, the codec
     * may not, and mfps may be 0 where the rate is not known. Not called while the camera runs. BMB_IN_USE,
     * BMB_NOT_FOUND (unplugged), BMB_UNSUPPORTED (no such mode), BMB_FAILED. */
    bmb_err (*start)(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective);
    /* Ends it. May be called for a camera that has stopped by itself. Frames that are out stay valid until released. */
    void (*stop)(void *ctx, size_t index);
    /* Takes the oldest finished frame; called in every step while the camera runs, up to six times. Capture times do
     * not go back; one that is ahead of the clock counts as now. BMB_AGAIN: none yet. BMB_GONE: the camera stopped by
     * itself. A driver that runs out of buffers overwrites its oldest undelivered frame: capture goes on. */
    bmb_err (*take)(void *ctx, size_t index, bmb_camera_frame *out);
    /* Gives a taken frame's buffer back. Frames may come back in any order, also after stop. */
    void (*release)(void *ctx, size_t index, uintptr_t cookie);
    /* Asks the encoder for a key frame soon. Optional. */
    bmb_err (*key_frame)(void *ctx, size_t index);
    /* Sets a control; *effective gets the value in force. BMB_UNSUPPORTED, BMB_BAD_ARG (outside its range: refused, or
     * brought into it). Optional, both. */
    bmb_err (*set)(void *ctx, size_t index, bmb_control control, int32_t value, int32_t *effective);
    bmb_err (*get)(void *ctx, size_t index, bmb_control control, int32_t *value);
    /* What is wrong with a camera that failed, as far as the driver can tell. Optional. */
    bmb_camera_fault (*fault)(void *ctx, size_t index);
    /* Nobody looks at this stream just now (false), or somebody does again (true). true is returned by an encoder that
     * rests meanwhile: no frames come, and the first one after that is a key frame; `take` says BMB_TIMED_OUT when the
     * sensor itself has fallen silent. false: they come as before. Started streams are wanted. Optional: encoders
     * always run. */
    bool (*want)(void *ctx, size_t index, bool wanted);
    /* How much of the last seconds its encoder has worked, in thousandths: one that never pauses is what holds its
     * pictures back. Cheap. Optional: then it is the camera that is said to. */
    uint16_t (*busy)(void *ctx, size_t index);
    /* Is it there? Asked often while a camera that failed waits to be tried again: one that was absent meanwhile is
     * tried at once when it is there again; and every two seconds while a stream is stopped since nobody watches
     * (bmb_feed_config.camera_rests). Cheap. Optional: it is tried again after growing pauses alone. */
    bool (*present)(void *ctx, size_t index);
    /* Can these streams of one camera run at a time, each in its mode? Asked before any is started, with indices that
     * go up. BMB_OK; BMB_UNSUPPORTED: not that one whose place in the list is put into *culprit, beside those before
     * it. Optional: whatever each has by itself. */
    bmb_err (*together)(void *ctx, const size_t *indices, const bmb_mode *modes, size_t count, size_t *culprit);
    /* Why it failed last, as a sentence for people that says what to do; NULL: nothing to say. Valid until the next
     * call for this camera. Optional. */
    const char *(*trouble)(void *ctx, size_t index);
} bmb_cameras;

/* Small named records that survive a restart, for settings. Optional as a whole. */
typedef struct bmb_storage {
    void *ctx;
    /* Reads the whole record. BMB_NOT_FOUND, BMB_NO_ROOM (record larger than room). */
    bmb_err (*load)(void *ctx, const char *name, void *out, size_t room, size_t *got);
    /* Records whose name ends in ".key" are for nobody else to read, where the medium knows of others.
     * Replaces the record wholly or, on failure, not at all. Called at most every ten seconds for a camera. */
    bmb_err (*store)(void *ctx, const char *name, const void *data, size_t size);
} bmb_storage;

/* bambino/light.h has the patterns for one lamp. */
typedef enum bmb_light {
    BMB_LIGHT_STARTING,
    BMB_LIGHT_NO_CAMERA,
    BMB_LIGHT_NO_NETWORK,
    BMB_LIGHT_READY,
    BMB_LIGHT_WATCHED
} bmb_light;

/* Encryption of connections, for outlets and pushes that are marked `secure`. Optional as a whole; bambino/tls.h adds
 * it to any port. What is sent and received through bmb_net is plain here as there. */
typedef struct bmb_encryption {
    /* Bytes of the device's block that so many encrypted connections at a time need in all, accepted and dialled ones;
     * *each: what one of the accepted ones adds. */
    size_t (*memory)(void *ctx, size_t accepted, size_t dialled, size_t *each);
    /* Called by bmb_open(), with so much memory, aligned for anything, that stays until `close`. */
    bmb_err (*open)(void *ctx, void *memory, size_t size, size_t accepted, size_t dialled);
    void (*close)(void *ctx);
    /* Connections that this listener accepts are encrypted. Called between `listen` and `watch`. An accepted one tells
     * of nothing until the peer's first byte of plain text is there; `send` says BMB_AGAIN until its handshake is over.
     */
    bmb_err (*listen)(void *ctx, bmb_sock listener);
    /* This one is, which `dial` has just begun; `dialled` says BMB_OK when the handshake is over. pin: SHA-256 of the
     * certificate that the peer has to have, BMB_DENIED: it has another; NULL: any. */
    bmb_err (*dial)(void *ctx, bmb_sock sock, const uint8_t *pin);
    /* SHA-256 of our certificate, for people who compare, such as "AB:CD:…"; "" or NULL: not known. */
    const char *(*fingerprint)(void *ctx);
} bmb_encryption;

typedef struct bmb_port {
    void *ctx;
    /* Microseconds since an arbitrary start; never goes back. Cheap: the core asks often. */
    uint64_t (*now_us)(void *ctx);
    /* Microseconds since 1970-01-01 UTC. BMB_UNKNOWN as long as the clock was not set. Optional: never known. */
    bmb_err (*wall_us)(void *ctx, int64_t *unix_us);
    /* Fills with random bytes fit for session identifiers; with encryption, also for keys: of cryptographic quality. */
    void (*random)(void *ctx, void *out, size_t size);
    /* The hash of these slices, one behind the other: 32 bytes of SHA-256 (FIPS 180-4), or 16 of MD5 (RFC 1321, which
     * digests of old clients ask for). Optional: without it there are no accounts. */
    void (*hash)(void *ctx, bmb_hash which, const bmb_slice *slices, size_t count, uint8_t *out);
    /* Something worth telling happened. The port decides what becomes of it; bambino/text.h has sentences. It must not
     * block, the step waits for it: where what is told goes somewhere slow, queue it and bound the queue. Optional. */
    void (*log)(void *ctx, const bmb_event *event);
    /* Blocks until a watched socket is ready, `wake` was called, or now_us() reaches until_us. Returning early is
     * allowed. Called by programs, never from within bmb_step(). */
    void (*wait)(void *ctx, uint64_t until_us);
    /* Makes `wait` return soon. Safe from any thread and from interrupt handlers. */
    void (*wake)(void *ctx);
    /* Shows a state to the person beside the board. Called when it changes. Optional. */
    void (*light)(void *ctx, bmb_light state);
    /* Is the network up, so that viewers can reach the board? Optional: always. */
    bool (*online)(void *ctx);

    bmb_net net; /* uses `ctx` above */
#if BMB_WITH_TLS
    bmb_encryption encryption; /* likewise */
#endif
    bmb_cameras cameras; /* has its own ctx */
    bmb_storage storage; /* has its own ctx; all NULL when there is none */
    /* As net.udp_unreachable, with what the answer quotes of the packet's payload (RFC 1122 3.2.2: as much as there was
     * room for): *got bytes, 0: nothing of it. Only answers of the destination's own host are told, not of others on
     * the way. Optional; here, so that programs which were built for an earlier version go on. */
    bmb_err (*udp_answer)(void *ctx, bmb_sock sock, bmb_addr *to, void *quoted, size_t room, size_t *got);
} bmb_port;

/* What a port keeps that is laid over another one. */
typedef struct bmb_layer {
    bmb_port under; /* what was there before */
    void *owner;    /* of whoever takes functions' places */
} bmb_layer;

#ifdef __cplusplus
}
#endif
#endif
