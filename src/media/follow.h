/* Following a link: when a stream goes down to what the link carries, and when it goes up again.
 *
 * Looked at once a second. Down after two looks in a row at which less got through than there is; up after some that
 * found nothing wrong. Between two changes are five seconds at least. An attempt to go up that fails doubles the time
 * before the next one, up to two minutes; one that holds halves it again.
 */
#ifndef BMB_MEDIA_FOLLOW_H
#define BMB_MEDIA_FOLLOW_H

#include <stdbool.h>
#include <stdint.h>

typedef struct bmb_follower {
    uint8_t bad : 2;      /* looks in a row at which it was held */
    uint8_t patience : 3; /* doublings of the time before it goes up */
    uint8_t wait : 3;     /* looks yet, before the next change */
    uint8_t calm : 7;     /* looks in a row at which it was not */
    uint8_t tried : 1;    /* it went up, and that has not proved right yet */
} bmb_follower;

typedef enum bmb_advice { BMB_STAY = 0, BMB_DOWN, BMB_UP } bmb_advice;

/* What is advised; it is done where there is something to change to, and told then. */
bmb_advice bmb_follow_look(bmb_follower *f, bool held);
void bmb_follow_done(bmb_follower *f, bmb_advice turn);

#endif
