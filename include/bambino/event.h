/* Network addresses, and the events that a device reports through its port's log.
 *
 * An event is a code with its facts, not a sentence: a microcontroller may blink it, a log file may want JSON. Use
 * bmb_event_text() of bambino/text.h for a sentence in English.
 */
#ifndef BAMBINO_EVENT_H
#define BAMBINO_EVENT_H

#include <stdint.h>

#include "bambino/err.h"
#include "bambino/options.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct bmb_addr {
    uint8_t family; /* 4: IPv4, 6: IPv6, 0: none */
#if BMB_WITH_IPV6
    uint8_t ip[16]; /* network byte order; IPv4 uses the first four */
    uint16_t port;  /* host byte order */
    uint32_t scope; /* IPv6 link-local: interface index; otherwise 0 */
#else
    uint8_t ip[4];
    uint16_t port;
#endif
} bmb_addr;

typedef enum bmb_level { BMB_LEVEL_ERROR, BMB_LEVEL_WARNING, BMB_LEVEL_INFO, BMB_LEVEL_DEBUG } bmb_level;

typedef enum bmb_event_code {
    BMB_EVENT_CAMERA_STARTED,    /* feed; value: width << 16 | height; extra: mfps */
    BMB_EVENT_CAMERA_ADJUSTED,   /* feed; the camera chose another mode than asked; value, extra as above */
    BMB_EVENT_CAMERA_FAILED,     /* feed, err; value: bmb_camera_fault; extra: ms until the next try */
    BMB_EVENT_CAMERA_STALLED,    /* feed; value: ms without a frame; extra: ms until the next try */
    BMB_EVENT_CAMERA_BACK,       /* feed; value: ms of the gap */
    BMB_EVENT_CONTROL_REFUSED,   /* feed, err; value: bmb_control; extra: the value asked */
    BMB_EVENT_FRAME_BAD,         /* feed, err; value: bytes; extra: count since start. At most one a second */
    BMB_EVENT_FRAME_TOO_LARGE,   /* feed; value: bytes; extra: largest that fits. At most one a second */
    BMB_EVENT_CODEC_REFUSED,     /* feed, err; the stream cannot be carried by an outlet; value: bmb_jpeg_rtp reason */
    BMB_EVENT_VIEWER_CAME,       /* feed, peer; value: viewers now */
    BMB_EVENT_VIEWER_LEFT,       /* feed, peer; value: viewers now; extra: frames sent */
    BMB_EVENT_VIEWER_STALLED,    /* feed, peer; value: ms without progress */
    BMB_EVENT_VIEWER_SHED,       /* feed, peer; closed because the reel needed the memory that it held */
    BMB_EVENT_VIEWER_REFUSED,    /* feed, peer; value: the limit */
    BMB_EVENT_ACCEPT_PAUSED,     /* err; no file or memory for another connection; value: ms of the pause */
    BMB_EVENT_CONNECTIONS_FULL,  /* peer; value: the limit */
    BMB_EVENT_MULTICAST_STARTED, /* feed, peer: the group */
    BMB_EVENT_MULTICAST_STOPPED, /* feed, peer: the group; extra: frames sent */
    BMB_EVENT_VIEWER_BEHIND,     /* feed; keep-all: value: frames that had left the reel; at most one a second */
    BMB_EVENT_PUSH_STARTED,      /* feed, peer; extra: which time */
    BMB_EVENT_PUSH_FAILED,       /* feed, peer, err; value: ms until the next try; 0: it goes on (UDP) */
    BMB_EVENT_PUSH_LOST,    /* feed, peer; the listener went away; value: ms until the next try; extra: frames sent */
    BMB_EVENT_PUSH_UNREAD,  /* feed, peer; value: ms for which nothing was read; extra: ms until the next try */
    BMB_EVENT_PUSH_HEARD,   /* feed, peer; UDP: the destination does not refuse any more */
    BMB_EVENT_STILL_GAP,    /* feed; a still of another size was taken; value: ms for which the stream had no frame */
    BMB_EVENT_FEED_REMOVED, /* feed */
    BMB_EVENT_CONTROLS_RESTORED, /* feed; value: how many were restored from the port's storage */
    BMB_EVENT_CONTROLS_NOT_KEPT, /* feed, err; the port's storage failed */
    BMB_EVENT_NOT_FOUND,         /* peer, text: what was asked for; there is nothing of that name */
    BMB_EVENT_SESSION_ENDED,     /* feed, peer; its session was ended: value: bmb_ending */
    BMB_EVENT_SUPPRESSED,        /* value: events about peers that were not reported, there were too many */
    BMB_EVENT_REPORT,          /* feed (pushes), peer: where to, or where the outlet listens; traffic: the last second;
                                  value: viewers, or -1 for a push */
    BMB_EVENT_CAMERA_SAYS,     /* feed: the camera's name; text: a line that the program behind it said */
    BMB_EVENT_CONTROL_LOWERED, /* feed; its frames were too large, so that none was sent; value: bmb_control, extra:
                                 what is in force instead */
    BMB_EVENT_SIGNED_IN,       /* peer, text: the account's name */
    BMB_EVENT_SIGN_IN_FAILED,  /* peer, text: the account's name, or NULL: there is none of the name that was said */
    BMB_EVENT_CHANGED_BY,      /* feed, peer, text: who, or NULL: anybody; value: bmb_control; extra: what it was in the
                                  upper half, what it is now in the lower one */
    BMB_EVENT_LENT,            /* feed, peer, text: who; value: the link's number */
    BMB_EVENT_LINK_ENDED,      /* peer, text: who called it back; value: the link's number */
    BMB_EVENT_GROUP_WITHHELD, /* feed, peer: the group; nothing is sent to it, since not everybody may watch the feed */
    BMB_EVENT_NAME_REFUSED,   /* peer, text: the name in Host that is none of ours */
    BMB_EVENT_HANDSHAKE_FAILED, /* peer, err, text: why it did not come to an encrypted connection; value: the library's
                                  number of the error. At most five in a row */
    BMB_EVENT_FEED_CHANGED,     /* feed; value, extra: as of CAMERA_STARTED, of what it is to be */
    BMB_EVENT_FEED_ADDED,       /* feed */
    BMB_EVENT_FEED_PAUSED,      /* feed */
    BMB_EVENT_SETTINGS_CHANGED, /* peer, text: who, or NULL: anybody; value: how many; extra: s until they return unless
                                   they are confirmed, or 0 */
    BMB_EVENT_SETTINGS_RETURNED, /* value: how many are what they were before, since nobody confirmed them */
    BMB_EVENT_SETTINGS_NOT_KEPT, /* err; the port's storage failed */
    BMB_EVENT_DAYLIGHT,          /* feed; value: 1 night, 0 day; extra: the pictures' brightness, 0 to 255 */
    BMB_EVENT_HELD_BACK,         /* feed; peer: of a viewer; text: the name of a bmb_cause; value, extra: is, of */
    BMB_EVENT_STEPPED,           /* feed, peer; text: the feed that it is given from now on; value: 1 down, 0 up; extra:
                                    kbit/s that its link carries, or 0 */
    BMB_EVENT_FOLLOWED,          /* feed; its bit rate follows a link; value: kbit/s now; extra: what is set */
    BMB_EVENT_UPLINK_FULL,       /* feed, peer; refused: value: kbit/s that would be needed; extra: that there are */
    BMB_EVENT_CAMERA_RESTS,      /* feed; it is off until somebody watches */
    BMB_EVENT_USERS_READ,        /* value: how many may sign in from now on */
    BMB_EVENT_USERS_UNREADABLE,  /* err; value: how many may sign in as before, 0: nobody gets in; text: why, or NULL */
    BMB_EVENT_FRAMING_REFUSED    /* feed, peer, text: the origin of a page that shows it and may not, so that browsers
                                    leave    the place empty */
} bmb_event_code;
#define BMB_EVENT_COUNT ((int)BMB_EVENT_FRAMING_REFUSED + 1)

/* Why a session over UDP was ended although nobody asked for it. */
typedef enum bmb_ending {
    BMB_ENDING_SILENT = 0,  /* no sign of life within the session's time */
    BMB_ENDING_UNREACHABLE, /* its host answers that nobody listens at the port */
    BMB_ENDING_ABANDONED,   /* its control connection is closed, and no report comes either */
    BMB_ENDING_BYE,         /* the receiver said goodbye by RTCP */
    BMB_ENDING_DENIED       /* it may not watch any more */
} bmb_ending;

/* What went out in one second. */
typedef struct bmb_traffic {
    uint32_t frames;
    uint64_t bytes;
    uint32_t blocked_ms; /* for so long the network took no more, over all viewers */
} bmb_traffic;

typedef struct bmb_event {
    bmb_level level;
    bmb_event_code code;
    bmb_err err;
    const char *feed;           /* NULL: not about a feed. Valid during the call */
    const bmb_addr *peer;       /* NULL: not about a peer. Valid during the call */
    int64_t value, extra;       /* as each code says */
    const bmb_traffic *traffic; /* BMB_EVENT_REPORT, or NULL. Valid during the call */
    const char *text; /* BMB_EVENT_NOT_FOUND, printable ASCII; BMB_EVENT_CAMERA_FAILED and _SAYS, its words; or NULL.
                         Valid during the call */
} bmb_event;

#ifdef __cplusplus
}
#endif
#endif
