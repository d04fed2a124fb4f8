/* A whole port in memory: a clock that the test turns, sockets that the test is the other end of, cameras whose frames
 * the test hands in. Nothing here waits or is random, so every test gives the same result each time.
 */
#ifndef BMB_TESTS_FAKE_PORT_H
#define BMB_TESTS_FAKE_PORT_H

#include <stdio.h>

#include "bambino/bambino.h"

#define FAKE_SOCKS 64
#define FAKE_OUT (1u << 20) /* bytes that a test can read from one socket */
#define FAKE_IN 16384u
#define FAKE_DATAGRAMS 512
#define FAKE_EVENTS 256

/* What a device lent to the port: it may not change before it is acknowledged. */
#define FAKE_LENT 64
typedef struct fake_lent {
    const uint8_t *data;
    size_t size, at; /* at: of all that was sent */
    uint32_t sum;
} fake_lent;

typedef struct fake_sock {
    bool open, listening, udp, gone, finished;
    bool peer_gone; /* the test hung up */
    bool broken;    /* reported as such, whatever is watched */
    bmb_addr addr, peer;
    bmb_sock listener; /* waits to be accepted by it; BMB_NO_SOCK: accepted */
    uint32_t watched, token, unsent;
    bmb_err udp_err; /* what the next datagrams meet with; once */
    uint8_t *in;     /* FAKE_IN */
    size_t in_at, in_size;
    uint8_t *out;
    size_t out_size, out_read, out_told;
    bool connected; /* UDP: to one peer */
    size_t room;    /* bytes that send takes until the test makes more room */
    size_t sent, acked;
    fake_lent lent[FAKE_LENT];
    size_t lent_count;
    bmb_net_path path; /* of a connection; all 0: not known */
} fake_sock;

typedef struct fake_datagram {
    bmb_sock from;
    bmb_addr to;
    size_t size;
    uint64_t at_us;
    uint8_t data[2048];
} fake_datagram;

typedef struct fake_camera {
    bmb_camera_info info;
    bmb_mode mode;
    bmb_mode effective; /* what start makes of any mode; width 0: what was asked */
    bool running;
    bmb_err start_err, take_err, set_err;
    bmb_camera_fault fault;
    uint32_t starts, key_requests;
    bmb_camera_frame queue[16];
    size_t queued;
    uint32_t out;           /* taken and not released */
    uint64_t lent, cookies; /* a bit for each cookie that is out; given so far */
    int32_t controls[BMB_CONTROL_COUNT];
} fake_camera;

typedef struct fake_port {
    bmb_port port;
    uint64_t now;
    int64_t wall_offset; /* 0: not known */
    fake_sock socks[FAKE_SOCKS];
    bmb_err accept_err;
    bmb_sock sock_end; /* behind the last one that was ever open */
    bmb_sock turn;     /* whose it is to be reported first */
    bmb_err dial_err;  /* what dialling meets with: BMB_AGAIN lasts until it is changed */
    bmb_err udp_open_err;
    bmb_sock dialled; /* the last one */
    uint32_t dials;
    fake_camera cameras[4];
    size_t camera_count;
    fake_datagram *datagrams;
    size_t datagram_count;
    bmb_event events[FAKE_EVENTS];
    size_t event_count;
    bmb_light light;
    bool offline;
    char record_name[48]; /* of the one record that storage holds */
    uint8_t record[512];
    size_t record_size;
    bmb_err store_err;
    uint8_t random_next;
    uint16_t next_bound, next_peer; /* ports */
    bmb_addr unreachable[4];        /* what came back to any socket for many peers */
    size_t unreachable_count;
    uint64_t slow_us[4]; /* what log, send, take, store take */
    FILE *trace;         /* every call of the port is told here; NULL: none */
} fake_port;

/* What was sent since it was last told, as lines of the trace. */
void fake_tell_sent(fake_port *f);
/* A line of the trace. */
void fake_tell(fake_port *f, const char *format, ...) __attribute__((format(printf, 2, 3)));
fake_port *fake_create(void);
/* As if it was created anew, with the memory that it has. */
void fake_reset(fake_port *f);
void fake_destroy(fake_port *f);
/* Adds a camera of that name. */
fake_camera *fake_camera_add(fake_port *f, const char *name, bmb_codec codec);
/* Queues a frame, stamped with the present time; data must stay. */
void fake_frame(fake_port *f, size_t camera, const uint8_t *data, size_t size, bool key);

/* The port can refer to what it sends until it is acknowledged. */
void fake_lends(fake_port *f);
/* A peer acknowledges so many bytes more, or all. */
void fake_acknowledge(fake_port *f, bmb_sock s, size_t bytes);
/* A client connects to the n-th listener. */
bmb_sock fake_connect(fake_port *f, size_t listener);
void fake_say(fake_port *f, bmb_sock s, const void *data, size_t size);
void fake_say_text(fake_port *f, bmb_sock s, const char *text);
void fake_hang_up(fake_port *f, bmb_sock s);
/* What the device sent and the test did not take yet, NUL-terminated; taken with this. */
const char *fake_take(fake_port *f, bmb_sock s, size_t *size);
/* A datagram arrives at the UDP socket with that local port. */
void fake_datagram_in(fake_port *f, uint16_t port, const bmb_addr *from, const void *data, size_t size);
size_t fake_event_count(const fake_port *f, bmb_event_code code);

/* Steps the device until nothing is ready any more. */
void fake_settle(fake_port *f, bmb_device *d);
/* Moves the clock in steps of 10 ms or less, and steps the device at each. */
void fake_run(fake_port *f, bmb_device *d, uint64_t us);

/* A baseline JPEG image with standard tables of about `size` bytes into out; returns its size. */
size_t fake_jpeg(uint8_t *out, uint16_t width, uint16_t height, size_t size);

/* A device of feeds "yard" (and "station" when two) on fake cameras with HTTP and RTSP outlets. */
typedef struct fake_device {
    fake_port *f;
    bmb_feed_config feeds[2];
    bmb_outlet_config outlets[3];
    bmb_config config;
    bmb_budget budget;
    void *memory;
    bmb_device *device;
} fake_device;

void fake_device_prepare(fake_device *t, bmb_codec codec);             /* then change config, and open */
void fake_device_again(fake_device *t, fake_port *f, bmb_codec codec); /* the same on a port that is there */
void fake_device_open(fake_device *t);
void fake_device_close(fake_device *t);

#endif
