/* A port that wraps a port: what stands between a device and the sockets below it. Private to ports.
 *
 * Every function of the port passes its call on until somebody takes its place. ctx of the upper port is the layer
 * (bambino/port.h), so that a program may have any number of them.
 */
#ifndef BMB_LAYER_H
#define BMB_LAYER_H

#include "bambino/port.h"

/* Puts the layer over *port. Cameras keep the ctx of their own. */
void bmb_layer_put(bmb_layer *layer, bmb_port *port);
/* Takes it off again. Cameras may have been detached since. */
void bmb_layer_remove(const bmb_layer *layer, bmb_port *port);

#endif
