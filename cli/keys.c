/* The table of keys, and what can be said of each. */
#include "keys.h"

#include <inttypes.h>
#include <stddef.h>
#include <string.h>

const char *const cli_section_names[SECTION_COUNT] = { "device", "network", "http", "rtsp", "tls",
                                                       "camera", "feed",    "tcp",  "push" };

static const char *const kinds[] = { "drawn", "clip", "device", "program", "input", NULL };
static const char *const views[] = { "station", "yard", "cab", NULL };
static const char *const codecs[] = { "jpeg", "h264", NULL };
static const char *const feed_codecs[] = { "auto", "jpeg", "h264", NULL };
static const char *tcp_formats[BMB_FORMAT_COUNT + 2], *push_formats[BMB_FORMAT_COUNT + 2]; /* filled from the formats */
static const char *const styles[] = { "off", "states", "viewed", "frames", NULL };
static const char *const intake_formats[] = { "auto", "jpeg", "h264", "i420",  "nv12",
                                              "yuyv", "uyvy", "grey", "rgb24", NULL };
static const char *const follows[] = { "nobody", "median", "slowest", NULL };
static const char *const levels[] = { "error", "warning", "info", "debug", NULL };
static const char *const anybodies[] = { "auto", "nothing", "watch", "adjust", NULL };
static const char *const storages[] = { "auto", "kept", "borrowed", NULL };

#define DEVICE(member) offsetof(cli_config, member)
#define CAMERA(member) offsetof(cli_camera, member)
#define FEED(member) offsetof(cli_feed, member)
#define PLAIN(member) offsetof(cli_plain, member)

#define SAYS(unit, preset, help) unit "\0" preset "\0" help

static const key_row keys[] = {
    { SECTION_DEVICE, "name", KEY_TEXT, DEVICE(device_name), 1, 63, NULL,
      SAYS("", "bambino", "what the page and the status call this device") },
    { SECTION_DEVICE, "viewers", KEY_INT, DEVICE(viewers), 1, 4000, NULL,
      SAYS("", "16", "how many may watch at a time; more are refused") },
    { SECTION_DEVICE, "spare", KEY_INT, DEVICE(spare), 1, 64, NULL,
      SAYS("", "8", "connections beyond the viewers, for stills, the page and refusals") },
    { SECTION_DEVICE, "events", KEY_INT, DEVICE(events), 0, 4096, NULL,
      SAYS("", "64", "how many of the last events are kept, and told at /events; 0: none") },
    { SECTION_DEVICE, "memory", KEY_BYTES, DEVICE(memory), 0, INT32_MAX, NULL,
      SAYS("bytes", "0", "refuse to start when more than this is needed; 0: no limit") },
    { SECTION_DEVICE, "reserve", KEY_BYTES, DEVICE(reserve), 0, INT32_MAX, NULL,
      SAYS("bytes", "8M, on a simulated board 0", "frame memory for feeds that come, or grow, while it runs") },
    { SECTION_DEVICE, "request-buffer", KEY_BYTES, DEVICE(request_buffer), 1536, 16384, NULL,
      SAYS("bytes", "3K", "memory of each connection for requests and answers") },
    { SECTION_DEVICE, "rtp-packet", KEY_BYTES, DEVICE(rtp_packet), 256, 8900, NULL,
      SAYS("bytes", "1400", "largest RTP packet; lower it where a tunnel or radio link cuts packets") },
    { SECTION_DEVICE, "stall-ms", KEY_INT, DEVICE(stall_ms), 100, 600000, NULL,
      SAYS("ms", "10000", "a viewer that takes nothing for so long is closed") },
    { SECTION_DEVICE, "request-ms", KEY_INT, DEVICE(request_ms), 100, 600000, NULL,
      SAYS("ms", "10000", "a request must be complete within") },
    { SECTION_DEVICE, "idle-ms", KEY_INT, DEVICE(idle_ms), 100, 600000, NULL,
      SAYS("ms", "30000", "an unused connection is closed after") },
    { SECTION_DEVICE, "session-ms", KEY_INT, DEVICE(session_ms), 1000, 600000, NULL,
      SAYS("ms", "60000", "an RTSP session ends without a sign of life after") },
    { SECTION_DEVICE, "unsent-ms", KEY_INT, DEVICE(unsent_ms), 20, 5000, NULL,
      SAYS("ms", "80", "how much of a stream may wait unsent in the system; less is fresher, more is smoother") },
    { SECTION_DEVICE, "board", KEY_TEXT, DEVICE(board), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none", "simulate this board: a name of `bambino boards`, or a description file beside this one") },
    { SECTION_DEVICE, "wiring", KEY_TEXT, DEVICE(wiring), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "the board's own", "wiring of the camera connector") },
    { SECTION_DEVICE, "state", KEY_TEXT, DEVICE(state), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "folder for what is kept over restarts, such as controls that were set; relative to this file") },
    { SECTION_DEVICE, "secrets", KEY_TEXT, DEVICE(secrets), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none", "file with secrets, readable by its owner only; relative to this file") },
    { SECTION_DEVICE, "pages", KEY_TEXT, DEVICE(pages), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "folder of your own pages, served beside the built-in one; an index.html there takes its place. Relative to "
           "this "
           "file") },
    { SECTION_DEVICE, "users", KEY_TEXT, DEVICE(users), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "`users` in the state folder",
           "file of those who may sign in, which `bambino users` writes; relative to this file") },
    { SECTION_DEVICE, "anybody", KEY_CHOICE, DEVICE(anybody), 0, 0, anybodies,
      SAYS(
          "", "auto",
          "what those may who do not sign in; auto is watch as long as there are no users, and nothing from then on") },
    { SECTION_DEVICE, "names", KEY_TEXT, DEVICE(names), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS(
          "", "the host's own",
          "names by which browsers may call this host, with commas, besides NAME, NAME.local and NAME in the network's "
          "domains; "
          "any: whatever they call it") },
    { SECTION_DEVICE, "origins", KEY_TEXT, DEVICE(origins), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none", "pages of others that may read what is served here, such as http://club.example, with commas") },
    { SECTION_DEVICE, "embed", KEY_INT, DEVICE(embed), 0, 1, NULL,
      SAYS("0 or 1", "0", "pages of others may show pictures of this device, and its page") },
    { SECTION_DEVICE, "host-viewers", KEY_INT, DEVICE(host_viewers), 0, 4000, NULL,
      SAYS("", "three quarters of viewers",
           "how many of the viewers one host may be, so that none keeps all others out; not counted on this machine "
           "itself") },
    { SECTION_DEVICE, "status-light", KEY_CHOICE, DEVICE(light_style), 0, 0, styles,
      SAYS("", "states",
           "dark; patterns for each state; steady while somebody watches; or changing with every frame") },
    { SECTION_DEVICE, "light-file", KEY_TEXT, DEVICE(light_file), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "the status light: a file that takes 1 and 0, such as an LED's brightness below /sys/class/leds") },
    { SECTION_DEVICE, "cpu-percent", KEY_INT, DEVICE(cpu_percent), 1, 100, NULL,
      SAYS("per cent", "80", "of the processor that the device may use; the budget warns beyond") },
    { SECTION_DEVICE, "figures", KEY_TEXT, DEVICE(figures), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "file with what `bambino measure --write` measured on the board, for the budget; relative to this file") },
    { SECTION_DEVICE, "log", KEY_CHOICE, DEVICE(log), 0, 0, levels,
      SAYS("", "info", "how much is told on stderr; debug adds what went out each second") },

    { SECTION_NETWORK, "ssid", KEY_TEXT, DEVICE(ssid), 1, 32, NULL,
      SAYS("", "none", "SSID of the radio network to join; its passphrase stands in the secrets file") },
    { SECTION_NETWORK, "uplink-kbps", KEY_INT, DEVICE(uplink_kbps), 0, 10000000, NULL,
      SAYS("kbit/s", "0",
           "what all viewers and pushes may take together: shared evenly, and who would leave too little for all is "
           "refused; "
           "0: no bound. The budget reckons with it, or with the board's link") },
    { SECTION_NETWORK, "announce", KEY_INT, DEVICE(announce), 0, 1, NULL,
      SAYS("0 or 1", "0",
           "tell the network by DNS-SD what is served, so that players and browsers list it; the Avahi daemon does "
           "it") },

    { SECTION_HTTP, "listen", KEY_ADDR, DEVICE(http), 0, 0, NULL,
      SAYS("", "off",
           "ADDRESS:PORT; an empty address means every interface, of IPv4 and IPv6, port 0 any free one; 0.0.0.0 is "
           "IPv4 "
           "alone") },
    { SECTION_HTTP, "secure", KEY_SECURE, DEVICE(https), 443, 443, NULL,
      SAYS("", "off", "HTTPS: ADDRESS:PORT, as above; or yes: every interface, at the usual port 443") },
    { SECTION_HTTP, "plain", KEY_TEXT, DEVICE(http_plain), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "all",
           "what is left without encryption beside HTTPS: all; redirect sends everybody there; off; or the names of "
           "feeds, "
           "with commas, the rest being redirected") },
    { SECTION_RTSP, "listen", KEY_ADDR, DEVICE(rtsp), 0, 0, NULL, SAYS("", "off", "ADDRESS:PORT, as for http") },
    { SECTION_RTSP, "secure", KEY_SECURE, DEVICE(rtsps), 322, 322, NULL,
      SAYS("", "off",
           "RTSPS: ADDRESS:PORT, as above; or yes: every interface, at the usual port 322. Its RTP goes through the "
           "connection") },
    { SECTION_RTSP, "plain", KEY_TEXT, DEVICE(rtsp_plain), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "all", "what is left without encryption beside RTSPS, as for http") },
    { SECTION_RTSP, "repeats", KEY_INT, DEVICE(repeats), 0, 1, NULL,
      SAYS("0 or 1", "1",
           "RTP over UDP: FEED.avpf is a feed's address for players that ask for packets which they miss, and get them "
           "again") },

    { SECTION_TLS, "certificate", KEY_TEXT, DEVICE(certificate), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "one of the device's own",
           "your certificate, and those that it was signed by: a PEM file, relative to this file. It is read again "
           "when it "
           "changes") },
    { SECTION_TLS, "key", KEY_TEXT, DEVICE(key), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "one of the device's own",
           "its key: a PEM file without a pass phrase; P-256, P-384, or RSA of 2048 bits") },

    { SECTION_CAMERA, "source", KEY_CHOICE, CAMERA(kind), 0, 0, kinds,
      SAYS("", "by the other keys",
           "draw the railway, play a clip, take a camera of this machine, or what a program or an input delivers; "
           "where no "
           "key says it and no board is simulated, a camera of this machine") },
    { SECTION_CAMERA, "device", KEY_TEXT, CAMERA(device), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "the first that is there",
           "which camera of this machine: path, bus address, or a part of its name; `bambino cameras` shows all "
           "three") },
    { SECTION_CAMERA, "video-input", KEY_TEXT, CAMERA(video_input), 1, 32, NULL,
      SAYS("", "the one in use",
           "which input of a device that has several, such as HDMI: its number or a part of its name, as `bambino "
           "cameras` shows them") },
    { SECTION_CAMERA, "view", KEY_CHOICE, CAMERA(view), 0, 0, views, SAYS("", "station", "what a drawn camera sees") },
    { SECTION_CAMERA, "codec", KEY_CHOICE, CAMERA(codec), 0, 0, codecs,
      SAYS("", "jpeg", "what a drawn camera encodes, where a feed does not say") },
    { SECTION_CAMERA, "clip", KEY_TEXT, CAMERA(clip), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none", "file to play, relative to this file") },
    { SECTION_CAMERA, "clip-rate", KEY_RATE, CAMERA(clip_mfps), 100, 240000, NULL,
      SAYS("per second", "15", "rate of the clip's pictures") },
    { SECTION_CAMERA, "program", KEY_TEXT, CAMERA(program), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "a command whose standard output are pictures; quotes keep blanks together, no shell reads it") },
    { SECTION_CAMERA, "shell", KEY_INT, CAMERA(shell), 0, 1, NULL, SAYS("0 or 1", "0", "program: a shell reads it") },
    { SECTION_CAMERA, "input", KEY_TEXT, CAMERA(input), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "a named pipe, a file, - for standard input, tcp://HOST:PORT to connect to, udp://ADDRESS:PORT to listen "
           "at") },
    { SECTION_CAMERA, "format", KEY_CHOICE, CAMERA(format), 0, 0, intake_formats,
      SAYS("", "auto", "program, input: what comes; auto looks at its first bytes, raw formats have to be said") },
    { SECTION_CAMERA, "raw-size", KEY_SIZE, CAMERA(raw_width), 16, 8192, NULL,
      SAYS("pixels", "none", "program, input: WIDTHxHEIGHT of raw pictures") },
    { SECTION_CAMERA, "input-rate", KEY_RATE, CAMERA(input_mfps), 1000, 240000, NULL,
      SAYS("per second", "15", "program, input: how many pictures are expected; a file is played at this rate") },

    { SECTION_FEED, "camera", KEY_NAME, FEED(camera), 1, BMB_NAME_MAX - 1, NULL,
      SAYS("", "the feed's name", "which camera it shows; several feeds may show one") },
    { SECTION_FEED, "title", KEY_TEXT, FEED(title), 1, 63, NULL, SAYS("", "the feed's name", "what people read") },
    { SECTION_FEED, "preview", KEY_NAME, FEED(preview), 1, BMB_NAME_MAX - 1, NULL,
      SAYS("", "none", "JPEG feed that the page shows in place of this one") },
    { SECTION_FEED, "codec", KEY_CHOICE, FEED(codec), 0, 0, feed_codecs,
      SAYS("", "auto", "auto is the one that the camera offers first") },
    { SECTION_FEED, "size", KEY_SIZE, FEED(width), 16, 8192, NULL,
      SAYS("pixels", "the camera's first", "WIDTHxHEIGHT") },
    { SECTION_FEED, "rate", KEY_RATE, FEED(mfps), 1000, 240000, NULL,
      SAYS("per second", "15, or the clip's", "frames per second") },
    { SECTION_FEED, "quality", KEY_CONTROL, BMB_CONTROL_QUALITY, 1, 100, NULL, SAYS("", "75", "JPEG quality") },
    { SECTION_FEED, "kbps", KEY_CONTROL, BMB_CONTROL_KBPS, 1, 1000000, NULL,
      SAYS("kbit/s", "H.264: 2000; JPEG: none", "bit rate; a JPEG feed holds it by quality, then by dropping frames") },
    { SECTION_FEED, "quality-least", KEY_INT, FEED(quality_least), 1, 100, NULL,
      SAYS("", "20", "JPEG with kbps: quality goes no lower") },
    { SECTION_FEED, "quality-most", KEY_INT, FEED(quality_most), 1, 100, NULL,
      SAYS("", "90", "JPEG with kbps: quality goes no higher") },
    { SECTION_FEED, "key-ms", KEY_CONTROL, BMB_CONTROL_KEY_MS, 100, 60000, NULL,
      SAYS("ms", "2000", "H.264: time between key frames") },
    { SECTION_FEED, "flip-h", KEY_CONTROL, BMB_CONTROL_FLIP_H, 0, 1, NULL,
      SAYS("0 or 1", "0", "exchange left and right") },
    { SECTION_FEED, "flip-v", KEY_CONTROL, BMB_CONTROL_FLIP_V, 0, 1, NULL,
      SAYS("0 or 1", "0", "exchange top and bottom; both: rotation by 180 degrees") },
    { SECTION_FEED, "brightness", KEY_CONTROL, BMB_CONTROL_BRIGHTNESS, -65536, 65536, NULL,
      SAYS("", "0", "simulated: -100 to 100, as the three below; else as the driver has them") },
    { SECTION_FEED, "contrast", KEY_CONTROL, BMB_CONTROL_CONTRAST, -65536, 65536, NULL, SAYS("", "0", "") },
    { SECTION_FEED, "saturation", KEY_CONTROL, BMB_CONTROL_SATURATION, -65536, 65536, NULL,
      SAYS("", "0", "-100 is grey") },
    { SECTION_FEED, "sharpness", KEY_CONTROL, BMB_CONTROL_SHARPNESS, -65536, 65536, NULL, SAYS("", "0", "") },
    { SECTION_FEED, "rotate", KEY_CONTROL, BMB_CONTROL_ROTATE, 0, 180, NULL, SAYS("0 or 180", "0", "degrees") },
    { SECTION_FEED, "exposure-us", KEY_CONTROL, BMB_CONTROL_EXPOSURE_US, 0, 1000000, NULL,
      SAYS("us", "0", "exposure time; 0: automatic") },
    { SECTION_FEED, "gain", KEY_CONTROL, BMB_CONTROL_GAIN, 0, 65536, NULL,
      SAYS("per cent", "100", "of the sensor's least; counts with a fixed exposure time") },
    { SECTION_FEED, "white-k", KEY_CONTROL, BMB_CONTROL_WHITE_K, 0, 10000, NULL,
      SAYS("K", "0", "colour temperature of the light (V4L2: white balance temperature); 0: automatic") },
    { SECTION_FEED, "flicker", KEY_CONTROL, BMB_CONTROL_FLICKER, 0, 60, NULL,
      SAYS("Hz: 0, 50 or 60", "50", "mains whose flicker is filtered (V4L2: power line frequency)") },
    { SECTION_FEED, "night", KEY_CONTROL, BMB_CONTROL_NIGHT, 0, 1, NULL,
      SAYS("0 or 1", "0", "grey and bright, for infrared light") },
    { SECTION_FEED, "night-below", KEY_INT, FEED(night_below), 0, 254, NULL,
      SAYS("0 is black", "0", "JPEG: night mode by itself, when the pictures' brightness stays below this; 0: off") },
    { SECTION_FEED, "day-above", KEY_INT, FEED(day_above), 0, 254, NULL,
      SAYS("0 is black", "night-below + 60",
           "… and back, when it stays above this: more than what night mode makes of a dark picture") },
    { SECTION_FEED, "night-after", KEY_INT, FEED(night_after), 0, 3600, NULL, SAYS("s", "10", "… for so long") },
    { SECTION_FEED, "night-light", KEY_INT, FEED(night_light), 0, 100, NULL,
      SAYS("per cent", "0", "the camera's own light at night; 0: it is not touched") },
    { SECTION_FEED, "illumination", KEY_CONTROL, BMB_CONTROL_ILLUMINATION, 0, 100, NULL,
      SAYS("per cent", "0", "light of the camera's own") },
    { SECTION_FEED, "focus", KEY_CONTROL, BMB_CONTROL_FOCUS, 0, 65536, NULL,
      SAYS("", "0", "0: automatic; else the driver's unit") },
    { SECTION_FEED, "zoom", KEY_CONTROL, BMB_CONTROL_ZOOM, -65536, 65536, NULL,
      SAYS("", "the driver's", "the driver's unit") },
    { SECTION_FEED, "pan", KEY_CONTROL, BMB_CONTROL_PAN, -1000000, 1000000, NULL,
      SAYS("", "the driver's", "likewise") },
    { SECTION_FEED, "tilt", KEY_CONTROL, BMB_CONTROL_TILT, -1000000, 1000000, NULL,
      SAYS("", "the driver's", "likewise") },
    { SECTION_FEED, "hue", KEY_CONTROL, BMB_CONTROL_HUE, -65536, 65536, NULL, SAYS("", "the driver's", "likewise") },
    { SECTION_FEED, "gamma", KEY_CONTROL, BMB_CONTROL_GAMMA, 0, 65536, NULL, SAYS("", "the driver's", "likewise") },
    { SECTION_FEED, "backlight", KEY_CONTROL, BMB_CONTROL_BACKLIGHT, 0, 65536, NULL,
      SAYS("", "the driver's", "brightens what stands before a bright background") },
    { SECTION_FEED, "profile", KEY_CONTROL, BMB_CONTROL_PROFILE, 66, 100, NULL,
      SAYS("66, 77 or 100", "the driver's", "H.264 that the camera encodes itself: baseline, main or high") },
    { SECTION_FEED, "step", KEY_NAME, FEED(step), 1, BMB_NAME_MAX - 1, NULL,
      SAYS(
          "", "none",
          "feed of the same codec that viewers are given in place of this one while their link carries no more; it may "
          "have "
          "a step itself") },
    { SECTION_FEED, "follow", KEY_CHOICE, FEED(follow), 0, 0, follows,
      SAYS("", "median",
           "H.264, and JPEG with kbps: whose link the bit rate follows: that of more than half of the viewers, of the "
           "slowest, "
           "or nobody's") },
    { SECTION_FEED, "follow-least", KEY_INT, FEED(follow_least), 0, 1000000, NULL,
      SAYS("kbit/s", "an eighth of kbps", "… and how far down") },
    { SECTION_FEED, "storage", KEY_CHOICE, FEED(storage), 0, 0, storages,
      SAYS("", "auto",
           "copy frames into the reel, or leave them in the driver's buffers; auto leaves JPEG of this machine's "
           "cameras "
           "there") },
    { SECTION_FEED, "frame-max", KEY_BYTES, FEED(frame_max), 256, INT32_MAX, NULL,
      SAYS("bytes", "width*height/4 + 16K", "larger frames are dropped") },
    { SECTION_FEED, "reel", KEY_BYTES, FEED(reel), 256, INT32_MAX, NULL,
      SAYS("bytes", "8 * frame-max", "frame memory: the newest, the next, and one for each slow viewer") },
    { SECTION_FEED, "multicast", KEY_GROUP, FEED(multicast), 0, 0, NULL,
      SAYS("", "off", "auto, or GROUP:PORT for RTP in 224.0.0.0/4 or ff00::/8; the port is even") },
    { SECTION_FEED, "multicast-ttl", KEY_INT, FEED(multicast_ttl), 1, 255, NULL,
      SAYS("hops", "1", "how many routers a multicast packet may pass") },
    { SECTION_FEED, "multicast-parity", KEY_INT, FEED(multicast_parity), 0, 16, NULL,
      SAYS("packets", "0",
           "forward error correction (RFC 5109): one packet more for so many, 2 to 16, for receivers that know it; 0: "
           "none") },
    { SECTION_FEED, "multicast-always", KEY_INT, FEED(multicast_always), 0, 1, NULL,
      SAYS("0 or 1", "0", "send to the group even when no RTSP session asks for it") },
    { SECTION_FEED, "multicast-open", KEY_INT, FEED(multicast_open), 0, 1, NULL,
      SAYS("0 or 1", "0",
           "send to the group although not everybody may watch the feed: whoever is in the network can") },
    { SECTION_FEED, "open", KEY_INT, FEED(open), 0, 1, NULL,
      SAYS("0 or 1", "0", "everybody may watch this one, whoever may watch the others") },
    { SECTION_FEED, "camera-rests", KEY_INT, FEED(camera_rests), 0, 1, NULL,
      SAYS("0 or 1", "0", "its camera is switched off while nobody watches; whoever comes then waits for its start") },
    { SECTION_FEED, "paused", KEY_INT, FEED(paused), 0, 1, NULL,
      SAYS("0 or 1", "0", "its camera is off, and nobody can watch it") },

    { SECTION_TCP, "listen", KEY_ADDR, PLAIN(listen), 0, 0, NULL, SAYS("", "off", "ADDRESS:PORT, as for http") },
    { SECTION_TCP, "feed", KEY_NAME, PLAIN(feed), 1, BMB_NAME_MAX - 1, NULL,
      SAYS("", "the section's name; framed: all", "which feed whoever connects gets") },
    { SECTION_TCP, "format", KEY_CHOICE, PLAIN(format), 0, 0, tcp_formats,
      SAYS("", "auto", "auto is raw: Annex B for H.264, images one behind the other for JPEG") },
    { SECTION_TCP, "keep-all", KEY_INT, PLAIN(keep_all), 0, 1, NULL,
      SAYS("0 or 1", "0", "for recorders: every frame as long as the reel has it, instead of the newest") },
    { SECTION_TCP, "controls", KEY_INT, PLAIN(controls), 0, 1, NULL,
      SAYS("0 or 1", "1", "framed: peers who may adjust may set the camera's controls") },
    { SECTION_TCP, "paused", KEY_INT, PLAIN(paused), 0, 1, NULL, SAYS("0 or 1", "0", "nothing listens there") },
    { SECTION_TCP, "secure", KEY_INT, PLAIN(secure), 0, 1, NULL, SAYS("0 or 1", "0", "encrypted, with TLS") },
    { SECTION_TCP, "hosts", KEY_TEXT, PLAIN(hosts), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "this machine",
           "not framed: addresses that get a feed which not everybody may watch, with commas; others say `token TEXT` "
           "first") },

    { SECTION_PUSH, "to", KEY_TEXT, PLAIN(to), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "udp://HOST:PORT, tcp://HOST:PORT or, encrypted, tls://HOST:PORT; UDP also a multicast group or a broadcast "
           "address") },
    { SECTION_PUSH, "feed", KEY_NAME, PLAIN(feed), 1, BMB_NAME_MAX - 1, NULL,
      SAYS("", "the section's name", "which feed is sent") },
    { SECTION_PUSH, "format", KEY_CHOICE, PLAIN(format), 0, 0, push_formats,
      SAYS("", "auto", "auto: over UDP ts for H.264 and rtp for JPEG; over TCP ts for H.264 and raw for JPEG") },
    { SECTION_PUSH, "fingerprint", KEY_TEXT, PLAIN(pin), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none",
           "tls: SHA-256 of the receiver's certificate, 64 hexadecimal digits, with or without colons; any: whoever "
           "answers "
           "there, so that somebody may stand in its place") },
    { SECTION_PUSH, "ttl", KEY_INT, PLAIN(ttl), 1, 255, NULL,
      SAYS("hops", "1", "how many routers a multicast packet may pass") },
    { SECTION_PUSH, "interface", KEY_HOST, PLAIN(interface), 0, 0, NULL,
      SAYS("", "the system's choice", "IPv4 address of the interface that multicast leaves by") },
    { SECTION_PUSH, "keep-all", KEY_INT, PLAIN(keep_all), 0, 1, NULL, SAYS("0 or 1", "0", "as for tcp") },
    { SECTION_PUSH, "controls", KEY_INT, PLAIN(controls), 0, 1, NULL, SAYS("0 or 1", "1", "as for tcp") },
    { SECTION_PUSH, "reserve-kbps", KEY_INT, PLAIN(reserve_kbps), 0, 10000000, NULL,
      SAYS("kbit/s", "0", "of uplink-kbps: kept for it whoever watches") },
    { SECTION_PUSH, "paused", KEY_INT, PLAIN(paused), 0, 1, NULL, SAYS("0 or 1", "0", "nothing is sent") },
    { SECTION_PUSH, "sdp", KEY_TEXT, PLAIN(sdp), 1, CLI_TEXT_MAX - 1, NULL,
      SAYS("", "none", "rtp: write the description that the receiver needs into this file") },
};
#define KEY_COUNT (sizeof keys / sizeof keys[0])

const key_row *cli_key_at(size_t index)
{
    (void)cli_format_names(false); /* fills in the formats' names */
    (void)cli_format_names(true);
    return index < KEY_COUNT ? &keys[index] : NULL;
}

const key_row *cli_key_named(section s, const char *key)
{
    const key_row *k;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++)
        if (k->section == s && strcmp(k->key, key) == 0) return k;
    return NULL;
}

bool cli_section_named(const char *name, section *out)
{
    for (int i = 0; i < SECTION_COUNT; i++) {
        if (strcmp(name, cli_section_names[i]) != 0) continue;
        *out = (section)i;
        return true;
    }
    return false;
}

bool cli_key_is_number(const key_row *k)
{
    return k->type == KEY_INT || k->type == KEY_BYTES || k->type == KEY_RATE || k->type == KEY_CONTROL;
}

static bool is_one_of(const key_row *k, section s, const char *const *names)
{
    for (size_t i = 0; k->section == s && names[i] != NULL; i++)
        if (strcmp(k->key, names[i]) == 0) return true;
    return false;
}

bool cli_key_is_flag(const key_row *k)
{
    return strcmp(cli_key_unit(k), "0 or 1") == 0;
}

bool cli_key_is_local(const key_row *k)
{
    static const char *const of_device[] = { "board", "wiring", "state",      "secrets", "figures",
                                             "users", "pages",  "light-file", NULL };
    static const char *const of_camera[] = { "source", "device", "clip", "program", "shell", "input", NULL };
    static const char *const of_push[] = { "sdp", NULL };
    return k->section == SECTION_TLS || is_one_of(k, SECTION_DEVICE, of_device) ||
           is_one_of(k, SECTION_CAMERA, of_camera) || is_one_of(k, SECTION_PUSH, of_push);
}

bool cli_key_is_dangerous(const key_row *k)
{
    static const char *const of_device[] = { "anybody", "names", "memory", "request-buffer", NULL };
    static const char *const of_network[] = { "ssid", NULL };
    return k->section == SECTION_HTTP || is_one_of(k, SECTION_NETWORK, of_network) ||
           is_one_of(k, SECTION_DEVICE, of_device);
}

bool cli_key_is_adjusted(const key_row *k)
{
    static const char *const of_feed[] = { "size",         "rate",        "quality-least",
                                           "quality-most", "night-below", "day-above",
                                           "night-after",  "night-light", NULL };
    return k->type == KEY_CONTROL || is_one_of(k, SECTION_FEED, of_feed);
}

key_effect cli_key_effect(const key_row *k)
{
    static const char *const live[] = { "name",    "log",       "cpu-percent",  "figures",      "anybody",
                                        "names",   "origins",   "embed",        "stall-ms",     "request-ms",
                                        "idle-ms", "unsent-ms", "host-viewers", "status-light", NULL };
    static const char *const network[] = { "uplink-kbps", "announce", NULL };
    static const char *const gap[] = { "size", "rate", "frame-max", "reel", "storage", NULL };
    static const char *const own[] = { "camera", "codec", "paused", NULL };
    static const char *const group[] = { "multicast",        "multicast-ttl",  "multicast-parity",
                                         "multicast-always", "multicast-open", NULL };
    switch (k->section) {
    case SECTION_DEVICE:
        return is_one_of(k, SECTION_DEVICE, live) ? EFFECT_NOTHING : EFFECT_ALL;
    case SECTION_NETWORK:
        return is_one_of(k, SECTION_NETWORK, network) ? EFFECT_NOTHING : EFFECT_ALL;
    case SECTION_HTTP:
    case SECTION_RTSP:
        return strcmp(k->key, "listen") == 0 ? EFFECT_OWN : EFFECT_ALL;
    case SECTION_FEED:
        return is_one_of(k, SECTION_FEED, group) ? EFFECT_ALL
               : is_one_of(k, SECTION_FEED, own) ? EFFECT_OWN
               : is_one_of(k, SECTION_FEED, gap) ? EFFECT_GAP
                                                 : EFFECT_NOTHING;
    case SECTION_TCP:
    case SECTION_PUSH:
        return EFFECT_OWN;
    default:
        return EFFECT_ALL;
    }
}

const char *cli_key_notice(const key_row *k)
{
    static const char *const names[] = { "nothing", "gap", "new-connection", "all-new" };
    return names[cli_key_effect(k)];
}

const void *cli_section_item(const cli_config *c, section s, const char *name)
{
    if (!cli_section_is_list(s)) return c;
    for (size_t i = 0; s == SECTION_CAMERA && i < c->camera_count; i++)
        if (strcmp(c->cameras[i].name, name) == 0) return &c->cameras[i];
    for (size_t i = 0; s == SECTION_FEED && i < c->feed_count; i++)
        if (strcmp(c->feeds[i].name, name) == 0) return &c->feeds[i];
    for (size_t i = 0; s == SECTION_TCP && i < c->tcp_count; i++)
        if (strcmp(c->tcp[i].name, name) == 0) return &c->tcp[i];
    for (size_t i = 0; s == SECTION_PUSH && i < c->push_count; i++)
        if (strcmp(c->pushes[i].name, name) == 0) return &c->pushes[i];
    return NULL;
}

static bool addr_text(const key_row *k, const bmb_addr *addr, char *out, size_t room)
{
    if (addr->family == 0) return false;
    (void)bmb_addr_text(addr, k->type != KEY_HOST, out, room);
    return true;
}

bool cli_key_text(const key_row *k, const void *item, char *out, size_t room)
{
    const uint8_t *at = (const uint8_t *)item + (k->type == KEY_CONTROL ? 0 : k->at);
    const cli_feed *feed = (const cli_feed *)item;
    switch (k->type) {
    case KEY_TEXT:
    case KEY_NAME:
        snprintf(out, room, "%s", (const char *)at);
        return at[0] != 0;
    case KEY_RATE:
        snprintf(out, room, "%.10g", (double)*(const uint32_t *)(const void *)at / 1000.0);
        return *(const uint32_t *)(const void *)at != 0;
    case KEY_SIZE:
        snprintf(out, room, "%ux%u", ((const uint16_t *)(const void *)at)[0], ((const uint16_t *)(const void *)at)[1]);
        return *(const uint16_t *)(const void *)at != 0;
    case KEY_GROUP:
        if (feed->multicast_auto) snprintf(out, room, "auto");
        return feed->multicast_auto || addr_text(k, (const bmb_addr *)(const void *)at, out, room);
    case KEY_ADDR:
    case KEY_SECURE:
    case KEY_HOST:
        return addr_text(k, (const bmb_addr *)(const void *)at, out, room);
    case KEY_CHOICE:
        if (*(const int *)(const void *)at < 0) return false;
        snprintf(out, room, "%s", k->choices[*(const int *)(const void *)at]);
        return true;
    case KEY_CONTROL:
        snprintf(out, room, "%" PRId64, feed->control[k->at]);
        return feed->control_set[k->at];
    default:
        break;
    }
    int64_t value = *(const int64_t *)(const void *)at;
    snprintf(out, room, "%" PRId64, value);
    return value >= k->least; /* below: nothing was said */
}

void cli_key_values(const key_row *k, char *out, size_t room)
{
    double scale = k->type == KEY_RATE ? 1000.0 : 1.0;
    const char *words = k->type == KEY_TEXT || k->type == KEY_NAME                           ? "text"
                        : k->type == KEY_ADDR || k->type == KEY_GROUP || k->type == KEY_HOST ? "address"
                        : k->type == KEY_SECURE                                              ? "`yes`, address"
                                                                                             : "";
    (void)cli_format_names(false);
    (void)cli_format_names(true);
    snprintf(out, room, "%s", words);
    if (words[0] == '\0' && k->type != KEY_CHOICE)
        snprintf(out, room, "%.10g to %.10g", (double)k->least / scale, (double)k->most / scale);
    for (size_t c = 0; k->choices != NULL && k->choices[c] != NULL; c++) {
        size_t at = strlen(out);
        snprintf(out + at, room - at, "%s`%s`", at > 0 ? ", " : "", k->choices[c]);
    }
}

void cli_config_reference(FILE *out)
{
    char values[512];
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
            cli_key_values(k, values, sizeof values);
            fputs(values, out);
            fprintf(out, " | %s | %s | %s |\n", cli_key_unit(k), cli_key_preset(k), cli_key_help(k));
        }
        fputc('\n', out);
    }
}

const char *const *cli_format_names(bool push)
{
    const char **list = push ? push_formats : tcp_formats;
    const bmb_format_info *f;
    size_t n = 0;
    if (list[0] != NULL) return list;
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
