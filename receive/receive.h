/* A receiver that measures: it fetches a feed from one address, in any of our ways or as other cameras serve it, tells
 * each step, and keeps the numbers. Each has a thread of its own.
 */
#ifndef RECEIVE_RECEIVE_H
#define RECEIVE_RECEIVE_H

#include <pthread.h>

#include "bambino/camera.h"
#include "receive/measure.h"

typedef enum receive_scheme {
    RECEIVE_RTSP = 0,
    RECEIVE_RTSPS,
    RECEIVE_HTTP,
    RECEIVE_HTTPS,
    RECEIVE_TCP, /* raw, framed, or a transport stream: by what comes */
    RECEIVE_TLS, /* the same, encrypted */
    RECEIVE_UDP, /* whoever sends to this port: RTP or a transport stream */
    RECEIVE_FILE /* a session description, which says where to listen */
} receive_scheme;

typedef struct receive_address {
    receive_scheme scheme;
    char host[256]; /* "": any of this machine's, where it is listened at */
    uint16_t port;
    char path[512]; /* from the slash on; of tcp: the feed, without it */
    char user[64], password[128];
    char text[768]; /* as it is shown: without the password */
} receive_address;

/* false: why not, in words. */
bool receive_address_read(const char *text, receive_address *out, char *why, size_t room);

/* How RTP is to come. */
typedef enum receive_by { RECEIVE_BY_ANY = 0, RECEIVE_BY_UDP, RECEIVE_BY_TCP, RECEIVE_BY_MULTICAST } receive_by;

/* Steps, in the order in which they come. */
typedef enum receive_step {
    RECEIVE_RESOLVED = 0,
    RECEIVE_CONNECTED,
    RECEIVE_ENCRYPTED,
    RECEIVE_SIGNED_IN,
    RECEIVE_DESCRIBED,
    RECEIVE_PACKET,  /* the first bytes of what was asked for */
    RECEIVE_PICTURE, /* the first whole picture */
    RECEIVE_NOTE,    /* something that a person should know */
    RECEIVE_HINT,    /* what to do about it */
    RECEIVE_FAILED,
    RECEIVE_ENDED,
    RECEIVE_STEPS
} receive_step;
const char *receive_step_name(receive_step step);

#define RECEIVE_TEXT 1200u /* of a step, with its NUL */

typedef struct receive receive;
struct receive {
    /* Set before it begins. */
    receive_address to;
    receive_by by;
    bool blind; /* pictures are not decoded */
    bool lit;   /* the delay is that of a light, which the caller switches (measure_lamp_switch, under the lock) */
    const volatile bool *stop;
    void (*say)(void *ctx, const receive *r, receive_step step, uint64_t us, const char *text); /* from its thread */
    void *ctx;

    /* Its own; to be read by others under the lock. */
    pthread_mutex_t lock;
    pthread_t thread;
    measure m;
    measure_lamp lamp;
    bmb_codec codec;
    bool known;                                /* codec */
    char profile[40];                          /* "constrained baseline 3.1"; "": not said */
    char way[40];                              /* "RTP over UDP" */
    char sound[24];                            /* codec of the sound; "": none */
    char from[64];                             /* who sends */
    uint64_t begin_us, step_us[RECEIVE_STEPS]; /* when each came first, since the begin; 0: not yet */
    bool ended, failed;
    bool saw; /* a picture could be decoded */
    struct see *see;
};

/* One picture. */
typedef struct receive_came {
    bmb_codec codec;
    const uint8_t *data;
    size_t size;
    bool broken, has_number, has_media;
    uint32_t number;
    int64_t media_us, capture_us; /* capture: Unix time */
    measure_clock clock;
    uint64_t at_us;
} receive_came;

bool receive_begin(receive *r); /* false: no thread can be had */
void receive_end(receive *r);   /* *stop is true: waits for its thread */

/* For the conversations. */
void receive_tell(receive *r, receive_step step, const char *fmt, ...) __attribute__((format(printf, 3, 4)));
/* Tells each step; false: it failed, and that was told with what can be found out about it. */
struct line;
bool receive_connect(receive *r, struct line *l, bool secure);
void receive_first_bytes(receive *r);
void receive_picture(receive *r, const receive_came *came);
void receive_set_way(receive *r, const char *way);
bool receive_goes_on(const receive *r);

void receive_rtsp(receive *r);
void receive_http(receive *r);
void receive_plain(receive *r);
void receive_datagrams(receive *r);
/* Listens where a session description says. */
void receive_described(receive *r, const char *text, size_t size);
/* What listens at that host instead, in words; "": nothing was found. */
void receive_find(const char *host, const volatile bool *stop, char *out, size_t room);

#endif
