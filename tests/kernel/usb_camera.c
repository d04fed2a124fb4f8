/* A USB camera in software, for the kernel's virtual host controller (vhci-hcd, which takes a device from a socket by
 * the USB/IP protocol). It delivers the pictures of a clip as MJPEG, or a moving pattern as YUYV, in one size, over a
 * bulk endpoint. It is plugged in while this runs: ending it unplugs it. It is no gadget: the kernel's own (f_uvc)
 * streams by isochronous transfers, which dummy_hcd does not carry, and gadgetfs of Linux 6.1 crashes the kernel when a
 * camera in a program is unplugged (ep0_complete, in dev_release).
 *
 *     usb_camera PORT CLIP WIDTH HEIGHT RATE [NAME]
 *
 * Sources: USB 2.0, chapter 9; USB Device Class Definition for Video Devices 1.1, 2.4.3 (payload headers), 3.7 and 3.9
 * (descriptors), 4.2 and 4.3 (requests); the kernel's Documentation/usb/usbip_protocol.rst.
 */
#include <arpa/inet.h>
#include <errno.h>
#include <poll.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { CMD_SUBMIT = 1, CMD_UNLINK = 2, RET_SUBMIT = 3, RET_UNLINK = 4 };
enum { SET_CUR = 0x01, GET_CUR = 0x81, GET_MIN, GET_MAX, GET_RES, GET_LEN, GET_INFO, GET_DEF };
enum { PROBE = 1, COMMIT = 2, BRIGHTNESS = 2, PROCESSING_UNIT = 2 };
enum { MJPEG = 1, YUYV = 2 }; /* indices of the formats */

#define HEADER 48u     /* of a USB/IP message */
#define PAYLOAD 16384u /* largest payload: also what the host asks for in one request */
#define WAITING 32u    /* requests for pictures that can wait */
#define CONTROL 34u    /* bytes of a probe or commit control (4.3.1.1) */
#define ENDPOINT 1u    /* IN */

typedef struct request {
    uint32_t sequence, room;
} request;

typedef struct camera {
    int fd;
    uint16_t width, height;
    uint32_t rate;
    const char *name;
    uint8_t *clip;
    size_t clip_size, clip_at;
    uint8_t format; /* that was agreed on */
    int16_t brightness;
    request waiting[WAITING];
    unsigned waiting_count;
    uint8_t *picture; /* on its way */
    size_t size, sent;
    unsigned number;
    double due;
} camera;

typedef struct bytes {
    uint8_t at[600];
    size_t size;
} bytes;

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static void put(bytes *b, uint64_t value, unsigned count) /* the lowest byte first, as everything in USB */
{
    for (unsigned i = 0; i < count; i++) b->at[b->size++] = (uint8_t)(value >> 8 * i);
}

static uint32_t picture_bytes(const camera *c)
{
    return (uint32_t)c->width * c->height * 2;
}

static void put_frame(bytes *b, const camera *c, uint8_t subtype)
{
    uint32_t bits = picture_bytes(c) * 8 * c->rate, interval = 10000000 / c->rate;
    put(b, 30, 1);
    put(b, 0x24, 1);
    put(b, subtype, 1);
    put(b, 1, 1);
    put(b, 0, 1);
    put(b, c->width, 2);
    put(b, c->height, 2);
    put(b, bits, 4);
    put(b, bits, 4);
    put(b, picture_bytes(c), 4);
    put(b, interval, 4);
    put(b, 1, 1);
    put(b, interval, 4);
}

/* A descriptor of single bytes. */
static void put_list(bytes *b, const uint8_t *list, size_t size)
{
    memcpy(b->at + b->size, list, size);
    b->size += size;
}
#define LIST(b, ...) put_list(b, (const uint8_t[]){ __VA_ARGS__ }, sizeof(const uint8_t[]){ __VA_ARGS__ })

static bytes configuration(const camera *c)
{
    bytes b = { .size = 0 };
    LIST(&b, 9, 2, 0, 0, 2, 1, 0, 0x80, 50);
    LIST(&b, 8, 11, 0, 2, 14, 3, 0, 0);   /* interface association */
    LIST(&b, 9, 4, 0, 0, 0, 14, 1, 0, 0); /* video control */
    LIST(&b, 13, 0x24, 1, 0x10, 1, 52, 0, 0x80, 0x8D, 0x5B, 0, 1, 1);
    LIST(&b, 18, 0x24, 2, 1, 0x01, 0x02, 0, 0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0); /* camera terminal */
    LIST(&b, 12, 0x24, 5, PROCESSING_UNIT, 1, 0, 0, 2, 1, 0, 0, 0);           /* with brightness */
    LIST(&b, 9, 0x24, 3, 3, 0x01, 0x01, 0, PROCESSING_UNIT, 0);               /* output terminal */
    LIST(&b, 9, 4, 1, 0, 1, 14, 2, 0, 0);                                     /* video streaming */
    size_t begin = b.size;
    LIST(&b, 15, 0x24, 1, 2, 0, 0, 0x80 | ENDPOINT, 0, 3, 0, 0, 0, 1, 0, 0);
    LIST(&b, 11, 0x24, 6, MJPEG, 1, 0, 1, 0, 0, 0, 0);
    put_frame(&b, c, 7);
    LIST(&b, 27, 0x24, 4, YUYV, 1, 'Y', 'U', 'Y', '2', 0, 0, 0x10, 0, 0x80, 0, 0, 0xAA, 0, 0x38, 0x9B, 0x71, 16, 1, 0,
         0, 0, 0);
    put_frame(&b, c, 5);
    b.at[begin + 4] = (uint8_t)(b.size - begin);
    b.at[begin + 5] = (uint8_t)((b.size - begin) >> 8);
    LIST(&b, 7, 5, 0x80 | ENDPOINT, 2, 0, 2, 0); /* bulk, 512 bytes */
    b.at[2] = (uint8_t)b.size;
    b.at[3] = (uint8_t)(b.size >> 8);
    return b;
}

static bytes text_of(const camera *c, uint8_t index)
{
    const char *text = index == 1 ? "Valley railway" : index == 2 ? c->name : "1";
    bytes b = { .size = 0 };
    if (index == 0) {
        LIST(&b, 4, 3, 9, 4);
        return b;
    }
    put(&b, 2 + 2 * strlen(text), 1);
    put(&b, 3, 1);
    for (; *text != '\0'; text++) put(&b, (uint8_t)*text, 2);
    return b;
}

static bytes control(const camera *c)
{
    bytes b = { .size = 0 };
    put(&b, 1, 2);
    put(&b, c->format, 1);
    put(&b, 1, 1);
    put(&b, 10000000 / c->rate, 4);
    put(&b, 0, 10);
    put(&b, picture_bytes(c), 4);
    put(&b, PAYLOAD, 4);
    put(&b, 0, 4);
    put(&b, 0x01010003, 4);
    return b;
}

static void write_all(int fd, const void *data, size_t size)
{
    for (const uint8_t *at = data; size > 0;) {
        ssize_t n = write(fd, at, size);
        if (n <= 0) exit(0); /* unplugged */
        at += n;
        size -= (size_t)n;
    }
}

static void read_all(int fd, void *data, size_t size)
{
    for (uint8_t *at = data; size > 0;) {
        ssize_t n = read(fd, at, size);
        if (n <= 0) exit(0);
        at += n;
        size -= (size_t)n;
    }
}

static void answer(const camera *c, uint32_t sequence, int32_t status, uint32_t actual, const void *data, size_t size)
{
    uint32_t h[HEADER / 4] = { htonl(RET_SUBMIT), htonl(sequence) };
    h[5] = htonl((uint32_t)status);
    h[6] = htonl(actual);
    write_all(c->fd, h, sizeof h);
    write_all(c->fd, data, size);
}

/* Class requests to the streaming interface and the processing unit. false: not known. */
static bool class_request(camera *c, const uint8_t *setup, const uint8_t *data, bytes *out)
{
    uint8_t code = setup[1], selector = setup[3], interface = setup[4], entity = setup[5];
    bool streaming = interface == 1 && (selector == PROBE || selector == COMMIT);
    bool brightness = interface == 0 && entity == PROCESSING_UNIT && selector == BRIGHTNESS;
    if (!streaming && !brightness) return false;
    if (code == SET_CUR && streaming) {
        c->format = data[2] == YUYV ? YUYV : MJPEG;
        if (selector == COMMIT) printf("streams %s\n", c->format == YUYV ? "YUYV" : "MJPEG");
        if (selector == COMMIT) c->due = now();
    } else if (code == SET_CUR) {
        c->brightness = (int16_t)(data[0] | data[1] << 8);
        printf("brightness %d\n", c->brightness);
    } else if (code == GET_INFO) {
        put(out, 3, 1); /* may be read and set */
    } else if (code == GET_LEN) {
        put(out, streaming ? CONTROL : 2, 2);
    } else if (streaming) {
        *out = control(c);
    } else {
        int value = code == GET_MIN   ? -100
                    : code == GET_MAX ? 100
                    : code == GET_RES ? 1
                    : code == GET_CUR ? c->brightness
                                      : 0;
        put(out, (uint16_t)value, 2);
    }
    fflush(stdout);
    return true;
}

static bool standard_request(const camera *c, const uint8_t *setup, bytes *out)
{
    static const uint8_t device[] = { 18, 1, 0, 2, 0xEF, 2, 1, 64, 0x6B, 0x1D, 0x04, 0x01, 0, 1, 1, 2, 3, 1 };
    if (setup[1] == 0) put(out, 0, 2); /* GET_STATUS */
    if (setup[1] == 8) put(out, 1, 1); /* GET_CONFIGURATION */
    if (setup[1] == 10) put(out, 0, 1);
    if (setup[1] != 6) return true; /* SET_CONFIGURATION, SET_INTERFACE, CLEAR_FEATURE: nothing to do */
    switch (setup[3]) {
    case 1:
        put_list(out, device, sizeof device);
        return true;
    case 2:
        *out = configuration(c);
        return true;
    case 3:
        *out = text_of(c, setup[2]);
        return true;
    default:
        return false;
    }
}

static void on_control(camera *c, uint32_t sequence, const uint8_t *setup, const uint8_t *data, uint32_t room)
{
    bytes out = { .size = 0 };
    bool in = (setup[0] & 0x80) != 0, known;
    known = (setup[0] & 0x60) == 0x20 ? class_request(c, setup, data, &out) : standard_request(c, setup, &out);
    size_t size = out.size < room ? out.size : room;
    if (!known) {
        answer(c, sequence, -EPIPE, 0, NULL, 0);
    } else {
        answer(c, sequence, 0, in ? (uint32_t)size : room, out.at, in ? size : 0);
    }
}

/* The next picture of the clip, from one start of image to the next. */
static size_t from_clip(camera *c)
{
    size_t end = c->clip_at + 2;
    while (end + 2 < c->clip_size && !(c->clip[end] == 0xFF && c->clip[end + 1] == 0xD8 && c->clip[end + 2] == 0xFF))
        end++;
    if (end + 2 >= c->clip_size) end = c->clip_size;
    size_t size = end - c->clip_at;
    if (size > picture_bytes(c)) size = picture_bytes(c);
    memcpy(c->picture, c->clip + c->clip_at, size);
    c->clip_at = end < c->clip_size ? end : 0;
    return size;
}

static size_t pattern(const camera *c)
{
    for (uint32_t y = 0; y < c->height; y++) {
        for (uint32_t x = 0; x < c->width; x++) {
            uint8_t *at = c->picture + 2 * ((size_t)y * c->width + x);
            at[0] = (uint8_t)(x + 4 * c->number);
            at[1] = (uint8_t)(x % 2 == 0 ? 64 + y / 4 : 128);
        }
    }
    return picture_bytes(c);
}

/* One payload for each request that waits: a header, of which bit 0 changes with each picture and bit 1 ends it. */
static void send_payloads(camera *c)
{
    uint8_t payload[PAYLOAD];
    while (c->waiting_count > 0) {
        if (c->sent == c->size) {
            if (now() < c->due) return;
            c->due += 1.0 / c->rate;
            if (c->due < now() - 1) c->due = now();
            c->size = c->format == YUYV ? pattern(c) : from_clip(c);
            c->sent = 0;
            c->number++;
        }
        uint32_t room = c->waiting[0].room < PAYLOAD ? c->waiting[0].room : PAYLOAD;
        size_t n = c->size - c->sent < room - 2 ? c->size - c->sent : room - 2;
        memcpy(payload + 2, c->picture + c->sent, n);
        c->sent += n;
        payload[0] = 2;
        payload[1] = (uint8_t)(0x80 | (c->number & 1) | (c->sent == c->size ? 2 : 0));
        answer(c, c->waiting[0].sequence, 0, (uint32_t)n + 2, payload, n + 2);
        memmove(c->waiting, c->waiting + 1, --c->waiting_count * sizeof c->waiting[0]);
    }
}

static void on_submit(camera *c, const uint32_t *h)
{
    static uint8_t data[65536];
    uint32_t sequence = ntohl(h[1]), room = ntohl(h[6]);
    bool in = ntohl(h[3]) == 1;
    if (!in && room > 0) read_all(c->fd, data, room < sizeof data ? room : sizeof data);
    if (ntohl(h[4]) == 0) {
        on_control(c, sequence, (const uint8_t *)(h + 10), data, room);
    } else if (c->waiting_count < WAITING) {
        c->waiting[c->waiting_count++] = (request){ sequence, room };
    } else {
        answer(c, sequence, -EPIPE, 0, NULL, 0);
    }
}

static void on_unlink(camera *c, const uint32_t *h)
{
    uint32_t r[HEADER / 4] = { htonl(RET_UNLINK), h[1] }, meant = ntohl(h[5]);
    for (unsigned i = 0; i < c->waiting_count; i++) {
        if (c->waiting[i].sequence != meant) continue;
        r[5] = htonl((uint32_t)-ECONNRESET);
        memmove(c->waiting + i, c->waiting + i + 1, (--c->waiting_count - i) * sizeof c->waiting[0]);
        break;
    }
    c->sent = c->size; /* what is left of a picture is of no use */
    write_all(c->fd, r, sizeof r);
}

static bool plug_in(camera *c, const char *port)
{
    int ends[2];
    if (socketpair(AF_UNIX, SOCK_STREAM, 0, ends) != 0) return false;
    FILE *f = fopen("/sys/devices/platform/vhci_hcd.0/attach", "w");
    if (f == NULL) return false;
    fprintf(f, "%s %d %u %u", port, ends[1], 0x10001u + (unsigned)atoi(port), 3u); /* 3: high speed */
    if (fclose(f) != 0) return false;
    close(ends[1]);
    c->fd = ends[0];
    return true;
}

static bool read_clip(camera *c, const char *path)
{
    FILE *f = fopen(path, "rb");
    c->clip = malloc(16u << 20);
    if (f == NULL || c->clip == NULL) return false;
    c->clip_size = fread(c->clip, 1, 16u << 20, f);
    fclose(f);
    return c->clip_size > 4;
}

int main(int argc, char **argv)
{
    camera c = { .format = MJPEG, .name = argc > 6 ? argv[6] : "Siding camera" };
    if (argc < 6) return 2;
    c.width = (uint16_t)atoi(argv[3]);
    c.height = (uint16_t)atoi(argv[4]);
    c.rate = (uint32_t)atoi(argv[5]);
    c.picture = malloc(picture_bytes(&c));
    if (c.picture == NULL || c.rate == 0 || !read_clip(&c, argv[2]) || !plug_in(&c, argv[1])) {
        perror("usb_camera");
        return 1;
    }
    for (;;) {
        struct pollfd p = { .fd = c.fd, .events = POLLIN };
        double wait = c.waiting_count > 0 ? (c.due - now()) * 1000 : 1000;
        int n = poll(&p, 1, wait > 0 ? (int)wait + 1 : 0);
        if (n > 0) {
            uint32_t h[HEADER / 4];
            read_all(c.fd, h, sizeof h);
            if (ntohl(h[0]) == CMD_SUBMIT) on_submit(&c, h);
            if (ntohl(h[0]) == CMD_UNLINK) on_unlink(&c, h);
        }
        send_payloads(&c);
    }
}
