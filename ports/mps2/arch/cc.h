/* What lwIP asks of compiler and board. */
#ifndef MPS2_ARCH_CC_H
#define MPS2_ARCH_CC_H

#include <stdint.h>
#include <stdlib.h>

void bmb_bare_stop(const char *why) __attribute__((noreturn));
uint32_t mps2_random(void);

#define LWIP_PLATFORM_DIAG(x)
#define LWIP_PLATFORM_ASSERT(x) bmb_bare_stop(x)
#define LWIP_RAND() mps2_random()

#endif
