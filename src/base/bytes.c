#include "base/bytes.h"

#include "bambino/options.h"

#include <stdarg.h>
#include <string.h>

bmb_reader bmb_reader_of(const void *data, size_t size)
{
    const uint8_t *start = (const uint8_t *)data;
    return (bmb_reader){ .at = start, .end = size > 0 ? start + size : start, .failed = false };
}

size_t bmb_left(const bmb_reader *r)
{
    return r->failed ? 0 : (size_t)(r->end - r->at);
}

const uint8_t *bmb_get_bytes(bmb_reader *r, size_t n)
{
    if (bmb_left(r) < n) {
        r->failed = true;
        return NULL;
    }
    const uint8_t *here = r->at;
    r->at += n;
    return here;
}

static uint32_t get_big_endian(bmb_reader *r, size_t n)
{
    const uint8_t *b = bmb_get_bytes(r, n);
    uint32_t v = 0;
    for (size_t i = 0; b != NULL && i < n; i++) v = v << 8 | b[i];
    return v;
}

uint8_t bmb_get_u8(bmb_reader *r)
{
    return (uint8_t)get_big_endian(r, 1);
}
uint16_t bmb_get_u16(bmb_reader *r)
{
    return (uint16_t)get_big_endian(r, 2);
}
uint32_t bmb_get_u24(bmb_reader *r)
{
    return get_big_endian(r, 3);
}
uint32_t bmb_get_u32(bmb_reader *r)
{
    return get_big_endian(r, 4);
}

bmb_writer bmb_writer_of(void *data, size_t room)
{
    uint8_t *start = (uint8_t *)data;
    return (bmb_writer){ .start = start, .at = start, .end = start + room, .failed = false };
}

size_t bmb_written(const bmb_writer *w)
{
    return w->failed ? 0 : (size_t)(w->at - w->start);
}

void bmb_put_bytes(bmb_writer *w, const void *data, size_t n)
{
    if (w->failed || (size_t)(w->end - w->at) < n) {
        w->failed = true;
        return;
    }
    if (n > 0) memcpy(w->at, data, n);
    w->at += n;
}

static void put_big_endian(bmb_writer *w, uint32_t v, unsigned n)
{
    uint8_t b[4];
    for (unsigned i = 0; i < n; i++) b[i] = (uint8_t)(v >> (8 * (n - 1 - i)));
    bmb_put_bytes(w, b, n);
}

void bmb_put_u8(bmb_writer *w, uint8_t v)
{
    put_big_endian(w, v, 1);
}
void bmb_put_u16(bmb_writer *w, uint16_t v)
{
    put_big_endian(w, v, 2);
}
void bmb_put_u24(bmb_writer *w, uint32_t v)
{
    put_big_endian(w, v, 3);
}
void bmb_put_u32(bmb_writer *w, uint32_t v)
{
    put_big_endian(w, v, 4);
}

void bmb_put_str(bmb_writer *w, const char *text)
{
    bmb_put_bytes(w, text, strlen(text));
}

void bmb_put_dec(bmb_writer *w, uint64_t v)
{
    char digits[20];
    size_t n = sizeof digits;
    do {
        digits[--n] = (char)('0' + v % 10);
        v /= 10;
    } while (v != 0);
    bmb_put_bytes(w, digits + n, sizeof digits - n);
}

void bmb_put_text(bmb_writer *w, const char *form, ...)
{
    va_list values;
    va_start(values, form);
    for (;;) {
        size_t plain = strcspn(form, "%");
        bmb_put_bytes(w, form, plain);
        if (form[plain] == '\0') break;
        if (form[plain + 1] == 's') {
            bmb_put_str(w, va_arg(values, const char *));
        } else {
            bmb_put_dec(w, va_arg(values, unsigned));
        }
        form += plain + 2;
    }
    va_end(values);
}

void bmb_put_hex(bmb_writer *w, uint64_t v, unsigned digits)
{
    for (unsigned i = digits; i-- > 0;) bmb_put_u8(w, (uint8_t) "0123456789ABCDEF"[v >> (4 * i) & 15]);
}

void bmb_put_milli(bmb_writer *w, uint32_t thousandths)
{
    uint32_t rest = thousandths % 1000;
    const char digits[4] = { '.', (char)('0' + rest / 100), (char)('0' + rest / 10 % 10), (char)('0' + rest % 10) };
    size_t n = sizeof digits;
    while (n > 1 && digits[n - 1] == '0') n--;
    bmb_put_dec(w, thousandths / 1000);
    if (n > 1) bmb_put_bytes(w, digits, n);
}

void bmb_put_base64(bmb_writer *w, const void *data, size_t n)
{
    static const char code[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    const uint8_t *b = (const uint8_t *)data;
    for (size_t i = 0; i < n; i += 3) {
        size_t have = n - i < 3 ? n - i : 3;
        uint32_t v = (uint32_t)b[i] << 16;
        if (have > 1) v |= (uint32_t)b[i + 1] << 8;
        if (have > 2) v |= b[i + 2];
        char out[4] = { code[v >> 18], code[v >> 12 & 63], '=', '=' };
        if (have > 1) out[2] = code[v >> 6 & 63];
        if (have > 2) out[3] = code[v & 63];
        bmb_put_bytes(w, out, sizeof out);
    }
}

/* The longest run of zero groups, of two or more, becomes "::" (RFC 5952 4.2). */
#if BMB_WITH_IPV6
static void put_ip6(bmb_writer *w, const uint8_t ip[16])
{
    uint16_t group[8];
    unsigned best = 8, best_run = 1;
    for (unsigned i = 0; i < 8; i++) group[i] = (uint16_t)(ip[2 * i] << 8 | ip[2 * i + 1]);
    for (unsigned i = 0; i < 8; i++) {
        unsigned run = 0;
        while (i + run < 8 && group[i + run] == 0) run++;
        if (run > best_run) {
            best = i;
            best_run = run;
        }
    }
    for (unsigned i = 0; i < 8; i++) {
        if (i == best) {
            bmb_put_str(w, "::");
            i += best_run - 1;
            continue;
        }
        if (i > 0 && i != best + best_run) bmb_put_u8(w, ':');
        unsigned digits = group[i] > 0xfff ? 4 : group[i] > 0xff ? 3 : group[i] > 0xf ? 2 : 1;
        for (unsigned d = digits; d-- > 0;) bmb_put_u8(w, (uint8_t) "0123456789abcdef"[group[i] >> (4 * d) & 15]);
    }
}
#endif

void bmb_put_ip(bmb_writer *w, const bmb_addr *addr)
{
#if BMB_WITH_IPV6
    if (addr->family == 6) {
        put_ip6(w, addr->ip);
        return;
    }
#endif
    for (unsigned i = 0; i < 4; i++) {
        if (i > 0) bmb_put_u8(w, '.');
        bmb_put_dec(w, addr->ip[i]);
    }
}

bool bmb_equal(const uint8_t *a, const uint8_t *b, size_t size)
{
    uint32_t one, other;
    for (; size >= 4; a += 4, b += 4, size -= 4) {
        memcpy(&one, a, 4);
        memcpy(&other, b, 4);
        if (one != other) return false;
    }
    for (; size > 0; size--)
        if (*a++ != *b++) return false;
    return true;
}

/* The high bit of each byte of the word that is 0, and perhaps of others above the first of them. */
__attribute__((always_inline)) static inline uint32_t zeros_in(const uint8_t *at, uint32_t pattern)
{
    uint32_t word;
    memcpy(&word, __builtin_assume_aligned(at, 4), sizeof word);
    word ^= pattern;
    return (word - 0x01010101u) & ~word & 0x80808080u;
}

__attribute__((always_inline)) static inline uint32_t zeros_in_16(const uint8_t *at, uint32_t pattern)
{
    return zeros_in(at, pattern) | zeros_in(at + 4, pattern) | zeros_in(at + 8, pattern) | zeros_in(at + 12, pattern);
}

const uint8_t *bmb_find_by_words(const uint8_t *data, size_t size, uint8_t value)
{
    const uint8_t *end = data + size;
    uint32_t pattern = value * 0x01010101u;
    for (; data < end && (uintptr_t)data % 4 != 0; data++)
        if (*data == value) return data;
    while (end - data >= 32 && (zeros_in_16(data, pattern) | zeros_in_16(data + 16, pattern)) == 0) data += 32;
    while (end - data >= 4 && zeros_in(data, pattern) == 0) data += 4;
    for (; data < end; data++)
        if (*data == value) return data;
    return NULL;
}

const uint8_t *bmb_find(const uint8_t *data, size_t size, uint8_t value)
{
    if (sizeof(void *) > 4) return (const uint8_t *)memchr(data, value, size); /* written for such processors */
    return bmb_find_by_words(data, size, value);
}

bool bmb_same(const char *text, size_t size, const char *literal)
{
    return strlen(literal) == size && memcmp(text, literal, size) == 0;
}

static char lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c + ('a' - 'A')) : c;
}

bool bmb_same_nocase(const char *text, size_t size, const char *literal)
{
    if (strlen(literal) != size) return false;
    for (size_t i = 0; i < size; i++)
        if (lower(text[i]) != lower(literal[i])) return false;
    return true;
}

bool bmb_read_dec(const char *text, size_t size, uint32_t most, uint32_t *out)
{
    uint64_t v = 0;
    if (size == 0 || size > 10) return false;
    for (size_t i = 0; i < size; i++) {
        if (text[i] < '0' || text[i] > '9') return false;
        v = v * 10 + (uint64_t)(text[i] - '0');
    }
    if (v > most) return false;
    *out = (uint32_t)v;
    return true;
}

size_t bmb_add(size_t a, size_t b)
{
    return a > SIZE_MAX - b ? SIZE_MAX : a + b;
}

size_t bmb_mul(size_t a, size_t b)
{
    return b != 0 && a > SIZE_MAX / b ? SIZE_MAX : a * b;
}

size_t bmb_align(size_t n)
{
    return bmb_add(n, BMB_ALIGN - 1) / BMB_ALIGN * BMB_ALIGN;
}

bool bmb_same_host(const bmb_addr *a, const bmb_addr *b)
{
    return a->family == b->family && memcmp(a->ip, b->ip, BMB_WITH_IPV6 && a->family == 6 ? 16 : 4) == 0;
}

bool bmb_is_loopback(const bmb_addr *a)
{
#if BMB_WITH_IPV6
    static const uint8_t six[16] = { [15] = 1 };
    if (a->family == 6) return memcmp(a->ip, six, sizeof six) == 0;
#endif
    return a->family == 4 && a->ip[0] == 127;
}

uint64_t bmb_member(const void *of, size_t at, size_t size)
{
    const uint8_t *here = (const uint8_t *)of + at;
    uint64_t u64;
    uint32_t u32;
    uint16_t u16;
    if (size == sizeof u64) {
        memcpy(&u64, here, sizeof u64);
        return u64;
    }
    if (size == sizeof u32) {
        memcpy(&u32, here, sizeof u32);
        return u32;
    }
    if (size != sizeof u16) return *here;
    memcpy(&u16, here, sizeof u16);
    return u16;
}
