/* The configuration file: an INI file, read with inih. One table says which keys there are; it checks the file, fills
 * the structures in, and prints the reference in docs/configuration.md. */
#include <ini.h>
#include <inttypes.h>
#include <stdarg.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

#include "cli.h"

typedef enum key_type {
    KEY_TEXT,
    KEY_NAME,
    KEY_INT,
    KEY_BYTES,
    KEY_RATE,
    KEY_SIZE,
    KEY_ADDR,
    KEY_SECURE,
    KEY_GROUP,
    KEY_HOST,
    KEY_CHOICE,
    KEY_CONTROL
} key_type;
typedef enum section {
    SECTION_DEVICE,
    SECTION_NETWORK,
    SECTION_HTTP,
    SECTION_RTSP,
    SECTION_TLS,
    SECTION_CAMERA,
    SECTION_FEED,
    SECTION_TCP,
    SECTION_PUSH,
    SECTION_COUNT
} section;

static const char *const section_names[SECTION_COUNT] = { "device", "network", "http", "rtsp", "tls",
                                                          "camera", "feed",    "tcp",  "push" };

static const char *const kinds[] = { "drawn", "clip", "device", "program", "input", NULL };
static const char *const views[] = { "station", "yard", "cab", NULL };
static const char *const codecs[] = { "jpeg", "h264", NULL };
static const char *const feed_codecs[] = { "auto", "jpeg", "h264", NULL };
static const char *tcp_formats[BMB_FORMAT_COUNT + 2], *push_formats[BMB_FORMAT_COUNT + 2]; /* filled from the formats */
static const char *const styles[] = { "off", "states", "viewed", "frames", NULL };
static const char *const intake_formats[] = { "auto", "jpeg", "h264", "i420",  "nv12",
                                              "yuyv", "uyvy", "grey", "rgb24", NULL };
static const char *const levels[] = { "error", "warning", "info", "debug", NULL };
static const char *const anybodies[] = { "auto", "nothing", "watch", "adjust", NULL };
static const char *const storages[] = { "auto", "kept", "borrowed", NULL };

typedef struct key_row {
    section section;
    const char *key;
    key_type type;
    size_t at; /* in cli_config, cli_camera or cli_feed; KEY_CONTROL: the bmb_control */
    int64_t least, most;
    const char *const *choices;
    const char *unit, *preset, *help;
} key_row;

#define DEVICE(member) offsetof(cli_config, member)
#define CAMERA(member) offsetof(cli_camera, member)
#define FEED(member) offsetof(cli_feed, member)
#define PLAIN(member) offsetof(cli_plain, member)

static const key_row keys[] = {
    { SECTION_DEVICE, "name", KEY_TEXT, DEVICE(device_name), 1, 63, NULL, "", "bambino",
      "what the page and the status call this device" },
    { SECTION_DEVICE, "viewers", KEY_INT, DEVICE(viewers), 1, 4000, NULL, "", "16",
      "how many may watch at a time; more are refused" },
    { SECTION_DEVICE, "spare", KEY_INT, DEVICE(spare), 1, 64, NULL, "", "8",
      "connections beyond the viewers, for stills, the page and refusals" },
    { SECTION_DEVICE, "events", KEY_INT, DEVICE(events), 0, 4096, NULL, "", "64",
      "how many of the last events are kept, and told at /events; 0: none" },
    { SECTION_DEVICE, "memory", KEY_BYTES, DEVICE(memory), 0, INT32_MAX, NULL, "bytes", "0",
      "refuse to start when more than this is needed; 0: no limit" },
    { SECTION_DEVICE, "request-buffer", KEY_BYTES, DEVICE(request_buffer), 1536, 16384, NULL, "bytes", "3K",
      "memory of each connection for requests and answers" },
    { SECTION_DEVICE, "rtp-packet", KEY_BYTES, DEVICE(rtp_packet), 256, 8900, NULL, "bytes", "1400",
      "largest RTP packet; lower it where a tunnel or radio link cuts packets" },
    { SECTION_DEVICE, "stall-ms", KEY_INT, DEVICE(stall_ms), 100, 600000, NULL, "ms", "5000",
      "a viewer that takes nothing for so long is closed" },
    { SECTION_DEVICE, "request-ms", KEY_INT, DEVICE(request_ms), 100, 600000, NULL, "ms", "10000",
      "a request must be complete within" },
    { SECTION_DEVICE, "idle-ms", KEY_INT, DEVICE(idle_ms), 100, 600000, NULL, "ms", "30000",
      "an unused connection is closed after" },
    { SECTION_DEVICE, "session-ms", KEY_INT, DEVICE(session_ms), 1000, 600000, NULL, "ms", "60000",
      "an RTSP session ends without a sign of life after" },
    { SECTION_DEVICE, "unsent-ms", KEY_INT, DEVICE(unsent_ms), 20, 5000, NULL, "ms", "80",
      "how much of a stream may wait unsent in the system; less is fresher, more is smoother" },
    { SECTION_DEVICE, "board", KEY_TEXT, DEVICE(board), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "simulate this board: a name of `bambino boards`, or a description file beside this one" },
    { SECTION_DEVICE, "wiring", KEY_TEXT, DEVICE(wiring), 1, CLI_TEXT_MAX - 1, NULL, "", "the board's own",
      "wiring of the camera connector" },
    { SECTION_DEVICE, "state", KEY_TEXT, DEVICE(state), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "folder for what is kept over restarts, such as controls that were set; relative to this file" },
    { SECTION_DEVICE, "secrets", KEY_TEXT, DEVICE(secrets), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "file with secrets, readable by its owner only; relative to this file" },
    { SECTION_DEVICE, "users", KEY_TEXT, DEVICE(users), 1, CLI_TEXT_MAX - 1, NULL, "", "`users` in the state folder",
      "file of those who may sign in, which `bambino users` writes; relative to this file" },
    { SECTION_DEVICE, "anybody", KEY_CHOICE, DEVICE(anybody), 0, 0, anybodies, "", "auto",
      "what those may who do not sign in; auto is watch as long as there are no users, and nothing from then on" },
    { SECTION_DEVICE, "names", KEY_TEXT, DEVICE(names), 1, CLI_TEXT_MAX - 1, NULL, "", "the host's own",
      "names by which browsers may call this host, with commas, besides NAME, NAME.local and NAME in the network's "
      "domains; "
      "any: whatever they call it" },
    { SECTION_DEVICE, "origins", KEY_TEXT, DEVICE(origins), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "pages of others that may read what is served here, such as http://club.example, with commas" },
    { SECTION_DEVICE, "embed", KEY_INT, DEVICE(embed), 0, 1, NULL, "0 or 1", "0",
      "pages of others may show pictures of this device, and its page" },
    { SECTION_DEVICE, "host-viewers", KEY_INT, DEVICE(host_viewers), 0, 4000, NULL, "", "three quarters of viewers",
      "how many of the viewers one host may be, so that none keeps all others out; not counted on this machine "
      "itself" },
    { SECTION_DEVICE, "status-light", KEY_CHOICE, DEVICE(light_style), 0, 0, styles, "", "states",
      "dark; patterns for each state; steady while somebody watches; or changing with every frame" },
    { SECTION_DEVICE, "light-file", KEY_TEXT, DEVICE(light_file), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "the status light: a file that takes 1 and 0, such as an LED's brightness below /sys/class/leds" },
    { SECTION_DEVICE, "cpu-percent", KEY_INT, DEVICE(cpu_percent), 1, 100, NULL, "per cent", "80",
      "of the processor that the device may use; the budget warns beyond" },
    { SECTION_DEVICE, "log", KEY_CHOICE, DEVICE(log), 0, 0, levels, "", "info",
      "how much is told on stderr; debug adds what went out each second" },

    { SECTION_NETWORK, "ssid", KEY_TEXT, DEVICE(ssid), 1, 32, NULL, "", "none",
      "SSID of the radio network to join; its passphrase stands in the secrets file" },
    { SECTION_NETWORK, "uplink-kbps", KEY_INT, DEVICE(uplink_kbps), 0, 10000000, NULL, "kbit/s", "0",
      "what the network carries, for the budget; 0: the board's link, or not known" },

    { SECTION_HTTP, "listen", KEY_ADDR, DEVICE(http), 0, 0, NULL, "", "off",
      "ADDRESS:PORT; an empty address means every interface, port 0 any free one" },
    { SECTION_HTTP, "secure", KEY_SECURE, DEVICE(https), 443, 443, NULL, "", "off",
      "HTTPS: ADDRESS:PORT, as above; or yes: every interface, at the usual port 443" },
    { SECTION_HTTP, "plain", KEY_TEXT, DEVICE(http_plain), 1, CLI_TEXT_MAX - 1, NULL, "", "all",
      "what is left without encryption beside HTTPS: all; redirect sends everybody there; off; or the names of feeds, "
      "with commas, the rest being redirected" },
    { SECTION_RTSP, "listen", KEY_ADDR, DEVICE(rtsp), 0, 0, NULL, "", "off", "ADDRESS:PORT, as for http" },
    { SECTION_RTSP, "secure", KEY_SECURE, DEVICE(rtsps), 322, 322, NULL, "", "off",
      "RTSPS: ADDRESS:PORT, as above; or yes: every interface, at the usual port 322. Its RTP goes through the "
      "connection" },
    { SECTION_RTSP, "plain", KEY_TEXT, DEVICE(rtsp_plain), 1, CLI_TEXT_MAX - 1, NULL, "", "all",
      "what is left without encryption beside RTSPS, as for http" },

    { SECTION_TLS, "certificate", KEY_TEXT, DEVICE(certificate), 1, CLI_TEXT_MAX - 1, NULL, "",
      "one of the device's own",
      "your certificate, and those that it was signed by: a PEM file, relative to this file. It is read again when it "
      "changes" },
    { SECTION_TLS, "key", KEY_TEXT, DEVICE(key), 1, CLI_TEXT_MAX - 1, NULL, "", "one of the device's own",
      "its key: a PEM file without a pass phrase; P-256, P-384, or RSA of 2048 bits" },

    { SECTION_CAMERA, "source", KEY_CHOICE, CAMERA(kind), 0, 0, kinds, "", "by the other keys",
      "draw the railway, play a clip, take a camera of this machine, or what a program or an input delivers; where no "
      "key says it and no board is simulated, a camera of this machine" },
    { SECTION_CAMERA, "device", KEY_TEXT, CAMERA(device), 1, CLI_TEXT_MAX - 1, NULL, "", "the first that is there",
      "which camera of this machine: path, bus address, or a part of its name; `bambino cameras` shows all three" },
    { SECTION_CAMERA, "view", KEY_CHOICE, CAMERA(view), 0, 0, views, "", "station", "what a drawn camera sees" },
    { SECTION_CAMERA, "codec", KEY_CHOICE, CAMERA(codec), 0, 0, codecs, "", "jpeg",
      "what a drawn camera encodes, where a feed does not say" },
    { SECTION_CAMERA, "clip", KEY_TEXT, CAMERA(clip), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "file to play, relative to this file" },
    { SECTION_CAMERA, "clip-rate", KEY_RATE, CAMERA(clip_mfps), 100, 240000, NULL, "per second", "15",
      "rate of the clip's pictures" },
    { SECTION_CAMERA, "program", KEY_TEXT, CAMERA(program), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "a command whose standard output are pictures; quotes keep blanks together, no shell reads it" },
    { SECTION_CAMERA, "shell", KEY_INT, CAMERA(shell), 0, 1, NULL, "0 or 1", "0", "program: a shell reads it" },
    { SECTION_CAMERA, "input", KEY_TEXT, CAMERA(input), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "a named pipe, a file, - for standard input, tcp://HOST:PORT to connect to, udp://ADDRESS:PORT to listen at" },
    { SECTION_CAMERA, "format", KEY_CHOICE, CAMERA(format), 0, 0, intake_formats, "", "auto",
      "program, input: what comes; auto looks at its first bytes, raw formats have to be said" },
    { SECTION_CAMERA, "raw-size", KEY_SIZE, CAMERA(raw_width), 16, 8192, NULL, "pixels", "none",
      "program, input: WIDTHxHEIGHT of raw pictures" },
    { SECTION_CAMERA, "input-rate", KEY_RATE, CAMERA(input_mfps), 1000, 240000, NULL, "per second", "15",
      "program, input: how many pictures are expected; a file is played at this rate" },

    { SECTION_FEED, "camera", KEY_NAME, FEED(camera), 1, BMB_NAME_MAX - 1, NULL, "", "the feed's name",
      "which camera it shows; several feeds may show one" },
    { SECTION_FEED, "title", KEY_TEXT, FEED(title), 1, 63, NULL, "", "the feed's name", "what people read" },
    { SECTION_FEED, "preview", KEY_NAME, FEED(preview), 1, BMB_NAME_MAX - 1, NULL, "", "none",
      "JPEG feed that the page shows in place of this one" },
    { SECTION_FEED, "codec", KEY_CHOICE, FEED(codec), 0, 0, feed_codecs, "", "auto",
      "auto is the one that the camera offers first" },
    { SECTION_FEED, "size", KEY_SIZE, FEED(width), 16, 8192, NULL, "pixels", "the camera's first", "WIDTHxHEIGHT" },
    { SECTION_FEED, "rate", KEY_RATE, FEED(mfps), 1000, 240000, NULL, "per second", "15, or the clip's",
      "frames per second" },
    { SECTION_FEED, "quality", KEY_CONTROL, BMB_CONTROL_QUALITY, 1, 100, NULL, "", "75", "JPEG quality" },
    { SECTION_FEED, "kbps", KEY_CONTROL, BMB_CONTROL_KBPS, 1, 1000000, NULL, "kbit/s", "H.264: 2000; JPEG: none",
      "bit rate; a JPEG feed holds it by quality, then by dropping frames" },
    { SECTION_FEED, "quality-least", KEY_INT, FEED(quality_least), 1, 100, NULL, "", "20",
      "JPEG with kbps: quality goes no lower" },
    { SECTION_FEED, "quality-most", KEY_INT, FEED(quality_most), 1, 100, NULL, "", "90",
      "JPEG with kbps: quality goes no higher" },
    { SECTION_FEED, "key-ms", KEY_CONTROL, BMB_CONTROL_KEY_MS, 100, 60000, NULL, "ms", "2000",
      "H.264: time between key frames" },
    { SECTION_FEED, "flip-h", KEY_CONTROL, BMB_CONTROL_FLIP_H, 0, 1, NULL, "0 or 1", "0", "exchange left and right" },
    { SECTION_FEED, "flip-v", KEY_CONTROL, BMB_CONTROL_FLIP_V, 0, 1, NULL, "0 or 1", "0",
      "exchange top and bottom; both: rotation by 180 degrees" },
    { SECTION_FEED, "brightness", KEY_CONTROL, BMB_CONTROL_BRIGHTNESS, -65536, 65536, NULL, "", "0",
      "simulated: -100 to 100, as the three below; else as the driver has them" },
    { SECTION_FEED, "contrast", KEY_CONTROL, BMB_CONTROL_CONTRAST, -65536, 65536, NULL, "", "0", "" },
    { SECTION_FEED, "saturation", KEY_CONTROL, BMB_CONTROL_SATURATION, -65536, 65536, NULL, "", "0", "-100 is grey" },
    { SECTION_FEED, "sharpness", KEY_CONTROL, BMB_CONTROL_SHARPNESS, -65536, 65536, NULL, "", "0", "" },
    { SECTION_FEED, "rotate", KEY_CONTROL, BMB_CONTROL_ROTATE, 0, 180, NULL, "0 or 180", "0", "degrees" },
    { SECTION_FEED, "exposure-us", KEY_CONTROL, BMB_CONTROL_EXPOSURE_US, 0, 1000000, NULL, "us", "0",
      "exposure time; 0: automatic" },
    { SECTION_FEED, "gain", KEY_CONTROL, BMB_CONTROL_GAIN, 0, 65536, NULL, "per cent", "100",
      "of the sensor's least; counts with a fixed exposure time" },
    { SECTION_FEED, "white-k", KEY_CONTROL, BMB_CONTROL_WHITE_K, 0, 10000, NULL, "K", "0",
      "colour temperature of the light (V4L2: white balance temperature); 0: automatic" },
    { SECTION_FEED, "flicker", KEY_CONTROL, BMB_CONTROL_FLICKER, 0, 60, NULL, "Hz: 0, 50 or 60", "50",
      "mains whose flicker is filtered (V4L2: power line frequency)" },
    { SECTION_FEED, "night", KEY_CONTROL, BMB_CONTROL_NIGHT, 0, 1, NULL, "0 or 1", "0",
      "grey and bright, for infrared light" },
    { SECTION_FEED, "illumination", KEY_CONTROL, BMB_CONTROL_ILLUMINATION, 0, 100, NULL, "per cent", "0",
      "light of the camera's own" },
    { SECTION_FEED, "focus", KEY_CONTROL, BMB_CONTROL_FOCUS, 0, 65536, NULL, "", "0",
      "0: automatic; else the driver's unit" },
    { SECTION_FEED, "zoom", KEY_CONTROL, BMB_CONTROL_ZOOM, -65536, 65536, NULL, "", "the driver's",
      "the driver's unit" },
    { SECTION_FEED, "pan", KEY_CONTROL, BMB_CONTROL_PAN, -1000000, 1000000, NULL, "", "the driver's", "likewise" },
    { SECTION_FEED, "tilt", KEY_CONTROL, BMB_CONTROL_TILT, -1000000, 1000000, NULL, "", "the driver's", "likewise" },
    { SECTION_FEED, "hue", KEY_CONTROL, BMB_CONTROL_HUE, -65536, 65536, NULL, "", "the driver's", "likewise" },
    { SECTION_FEED, "gamma", KEY_CONTROL, BMB_CONTROL_GAMMA, 0, 65536, NULL, "", "the driver's", "likewise" },
    { SECTION_FEED, "backlight", KEY_CONTROL, BMB_CONTROL_BACKLIGHT, 0, 65536, NULL, "", "the driver's",
      "brightens what stands before a bright background" },
    { SECTION_FEED, "profile", KEY_CONTROL, BMB_CONTROL_PROFILE, 66, 100, NULL, "66, 77 or 100", "the driver's",
      "H.264 that the camera encodes itself: baseline, main or high" },
    { SECTION_FEED, "storage", KEY_CHOICE, FEED(storage), 0, 0, storages, "", "auto",
      "copy frames into the reel, or leave them in the driver's buffers; auto leaves JPEG of this machine's cameras "
      "there" },
    { SECTION_FEED, "frame-max", KEY_BYTES, FEED(frame_max), 256, INT32_MAX, NULL, "bytes", "width*height/4 + 16K",
      "larger frames are dropped" },
    { SECTION_FEED, "reel", KEY_BYTES, FEED(reel), 256, INT32_MAX, NULL, "bytes", "8 * frame-max",
      "frame memory: the newest, the next, and one for each slow viewer" },
    { SECTION_FEED, "multicast", KEY_GROUP, FEED(multicast), 0, 0, NULL, "", "off",
      "auto, or GROUP:PORT for RTP in 224.0.0.0/4 or ff00::/8; the port is even" },
    { SECTION_FEED, "multicast-ttl", KEY_INT, FEED(multicast_ttl), 1, 255, NULL, "hops", "1",
      "how many routers a multicast packet may pass" },
    { SECTION_FEED, "multicast-always", KEY_INT, FEED(multicast_always), 0, 1, NULL, "0 or 1", "0",
      "send to the group even when no RTSP session asks for it" },
    { SECTION_FEED, "multicast-open", KEY_INT, FEED(multicast_open), 0, 1, NULL, "0 or 1", "0",
      "send to the group although not everybody may watch the feed: whoever is in the network can" },
    { SECTION_FEED, "open", KEY_INT, FEED(open), 0, 1, NULL, "0 or 1", "0",
      "everybody may watch this one, whoever may watch the others" },

    { SECTION_TCP, "listen", KEY_ADDR, PLAIN(listen), 0, 0, NULL, "", "off", "ADDRESS:PORT, as for http" },
    { SECTION_TCP, "feed", KEY_NAME, PLAIN(feed), 1, BMB_NAME_MAX - 1, NULL, "", "the section's name; framed: all",
      "which feed whoever connects gets" },
    { SECTION_TCP, "format", KEY_CHOICE, PLAIN(format), 0, 0, tcp_formats, "", "auto",
      "auto is raw: Annex B for H.264, images one behind the other for JPEG" },
    { SECTION_TCP, "keep-all", KEY_INT, PLAIN(keep_all), 0, 1, NULL, "0 or 1", "0",
      "for recorders: every frame as long as the reel has it, instead of the newest" },
    { SECTION_TCP, "controls", KEY_INT, PLAIN(controls), 0, 1, NULL, "0 or 1", "1",
      "framed: peers who may adjust may set the camera's controls" },
    { SECTION_TCP, "secure", KEY_INT, PLAIN(secure), 0, 1, NULL, "0 or 1", "0", "encrypted, with TLS" },
    { SECTION_TCP, "hosts", KEY_TEXT, PLAIN(hosts), 1, CLI_TEXT_MAX - 1, NULL, "", "this machine",
      "not framed: addresses that get a feed which not everybody may watch, with commas; others say `token TEXT` "
      "first" },

    { SECTION_PUSH, "to", KEY_TEXT, PLAIN(to), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "udp://HOST:PORT, tcp://HOST:PORT or, encrypted, tls://HOST:PORT; UDP also a multicast group or a broadcast "
      "address" },
    { SECTION_PUSH, "feed", KEY_NAME, PLAIN(feed), 1, BMB_NAME_MAX - 1, NULL, "", "the section's name",
      "which feed is sent" },
    { SECTION_PUSH, "format", KEY_CHOICE, PLAIN(format), 0, 0, push_formats, "", "auto",
      "auto: over UDP ts for H.264 and rtp for JPEG; over TCP ts for H.264 and raw for JPEG" },
    { SECTION_PUSH, "fingerprint", KEY_TEXT, PLAIN(pin), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "tls: SHA-256 of the receiver's certificate, 64 hexadecimal digits, with or without colons; any: whoever answers "
      "there, so that somebody may stand in its place" },
    { SECTION_PUSH, "ttl", KEY_INT, PLAIN(ttl), 1, 255, NULL, "hops", "1",
      "how many routers a multicast packet may pass" },
    { SECTION_PUSH, "interface", KEY_HOST, PLAIN(interface), 0, 0, NULL, "", "the system's choice",
      "IPv4 address of the interface that multicast leaves by" },
    { SECTION_PUSH, "keep-all", KEY_INT, PLAIN(keep_all), 0, 1, NULL, "0 or 1", "0", "as for tcp" },
    { SECTION_PUSH, "controls", KEY_INT, PLAIN(controls), 0, 1, NULL, "0 or 1", "1", "as for tcp" },
    { SECTION_PUSH, "sdp", KEY_TEXT, PLAIN(sdp), 1, CLI_TEXT_MAX - 1, NULL, "", "none",
      "rtp: write the description that the receiver needs into this file" },
};
#define KEY_COUNT (sizeof keys / sizeof keys[0])

typedef struct reading {
    cli_config *out;
    FILE *file;
    int line;
    section section;
    char section_text[64];
    cli_camera *camera;
    cli_feed *feed;
    cli_plain *plain;
    bool section_known, failed;
} reading;

static int complain(reading *r, const char *fmt, ...) __attribute__((format(printf, 2, 3)));

static int complain(reading *r, const char *fmt, ...)
{
    if (r->failed) return 0;
    r->failed = true;
    va_list args;
    va_start(args, fmt);
    fprintf(stderr, "bambino: %s:%d: ", r->out->path, r->line);
    vfprintf(stderr, fmt, args);
    fputc('\n', stderr);
    va_end(args);
    return 0;
}

static unsigned distance(const char *a, const char *b)
{
    unsigned row[40];
    size_t n = strlen(b);
    if (n >= sizeof row / sizeof row[0] || strlen(a) > 40) return 99;
    for (size_t k = 0; k <= n; k++) row[k] = (unsigned)k;
    for (size_t i = 0; a[i] != '\0'; i++) {
        unsigned diagonal = row[0];
        row[0] = (unsigned)i + 1;
        for (size_t k = 0; k < n; k++) {
            unsigned change = diagonal + (a[i] != b[k]);
            diagonal = row[k + 1];
            unsigned least = change < row[k] + 1 ? change : row[k] + 1;
            row[k + 1] = least < diagonal + 1 ? least : diagonal + 1;
        }
    }
    return row[n];
}

const char *cli_nearest(const char *text, const char *const *names, size_t count)
{
    const char *best = NULL;
    unsigned best_distance = (unsigned)strlen(text) / 2 + 1;
    for (size_t i = 0; i < count; i++) {
        unsigned d = distance(text, names[i]);
        if (d >= best_distance) continue;
        best = names[i];
        best_distance = d;
    }
    return best;
}

static bool is_name(const char *text)
{
    size_t n = strspn(text, "abcdefghijklmnopqrstuvwxyz0123456789-_");
    return n > 0 && text[n] == '\0' && n < BMB_NAME_MAX;
}

static void new_feed(reading *r, const char *name)
{
    cli_feed *f = &r->out->feeds[r->out->feed_count++];
    memset(f, 0, sizeof *f);
    snprintf(f->name, sizeof f->name, "%s", name);
    snprintf(f->camera, sizeof f->camera, "%s", name);
    snprintf(f->title, sizeof f->title, "%s", name);
    f->multicast_ttl = 1;
    f->line = r->line;
    r->feed = f;
}

static void new_camera(reading *r, const char *name)
{
    cli_camera *c = &r->out->cameras[r->out->camera_count++];
    memset(c, 0, sizeof *c);
    snprintf(c->name, sizeof c->name, "%s", name);
    c->clip_mfps = 15000;
    c->kind = CLI_UNSAID;
    c->input_mfps = 15000;
    c->view = CLI_VIEW_UNSAID;
    c->line = r->line;
    r->camera = c;
}

/* The names and lines of the sections of one kind. */
typedef struct named_kind {
    section section;
    const void *first;
    size_t size, count, most, line_at;
} named_kind;

static named_kind kind_of(const reading *r)
{
    const cli_config *c = r->out;
    switch (r->section) {
    case SECTION_FEED:
        return (named_kind){ r->section, c->feeds, sizeof *c->feeds, c->feed_count, CLI_FEEDS_MOST, FEED(line) };
    case SECTION_TCP:
        return (named_kind){ r->section, c->tcp, sizeof *c->tcp, c->tcp_count, CLI_TCP_MOST, PLAIN(line) };
    case SECTION_PUSH:
        return (named_kind){ r->section, c->pushes, sizeof *c->pushes, c->push_count, CLI_PUSHES_MOST, PLAIN(line) };
    default:
        return (
            named_kind){ r->section, c->cameras, sizeof *c->cameras, c->camera_count, CLI_CAMERAS_MOST, CAMERA(line) };
    }
}

static void new_plain(reading *r, const char *name)
{
    bool tcp = r->section == SECTION_TCP;
    cli_plain *p = tcp ? &r->out->tcp[r->out->tcp_count++] : &r->out->pushes[r->out->push_count++];
    memset(p, 0, sizeof *p);
    snprintf(p->name, sizeof p->name, "%s", name);
    p->ttl = 1;
    p->controls = 1;
    p->line = r->line;
    r->plain = p;
}

static int begin_named(reading *r, const char *name)
{
    const named_kind kind = kind_of(r);
    const char *section_name = section_names[r->section];
    if (!is_name(name))
        return complain(r, "\"%s\": a %s needs a name of 1 to %d of a-z 0-9 - _, as in [%s yard]", name,
                        section_names[r->section], BMB_NAME_MAX - 1, section_names[r->section]);
    for (size_t i = 0; i < kind.count; i++) { /* every such structure begins with its name */
        const char *there = (const char *)kind.first + i * kind.size;
        int line = *(const int *)(const void *)(there + kind.line_at);
        if (strcmp(there, name) == 0)
            return complain(r, "[%s %s] is there already, in line %d; rename one", section_name, name, line);
    }
    if (kind.count == kind.most) return complain(r, "more than %zu sections [%s]", kind.most, section_name);
    if (r->section == SECTION_FEED) {
        new_feed(r, name);
    } else if (r->section == SECTION_CAMERA) {
        new_camera(r, name);
    } else {
        new_plain(r, name);
    }
    return 1;
}

static int begin_section(reading *r, const char *text)
{
    char kind[64];
    snprintf(r->section_text, sizeof r->section_text, "%s", text);
    snprintf(kind, sizeof kind, "%s", text);
    char *name = strchr(kind, ' ');
    if (name != NULL) *name++ = '\0';
    r->section_known = false;
    for (size_t i = 0; i < SECTION_COUNT; i++) {
        if (strcmp(kind, section_names[i]) != 0) continue;
        r->section = (section)i;
        r->section_known = true;
        if (i >= SECTION_CAMERA) return begin_named(r, name != NULL ? name : "");
        if (name != NULL) return complain(r, "[%s] takes no name", kind);
        return 1;
    }
    const char *near = cli_nearest(kind, section_names, SECTION_COUNT);
    return complain(r, "section [%s] is not known%s%s%s", text, near != NULL ? "; did you mean [" : "",
                    near != NULL ? near : "",
                    near != NULL ? "]?" : "; there are device, network, http, rtsp, camera, feed, tcp and push");
}

/* inih tells neither line numbers nor empty sections: it is fed line by line, and both are noted on the way. */
static char *next_line(char *out, int room, void *stream)
{
    reading *r = (reading *)stream;
    char *line = fgets(out, room, r->file);
    if (line == NULL) return NULL;
    r->line++;
    if (strchr(line, '\n') == NULL && !feof(r->file)) complain(r, "the line is longer than %d characters", room - 2);
    const char *at = line + strspn(line, " \t");
    const char *end = at[0] == '[' ? strchr(at, ']') : NULL;
    if (end != NULL && end - at < 63) {
        char text[64];
        snprintf(text, sizeof text, "%.*s", (int)(end - at - 1), at + 1);
        begin_section(r, text);
    }
    return line;
}

static bool read_number(const char *text, double *out, const char **rest)
{
    char *end;
    *out = strtod(text, &end);
    *rest = end;
    return end != text && *out > -1e12 && *out < 1e12;
}

static int out_of_range(reading *r, const key_row *k, const char *value)
{
    double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
    return complain(r, "%s = %s: use %g to %g%s%s", k->key, value, (double)k->least / scale, (double)k->most / scale,
                    k->unit[0] != '\0' ? " " : "", k->unit);
}

static int store_number(reading *r, const key_row *k, const char *value, uint8_t *target)
{
    double v;
    const char *rest;
    if (!read_number(value, &v, &rest)) return complain(r, "%s = %s: a number is expected", k->key, value);
    if (k->type == KEY_BYTES && (rest[0] == 'K' || rest[0] == 'M')) v *= *rest++ == 'K' ? 1024 : 1048576;
    if (k->type == KEY_RATE) v *= 1000;
    bool whole = k->type == KEY_RATE || v == (double)(int64_t)v;
    if (rest[0] != '\0' || !whole)
        return complain(r, "%s = %s: a %s is expected%s", k->key, value,
                        k->type == KEY_RATE ? "number such as 15 or 7.5" : "whole number",
                        k->type == KEY_BYTES ? ", with K or M for 1024 or 1048576 bytes if you like" : "");
    if (v < (double)k->least || v > (double)k->most) return out_of_range(r, k, value);
    if (k->type == KEY_RATE) {
        *(uint32_t *)(void *)target = (uint32_t)(v + 0.5);
    } else {
        *(int64_t *)(void *)target = (int64_t)v;
    }
    return 1;
}

static int store_choice(reading *r, const key_row *k, const char *value, int *target)
{
    size_t n = 0;
    char list[128] = "";
    for (; k->choices[n] != NULL; n++) {
        if (strcmp(value, k->choices[n]) == 0) {
            *target = (int)n;
            return 1;
        }
        size_t at = strlen(list);
        snprintf(list + at, sizeof list - at, "%s%s", n > 0 ? ", " : "", k->choices[n]);
    }
    const char *near = cli_nearest(value, k->choices, n);
    if (near != NULL) return complain(r, "%s = %s: did you mean %s? (one of %s)", k->key, value, near, list);
    return complain(r, "%s = %s: use one of %s", k->key, value, list);
}

static int store_size(reading *r, const key_row *k, const char *value, uint16_t *target)
{
    unsigned w, h;
    char cross, extra;
    if (sscanf(value, "%5u%c%5u%c", &w, &cross, &h, &extra) != 3 || cross != 'x')
        return complain(r, "%s = %s: WIDTHxHEIGHT is expected, such as 640x480", k->key, value);
    if (w < k->least || w > k->most || h < k->least || h > k->most) return out_of_range(r, k, value);
    target[0] = (uint16_t)w;
    target[1] = (uint16_t)h;
    return 1;
}

static int store_host(reading *r, const key_row *k, const char *value, bmb_addr *target)
{
    char text[CLI_TEXT_MAX];
    snprintf(text, sizeof text, "%s:0", value);
    if (bmb_addr_parse(text, target) == BMB_OK && target->family == 4) return 1;
    return complain(r, "%s = %s: the IPv4 address of an interface is expected, such as 192.0.2.7", k->key, value);
}

/* The port goes without saying. */
static int store_secure(reading *r, const key_row *k, const char *value, bmb_addr *target)
{
    char usual[16];
    snprintf(usual, sizeof usual, ":%u", (unsigned)k->least);
    if (bmb_addr_parse(strcmp(value, "yes") == 0 ? usual : value, target) == BMB_OK) return 1;
    return complain(r, "%s = %s: yes is expected, or ADDRESS:PORT such as :%u", k->key, value, (unsigned)k->least);
}

static int store(reading *r, const key_row *k, const char *value)
{
    uint8_t *base = k->section == SECTION_CAMERA                              ? (uint8_t *)r->camera
                    : k->section == SECTION_FEED                              ? (uint8_t *)r->feed
                    : k->section == SECTION_TCP || k->section == SECTION_PUSH ? (uint8_t *)r->plain
                                                                              : (uint8_t *)r->out;
    uint8_t *target = base + k->at;
    switch (k->type) {
    case KEY_TEXT:
        if ((int64_t)strlen(value) < k->least || (int64_t)strlen(value) > k->most)
            return complain(r, "%s: use %" PRId64 " to %" PRId64 " characters", k->key, k->least, k->most);
        memcpy(target, value, strlen(value) + 1);
        return 1;
    case KEY_NAME:
        if (!is_name(value)) return complain(r, "%s = %s: use 1 to %d of a-z 0-9 - _", k->key, value, BMB_NAME_MAX - 1);
        memcpy(target, value, strlen(value) + 1);
        return 1;
    case KEY_GROUP:
        r->feed->multicast_auto = strcmp(value, "auto") == 0;
        if (r->feed->multicast_auto) return 1;
        if (bmb_addr_parse(value, (bmb_addr *)(void *)target) == BMB_OK) return 1;
        return complain(r, "%s = %s: auto is expected, or GROUP:PORT such as 239.255.42.1:5004", k->key, value);
    case KEY_ADDR:
        if (bmb_addr_parse(value, (bmb_addr *)(void *)target) == BMB_OK) return 1;
        return complain(r, "%s = %s: ADDRESS:PORT is expected, such as 192.0.2.7:8080, [2001:db8::7]:8080 or :8080",
                        k->key, value);
    case KEY_SECURE:
        return store_secure(r, k, value, (bmb_addr *)(void *)target);
    case KEY_HOST:
        return store_host(r, k, value, (bmb_addr *)(void *)target);
    case KEY_CHOICE:
        return store_choice(r, k, value, (int *)(void *)target);
    case KEY_SIZE:
        return store_size(r, k, value, (uint16_t *)(void *)target);
    case KEY_CONTROL:
        r->feed->control_set[k->at] = true;
        return store_number(r, k, value, (uint8_t *)&r->feed->control[k->at]);
    case KEY_INT:
    case KEY_BYTES:
    case KEY_RATE:
        break;
    }
    return store_number(r, k, value, target);
}

static int on_pair(void *user, const char *section_text, const char *key, const char *value)
{
    reading *r = (reading *)user;
    if (r->failed) return 0;
    if (section_text[0] == '\0') return complain(r, "%s stands before any section; begin with [device]", key);
    if (!r->section_known) return 0;
    const char *names[KEY_COUNT];
    size_t count = 0;
    for (size_t i = 0; i < KEY_COUNT; i++) {
        if (keys[i].section != r->section) continue;
        if (strcmp(keys[i].key, key) == 0) return store(r, &keys[i], value);
        names[count++] = keys[i].key;
    }
    const char *near = cli_nearest(key, names, count);
    if (near != NULL)
        return complain(r, "[%s] has no key \"%s\"; did you mean %s?", section_names[r->section], key, near);
    return complain(r, "[%s] has no key \"%s\"; docs/configuration.md lists them", section_names[r->section], key);
}

static void presets(cli_config *c, const char *path)
{
    bmb_config p;
    bmb_config_init(&p);
    memset(c, 0, sizeof *c);
    snprintf(c->path, sizeof c->path, "%s", path);
    snprintf(c->device_name, sizeof c->device_name, "%s", p.name);
    c->viewers = p.viewers;
    c->spare = p.spare;
    c->events = 64;
    c->request_buffer = p.request_buffer;
    c->rtp_packet = p.rtp_packet;
    c->stall_ms = p.stall_ms;
    c->request_ms = p.request_ms;
    c->idle_ms = p.idle_ms;
    c->session_ms = p.session_ms;
    c->unsent_ms = p.unsent_ms;
    c->log = BMB_LEVEL_INFO;
    c->light_style = BMB_LIGHT_STATES;
    c->cpu_percent = 80;
}

bool cli_config_read(const char *path, cli_config *out)
{
    FILE *file = fopen(path, "r");
    if (file != NULL) return cli_config_parse(file, path, out);
    cli_error("%s: the configuration cannot be read; check the path, or try `bambino demo`", path);
    return false;
}

/* A camera that does not say what it is, says so by its other keys. */
static void settle_sources(cli_config *c)
{
    for (size_t i = 0; i < c->camera_count; i++) {
        cli_camera *cam = &c->cameras[i];
        bool drawn = cam->view != CLI_VIEW_UNSAID || c->board[0] != '\0';
        cam->unsaid = cam->kind == CLI_UNSAID && cam->device[0] == '\0';
        if (cam->kind == CLI_UNSAID)
            cam->kind = cam->program[0] != '\0'           ? CLI_PROGRAM
                        : cam->input[0] != '\0'           ? CLI_INPUT
                        : cam->clip[0] != '\0'            ? CLI_CLIP
                        : cam->device[0] == '\0' && drawn ? CLI_DRAWN
                                                          : CLI_DEVICE;
        if (cam->view == CLI_VIEW_UNSAID) cam->view = BMB_VIEW_STATION;
    }
}

bool cli_config_parse(FILE *file, const char *path, cli_config *out)
{
    (void)cli_format_names(false);
    (void)cli_format_names(true);
    presets(out, path);
    reading r = { .out = out, .file = file };
    int bad_line = ini_parse_stream(next_line, &r, on_pair, &r);
    fclose(r.file);
    if (bad_line > 0 && !r.failed) {
        r.line = bad_line;
        complain(&r, "neither a [section] nor KEY = VALUE");
    }
    settle_sources(out);
    if (!r.failed && out->feed_count == 0) complain(&r, "no feed; add a section such as [feed yard]");
    if (!r.failed && out->http.family == 0 && out->rtsp.family == 0 && out->tcp_count + out->push_count == 0)
        complain(&r, "nothing to serve with; add [http] with listen = :8080");
    return !r.failed;
}

void cli_config_reference(FILE *out)
{
    (void)cli_format_names(false);
    (void)cli_format_names(true);
    static const char *const titles[SECTION_COUNT] = { "[device]",    "[network]",  "[http]",
                                                       "[rtsp]",      "[tls]",      "[camera NAME]",
                                                       "[feed NAME]", "[tcp NAME]", "[push NAME]" };
    for (size_t s = 0; s < SECTION_COUNT; s++) {
        fprintf(out, "### `%s`\n\n| key | values | unit | preset | meaning |\n| --- | --- | --- | --- | --- |\n",
                titles[s]);
        for (size_t i = 0; i < KEY_COUNT; i++) {
            const key_row *k = &keys[i];
            if (k->section != (section)s) continue;
            fprintf(out, "| `%s` | ", k->key);
            double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
            bool number = k->type != KEY_TEXT && k->type != KEY_NAME && k->type != KEY_ADDR && k->type != KEY_SECURE &&
                          k->type != KEY_GROUP && k->type != KEY_HOST && k->type != KEY_CHOICE;
            if (number) fprintf(out, "%.10g to %.10g", (double)k->least / scale, (double)k->most / scale);
            for (size_t c = 0; k->choices != NULL && k->choices[c] != NULL; c++)
                fprintf(out, "%s`%s`", c > 0 ? ", " : "", k->choices[c]);
            if (k->type == KEY_TEXT || k->type == KEY_NAME) fprintf(out, "text");
            if (k->type == KEY_ADDR || k->type == KEY_GROUP || k->type == KEY_HOST) fprintf(out, "address");
            if (k->type == KEY_SECURE) fprintf(out, "`yes`, address");
            fprintf(out, " | %s | %s | %s |\n", k->unit, k->preset, k->help);
        }
        fputc('\n', out);
    }
}

const char *const *cli_format_names(bool push)
{
    const char **list = push ? push_formats : tcp_formats;
    const bmb_format_info *f;
    size_t n = 0;
    list[n++] = "auto";
    for (int id = 0; id < BMB_FORMAT_COUNT; id++)
        for (size_t i = 0; (f = bmb_format_at(i)) != NULL; i++)
            if (strcmp(f->name, bmb_stream_format_name((bmb_stream_format)id)) == 0 && (f->tcp || (push && f->udp)))
                list[n++] = f->name;
    list[n] = NULL;
    return list;
}

bmb_stream_format cli_format_chosen(bool push, int chosen)
{
    const char *name = cli_format_names(push)[chosen];
    int id = 0;
    while (strcmp(bmb_stream_format_name((bmb_stream_format)id), name) != 0) id++;
    return (bmb_stream_format)id;
}
