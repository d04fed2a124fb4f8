/* `bambino measure`: what encoding and serving cost on this machine. Encoders work on a picture of their own; serving
 * is done by a device whose camera hands in the next image as soon as the last one has left, to a receiver that is
 * another process, so that its work does not count. */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "bambino/linux.h"
#include "cli.h"
#include "codec/encoder.h"
#include "figures.h"

#define SHOTS 4u /* pictures that an encoder gets in turn: of one that never changes H.264 would be for nothing */
#define QUALITY 75
#define KBPS 2000
#define TURNS 5u
#define PATIENCE_US 5000000u /* without one frame that arrives */

typedef struct size_row {
    uint16_t width, height;
} size_row;
static const size_row sizes[] = { { 320, 240 }, { 640, 480 }, { 1280, 720 } };
#define SIZES (sizeof sizes / sizeof sizes[0])

typedef enum way { WAY_NOBODY, WAY_HTTP, WAY_RTP, WAYS } way;

/* What was measured: microseconds for a picture in each size; 0: not there. */
typedef struct results {
    double jpeg[SIZES], h264[SIZES], decode[SIZES];
    double bytes[SIZES]; /* of the image that is served */
    double serve[WAYS][SIZES];
} results;

static double cpu_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (double)t.tv_sec * 1e6 + (double)t.tv_nsec / 1e3;
}

static double wall_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec * 1e6 + (double)t.tv_nsec / 1e3;
}

/* A landscape: a sky that goes over, hills with texture, and a train that moves. I420, one behind the other. */
static uint8_t *draw(uint16_t width, uint16_t height)
{
    size_t luma = (size_t)width * height, size = luma * 3 / 2;
    uint8_t *all = malloc(size * SHOTS);
    uint32_t noise = 1;
    for (unsigned shot = 0; all != NULL && shot < SHOTS; shot++) {
        uint8_t *y = all + shot * size;
        for (unsigned row = 0; row < height; row++) {
            for (unsigned x = 0; x < width; x++) {
                unsigned hill = height / 2 + (x * 3 % width > width / 2 ? width - x * 3 % width : x * 3 % width) / 8;
                noise = noise * 1664525u + 1013904223u;
                unsigned texture = (x * 7 + row * 13) / 5 % 40 + (noise >> 28);
                bool train = row > height * 3 / 4 && row < height * 7 / 8 && (x + width - shot * 8) % width < width / 3;
                y[row * width + x] = (uint8_t)(train        ? 60 + x / 16 % 2 * 120
                                               : row < hill ? 150 + row * 90 / height
                                                            : 70 + texture);
            }
        }
        for (unsigned i = 0; i < luma / 2; i++) y[luma + i] = (uint8_t)(i < luma / 4 ? 120 + i % width / 32 : 126);
    }
    return all;
}

/* us of one core for a picture; 0: the encoder does not work. *image gets what came of the last one. */
static double encode_us(bmb_codec codec, size_row s, const uint8_t *shots, double seconds, uint8_t *image, size_t room,
                        size_t *size)
{
    const codec_encoder *e = codec_encoder_for(codec);
    const bmb_mode mode = { codec, s.width, s.height, 15000 };
    codec_request request = { .key = true, .quality = QUALITY, .kbps = KBPS, .key_ms = 2000 };
    void *self = e != NULL && shots != NULL ? e->open(NULL, &mode, &request) : NULL;
    if (self == NULL) return 0;
    size_t each = codec_picture_bytes(CODEC_I420, s.width, s.height);
    unsigned count = 0;
    double begin = 0, until = 0;
    bool key, good = true;
    for (; good && !cli_interrupted() && (count < SHOTS || wall_us() < until); count++) {
        if (count == 1) { /* the first one is not like the others */
            begin = cpu_us();
            until = wall_us() + seconds * 1e6;
        }
        const codec_picture picture = codec_picture_in(CODEC_I420, s.width, s.height, shots + count % SHOTS * each, 0);
        request.capture_us = count * 66667u;
        request.key = count == 0;
        *size = e->encode(self, &picture, &request, image, room, &key);
        good = *size > 0 || (codec == BMB_CODEC_H264 && count > 0); /* one that its rate control leaves out */
    }
    double used = cpu_us() - begin;
    e->close(self);
    return good && count > 1 ? used / (count - 1) : 0;
}

static double decode_us(size_row s, const uint8_t *image, size_t size, double seconds)
{
    codec_decoder *decoder = codec_decoder_open();
    codec_picture out;
    unsigned count = 0;
    if (decoder == NULL) return 0;
    double begin = cpu_us(), until = wall_us() + seconds * 1e6;
    bool good = true;
    for (; good && !cli_interrupted() && wall_us() < until; count++)
        good = codec_decode(decoder, image, size, s.width, s.height, &out);
    double used = cpu_us() - begin;
    codec_decoder_close(decoder);
    return good && count > 0 ? used / count : 0;
}

/* The camera: one image, handed in again and again. */

typedef struct source {
    bmb_mode_row row;
    const uint8_t *image;
    size_t size;
    bool waiting;
    const bmb_port *port;
} source;

static size_t one(void *ctx)
{
    (void)ctx;
    return 1;
}

static bmb_err source_info(void *ctx, size_t index, bmb_camera_info *out)
{
    const source *s = (const source *)ctx;
    (void)index;
    *out = (bmb_camera_info){ .name = "measure", .model = "an image", .modes = &s->row, .mode_count = 1, .buffers = 4 };
    return BMB_OK;
}

static bmb_err source_start(void *ctx, size_t index, const bmb_mode *asked, bmb_mode *effective)
{
    (void)ctx;
    (void)index;
    *effective = *asked;
    return BMB_OK;
}

static void source_stop(void *ctx, size_t index)
{
    (void)ctx;
    (void)index;
}

static bmb_err source_take(void *ctx, size_t index, bmb_camera_frame *out)
{
    source *s = (source *)ctx;
    (void)index;
    if (!s->waiting) return BMB_AGAIN;
    s->waiting = false;
    *out = (bmb_camera_frame){
        .data = s->image, .size = s->size, .capture_us = s->port->now_us(s->port->ctx), .key = true
    };
    return BMB_OK;
}

static void source_release(void *ctx, size_t index, uintptr_t cookie)
{
    (void)ctx;
    (void)index;
    (void)cookie;
}

/* The receiver: a process that reads and forgets. */

static _Noreturn void receive(way w, uint16_t port, int datagrams)
{
    static char room[1 << 16];
    int fd = datagrams;
    signal(SIGINT, SIG_DFL);
    signal(SIGTERM, SIG_DFL);
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (w == WAY_HTTP) {
        static const char ask[] = "GET /measure.mjpeg HTTP/1.1\r\nHost: localhost\r\n\r\n";
        struct sockaddr_in to = { .sin_family = AF_INET,
                                  .sin_port = htons(port),
                                  .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
        fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (connect(fd, (struct sockaddr *)&to, sizeof to) != 0 || write(fd, ask, sizeof ask - 1) < 0) _exit(1);
    }
    while (recv(fd, room, sizeof room, 0) > 0) {
    }
    _exit(0);
}

/* A UDP socket of the loopback interface. */
static int listen_udp(bmb_addr *out)
{
    struct sockaddr_in at = { .sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK) };
    socklen_t size = sizeof at;
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0), buffer = 4 << 20;
    if (fd < 0 || bind(fd, (struct sockaddr *)&at, sizeof at) != 0 ||
        getsockname(fd, (struct sockaddr *)&at, &size) != 0) {
        if (fd >= 0) close(fd);
        return -1;
    }
    (void)setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &buffer, sizeof buffer);
    *out = (bmb_addr){ .family = 4, .ip = { 127, 0, 0, 1 }, .port = ntohs(at.sin_port) };
    return fd;
}

static uint64_t done(const bmb_device *device, way w)
{
    bmb_feed_stats s;
    if (bmb_feed_stats_get(device, 0, &s) != BMB_OK) return 0;
    return w == WAY_NOBODY ? s.frames : s.sent;
}

static int by_size(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

/* Hands in the next image as soon as the last one has left, for so long; us of one core for each: the middle one of
 * several turns, since a machine with other work has odd moments. */
static double pump(bmb_device *device, const bmb_port *port, source *s, way w, double seconds)
{
    double turn[TURNS], begin = 0, until = 0, news = wall_us();
    uint64_t count = 0, at_begin = 0;
    unsigned turns = 0;
    while (!cli_interrupted() && turns < TURNS && wall_us() < news + PATIENCE_US) {
        uint64_t now = done(device, w);
        bool all = now > count || count == 0;
        if (now > count) news = wall_us();
        if (begin > 0 && wall_us() >= until && now > at_begin) {
            turn[turns++] = (cpu_us() - begin) / (double)(now - at_begin);
            begin = 0;
        }
        if (begin <= 0 && now >= 20) { /* connections are open, buffers have grown */
            begin = cpu_us();
            until = wall_us() + seconds * 1e6 / TURNS;
            at_begin = now;
        }
        if (all) {
            count = now;
            s->waiting = true;
        }
        uint64_t next = bmb_step(device);
        port->wait(port->ctx, all || s->waiting ? 0 : next);
    }
    if (turns < TURNS) return 0;
    qsort(turn, TURNS, sizeof turn[0], by_size);
    return turn[TURNS / 2];
}

static double serve_us(way w, size_row size, const uint8_t *image, size_t bytes, double seconds)
{
    bmb_linux *system;
    bmb_port port;
    double us = 0;
    if (bmb_linux_create(&system, &port) != BMB_OK) return 0;
    port.log = NULL;
    source s = {
        .row = { BMB_CODEC_JPEG, size.width, size.height, 240000 }, .image = image, .size = bytes, .port = &port
    };
    port.cameras = (bmb_cameras){ .ctx = &s,
                                  .count = one,
                                  .info = source_info,
                                  .start = source_start,
                                  .stop = source_stop,
                                  .take = source_take,
                                  .release = source_release };
    bmb_feed_config feed = bmb_feed_of("measure", BMB_CODEC_JPEG, size.width, size.height, 240000);
    feed.frame_max = (uint32_t)bytes;
    feed.reel_bytes = 3 * feed.frame_max;
    bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, 0);
    http.listen = (bmb_addr){ .family = 4, .ip = { 127, 0, 0, 1 } };
    bmb_push_config push = { .format = BMB_FORMAT_RTP };
    bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);
    int datagrams = w == WAY_RTP ? listen_udp(&push.to) : -1;
    if (datagrams >= 0) {
        config.pushes = &push;
        config.push_count = 1;
    }
    bmb_device *device = bmb_linux_open(system, &config);
    bmb_addr bound;
    if (device != NULL && bmb_outlet_addr(device, 0, &bound) == BMB_OK) {
        fflush(NULL);
        pid_t child = w == WAY_NOBODY ? 0 : fork();
        if (w != WAY_NOBODY && child == 0) receive(w, bound.port, datagrams);
        us = pump(device, &port, &s, w, seconds);
        if (child > 0) {
            kill(child, SIGKILL);
            waitpid(child, NULL, 0);
        }
    }
    if (device != NULL) bmb_close(device);
    if (datagrams >= 0) close(datagrams);
    bmb_linux_destroy(system);
    return us;
}

/* us = a frame + bytes * a byte: the line through the sizes with the least squares; ns. What is measured is not so
 * exact that neither could come out below nothing: then all is the other's. */
static void split(const double *us, const double *bytes, double *frame, double *byte)
{
    double n = SIZES, x = 0, y = 0, xx = 0, xy = 0;
    for (size_t i = 0; i < SIZES; i++) {
        double cost = us[i] > 0 ? us[i] * 1e3 : 0;
        x += bytes[i];
        y += cost;
        xx += bytes[i] * bytes[i];
        xy += bytes[i] * cost;
    }
    double spread = n * xx - x * x;
    *byte = spread > 0 ? (n * xy - x * y) / spread : 0;
    if (*byte < 0) *byte = 0;
    *frame = (y - *byte * x) / n;
    if (*frame >= 0) return;
    *frame = 0;
    *byte = y / x;
}

static double per_pixel(const double *us)
{
    double sum = 0, pixels = 0;
    for (size_t i = 0; i < SIZES; i++) {
        sum += us[i] * 1e3;
        pixels += (double)sizes[i].width * sizes[i].height;
    }
    return us[0] > 0 ? sum / pixels : 0;
}

static bool run_all(results *r, double seconds)
{
    for (size_t i = 0; i < SIZES && !cli_interrupted(); i++) {
        size_row s = sizes[i];
        size_t room = codec_encoded_most(s.width, s.height), size = 0, unused;
        uint8_t *shots = draw(s.width, s.height), *image = malloc(room);
        if (shots == NULL || image == NULL) {
            free(shots);
            free(image);
            cli_error("there is no memory for pictures of %ux%u", s.width, s.height);
            return false;
        }
        r->h264[i] = encode_us(BMB_CODEC_H264, s, shots, seconds, image, room, &unused);
        r->jpeg[i] = encode_us(BMB_CODEC_JPEG, s, shots, seconds, image, room, &size);
        if (r->jpeg[i] > 0) {
            r->bytes[i] = (double)size;
            r->decode[i] = decode_us(s, image, size, seconds);
            for (int w = 0; w < WAYS; w++) r->serve[w][i] = serve_us((way)w, s, image, size, seconds);
        }
        free(shots);
        free(image);
        fprintf(stderr, "%s%ux%u", i > 0 ? ", " : "measured: ", s.width, s.height);
        fflush(stderr);
    }
    fputs("\n", stderr);
    return !cli_interrupted();
}

static void fill_in(const results *r, const char *name, cli_figures *f)
{
    double alone[WAYS][SIZES];
    struct utsname u;
    *f = (cli_figures){ .version = BMB_VERSION, .cores = (int)sysconf(_SC_NPROCESSORS_ONLN) };
    if (name != NULL) {
        snprintf(f->name, sizeof f->name, "%s", name);
    } else if (uname(&u) == 0) {
        snprintf(f->name, sizeof f->name, "%.40s, %d core%s", u.machine, f->cores, f->cores == 1 ? "" : "s");
    }
    f->jpeg_pixel = per_pixel(r->jpeg);
    f->h264_pixel = per_pixel(r->h264);
    f->decode_pixel = per_pixel(r->decode);
    for (int w = 0; w < WAYS; w++) /* taking it over is needed once, whoever watches */
        for (size_t i = 0; i < SIZES; i++)
            alone[w][i] = r->serve[w][i] - (w == WAY_NOBODY ? 0 : r->serve[WAY_NOBODY][i]);
    split(alone[WAY_NOBODY], r->bytes, &f->take_frame, &f->take_byte);
    split(alone[WAY_HTTP], r->bytes, &f->http_frame, &f->http_byte);
    split(alone[WAY_RTP], r->bytes, &f->rtp_frame, &f->rtp_byte);
}

static void row(const char *what, const double *us, double sum, const char *unit)
{
    printf("  %-38s", what);
    for (size_t i = 0; i < SIZES; i++) {
        if (us[i] > 0) {
            printf(" %9.3f", us[i] / 1e3);
        } else {
            printf(" %9s", "-");
        }
    }
    if (us[0] > 0) { /* also where it is too little to tell */
        printf("   %9.2f %s\n", sum, unit);
    } else {
        puts("");
    }
}

static void print_table(const results *r, const cli_figures *f)
{
    printf("%s, bambino %s\n\n  %-38s", f->name, f->version, "ms of one core for a picture of");
    for (size_t i = 0; i < SIZES; i++) printf("  %4ux%-3u", sizes[i].width, sizes[i].height);
    puts("");
    row("encoding JPEG, quality 75", r->jpeg, f->jpeg_pixel, "ns a pixel");
    row("encoding H.264, 2 Mbit/s", r->h264, f->h264_pixel, "ns a pixel");
    row("decoding JPEG", r->decode, f->decode_pixel, "ns a pixel");
    row("taking over from the camera", r->serve[WAY_NOBODY], f->take_byte, "ns a byte");
    row("that, and a viewer of MJPEG over HTTP", r->serve[WAY_HTTP], f->http_byte, "ns a byte");
    row("that, and a viewer by RTP over UDP", r->serve[WAY_RTP], f->rtp_byte, "ns a byte");
    printf("  %-38s", "(JPEG images of KB)");
    for (size_t i = 0; i < SIZES; i++) printf(" %9.1f", r->bytes[i] / 1e3);
    puts("\n\nAt 640x480 and 30/s, of one core:");
    printf("  encoding: JPEG %.1f %%", r->jpeg[1] * 30 / 1e4);
    if (r->h264[1] > 0) printf(", H.264 %.1f %%", r->h264[1] * 30 / 1e4);
    printf("\n  each viewer: %.2f %% over HTTP, %.2f %% over RTP\n",
           (r->serve[WAY_HTTP][1] - r->serve[WAY_NOBODY][1]) * 30 / 1e4,
           (r->serve[WAY_RTP][1] - r->serve[WAY_NOBODY][1]) * 30 / 1e4);
}

/* Before half a minute goes by for nothing. */
static bool may_write(const char *out, bool overwrite)
{
    char folder[1024];
    snprintf(folder, sizeof folder, "%s", out);
    char *slash = strrchr(folder, '/');
    if (slash != NULL) slash[slash == folder ? 1 : 0] = '\0';
    if (access(slash != NULL ? folder : ".", W_OK) != 0) {
        cli_error("%s cannot be written: %s", out, strerror(errno));
        return false;
    }
    if (overwrite || access(out, F_OK) != 0) return true;
    cli_error("%s is there already; --overwrite replaces it", out);
    return false;
}

static int measure(const char *name, const char *out, bool overwrite, bool json, double seconds)
{
    results r = { .bytes = { 0 } };
    cli_figures f;
    if (codec_encoder_for(BMB_CODEC_JPEG) == NULL)
        return cli_error("this build has no encoder for JPEG (BAMBINO_JPEG): there is nothing to send"), EXIT_FAILED;
    if (out != NULL && !may_write(out, overwrite)) return EXIT_FAILED;
    if (!run_all(&r, seconds)) return EXIT_FAILED;
    fill_in(&r, name, &f);
    char *line = cli_figures_text(&f);
    if (line == NULL || r.serve[WAY_HTTP][0] <= 0 || r.serve[WAY_RTP][0] <= 0) {
        free(line);
        return cli_error("nothing arrived over the loopback interface; is it up?"), EXIT_FAILED;
    }
    int status = EXIT_OK;
    if (json) {
        puts(line);
    } else {
        print_table(&r, &f);
    }
    if (out != NULL) {
        char text[2048];
        int size = snprintf(text, sizeof text, "%s\n", line);
        bmb_err err = bmb_linux_write_whole(out, text, (size_t)size, overwrite);
        if (err != BMB_OK) {
            cli_error("%s cannot be written: %s", out, bmb_err_text(err));
            status = EXIT_FAILED;
        } else if (!json) {
            printf("\n%s has the line; `figures = %s` in [device] lets `bambino budget` reckon with it.\n", out, out);
        }
    }
    free(line);
    return status;
}

int cli_measure(int argc, const char **argv)
{
    char *name = NULL, *out = NULL;
    int json = 0, overwrite = 0;
    double seconds = 30;
    const struct poptOption options[] = {
        { "for", '\0', POPT_ARG_DOUBLE, &seconds, 0, "in all; 30 unless it is said", "SECONDS" },
        { "name", '\0', POPT_ARG_STRING, &name, 0, "what the board is called in the line", "TEXT" },
        { "write", '\0', POPT_ARG_STRING, &out, 0, "write the line of figures for the budget", "FILE" },
        { "overwrite", '\0', POPT_ARG_NONE, &overwrite, 0, "replace the file if it is there", NULL },
        { "json", '\0', POPT_ARG_NONE, &json, 0, "print that line instead of the table", NULL },
        POPT_AUTOHELP POPT_TABLEEND
    };
    bool help = false;
    int status;
    if (!cli_options(argc, argv, options, "measure", NULL, 0, &help)) {
        status = help ? EXIT_OK : EXIT_USAGE;
    } else if (!(seconds >= 1 && seconds <= 3600)) {
        status = cli_error("--for takes 1 to 3600 seconds");
    } else {
        cli_catch_signals(NULL);
        status = measure(name, out, overwrite != 0, json != 0, seconds / (SIZES * (3 + WAYS)));
    }
    free(name);
    free(out);
    return status;
}
