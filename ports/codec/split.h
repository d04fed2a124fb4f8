/* Cuts a stream of bytes into pictures: JPEG images one behind the other, an H.264 byte stream (ITU-T H.264 annex B),
 * or raw pictures of a known size. What it is, is found by looking at it. Private to ports/.
 */
#ifndef BMB_CODEC_SPLIT_H
#define BMB_CODEC_SPLIT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define SPLIT_MOST (24u << 20) /* bytes of one picture; beyond that it is none */

typedef enum split_kind { SPLIT_UNKNOWN = 0, SPLIT_JPEG, SPLIT_H264, SPLIT_RAW } split_kind;

typedef struct splitter {
    split_kind kind;
    size_t raw_bytes; /* of one raw picture */
    uint8_t *data;
    size_t room, begin, size; /* what waits stands from begin on, size bytes */
    size_t scanned;           /* of these, looked at already */
    bool had_picture;         /* H.264: the access unit has a slice */
    uint64_t skipped;         /* bytes that belonged to no picture */
} splitter;

/* kind SPLIT_UNKNOWN: to be found out. */
void splitter_begin(splitter *s, split_kind kind, size_t raw_bytes);
void splitter_free(splitter *s);
/* false: there is no memory, or what came is no picture for SPLIT_MOST bytes; it begins anew then. */
bool splitter_add(splitter *s, const void *data, size_t size);
/* The next whole picture, which stays until the next call of any of these. idle: nothing has come for a while, so that
 * a last H.264 picture counts as whole that would else wait for the one behind it. false: there is none yet. */
bool splitter_next(splitter *s, bool idle, const uint8_t **picture, size_t *size);

#endif
