/* Looks at pictures: decodes them, and tells what is seen. */
#ifndef RECEIVE_SEE_H
#define RECEIVE_SEE_H

#include "bambino/camera.h"
#include "bambino/sim.h"

typedef struct see see;

typedef struct see_facts {
    bool decoded; /* without a fault */
    bool shown;   /* … and there is a picture; one may come later than its bytes */
    bool same;    /* as the picture before it, in what a person could see of it */
    bool black;   /* nowhere brighter than a covered lens */
    bool has_strip;
    bmb_strip strip;
    uint8_t brightness; /* mean of the luma samples */
} see_facts;

see *see_open(void); /* NULL: there is no memory */
/* false: this build has no decoder for it. */
bool see_can(const see *s, bmb_codec codec);
void see_picture(see *s, bmb_codec codec, const uint8_t *data, size_t size, see_facts *out);
void see_close(see *s);

#endif
