/* An emulator of another processor that hands the program's calls to this kernel: what it does not hand on is not
 * tested. */
#ifndef BMB_TESTS_EMULATED_H
#define BMB_TESTS_EMULATED_H

#include <stdlib.h>

#include "linux/state.h"

static inline bool emulated(void)
{
    return getenv("BAMBINO_EMULATED") != NULL;
}

/* Answers of hosts that are not there, and packets that the kernel cuts from one call. */
static inline void emulated_port(bmb_linux *self, bmb_port *port)
{
    if (!emulated()) return;
    port->net.udp_unreachable = NULL;
    port->udp_answer = NULL;
    self->udp_way = BMB_UDP_MANY;
}

#endif
