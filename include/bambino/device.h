/* The device: cameras, feeds, viewers and limits, running in one block of memory that the caller hands over.
 *
 *     bmb_feed_config feed = bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000);      // what to serve …
 *     bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, 8080);                    // … and how
 *     bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);                     // port: see bambino/port.h
 *
 *     bmb_budget_of(&config, &budget, &fault);  // how many bytes, and for what
 *     bmb_open(&config, memory, budget.total, &device, &fault);
 *     for (;;) port.wait(port.ctx, bmb_step(device));
 *
 * Contract:
 *  1. The configuration, its arrays and names must stay valid and unchanged until bmb_close().
 *  2. The block must stay until bmb_close(). After bmb_open() nothing more is allocated, whatever happens.
 *  3. All calls for one device come from one thread; only the port's `wake` may be called from others.
 *  4. What does not fit (a viewer too many, a frame too large) is refused, counted and reported as an event.
 */
#ifndef BAMBINO_DEVICE_H
#define BAMBINO_DEVICE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/port.h"
#include "bambino/service.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Where a feed keeps its frames. */
typedef enum bmb_storage_kind {
    BMB_KEPT = 0, /* copied once into the device's block */
    BMB_BORROWED  /* left in the camera driver's own buffer until the last viewer is done */
} bmb_storage_kind;

/* A control value to set when the camera starts. */
typedef struct bmb_setting {
    bmb_control control;
    int32_t value;
} bmb_setting;

typedef struct bmb_multicast {
    bmb_addr group; /* The port is that of RTP (even); RTCP takes the next. family 0: no multicast for this feed; with
                       any port, where the configuration has a reserve, memory for a group is kept, and for the parity
                       of all, so that bmb_feed_change() can give it one */
    uint8_t ttl;    /* 0: 1, which does not leave the local network */
    bool open;      /* send it although the feed may not be watched by everybody: whoever is in the network can */
    uint8_t
        parity;  /* forward error correction (RFC 5109): one packet more for so many, 2 to 16, at the port two higher;
                    0: none. Receivers find it in the group's description; those that do not know it lose nothing */
    bool always; /* send even when no RTSP session asks for it, for receivers that know the group otherwise */
} bmb_multicast;

/* Chooses a group for a feed in the IPv4 local scope, 239.255.0.0/16 (RFC 2365 6.1), with an even port from 5004 on.
 * The same names always give the same group, so that an address that somebody noted stays right; two feeds of one
 * device may in rare cases get the same one, which bmb_open() refuses (BMB_IN_USE). */
bmb_addr bmb_multicast_choose(const char *device, const char *feed);

/* Day and night by the brightness of a feed's own pictures, 0 (black) to 255, which has to be JPEG: below `dark` for so
 * many seconds the camera's night control is set, and its light; above `bright` for as long both are taken back. The
 * feed's encoder does not rest then. */
typedef struct bmb_daylight_config {
    uint8_t dark;     /* 0: the camera stays as it is set */
    uint8_t bright;   /* over dark: by more than night mode makes a picture brighter */
    uint16_t seconds; /* 0: at once */
    uint8_t light;    /* illumination at night, per cent; 0: it is not touched */
} bmb_daylight_config;

/* Whose link the bit rate of a feed follows, where several watch it and its encoder is one. */
typedef enum bmb_follow {
    BMB_FOLLOW_NOBODY = 0, /* it stays as it is set: who cannot have all of it gets fewer frames */
    BMB_FOLLOW_MEDIAN,     /* as much as more than half of them can have */
    BMB_FOLLOW_SLOWEST     /* as much as everybody can have */
} bmb_follow;

typedef struct bmb_feed_config {
    const char *name;    /* in addresses: a..z 0..9 - _, 1 to 23 bytes */
    const char *title;   /* for people, UTF-8; NULL: the name */
    const char *camera;  /* name of a camera of the port */
    const char *preview; /* feed that a page shows in place of this one, for codecs that a page cannot draw; or NULL */
    bmb_mode mode;       /* asked of the camera */
    bmb_storage_kind storage;
    uint32_t frame_max;  /* largest frame expected, bytes; larger ones are dropped and counted */
    uint32_t reel_bytes; /* kept storage: frame memory, at least frame_max. Room for the newest frame, the next one, and
                            one for each slow viewer that shall be able to hold a frame of its own */
    bmb_multicast multicast;
    const bmb_setting *settings; /* applied in order at each start of the camera */
    size_t setting_count;
    uint32_t kbps; /* JPEG: hold this bit rate by quality, then by dropping frames; 0: quality stays as it is set */
    uint8_t quality_least, quality_most; /* bounds for that; 0: 20 and 90 */
    bool open;                           /* everybody may watch it, whoever may watch the others */
    const char *step;     /* feed of the same codec that takes less: viewers of this one are given its frames while
                             their link carries no more, under this one's address and rights. It may have a step, too.
                             NULL: none */
    bmb_follow follow;    /* H.264, and JPEG whose bit rate is held: the bit rate goes down for links that carry no
                             more, and up again. Viewers that can be given a step do not count */
    uint32_t follow_kbps; /* no lower than that; 0: an eighth of what is set */
    bmb_daylight_config daylight;
    bool camera_rests; /* the camera is stopped while nobody watches, not its encoder alone: whoever comes waits for its
                          start. Pushes, recorders and daylight keep it on */
    bool keep_controls; /* what bmb_control_set() changes is stored by the port and restored at the next opening */
} bmb_feed_config;

/* A feed of the camera of the same name, with memory for the largest frame that a picture of this size is likely to
 * have (width * height / 4 + 16 KiB), and for eight of them. All else is as in a zeroed struct. name must stay. */
bmb_feed_config bmb_feed_of(const char *name, bmb_codec codec, uint16_t width, uint16_t height, uint32_t mfps);

/* How a feed is written to a plain connection or a UDP destination, without a session protocol. */
typedef enum bmb_stream_format {
    BMB_FORMAT_RAW = 0, /* TCP: an Annex B byte stream (H.264), or JPEG images one behind the other */
    BMB_FORMAT_TS,      /* MPEG-2 transport stream (ISO/IEC 13818-1), H.264 only; over UDP seven packets a datagram */
    BMB_FORMAT_FRAMED,  /* TCP: the framed protocol of docs/framed.md, with a way back */
    BMB_FORMAT_RTP,     /* UDP: RTP (RFC 6184, RFC 2435), with the description of bmb_push_describe() */
    BMB_FORMAT_COUNT
} bmb_stream_format;

/* "raw", "ts", "framed", "rtp"; NULL when out of range. */
const char *bmb_stream_format_name(bmb_stream_format format);

/* What can be said of a format. Whatever lists formats is made from these rows: routes, printed addresses, the page. */
typedef struct bmb_format_info {
    const char *name;       /* as in configuration and status; those over HTTP alone: "mjpeg", "jpg" */
    const char *suffix;     /* over HTTP: "/yard.ts" has ".ts"; NULL: not there */
    const char *media_type; /* of that; NULL: not there */
    bool picture;           /* over HTTP: a single picture, not a stream */
    bool tcp, udp;          /* plain connections; destinations of datagrams */
    uint8_t codecs;         /* of the feeds that have it: a bit for each bmb_codec */
} bmb_format_info;

/* The rows from 0 on; NULL behind the last. */
const bmb_format_info *bmb_format_at(size_t index);

#define BMB_NO_FEED UINT16_MAX

typedef enum bmb_outlet_kind {
    BMB_OUTLET_HTTP = 0, /* MJPEG, stills, status and the page */
    BMB_OUTLET_RTSP,     /* RTSP 1.0 with RTP over UDP, TCP and multicast */
    BMB_OUTLET_TCP,      /* one feed to whoever connects, or the framed protocol for all feeds */
    BMB_OUTLET_COUNT
} bmb_outlet_kind;

typedef struct bmb_outlet_config {
    bmb_outlet_kind kind;
    bmb_addr listen;          /* where; port 0: any free one, see bmb_outlet_addr() */
    bmb_stream_format format; /* TCP: not BMB_FORMAT_RTP */
    uint16_t feed;            /* TCP: index of the feed; BMB_NO_FEED with the framed protocol: the peer chooses */
    bool keep_all;            /* TCP: frames in order as long as the reel has them, instead of the newest */
    bool controls;            /* framed: peers who may adjust may set controls of the cameras */
    bool secure;              /* encrypted: HTTPS, RTSPS, TLS. The port has to be able to (bmb_port.encryption) */
    const bmb_addr *hosts;    /* TCP, not framed: those that get a feed that not everybody may see, without a token.
                                 Ports do not count */
    size_t host_count;
    uint16_t elsewhere; /* HTTP, RTSP: nothing is had here, but at the outlet of this index plus 1, which is encrypted
                           and of the same kind: clients are sent there. 0: it is here … */
    uint64_t only;      /* … or these feeds still are, a bit for each by its index; 0: none */
} bmb_outlet_config;

/* A feed that is sent to an address by itself. */
typedef struct bmb_push_config {
    uint16_t feed; /* index */
    bool tcp;      /* connects, and connects again when the listener goes away; false: UDP */
    bmb_stream_format format;
    bmb_addr to;             /* UDP: a host, a broadcast address or a multicast group */
    uint8_t ttl;             /* multicast hop limit; 0: 1 */
    uint32_t interface_ipv4; /* multicast: address of the interface to use, host byte order; 0: the system chooses */
    bool keep_all;           /* for recorders, as above */
    bool controls;           /* framed, as above */
    bool secure;             /* TCP: encrypted */
    uint32_t reserve_kbps;   /* of bmb_config.uplink_kbps: kept for it whoever watches */
    const uint8_t *pin; /* … and the receiver has the certificate with this SHA-256 (32 bytes); NULL: any, so that
                           nobody reads along, but somebody may stand in the receiver's place */
} bmb_push_config;

/* A document that the HTTP outlet serves as it is, such as the page. */
typedef struct bmb_asset {
    const char *path; /* begins with "/" */
    const char *type; /* media type */
    const void *data;
    size_t size;
    const char *encoding; /* of the data (RFC 9110 8.4.1), such as "gzip"; NULL: none */
    const char *etag; /* with its quotes (RFC 9110 8.8.3): another one when the data is another. Browsers keep it, and
                         ask whether it still holds; NULL: they fetch it anew each time */
} bmb_asset;

/* What may change while the device runs, besides controls. Where something may, the device keeps copies of the rows of
 * its configuration, and a feed's memory may move. */
typedef struct bmb_reserve {
    bool changes; /* bmb_feed_change() and the others may be called; without it nothing here counts */
    uint16_t feeds, outlets, pushes; /* places for more of them, beside those that it begins with */
    uint32_t bytes;                  /* frame memory for feeds that come or grow */
} bmb_reserve;

typedef struct bmb_config {
    const bmb_port *port;
    const char *name; /* of the device, for people; UTF-8 */
    const bmb_feed_config *feeds;
    size_t feed_count; /* 1 to 64 */
    const bmb_outlet_config *outlets;
    size_t outlet_count; /* 0 to 10; at least one outlet or push */
    const bmb_push_config *pushes;
    size_t push_count; /* 0 to 16 */
    const bmb_asset *assets;
    size_t asset_count;
    const bmb_service *service; /* what the program answers itself over HTTP; NULL: nothing */
    uint16_t events; /* that are kept, and told at /events; 0: none, and there is no such address. At most 4096 */
    const char *const *names; /* what browsers may call this host, besides by its addresses: a name without a port, such
                                 as "yard.local"; a page of another name is refused, since anybody may give our address
                                 a name of his (DNS rebinding). NULL: any */
    size_t name_count;
    const char *const *origins; /* pages of others that may read what is served, such as "http://club.example" */
    size_t origin_count;
    bool repeats; /* RTP over UDP: a feed's address with ".avpf" behind is described with feedback (RFC 4585):
                     who misses packets asks for them, and gets them again (RFC 4588) */
    bool embed;   /* pages of others may show pictures and our page */
    const bmb_access *access; /* who may do what; NULL: everybody all but administer. It may be replaced while the
                                 device runs, with bmb_access_change() */

    bmb_reserve reserve;
    uint16_t viewers;      /* watching at a time, 1 to 4000; preset 16 */
    uint16_t host_viewers; /* of them, from one host but the device's own; 0: three quarters, so that no host keeps all
                              others out; as many as viewers: no bound */
    uint16_t spare;        /* connections beyond that for stills, status and refusals, 1 to 64; preset 8 */
    uint16_t request_buffer; /* bytes for each connection, 1536 to 16384; preset 3072. A third takes requests, the rest
                                answers */
    uint16_t rtp_packet;     /* largest RTP packet, bytes, its header included, 256 to 8900; preset 1400 */
    uint32_t stall_ms;       /* a viewer that takes nothing for so long is closed, 100 to 600000; preset 10000 */
    uint32_t request_ms;     /* a request must be complete within, 100 to 600000; preset 10000 */
    uint32_t idle_ms;        /* a connection kept alive without a request is closed after; preset 30000 */
    uint32_t session_ms;     /* an RTSP session ends without a sign of life after; preset 60000 */
    uint32_t unsent_ms;      /* how much of a stream may wait in the system's send buffer, 20 to 5000; preset 80 */
    uint32_t uplink_kbps; /* what all viewers, groups and pushes may take together: shared evenly, but that nobody gets
                             more than he needs; whoever would leave too little for all is refused. 0: no bound */
} bmb_config;

/* Zeroes the configuration and fills in every preset named above. */
void bmb_config_init(bmb_config *config);
/* The same, with these; a device that only pushes has no outlet. What they point to must stay. */
bmb_config bmb_config_of(const bmb_port *port, const bmb_feed_config *feeds, size_t feed_count,
                         const bmb_outlet_config *outlets, size_t outlet_count);
/* An outlet at a port of every IPv4 address; 0: any free one, see bmb_outlet_addr(). */
bmb_outlet_config bmb_outlet_of(bmb_outlet_kind kind, uint16_t port);

/* What a configuration costs, in bytes. The parts add up to total. */
typedef struct bmb_budget {
    size_t device;          /* fixed: the device itself, its gather memory, its JSON memory */
    size_t feeds;           /* all feeds without their reels */
    size_t reels;           /* frame memory of all feeds, with their frame tables */
    size_t viewers;         /* connections and viewers */
    size_t pushes;          /* their state; each over TCP also has a connection in `viewers` */
    size_t request_buffers; /* of all connections */
    size_t encryption;      /* of the port, where something is encrypted */
    size_t reserve;         /* for what may come while it runs: places, and frame memory */
    size_t total;           /* what bmb_open() needs; any alignment of the block is fine */
    size_t per_viewer_http; /* of `viewers`: one more HTTP viewer */
    size_t per_viewer_rtsp; /* of `viewers`: one more RTSP viewer */
    size_t per_viewer_tcp;  /* of `viewers`: one more plain TCP viewer */
    size_t per_viewer_tls;  /* of `encryption`: one more viewer, beside the above; 0: nothing is encrypted */
    size_t per_feed;        /* of `feeds`: one more feed */
} bmb_budget;

/* What was wrong with a configuration or at opening. Which fields say something depends on the part. */
typedef struct bmb_fault {
    bmb_err err;
    const char *part; /* "memory", "feed", "camera", "outlet", "push", "config", "port", "access", "build"; static
                         storage */
    const char *key;  /* the configuration member at fault, or the largest part of the memory; build: the option of
                         bambino/options.h that was left out; static storage */
    const char *name; /* of the feed or camera, from the configuration; port: what needs the function in key; or NULL */
    int64_t asked, have;
    bmb_addr addr; /* outlet: the address */
} bmb_fault;

/* The most that a device with kept storage may need, known when a program is compiled: for so many feeds whose reels
 * have reel_bytes in all, so many outlets and pushes, and so many connections (viewers + spare + pushes over TCP). What
 * it needs really is told by bmb_budget_of() and is less. */
#define BMB_MEMORY_MOST(feeds, reel_bytes, outlets, pushes, connections, request_buffer)                               \
    (8192u + (size_t)(feeds) * (1024u + 64u * 384u) + (size_t)(reel_bytes) + (size_t)(outlets)*256u +                  \
     (size_t)(pushes)*512u + (size_t)(connections) * (768u + 48u + (size_t)(request_buffer)))

/* Computes the cost without starting anything. BMB_BAD_ARG with *fault (may be NULL) when a value is out of range. */
bmb_err bmb_budget_of(const bmb_config *config, bmb_budget *out, bmb_fault *fault);

typedef struct bmb_device bmb_device;

/* Opens the outlets, starts the cameras, and returns the device inside the block. A camera that does not start now is
 * tried again later and is no failure; a camera that the port does not have is (BMB_NOT_FOUND).
 * BMB_UNSUPPORTED: the port lacks a function that the configuration needs; `fault` names it.
 * BMB_NO_MEMORY: `fault` has asked (needed) and have (handed over) and the largest part in key. */
bmb_err bmb_open(const bmb_config *config, void *memory, size_t size, bmb_device **out, bmb_fault *fault);

/* Does what is due and returns the time (port clock) when it next wants to run; sooner is always allowed. */
uint64_t bmb_step(bmb_device *device);

/* Ends every connection, stops the cameras, and leaves the block to the caller. NULL is allowed. */
void bmb_close(bmb_device *device);

/* Is this text fit for titles and names: UTF-8 (RFC 3629) without control characters? */
bool bmb_text_is_utf8(const char *text, size_t size);

/* The address that an outlet really listens at (its port where 0 was asked). */
bmb_err bmb_outlet_addr(const bmb_device *device, size_t outlet, bmb_addr *out);

/* Writes a lent link, BMB_LINK_SIZE bytes with its NUL: whoever has the device's link_key can make one. The feed's
 * address with it is /lent/LINK/FEED, over HTTP with the format's suffix behind. Of the port only `hash` is asked. */
void bmb_link_write(const bmb_port *port, const uint8_t *link_key, const char *feed, const bmb_link_terms *terms,
                    char *text);

/* Other accounts from now on; of the present ones the same name, kind and digests are the same person or program. Those
 * who may not watch any more what they watch are put out. access, and what it points to, must stay until the next
 * change. BMB_UNSUPPORTED: the device was opened without. BMB_BAD_ARG: as at opening. */
bmb_err bmb_access_change(bmb_device *device, const bmb_access *access);

/* Sign-ins at the page that go on when a program opens its device anew. Accounts are known by name and digest: who has
 * another password since has to sign in again. */
#define BMB_SIGN_INS_MOST 16u
typedef struct bmb_sign_in_copy {
    char name[BMB_ACCOUNT_NAME_MAX];
    uint8_t sha256[BMB_SHA256_SIZE];
    uint8_t place, secret[16];
    uint64_t since_us, idle_us; /* ago */
    bmb_addr peer;
} bmb_sign_in_copy;
/* Copies them, to BMB_SIGN_INS_MOST places; returns how many. They are as secret as passwords. */
size_t bmb_sign_ins_copy(bmb_device *device, bmb_sign_in_copy *out);
/* Takes them over, after bmb_open() and before the first bmb_step(). */
void bmb_sign_ins_take(bmb_device *device, const bmb_sign_in_copy *copies, size_t count);

/* Other limits from now on, where the configuration has a reserve: of `to` are taken stall_ms, request_ms, idle_ms,
 * unsent_ms, host_viewers, uplink_kbps, names, origins and embed. Nobody who watches notices. Texts must stay.
 * BMB_UNSUPPORTED: opened without a reserve; BMB_BAD_ARG with *fault (may be NULL). */
bmb_err bmb_limits_change(bmb_device *device, const bmb_config *to, bmb_fault *fault);

/* Takes a feed out of service: its camera stops, its viewers and pushes end, and it is refused from then on. Its memory
 * stays the block's. BMB_NOT_FOUND. */
bmb_err bmb_feed_remove(bmb_device *device, size_t feed);

/* Changes while it runs, where the configuration has a reserve: each is taken whole, or refused with *fault (may be
 * NULL) and nothing is changed. What a row points to must stay as long as the row is in force.
 *
 * Another row for a feed, of the same name. With the same codec whoever watches goes on, and gets pictures of the new
 * size or rate; with another one, all are ended, and can come again; with another multicast group, those of the group
 * are ended. BMB_UNSUPPORTED: the camera, or another feed of it, cannot; BMB_NO_MEMORY: asked and have tell the frame
 * memory; both 0: no memory is kept for a group, or for its parity. Controls are not touched, unless the feed gets
 * another stream of the camera: settings are applied to that. */
bmb_err bmb_feed_change(bmb_device *device, size_t feed, const bmb_feed_config *to, bmb_fault *fault);
/* One more; a group takes the memory of one that is gone. *index gets its place, which may have been that of one that
 * was removed. */
bmb_err bmb_feed_add(bmb_device *device, const bmb_feed_config *feed, size_t *index, bmb_fault *fault);
/* Out of service and back; its memory stays its own. */
bmb_err bmb_feed_pause(bmb_device *device, size_t feed, bool pause);
/* One that is encrypted, or the first of RTSP, needs one of its kind in the configuration: BMB_NO_MEMORY. */
bmb_err bmb_outlet_add(bmb_device *device, const bmb_outlet_config *outlet, size_t *index, bmb_fault *fault);
/* With everybody who came by it. */
bmb_err bmb_outlet_remove(bmb_device *device, size_t outlet);
/* Not one that is encrypted: BMB_NO_MEMORY. */
bmb_err bmb_push_add(bmb_device *device, const bmb_push_config *push, size_t *index, bmb_fault *fault);
bmb_err bmb_push_remove(bmb_device *device, size_t push);

/* An event of the program's own, told as the device's are: in the log, and to whoever listens. */
void bmb_note(bmb_device *device, const bmb_event *event);

/* Writes the session description (RFC 8866) that a receiver of a push by RTP needs; *size gets its length, without a
 * NUL. BMB_AGAIN: the feed's parameter sets are not known yet, try again after its first frame. BMB_UNSUPPORTED: the
 * push is not by RTP. BMB_NO_ROOM, BMB_NOT_FOUND. */
bmb_err bmb_push_describe(const bmb_device *device, size_t push, char *out, size_t room, size_t *size);

/* Sets a control of a feed's camera. *effective gets the value in force, which may differ from the one asked; where it
 * was refused, the one that stays; 0: not known. BMB_IN_USE: the quality follows a bit rate that is held. BMB_AGAIN:
 * the camera takes a still in another size for a moment. */
bmb_err bmb_control_set(bmb_device *device, size_t feed, bmb_control control, int32_t value, int32_t *effective);
bmb_err bmb_control_get(const bmb_device *device, size_t feed, bmb_control control, int32_t *value);

typedef enum bmb_camera_state {
    BMB_CAMERA_OFF = 0,
    BMB_CAMERA_STARTING, /* started, no frame yet */
    BMB_CAMERA_RUNNING,
    BMB_CAMERA_WAITING,  /* failed or stalled; the next try is due */
    BMB_CAMERA_RESTING,  /* runs, and its encoder rests since nobody watches */
    BMB_CAMERA_NO_SIGNAL /* as waiting: its video input is there, and no signal arrives at it */
} bmb_camera_state;

const char *bmb_camera_state_name(bmb_camera_state state);

/* What holding a bit rate comes to just now. */
typedef enum bmb_keeping {
    BMB_KEEPING_OFF = 0,
    BMB_KEEPING_STEADY,  /* quality is where the rate wants it */
    BMB_KEEPING_BEST,    /* at its best: the scene needs less than the rate */
    BMB_KEEPING_LEAST,   /* at its lowest, and the rate is just kept */
    BMB_KEEPING_DROPPING /* at its lowest, and frames are dropped */
} bmb_keeping;

/* How large a JPEG image becomes at a quality, in thousandths of its size at 75: typical of photographs. */
uint32_t bmb_quality_size(uint8_t quality);

const char *bmb_keeping_name(bmb_keeping keeping);

/* A feed's figures. Counters are since opening; rates are over the last two seconds. */
/* What holds a feed, or one of its viewers, back: one cause, by what was measured in the last seconds alone.
 * docs/verdict.md says how each is told from the others. */
typedef enum bmb_cause {
    BMB_CAUSE_NOTHING = 0,
    BMB_CAUSE_CAMERA,    /* feeds: it delivers so many frames in 1000 s, of those that it is set to … */
    BMB_CAUSE_PROCESSOR, /* … since its encoder works without a pause (bmb_cameras.busy) */
    BMB_CAUSE_MEMORY,    /* feeds: the largest frame that there is room for, of one that came, bytes */
    BMB_CAUSE_LIMIT,     /* feeds: the bit rate that is held, of what comes, kbit/s: frames are left out for it */
    BMB_CAUSE_LINK,      /* viewers: what the way to them carries, of what the feed has, kbit/s … */
    BMB_CAUSE_READER,    /* … or what they read */
    BMB_CAUSE_LOSS       /* viewers: packets that were lost of those that were sent, as they report */
} bmb_cause;

const char *bmb_cause_name(bmb_cause cause); /* "nothing", "camera" … */

typedef struct bmb_verdict {
    bmb_cause cause;
    uint32_t is, of; /* as each cause says */
} bmb_verdict;

typedef struct bmb_feed_stats {
    const char *name, *title, *camera, *preview;
    bmb_codec codec;
    bmb_camera_state camera_state;
    bmb_err camera_err; /* why it is waiting */
    uint16_t width, height;
    uint32_t mfps_set; /* in force, frames per 1000 s */
    bmb_mode asked;    /* what the configuration asks of the camera; differs where the camera chose otherwise */
    bmb_keeping keeping;
    uint8_t quality;           /* in force, where a bit rate is held; else 0 */
    uint32_t kbps_set;         /* to be held; 0: none */
    uint64_t dropped_for_rate; /* of `dropped`: to hold the bit rate */
    uint32_t mfps;             /* measured at the input */
    uint32_t kbps;             /* measured at the input */
    uint64_t frames;           /* taken from the camera and kept */
    uint64_t sent;             /* to viewers, over all viewers */
    uint64_t skipped;          /* not sent to a viewer because it was behind, over all viewers */
    uint64_t dropped;          /* never kept: bad, too large, or before the first key frame */
    uint64_t bad;              /* of `dropped`: truncated or corrupt */
    uint64_t too_large;        /* of `dropped` */
    uint64_t bytes_sent;
    uint32_t stalled;                  /* viewers closed for taking nothing */
    uint32_t shed;                     /* viewers closed because the reel needed the memory */
    uint32_t restarts;                 /* of the camera */
    uint32_t gap_ms_most;              /* longest time between two of its frames, pauses for stills left aside */
    uint32_t reel_bytes;               /* size of the reel; borrowed: 0 */
    uint32_t reel_used;                /* bytes of frames held now */
    uint32_t reel_frames, reel_pinned; /* frames held now, and those that a viewer is in the middle of */
    int16_t brightness;                /* of a picture of the last second, 0 to 255; -1: not measured */
    uint32_t newest_ms;                /* age of the newest frame; UINT32_MAX: none yet */
    uint16_t viewers;
    bmb_verdict held_by;
    uint32_t follows_kbps;   /* it follows a link with that bit rate, which is lower than what is set; 0: it does not */
    uint32_t camera_dropped; /* by the camera or its driver: missing between the numbers of its frames */
    uint32_t
        repaired;  /* of `frames`: JPEG that had bytes before its start, or lacked its end marker and nothing else */
    bool snapshot; /* /NAME.jpg gives one, without a gap for those who watch: it is JPEG, or its camera has a stream
                      besides that makes JPEG */
} bmb_feed_stats;

typedef enum bmb_transport {
    BMB_VIA_HTTP,
    BMB_VIA_RTP_UDP,
    BMB_VIA_RTP_TCP,
    BMB_VIA_RTP_MULTICAST,
    BMB_VIA_TCP
} bmb_transport;

const char *bmb_transport_name(bmb_transport transport);
const char *bmb_event_name(bmb_event_code code); /* such as "viewer-came"; NULL: left out */
const char *bmb_level_name(bmb_level level);
const char *bmb_outlet_scheme(bmb_outlet_kind kind, bool secure); /* of its addresses, such as "rtsp", "rtsps" */

typedef struct bmb_viewer_stats {
    uint16_t feed;
    bmb_transport transport;
    bmb_addr peer;
    uint64_t sent, skipped, bytes;
    uint32_t mfps, kbps;
    uint32_t age_ms; /* how old the frame was that it last got, when its last byte left the core */
    uint32_t watching_ms;
    uint32_t blocked_ms; /* how long altogether the network took no more */
    bool waiting;        /* in the middle of a frame, the network takes no more just now */
    bool reports;        /* RTCP: the four below were reported by the receiver */
    uint32_t lost;       /* packets, since it came */
    uint8_t lost_256;    /* of the last interval, in 1/256 */
    uint32_t jitter_us;
    uint32_t round_trip_us; /* 0: not known yet */
    bmb_verdict held_by;
    uint16_t given;        /* the feed that it is given: its own, or a step of that … */
    uint32_t carries_kbps; /* … and what its link was last seen to carry, or may be used for; 0: not known */
} bmb_viewer_stats;

/* The parts of a step. */
typedef enum bmb_doing {
    BMB_DOING_EVENTS = 0, /* accepting, reading, answering */
    BMB_DOING_CAMERAS,    /* taking frames over, starting and stopping cameras */
    BMB_DOING_DELIVERY,   /* sending frames */
    BMB_DOING_TIMES,      /* time limits, reports */
    BMB_DOING_STORING,    /* in the port's storage */
    BMB_DOING_LOGGING,    /* in the port's log */
    BMB_DOING_COUNT
} bmb_doing;

const char *bmb_doing_name(bmb_doing doing);

/* How steadily it runs. A gap in all streams at once shows here: as a long step where the device itself was busy, as a
 * late one where the machine did something else. */
typedef struct bmb_pace_stats {
    uint32_t step_us;    /* the longest step … */
    bmb_doing doing;     /* … what took most of it … */
    uint64_t step_at_us; /* … and when it began, after opening */
    uint32_t late_us;    /* longest delay beyond the time that bmb_step() had returned … */
    uint64_t late_at_us; /* … and when that was over */
} bmb_pace_stats;

typedef struct bmb_device_stats {
    uint64_t uptime_us;
    uint16_t viewers, viewers_most; /* now, and the limit */
    uint16_t connections, connections_most;
    uint16_t sessions;     /* RTSP */
    uint32_t refused;      /* viewers turned away at the limit */
    uint32_t bad_requests; /* answered 4xx or closed for breaking the protocol */
    uint32_t requests;
    uint32_t accept_failed;     /* the system had no room for a connection */
    size_t memory, memory_most; /* used of the block, and its size */
    size_t spare;               /* of the block: the largest piece of frame memory that a feed could get */
    const char *fingerprint;    /* of the certificate that clients see, SHA-256 as text; NULL: nothing is encrypted */
    bmb_pace_stats pace;
} bmb_device_stats;

/* What went out over one outlet since opening, to viewers present and past. */
typedef struct bmb_tally {
    uint64_t frames, bytes;
    uint64_t blocked_us; /* time for which the network took no more, over all viewers */
} bmb_tally;

typedef struct bmb_outlet_stats {
    bmb_outlet_kind kind;
    bool secure;              /* encrypted */
    bmb_stream_format format; /* TCP */
    uint16_t feed;            /* TCP; or BMB_NO_FEED */
    bmb_addr addr;            /* where it listens; family 0: the place is free */
    uint16_t viewers;         /* now */
    bmb_tally out;
} bmb_outlet_stats;

typedef enum bmb_push_state {
    BMB_PUSH_OFF = 0, /* its feed was removed */
    BMB_PUSH_WAITING, /* failed or lost; the next try is due */
    BMB_PUSH_DIALLING,
    BMB_PUSH_SENDING
} bmb_push_state;

const char *bmb_push_state_name(bmb_push_state state);

typedef struct bmb_push_stats {
    const bmb_push_config *config; /* NULL: the place is free */
    bmb_push_state state;
    bmb_err err;      /* why it is waiting; UDP: what the destination answers */
    uint32_t starts;  /* connections made, or sockets opened */
    uint64_t skipped; /* frames of the present connection that it was too slow for */
    bmb_tally out;    /* over all connections */
    uint32_t mfps, kbps;
    uint32_t age_ms; /* as of a viewer */
    bool confirmed;  /* the other end has shown that it gets it: a connection over TCP, reports of RTP. Other datagrams
                        nobody confirms */
} bmb_push_stats;

bmb_err bmb_outlet_stats_get(const bmb_device *device, size_t outlet, bmb_outlet_stats *out);
bmb_err bmb_push_stats_get(const bmb_device *device, size_t push, bmb_push_stats *out);
void bmb_device_stats_get(const bmb_device *device, bmb_device_stats *out);
bmb_err bmb_feed_stats_get(const bmb_device *device, size_t feed, bmb_feed_stats *out);
/* Figures of the `index`-th present viewer, counted from 0; BMB_NOT_FOUND past the last. */
bmb_err bmb_viewer_stats_get(const bmb_device *device, size_t index, bmb_viewer_stats *out);

#ifdef __cplusplus
}
#endif
#endif
