/* printf's family for boards without a heap: newlib's allocates for each fraction that it prints. Knows flags 0 and -,
 * width, precision, h l ll j z, and d i u x X c s p f g %; a fraction has at most nine digits. */
#include <math.h>
#include <stdarg.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>

typedef struct output {
    char *at;
    size_t room, size; /* size: as if there were room */
} output;

typedef struct spec {
    bool zero, left;
    int width, precision; /* precision -1: not given */
    int longs;            /* 0: int; 1: long, size_t; 2: long long, intmax_t */
} spec;

static void put(output *o, char c)
{
    if (o->size + 1 < o->room) o->at[o->size] = c;
    o->size++;
}

static void put_padded(output *o, const spec *s, const char *text, size_t size)
{
    size_t pad = s->width > 0 && (size_t)s->width > size ? (size_t)s->width - size : 0;
    bool zero = s->zero && !s->left;
    if (zero && size > 0 && *text == '-') {
        put(o, *text++);
        size--;
    }
    for (size_t i = 0; i < pad && !s->left; i++) put(o, zero ? '0' : ' ');
    for (size_t i = 0; i < size; i++) put(o, text[i]);
    for (size_t i = 0; i < pad && s->left; i++) put(o, ' ');
}

/* Digits from the end of `end` on backwards; returns where they begin. */
static char *digits(char *end, uint64_t value, unsigned base, char ten)
{
    do {
        unsigned digit = (unsigned)(value % base);
        *--end = (char)(digit < 10 ? '0' + digit : ten + digit - 10);
        value /= base;
    } while (value > 0);
    return end;
}

static void put_number(output *o, const spec *s, uint64_t value, bool negative, unsigned base, char ten)
{
    char text[24], *end = text + sizeof text, *at = digits(end, value, base, ten);
    if (negative) *--at = '-';
    put_padded(o, s, at, (size_t)(end - at));
}

/* trim: without zeros at the end, as g has it. */
static void put_fraction(output *o, const spec *s, double value, bool trim)
{
    char text[40], *end = text + sizeof text, *at = end;
    int places = s->precision < 0 ? 6 : s->precision > 9 ? 9 : s->precision;
    bool negative = value < 0;
    uint64_t scale = 1;
    for (int i = 0; i < places; i++) scale *= 10;
    if (negative) value = -value;
    if (!(value < 1e9)) { /* beyond what is printed here, or no number */
        put_padded(o, s, value >= 1e9 ? "large" : "nan", value >= 1e9 ? 5 : 3);
        return;
    }
    uint64_t scaled = (uint64_t)(value * (double)scale + 0.5), fraction = scaled % scale;
    for (int i = 0; i < places; i++, fraction /= 10) *--at = (char)('0' + fraction % 10);
    while (trim && end > at && end[-1] == '0') end--;
    if (end > at) *--at = '.';
    char *whole = digits(at, scaled / scale, 10, 'a');
    if (negative) *--whole = '-';
    put_padded(o, s, whole, (size_t)(end - whole));
}

static const char *read_int(const char *f, va_list *args, int *out)
{
    *out = 0;
    if (*f == '*') {
        *out = va_arg(*args, int);
        return f + 1;
    }
    while (*f >= '0' && *f <= '9') *out = *out * 10 + (*f++ - '0');
    return f;
}

static const char *read_spec(const char *f, va_list *args, spec *s)
{
    *s = (spec){ .precision = -1 };
    for (; *f == '0' || *f == '-'; f++) *(*f == '0' ? &s->zero : &s->left) = true;
    f = read_int(f, args, &s->width);
    if (*f == '.') f = read_int(f + 1, args, &s->precision);
    for (; *f == 'l' || *f == 'h' || *f == 'z' || *f == 'j'; f++) s->longs += *f == 'j' ? 2 : *f == 'h' ? 0 : 1;
    return f;
}

static void put_signed(output *o, const spec *s, va_list *args)
{
    int64_t value = s->longs > 1 ? va_arg(*args, long long) : s->longs == 1 ? va_arg(*args, long) : va_arg(*args, int);
    put_number(o, s, value < 0 ? (uint64_t)0 - (uint64_t)value : (uint64_t)value, value < 0, 10, 'a');
}

static uint64_t take_unsigned(const spec *s, va_list *args)
{
    if (s->longs > 1) return va_arg(*args, unsigned long long);
    return s->longs == 1 ? va_arg(*args, unsigned long) : va_arg(*args, unsigned);
}

static void put_text(output *o, const spec *s, const char *text)
{
    size_t size = 0;
    if (text == NULL) text = "(null)";
    while (text[size] != '\0' && (s->precision < 0 || size < (size_t)s->precision)) size++;
    put_padded(o, s, text, size);
}

static void put_one(output *o, const spec *s, char kind, va_list *args)
{
    char c;
    switch (kind) {
    case 'd':
    case 'i':
        put_signed(o, s, args);
        break;
    case 'u':
        put_number(o, s, take_unsigned(s, args), false, 10, 'a');
        break;
    case 'x':
    case 'X':
        put_number(o, s, take_unsigned(s, args), false, 16, kind == 'x' ? 'a' : 'A');
        break;
    case 'p':
        put_number(o, s, (uintptr_t)va_arg(*args, void *), false, 16, 'a');
        break;
    case 'c':
        c = (char)va_arg(*args, int);
        put_padded(o, s, &c, 1);
        break;
    case 's':
        put_text(o, s, va_arg(*args, const char *));
        break;
    case 'f':
    case 'g':
        put_fraction(o, s, va_arg(*args, double), kind == 'g');
        break;
    default:
        put(o, kind);
    }
}

int vsnprintf(char *out, size_t room, const char *format, va_list list)
{
    output o = { .at = out, .room = room };
    va_list args;
    va_copy(args, list);
    for (const char *f = format; *f != '\0'; f++) {
        spec s;
        if (*f != '%') {
            put(&o, *f);
            continue;
        }
        f = read_spec(f + 1, &args, &s);
        if (*f == '\0') break;
        put_one(&o, &s, *f, &args);
    }
    va_end(args);
    if (room > 0) out[o.size < room ? o.size : room - 1] = '\0';
    return (int)o.size;
}

int snprintf(char *out, size_t room, const char *format, ...)
{
    va_list args;
    va_start(args, format);
    int n = vsnprintf(out, room, format, args);
    va_end(args);
    return n;
}

int sprintf(char *out, const char *format, ...)
{
    va_list args;
    va_start(args, format);
    int n = vsnprintf(out, INT32_MAX, format, args);
    va_end(args);
    return n;
}

/* cJSON names it for numbers that are no integers, of which the device hands it none. */
int sscanf(const char *text, const char *format, ...)
{
    (void)text;
    (void)format;
    return 0;
}
