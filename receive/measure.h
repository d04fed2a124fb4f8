/* What arrives at a receiver, in numbers. No socket, no clock, no thread: whoever calls says when it was. Times are
 * microseconds.
 */
#ifndef RECEIVE_MEASURE_H
#define RECEIVE_MEASURE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define MEASURE_MS_MOST 10000u

/* A distribution in steps of a millisecond; the last step is "so much or more". */
typedef struct measure_spread {
    uint32_t at[MEASURE_MS_MOST + 1], count;
    int64_t least_us, most_us;
} measure_spread;

void measure_spread_add(measure_spread *s, int64_t us); /* below 0: the clocks do not agree; it counts as 0 */
/* The milliseconds below which so many per cent are; 0 where there are none. */
double measure_spread_part(const measure_spread *s, double percent);

/* How it is known when a picture was taken, the better one last. */
typedef enum measure_clock {
    MEASURE_NO_CLOCK = 0,
    MEASURE_REPORT, /* RTP time, by RTCP sender reports (RFC 3550 6.4.1) */
    MEASURE_STATED, /* the stream says it with each picture */
    MEASURE_STRIP,  /* it stands in the picture itself (bambino/sim.h) */
    MEASURE_LIGHT   /* a light was switched, and it was waited for until a picture shows it */
} measure_clock;

typedef struct measure_counts {
    uint64_t bytes;                           /* of pictures */
    uint32_t pictures, keys, broken, skipped; /* skipped: numbers that were left out */
    uint32_t same, black, gaps, backward;
    uint32_t packets, lost, late, doubled, faults; /* RTP; TS: packets, faults of continuity */
} measure_counts;

typedef struct measure {
    measure_counts all, before;           /* before: as the last second began */
    uint64_t begin_us, first_us, last_us; /* of whole pictures … */
    uint64_t first_any_us, last_any_us;   /* … and of broken ones, too */
    uint64_t second_us;
    uint16_t width, height;
    uint32_t mfps; /* as described; 0: by what comes */
    measure_clock clock;
    measure_spread interval, delay, delay_now; /* now: of this second */
    double jitter_ms, jitter_most_ms;
    uint32_t since_key, key_most; /* pictures */
    uint64_t key_us, key_most_us;
    uint64_t still_us, still_most_us; /* since when nothing has changed, and the longest of it */
    int64_t media_us;                 /* of the last picture */
    uint32_t number;
    bool numbered;
} measure;

typedef struct measure_picture {
    size_t size;
    uint16_t width, height;
    bool key, broken, has_number, has_media, seen; /* seen: it was decoded, so that same and black are known */
    bool same, black;
    uint32_t number;    /* of the picture, as the device counts */
    int64_t media_us;   /* its time in the stream */
    uint64_t at_us;     /* when its last byte was there, on a clock that never jumps … */
    int64_t wall_us;    /* … and in Unix time */
    int64_t capture_us; /* Unix time */
    measure_clock clock;
} measure_picture;

void measure_begin(measure *m, uint64_t now_us);
void measure_picture_came(measure *m, const measure_picture *p);

/* A light that is switched before the camera. Levels are means of a picture's luma samples. */
typedef struct measure_lamp {
    bool on, waits;       /* as it was switched last; no picture has shown that yet */
    uint64_t switched_us; /* 0: never */
    int level[2];         /* of pictures that have settled, off and on; below 0: not seen yet */
    bool told;            /* that no difference is seen */
} measure_lamp;
void measure_lamp_begin(measure_lamp *l);
void measure_lamp_switch(measure_lamp *l, bool on, uint64_t now_us);
/* A picture that arrived then; true: it is the first one that shows the switch. */
bool measure_lamp_seen(measure_lamp *l, uint8_t brightness, uint64_t at_us);

/* The last second in numbers. */
typedef struct measure_row {
    double seconds, rate, kbps, delay_ms, jitter_ms; /* delay: its median; below 0: not known */
    measure_counts counts;                           /* of this second */
} measure_row;
/* Ends this second. */
void measure_second(measure *m, uint64_t now_us, measure_row *out);
/* Whole pictures a second, and kbit/s of all of them, from the first to the last. */
double measure_rate(const measure *m);
double measure_kbps(const measure *m);

#endif
