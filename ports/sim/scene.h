/* The club's model railway, as its three cameras see it. */
#ifndef BMB_SIM_SCENE_H
#define BMB_SIM_SCENE_H

#include "bambino/sim.h"
#include "sim/canvas.h"

/* Draws what never moves. */
void scene_background(canvas *c, bmb_sim_view view);
/* Draws the rest over a copy of it. t: seconds of scene time; clock: seconds of the day that the clock shows. */
void scene_foreground(canvas *c, bmb_sim_view view, double t, uint32_t clock);

#endif
