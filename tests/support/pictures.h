/* Reads decoded pictures from an independent decoder and the strip in each. */
#ifndef BMB_TESTS_PICTURES_H
#define BMB_TESTS_PICTURES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>

typedef struct pictures {
    size_t count;      /* decoded */
    size_t unreadable; /* without a readable strip */
    size_t repeated;   /* same frame number as the one before */
    size_t backward;   /* a lower one */
    size_t missing;    /* frame numbers left out between the first and the last */
    uint32_t first, last;
    uint64_t first_us, last_us;        /* when those two were taken, Unix time */
    double age_ms_median, age_ms_most; /* capture to our reading of the decoded picture */
} pictures;

/* Of a clip that begins again after so many pictures, numbers that begin again go on. 0: it does not. */
extern uint32_t pictures_loop;

/* `command` writes 8-bit luma planes of that size to its standard output; at most `most` are read, or for `seconds`.
 * Ages leave out the first `skip` pictures, which a decoder may hold back while it starts. */
void pictures_read(pictures *out, uint16_t width, uint16_t height, size_t most, size_t skip, const char *command);

/* What the device handed out meanwhile, as another reader saw it (tests/e2e/handed_out.py): a picture that the camera
 * of a busy machine left out is nobody's loss. */
typedef struct witness {
    FILE *reader; /* ends as this is closed */
    char path[64];
} witness;

/* Watches a feed by the framed protocol at a port of 127.0.0.1; returns when its first picture came. */
bool witness_start(witness *w, uint16_t port, const char *feed);
/* Ends it. How many of its pictures are not among those that were read, between the first and the last of them? */
size_t witness_missed(witness *w, const pictures *p);

#endif
