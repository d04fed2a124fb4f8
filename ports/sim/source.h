/* Where a simulated camera's pictures come from: drawn and encoded, or read from a clip. Private to ports/sim. */
#ifndef BMB_SIM_SOURCE_H
#define BMB_SIM_SOURCE_H

#include <pthread.h>
#include <stdbool.h>
#include <stdint.h>

#include "bambino/sim.h"
#include "codec/streams.h"
#include "sim/canvas.h"

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

#define SIM_STREAMS 4u /* of a drawn camera at most; codec/streams.h makes them */

/* One simulated camera of either kind. `n` is a stream's number, 0 for a clip; the functions are those of the port
 * contract with their meaning. A camera whose fault makes it absent is handled above (sim.c). */
typedef struct sim_drawn sim_drawn;
sim_drawn *sim_drawn_open(const bmb_sim_camera *spec, const bmb_port *port); /* NULL: no memory */
void sim_drawn_close(sim_drawn *self);
bmb_err sim_drawn_start(sim_drawn *self, unsigned n, const bmb_mode *mode);
void sim_drawn_stop(sim_drawn *self, unsigned n);
codec_streams *sim_drawn_streams(sim_drawn *self);
void sim_drawn_stall(sim_drawn *self, bool stalled);                     /* no more pictures */
void sim_drawn_set(sim_drawn *self, bmb_control control, int32_t value); /* of the sensor */
int32_t sim_drawn_get(sim_drawn *self, bmb_control control);

typedef struct sim_player sim_player;
bmb_err sim_player_open(const bmb_sim_camera *spec, const bmb_port *port, sim_player **out);
void sim_player_close(sim_player *self);
const sim_clip *sim_player_clip(const sim_player *self);
bmb_err sim_player_start(sim_player *self);
void sim_player_stop(sim_player *self);
bmb_err sim_player_take(sim_player *self, bmb_camera_frame *out);
void sim_player_release(sim_player *self, uintptr_t cookie);
void sim_player_stall(sim_player *self, bool stalled);

/* A thread that calls `tick` at a rate, as a sensor gives pictures: what it is late for is left out. */
typedef struct sim_ticker {
    const bmb_port *port;
    void (*tick)(void *ctx, uint64_t now_us, bool late);
    void *ctx;
    pthread_t thread;
    pthread_mutex_t lock;
    pthread_cond_t changed;
    bool running, stop, stalled;
    uint32_t mfps;
} sim_ticker;
/* late: it is too late for this one. */
void sim_ticker_init(sim_ticker *t, const bmb_port *port, void (*tick)(void *ctx, uint64_t now_us, bool late),
                     void *ctx);
void sim_ticker_free(sim_ticker *t);
bool sim_ticker_run(sim_ticker *t, uint32_t mfps); /* starts it, or changes its rate */
void sim_ticker_stop(sim_ticker *t);
void sim_ticker_stall(sim_ticker *t, bool stalled);

#endif
