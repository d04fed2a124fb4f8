/* The keys of the configuration file, a row each: KEY(section, key, type, where its value stands, least, most, choices,
 * unit, preset, meaning). Whoever includes this says what KEY makes of a row. */
KEY(SECTION_DEVICE, "name", KEY_TEXT, DEVICE(device_name), 1, 63, NO_CHOICES, "", "bambino",
    "what the page and the status call this device")
KEY(SECTION_DEVICE, "viewers", KEY_INT, DEVICE(viewers), 1, 4000, NO_CHOICES, "", "16",
    "how many may watch at a time; more are refused")
KEY(SECTION_DEVICE, "spare", KEY_INT, DEVICE(spare), 1, 64, NO_CHOICES, "", "8",
    "connections beyond the viewers, for stills, the page and refusals")
KEY(SECTION_DEVICE, "events", KEY_INT, DEVICE(events), 0, 4096, NO_CHOICES, "", "64",
    "how many of the last events are kept, and told at /events; 0: none")
KEY(SECTION_DEVICE, "memory", KEY_BYTES, DEVICE(memory), 0, INT32_MAX, NO_CHOICES, "bytes", "0",
    "refuse to start when more than this is needed; 0: no limit")
KEY(SECTION_DEVICE, "reserve", KEY_BYTES, DEVICE(reserve), 0, INT32_MAX, NO_CHOICES, "bytes",
    "8M, on a simulated board 0", "frame memory for feeds that come, or grow, while it runs")
KEY(SECTION_DEVICE, "request-buffer", KEY_BYTES, DEVICE(request_buffer), 1536, 16384, NO_CHOICES, "bytes", "3K",
    "memory of each connection for requests and answers")
KEY(SECTION_DEVICE, "rtp-packet", KEY_BYTES, DEVICE(rtp_packet), 256, 8900, NO_CHOICES, "bytes", "1400",
    "largest RTP packet; lower it where a tunnel or radio link cuts packets")
KEY(SECTION_DEVICE, "stall-ms", KEY_INT, DEVICE(stall_ms), 100, 600000, NO_CHOICES, "ms", "10000",
    "a viewer that takes nothing for so long is closed")
KEY(SECTION_DEVICE, "request-ms", KEY_INT, DEVICE(request_ms), 100, 600000, NO_CHOICES, "ms", "10000",
    "a request must be complete within")
KEY(SECTION_DEVICE, "idle-ms", KEY_INT, DEVICE(idle_ms), 100, 600000, NO_CHOICES, "ms", "30000",
    "an unused connection is closed after")
KEY(SECTION_DEVICE, "session-ms", KEY_INT, DEVICE(session_ms), 1000, 600000, NO_CHOICES, "ms", "60000",
    "an RTSP session ends without a sign of life after")
KEY(SECTION_DEVICE, "unsent-ms", KEY_INT, DEVICE(unsent_ms), 20, 5000, NO_CHOICES, "ms", "80",
    "how much of a stream may wait unsent in the system; less is fresher, more is smoother")
KEY(SECTION_DEVICE, "board", KEY_TEXT, DEVICE(board), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "simulate this board: a name of `bambino boards`, or a description file beside this one")
KEY(SECTION_DEVICE, "wiring", KEY_TEXT, DEVICE(wiring), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "the board's own",
    "wiring of the camera connector")
KEY(SECTION_DEVICE, "state", KEY_TEXT, DEVICE(state), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "folder for what is kept over restarts, such as controls that were set; relative to this file")
KEY(SECTION_DEVICE, "secrets", KEY_TEXT, DEVICE(secrets), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "file with secrets, readable by its owner only; relative to this file")
KEY(SECTION_DEVICE, "pages", KEY_TEXT, DEVICE(pages), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "folder of your own pages, served beside the built-in one; an index.html there takes its place. Relative to "
    "this "
    "file")
KEY(SECTION_DEVICE, "users", KEY_TEXT, DEVICE(users), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "",
    "`users` in the state folder", "file of those who may sign in, which `bambino users` writes; relative to this file")
KEY(SECTION_DEVICE, "anybody", KEY_CHOICE, DEVICE(anybody), 0, 0, CHOICES_ANYBODIES, "", "auto",
    "what those may who do not sign in; auto is watch as long as there are no users, and nothing from then on")
KEY(SECTION_DEVICE, "names", KEY_TEXT, DEVICE(names), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "the host's own",
    "names by which browsers may call this host, with commas, besides NAME, NAME.local and NAME in the network's "
    "domains; "
    "any: whatever they call it")
KEY(SECTION_DEVICE, "origins", KEY_TEXT, DEVICE(origins), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "pages of others that may read what is served here, such as http://club.example, with commas")
KEY(SECTION_DEVICE, "embed", KEY_INT, DEVICE(embed), 0, 1, NO_CHOICES, "0 or 1", "0",
    "pages of others may show pictures of this device, and its page")
KEY(SECTION_DEVICE, "host-viewers", KEY_INT, DEVICE(host_viewers), 0, 4000, NO_CHOICES, "", "three quarters of viewers",
    "how many of the viewers one host may be, so that none keeps all others out; not counted on this machine "
    "itself")
KEY(SECTION_DEVICE, "status-light", KEY_CHOICE, DEVICE(light_style), 0, 0, CHOICES_STYLES, "", "states",
    "dark; patterns for each state; steady while somebody watches; or changing with every frame")
KEY(SECTION_DEVICE, "light-file", KEY_TEXT, DEVICE(light_file), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "the status light: a file that takes 1 and 0, such as an LED's brightness below /sys/class/leds")
KEY(SECTION_DEVICE, "cpu-percent", KEY_INT, DEVICE(cpu_percent), 1, 100, NO_CHOICES, "per cent", "80",
    "of the processor that the device may use; the budget warns beyond")
KEY(SECTION_DEVICE, "figures", KEY_TEXT, DEVICE(figures), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "file with what `bambino measure --write` measured on the board, for the budget; relative to this file")
KEY(SECTION_DEVICE, "log", KEY_CHOICE, DEVICE(log), 0, 0, CHOICES_LEVELS, "", "info",
    "how much is told on stderr; debug adds what went out each second")

KEY(SECTION_NETWORK, "ssid", KEY_TEXT, DEVICE(ssid), 1, 32, NO_CHOICES, "", "none",
    "SSID of the radio network to join; its passphrase stands in the secrets file")
KEY(SECTION_NETWORK, "uplink-kbps", KEY_INT, DEVICE(uplink_kbps), 0, 10000000, NO_CHOICES, "kbit/s", "0",
    "what all viewers and pushes may take together: shared evenly, and who would leave too little for all is "
    "refused; "
    "0: no bound. The budget reckons with it, or with the board's link")
KEY(SECTION_NETWORK, "announce", KEY_INT, DEVICE(announce), 0, 1, NO_CHOICES, "0 or 1", "0",
    "tell the network by DNS-SD what is served, so that players and browsers list it; the Avahi daemon does "
    "it")

KEY(SECTION_HTTP, "listen", KEY_ADDR, DEVICE(http), 0, 0, NO_CHOICES, "", "off",
    "ADDRESS:PORT; an empty address means every interface, of IPv4 and IPv6, port 0 any free one; 0.0.0.0 is "
    "IPv4 "
    "alone")
KEY(SECTION_HTTP, "secure", KEY_SECURE, DEVICE(https), 443, 443, NO_CHOICES, "", "off",
    "HTTPS: ADDRESS:PORT, as above; or yes: every interface, at the usual port 443")
KEY(SECTION_HTTP, "plain", KEY_TEXT, DEVICE(http_plain), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "all",
    "what is left without encryption beside HTTPS: all; redirect sends everybody there; off; or the names of "
    "feeds, "
    "with commas, the rest being redirected")
KEY(SECTION_RTSP, "listen", KEY_ADDR, DEVICE(rtsp), 0, 0, NO_CHOICES, "", "off", "ADDRESS:PORT, as for http")
KEY(SECTION_RTSP, "secure", KEY_SECURE, DEVICE(rtsps), 322, 322, NO_CHOICES, "", "off",
    "RTSPS: ADDRESS:PORT, as above; or yes: every interface, at the usual port 322. Its RTP goes through the "
    "connection")
KEY(SECTION_RTSP, "plain", KEY_TEXT, DEVICE(rtsp_plain), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "all",
    "what is left without encryption beside RTSPS, as for http")
KEY(SECTION_RTSP, "repeats", KEY_INT, DEVICE(repeats), 0, 1, NO_CHOICES, "0 or 1", "1",
    "RTP over UDP: FEED.avpf is a feed's address for players that ask for packets which they miss, and get them "
    "again")

KEY(SECTION_TLS, "certificate", KEY_TEXT, DEVICE(certificate), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "",
    "one of the device's own",
    "your certificate, and those that it was signed by: a PEM file, relative to this file. It is read again "
    "when it "
    "changes")
KEY(SECTION_TLS, "key", KEY_TEXT, DEVICE(key), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "one of the device's own",
    "its key: a PEM file without a pass phrase; P-256, P-384, or RSA of 2048 bits")

KEY(SECTION_CAMERA, "source", KEY_CHOICE, CAMERA(kind), 0, 0, CHOICES_KINDS, "", "by the other keys",
    "draw the railway, play a clip, take a camera of this machine, or what a program or an input delivers; "
    "where no "
    "key says it and no board is simulated, a camera of this machine")
KEY(SECTION_CAMERA, "device", KEY_TEXT, CAMERA(device), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "the first that is there",
    "which camera of this machine: path, bus address, or a part of its name; `bambino cameras` shows all "
    "three")
KEY(SECTION_CAMERA, "video-input", KEY_TEXT, CAMERA(video_input), 1, 32, NO_CHOICES, "", "the one in use",
    "which input of a device that has several, such as HDMI: its number or a part of its name, as `bambino "
    "cameras` shows them")
KEY(SECTION_CAMERA, "view", KEY_CHOICE, CAMERA(view), 0, 0, CHOICES_VIEWS, "", "station", "what a drawn camera sees")
KEY(SECTION_CAMERA, "codec", KEY_CHOICE, CAMERA(codec), 0, 0, CHOICES_CODECS, "", "jpeg",
    "what a drawn camera encodes, where a feed does not say")
KEY(SECTION_CAMERA, "clip", KEY_TEXT, CAMERA(clip), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "file to play, relative to this file")
KEY(SECTION_CAMERA, "clip-rate", KEY_RATE, CAMERA(clip_mfps), 100, 240000, NO_CHOICES, "per second", "15",
    "rate of the clip's pictures")
KEY(SECTION_CAMERA, "program", KEY_TEXT, CAMERA(program), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "a command whose standard output are pictures; quotes keep blanks together, no shell reads it")
KEY(SECTION_CAMERA, "shell", KEY_INT, CAMERA(shell), 0, 1, NO_CHOICES, "0 or 1", "0", "program: a shell reads it")
KEY(SECTION_CAMERA, "input", KEY_TEXT, CAMERA(input), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "a named pipe, a file, - for standard input, tcp://HOST:PORT to connect to, udp://ADDRESS:PORT to listen "
    "at")
KEY(SECTION_CAMERA, "format", KEY_CHOICE, CAMERA(format), 0, 0, CHOICES_INTAKE_FORMATS, "", "auto",
    "program, input: what comes; auto looks at its first bytes, raw formats have to be said")
KEY(SECTION_CAMERA, "raw-size", KEY_SIZE, CAMERA(raw_width), 16, 8192, NO_CHOICES, "pixels", "none",
    "program, input: WIDTHxHEIGHT of raw pictures")
KEY(SECTION_CAMERA, "input-rate", KEY_RATE, CAMERA(input_mfps), 1000, 240000, NO_CHOICES, "per second", "15",
    "program, input: how many pictures are expected; a file is played at this rate")

KEY(SECTION_FEED, "camera", KEY_NAME, FEED(camera), 1, BMB_NAME_MAX - 1, NO_CHOICES, "", "the feed's name",
    "which camera it shows; several feeds may show one")
KEY(SECTION_FEED, "title", KEY_TEXT, FEED(title), 1, 63, NO_CHOICES, "", "the feed's name", "what people read")
KEY(SECTION_FEED, "preview", KEY_NAME, FEED(preview), 1, BMB_NAME_MAX - 1, NO_CHOICES, "", "none",
    "JPEG feed that the page shows in place of this one")
KEY(SECTION_FEED, "codec", KEY_CHOICE, FEED(codec), 0, 0, CHOICES_FEED_CODECS, "", "auto",
    "auto is the one that the camera offers first")
KEY(SECTION_FEED, "size", KEY_SIZE, FEED(width), 16, 8192, NO_CHOICES, "pixels", "the camera's first", "WIDTHxHEIGHT")
KEY(SECTION_FEED, "rate", KEY_RATE, FEED(mfps), 1000, 240000, NO_CHOICES, "per second", "15, or the clip's",
    "frames per second")
KEY(SECTION_FEED, "quality", KEY_CONTROL, BMB_CONTROL_QUALITY, 1, 100, NO_CHOICES, "", "75", "JPEG quality")
KEY(SECTION_FEED, "kbps", KEY_CONTROL, BMB_CONTROL_KBPS, 1, 1000000, NO_CHOICES, "kbit/s", "H.264: 2000; JPEG: none",
    "bit rate; a JPEG feed holds it by quality, then by dropping frames")
KEY(SECTION_FEED, "quality-least", KEY_INT, FEED(quality_least), 1, 100, NO_CHOICES, "", "20",
    "JPEG with kbps: quality goes no lower")
KEY(SECTION_FEED, "quality-most", KEY_INT, FEED(quality_most), 1, 100, NO_CHOICES, "", "90",
    "JPEG with kbps: quality goes no higher")
KEY(SECTION_FEED, "key-ms", KEY_CONTROL, BMB_CONTROL_KEY_MS, 100, 60000, NO_CHOICES, "ms", "2000",
    "H.264: time between key frames")
KEY(SECTION_FEED, "flip-h", KEY_CONTROL, BMB_CONTROL_FLIP_H, 0, 1, NO_CHOICES, "0 or 1", "0", "exchange left and right")
KEY(SECTION_FEED, "flip-v", KEY_CONTROL, BMB_CONTROL_FLIP_V, 0, 1, NO_CHOICES, "0 or 1", "0",
    "exchange top and bottom; both: rotation by 180 degrees")
KEY(SECTION_FEED, "brightness", KEY_CONTROL, BMB_CONTROL_BRIGHTNESS, -65536, 65536, NO_CHOICES, "", "0",
    "simulated: -100 to 100, as the three below; else as the driver has them")
KEY(SECTION_FEED, "contrast", KEY_CONTROL, BMB_CONTROL_CONTRAST, -65536, 65536, NO_CHOICES, "", "0", "")
KEY(SECTION_FEED, "saturation", KEY_CONTROL, BMB_CONTROL_SATURATION, -65536, 65536, NO_CHOICES, "", "0", "-100 is grey")
KEY(SECTION_FEED, "sharpness", KEY_CONTROL, BMB_CONTROL_SHARPNESS, -65536, 65536, NO_CHOICES, "", "0", "")
KEY(SECTION_FEED, "rotate", KEY_CONTROL, BMB_CONTROL_ROTATE, 0, 180, NO_CHOICES, "0 or 180", "0", "degrees")
KEY(SECTION_FEED, "exposure-us", KEY_CONTROL, BMB_CONTROL_EXPOSURE_US, 0, 1000000, NO_CHOICES, "us", "0",
    "exposure time; 0: automatic")
KEY(SECTION_FEED, "gain", KEY_CONTROL, BMB_CONTROL_GAIN, 0, 65536, NO_CHOICES, "per cent", "100",
    "of the sensor's least; counts with a fixed exposure time")
KEY(SECTION_FEED, "white-k", KEY_CONTROL, BMB_CONTROL_WHITE_K, 0, 10000, NO_CHOICES, "K", "0",
    "colour temperature of the light (V4L2: white balance temperature); 0: automatic")
KEY(SECTION_FEED, "flicker", KEY_CONTROL, BMB_CONTROL_FLICKER, 0, 60, NO_CHOICES, "Hz: 0, 50 or 60", "50",
    "mains whose flicker is filtered (V4L2: power line frequency)")
KEY(SECTION_FEED, "night", KEY_CONTROL, BMB_CONTROL_NIGHT, 0, 1, NO_CHOICES, "0 or 1", "0",
    "grey and bright, for infrared light")
KEY(SECTION_FEED, "night-below", KEY_INT, FEED(night_below), 0, 254, NO_CHOICES, "0 is black", "0",
    "JPEG: night mode by itself, when the pictures' brightness stays below this; 0: off")
KEY(SECTION_FEED, "day-above", KEY_INT, FEED(day_above), 0, 254, NO_CHOICES, "0 is black", "night-below + 60",
    "… and back, when it stays above this: more than what night mode makes of a dark picture")
KEY(SECTION_FEED, "night-after", KEY_INT, FEED(night_after), 0, 3600, NO_CHOICES, "s", "10", "… for so long")
KEY(SECTION_FEED, "night-light", KEY_INT, FEED(night_light), 0, 100, NO_CHOICES, "per cent", "0",
    "the camera's own light at night; 0: it is not touched")
KEY(SECTION_FEED, "illumination", KEY_CONTROL, BMB_CONTROL_ILLUMINATION, 0, 100, NO_CHOICES, "per cent", "0",
    "light of the camera's own")
KEY(SECTION_FEED, "focus", KEY_CONTROL, BMB_CONTROL_FOCUS, 0, 65536, NO_CHOICES, "", "0",
    "0: automatic; else the driver's unit")
KEY(SECTION_FEED, "zoom", KEY_CONTROL, BMB_CONTROL_ZOOM, -65536, 65536, NO_CHOICES, "", "the driver's",
    "the driver's unit")
KEY(SECTION_FEED, "pan", KEY_CONTROL, BMB_CONTROL_PAN, -1000000, 1000000, NO_CHOICES, "", "the driver's", "likewise")
KEY(SECTION_FEED, "tilt", KEY_CONTROL, BMB_CONTROL_TILT, -1000000, 1000000, NO_CHOICES, "", "the driver's", "likewise")
KEY(SECTION_FEED, "hue", KEY_CONTROL, BMB_CONTROL_HUE, -65536, 65536, NO_CHOICES, "", "the driver's", "likewise")
KEY(SECTION_FEED, "gamma", KEY_CONTROL, BMB_CONTROL_GAMMA, 0, 65536, NO_CHOICES, "", "the driver's", "likewise")
KEY(SECTION_FEED, "backlight", KEY_CONTROL, BMB_CONTROL_BACKLIGHT, 0, 65536, NO_CHOICES, "", "the driver's",
    "brightens what stands before a bright background")
KEY(SECTION_FEED, "profile", KEY_CONTROL, BMB_CONTROL_PROFILE, 66, 100, NO_CHOICES, "66, 77 or 100", "the driver's",
    "H.264 that the camera encodes itself: baseline, main or high")
KEY(SECTION_FEED, "step", KEY_NAME, FEED(step), 1, BMB_NAME_MAX - 1, NO_CHOICES, "", "none",
    "feed of the same codec that viewers are given in place of this one while their link carries no more; it may "
    "have "
    "a step itself")
KEY(SECTION_FEED, "follow", KEY_CHOICE, FEED(follow), 0, 0, CHOICES_FOLLOWS, "", "median",
    "H.264, and JPEG with kbps: whose link the bit rate follows: that of more than half of the viewers, of the "
    "slowest, "
    "or nobody's")
KEY(SECTION_FEED, "follow-least", KEY_INT, FEED(follow_least), 0, 1000000, NO_CHOICES, "kbit/s", "an eighth of kbps",
    "… and how far down")
KEY(SECTION_FEED, "storage", KEY_CHOICE, FEED(storage), 0, 0, CHOICES_STORAGES, "", "auto",
    "copy frames into the reel, or leave them in the driver's buffers; auto leaves JPEG of this machine's "
    "cameras "
    "there")
KEY(SECTION_FEED, "frame-max", KEY_BYTES, FEED(frame_max), 256, INT32_MAX, NO_CHOICES, "bytes", "width*height/4 + 16K",
    "larger frames are dropped")
KEY(SECTION_FEED, "reel", KEY_BYTES, FEED(reel), 256, INT32_MAX, NO_CHOICES, "bytes", "8 * frame-max",
    "frame memory: the newest, the next, and one for each slow viewer")
KEY(SECTION_FEED, "multicast", KEY_GROUP, FEED(multicast), 0, 0, NO_CHOICES, "", "off",
    "auto, or GROUP:PORT for RTP in 224.0.0.0/4 or ff00::/8; the port is even")
KEY(SECTION_FEED, "multicast-ttl", KEY_INT, FEED(multicast_ttl), 1, 255, NO_CHOICES, "hops", "1",
    "how many routers a multicast packet may pass")
KEY(SECTION_FEED, "multicast-parity", KEY_INT, FEED(multicast_parity), 0, 16, NO_CHOICES, "packets", "0",
    "forward error correction (RFC 5109): one packet more for so many, 2 to 16, for receivers that know it; 0: "
    "none")
KEY(SECTION_FEED, "multicast-always", KEY_INT, FEED(multicast_always), 0, 1, NO_CHOICES, "0 or 1", "0",
    "send to the group even when no RTSP session asks for it")
KEY(SECTION_FEED, "multicast-open", KEY_INT, FEED(multicast_open), 0, 1, NO_CHOICES, "0 or 1", "0",
    "send to the group although not everybody may watch the feed: whoever is in the network can")
KEY(SECTION_FEED, "open", KEY_INT, FEED(open), 0, 1, NO_CHOICES, "0 or 1", "0",
    "everybody may watch this one, whoever may watch the others")
KEY(SECTION_FEED, "camera-rests", KEY_INT, FEED(camera_rests), 0, 1, NO_CHOICES, "0 or 1", "0",
    "its camera is switched off while nobody watches; whoever comes then waits for its start")
KEY(SECTION_FEED, "paused", KEY_INT, FEED(paused), 0, 1, NO_CHOICES, "0 or 1", "0",
    "its camera is off, and nobody can watch it")

KEY(SECTION_TCP, "listen", KEY_ADDR, PLAIN(listen), 0, 0, NO_CHOICES, "", "off", "ADDRESS:PORT, as for http")
KEY(SECTION_TCP, "feed", KEY_NAME, PLAIN(feed), 1, BMB_NAME_MAX - 1, NO_CHOICES, "", "the section's name; framed: all",
    "which feed whoever connects gets")
KEY(SECTION_TCP, "format", KEY_CHOICE, PLAIN(format), 0, 0, CHOICES_TCP_FORMATS, "", "auto",
    "auto is raw: Annex B for H.264, images one behind the other for JPEG")
KEY(SECTION_TCP, "keep-all", KEY_INT, PLAIN(keep_all), 0, 1, NO_CHOICES, "0 or 1", "0",
    "for recorders: every frame as long as the reel has it, instead of the newest")
KEY(SECTION_TCP, "controls", KEY_INT, PLAIN(controls), 0, 1, NO_CHOICES, "0 or 1", "1",
    "framed: peers who may adjust may set the camera's controls")
KEY(SECTION_TCP, "paused", KEY_INT, PLAIN(paused), 0, 1, NO_CHOICES, "0 or 1", "0", "nothing listens there")
KEY(SECTION_TCP, "secure", KEY_INT, PLAIN(secure), 0, 1, NO_CHOICES, "0 or 1", "0", "encrypted, with TLS")
KEY(SECTION_TCP, "hosts", KEY_TEXT, PLAIN(hosts), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "this machine",
    "not framed: addresses that get a feed which not everybody may watch, with commas; others say `token TEXT` "
    "first")

KEY(SECTION_PUSH, "to", KEY_TEXT, PLAIN(to), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "udp://HOST:PORT, tcp://HOST:PORT or, encrypted, tls://HOST:PORT; UDP also a multicast group or a broadcast "
    "address")
KEY(SECTION_PUSH, "feed", KEY_NAME, PLAIN(feed), 1, BMB_NAME_MAX - 1, NO_CHOICES, "", "the section's name",
    "which feed is sent")
KEY(SECTION_PUSH, "format", KEY_CHOICE, PLAIN(format), 0, 0, CHOICES_PUSH_FORMATS, "", "auto",
    "auto: over UDP ts for H.264 and rtp for JPEG; over TCP ts for H.264 and raw for JPEG")
KEY(SECTION_PUSH, "fingerprint", KEY_TEXT, PLAIN(pin), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "tls: SHA-256 of the receiver's certificate, 64 hexadecimal digits, with or without colons; any: whoever "
    "answers "
    "there, so that somebody may stand in its place")
KEY(SECTION_PUSH, "ttl", KEY_INT, PLAIN(ttl), 1, 255, NO_CHOICES, "hops", "1",
    "how many routers a multicast packet may pass")
KEY(SECTION_PUSH, "interface", KEY_HOST, PLAIN(interface), 0, 0, NO_CHOICES, "", "the system's choice",
    "IPv4 address of the interface that multicast leaves by")
KEY(SECTION_PUSH, "keep-all", KEY_INT, PLAIN(keep_all), 0, 1, NO_CHOICES, "0 or 1", "0", "as for tcp")
KEY(SECTION_PUSH, "controls", KEY_INT, PLAIN(controls), 0, 1, NO_CHOICES, "0 or 1", "1", "as for tcp")
KEY(SECTION_PUSH, "reserve-kbps", KEY_INT, PLAIN(reserve_kbps), 0, 10000000, NO_CHOICES, "kbit/s", "0",
    "of uplink-kbps: kept for it whoever watches")
KEY(SECTION_PUSH, "paused", KEY_INT, PLAIN(paused), 0, 1, NO_CHOICES, "0 or 1", "0", "nothing is sent")
KEY(SECTION_PUSH, "sdp", KEY_TEXT, PLAIN(sdp), 1, CLI_TEXT_MAX - 1, NO_CHOICES, "", "none",
    "rtp: write the description that the receiver needs into this file")
