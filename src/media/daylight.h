/* Day and night by the pictures' own brightness: below one threshold for a while it is night, above another one day. */
#ifndef BMB_MEDIA_DAYLIGHT_H
#define BMB_MEDIA_DAYLIGHT_H

#include "media/camera.h"

typedef struct bmb_daylight {
    uint64_t look_us;  /* the next look */
    uint64_t since_us; /* since when the pictures say another than what is set; 0: they do not */
    bool night;
    uint8_t brightness; /* of the last look */
} bmb_daylight;

/* A JPEG image has come. */
void bmb_daylight_look(bmb_context *x, bmb_daylight *day, bmb_camera *c, const uint8_t *data, size_t size);

#endif
