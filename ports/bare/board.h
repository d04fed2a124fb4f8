/* The one board that there is. Private to ports/bare. */
#ifndef BMB_BARE_BOARD_H
#define BMB_BARE_BOARD_H

#include "bambino/bare.h"

extern const bmb_bare_board *bmb_bare_board_now;

#endif
