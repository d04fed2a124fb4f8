#include "support/fake_port.h"

#include "bambino/tls.h"

#include <assert.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

#include "base/bytes.h"

static fake_port *self(void *ctx)
{
    return (fake_port *)ctx;
}

void fake_tell(fake_port *f, const char *format, ...)
{
    va_list args;
    if (f->trace == NULL) return;
    va_start(args, format);
    fputs("  ", f->trace);
    vfprintf(f->trace, format, args);
    fputc('\n', f->trace);
    va_end(args);
}

static uint32_t crc_of(const uint8_t *data, size_t size)
{
    uint32_t crc = 0xFFFFFFFF;
    for (size_t i = 0; i < size; i++) {
        crc ^= data[i];
        for (int b = 0; b < 8; b++) crc = crc >> 1 ^ (crc & 1 ? 0xEDB88320 : 0);
    }
    return ~crc;
}

#define PLAIN_LEAST 12

/* How much text begins here, 0 where it is too little, or has no line end. */
static size_t plain_at(const uint8_t *data, size_t size)
{
    size_t n = 0, last = 0;
    while (n < size && ((data[n] >= 0x20 && data[n] < 0x7F) || data[n] == '\r' || data[n] == '\n'))
        if (data[n++] == '\n') last = n;
    if (n == size || (n > 0 && data[0] == '{')) last = n;
    return last >= PLAIN_LEAST || last == size ? last : 0;
}

/* What differs from host to host and from build to build: how much memory, and the size of a chunk that tells it. */
static void mask(char *line)
{
    static const char key[] = "\"memory_bytes\":", digits[] = "0123456789";
    char *at = strstr(line, key);
    if (at != NULL) {
        at += strlen(key);
        size_t n = strspn(at, digits);
        memmove(at, at + n, strlen(at + n) + 1);
    }
    if (strspn(line, "0123456789ABCDEF") == 4 && strcmp(line + 4, "\\r\\n") == 0) memcpy(line, "size", 4);
}

/* Text as it is, a line each; anything else as its size, its first bytes and a sum over all of them. */
static void fake_tell_bytes(fake_port *f, const char *how, const char *who, const uint8_t *data, size_t size)
{
    char line[2100];
    if (f->trace == NULL) return;
    for (size_t at = 0; at < size;) {
        size_t n = plain_at(data + at, size - at), room = 0;
        if (n > 0) {
            for (size_t i = 0; i < n && room < sizeof line - 4; i++) {
                bool cr = data[at + i] == '\r', lf = data[at + i] == '\n';
                room += (size_t)sprintf(line + room, cr ? "\\r" : lf ? "\\n" : "%c", data[at + i]);
                if (!lf) continue;
                n = i + 1;
                break;
            }
            mask(line);
            fake_tell(f, "%s %s | %s", how, who, line);
            at += n;
            continue;
        }
        size_t end = at + 1;
        while (end < size && plain_at(data + end, size - end) == 0) end++;
        for (size_t i = at; i < end && i < at + 28; i++) room += (size_t)sprintf(line + room, " %02X", data[i]);
        fake_tell(f, "%s %s <%zu bytes%s sum %08X>", how, who, end - at, line, crc_of(data + at, end - at));
        at = end;
    }
}

void fake_tell_sent(fake_port *f)
{
    for (bmb_sock i = 0; f->trace != NULL && i < f->sock_end; i++) {
        fake_sock *s = &f->socks[i];
        char who[16];
        if (s->out == NULL || s->out_size == s->out_told) continue;
        snprintf(who, sizeof who, "s%d", i);
        fake_tell_bytes(f, "from", who, s->out + s->out_told, s->out_size - s->out_told);
        s->out_told = s->out_size;
    }
}

typedef struct addr_text {
    char text[BMB_ADDR_TEXT_MAX];
} addr_text;

static addr_text text_of(const bmb_addr *addr)
{
    addr_text t = { .text = "nobody" };
    bmb_writer w = bmb_writer_of(t.text, sizeof t.text - 1);
    if (addr == NULL || addr->family == 0) return t;
    bmb_put_ip(&w, addr);
    bmb_put_u8(&w, ':');
    bmb_put_dec(&w, addr->port);
    t.text[bmb_written(&w)] = '\0';
    return t;
}

static uint64_t now_us(void *ctx)
{
    return self(ctx)->now;
}

static bmb_err wall_us(void *ctx, int64_t *out)
{
    if (self(ctx)->wall_offset == 0) return BMB_UNKNOWN;
    *out = self(ctx)->wall_offset + (int64_t)self(ctx)->now;
    return BMB_OK;
}

static void fill_random(void *ctx, void *out, size_t size)
{
    const uint16_t one = 1;
    const bool number = size == 2 || size == 4 || size == 8; /* the same one on every processor */
    const bool turned = number && *(const uint8_t *)&one == 0;
    for (size_t i = 0; i < size; i++) ((uint8_t *)out)[turned ? size - 1 - i : i] = ++self(ctx)->random_next;
}

static void log_event(void *ctx, const bmb_event *e)
{
    fake_port *f = self(ctx);
    f->now += f->slow_us[0];
    static const char *const levels[] = { "error", "warning", "info", "debug" };
    char out[100] = "";
    if (e->traffic != NULL)
        snprintf(out, sizeof out, " frames %u bytes %llu blocked %u", e->traffic->frames,
                 (unsigned long long)e->traffic->bytes, e->traffic->blocked_ms);
    fake_tell(f, "event %d %s %s feed %s peer %s value %lld extra %lld%s%s%s", e->code, levels[e->level],
              bmb_err_name(e->err), e->feed != NULL ? e->feed : "none", text_of(e->peer).text, (long long)e->value,
              (long long)e->extra, out, e->text != NULL ? " text " : "", e->text != NULL ? e->text : "");
    if (f->event_count < FAKE_EVENTS) f->events[f->event_count++] = *e;
}

static void wait_until(void *ctx, uint64_t until)
{
    if (until > self(ctx)->now) self(ctx)->now = until;
}

static void wake(void *ctx)
{
    (void)ctx;
}

static void show_light(void *ctx, bmb_light light)
{
    self(ctx)->light = light;
    fake_tell(self(ctx), "light %s", bmb_light_name(light));
}

static bool online(void *ctx)
{
    return !self(ctx)->offline;
}

static bmb_err load(void *ctx, const char *name, void *out, size_t room, size_t *got)
{
    fake_port *f = self(ctx);
    if (strcmp(name, f->record_name) != 0) return BMB_NOT_FOUND;
    if (f->record_size > room) return BMB_NO_ROOM;
    memcpy(out, f->record, f->record_size);
    *got = f->record_size;
    return BMB_OK;
}

static bmb_err store(void *ctx, const char *name, const void *data, size_t size)
{
    fake_port *f = self(ctx);
    f->now += f->slow_us[3];
    if (f->trace != NULL) {
        fprintf(f->trace, "  store %s:", name);
        for (size_t i = 0; i < size; i++) fprintf(f->trace, " %02X", ((const uint8_t *)data)[i]);
        fputc('\n', f->trace);
    }
    if (f->store_err != BMB_OK) return f->store_err;
    assert(size <= sizeof f->record);
    strncpy(f->record_name, name, sizeof f->record_name - 1);
    memcpy(f->record, data, size);
    f->record_size = size;
    return BMB_OK;
}

static bmb_sock new_sock(fake_port *f)
{
    for (bmb_sock i = 0; i < FAKE_SOCKS; i++) {
        fake_sock *s = &f->socks[i];
        if (s->open) continue;
        uint8_t *out = s->out != NULL ? s->out : malloc(FAKE_OUT + 1);
        uint8_t *in = s->in != NULL ? s->in : malloc(FAKE_IN);
        memset(s, 0, sizeof *s);
        s->out = out;
        s->in = in;
        s->open = true;
        s->listener = BMB_NO_SOCK;
        s->room = FAKE_OUT;
        if (i >= f->sock_end) f->sock_end = i + 1;
        return i;
    }
    return BMB_NO_SOCK;
}

static bmb_err open_bound(fake_port *f, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    *out = new_sock(f);
    if (*out == BMB_NO_SOCK) return BMB_LIMIT;
    f->socks[*out].addr = *addr;
    if (addr->port == 0)
        f->socks[*out].addr.port = f->next_bound = (uint16_t)(f->next_bound >= 60000 ? 40000 : f->next_bound + 1);
    *bound = f->socks[*out].addr;
    return BMB_OK;
}

static bmb_err listen_at(void *ctx, const bmb_addr *addr, bmb_sock *out, bmb_addr *bound)
{
    for (bmb_sock i = 0; addr->port != 0 && i < FAKE_SOCKS; i++)
        if (self(ctx)->socks[i].open && self(ctx)->socks[i].listening && self(ctx)->socks[i].addr.port == addr->port)
            return BMB_IN_USE;
    bmb_err err = open_bound(self(ctx), addr, out, bound);
    if (err == BMB_OK) self(ctx)->socks[*out].listening = true;
    fake_tell(self(ctx), "s%d listens at %s", *out, text_of(addr).text);
    return err;
}

static bmb_err accept_one(void *ctx, bmb_sock listener, bmb_sock *out, bmb_addr *peer)
{
    fake_port *f = self(ctx);
    for (bmb_sock i = 0; i < FAKE_SOCKS; i++) {
        if (!f->socks[i].open || f->socks[i].listener != listener) continue;
        if (f->accept_err != BMB_OK) return f->accept_err;
        f->socks[i].listener = BMB_NO_SOCK;
        *out = i;
        *peer = f->socks[i].peer;
        return BMB_OK;
    }
    return BMB_AGAIN;
}

static bmb_err local(void *ctx, bmb_sock s, bmb_addr *out)
{
    *out = self(ctx)->socks[s].addr;
    return BMB_OK;
}

static bmb_err dial(void *ctx, const bmb_addr *to, bmb_sock *out)
{
    fake_port *f = self(ctx);
    f->dials++;
    fake_tell(f, "dial %s", text_of(to).text);
    if (f->dial_err == BMB_NO_ROUTE) return BMB_NO_ROUTE; /* known at once */
    *out = f->dialled = new_sock(f);
    if (*out == BMB_NO_SOCK) return BMB_LIMIT;
    f->socks[*out].peer = *to;
    return BMB_OK;
}

static bmb_err dialled(void *ctx, bmb_sock sock)
{
    (void)sock;
    return self(ctx)->dial_err;
}

static bmb_err send_slices(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, size_t *taken)
{
    fake_sock *s = &self(ctx)->socks[sock];
    *taken = 0;
    self(ctx)->now += self(ctx)->slow_us[1];
    if (s->peer_gone) return BMB_GONE;
    for (size_t i = 0; i < count; i++) {
        size_t n = slices[i].size < s->room ? slices[i].size : s->room;
        assert(s->out_size + n <= FAKE_OUT);
        if (n > 0) memcpy(s->out + s->out_size, slices[i].data, n);
        s->out_size += n;
        s->sent += n;
        s->room -= n;
        *taken += n;
        if (n < slices[i].size) break;
    }
    return *taken == 0 ? BMB_AGAIN : BMB_OK;
}

static uint32_t sum_of(const uint8_t *data, size_t size)
{
    uint32_t hash = 2166136261u;
    for (size_t i = 0; i < size; i++) hash = (hash ^ data[i]) * 16777619u;
    return hash;
}

/* What is lent is as it was; what is acknowledged is forgotten. */
static void check_lent(fake_sock *s)
{
    size_t left = 0;
    for (size_t i = 0; i < s->lent_count; i++) {
        if (s->lent[i].at + s->lent[i].size <= s->acked) continue;
        assert(sum_of(s->lent[i].data, s->lent[i].size) == s->lent[i].sum);
        s->lent[left++] = s->lent[i];
    }
    s->lent_count = left;
}

static bmb_err send_lent(void *ctx, bmb_sock sock, const bmb_slice *slices, size_t count, const bmb_slice *lent,
                         size_t *taken)
{
    fake_sock *s = &self(ctx)->socks[sock];
    size_t left;
    bmb_err err = send_slices(ctx, sock, slices, count, taken);
    check_lent(s);
    left = *taken;
    for (size_t i = 0; i < count && left > 0; i++) {
        const uint8_t *data = slices[i].data, *begin = lent->data;
        size_t n = slices[i].size < left ? slices[i].size : left;
        if (n > 0 && data >= begin && data + slices[i].size <= begin + lent->size) {
            assert(s->lent_count < FAKE_LENT);
            s->lent[s->lent_count++] = (fake_lent){ data, n, s->sent - left, sum_of(data, n) };
        }
        left -= n;
    }
    return err;
}

static uint32_t unacked(void *ctx, bmb_sock sock)
{
    const fake_sock *s = &self(ctx)->socks[sock];
    return (uint32_t)(s->sent - s->acked);
}

void fake_lends(fake_port *f)
{
    f->port.net.send_lent = send_lent;
    f->port.net.unacked = unacked;
}

void fake_acknowledge(fake_port *f, bmb_sock s, size_t bytes)
{
    fake_sock *k = &f->socks[s];
    check_lent(k);
    k->acked += bytes < k->sent - k->acked ? bytes : k->sent - k->acked;
    check_lent(k);
}

static bmb_err receive(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got)
{
    fake_sock *s = &self(ctx)->socks[sock];
    size_t n = s->in_size - s->in_at < room ? s->in_size - s->in_at : room;
    *got = n;
    if (n == 0) return s->peer_gone ? BMB_GONE : BMB_AGAIN;
    memcpy(out, s->in + s->in_at, n);
    s->in_at += n;
    if (s->in_at == s->in_size) s->in_at = s->in_size = 0;
    return BMB_OK;
}

static void finish(void *ctx, bmb_sock s)
{
    self(ctx)->socks[s].finished = true;
    fake_tell(self(ctx), "s%d finishes", s);
}

static void bound_unsent(void *ctx, bmb_sock s, uint32_t bytes)
{
    self(ctx)->socks[s].unsent = bytes;
    fake_tell(self(ctx), "s%d unsent at most %u", s, bytes);
}

static void bound_buffer(void *ctx, bmb_sock s, uint32_t bytes)
{
    fake_tell(self(ctx), "s%d buffer at most %u", s, bytes);
}

/* Told in no trace: it may be asked at any time, and says what a test wants. */
static bmb_err path(void *ctx, bmb_sock s, bmb_net_path *out)
{
    *out = self(ctx)->socks[s].path;
    return out->waiting > 0 || out->kbps > 0 ? BMB_OK : BMB_UNKNOWN;
}

static bmb_err udp_open(void *ctx, const bmb_addr *addr, const bmb_udp_options *options, bmb_sock *out, bmb_addr *bound)
{
    if (self(ctx)->udp_open_err != BMB_OK) return self(ctx)->udp_open_err;
    bmb_err err = open_bound(self(ctx), addr, out, bound);
    if (err != BMB_OK) return err;
    self(ctx)->socks[*out].udp = true;
    fake_tell(self(ctx), "s%d datagrams at %s peer %s ttl %u interface %08X", *out, text_of(bound).text,
              text_of(options->peer).text, options->ttl, options->interface_ipv4);
    self(ctx)->socks[*out].connected = options->peer != NULL;
    if (options->peer != NULL) self(ctx)->socks[*out].peer = *options->peer;
    return BMB_OK;
}

static bmb_err udp_send(void *ctx, bmb_sock sock, const bmb_addr *to, const bmb_packet *packets, size_t count,
                        size_t *taken)
{
    fake_port *f = self(ctx);
    bmb_err err = f->socks[sock].udp_err;
    *taken = 0;
    assert((to == NULL) == (f->socks[sock].peer.family != 0 && f->socks[sock].connected));
    f->socks[sock].udp_err = BMB_OK;
    if (err != BMB_OK) return err;
    for (size_t i = 0; i < count; i++) {
        if (f->socks[sock].room == 0) return BMB_AGAIN;
        if (f->datagram_count == FAKE_DATAGRAMS)
            f->datagram_count = 0; /* a test that looks at them clears them itself */
        fake_datagram *d = &f->datagrams[f->datagram_count++];
        d->from = sock;
        d->to = to != NULL ? *to : f->socks[sock].peer;
        d->at_us = f->now;
        d->size = 0;
        for (size_t k = 0; k < packets[i].count; k++) {
            assert(d->size + packets[i].slices[k].size <= sizeof d->data);
            memcpy(d->data + d->size, packets[i].slices[k].data, packets[i].slices[k].size);
            d->size += packets[i].slices[k].size;
        }
        fake_tell_bytes(f, "to", text_of(&d->to).text, d->data, d->size);
        ++*taken;
    }
    return BMB_OK;
}

static bmb_err udp_unreachable(void *ctx, bmb_sock sock, bmb_addr *to)
{
    fake_port *f = self(ctx);
    (void)sock;
    if (f->unreachable_count == 0) return BMB_AGAIN;
    *to = f->unreachable[--f->unreachable_count];
    return BMB_OK;
}

/* Datagrams wait in `in`, each behind its size; the last one's sender in `peer`. */
static bmb_err udp_recv(void *ctx, bmb_sock sock, void *out, size_t room, size_t *got, bmb_addr *from)
{
    fake_sock *s = &self(ctx)->socks[sock];
    size_t size;
    if (s->in_size == s->in_at) return BMB_AGAIN;
    memcpy(&size, s->in + s->in_at, sizeof size);
    *got = size < room ? size : room;
    memcpy(out, s->in + s->in_at + sizeof size, *got);
    s->in_at += sizeof size + size;
    *from = s->peer;
    return BMB_OK;
}

static void close_sock(void *ctx, bmb_sock s)
{
    fake_tell_sent(self(ctx));
    fake_tell(self(ctx), "s%d closes", s);
    self(ctx)->socks[s].open = false;
    self(ctx)->socks[s].gone = true;
}

static bmb_err watch(void *ctx, bmb_sock s, uint32_t events, uint32_t token)
{
    self(ctx)->socks[s].watched = events;
    self(ctx)->socks[s].token = token;
    return BMB_OK;
}

static bool has_waiting(const fake_port *f, bmb_sock listener)
{
    for (bmb_sock i = 0; i < f->sock_end; i++)
        if (f->socks[i].open && f->socks[i].listener == listener) return true;
    return false;
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    fake_port *f = self(ctx);
    size_t n = 0;
    if (f->sock_end == 0) return 0;
    bmb_sock first = room < FAKE_SOCKS ? f->turn % f->sock_end : 0; /* with little room everyone gets a turn */
    for (bmb_sock k = 0; k < f->sock_end && n < room; k++) {
        bmb_sock i = (first + k) % f->sock_end;
        const fake_sock *s = &f->socks[i];
        if (!s->open || s->listener != BMB_NO_SOCK) continue;
        bool readable = s->listening ? has_waiting(f, i) : s->in_size > s->in_at || s->peer_gone;
        if (s->udp && !s->connected && f->unreachable_count > 0) readable = true;
        if (i == f->dialled && f->dials > 0 && f->dial_err == BMB_AGAIN) continue; /* on its way */
        uint32_t events = (readable ? BMB_READABLE : 0) | (s->room > 0 && !s->listening ? BMB_WRITABLE : 0);
        events = (events & s->watched) | (s->broken ? BMB_BROKEN : 0);
        if (events == 0) continue;
        out[n++] = (bmb_ready){ .token = s->token, .events = events };
        f->turn = i + 1;
    }
    return n;
}

static size_t camera_count(void *ctx)
{
    return self(ctx)->camera_count;
}

static bmb_err camera_info(void *ctx, size_t i, bmb_camera_info *out)
{
    if (i >= self(ctx)->camera_count) return BMB_NOT_FOUND;
    *out = self(ctx)->cameras[i].info;
    return BMB_OK;
}

static bmb_err camera_start(void *ctx, size_t i, const bmb_mode *asked, bmb_mode *effective)
{
    if (i >= self(ctx)->camera_count) return BMB_NOT_FOUND;
    fake_camera *c = &self(ctx)->cameras[i];
    c->starts++;
    fake_tell(self(ctx), "camera %zu starts %s %ux%u at %u: %s", i, bmb_codec_name(asked->codec), asked->width,
              asked->height, asked->mfps, bmb_err_name(c->start_err));
    if (c->start_err != BMB_OK) return c->start_err;
    c->running = true;
    c->mode = *effective = c->effective.width != 0 ? c->effective : *asked;
    return BMB_OK;
}

static void camera_stop(void *ctx, size_t i)
{
    self(ctx)->cameras[i].running = false;
    fake_tell(self(ctx), "camera %zu stops", i);
}

static bmb_err camera_take(void *ctx, size_t i, bmb_camera_frame *out)
{
    fake_camera *c = &self(ctx)->cameras[i];
    if (c->take_err != BMB_OK) return c->take_err;
    if (c->queued == 0) return BMB_AGAIN;
    self(ctx)->now += self(ctx)->slow_us[2];
    *out = c->queue[0];
    memmove(c->queue, c->queue + 1, --c->queued * sizeof c->queue[0]);
    if (c->lent == UINT64_MAX) abort();                         /* nobody gives anything back */
    while ((c->lent >> c->cookies % 64 & 1) != 0) c->cookies++; /* a still may be held for longer than 64 frames */
    out->cookie = c->cookies++ % 64;
    c->lent |= UINT64_C(1) << out->cookie;
    c->out++;
    return BMB_OK;
}

static void camera_release(void *ctx, size_t i, uintptr_t cookie)
{
    fake_camera *c = &self(ctx)->cameras[i];
    if (cookie >= 64 || (c->lent >> cookie & 1) == 0) abort(); /* never lent, or given back twice */
    c->lent &= ~(UINT64_C(1) << cookie);
    c->out--;
}

static bmb_err camera_key(void *ctx, size_t i)
{
    self(ctx)->cameras[i].key_requests++;
    fake_tell(self(ctx), "camera %zu: a key frame is asked for", i);
    return BMB_OK;
}

static bmb_err camera_set(void *ctx, size_t i, bmb_control control, int32_t value, int32_t *effective)
{
    fake_camera *c = &self(ctx)->cameras[i];
    fake_tell(self(ctx), "camera %zu sets %s to %d: %s", i, bmb_control_name(control), value, bmb_err_name(c->set_err));
    if (c->set_err != BMB_OK) return c->set_err;
    c->controls[control] = *effective = value;
    return BMB_OK;
}

static bmb_camera_fault camera_fault(void *ctx, size_t i)
{
    return self(ctx)->cameras[i].fault;
}

static bmb_err camera_get(void *ctx, size_t i, bmb_control control, int32_t *value)
{
    *value = self(ctx)->cameras[i].controls[control];
    return BMB_OK;
}

void fake_reset(fake_port *f)
{
    fake_datagram *datagrams = f->datagrams;
    for (size_t i = 0; i < FAKE_SOCKS; i++) {
        fake_sock *s = &f->socks[i];
        *s = (fake_sock){ .in = s->in, .out = s->out };
    }
    memset((uint8_t *)f + offsetof(fake_port, accept_err), 0, sizeof *f - offsetof(fake_port, accept_err));
    f->datagrams = datagrams;
    f->now = 1000000;
    f->next_bound = 40000;
    f->next_peer = 50000;
    f->wall_offset = 1790000000000000;
    f->port = (bmb_port){ .ctx = f,
                          .now_us = now_us,
                          .wall_us = wall_us,
                          .random = fill_random,
                          .hash = bmb_mbedtls_hash,
                          .log = log_event,
                          .wait = wait_until,
                          .wake = wake,
                          .light = show_light,
                          .online = online,
                          .storage = { .ctx = f, .load = load, .store = store } };
    f->port.net = (bmb_net){ .listen = listen_at,
                             .accept = accept_one,
                             .dial = dial,
                             .dialled = dialled,
                             .local = local,
                             .send = send_slices,
                             .recv = receive,
                             .finish = finish,
                             .bound_unsent = bound_unsent,
                             .bound_buffer = bound_buffer,
                             .path = path,
                             .udp_open = udp_open,
                             .udp_send = udp_send,
                             .udp_recv = udp_recv,
                             .udp_unreachable = udp_unreachable,
                             .close = close_sock,
                             .watch = watch,
                             .ready = ready };
    f->port.cameras = (bmb_cameras){ .ctx = f,
                                     .count = camera_count,
                                     .info = camera_info,
                                     .start = camera_start,
                                     .stop = camera_stop,
                                     .take = camera_take,
                                     .release = camera_release,
                                     .key_frame = camera_key,
                                     .set = camera_set,
                                     .get = camera_get,
                                     .fault = camera_fault };
}

fake_port *fake_create(void)
{
    fake_port *f = calloc(1, sizeof *f);
    f->datagrams = malloc(FAKE_DATAGRAMS * sizeof *f->datagrams);
    fake_reset(f);
    return f;
}

void fake_destroy(fake_port *f)
{
    for (size_t i = 0; i < FAKE_SOCKS; i++) {
        free(f->socks[i].out);
        free(f->socks[i].in);
    }
    free(f->datagrams);
    free(f);
}

fake_camera *fake_camera_add(fake_port *f, const char *name, bmb_codec codec)
{
    static const bmb_mode_row rows[] = { { BMB_CODEC_H264, 640, 480, 60000 },
                                         { BMB_CODEC_JPEG, 640, 480, 60000 },
                                         { BMB_CODEC_JPEG, 320, 240, 60000 } };
    fake_camera *c = &f->cameras[f->camera_count++];
    strncpy(c->info.name, name, sizeof c->info.name - 1);
    c->info.modes = codec == BMB_CODEC_H264 ? rows : rows + 1;
    c->info.mode_count = codec == BMB_CODEC_H264 ? 1 : 2;
    c->info.buffers = 4;
    return c;
}

void fake_frame(fake_port *f, size_t camera, const uint8_t *data, size_t size, bool key)
{
    fake_camera *c = &f->cameras[camera];
    assert(c->queued < 16);
    c->queue[c->queued++] = (bmb_camera_frame){ .data = data, .size = size, .capture_us = f->now, .key = key };
}

bmb_sock fake_connect(fake_port *f, size_t listener)
{
    bmb_sock s = new_sock(f);
    for (bmb_sock i = 0; i < FAKE_SOCKS; i++) {
        if (!f->socks[i].open || !f->socks[i].listening || listener-- > 0) continue;
        f->socks[s].listener = i;
        break;
    }
    f->socks[s].addr = (bmb_addr){ .family = 4, .ip = { 192, 0, 2, 1 }, .port = 8554 };
    f->socks[s].peer = (bmb_addr){ .family = 4, .ip = { 192, 0, 2, 99 }, .port = ++f->next_peer };
    return s;
}

void fake_say(fake_port *f, bmb_sock s, const void *data, size_t size)
{
    fake_sock *k = &f->socks[s];
    assert(k->in_size + size <= FAKE_IN);
    memcpy(k->in + k->in_size, data, size);
    k->in_size += size;
}

void fake_say_text(fake_port *f, bmb_sock s, const char *text)
{
    fake_say(f, s, text, strlen(text));
}

void fake_hang_up(fake_port *f, bmb_sock s)
{
    f->socks[s].peer_gone = true;
}

const char *fake_take(fake_port *f, bmb_sock s, size_t *size)
{
    fake_sock *k = &f->socks[s];
    const char *text = (const char *)k->out + k->out_read;
    size_t n = k->out_size - k->out_read;
    k->out[k->out_size] = '\0';
    k->out_read = k->out_size;
    if (k->out_size > FAKE_OUT / 2)
        k->out_read = k->out_size = k->out_told = 0; /* what was returned stays until the next send */
    if (size != NULL) *size = n;
    return text;
}

void fake_datagram_in(fake_port *f, uint16_t port, const bmb_addr *from, const void *data, size_t size)
{
    for (bmb_sock i = 0; i < FAKE_SOCKS; i++) {
        fake_sock *s = &f->socks[i];
        if (!s->open || !s->udp || s->addr.port != port) continue;
        if (s->in_at == s->in_size) s->in_at = s->in_size = 0;
        assert(s->in_size + sizeof size + size <= FAKE_IN);
        memcpy(s->in + s->in_size, &size, sizeof size);
        memcpy(s->in + s->in_size + sizeof size, data, size);
        s->in_size += sizeof size + size;
        s->peer = *from;
    }
}

size_t fake_event_count(const fake_port *f, bmb_event_code code)
{
    size_t n = 0;
    for (size_t i = 0; i < f->event_count; i++) n += f->events[i].code == code;
    return n;
}

void fake_settle(fake_port *f, bmb_device *d)
{
    bmb_ready some[1];
    for (int i = 0; i < 200; i++) {
        (void)bmb_step(d);
        if (ready(f, some, 1) == 0) return;
    }
    if (f->trace == NULL) return; /* drawn inputs break sockets that nobody watches yet */
    fprintf(stderr, "it spins: something is ready and nobody takes it\n");
    abort();
}

void fake_run(fake_port *f, bmb_device *d, uint64_t us)
{
    for (uint64_t end = f->now + us; f->now < end;) {
        f->now += end - f->now < 10000 ? end - f->now : 10000;
        fake_settle(f, d);
    }
}

static size_t put(uint8_t *out, const void *data, size_t size)
{
    memcpy(out, data, size);
    return size;
}

size_t fake_jpeg(uint8_t *out, uint16_t width, uint16_t height, size_t size)
{
    /* ITU-T T.81 tables K.3, K.5, K.4 and K.6 */
    static const uint8_t counts[4][16] = { { 0, 1, 5, 1, 1, 1, 1, 1, 1 },
                                           { 0, 2, 1, 3, 3, 2, 4, 3, 5, 5, 4, 4, 0, 0, 1, 0x7D },
                                           { 0, 3, 1, 1, 1, 1, 1, 1, 1, 1, 1 },
                                           { 0, 2, 1, 2, 4, 4, 3, 4, 7, 5, 4, 4, 0, 1, 2, 0x77 } };
    static const uint8_t dc[12] = { 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11 };
    static const uint8_t ac_luma[162] = {
        0x01, 0x02, 0x03, 0x00, 0x04, 0x11, 0x05, 0x12, 0x21, 0x31, 0x41, 0x06, 0x13, 0x51, 0x61, 0x07, 0x22, 0x71,
        0x14, 0x32, 0x81, 0x91, 0xA1, 0x08, 0x23, 0x42, 0xB1, 0xC1, 0x15, 0x52, 0xD1, 0xF0, 0x24, 0x33, 0x62, 0x72,
        0x82, 0x09, 0x0A, 0x16, 0x17, 0x18, 0x19, 0x1A, 0x25, 0x26, 0x27, 0x28, 0x29, 0x2A, 0x34, 0x35, 0x36, 0x37,
        0x38, 0x39, 0x3A, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4A, 0x53, 0x54, 0x55, 0x56, 0x57, 0x58, 0x59,
        0x5A, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69, 0x6A, 0x73, 0x74, 0x75, 0x76, 0x77, 0x78, 0x79, 0x7A, 0x83,
        0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8A, 0x92, 0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9A, 0xA2, 0xA3,
        0xA4, 0xA5, 0xA6, 0xA7, 0xA8, 0xA9, 0xAA, 0xB2, 0xB3, 0xB4, 0xB5, 0xB6, 0xB7, 0xB8, 0xB9, 0xBA, 0xC2, 0xC3,
        0xC4, 0xC5, 0xC6, 0xC7, 0xC8, 0xC9, 0xCA, 0xD2, 0xD3, 0xD4, 0xD5, 0xD6, 0xD7, 0xD8, 0xD9, 0xDA, 0xE1, 0xE2,
        0xE3, 0xE4, 0xE5, 0xE6, 0xE7, 0xE8, 0xE9, 0xEA, 0xF1, 0xF2, 0xF3, 0xF4, 0xF5, 0xF6, 0xF7, 0xF8, 0xF9, 0xFA
    };
    static const uint8_t ac_chroma[162] = {
        0x00, 0x01, 0x02, 0x03, 0x11, 0x04, 0x05, 0x21, 0x31, 0x06, 0x12, 0x41, 0x51, 0x07, 0x61, 0x71, 0x13, 0x22,
        0x32, 0x81, 0x08, 0x14, 0x42, 0x91, 0xA1, 0xB1, 0xC1, 0x09, 0x23, 0x33, 0x52, 0xF0, 0x15, 0x62, 0x72, 0xD1,
        0x0A, 0x16, 0x24, 0x34, 0xE1, 0x25, 0xF1, 0x17, 0x18, 0x19, 0x1A, 0x26, 0x27, 0x28, 0x29, 0x2A, 0x35, 0x36,
        0x37, 0x38, 0x39, 0x3A, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4A, 0x53, 0x54, 0x55, 0x56, 0x57, 0x58,
        0x59, 0x5A, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69, 0x6A, 0x73, 0x74, 0x75, 0x76, 0x77, 0x78, 0x79, 0x7A,
        0x82, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8A, 0x92, 0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9A,
        0xA2, 0xA3, 0xA4, 0xA5, 0xA6, 0xA7, 0xA8, 0xA9, 0xAA, 0xB2, 0xB3, 0xB4, 0xB5, 0xB6, 0xB7, 0xB8, 0xB9, 0xBA,
        0xC2, 0xC3, 0xC4, 0xC5, 0xC6, 0xC7, 0xC8, 0xC9, 0xCA, 0xD2, 0xD3, 0xD4, 0xD5, 0xD6, 0xD7, 0xD8, 0xD9, 0xDA,
        0xE2, 0xE3, 0xE4, 0xE5, 0xE6, 0xE7, 0xE8, 0xE9, 0xEA, 0xF2, 0xF3, 0xF4, 0xF5, 0xF6, 0xF7, 0xF8, 0xF9, 0xFA
    };
    static const uint8_t *const symbols[4] = { dc, ac_luma, dc, ac_chroma };
    static const uint8_t classes[4] = { 0x00, 0x10, 0x01, 0x11 };
    size_t n = put(out, "\xFF\xD8", 2);
    for (uint8_t t = 0; t < 2; t++) {
        n += put(out + n, "\xFF\xDB\x00\x43", 4);
        out[n++] = t;
        for (int i = 0; i < 64; i++) out[n++] = (uint8_t)(t * 100 + i + 1);
    }
    const uint8_t sof[] = { 0xFF,
                            0xC0,
                            0,
                            17,
                            8,
                            (uint8_t)(height >> 8),
                            (uint8_t)height,
                            (uint8_t)(width >> 8),
                            (uint8_t)width,
                            3,
                            1,
                            0x22,
                            0,
                            2,
                            0x11,
                            1,
                            3,
                            0x11,
                            1 };
    n += put(out + n, sof, sizeof sof);
    for (int t = 0; t < 4; t++) {
        unsigned values = 0;
        for (int i = 0; i < 16; i++) values += counts[t][i];
        const uint8_t head[] = { 0xFF, 0xC4, (uint8_t)((19 + values) >> 8), (uint8_t)(19 + values), classes[t] };
        n += put(out + n, head, sizeof head);
        n += put(out + n, counts[t], 16);
        n += put(out + n, symbols[t], values);
    }
    n += put(out + n, "\xFF\xDA\x00\x0C\x03\x01\x00\x02\x11\x03\x11\x00\x3F\x00", 14);
    while (n + 2 < size) {
        out[n] = (uint8_t)(n * 7 % 251);
        n++;
    }
    return n + put(out + n, "\xFF\xD9", 2);
}

void fake_device_prepare(fake_device *t, bmb_codec codec)
{
    fake_device_again(t, fake_create(), codec);
}

void fake_device_again(fake_device *t, fake_port *f, bmb_codec codec)
{
    memset(t, 0, sizeof *t);
    t->f = f;
    fake_camera_add(t->f, "yard", codec);
    t->feeds[0] = (bmb_feed_config){ .name = "yard",
                                     .title = "Sidings",
                                     .camera = "yard",
                                     .mode = { codec, 640, 480, 15000 },
                                     .frame_max = 20000,
                                     .reel_bytes = 160000 };
    t->outlets[0] = (bmb_outlet_config){ .kind = BMB_OUTLET_HTTP, .listen = { .family = 4, .port = 8080 } };
    bmb_config_init(&t->config);
    t->config.port = &t->f->port;
    t->config.feeds = t->feeds;
    t->config.feed_count = 1;
    t->config.outlets = t->outlets;
    t->config.outlet_count = 1;
    t->config.host_viewers = 4000; /* all come from one host */
    t->config.stall_ms = 5000;
}

void fake_device_open(fake_device *t)
{
    bmb_fault fault;
    bmb_err err = bmb_budget_of(&t->config, &t->budget, &fault);
    assert(err == BMB_OK);
    t->memory = malloc(t->budget.total);
    err = bmb_open(&t->config, t->memory, t->budget.total, &t->device, &fault);
    assert(err == BMB_OK);
    (void)err;
}

void fake_device_close(fake_device *t)
{
    bmb_close(t->device);
    free(t->memory);
    fake_destroy(t->f);
}
