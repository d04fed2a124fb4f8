/* Checked reading and writing of bytes. Every parser and writer in the core goes through these two.
 *
 * A reader or writer that once ran over its end stays failed, reads zeros and writes nothing, so that a caller may do
 * a run of operations and check once.
 */
#ifndef BMB_BASE_BYTES_H
#define BMB_BASE_BYTES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/event.h"

typedef struct bmb_reader {
    const uint8_t *at, *end;
    bool failed;
} bmb_reader;

bmb_reader bmb_reader_of(const void *data, size_t size);
size_t bmb_left(const bmb_reader *r);
uint8_t bmb_get_u8(bmb_reader *r);
uint16_t bmb_get_u16(bmb_reader *r); /* big-endian, as all below */
uint32_t bmb_get_u24(bmb_reader *r);
uint32_t bmb_get_u32(bmb_reader *r);
/* Steps over n bytes and returns where they begin, or NULL. */
const uint8_t *bmb_get_bytes(bmb_reader *r, size_t n);

typedef struct bmb_writer {
    uint8_t *start, *at, *end;
    bool failed;
} bmb_writer;

bmb_writer bmb_writer_of(void *data, size_t room);
size_t bmb_written(const bmb_writer *w); /* 0 when it failed */
void bmb_put_u8(bmb_writer *w, uint8_t v);
void bmb_put_u16(bmb_writer *w, uint16_t v);
void bmb_put_u24(bmb_writer *w, uint32_t v);
void bmb_put_u32(bmb_writer *w, uint32_t v);
void bmb_put_bytes(bmb_writer *w, const void *data, size_t n);

/* Big-endian stores at a place that is known to have room: for headers of a fixed size. */
static inline void bmb_store_u16(uint8_t *at, uint16_t v)
{
    at[0] = (uint8_t)(v >> 8);
    at[1] = (uint8_t)v;
}
static inline void bmb_store_u32(uint8_t *at, uint32_t v)
{
    bmb_store_u16(at, (uint16_t)(v >> 16));
    bmb_store_u16(at + 2, (uint16_t)v);
}

/* Text, without stdio. */
void bmb_put_str(bmb_writer *w, const char *text);
void bmb_put_dec(bmb_writer *w, uint64_t v);
/* A text in which each %s stands for a text, and each %u for an unsigned int in decimal; there is nothing else. One
 * call in place of many is what keeps the answers small on a microcontroller. */
void bmb_put_text(bmb_writer *w, const char *form, ...) __attribute__((format(printf, 2, 3)));
void bmb_put_hex(bmb_writer *w, uint64_t v, unsigned digits); /* upper case, leading zeros */
/* thousandths as a decimal fraction without needless zeros: 7500 gives "7.5", 15000 gives "15". */
void bmb_put_milli(bmb_writer *w, uint32_t thousandths);
/* RFC 4648 4, with padding. */
void bmb_put_base64(bmb_writer *w, const void *data, size_t n);
/* An IP address without port or brackets; IPv6 by RFC 5952. */
void bmb_put_ip(bmb_writer *w, const bmb_addr *addr);

/* Text comparisons on (pointer, length). */
bool bmb_same(const char *text, size_t size, const char *literal);
bool bmb_same_nocase(const char *text, size_t size, const char *literal); /* ASCII */
/* Reads a decimal number that is the whole text and at most `most`; false otherwise. */
bool bmb_read_dec(const char *text, size_t size, uint32_t most, uint32_t *out);

/* As memcmp, of which the same holds. */
bool bmb_equal(const uint8_t *a, const uint8_t *b, size_t size);
/* The first byte of that value in `size` bytes; NULL: there is none. As memchr, whose version in a microcontroller's C
 * library looks at byte by byte. */
const uint8_t *bmb_find(const uint8_t *data, size_t size, uint8_t value);
const uint8_t *bmb_find_by_words(const uint8_t *data, size_t size, uint8_t value); /* what it is there */

/* Arithmetic on sizes that stops at SIZE_MAX, so that a sum too large can never look small. */
size_t bmb_add(size_t a, size_t b);
size_t bmb_mul(size_t a, size_t b);
/* A member of a struct that is an unsigned number of 1, 2, 4 or 8 bytes, for tables of members. */
uint64_t bmb_member(const void *of, size_t at, size_t size);

/* The next multiple of BMB_ALIGN. */
size_t bmb_align(size_t n);
#define BMB_ALIGN 16u

/* true when both are the same host; ports do not count. */
bool bmb_same_host(const bmb_addr *a, const bmb_addr *b);
bool bmb_is_loopback(const bmb_addr *a);

#endif
