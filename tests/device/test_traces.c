/* Whole conversations, held against what they must be: tests/traces/NAME.trace has commands, each behind "> ", and
 * below each everything that the device then does, in words. A line that differs, is missing or is one too many fails.
 *
 *     > connect 0                    a client of the first outlet; the first one is called a, the next one b …
 *     > say a GET / HTTP/1.1\r\n     what it says
 *     > run 100                      ms pass, in steps of 10
 *
 * The commands are the table below. After a change that is meant, `BAMBINO_TRACES=write test_traces` writes the files
 * anew; what then differs is for reading, line by line.
 */
#include "support/check.h"
#include "support/fake_port.h"

#include <dirent.h>
#include <limits.h>
#include <stddef.h>

#include "base/bytes.h"
#include "bambino/linux.h"
#include "serve/status.h"
#include "wire/framed.h"
#include "wire/h264.h"
#include "wire/jpeg.h"

#define WORDS 16
#define WRONG "wrong command: "

typedef struct scene {
    fake_device t;
    bmb_push_config pushes[4];
    bmb_setting settings[4];
    bmb_asset asset;
    uint8_t frames[4][60000];
    bmb_sock clients[26];
    size_t client_count;
    char sessions[10][17]; /* as they were given out */
    bool open;
} scene;

static scene *s;
static FILE *out;

static bmb_addr addr_of(const char *text)
{
    bmb_addr a = { 0 };
    if (bmb_addr_parse(text, &a) != BMB_OK) fail_msg("%s is no address", text);
    return a;
}

static bmb_err err_of(const char *name)
{
    for (int e = BMB_OK; e <= BMB_FAILED; e++)
        if (strcmp(bmb_err_name((bmb_err)e), name) == 0) return (bmb_err)e;
    fail_msg("there is no error %s", name);
    return BMB_FAILED;
}

/* \r, \n, \xNN and \\; and $1 for the first session that was given out, $2 … */
static size_t unescape(const char *text, char *to)
{
    size_t n = 0;
    for (; *text != '\0'; text++) {
        if (*text == '$' && text[1] >= '1' && text[1] <= '9') {
            n += (size_t)sprintf(to + n, "%s", s->sessions[*++text - '1']);
        } else if (*text != '\\') {
            to[n++] = *text;
        } else if (*++text == 'x') {
            char hex[3] = { text[1], text[2], '\0' };
            to[n++] = (char)strtoul(hex, NULL, 16);
            text += 2;
        } else {
            to[n++] = *text == 'r' ? '\r' : *text == 'n' ? '\n' : *text;
        }
    }
    return n;
}

/* The members that "config", "feed", "outlet" and "push" may set, as NAME=VALUE. */
typedef struct member {
    const char *of, *name;
    size_t at, size;
} member;

#define MEMBER(of, type, name)                                                                                         \
    {                                                                                                                  \
        of, #name, offsetof(type, name), sizeof((type *)0)->name                                                       \
    }
static const member members[] = {
    MEMBER("config", bmb_config, viewers),
    MEMBER("config", bmb_config, spare),
    MEMBER("config", bmb_config, request_buffer),
    MEMBER("config", bmb_config, rtp_packet),
    MEMBER("config", bmb_config, stall_ms),
    MEMBER("config", bmb_config, request_ms),
    MEMBER("config", bmb_config, idle_ms),
    MEMBER("config", bmb_config, session_ms),
    MEMBER("config", bmb_config, unsent_ms),
    MEMBER("config", bmb_config, feed_count),
    MEMBER("config", bmb_config, outlet_count),
    MEMBER("config", bmb_config, push_count),
    MEMBER("feed", bmb_feed_config, frame_max),
    MEMBER("feed", bmb_feed_config, reel_bytes),
    MEMBER("feed", bmb_feed_config, kbps),
    MEMBER("feed", bmb_feed_config, quality_least),
    MEMBER("feed", bmb_feed_config, quality_most),
    MEMBER("feed", bmb_feed_config, keep_controls),
    MEMBER("feed", bmb_feed_config, storage),
    MEMBER("feed", bmb_feed_config, mode.codec),
    MEMBER("feed", bmb_feed_config, mode.width),
    MEMBER("feed", bmb_feed_config, mode.height),
    MEMBER("feed", bmb_feed_config, mode.mfps),
    MEMBER("feed", bmb_feed_config, multicast.ttl),
    MEMBER("feed", bmb_feed_config, multicast.always),
    MEMBER("outlet", bmb_outlet_config, kind),
    MEMBER("outlet", bmb_outlet_config, format),
    MEMBER("outlet", bmb_outlet_config, feed),
    MEMBER("outlet", bmb_outlet_config, keep_all),
    MEMBER("outlet", bmb_outlet_config, controls),
    MEMBER("push", bmb_push_config, feed),
    MEMBER("push", bmb_push_config, tcp),
    MEMBER("push", bmb_push_config, format),
    MEMBER("push", bmb_push_config, ttl),
    MEMBER("push", bmb_push_config, interface_ipv4),
    MEMBER("push", bmb_push_config, keep_all),
    MEMBER("push", bmb_push_config, controls),
    MEMBER("camera", fake_camera, info.frame_max),
    MEMBER("camera", fake_camera, info.buffers),
    MEMBER("camera", fake_camera, effective.codec),
    MEMBER("camera", fake_camera, effective.width),
    MEMBER("camera", fake_camera, effective.height),
    MEMBER("camera", fake_camera, effective.mfps),
    MEMBER("camera", fake_camera, fault),
    MEMBER("port", fake_port, offline),
    MEMBER("port", fake_port, wall_offset),
    MEMBER("sock", fake_sock, room),
    MEMBER("sock", fake_sock, broken),
};

/* A client by its letter, or a socket by its number. */
static bmb_sock sock_of(const char *word)
{
    bool letter = word[0] >= 'a' && word[0] <= 'z' && (size_t)(word[0] - 'a') < s->client_count;
    bmb_sock sock = letter ? s->clients[word[0] - 'a'] : (bmb_sock)strtol(word, NULL, 10);
    if (sock >= 0 && sock < FAKE_SOCKS && s->t.f->socks[sock].open) return sock;
    fake_tell(s->t.f, WRONG "%s is not there", word);
    return FAKE_SOCKS - 1; /* which nobody uses */
}

static void set_member(const char *of, void *base, const char *word)
{
    const char *equals = strchr(word, '=');
    for (size_t i = 0; equals != NULL && i < sizeof members / sizeof members[0]; i++) {
        const member *m = &members[i];
        size_t length = (size_t)(equals - word);
        if (strcmp(m->of, of) != 0 || strlen(m->name) != length || strncmp(m->name, word, length) != 0) continue;
        const uint64_t u64 = strtoull(equals + 1, NULL, 0);
        const uint32_t u32 = (uint32_t)u64;
        const uint16_t u16 = (uint16_t)u64;
        const uint8_t u8 = (uint8_t)u64;
        const void *value = m->size == 8   ? (const void *)&u64
                            : m->size == 4 ? (const void *)&u32
                            : m->size == 2 ? (const void *)&u16
                                           : (const void *)&u8;
        memcpy((uint8_t *)base + m->at, value, m->size);
        return;
    }
    fail_msg("%s has no member %s", of, word);
}

static size_t number(const char *word)
{
    return word != NULL ? strtoul(word, NULL, 0) : 0;
}

static void do_codec(char **word, size_t count)
{
    (void)count;
    bmb_codec codec = strcmp(word[1], "h264") == 0 ? BMB_CODEC_H264 : BMB_CODEC_JPEG;
    memset(s, 0, sizeof *s);
    fake_device_prepare(&s->t, codec);
    s->t.f->trace = out;
    s->t.config.pushes = s->pushes;
    static uint8_t page[900];
    for (size_t i = 0; i < sizeof page; i++) page[i] = (uint8_t)(i * 3 | 0x80);
    s->asset = (bmb_asset){ .path = "/", .type = "text/html", .data = page, .size = sizeof page };
    s->t.config.assets = &s->asset;
    s->t.config.asset_count = 1;
    fake_camera_add(s->t.f, "station", codec);
    s->t.feeds[1] = s->t.feeds[0];
    s->t.feeds[1].name = s->t.feeds[1].camera = "station";
    s->t.feeds[1].title = NULL;
    for (int i = 0; i < 3; i++) {
        s->t.outlets[i].kind = (bmb_outlet_kind)i;
        s->t.outlets[i].listen = (bmb_addr){ .family = 4, .port = (uint16_t)(8080 + i) };
    }
    for (int i = 0; i < 4; i++) s->settings[i].control = BMB_CONTROL_COUNT;
}

static void do_members(char **word, size_t count)
{
    size_t first = 2, index = count > 1 && strchr(word[1], '=') == NULL ? number(word[1]) : 0;
    void *base = strcmp(word[0], "config") == 0   ? (void *)&s->t.config
                 : strcmp(word[0], "port") == 0   ? (void *)s->t.f
                 : strcmp(word[0], "feed") == 0   ? (void *)&s->t.feeds[index]
                 : strcmp(word[0], "outlet") == 0 ? (void *)&s->t.outlets[index]
                 : strcmp(word[0], "camera") == 0 ? (void *)&s->t.f->cameras[index]
                 : strcmp(word[0], "sock") == 0   ? (void *)&s->t.f->socks[sock_of(word[1])]
                                                  : (void *)&s->pushes[index];
    if (base == &s->t.config || base == s->t.f) first = 1;
    for (size_t i = first; i < count; i++) set_member(word[0], base, word[i]);
}

static void do_group(char **word, size_t count)
{
    (void)count;
    s->t.feeds[number(word[1])].multicast.group = addr_of(word[2]);
}

static void do_to(char **word, size_t count)
{
    (void)count;
    s->pushes[number(word[1])].to = addr_of(word[2]);
}

static void do_setting(char **word, size_t count)
{
    (void)count;
    bmb_feed_config *f = &s->t.feeds[0];
    s->settings[f->setting_count] = (bmb_setting){ (bmb_control)number(word[1]), atoi(word[2]) };
    f->settings = s->settings;
    f->setting_count++;
}

static void do_error(char **word, size_t count)
{
    (void)count;
    fake_port *f = s->t.f;
    bmb_err err = err_of(word[2]), none;
    bmb_err *at = strcmp(word[1], "start") == 0    ? &f->cameras[0].start_err
                  : strcmp(word[1], "take") == 0   ? &f->cameras[0].take_err
                  : strcmp(word[1], "set") == 0    ? &f->cameras[0].set_err
                  : strcmp(word[1], "accept") == 0 ? &f->accept_err
                  : strcmp(word[1], "dial") == 0   ? &f->dial_err
                  : strcmp(word[1], "store") == 0  ? &f->store_err
                  : strcmp(word[1], "udp") == 0    ? &f->udp_open_err
                  : strcmp(word[1], "sends") == 0  ? &f->socks[sock_of(word[3])].udp_err
                                                   : &none;
    if (at == &none) fail_msg("%s meets with no errors", word[1]);
    *at = err;
}

static void do_open(char **word, size_t count)
{
    (void)word;
    (void)count;
    bmb_fault fault;
    char text[300];
    bmb_err err = bmb_budget_of(&s->t.config, &s->t.budget, &fault);
    if (err == BMB_OK) {
        s->t.memory = malloc(s->t.budget.total);
        memset(s->t.memory, 0xA5, s->t.budget.total); /* whoever reads behind what is his finds nonsense */
        err = bmb_open(&s->t.config, s->t.memory, s->t.budget.total, &s->t.device, &fault);
    }
    s->open = err == BMB_OK;
    if (err == BMB_OK) return;
    bmb_fault_text(&fault, text, sizeof text);
    fake_tell(s->t.f, "refused: %s, %s %s %s asked %lld have %lld", bmb_err_name(err), fault.part, fault.key,
              fault.name != NULL ? fault.name : "none", (long long)fault.asked, (long long)fault.have);
}

/* Closed and opened again, as after a restart: what was stored is there. */
static void do_reopen(char **word, size_t count)
{
    bmb_close(s->t.device);
    free(s->t.memory);
    do_open(word, count);
}

static void do_connect(char **word, size_t count)
{
    bmb_sock sock = fake_connect(s->t.f, number(word[1]));
    if (count > 2) s->t.f->socks[sock].peer.ip[3] = (uint8_t)number(word[2]);
    fake_tell(s->t.f, "%c is s%d", (int)('a' + s->client_count), sock);
    s->clients[s->client_count++] = sock;
    fake_settle(s->t.f, s->t.device);
}

/* Notes sessions that were given out for the first time. */
static void note_sessions(bmb_sock sock)
{
    fake_sock *k = &s->t.f->socks[sock];
    size_t n = 0, known;
    k->out[k->out_size] = '\0';
    while (n < 10 && s->sessions[n][0] != '\0') n++;
    for (const char *at = (const char *)k->out; (at = strstr(at, "Session: ")) != NULL && n < 10;) {
        at += 9;
        for (known = 0; known < n && strncmp(s->sessions[known], at, 16) != 0;) known++;
        if (known == n) memcpy(s->sessions[n++], at, 16);
    }
}

static void do_say(char **word, size_t count)
{
    static char text[8192];
    (void)count;
    if (sock_of(word[1]) == FAKE_SOCKS - 1) return;
    fake_say(s->t.f, sock_of(word[1]), text, unescape(word[2], text));
    fake_settle(s->t.f, s->t.device);
    for (size_t i = 0; i < s->client_count; i++)
        if (s->t.f->socks[s->clients[i]].out != NULL) note_sessions(s->clients[i]);
}

/* "ask CLIENT TYPE NUMBER BODY": a request of the framed protocol. */
static void do_ask(char **word, size_t count)
{
    char text[300];
    size_t size = count > 4 ? unescape(word[4], text + BMB_FRAMED_HEADER) : 0;
    const bmb_framed_message m = { .type = (uint8_t)number(word[2]),
                                   .number = (uint32_t)number(word[3]),
                                   .length = (uint32_t)size };
    bmb_framed_write((uint8_t *)text, &m);
    fake_say(s->t.f, sock_of(word[1]), text, BMB_FRAMED_HEADER + size);
    fake_settle(s->t.f, s->t.device);
}

static void do_hang_up(char **word, size_t count)
{
    (void)count;
    fake_hang_up(s->t.f, sock_of(word[1]));
    fake_settle(s->t.f, s->t.device);
}

static size_t make_unit(uint8_t *to, uint8_t header, size_t size)
{
    memcpy(to, "\0\0\0\1", 4);
    for (size_t i = 0; i < size; i++) to[4 + i] = (uint8_t)(i * 11 % 241 + 10);
    to[4] = header;
    return 4 + size;
}

/* "frame CAMERA SIZE": JPEG, or an H.264 picture of one unit; "key": a key frame with its parameter sets; "bare": one
 * without them; "cut": less of it than it says. */
static void do_frame(char **word, size_t count)
{
    static const uint8_t sps[] = { 0, 0, 0, 1, 0x67, 0x42, 0xC0, 0x1E, 0xDA, 0x02, 0x80, 0xF6, 0x80 };
    const char *kind = count > 3 ? word[3] : "";
    size_t camera = number(word[1]), size = number(word[2]), n = 0;
    fake_camera *c = &s->t.f->cameras[camera];
    uint8_t *data = s->frames[(c->starts + c->queued) % 4];
    bool h264 = c->info.modes[0].codec == BMB_CODEC_H264, key = kind[0] == 'k' || kind[0] == 'b';
    bmb_mode m = c->running ? c->mode : s->t.feeds[camera].mode;
    if (h264 && kind[0] == 'k') {
        memcpy(data, sps, n = sizeof sps);
        n += make_unit(data + n, 0x68, 4);
    }
    n = h264 ? n + make_unit(data + n, key ? 0x65 : 0x41, size) : fake_jpeg(data, m.width, m.height, size);
    fake_frame(s->t.f, camera, data, strcmp(kind, "cut") == 0 ? n / 2 : n, key || !h264);
    fake_settle(s->t.f, s->t.device);
}

static void do_run(char **word, size_t count)
{
    (void)count;
    fake_run(s->t.f, s->t.device, number(word[1]) * 1000);
}

/* The same, with a frame of `size` from every camera that runs, 15 a second. */
static void do_play(char **word, size_t count)
{
    (void)count;
    for (uint64_t end = s->t.f->now + number(word[1]) * 1000; s->t.f->now < end;) {
        for (size_t c = 0; c < s->t.config.feed_count; c++) {
            char camera[2] = { (char)('0' + c), '\0' }, *frame[] = { "frame", camera, word[2] };
            if (s->t.f->cameras[c].running) do_frame(frame, 3);
        }
        fake_run(s->t.f, s->t.device, 66667);
    }
}

static void do_datagram(char **word, size_t count)
{
    (void)count;
    char bytes[600];
    const bmb_addr from = addr_of(word[2]);
    fake_datagram_in(s->t.f, (uint16_t)number(word[1]), &from, bytes, unescape(word[3], bytes));
    fake_settle(s->t.f, s->t.device);
}

static void do_unreachable(char **word, size_t count)
{
    (void)count;
    s->t.f->unreachable[s->t.f->unreachable_count++] = addr_of(word[1]);
    fake_settle(s->t.f, s->t.device);
}

static void do_remove(char **word, size_t count)
{
    (void)count;
    fake_tell(s->t.f, "removed: %s", bmb_err_name(bmb_feed_remove(s->t.device, number(word[1]))));
    fake_settle(s->t.f, s->t.device);
}

static void do_control(char **word, size_t count)
{
    (void)count;
    int32_t effective = 0;
    bmb_err err =
        bmb_control_set(s->t.device, number(word[1]), (bmb_control)number(word[2]), atoi(word[3]), &effective);
    fake_tell(s->t.f, "control: %s, %d in force", bmb_err_name(err), effective);
}

static void do_slow(char **word, size_t count)
{
    static const char *const calls[] = { "log", "send", "take", "store" };
    (void)count;
    for (int i = 0; i < 4; i++)
        if (strcmp(calls[i], word[1]) == 0) s->t.f->slow_us[i] = number(word[2]);
}

/* The device wants to run now, and is stepped so many ms later. */
static void do_late(char **word, size_t count)
{
    (void)count;
    s->t.f->now = bmb_step(s->t.device) + number(word[1]) * 1000;
    fake_settle(s->t.f, s->t.device);
}

static void do_next(char **word, size_t count)
{
    (void)word;
    (void)count;
    uint64_t next = bmb_step(s->t.device);
    fake_tell(s->t.f, "next in %lld us", next == UINT64_MAX ? -1LL : (long long)(next - s->t.f->now));
}

static void do_describe(char **word, size_t count)
{
    (void)count;
    char text[600] = "";
    size_t size = 0;
    bmb_err err = bmb_push_describe(s->t.device, number(word[1]), text, sizeof text - 1, &size);
    fake_tell(s->t.f, "described: %s", bmb_err_name(err));
    text[size] = '\0';
    for (char *line = strtok(text, "\r\n"); line != NULL; line = strtok(NULL, "\r\n")) fake_tell(s->t.f, "%s", line);
}

static void do_status(char **word, size_t count)
{
    (void)word;
    (void)count;
    static _Alignas(max_align_t) uint8_t memory[BMB_STATUS_MEMORY];
    static char text[2000];
    bmb_device *d = s->t.device;
    bmb_device_stats device;
    bmb_device_stats_get(d, &device);
    if (bmb_status_device("bambino", &device, memory, sizeof memory, text, sizeof text) > 0)
        fake_tell(s->t.f, "%s", text);
    bmb_outlet_stats outlet;
    for (size_t i = 0; bmb_outlet_stats_get(d, i, &outlet) == BMB_OK; i++)
        if (bmb_status_outlet(&outlet, outlet.feed < 2 ? s->t.feeds[outlet.feed].name : NULL, memory, sizeof memory,
                              text, sizeof text) > 0)
            fake_tell(s->t.f, "%s", text);
    bmb_feed_stats feed;
    for (size_t i = 0; bmb_feed_stats_get(d, i, &feed) == BMB_OK; i++)
        if (bmb_status_feed(&feed, memory, sizeof memory, text, sizeof text) > 0) fake_tell(s->t.f, "%s", text);
    bmb_push_stats push;
    for (size_t i = 0; bmb_push_stats_get(d, i, &push) == BMB_OK; i++)
        if (bmb_status_push("yard", &push, true, memory, sizeof memory, text, sizeof text) > 0)
            fake_tell(s->t.f, "%s", text);
    bmb_viewer_stats viewer;
    for (size_t i = 0; bmb_viewer_stats_get(d, i, &viewer) == BMB_OK; i++)
        if (bmb_status_viewer("yard", "yard", &viewer, true, memory, sizeof memory, text, sizeof text) > 0)
            fake_tell(s->t.f, "%s", text);
}

/* "bytes KIND HEX": what a parser makes of it. */
static void do_bytes(char **word, size_t count)
{
    (void)count;
    char bytes[2000];
    const uint8_t *data = (const uint8_t *)bytes;
    size_t size = unescape(word[2], bytes);
    if (strcmp(word[1], "sps") == 0) {
        bmb_sps p;
        bmb_err err = bmb_sps_parse(data, size, &p);
        fake_tell(s->t.f, "%s %u %u %u %ux%u at %u, flags at %u %u", bmb_err_name(err), p.profile, p.constraints,
                  p.level, p.width, p.height, p.mfps, p.vui_at, p.timing_at);
    } else {
        bmb_h264_facts f;
        bmb_err err = bmb_h264_parse(data, size, &f);
        fake_tell(s->t.f, "%s %u units%s%s%s", bmb_err_name(err), f.count, f.key ? ", key" : "",
                  f.picture ? ", picture" : "", f.sets ? ", sets" : "");
        for (unsigned i = 0; err == BMB_OK && i < f.count; i++)
            fake_tell(s->t.f, "unit at %u of %u", f.unit[i].at, f.unit[i].size);
    }
}

static void do_close(char **word, size_t count)
{
    (void)word;
    (void)count;
    if (s->open) bmb_close(s->t.device);
    free(s->t.memory);
    s->t.memory = NULL;
    s->t.device = NULL;
    s->open = false;
    fake_tell_sent(s->t.f);
    unsigned left = 0;
    for (int i = 0; i < FAKE_SOCKS; i++) left += s->t.f->socks[i].open && s->t.f->socks[i].listener == BMB_NO_SOCK;
    fake_tell(s->t.f, "%u sockets and %u frames are left", left, s->t.f->cameras[0].out + s->t.f->cameras[1].out);
    fake_destroy(s->t.f);
    s->t.f = NULL;
}

static const struct {
    const char *name;
    void (*run)(char **word, size_t count);
    size_t words; /* the last one takes the rest of the line */
} commands[] = {
    { "codec", do_codec, 2 },
    { "config", do_members, WORDS },
    { "port", do_members, WORDS },
    { "feed", do_members, WORDS },
    { "outlet", do_members, WORDS },
    { "push", do_members, WORDS },
    { "camera", do_members, WORDS },
    { "sock", do_members, WORDS },
    { "group", do_group, 3 },
    { "to", do_to, 3 },
    { "setting", do_setting, 3 },
    { "error", do_error, 4 },
    { "open", do_open, 1 },
    { "reopen", do_reopen, 1 },
    { "connect", do_connect, 3 },
    { "say", do_say, 3 },
    { "ask", do_ask, 5 },
    { "hang-up", do_hang_up, 2 },
    { "frame", do_frame, 4 },
    { "run", do_run, 2 },
    { "datagram", do_datagram, 4 },
    { "unreachable", do_unreachable, 2 },
    { "remove", do_remove, 2 },
    { "play", do_play, 3 },
    { "control", do_control, 4 },
    { "slow", do_slow, 3 },
    { "late", do_late, 2 },
    { "next", do_next, 1 },
    { "status", do_status, 1 },
    { "describe", do_describe, 2 },
    { "bytes", do_bytes, 3 },
    { "close", do_close, 1 },
};

static void run_command(const char *line)
{
    char text[4096], *word[WORDS + 1] = { NULL };
    snprintf(text, sizeof text, "%s", line);
    size_t count = 0, length = strcspn(text, " ");
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++) {
        if (strlen(commands[i].name) != length || strncmp(commands[i].name, text, length) != 0) continue;
        char *at = text;
        while (at != NULL && *at != '\0' && count < commands[i].words) {
            word[count++] = at;
            at = count < commands[i].words ? strchr(at, ' ') : NULL;
            if (at != NULL) *at++ = '\0';
        }
        commands[i].run(word, count);
        if (s->t.f != NULL) fake_tell_sent(s->t.f);
        return;
    }
    fail_msg("there is no command: %s", line);
}

/* Runs the commands of a file; the result is the file as it should be. */
static char *play(const char *text, size_t *size)
{
    char *made = NULL, line[4096];
    s = calloc(1, sizeof *s);
    out = open_memstream(&made, size);
    for (const char *at = text; *at != '\0';) {
        size_t n = strcspn(at, "\n");
        snprintf(line, sizeof line, "%.*s", (int)n, at);
        at += n + (at[n] == '\n');
        if (line[0] == ' ') continue;
        fprintf(out, "%s\n", line);
        if (line[0] == '>') run_command(line + 2);
    }
    fclose(out);
    free(s);
    const char *wrong = strstr(made, WRONG);
    if (wrong != NULL) print_message("%.60s\n", wrong);
    for (char *at = made; (at = strstr(at, "\"memory_bytes\":")) != NULL;) { /* differs from host to host */
        at += 15;
        memmove(at, at + strspn(at, "0123456789"), strlen(at + strspn(at, "0123456789")) + 1);
    }
    return made;
}

static char *read_all(const char *path)
{
    FILE *f = fopen(path, "r");
    char *text = calloc(1, 1 << 20);
    assert_non_null(f);
    assert_true(fread(text, 1, (1 << 20) - 1, f) > 0);
    fclose(f);
    return text;
}

static void compare(const char *path, const char *expected, const char *made)
{
    unsigned line = 1;
    while (*expected != '\0' || *made != '\0') {
        size_t a = strcspn(expected, "\n"), b = strcspn(made, "\n");
        if (a != b || strncmp(expected, made, a) != 0)
            fail_msg("%s:%u:\n expected: %.*s\n is:       %.*s", path, line, (int)a, expected, (int)b, made);
        expected += a + (expected[a] == '\n');
        made += b + (made[b] == '\n');
        line++;
    }
}

static void every_trace_is_as_it_was_written(void **state)
{
    (void)state;
    static const char folder[] = BAMBINO_SOURCE "/tests/traces";
    const char *mode = getenv("BAMBINO_TRACES");
    unsigned traces = 0;
    DIR *dir = opendir(folder);
    const struct dirent *e;
    while ((e = readdir(dir)) != NULL) {
        char path[PATH_MAX];
        size_t size = 0;
        if (strstr(e->d_name, ".trace") == NULL) continue;
        snprintf(path, sizeof path, "%s/%s", folder, e->d_name);
        char *expected = read_all(path), *made = play(expected, &size);
        if (mode != NULL && strcmp(mode, "write") == 0) {
            FILE *f = fopen(path, "w");
            assert_true(fputs(made, f) >= 0);
            fclose(f);
        } else {
            assert_null(strstr(made, WRONG));
            compare(path, expected, made);
        }
        free(expected);
        free(made);
        traces++;
    }
    closedir(dir);
    assert_true(traces >= 10);
}

int main(void)
{
    const struct CMUnitTest tests[] = { cmocka_unit_test(every_trace_is_as_it_was_written) };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
