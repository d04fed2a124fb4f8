/* Where a simulated camera's encoded pictures come from: drawn and encoded, or read from a clip. Private to ports/sim.
 */
#ifndef BMB_SIM_SOURCE_H
#define BMB_SIM_SOURCE_H

#include <stdbool.h>
#include <stdint.h>

#include "bambino/sim.h"
#include "sim/canvas.h"

/* What is asked of one picture. */
typedef struct sim_request {
    uint32_t frame;
    uint64_t wall_us; /* capture, Unix time */
    double scene_s;   /* capture, seconds of scene time */
    bool key;
    int32_t controls[BMB_CONTROL_COUNT];
} sim_request;

/* An encoder works on one size and rate, from open to close. */
typedef struct sim_encoder {
    void *(*open)(const bmb_mode *mode, const int32_t *controls); /* NULL: not possible */
    /* Writes one picture and returns its size; 0: it failed, or `room` was too small. */
    size_t (*encode)(void *self, const canvas *picture, const sim_request *request, uint8_t *out, size_t room,
                     bool *key);
    void (*close)(void *self);
} sim_encoder;

extern const sim_encoder sim_jpeg_encoder;
extern const sim_encoder sim_h264_encoder;
/* Writes a sequence parameter set (a NAL unit without its start code) with the frame rate added to it, where it does
 * not say one; returns its size; 0: it cannot be done. openh264 says none, and receivers guess. */
size_t sim_sps_with_rate(const uint8_t *sps, size_t size, uint32_t mfps, uint8_t *out, size_t room);
/* NULL when the build has none for this codec. */
const sim_encoder *sim_encoder_for(bmb_codec codec);

/* Applies the controls of sensor and lamp to a picture. */
void sim_tune(canvas *c, const int32_t *controls, double scene_s);

/* A clip in memory, cut into pictures. */
typedef struct sim_clip {
    uint8_t *data;
    size_t size;
    uint32_t *at; /* begin of each picture, and the end of the last */
    bool *key;
    uint32_t count;
    bmb_codec codec;
    uint16_t width, height;
    uint32_t largest;
} sim_clip;

bmb_err sim_clip_load(const char *path, sim_clip *out);
void sim_clip_free(sim_clip *clip);

#endif
