/* A port that wraps a port: what stands between a device and the sockets below it. Private to ports/sim.
 *
 * Every function of the port passes its call on until somebody takes its place. ctx of the upper port is the layer, so
 * that a program may have any number of them.
 */
#ifndef BMB_SIM_LAYER_H
#define BMB_SIM_LAYER_H

#include "bambino/port.h"

typedef struct sim_layer {
    bmb_port under; /* what was there before */
    void *owner;    /* of whoever takes functions' places */
} sim_layer;

/* Puts the layer over *port. Cameras keep the ctx of their own. */
void sim_layer_put(sim_layer *layer, bmb_port *port);
/* Takes it off again. Cameras may have been detached since. */
void sim_layer_remove(const sim_layer *layer, bmb_port *port);

#endif
