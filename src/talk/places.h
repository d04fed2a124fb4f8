/* Who gets a place where they are scarce: connections are shared by host, so that one host cannot keep others out, and
 * who watches is never put out by newcomers.
 */
#ifndef BMB_TALK_PLACES_H
#define BMB_TALK_PLACES_H

#include "talk/conn.h"

/* Takes in who waits at an outlet. */
void bmb_places_accept(bmb_talk *t, bmb_outlet *outlet);

#endif
