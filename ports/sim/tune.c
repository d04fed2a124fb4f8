/* What a sensor's controls do to a picture. */
#include <math.h>
#include <string.h>

#include "sim/source.h"

#define DAYLIGHT_US 16667.0 /* the exposure that suits the scene at the least gain */

static uint8_t clamp(double v)
{
    return (uint8_t)(v < 0 ? 0 : v > 255 ? 255 : v);
}

/* How much light the sensor collects, 1: as it should be. */
static double exposure(const int32_t *c)
{
    double lamp = 1 + 0.3 * c[BMB_CONTROL_ILLUMINATION] / 100.0;
    if (c[BMB_CONTROL_EXPOSURE_US] == 0) return 1; /* automatic: whatever the lamp does is made up for */
    return lamp * c[BMB_CONTROL_EXPOSURE_US] / DAYLIGHT_US * c[BMB_CONTROL_GAIN] / 100.0;
}

/* Bands of lamps that flicker with the mains: there when the filter is off, and the exposure no multiple of 10 ms. */
static void draw_bands(canvas *c, double scene_s)
{
    for (size_t row = 0; row < c->height; row++) {
        double light = 1 + 0.08 * sin(6.283 * (3.0 * (double)row / c->height + 0.7 * scene_s));
        uint8_t *y = c->y + row * c->stride;
        for (size_t i = 0; i < c->width; i++) y[i] = clamp(16 + (y[i] - 16) * light);
    }
}

void sim_tune(canvas *c, const int32_t *k, double scene_s)
{
    double light = exposure(k), contrast = (100 + k[BMB_CONTROL_CONTRAST]) / 100.0;
    double tint = (100 + k[BMB_CONTROL_SATURATION]) / 100.0, bright = k[BMB_CONTROL_BRIGHTNESS] * 1.1;
    bool night = k[BMB_CONTROL_NIGHT] != 0;
    /* The lamp of the scene has 5500 K; a balance for a warmer one makes it blue, and the other way round. */
    double warmth = k[BMB_CONTROL_WHITE_K] == 0 ? 0 : (k[BMB_CONTROL_WHITE_K] - 5500) / 100.0;
    uint8_t y[256], u[256], v[256];
    if (night) {
        tint = warmth = 0;
        light *= 1.4;
    }
    for (int i = 0; i < 256; i++) {
        y[i] = clamp((16 + (i - 16) * light - 126) * contrast + 126 + bright);
        u[i] = clamp((i - 128) * tint + 128 - warmth * 0.8);
        v[i] = clamp((i - 128) * tint + 128 + warmth * 0.8);
    }
    canvas_map(c, y, u, v);
    if (k[BMB_CONTROL_SHARPNESS] != 0) canvas_sharpen(c, k[BMB_CONTROL_SHARPNESS]);
    if (k[BMB_CONTROL_FLICKER] == 0 && k[BMB_CONTROL_EXPOSURE_US] % 10000 != 0) draw_bands(c, scene_s);
    bool turn = k[BMB_CONTROL_ROTATE] != 0;
    bool flip_h = (k[BMB_CONTROL_FLIP_H] != 0) != turn, flip_v = (k[BMB_CONTROL_FLIP_V] != 0) != turn;
    if (flip_h || flip_v) canvas_flip(c, flip_h, flip_v);
}
