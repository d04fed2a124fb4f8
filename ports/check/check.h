/* What the questions share. Private to ports/check. */
#ifndef BMB_CHECK_CHECK_H
#define BMB_CHECK_CHECK_H

#include <setjmp.h>
#include <stdarg.h>
#include <stddef.h>
#include <stdint.h>
#include <string.h>

#include <cmocka.h>

#include "bambino/port_check.h"

typedef struct bench {
    const bmb_port_check *check;
    bmb_port *port;
    const bmb_peers *peers;
} bench;
extern bench b;

static inline const bmb_net *net(void)
{
    return &b.port->net;
}

#define PATIENCE 300u /* times 10 ms: so long is waited for what must come */

void pass(uint32_t us);
/* The events that are reported under a token; waits for one of `wanted`. 0: it did not come. */
uint32_t events_of(uint32_t token, uint32_t wanted);
/* The same, now, without waiting. */
uint32_t events_now(uint32_t token);
bmb_addr loopback(uint16_t port);
bmb_sock listen_here(bmb_addr *bound);
/* A connection that a peer has made, watched under token 7 for reading. */
bmb_sock connected(bmb_sock listener, const bmb_addr *bound, int *peer);
uint8_t pattern(size_t at);
/* Reads so many bytes of the pattern at a peer, from `at` on; false: they did not come. */
bool hears_pattern(int peer, size_t at, size_t size);
bool hears_end(int peer);

/* Questions, by what they are about. */
extern const struct CMUnitTest check_basics[], check_streams[], check_lent[], check_datagrams[], check_cameras[];
extern const size_t check_basics_count, check_streams_count, check_lent_count, check_datagrams_count,
    check_cameras_count;

#endif
