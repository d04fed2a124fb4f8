/* A simulated link between the port's sockets and the device: rate, delay, jitter, loss, drop-outs. Private to
 * ports/sim.
 *
 * What is sent waits in a queue for its time; TCP keeps its order and loses nothing, but pauses where a packet would
 * have been sent again. The same seed gives the same link.
 */
#ifndef BMB_SIM_RADIO_H
#define BMB_SIM_RADIO_H

#include "bambino/board.h"

typedef struct sim_radio sim_radio;

/* Takes the place of send, finish, udp_send, close, ready and wait in *port; NULL without memory. */
sim_radio *sim_radio_create(const bmb_board_link *link, bmb_port *port);
/* Waits for what closed connections still have on their way, and takes the radio off the port. */
void sim_radio_destroy(sim_radio *r, bmb_port *port);
/* down: nothing passes, and nobody is accepted. */
void sim_radio_down(sim_radio *r, bool down);

#endif
