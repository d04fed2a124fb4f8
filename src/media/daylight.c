#include "media/daylight.h"

#include "base/bounds.h"
#include "wire/jpeg_light.h"

#if BMB_WITH_DAYLIGHT

/* The camera and its light are set, and not kept: tomorrow it may be day. */
static void turn(bmb_context *x, bmb_daylight *day, const bmb_camera *c)
{
    int32_t effective;
    day->night = !day->night;
    (void)bmb_camera_set(x, c, BMB_CONTROL_NIGHT, day->night ? 1 : 0, &effective);
    if (c->config->daylight.light > 0)
        (void)bmb_camera_set(x, c, BMB_CONTROL_ILLUMINATION, day->night ? c->config->daylight.light : 0, &effective);
    bmb_camera_tell(x, c, BMB_EVENT_DAYLIGHT, BMB_OK, day->night ? 1 : 0, day->brightness);
}

void bmb_daylight_look(bmb_context *x, bmb_daylight *day, bmb_camera *c, const uint8_t *data, size_t size)
{
    const bmb_daylight_config *config = &c->config->daylight;
    bmb_jpeg jpeg;
    int32_t night;
    if (config->dark == 0 || x->now < day->look_us || c->lent) return;
    day->look_us = x->now + BMB_DAYLIGHT_US;
    int brightness = bmb_jpeg_parse(data, size, &jpeg) == BMB_OK ? bmb_jpeg_brightness(data, &jpeg) : -1;
    if (brightness < 0) return;
    day->brightness = (uint8_t)brightness;
    /* Somebody may have set it by hand: that holds until the pictures say otherwise for long enough. */
    if (bmb_camera_get(x, c, BMB_CONTROL_NIGHT, &night) == BMB_OK) day->night = night != 0;
    bool other = day->night ? brightness > config->bright : brightness < config->dark;
    if (!other) {
        day->since_us = 0;
    } else if (day->since_us == 0) {
        day->since_us = x->now;
    } else if (x->now - day->since_us >= (uint64_t)config->seconds * 1000000) {
        day->since_us = 0;
        turn(x, day, c);
    }
}

#endif
